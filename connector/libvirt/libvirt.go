// Package libvirt reads guests through libvirt's remote protocol: their state, what they are granted and use, the
// networks and devices that tie them to a host, their machine type and, where it may be asked, their agent. It moves
// them to other hosts when it is told to, and changes nothing else.
package libvirt

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"github.com/digitalocean/go-libvirt"
	"github.com/digitalocean/go-libvirt/socket/dialers"

	"yareharbour/core/estate"
	"yareharbour/format/bounds"
)

// Sockets are where libvirt's daemons listen on a host, the best first: the one daemon of old and the one for QEMU
// alone, each with and without the right to change things. That right is wanted for one thing only: to ask guests'
// agents for their version.
var Sockets = []string{"/run/libvirt/virtqemud-sock", "/run/libvirt/libvirt-sock", "/run/libvirt/virtqemud-sock-ro",
	"/run/libvirt/libvirt-sock-ro"}

// Writable is how many of them, at the front, give the right to change things.
const Writable = 2

// URI names the driver that is asked.
const URI = "qemu:///system"

// The use of CPU is measured over at least sample, and at most stale.
const (
	sample = 400 * time.Millisecond
	stale  = 2 * time.Minute
)

// Meter remembers what guests had of CPU when they were last looked at, so that the next look need not wait to measure
// what they use. The zero value is ready.
type Meter struct {
	mu    sync.Mutex
	at    time.Time
	times map[libvirt.UUID]uint64 // in nanoseconds
}

// swap puts in what was measured now, and returns what was before it.
func (m *Meter) swap(at time.Time, times map[libvirt.UUID]uint64) (time.Time, map[libvirt.UUID]uint64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	a, t := m.at, m.times
	m.at, m.times = at, times
	return a, t
}

// agentPatience is how long a guest's agent may take to answer, in seconds.
const agentPatience = 3

// maxAnswers is the most that is read from one libvirt in one look, in bytes.
const maxAnswers = 64 << 20

// measured is a connection that ends when more comes than is taken.
type measured struct {
	net.Conn
	left int
}

func (m *measured) Read(b []byte) (int, error) {
	if m.left <= 0 {
		return 0, fmt.Errorf("libvirt answers with more than %d MiB", maxAnswers>>20)
	}
	n, err := m.Conn.Read(b[:min(len(b), m.left)])
	m.left -= n
	return n, err
}

// Host is a host's libvirt, connected.
type Host struct {
	l    *libvirt.Libvirt
	conn net.Conn
}

// Connect speaks to the libvirt at the other end of conn, which is closed where the context ends before it has
// answered. From then on Drop ends the connection.
func Connect(ctx context.Context, conn net.Conn, uri string) (*Host, error) {
	conn = &measured{conn, maxAnswers}
	h := &Host{l: libvirt.NewWithDialer(dialers.NewAlreadyConnected(conn)), conn: conn}
	stop := context.AfterFunc(ctx, h.Drop) // a call to a host that fell silent would wait for ever
	defer stop()
	if err := h.l.ConnectToURI(libvirt.ConnectURI(uri)); err != nil {
		h.Drop()
		return nil, fmt.Errorf("libvirt: %w", err)
	}
	return h, nil
}

// Drop ends the connection without a goodbye: whatever waits for an answer fails.
func (h *Host) Drop() { h.conn.Close() }

// Close ends the connection.
func (h *Host) Close() {
	_ = h.l.Disconnect() // nothing was changed, and nothing is lost if the goodbye is
	h.conn.Close()
}

// Guests returns every guest of the host, whether it runs or not. The meter is the host's own.
func (h *Host) Guests(ctx context.Context, m *Meter) ([]estate.Guest, error) {
	domains, _, err := h.l.ConnectListAllDomains(1, libvirt.ConnectListDomainsActive|libvirt.ConnectListDomainsInactive)
	if err != nil {
		return nil, fmt.Errorf("listing guests: %w", err)
	}
	used, err := h.used(ctx, m)
	if err != nil {
		return nil, err
	}
	var out []estate.Guest
	for _, d := range domains {
		g, err := h.guest(d)
		if libvirt.IsNotFound(err) { // it left between the list and the look
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("reading guest %s: %w", d.Name, err)
		}
		if g.State == estate.Running {
			g.Load.CPU = used[d.UUID]
		}
		out = append(out, g)
	}
	return out, ctx.Err()
}

// Running returns the names of the guests that hold memory there, without looking into any.
func (h *Host) Running() (out []string, err error) {
	domains, _, err := h.l.ConnectListAllDomains(1, libvirt.ConnectListDomainsActive)
	if err != nil {
		return nil, fmt.Errorf("listing guests: %w", err)
	}
	for _, d := range domains {
		out = append(out, d.Name)
	}
	return out, nil
}

func (h *Host) guest(d libvirt.Domain) (estate.Guest, error) {
	state, _, _, _, _, err := h.l.DomainGetInfo(d)
	if err != nil {
		return estate.Guest{}, err
	}
	text, err := h.l.DomainGetXMLDesc(d, 0)
	if err != nil {
		return estate.Guest{}, err
	}
	x, err := describe(text)
	if err != nil {
		return estate.Guest{}, err
	}
	g := x.guest()
	g.Features = x.needs()
	g.State = stateOf(libvirt.DomainState(state))
	if g.Snapshots, err = h.snapshots(d, x); err != nil {
		return estate.Guest{}, err
	}
	if g.Holds() {
		pins, err := h.pins(d)
		if err != nil {
			return estate.Guest{}, err
		}
		g.Pins = append(g.Pins, pins...)
	}
	if g.State == estate.Off {
		if g.Saved, err = h.saved(d); err != nil {
			return estate.Guest{}, err
		}
	}
	if g.State == estate.Running && x.agent() == "connected" {
		g.Agent = h.agent(d)
	}
	return g, nil
}

