// Package ssh reaches machines over SSH (RFC 4251 and its fellows) as OpenSSH's own configuration says: names, ports,
// users, keys, certificates, agents and jump hosts come from ssh_config(5), which OpenSSH itself evaluates where it is
// installed. Host keys are checked strictly, whatever that file says: a host whose key is not known is not talked to.
// An error says at which stage it failed: configuration, name, port, host key, login, running a command. Nothing waits
// longer than the context allows.
package ssh

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"

	"yareharbour/connector"
)

// Patience is how long a host may take to let us in, where the context gives no less.
const Patience = 10 * time.Second

// Dialer opens connections. It is safe for concurrent use.
type Dialer struct {
	// Config names ssh_config files, of which the first that says something of a host counts; none: the user's and the
	// machine's own.
	Config []string
	// KnownHosts names files of host keys; none: those that the configuration names, and else the user's and the
	// machine's own.
	KnownHosts []string
	// User logs in to hosts, not to the jump hosts before them; empty: whom the configuration names, and else the one
	// who runs this program.
	User string
}

// Conn is a connection to a host, through all the jump hosts before it.
type Conn struct {
	client *ssh.Client
	hops   []*ssh.Client
	who    string // user and host, for errors
	stages []connector.Stage
	ended  chan struct{}
	once   sync.Once
}

// Dial connects to a host.
func (d *Dialer) Dial(ctx context.Context, host string) (*Conn, error) {
	c, _, err := d.Try(ctx, host)
	return c, err
}

// Try connects to a host and says what it found at each stage of the way, the last of which has failed where there is
// an error.
func (d *Dialer) Try(ctx context.Context, host string) (*Conn, []connector.Stage, error) {
	ctx, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	c := &Conn{ended: make(chan struct{})}
	if err := d.dial(ctx, c, host, nil); err != nil {
		c.Close()
		return nil, c.stages, err
	}
	go c.keep()
	return c, c.stages, nil
}

// maxHops is how many jump hosts may stand one behind the other.
const maxHops = 8

// note adds what was found at a stage that holds.
func (c *Conn) note(way, stage, found string) {
	c.stages = append(c.stages, connector.Stage{Way: way, Name: stage, OK: true, Found: found})
}

// failed adds that a stage failed, and returns the error for the host.
func (c *Conn) failed(way, stage, host string, err error, do string) error {
	c.stages = append(c.stages, connector.Stage{Way: way, Name: stage, Found: err.Error(), Do: do})
	return fmt.Errorf("SSH to %s: %w", host, err)
}

// dial connects to the host through its jump hosts, which it connects to first. chain holds the hosts that it is a way
// to, the last one first.
func (d *Dialer) dial(ctx context.Context, c *Conn, host string, chain []string) error {
	way := "SSH"
	if len(chain) > 0 {
		way = "SSH to the jump host " + host
	}
	if len(chain) > maxHops || slices.Contains(chain, host) {
		return c.failed(way, "proxy", host, fmt.Errorf("its jump hosts go round in a circle, or are more than %d",
			maxHops), "look at ProxyJump in the SSH configuration")
	}
	r, err := d.route(ctx, host, len(chain) == 0)
	if err != nil {
		return c.failed(way, "configuration", host, err, "ssh -G "+host+" shows what OpenSSH makes of it")
	}
	c.note(way, "configuration",
		strings.Join(append([]string{fmt.Sprintf("%s at %s, by %s", r.user, r.address(), r.by)}, r.notes...), "; "))
	if c.client == nil { // only the first of several jumps has a way of its own
		for _, j := range r.jumps {
			if err := d.dial(ctx, c, j, append(slices.Clone(chain), host)); err != nil {
				return fmt.Errorf("SSH to %s by way of %s: %w", host, j, err)
			}
		}
	}
	conn, stage, err := c.tcp(ctx, r)
	if err != nil {
		return c.failed(way, stage, host, err, remedies[stage])
	}
	c.note(way, "port", r.address()+" answers")
	client, stage, err := d.login(ctx, c, conn, r, way)
	if err != nil {
		conn.Close()
		return c.failed(way, stage, host, err, remedies[stage])
	}
	c.client, c.hops, c.who = client, append(c.hops, client), r.user+"@"+host
	return nil
}

// remedies are what to do where a stage fails; an error itself says more where more is known.
var remedies = map[string]string{
	"name": "correct the name in the estate file, or give it a HostName in the SSH configuration",
	"port": "see that the host is up, its SSH server runs, and no firewall is between",
	"proxy": "see that the jump host may reach it (AllowTcpForwarding in its sshd_config) and " +
		"the name is right there",
	"host key": "compare the key on the host's own console before you trust it",
	"login": "put a public key into the user's authorized_keys on the host, or give the key " +
		"to the agent with ssh-add",
	"answer": "see what listens at that port",
}

