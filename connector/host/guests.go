package host

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"yareharbour/connector/libvirt"
	"yareharbour/connector/ssh"
	"yareharbour/core/estate"
)

// door is a way to a host's libvirt.
type door interface {
	from() string
	// socket connects to a socket in the host's file system.
	socket(ctx context.Context, path string) (net.Conn, error)
	// helper speaks to libvirt through its own helper for SSH, which reaches what the socket does not let us reach.
	helper() (net.Conn, error)
	// mounts is the host's /proc/mounts.
	mounts(ctx context.Context) (string, error)
	// look says what is there of libvirt.
	look(ctx context.Context) (traces, error)
}

// traces is what there is of libvirt on a host: which of its sockets, whether we may use them, and its daemons'
// programs.
type traces struct {
	sockets map[string]bool // path → we may write to it
	heard   map[string]bool // paths at which somebody listens
	daemon  string
}

// why says what the traces mean where no way let us in; helper is why libvirt's own did not.
func (t traces) why(helper error) error {
	path := ""
	for _, s := range libvirt.Sockets {
		if may, there := t.sockets[s]; there && (path == "" || may) {
			path = s
		}
	}
	switch {
	case path == "" && t.daemon == "":
		return errors.New("libvirt is not installed there: neither its daemon nor a socket of it is there")
	case path == "":
		return fmt.Errorf("libvirt is stopped: %s is installed and has no socket; start its socket unit", t.daemon)
	case !t.sockets[path]:
		return fmt.Errorf("libvirt is there and may not be used: %s is closed to this user; add the user to the "+
			"socket's group, or set sudo in the estate file", path)
	case !t.heard[path]:
		return fmt.Errorf("libvirt crashed or was killed: %s is there and nobody listens", path)
	}
	return fmt.Errorf("libvirt is there and may not be reached: the SSH server forwards to no sockets "+
		"(AllowStreamLocalForwarding, or a restricted key), and its helper virt-ssh-helper does not help: %v", helper)
}

// guestPatience is the part of a look that libvirt may take to begin to speak.
const guestPatience = 4 * time.Second

// readGuests reads guests through the first way to libvirt that lets us in: its sockets with the right to change
// things, its helper, its sockets for reading. What it returns holds guests, what they are offered, and the section of
// the guests, which tells libvirt absent, stopped, crashed, hung and forbidden apart.
func readGuests(ctx context.Context, d door, m *libvirt.Meter) *estate.Reading {
	r := &estate.Reading{}
	section := estate.Section{Name: estate.GuestList, Source: d.from() + "libvirt"}
	var table string
	var unknown error
	var wait sync.WaitGroup
	wait.Go(func() { table, unknown = d.mounts(ctx) })
	source, err := readThrough(ctx, d, m, r)
	wait.Wait()
	if err == nil && unknown == nil {
		settle(r, table)
	}
	if source != "" {
		section.Source = d.from() + source
	}
	if section.At = time.Now(); err != nil {
		section.Err = err.Error()
		r.Guests, r.Offer = nil, estate.Offer{}
	}
	r.SetSection(section)
	return r
}

func readThrough(ctx context.Context, d door, m *libvirt.Meter, r *estate.Reading) (source string, err error) {
	var refused, failed, helper error // of sockets; of whoever began to speak; of libvirt's helper
	try := func(name string, dial func() (net.Conn, error)) bool {
		conn, err := dial()
		if err != nil {
			refused = err
			return false
		}
		source = name
		connected := false
		if connected, failed = guestsAt(ctx, conn, m, r); failed == nil {
			return true
		}
		if !connected && name == viaHelper { // it did not come so far: what is there of libvirt is looked at
			failed, source, helper = nil, "", failed
			if said, ok := conn.(interface{ Said() string }); ok && said.Said() != "" {
				helper = errors.New(said.Said())
			}
		}
		return false
	}
	// behind the sockets with the right to change things
	for _, name := range slices.Insert(slices.Clone(libvirt.Sockets), 2, viaHelper) {
		dial := d.helper
		if name != viaHelper {
			dial = func() (net.Conn, error) { return d.socket(ctx, name) }
		}
		if try(name, dial) || failed != nil {
			return source, failed
		}
	}
	if ctx.Err() != nil {
		return "", errors.New("libvirt could not be reached in time")
	}
	t, err := d.look(ctx)
	if err != nil {
		return "", fmt.Errorf("libvirt lets nobody in (%v), and what is there of it can't be looked at: %w",
			refused, err)
	}
	return "", t.why(helper)
}

// viaHelper is the source of guests that libvirt's own helper for SSH led to.
const viaHelper = "virt-ssh-helper"

