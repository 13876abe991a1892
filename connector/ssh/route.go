package ssh

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yareharbour/connector"
)

// route is what the configuration says of the way to a host.
type route struct {
	host        string // as the estate, or a jump before it, names it
	name, port  string // where it listens
	user        string
	alias       string // under which its key is known; empty: its name
	identities  []string
	certificate []string // of users
	chosen      bool     // only these identities, of all that an agent holds
	agent       string
	known       []string
	revoked     string   // a file of keys that are not to be trusted any more
	bind        string   // the address that we speak from
	network     string   // "tcp", or the one family of addresses that is asked for
	jumps       []string // in the order in which they are gone through
	command     string   // that makes the connection
	by          string   // who evaluated the configuration
	notes       []string // what the configuration says that could not be understood
}

func (r route) address() string { return net.JoinHostPort(r.name, r.port) }

// knownAs is the name under which the host's key is looked for. An alias stands there without a port, whatever the port
// is (ssh_config(5), HostKeyAlias).
func (r route) knownAs() string {
	if r.alias != "" {
		return net.JoinHostPort(r.alias, "22")
	}
	return r.address()
}

// asking is how long evaluating a configuration may take; Match exec runs commands in it.
const asking = 3 * time.Second

// options are the words of a configuration that say something of one host, under their names in small letters.
type options map[string][]string

func (o options) get(key string) string {
	if v := o[key]; len(v) > 0 && !strings.EqualFold(v[0], "none") {
		return v[0]
	}
	return ""
}

// fields are the words of options that list several in one line, which may be quoted.
func (o options) fields(key string) (out []string) {
	for _, v := range o[key] {
		out = append(out, words(v)...)
	}
	return out
}

// words splits at blanks that are not within double quotes.
func words(s string) (out []string) {
	quoted := false
	for _, f := range strings.FieldsFunc(s, func(c rune) bool {
		if c == '"' {
			quoted = !quoted
		}
		return !quoted && (c == ' ' || c == '\t')
	}) {
		out = append(out, strings.Trim(f, `"`))
	}
	return out
}

// route finds the way. A jump may be named USER@HOST:PORT; these count before the configuration. Only the host at the
// end of the way is logged in to as d.User.
func (d *Dialer) route(ctx context.Context, host string, last bool) (route, error) {
	r := route{}
	target := host
	if at := strings.LastIndexByte(target, '@'); at >= 0 {
		r.user, target = target[:at], target[at+1:]
	}
	if name, port, err := net.SplitHostPort(target); err == nil {
		target, r.port = name, port
	}
	if r.host = strings.Trim(target, "[]"); r.host == "" || strings.HasPrefix(r.host, "-") ||
		strings.HasPrefix(r.user, "-") || strings.ContainsAny(r.host, " \t\n") {
		return r, fmt.Errorf("%q is no name of a host", host)
	}
	if last {
		r.user = cmp.Or(r.user, d.User)
	}
	o, by, notes, err := d.options(ctx, r)
	if err != nil {
		return r, fmt.Errorf("the SSH configuration: %w", err)
	}
	r.by, r.notes = by, notes
	r.take(o, d.KnownHosts)
	return r, nil
}

// unsupported are options that bear on the way to a host, and that are told where somebody uses them.
var unsupported = map[string]string{"knownhostscommand": "KnownHostsCommand", "pkcs11provider": "PKCS11Provider",
	"bindinterface": "BindInterface", "proxyusefdpass": "ProxyUseFdpass", "verifyhostkeydns": "VerifyHostKeyDNS"}

// take fills in what the options say.
func (r *route) take(o options, known []string) {
	home, _ := os.UserHomeDir()
	r.name = strings.NewReplacer("%%", "%", "%h", r.host).Replace(cmp.Or(o.get("hostname"), r.host))
	r.port = cmp.Or(r.port, o.get("port"), "22")
	r.user = cmp.Or(r.user, o.get("user"), whoRuns())
	r.alias = o.get("hostkeyalias")
	r.chosen = strings.EqualFold(o.get("identitiesonly"), "yes")
	r.bind = o.get("bindaddress")
	r.network = map[string]string{"inet": "tcp4", "inet6": "tcp6"}[o.get("addressfamily")]
	if r.network == "" {
		r.network = "tcp"
	}
	for key, name := range unsupported {
		if v := o.get(key); v != "" && v != "no" && v != "false" {
			r.notes = append(r.notes, name+" is not supported and has no effect")
		}
	}
	slices.Sort(r.notes)
	path := func(name string) string { return r.path(home, name) }
	if r.agent = os.Getenv("SSH_AUTH_SOCK"); len(o["identityagent"]) > 0 && o["identityagent"][0] != "SSH_AUTH_SOCK" {
		r.agent = path(o.get("identityagent"))
	}
	for _, f := range o["identityfile"] {
		r.identities = append(r.identities, path(f))
	}
	if len(r.identities) == 0 {
		for _, kind := range []string{"ed25519", "ecdsa", "rsa"} {
			r.identities = append(r.identities, filepath.Join(home, ".ssh", "id_"+kind))
		}
	}
	for _, f := range o["certificatefile"] {
		r.certificate = append(r.certificate, path(f))
	}
	if f := o.get("revokedhostkeys"); f != "" {
		r.revoked = path(f)
	}
	if r.known = known; len(r.known) == 0 {
		for _, f := range append(o.fields("userknownhostsfile"), o.fields("globalknownhostsfile")...) {
			r.known = append(r.known, path(f))
		}
	}
	if len(r.known) == 0 {
		r.known = []string{filepath.Join(home, ".ssh", "known_hosts"), "/etc/ssh/ssh_known_hosts"}
	}
	if j := o.get("proxyjump"); j != "" {
		for _, hop := range strings.Split(j, ",") {
			r.jumps = append(r.jumps, strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(hop), "ssh://"), "/"))
		}
	} else if p := o.get("proxycommand"); p != "" {
		r.command = strings.TrimPrefix(r.expand(home, p), "exec ")
	}
}

