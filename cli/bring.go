package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"

	"github.com/spf13/cobra"

	"yareharbour/core/course"
	"yareharbour/harbour"
)

// Bring is a way to an estate that comes with the program: commands of its own, and an option by which every other
// command works on it.
type Bring struct {
	Flag, Help string // of the option; its state directory is named after it
	Commands   func(*App) []*cobra.Command
	Before     func(ctx context.Context, a *App) error // brings up what the estate needs before it is opened
	After      func(ctx context.Context, h *harbour.Harbour) error
	Words      map[string][]string // what may stand where the uses of its commands say these names

	asked bool
}

// brought is the estate that the option asks for; nil for the one of the estate file.
func (a *app) brought() *Bring {
	for i := range a.bring {
		if a.bring[i].asked {
			return &a.bring[i]
		}
	}
	return nil
}

// App is what commands of a Bring see of the command line.
type App struct{ a *app }

// State is the state directory.
func (p *App) State() string { return p.a.state }

// Use has what follows work on the estate that is brought with that option, in a state directory.
func (p *App) Use(flag, state string) {
	for i := range p.a.bring {
		p.a.bring[i].asked = p.a.bring[i].Flag == flag
	}
	p.a.state = state
}

// Asked tells whether the option was given.
func (p *App) Asked(flag string) bool { b := p.a.brought(); return b != nil && b.Flag == flag }

// Out and Err are where a command writes.
func (p *App) Out() io.Writer { return p.a.out }

// Err is where a command says what is beside the matter.
func (p *App) Err() io.Writer { return p.a.err }

// Screens opens the full-screen interface.
func (p *App) Screens(ctx context.Context) error { return p.a.screens(ctx) }

// Options are those by which the estate is opened.
func (p *App) Options() harbour.Options { return p.a.options() }

// Event prints an event of a round.
func (p *App) Event(e course.Event) { p.a.printEvent(e) }

// Usage is an error that says what is wrong with the command line.
func (p *App) Usage(format string, args ...any) error { return usage(format, args...) }

// Spawn starts this program again, in a session of its own, with its output going to a file below the state directory.
// What it tells on its file descriptor 3 can be read.
func (p *App) Spawn(log string, args ...string) (told *os.File, err error) {
	return p.a.spawn(log, args...)
}

func (a *app) spawn(log string, args ...string) (told *os.File, err error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(a.state, log), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	told, tell, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer tell.Close()
	cmd := exec.Command(self, args...)
	cmd.Env = harbour.Environ() // it needs the passwords; no other child of ours gets them
	cmd.Stdout, cmd.Stderr, cmd.ExtraFiles = f, f, []*os.File{tell}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return nil, errors.Join(err, told.Close())
	}
	go func() { _ = cmd.Wait() }()
	return told, nil
}