// guestsAt reads the guests from libvirt at the other end of conn, which is closed. connected tells whether it was
// libvirt that answered, or accepted the connection and hangs.
func guestsAt(ctx context.Context, conn net.Conn, m *libvirt.Meter, r *estate.Reading) (connected bool, err error) {
	begin, cancel := context.WithTimeout(ctx, guestPatience)
	h, err := libvirt.Connect(begin, conn, libvirt.URI)
	hung := begin.Err() != nil
	cancel()
	if hung {
		return true, fmt.Errorf("libvirt hangs: it accepts a connection and did not answer within %s", guestPatience)
	}
	if err != nil {
		return false, err
	}
	stop := context.AfterFunc(ctx, h.Drop)
	defer stop()
	defer h.Close()
	r.Guests, err = h.Guests(ctx, m)
	if err == nil {
		r.Offer, err = h.Offer(r.Guests)
	}
	if ctx.Err() != nil {
		return true, errors.New("libvirt hangs: it began to answer and did not end in time")
	}
	return true, err
}

// onThisMachine is the way to this machine's own libvirt.
type onThisMachine struct{}

func (onThisMachine) from() string { return "" }

func (onThisMachine) socket(ctx context.Context, path string) (net.Conn, error) {
	var d net.Dialer
	return d.DialContext(ctx, "unix", path)
}

func (onThisMachine) mounts(context.Context) (string, error) {
	text, err := os.ReadFile("/proc/mounts")
	return string(text), err
}

func (onThisMachine) helper() (net.Conn, error) { return nil, fs.ErrNotExist }

func (onThisMachine) look(context.Context) (traces, error) {
	table, _ := os.ReadFile("/proc/net/unix")
	t := traces{sockets: map[string]bool{}, heard: listening(string(table))}
	for _, s := range libvirt.Sockets {
		if err := unix.Access(s, unix.W_OK); err == nil {
			t.sockets[s] = true
		} else if errors.Is(err, syscall.EACCES) {
			t.sockets[s] = false
		}
	}
	for _, name := range daemons {
		for _, dir := range append(filepath.SplitList(os.Getenv("PATH")), "/usr/sbin") {
			if _, err := exec.LookPath(filepath.Join(dir, name)); err == nil {
				t.daemon = name
			}
		}
	}
	return t, nil
}

// listening are the paths at which somebody listens, as /proc/net/unix tells: __SO_ACCEPTCON stands among the flags.
func listening(table string) map[string]bool {
	out := map[string]bool{}
	for line := range strings.Lines(table) {
		if f := strings.Fields(line); len(f) == 8 && f[3] == "00010000" {
			out[strings.Replace(f[7], "/var/run/", "/run/", 1)] = true
		}
	}
	return out
}

// daemons are the programs that serve guests.
var daemons = []string{"virtqemud", "libvirtd"}

// overSSH is the way through an SSH connection.
type overSSH struct {
	conn *ssh.Conn
	sudo bool
}

func (overSSH) from() string { return "SSH, " }

func (o overSSH) socket(ctx context.Context, path string) (net.Conn, error) {
	return o.conn.Unix(ctx, path)
}

func (o overSSH) mounts(ctx context.Context) (string, error) {
	text, err := o.conn.Run(ctx, "cat /proc/mounts\n", false)
	return string(text), err
}

func (o overSSH) helper() (net.Conn, error) {
	command := "virt-ssh-helper " + libvirt.URI
	if o.sudo {
		command = "sudo -n " + command
	}
	return o.conn.Pipe(command)
}

func (o overSSH) look(ctx context.Context) (traces, error) {
	const script = `PATH=$PATH:/usr/sbin:/sbin
for s in %s; do if [ -S "$s" ]; then if [ -w "$s" ]; then echo "may $s"; else echo "closed $s"; fi; fi; done
for c in %s; do command -v $c >/dev/null && echo "daemon $c"; done
grep libvirt /proc/net/unix | sed 's/^/unix /'
echo end
`
	out, err := o.conn.Run(ctx, fmt.Sprintf(script, strings.Join(libvirt.Sockets, " "), strings.Join(daemons, " ")),
		false)
	t := traces{sockets: map[string]bool{}, heard: map[string]bool{}}
	for line := range strings.Lines(string(out)) {
		switch f := strings.Fields(line); {
		case len(f) > 0 && f[0] == "unix":
			maps.Copy(t.heard, listening(strings.TrimPrefix(line, "unix ")))
		case len(f) == 2 && f[0] == "daemon":
			t.daemon = f[1]
		case len(f) == 2 && slices.Contains(libvirt.Sockets, f[1]):
			t.sockets[f[1]] = f[0] == "may"
		}
	}
	return t, err
}