// tcp connects from here, from the last jump host, or through a command.
func (c *Conn) tcp(ctx context.Context, r route) (net.Conn, string, error) {
	if c.client != nil {
		conn, err := c.client.DialContext(ctx, "tcp", r.address())
		return conn, "proxy", unreachable(ctx, r.address(), err)
	}
	if r.command != "" {
		conn, err := through(r.command)
		return conn, "proxy", err
	}
	d := net.Dialer{
		KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: 2 * time.Second, Interval: 2 * time.Second, Count: 3},
		// what was sent and never acknowledged ends the connection too
		Control: func(_, _ string, raw syscall.RawConn) error {
			var err error
			if cerr := raw.Control(func(fd uintptr) {
				err = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, 6000)
			}); cerr != nil {
				return cerr
			}
			return err
		},
	}
	if r.bind != "" {
		d.LocalAddr = &net.TCPAddr{IP: net.ParseIP(r.bind)}
	}
	conn, err := d.DialContext(ctx, r.network, r.address())
	stage := "port"
	var dns *net.DNSError
	if errors.As(err, &dns) {
		stage = "name"
	}
	return conn, stage, unreachable(ctx, r.address(), err)
}

// unreachable says which of name and port it was.
func unreachable(ctx context.Context, address string, err error) error {
	var dns *net.DNSError
	var refused *ssh.OpenChannelError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &dns):
		return fmt.Errorf("the name %s can't be resolved (%s): %w", dns.Name, dns.Err, connector.ErrUnreachable)
	case errors.Is(err, syscall.ECONNREFUSED):
		return fmt.Errorf("nothing listens at %s: %w", address, connector.ErrUnreachable)
	case errors.As(err, &refused) && refused.Reason == ssh.Prohibited:
		return fmt.Errorf("the jump host does not allow connections to %s (%s): %w", address, refused.Message,
			connector.ErrUnreachable)
	case errors.As(err, &refused):
		return fmt.Errorf("the jump host can't reach %s (%s): %w", address, refused.Message, connector.ErrUnreachable)
	case ctx.Err() != nil:
		return fmt.Errorf("%s: %w in time", address, connector.ErrUnreachable)
	}
	return fmt.Errorf("%s: %w (%v)", address, connector.ErrUnreachable, err)
}

// login makes an SSH connection of a network connection.
func (d *Dialer) login(ctx context.Context, c *Conn, conn net.Conn, r route, way string) (*ssh.Client, string, error) {
	keys, err := r.hostKeys()
	if err != nil {
		return nil, "host key", err
	}
	id := r.identity(ctx)
	defer id.Close()
	config := &ssh.ClientConfig{User: r.user, HostKeyCallback: keys.check, HostKeyAlgorithms: keys.algorithms(r),
		Auth: []ssh.AuthMethod{ssh.PublicKeysCallback(id.signers)}}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	begun := time.Now()
	cc, chans, reqs, err := ssh.NewClientConn(conn, r.knownAs(), config)
	if keys.shown != "" {
		c.note(way, "host key", strings.Join(append([]string{keys.shown + " is known"}, keys.notes...), "; "))
	}
	switch {
	case err == nil:
		c.note(way, "login", fmt.Sprintf("%s is let in (%s)", r.user, strings.Join(id.found, ", ")))
		return ssh.NewClient(cc, chans, reqs), "", nil
	case keys.refused != nil:
		return nil, "host key", keys.refused
	case ctx.Err() != nil && keys.shown == "":
		return nil, "answer", fmt.Errorf("%s accepts the connection and does not speak SSH within %s: %w", r.address(),
			time.Since(begun).Round(time.Second), connector.ErrUnreachable)
	case ctx.Err() != nil:
		return nil, "login", fmt.Errorf("%s let nobody in within %s: %w", r.address(),
			time.Since(begun).Round(time.Second), connector.ErrUnreachable)
	case strings.Contains(err.Error(), "unable to authenticate"):
		return nil, "login", fmt.Errorf("%s does not let %s in: %s", r.address(), r.user, id.tried())
	case errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET):
		return nil, "answer", fmt.Errorf("%s hangs up before it says who it is: is it an SSH server?", r.address())
	case keys.shown == "":
		return nil, "answer", fmt.Errorf("%s: %w", r.address(), err)
	}
	return nil, "login", fmt.Errorf("%s: %w", r.address(), err)
}

// The connection is asked every alive whether it lives, by a request that only its far end answers, and given up after
// silence.
const (
	alive   = 2 * time.Second
	silence = 6 * time.Second
)

// keep asks the far end, also behind jump hosts, whether it is there, and ends the connection when it is not.
func (c *Conn) keep() {
	tick := time.NewTicker(alive)
	defer tick.Stop()
	for {
		select {
		case <-c.ended:
			return
		case <-tick.C:
		}
		answered := make(chan error, 1)
		go func() {
			_, _, err := c.client.SendRequest("keepalive@openssh.com", true, nil)
			answered <- err
		}()
		select {
		case <-c.ended:
			return
		case err := <-answered:
			if err == nil {
				continue
			}
		case <-time.After(silence):
		}
		c.Close()
		return
	}
}

// Ended tells whether the connection was closed, or given up since its far end fell silent.
func (c *Conn) Ended() bool {
	select {
	case <-c.ended:
		return true
	default:
		return false
	}
}

// Close ends the connection and those that it goes through.
func (c *Conn) Close() {
	c.once.Do(func() { close(c.ended) })
	for i := len(c.hops) - 1; i >= 0; i-- {
		c.hops[i].Close()
	}
}