func stateOf(s libvirt.DomainState) estate.GuestState {
	switch s {
	case libvirt.DomainShutoff:
		return estate.Off
	case libvirt.DomainCrashed:
		return estate.Crashed
	case libvirt.DomainPaused, libvirt.DomainPmsuspended: // both hold their memory
		return estate.Suspended
	}
	return estate.Running // also one that is blocked or on its way down
}

// agentName is what the agent is called whose channel libvirt speaks through.
const agentName = "qemu-guest-agent"

// agent asks the guest's agent for its version. One that can't be asked is there all the same, and its version not
// known.
func (h *Host) agent(d libvirt.Domain) estate.Inner {
	out := estate.Inner{Name: agentName}
	answer, err := h.l.QEMUDomainAgentCommand(d, `{"execute":"guest-info"}`, agentPatience, 0)
	var info struct{ Return struct{ Version string } }
	switch {
	case err != nil:
		out.Unread = "its agent can't be asked: " + err.Error()
	case len(answer) == 0 || bounds.Unmarshal([]byte(answer[0]), &info, bounds.Usual) != nil || info.Return.Version == "":
		out.Unread = "its agent answers without a version"
	default:
		out.Version = info.Return.Version
	}
	return out
}

// used measures what each running guest uses of CPU, in thousandths of a core: since the last look, or, where there was
// none of late, over a short while.
func (h *Host) used(ctx context.Context, m *Meter) (map[libvirt.UUID]int64, error) {
	at := time.Now()
	now, err := h.cpuTime()
	if err != nil || len(now) == 0 {
		return nil, err
	}
	before, first := m.swap(at, now)
	for id := range now { // a guest that came since is measured anew, with all others
		if _, known := first[id]; !known {
			before = time.Time{}
		}
	}
	if age := at.Sub(before); age < sample || age > stale {
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(sample):
		}
		before, first, at = at, now, time.Now()
		if now, err = h.cpuTime(); err != nil {
			return nil, err
		}
		m.swap(at, now)
	}
	out := map[libvirt.UUID]int64{}
	for id, t := range now {
		if was, ok := first[id]; ok && t > was {
			out[id] = int64(t-was) * 1000 / at.Sub(before).Nanoseconds()
		}
	}
	return out, nil
}

// cpuTime is the CPU time that each running guest has had, in nanoseconds.
func (h *Host) cpuTime() (map[libvirt.UUID]uint64, error) {
	stats, err := h.l.ConnectGetAllDomainStats(nil, uint32(libvirt.DomainStatsCPUTotal),
		uint32(libvirt.ConnectGetAllDomainsStatsRunning))
	if unsupported(err) { // by drivers that run no guests of their own
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading what guests use: %w", err)
	}
	out := map[libvirt.UUID]uint64{}
	for _, s := range stats {
		for _, p := range s.Params {
			if v, ok := p.Value.I.(uint64); ok && p.Field == "cpu.time" {
				out[s.Dom.UUID] = v
			}
		}
	}
	return out, nil
}

// Networks returns the names of libvirt's own networks that are up, beside the host's bridges.
func (h *Host) Networks() ([]string, error) {
	nets, _, err := h.l.ConnectListAllNetworks(1, libvirt.ConnectListNetworksActive)
	if unsupported(err) { // a host without the network driver
		return nil, nil
	}
	var out []string
	for _, n := range nets {
		out = append(out, n.Name)
	}
	return out, err
}

// Offer is what guests find there: networks, types of machine, and models of CPU. needs are filled in with those of
// them that each guest needs, as far as its host says that it has them: a host that says nothing of what it runs says
// nothing of what others lack.
func (h *Host) Offer(guests []estate.Guest) (o estate.Offer, err error) {
	if o.Networks, err = h.Networks(); err != nil {
		return o, err
	}
	text, err := h.l.ConnectGetCapabilities()
	if unsupported(err) {
		return o, nil
	}
	if err != nil {
		return o, err
	}
	if o.Features, err = machines(text); err != nil {
		return o, err
	}
	for _, kind := range []string{"kvm", "qemu"} {
		text, err := h.l.ConnectGetDomainCapabilities(nil, nil, nil, libvirt.OptString{kind}, 0)
		if err != nil {
			continue // it has no such kind of guest, or is older than the question
		}
		models, err := models(kind, text)
		if err != nil {
			return o, err
		}
		o.Features = append(o.Features, models...)
	}
	slices.Sort(o.Features)
	o.Features = slices.Compact(o.Features)
	for i := range guests {
		guests[i].Features = slices.DeleteFunc(guests[i].Features, func(f string) bool {
			return !slices.Contains(o.Features, f)
		})
	}
	return o, nil
}

func unsupported(err error) bool {
	var said libvirt.Error
	return errors.As(err, &said) && libvirt.ErrorNumber(said.Code) == libvirt.ErrNoSupport
}
