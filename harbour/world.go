package harbour

import (
	"context"
	"fmt"
	"path/filepath"

	"yareharbour/connector"
	"yareharbour/connector/host"
	"yareharbour/connector/sim"
	"yareharbour/connector/ssh"
	"yareharbour/format/estatefile"
)

// World is the outside of an estate: its hosts, and its time.
type World interface {
	connector.World
	// Speed is how many seconds of the estate pass in one of ours.
	Speed() float64
	// Hangup lets go of all connections.
	Hangup()
}

// dial reaches the estate as its file says.
func (h *Harbour) dial(ctx context.Context) (World, error) {
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
	r := &host.Reader{SSH: d, Sudo: c.Sudo, BMCs: map[string]host.BMC{}}
	for _, b := range h.file.BMCs {
		r.BMCs[b.Host] = host.BMC{At: b.At, User: b.User, PasswordEnv: b.PasswordEnv(), Fingerprint: b.Fingerprint}
	}
	why := fmt.Errorf("%w, and this version can do no more over SSH", connector.ErrLookOnly)
	return realHosts{connector.LookOnly{Reader: r, Why: why}, r}, nil
}

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

// Hangup lets go of all connections.
func (r realHosts) Hangup() { r.hosts.Hangup() }
