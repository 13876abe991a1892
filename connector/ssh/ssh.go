// Package ssh reaches machines over SSH (RFC 4251 and its fellows) as OpenSSH's own configuration says: names, ports, users, keys, agents and jump hosts come from
// ssh_config(5). Host keys are checked strictly, whatever that file says: a host whose key is not known is not talked to. An error says at which stage it
// failed: finding the name, reaching the port, the host's key, logging in, running a command.
package ssh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"yareharbour/connector"
)

// Patience is how long a host may take to let us in.
const Patience = 15 * time.Second

// maxAnswer is the most that a command may print, in bytes.
const maxAnswer = 64 << 20

// Dialer opens connections. It is safe for concurrent use.
type Dialer struct {
	// Config names ssh_config files, of which the first that says something of a host counts; none: the user's and the machine's own.
	Config []string
	// KnownHosts names files of host keys; none: those that the configuration names, and else the user's and the machine's own.
	KnownHosts []string
	// User logs in; empty: whom the configuration names, and else the one who runs this program.
	User string
}

// Conn is a connection to a host, through all the jump hosts before it.
type Conn struct {
	client *ssh.Client
	hops   []*ssh.Client
	who    string // user and host, for errors
}

// Dial connects to a host.
func (d *Dialer) Dial(ctx context.Context, host string) (*Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	c := &Conn{}
	if err := d.dial(ctx, c, host, 0); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// maxHops is how many jump hosts may stand one behind the other.
const maxHops = 8

// dial connects to the host through its jump hosts, which it connects to first.
func (d *Dialer) dial(ctx context.Context, c *Conn, host string, depth int) error {
	if depth > maxHops {
		return fmt.Errorf("SSH to %s: its jump hosts go round in a circle, or are more than %d", host, maxHops)
	}
	r, err := d.route(host)
	if err != nil {
		return fmt.Errorf("SSH to %s: %w", host, err)
	}
	for _, j := range r.jumps {
		if err := d.dial(ctx, c, j, depth+1); err != nil {
			return fmt.Errorf("by way of %s: %w", j, err)
		}
	}
	conn, err := c.tcp(ctx, r.address())
	if err != nil {
		return fmt.Errorf("SSH to %s: %w", host, unreachable(r.address(), err))
	}
	client, err := d.login(ctx, conn, r)
	if err != nil {
		conn.Close()
		return fmt.Errorf("SSH to %s: %w", host, err)
	}
	c.client, c.hops, c.who = client, append(c.hops, client), r.user+"@"+host
	return nil
}

// tcp connects from here, or from the last jump host.
func (c *Conn) tcp(ctx context.Context, address string) (net.Conn, error) {
	if c.client != nil {
		return c.client.DialContext(ctx, "tcp", address)
	}
	d := net.Dialer{
		KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: 2 * time.Second, Interval: 2 * time.Second, Count: 3},
		Control: func(_, _ string, raw syscall.RawConn) error { // what was sent and never acknowledged ends the connection too
			var err error
			if cerr := raw.Control(func(fd uintptr) {
				err = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, 6000)
			}); cerr != nil {
				return cerr
			}
			return err
		},
	}
	return d.DialContext(ctx, "tcp", address)
}

// unreachable says which of name and port it was.
func unreachable(address string, err error) error {
	var dns *net.DNSError
	var refused *ssh.OpenChannelError
	switch {
	case errors.As(err, &dns):
		return fmt.Errorf("the name %s can't be resolved (%s): %w", dns.Name, dns.Err, connector.ErrUnreachable)
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf("nothing listens at %s: %w", address, connector.ErrUnreachable)
	case errors.As(err, &refused):
		return fmt.Errorf("the jump host can't reach %s (%s): %w", address, refused.Message, connector.ErrUnreachable)
	}
	return fmt.Errorf("%s: %w (%v)", address, connector.ErrUnreachable, err)
}

