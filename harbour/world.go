package harbour

import (
	"context"
	"crypto/x509"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"
	"unique"

	"yareharbour/connector"
	"yareharbour/connector/host"
	"yareharbour/connector/libvirt"
	"yareharbour/connector/redfish"
	"yareharbour/connector/ssh"
	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/format/estatefile"
	"yareharbour/plain"
	"yareharbour/program"
	"yareharbour/sim/conn"
)

// World is the outside of an estate: its hosts, and its time.
type World interface {
	connector.World
	// Hangup lets go of all connections.
	Hangup()
}

// border is a world whose words are made harmless before anybody sees or keeps them: a host may call its guests and
// packages what it likes.
type border struct {
	World
	programs program.Programs // of this machine
}

// Open begins a session with the host.
func (b border) Open(ctx context.Context, host string) (connector.Session, error) {
	s, err := b.World.Open(ctx, host)
	if err != nil {
		return nil, err
	}
	return guarded{s, b.programs}, nil
}

// guarded is a session at the border.
type guarded struct {
	connector.Session
	programs program.Programs
}

// Inner is the session around which this one stands.
func (g guarded) Inner() connector.Session { return g.Session }

// Read reads the host.
func (g guarded) Read(ctx context.Context, sections ...estate.SectionName) (*estate.Reading, error) {
	r, err := g.Session.Read(ctx, sections...)
	if r != nil {
		plain.Strings(r)
		r.Sort()
		share(r)
	}
	return r, err
}

// share lets readings share the texts that hosts have alike: names and versions of packages are most of a reading, and
// there are few different ones.
func share(r *estate.Reading) {
	for i := range r.Components {
		c := &r.Components[i]
		c.Key, c.Version, c.Model = unique.Make(c.Key).Value(), unique.Make(c.Version).Value(),
			unique.Make(c.Model).Value()
	}
	r.Components = slices.Clip(slices.Clone(r.Components)) // what it grew by while it was read is let go
}

// Do begins an act, where the session can. A hook of this machine is begun here once the host has taken the order: so a
// host refuses it too where it is stale.
func (g guarded) Do(ctx context.Context, o connector.Order) (connector.Receipt, error) {
	d, ok := connector.As[connector.Doer](g.Session)
	if !ok {
		return connector.Receipt{}, fmt.Errorf("%s on %s: %w", o.Says(), o.Host, connector.ErrLookOnly)
	}
	r, err := d.Do(ctx, o)
	if err == nil && here(&o.Act) {
		if err = o.Still(); err == nil {
			err = g.programs.Begin(ctx, o.Act)
		}
	}
	plain.Strings(&r)
	return r, err
}

// here tells whether an act is done on this machine.
func here(a *act.Act) bool { return a.Hook != nil && !a.Hook.OnHost }

// Trace asks what is known of an act.
func (g guarded) Trace(ctx context.Context, a act.Act, task string) (act.Trace, error) {
	if here(&a) {
		t := g.programs.Trace(a)
		plain.Strings(&t)
		return t, nil
	}
	d, ok := connector.As[connector.Doer](g.Session)
	if !ok {
		return act.Trace{Unasked: "this kind of host is only looked at"}, nil
	}
	t, err := d.Trace(ctx, a, task)
	plain.Strings(&t)
	return t, err
}

// Connect tries the ways to a host.
func (g guarded) Connect(ctx context.Context) []connector.Stage {
	stages := connector.TryWays(ctx, g.Session)
	for i := range stages {
		plain.Strings(&stages[i])
	}
	return stages
}

// Resolve asks the host what a change of packages would do.
func (g guarded) Resolve(ctx context.Context, changes []connector.Wanted) act.Resolution {
	r := connector.Resolve(ctx, g.Session, changes)
	plain.Strings(&r)
	return r
}

// Logs asks the host for its logs.
func (g guarded) Logs(ctx context.Context) []act.Log {
	logs := connector.Logs(ctx, g.Session)
	for i := range logs {
		plain.Strings(&logs[i])
	}
	return logs
}

// Differs asks the host in what its files are others than those of an archive.
func (g guarded) Differs(ctx context.Context, archive io.Reader, size int64) ([]string, error) {
	lines, err := connector.Differs(ctx, g.Session, archive, size)
	plain.Strings(&lines)
	return lines, err
}

// Certificate asks whose certificate the host's BMC shows.
func (g guarded) Certificate(ctx context.Context) (connector.Certificate, error) {
	c, err := connector.Identify(ctx, g.Session)
	plain.Strings(&c)
	return c, err
}

// Preparation says what the host needs before it takes orders.
func (g guarded) Preparation(ctx context.Context, peers []string) ([]connector.Item, error) {
	if p, ok := g.Session.(connector.Preparer); ok {
		items, err := p.Preparation(ctx, peers)
		plain.Strings(&items)
		return items, err
	}
	return nil, nil
}

// Prepare puts it there.
func (g guarded) Prepare(ctx context.Context, peers []connector.Peer) (connector.Peer, error) {
	if p, ok := g.Session.(connector.Preparer); ok {
		return p.Prepare(ctx, peers)
	}
	return connector.Peer{}, nil
}

// Reaches asks whether guests can move from it to a peer.
func (g guarded) Reaches(ctx context.Context, peer string) error {
	if p, ok := g.Session.(connector.Preparer); ok {
		return p.Reaches(ctx, peer)
	}
	return nil
}

