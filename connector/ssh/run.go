package ssh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"yareharbour/connector"
)

// maxAnswer is the most that a command may print, in bytes.
const maxAnswer = 24 << 20

// Run feeds a script with its words to a POSIX shell on the host and returns what it prints; with sudo, to a shell of
// root's. Whatever becomes of the connection, the host itself ends the script, and all that it started, when the
// context's time is up. What more is printed than is taken ends it too.
func (c *Conn) Run(ctx context.Context, script string, sudo bool, words ...string) ([]byte, error) {
	command := "timeout -k 1 " + strconv.Itoa(Seconds(ctx)) + " sh -s -- " + Words(words...)
	if sudo {
		command = "sudo -n " + command
	}
	return c.Told(ctx, command, strings.NewReader(script))
}

// Told runs a command and returns what it prints.
func (c *Conn) Told(ctx context.Context, command string, in io.Reader) ([]byte, error) {
	out := Answer{}
	exit, said, err := c.Command(ctx, command, in, &out)
	switch {
	case err != nil:
		return nil, err
	case exit != 0 && out.buf.Len() == 0:
		return nil, fmt.Errorf("%s can't run a POSIX shell (exit status %d): %s", c.who, exit, firstLine(said))
	}
	return out.buf.Bytes(), nil // a probe's own status says nothing: it ends with the last thing that it looked for
}

// most is how long a command may run where the context sets no limit, in seconds.
const most = 3600

// Seconds is how long a command may run on the host until the context's time is up, one at least.
func Seconds(ctx context.Context) int {
	if until, ok := ctx.Deadline(); ok {
		return min(int(max(time.Until(until), 0)/time.Second)+1, most)
	}
	return most
}

// Words makes a command's words for a POSIX shell of any texts.
func Words(texts ...string) string {
	var out []string
	for _, t := range texts {
		out = append(out, Quote(t))
	}
	return strings.Join(out, " ")
}

// ErrSudo is what a command gives that a login may not have run as root.
var ErrSudo = errors.New("may not be run as root by sudo")

// Command runs a command, which may print into an Answer or whatever else takes it, with what it reads and where it
// prints, and returns its exit status and what it complained of. The command itself bounds how long it runs on the
// host (Seconds). An error that wraps connector.ErrUnreachable says that it is not known whether the command ran.
func (c *Conn) Command(ctx context.Context, command string, in io.Reader, out io.Writer) (exit int, said string,
	err error) {
	s, err := c.client.NewSession()
	if err != nil {
		if c.Ended() {
			return 0, "", fmt.Errorf("%s: %w (%v)", c.who, connector.ErrUnreachable, err)
		}
		return 0, "", fmt.Errorf("%s may not run commands: %w", c.who, err)
	}
	complaint := Answer{over: func() { s.Close() }}
	if l, ok := out.(*Answer); ok {
		l.over = func() { s.Close() }
	}
	s.Stdin, s.Stdout, s.Stderr = in, out, &complaint
	ended := make(chan error, 1)
	go func() { ended <- s.Run(command) }()
	select {
	case err = <-ended:
	case <-ctx.Done():
		go s.Close() // it may wait for a host that fell silent
		return 0, "", fmt.Errorf("%s does not answer in time: %w", c.who, connector.ErrUnreachable)
	}
	s.Close()
	said = complaint.String()
	var status *ssh.ExitError
	if l, ok := out.(*Answer); ok && l.full {
		return 0, "", fmt.Errorf("%s answers with more than %d MiB", c.who, maxAnswer>>20)
	}
	switch {
	case complaint.full:
		return 0, "", fmt.Errorf("%s complains with more than %d MiB", c.who, maxAnswer>>20)
	case errors.As(err, &status) && status.ExitStatus() == 1 && strings.HasPrefix(said, "sudo: "):
		return 0, "", fmt.Errorf("%s: it %w: %s", c.who, ErrSudo, firstLine(said))
	case errors.As(err, &status):
		return status.ExitStatus(), said, nil
	case err != nil:
		return 0, "", fmt.Errorf("%s: %w (%v)", c.who, connector.ErrUnreachable, err)
	}
	return 0, said, nil
}

// Quote makes one word for a POSIX shell of any text.
func Quote(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// Unix connects to a socket in the host's file system. That forwarding is forbidden there, that there is no such
// socket, and that nobody listens at it all look the same from here.
func (c *Conn) Unix(ctx context.Context, path string) (net.Conn, error) {
	conn, err := c.client.DialContext(ctx, "unix", path)
	if err != nil {
		return nil, fmt.Errorf("%s at %s: %w", path, c.who, err)
	}
	return conn, nil
}

// TCP connects to an address as the host reaches it, where its SSH server forwards connections.
func (c *Conn) TCP(ctx context.Context, _, at string) (net.Conn, error) {
	conn, err := c.client.DialContext(ctx, "tcp", at)
	if err != nil {
		return nil, fmt.Errorf("%s by way of %s: %w", at, c.who, err)
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
	said   Answer
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

// Answer is a buffer that takes no more than 24 MiB, and then ends what fills it. It has no ReadFrom, which would fill
// it unseen.
type Answer struct {
	mu   sync.Mutex // what a command complains of is looked at while it may go on
	buf  bytes.Buffer
	full bool
	over func()
}

// Write implements io.Writer.
func (l *Answer) Write(b []byte) (int, error) {
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

// String is what was printed.
func (l *Answer) String() string {
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