// path expands what stands for a home directory at the beginning of a file's name, variables of the environment, and
// tokens.
func (r *route) path(home, name string) string {
	name = strings.Trim(name, `"`)
	if rest, ok := strings.CutPrefix(name, "~/"); ok {
		name = filepath.Join(home, rest)
	}
	// IdentityAgent names a variable so
	if rest, ok := strings.CutPrefix(name, "$"); ok && !strings.HasPrefix(rest, "{") {
		return os.Getenv(rest)
	}
	return r.expand(home, os.Expand(name, func(v string) string { return os.Getenv(v) }))
}

// expand replaces the tokens of ssh_config(5), "TOKENS", that a name or a command may hold.
func (r *route) expand(home, s string) string {
	me, _ := os.Hostname()
	short, _, _ := strings.Cut(me, ".")
	return strings.NewReplacer("%%", "%", "%d", home, "%h", r.name, "%n", r.host, "%r", r.user, "%p", r.port, "%u",
		whoRuns(), "%k", cmp.Or(r.alias, r.host),
		"%l", me, "%L", short, "%i", fmt.Sprint(os.Getuid())).Replace(s)
}

// options evaluates the configuration. OpenSSH itself does it where it is installed: nobody else knows all that Match
// may ask.
func (d *Dialer) options(ctx context.Context, r route) (o options, by string, notes []string, err error) {
	for _, f := range d.Config {
		if _, err := os.Stat(f); err != nil {
			return nil, "", nil, err
		}
	}
	ssh, missing := exec.LookPath("ssh")
	if missing != nil {
		o, notes, err = d.read(r)
		return o, "yare itself, for OpenSSH's ssh is not installed here", notes, err
	}
	o, err = d.ask(ctx, ssh, r)
	return o, "ssh -G", nil, err
}

// ask has ssh -G print what holds for the host.
func (d *Dialer) ask(ctx context.Context, ssh string, r route) (options, error) {
	args := []string{"-G"}
	switch len(d.Config) {
	case 0:
	case 1:
		args = append(args, "-F", d.Config[0])
	default: // -F takes one file, which includes the others
		f, err := including(d.Config)
		if err != nil {
			return nil, err
		}
		defer os.Remove(f)
		args = append(args, "-F", f)
	}
	if r.user != "" {
		args = append(args, "-l", r.user)
	}
	if r.port != "" {
		args = append(args, "-p", r.port)
	}
	bounded, cancel := context.WithTimeout(ctx, asking)
	defer cancel()
	cmd := exec.CommandContext(bounded, ssh, append(args, "--", r.host)...)
	connector.Grouped(cmd)
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	err := cmd.Run()
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case bounded.Err() != nil:
		return nil, fmt.Errorf("ssh -G did not evaluate it within %s: does a Match exec of it hang?", asking)
	case err != nil:
		return nil, errors.New(cmp.Or(oneLine(said.String()), err.Error()))
	}
	o := options{}
	for sc := bufio.NewScanner(&out); sc.Scan(); {
		if key, value, ok := strings.Cut(sc.Text(), " "); ok {
			o[strings.ToLower(key)] = append(o[strings.ToLower(key)], value)
		}
	}
	return o, nil
}

// including writes a file that includes the others, each of which must say something of all hosts again.
func including(files []string) (string, error) {
	f, err := os.CreateTemp("", "ssh_config-*")
	if err != nil {
		return "", err
	}
	for _, name := range files {
		abs, err := filepath.Abs(name)
		if err == nil {
			_, err = fmt.Fprintf(f, "Match all\nInclude \"%s\"\n", abs)
		}
		if err != nil {
			return "", errors.Join(err, f.Close(), os.Remove(f.Name()))
		}
	}
	return f.Name(), f.Close()
}

func whoRuns() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return os.Getenv("USER")
}
