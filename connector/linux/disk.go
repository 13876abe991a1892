package linux

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"strings"
	"time"

	"yareharbour/connector"
)

// Here is this very machine.
func Here() (Machine, error) {
	name, err := os.Hostname()
	if err != nil {
		return Machine{}, fmt.Errorf("this machine's name: %w", err)
	}
	return Machine{Source: Disk{FS: os.DirFS("/"), Run: run}, Name: name, Now: time.Now}, nil
}

// Disk is a machine whose file system is at hand.
type Disk struct {
	fs.FS
	// Run runs a command; nil: the machine has none.
	Run func(command ...string) ([]byte, error)
}

// ReadFile reads a file.
func (d Disk) ReadFile(name string) ([]byte, error) { return fs.ReadFile(d.FS, name) }

// ReadLink reads a symbolic link.
func (d Disk) ReadLink(name string) (string, error) { return fs.ReadLink(d.FS, name) }

// Glob finds names.
func (d Disk) Glob(pattern string) []string {
	names, _ := fs.Glob(d.FS, pattern) // the patterns are our own, and well formed
	return names
}

// Output runs a command, whose words must not depend on the language that is set here.
func (d Disk) Output(command ...string) ([]byte, error) {
	if d.Run == nil {
		return nil, fs.ErrNotExist
	}
	return d.Run(command...)
}

// patience is how long a command may run that tells of this machine.
const patience = 4 * time.Second

func run(command ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	c := exec.CommandContext(ctx, command[0], command[1:]...)
	connector.Grouped(c)
	c.Env = append(os.Environ(), "LC_ALL=C", "PATH="+os.Getenv("PATH")+":/usr/sbin:/sbin")
	var said bytes.Buffer
	c.Stderr = &said
	if c.Err != nil {
		if p, err := exec.LookPath("/usr/sbin/" + command[0]); err == nil { // an ordinary user's path often lacks it
			c.Path, c.Err = p, nil
		}
	}
	out, err := c.Output()
	if errors.Is(err, exec.ErrNotFound) {
		return nil, fmt.Errorf("%s: %w", command[0], fs.ErrNotExist)
	}
	if ctx.Err() != nil {
		return nil, failed(command, "", fmt.Sprintf("it did not end within %s", patience))
	}
	if err != nil {
		return nil, failed(command, said.String(), err.Error())
	}
	return out, nil
}

// failed words the failure of a command by what it said, and else by how it ended.
func failed(command []string, said, ended string) error {
	first, _, _ := strings.Cut(strings.TrimSpace(said), "\n")
	if first == "" {
		first = ended
	}
	return fmt.Errorf("%s: %s", strings.Join(command[:min(2, len(command))], " "),
		strings.TrimPrefix(first, command[0]+": "))
}
