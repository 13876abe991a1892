package ssh

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"

	"github.com/kevinburke/ssh_config"
)

// route is what the configuration says of the way to a host.
type route struct {
	host       string // as the estate names it
	name, port string // where it listens
	user       string
	alias      string // under which its key is known; empty: its name
	identities []string
	chosen     bool // only these identities, of all that an agent holds
	agent      string
	known      []string
	jumps      []string // in the order in which they are gone through
}

func (r route) address() string { return net.JoinHostPort(r.name, r.port) }

func (r route) knownAs() string {
	if r.alias != "" {
		return net.JoinHostPort(r.alias, r.port)
	}
	return r.address()
}

// configured reads ssh_config files and answers from the first that says something.
type configured struct {
	files []*ssh_config.Config
	home  string
}

func (d *Dialer) configured() (configured, error) {
	var c configured
	c.home, _ = os.UserHomeDir()
	names := d.Config
	if len(names) == 0 {
		names = []string{filepath.Join(c.home, ".ssh", "config"), "/etc/ssh/ssh_config"}
	}
	for _, name := range names {
		f, err := os.Open(name)
		if errors.Is(err, fs.ErrNotExist) && len(d.Config) == 0 {
			continue
		}
		if err != nil {
			return c, fmt.Errorf("the SSH configuration: %w", err)
		}
		parsed, err := ssh_config.Decode(f)
		f.Close()
		if err != nil {
			return c, fmt.Errorf("the SSH configuration %s: %w", name, err)
		}
		c.files = append(c.files, parsed)
	}
	return c, nil
}

func (c configured) get(host, key string) string {
	for _, f := range c.files {
		if v, err := f.Get(host, key); err == nil && v != "" {
			return strings.Trim(v, `"`)
		}
	}
	return ""
}

func (c configured) all(host, key string) (out []string) {
	for _, f := range c.files {
		vs, _ := f.GetAll(host, key)
		for _, v := range vs {
			out = append(out, strings.Trim(v, `"`))
		}
	}
	return out
}

// path expands what stands for a home directory at the beginning of a file's name, and the tokens that matter.
func (c configured) path(name string, r route) string {
	if rest, ok := strings.CutPrefix(name, "~/"); ok {
		name = filepath.Join(c.home, rest)
	}
	return strings.NewReplacer("%%", "%", "%d", c.home, "%h", r.name, "%n", r.host, "%r", r.user, "%p", r.port).Replace(name)
}

// route finds the way. A jump may be named USER@HOST:PORT; these count before the configuration.
func (d *Dialer) route(host string) (route, error) {
	c, err := d.configured()
	if err != nil {
		return route{}, err
	}
	r := route{}
	if who, at, ok := strings.Cut(host, "@"); ok {
		r.user, host = who, at
	}
	if name, port, err := net.SplitHostPort(host); err == nil {
		host, r.port = name, port
	}
	r.host = host
	r.name = cmp.Or(strings.NewReplacer("%%", "%", "%h", host).Replace(c.get(host, "HostName")), host)
	r.port = cmp.Or(r.port, c.get(host, "Port"), "22")
	r.user = cmp.Or(r.user, d.User, c.get(host, "User"), whoRuns())
	r.alias = c.get(host, "HostKeyAlias")
	r.chosen = strings.EqualFold(c.get(host, "IdentitiesOnly"), "yes")
	r.agent = c.path(cmp.Or(c.get(host, "IdentityAgent"), os.Getenv("SSH_AUTH_SOCK")), r)
	if strings.EqualFold(r.agent, "none") {
		r.agent = ""
	}
	for _, f := range c.all(host, "IdentityFile") {
		r.identities = append(r.identities, c.path(f, r))
	}
	if len(r.identities) == 0 {
		for _, kind := range []string{"ed25519", "ecdsa", "rsa"} {
			r.identities = append(r.identities, filepath.Join(c.home, ".ssh", "id_"+kind))
		}
	}
	if r.known = d.KnownHosts; len(r.known) == 0 {
		for _, f := range strings.Fields(strings.Join(append(c.all(host, "UserKnownHostsFile"), c.all(host, "GlobalKnownHostsFile")...), " ")) {
			r.known = append(r.known, c.path(f, r))
		}
	}
	if len(r.known) == 0 {
		r.known = []string{filepath.Join(c.home, ".ssh", "known_hosts"), "/etc/ssh/ssh_known_hosts"}
	}
	if p := c.get(host, "ProxyCommand"); p != "" && !strings.EqualFold(p, "none") {
		return r, errors.New("its configuration asks for a ProxyCommand, which is not supported; name the jump host with ProxyJump")
	}
	if j := c.get(host, "ProxyJump"); j != "" && !strings.EqualFold(j, "none") {
		for _, hop := range strings.Split(j, ",") {
			r.jumps = append(r.jumps, strings.TrimPrefix(strings.TrimSpace(hop), "ssh://"))
		}
	}
	return r, nil
}

func whoRuns() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return os.Getenv("USER")
}
