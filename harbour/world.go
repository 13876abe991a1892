package harbour

import (
	"context"
	"crypto/x509"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/host"
	"yareharbour/connector/redfish"
	"yareharbour/connector/sim"
	"yareharbour/connector/ssh"
	"yareharbour/core/estate"
	"yareharbour/format/estatefile"
	"yareharbour/format/plain"
)

// World is the outside of an estate: its hosts, and its time.
type World interface {
	connector.World
	// Speed is how many seconds of the estate pass in one of ours.
	Speed() float64
	// Connect tries every way to a host and says what it found at each stage.
	Connect(ctx context.Context, host string) []connector.Stage
	// Hangup lets go of all connections.
	Hangup()
}

// border is a world whose words are made harmless before anybody sees or keeps them: a host may call its guests and packages what it likes.
type border struct{ World }

// Read reads the host.
func (b border) Read(ctx context.Context, host string, sections ...estate.SectionName) (*estate.Reading, error) {
	r, err := b.World.Read(ctx, host, sections...)
	if r != nil {
		plain.Strings(r)
		r.Sort()
	}
	return r, err
}

// Task follows a task.
func (b border) Task(ctx context.Context, host, id string) (connector.Task, error) {
	t, err := b.World.Task(ctx, host, id)
	t.Error = plain.Line(t.Error)
	return t, err
}

// Connect tries the ways to a host.
func (b border) Connect(ctx context.Context, host string) []connector.Stage {
	stages := b.World.Connect(ctx, host)
	for i := range stages {
		s := &stages[i]
		s.Way, s.Found, s.Do = plain.Line(s.Way), plain.Line(s.Found), plain.Line(s.Do)
	}
	return stages
}

// dial reaches the estate as its file says.
func (h *Harbour) dial(ctx context.Context) (World, error) {
	w, err := h.connect(ctx)
	return border{w}, err
}

func (h *Harbour) connect(ctx context.Context) (World, error) {
	c := h.file.Connector
	if c.Kind == estatefile.Sim {
		return sim.Dial(ctx, h.path(c.Dir), h.Acts)
	}
	d := &ssh.Dialer{User: c.User}
	for _, f := range c.Config {
		d.Config = append(d.Config, h.path(f))
	}
	for _, f := range c.KnownHosts {
		d.KnownHosts = append(d.KnownHosts, h.path(f))
	}
	limit, err := c.LookLimit()
	if err != nil {
		return nil, err
	}
	r := &host.Reader{SSH: d, Sudo: c.Sudo, Limit: limit, BMCs: map[string]host.BMC{}}
	for _, b := range h.file.BMCs {
		to := redfish.Target{At: b.At, User: b.User, Fingerprint: b.Fingerprint, Names: b.Names}
		if b.Roots != "" {
			if to.Roots, err = roots(h.path(b.Roots)); err != nil {
				return nil, fmt.Errorf("the roots of the BMC of %s: %w", b.Host, err)
			}
		}
		r.BMCs[b.Host] = host.BMC{Target: to, Password: func(ctx context.Context) (string, error) { return b.Password.Get(ctx, h.dir) }}
	}
	why := fmt.Errorf("%w, and this version can do no more over SSH", connector.ErrLookOnly)
	return realHosts{connector.LookOnly{Reader: r, Why: why}, r}, nil
}

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

// away is an outside that can't be reached at all: every host is silent, for the reason why. Acts are refused as where only looking is allowed; questions are too, for no answer is not the answer none.
type away struct{ connector.LookOnly }

// Read finds every section unread.
func (a away) Read(_ context.Context, host string, sections ...estate.SectionName) (*estate.Reading, error) {
	r := &estate.Reading{Host: host}
	if len(sections) == 0 {
		sections = estate.SectionNames
	}
	for _, s := range sections {
		r.SetSection(estate.Section{Name: s, At: time.Now(), Source: "nowhere", Err: a.Why.Error()})
	}
	return r, nil
}

// Staged refuses.
func (a away) Staged(_ context.Context, host, _ string) (string, error) {
	return "", a.Refuse("looking for what is staged", host)
}

// Task refuses.
func (a away) Task(_ context.Context, host, _ string) (connector.Task, error) {
	return connector.Task{}, a.Refuse("asking for a task", host)
}

// Running refuses.
func (a away) Running(_ context.Context, host string) ([]connector.Task, error) {
	return nil, a.Refuse("asking for tasks", host)
}

// Connect finds no way.
func (a away) Connect(context.Context, string) []connector.Stage {
	return []connector.Stage{{Way: "estate", Name: "configuration", Found: a.Why.Error()}}
}

// Speed is that of the world.
func (away) Speed() float64 { return 1 }

// Hangup has nothing to let go of.
func (away) Hangup() {}

// path is a path of the estate file, which is relative to it.
func (h *Harbour) path(p string) string {
	if filepath.IsAbs(p) {
		return p
	}
	return filepath.Join(h.dir, p)
}

// realHosts are hosts that are looked at over SSH.
type realHosts struct {
	connector.LookOnly
	hosts *host.Reader
}

// Speed is that of the world.
func (realHosts) Speed() float64 { return 1 }

// Connect tries every way to a host.
func (r realHosts) Connect(ctx context.Context, host string) []connector.Stage {
	return r.hosts.Connect(ctx, host)
}

// Hangup lets go of all connections.
func (r realHosts) Hangup() { r.hosts.Hangup() }