// login makes an SSH connection of a network connection.
func (d *Dialer) login(ctx context.Context, conn net.Conn, r route) (*ssh.Client, error) {
	keys, err := r.hostKeys()
	if err != nil {
		return nil, err
	}
	id := r.identity()
	defer id.Close()
	config := &ssh.ClientConfig{User: r.user, HostKeyCallback: keys.check, HostKeyAlgorithms: keys.algorithms(r), Auth: []ssh.AuthMethod{ssh.PublicKeysCallback(id.signers)}}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	cc, chans, reqs, err := ssh.NewClientConn(conn, r.knownAs(), config)
	switch {
	case err == nil:
		return ssh.NewClient(cc, chans, reqs), nil
	case ctx.Err() != nil:
		return nil, fmt.Errorf("%s let nobody in within %s: %w", r.address(), Patience, connector.ErrUnreachable)
	case keys.refused != nil:
		return nil, keys.refused
	case strings.Contains(err.Error(), "unable to authenticate"):
		return nil, fmt.Errorf("%s does not let %s in: %s", r.address(), r.user, id.tried())
	case errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET):
		return nil, fmt.Errorf("%s hangs up before it says who it is: is it an SSH server?", r.address())
	}
	return nil, fmt.Errorf("%s: %w", r.address(), err)
}

// Close ends the connection and those that it goes through.
func (c *Conn) Close() {
	for i := len(c.hops) - 1; i >= 0; i-- {
		c.hops[i].Close()
	}
}

// Run feeds a script to a POSIX shell on the host and returns what it prints; with sudo, to a shell of root's. The connection is of no use any more when the context has
// ended.
func (c *Conn) Run(ctx context.Context, script string, sudo bool) ([]byte, error) {
	s, err := c.client.NewSession()
	if err != nil {
		return nil, fmt.Errorf("%s may not run commands: %w", c.who, err)
	}
	defer s.Close()
	stop := context.AfterFunc(ctx, c.Close)
	defer stop()
	var out, said limited
	s.Stdin, s.Stdout, s.Stderr = strings.NewReader(script), &out, &said
	command := "sh -s"
	if sudo {
		command = "sudo -n sh -s"
	}
	err = s.Run(command)
	var exit *ssh.ExitError
	switch {
	case ctx.Err() != nil:
		return nil, fmt.Errorf("%s does not answer in time: %w", c.who, connector.ErrUnreachable)
	case out.over:
		return nil, fmt.Errorf("%s answers with more than %d MiB", c.who, maxAnswer>>20)
	case errors.As(err, &exit) && sudo && strings.Contains(said.String(), "sudo"):
		return nil, fmt.Errorf("%s may not become root without a password: %s", c.who, firstLine(said.String()))
	case errors.As(err, &exit) && out.Len() == 0:
		return nil, fmt.Errorf("%s can't run %q (exit status %d): %s", c.who, command, exit.ExitStatus(), firstLine(said.String()))
	case err != nil && !errors.As(err, &exit):
		return nil, fmt.Errorf("%s: %w (%v)", c.who, connector.ErrUnreachable, err)
	}
	return out.Bytes(), nil // a probe's own status says nothing: it ends with the last thing that it looked for
}

// Unix connects to a socket in the host's file system.
func (c *Conn) Unix(ctx context.Context, path string) (net.Conn, error) {
	conn, err := c.client.DialContext(ctx, "unix", path)
	if err != nil {
		return nil, fmt.Errorf("%s at %s: %w", path, c.who, err)
	}
	return conn, nil
}

// limited is a buffer that takes no more than maxAnswer bytes.
type limited struct {
	bytes.Buffer
	over bool
}

func (l *limited) Write(b []byte) (int, error) {
	if l.Len()+len(b) > maxAnswer {
		l.over = true
		return 0, errors.New("too much")
	}
	return l.Buffer.Write(b)
}

func firstLine(s string) string {
	first, _, _ := strings.Cut(strings.TrimSpace(s), "\n")
	return first
}
