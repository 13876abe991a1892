package ssh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os/exec"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"yareharbour/connector"
)

// maxAnswer is the most that a command may print, in bytes.
const maxAnswer = 24 << 20

// Run feeds a script to a POSIX shell on the host and returns what it prints; with sudo, to a shell of root's. Whatever becomes of the connection, the host itself ends the script, and all that
// it started, when the context's time is up. The connection is of no use any more when the context has ended, or more was printed than is taken.
func (c *Conn) Run(ctx context.Context, script string, sudo bool) ([]byte, error) {
	s, err := c.client.NewSession()
	if err != nil {
		return nil, fmt.Errorf("%s may not run commands: %w", c.who, err)
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, c.Close)
	defer stop()
	out, said := limited{over: c.Close}, limited{over: c.Close}
	s.Stdin, s.Stdout, s.Stderr = strings.NewReader(script), &out, &said
	command := "sh -s"
	if until, ok := ctx.Deadline(); ok {
		command = fmt.Sprintf("timeout -k 1 %d sh -s", int(max(time.Until(until), 0)/time.Second)+1)
	}
	if sudo {
		command = "sudo -n " + command
	}
	err = s.Run(command)
	var exit *ssh.ExitError
	switch {
	case out.full || said.full:
		return nil, fmt.Errorf("%s answers with more than %d MiB", c.who, maxAnswer>>20)
	case ctx.Err() != nil:
		return nil, fmt.Errorf("%s does not answer in time: %w", c.who, connector.ErrUnreachable)
	case errors.As(err, &exit) && sudo && strings.Contains(said.String(), "sudo"):
		return nil, fmt.Errorf("%s may not become root without a password: %s", c.who, firstLine(said.String()))
	case errors.As(err, &exit) && out.buf.Len() == 0:
		return nil, fmt.Errorf("%s can't run %q (exit status %d): %s", c.who, command, exit.ExitStatus(), firstLine(said.String()))
	case err != nil && !errors.As(err, &exit):
		return nil, fmt.Errorf("%s: %w (%v)", c.who, connector.ErrUnreachable, err)
	}
	return out.buf.Bytes(), nil // a probe's own status says nothing: it ends with the last thing that it looked for
}

// Unix connects to a socket in the host's file system. That forwarding is forbidden there, that there is no such socket, and that nobody listens at it all look the same from here.
func (c *Conn) Unix(ctx context.Context, path string) (net.Conn, error) {
	conn, err := c.client.DialContext(ctx, "unix", path)
	if err != nil {
		return nil, fmt.Errorf("%s at %s: %w", path, c.who, err)
	}
	return conn, nil
}

// Pipe starts a command and returns its input and output as a connection, which ends the session when it is closed.
func (c *Conn) Pipe(command string) (net.Conn, error) {
	s, err := c.client.NewSession()
	if err != nil {
		return nil, fmt.Errorf("%s may not run commands: %w", c.who, err)
	}
	in, err := s.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := s.StdoutPipe()
	if err != nil {
		return nil, err
	}
	p := &pipe{Reader: out, WriteCloser: in, end: s.Close}
	s.Stderr = &p.said
	if err := s.Start(command); err != nil {
		return nil, errors.Join(fmt.Errorf("%s can't run %q: %w", c.who, command, err), s.Close())
	}
	return p, nil
}

// through runs a ProxyCommand on this machine.
func through(command string) (net.Conn, error) {
	cmd := exec.CommandContext(context.Background(), "/bin/sh", "-c", "exec "+command) // ended by Close
	connector.Grouped(cmd)
	in, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("the ProxyCommand: %w", err)
	}
	return &pipe{Reader: out, WriteCloser: in, end: func() error {
		_ = cmd.Cancel()
		_ = cmd.Wait() // it was ended by us
		return nil
	}}, nil
}

// pipe is a connection over a command's input and output.
type pipe struct {
	io.Reader
	io.WriteCloser
	said   limited
	end    func() error
	once   sync.Once
	closed error
}

// Close ends the command. Whoever uses the pipe may close it twice, and at once.
func (p *pipe) Close() error {
	p.once.Do(func() { p.closed = errors.Join(p.WriteCloser.Close(), p.end()) })
	return p.closed
}

// Said is what the command complained of.
func (p *pipe) Said() string { return firstLine(p.said.String()) }

// LocalAddr has no address to tell.
func (p *pipe) LocalAddr() net.Addr { return &net.UnixAddr{Name: "pipe", Net: "unix"} }

// RemoteAddr has an address that no known host has.
func (p *pipe) RemoteAddr() net.Addr { return &net.TCPAddr{IP: net.IPv4zero} }

// SetDeadline is left to the context of whoever uses the pipe.
func (p *pipe) SetDeadline(time.Time) error { return nil }

// SetReadDeadline is left to the context too.
func (p *pipe) SetReadDeadline(time.Time) error { return nil }

// SetWriteDeadline is left to the context too.
func (p *pipe) SetWriteDeadline(time.Time) error { return nil }

// limited is a buffer that takes no more than maxAnswer bytes, and then ends what fills it. It has no ReadFrom, which would fill it unseen.
type limited struct {
	mu   sync.Mutex // what a command complains of is looked at while it may go on
	buf  bytes.Buffer
	full bool
	over func()
}

func (l *limited) Write(b []byte) (int, error) {
	l.mu.Lock()
	l.full = l.full || l.buf.Len()+len(b) > maxAnswer
	n, full := 0, l.full
	if !full {
		n, _ = l.buf.Write(b) // it has no error to give
	}
	l.mu.Unlock()
	if full && l.over != nil {
		l.over()
	}
	if full {
		return 0, errors.New("too much")
	}
	return n, nil
}

func (l *limited) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buf.String()
}

func firstLine(s string) string {
	first, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return first
}

// oneLine joins lines.
func oneLine(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(c rune) bool { return c == '\n' || c == '\r' }), "; ")
}