// Remove takes it away.
func (g guarded) Remove(ctx context.Context) error {
	if p, ok := g.Session.(connector.Preparer); ok {
		return p.Remove(ctx)
	}
	return nil
}

// dial reaches the estate as its file says. Hosts may be reached by other ways than the rest; a way that can't be
// dialled leaves its own hosts silent. The estate's time is that of its own connector.
func (h *house) dial(ctx context.Context) (World, error) {
	w, err := h.connect(ctx, h.file.Connector)
	if err != nil {
		return nil, err
	}
	r := routes{World: w, harbour: h}
	for _, other := range h.file.Connectors {
		o, err := h.connect(ctx, other.Connector)
		if err != nil {
			o = away{why: err}
		}
		r.others = append(r.others, o)
	}
	return border{r, h.programs()}, nil
}

// routes is a world whose hosts are reached in several ways.
type routes struct {
	World
	harbour *house
	others  []World // in the order of the estate file's connectors
}

// Open begins a session by the host's own way.
func (r routes) Open(ctx context.Context, host string) (connector.Session, error) {
	if _, i := r.harbour.file.ConnectorOf(host); i >= 0 {
		return r.others[i].Open(ctx, host)
	}
	return r.World.Open(ctx, host)
}

// Hangup lets go of all connections.
func (r routes) Hangup() {
	r.World.Hangup()
	for _, o := range r.others {
		o.Hangup()
	}
}

func (h *house) connect(ctx context.Context, c estatefile.Connector) (World, error) {
	if c.Kind == estatefile.Sim {
		w, err := conn.Dial(ctx, h.path(c.Dir))
		if err != nil {
			return nil, err
		}
		w.Trusted = h.trusted
		return opened{connector.LookOnly(w, h.Acts, errLookOnly), w, w.Hangup}, nil
	}
	r, err := hostsOver(c, h.path)
	if err != nil {
		return nil, err
	}
	r.Trusted = h.trusted
	for _, b := range h.file.BMCs {
		to := redfish.Target{At: b.At, User: b.User, Fingerprint: b.Fingerprint, Names: b.Names}
		if b.Roots != "" {
			if to.Roots, err = roots(h.path(b.Roots)); err != nil {
				return nil, fmt.Errorf("the roots of the BMC of %s: %w", b.Host, err)
			}
		}
		r.BMCs[b.Host] = host.BMC{Target: to, Password: func(ctx context.Context) (string, error) {
			return b.Password.Get(ctx, h.dir)
		}}
	}
	return opened{connector.LookOnly(r, h.Acts, errLookOnly), machineClock{}, func() {}}, nil
}

// hostsOver reaches hosts over SSH, without their BMCs.
func hostsOver(c estatefile.Connector, path func(string) string) (*host.Connector, error) {
	d := &ssh.Dialer{User: c.User}
	for _, f := range c.Config {
		d.Config = append(d.Config, path(f))
	}
	for _, f := range c.KnownHosts {
		d.KnownHosts = append(d.KnownHosts, path(f))
	}
	limit, err := c.LookLimit()
	return &host.Connector{SSH: d, Sudo: c.Sudo, Limit: limit, BMCs: map[string]host.BMC{},
		Migration: libvirt.Migration(c.Migration)}, err
}

// errLookOnly is why nothing is done to a cluster that the estate file does not open for that.
var errLookOnly = fmt.Errorf("%w; say \"act: true\" for it there to change that", connector.ErrLookOnly)

// opened is a world made of a way to hosts, a clock, and an end.
type opened struct {
	connector.Opener
	connector.Clock
	hangup func()
}

// Hangup lets go of all connections.
func (o opened) Hangup() { o.hangup() }

// machineClock is this machine's own time.
type machineClock struct{}

// watching is when this program began to watch, by Go's monotonic clock.
var watching = time.Now()

// Now is the time of day alone, without Go's monotonic reading: by that two times could not show that the clock was set
// between them.
func (machineClock) Now() time.Time { return time.Now().Round(0) }

// Lasted is how long this program has watched.
func (machineClock) Lasted() time.Duration { return time.Since(watching) }

// Speed is that of the world.
func (machineClock) Speed() float64 { return 1 }

// roots reads a PEM file of certificates.
func roots(name string) (*x509.CertPool, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s holds no certificate in PEM form", name)
	}
	return pool, nil
}

// away is an outside that can't be reached at all: every host is silent, for the reason why.
type away struct {
	machineClock
	why error
}

// Open begins a session with nobody.
func (a away) Open(_ context.Context, host string) (connector.Session, error) {
	return noAnswer{host, a.why}, nil
}

// Hangup has nothing to let go of.
func (away) Hangup() {}

type noAnswer struct {
	host string
	why  error
}

// Read finds every section unread.
func (n noAnswer) Read(_ context.Context, sections ...estate.SectionName) (*estate.Reading, error) {
	return connector.Unreached(n.host, "nowhere", time.Now(), n.why, sections...), nil
}

// Connect finds no way.
func (n noAnswer) Connect(context.Context) []connector.Stage {
	return []connector.Stage{{Way: "estate", Name: "configuration", Found: n.why.Error()}}
}

// Close has nothing to let go of.
func (noAnswer) Close() error { return nil }

// path is a path of the estate file, which is relative to it.
func (h *house) path(p string) string {
	if filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(h.dir, p)
}
