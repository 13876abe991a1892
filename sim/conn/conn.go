// Package conn reaches the simulated estate: hosts through their own interface, BMCs through Redfish, as a real host is
// reached through its hypervisor and its BMC. It implements every capability that a round needs.
package conn

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sync"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/redfish"
	"yareharbour/core/estate"
	"yareharbour/sim"
)

// Connector reaches one simulated estate. It is safe for concurrent use.
type Connector struct {
	// Trusted is the fingerprint of a BMC's certificate that is trusted instead of the pinned one; "" for none. It may be
	// nil.
	Trusted func(host, pinned string) string

	dir  string
	http *http.Client

	mu      sync.Mutex
	address sim.Address // as it was last read
	bmcs    map[string]*redfish.Client
	order   []string  // of bmcs, the longest known first
	now     time.Time // the estate's time when it was last heard
	heard   time.Time
	speed   float64
}

// dialled is how long the simulated estate may take to tell the time: what takes longer hangs.
const dialled = 10 * time.Second

// Dial connects to the simulated estate whose address stands in dir.
func Dial(ctx context.Context, dir string) (*Connector, error) {
	a, err := sim.ReadAddress(dir)
	if err != nil {
		return nil, fmt.Errorf("the simulated estate of %s %w: %w; start it with yare sim or yare demo", dir,
			connector.ErrUnreachable, err)
	}
	c := &Connector{dir: dir, address: a, bmcs: map[string]*redfish.Client{},
		http: &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 16}}}
	ctx, cancel := context.WithTimeout(ctx, dialled)
	defer cancel()
	if _, err := c.call(ctx, "clock", sim.Call{}); err != nil {
		return nil, fmt.Errorf("%w; start it with yare sim or yare demo", err)
	}
	return c, nil
}

// Hangup lets go of all connections.
func (c *Connector) Hangup() {
	c.http.CloseIdleConnections()
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, b := range c.bmcs {
		b.Close()
	}
}

func (c *Connector) call(ctx context.Context, name string, call sim.Call) (sim.Reply, error) {
	body, err := json.Marshal(call)
	if err != nil {
		return sim.Reply{}, err
	}
	return c.post(ctx, name, call.Host, nil, bytes.NewReader(body), int64(len(body)))
}

// at is where the estate was last found.
func (c *Connector) at() sim.Address {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.address
}

// moved looks for the estate anew where it does not answer as it did: one that was started again has other ports and
// another secret. It tells whether it was found elsewhere; the next call goes there.
func (c *Connector) moved(was sim.Address) bool {
	a, err := sim.ReadAddress(c.dir)
	if err != nil || a.Host == was.Host && a.Secret == was.Secret {
		return false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, b := range c.bmcs {
		go b.Close() // its goodbye goes to nobody
	}
	c.address, c.bmcs, c.order = a, map[string]*redfish.Client{}, nil
	return true
}

// post sends one call and takes the answer apart. An answer that does not come, or not whole, is none.
func (c *Connector) post(ctx context.Context, name, host string, header http.Header, body io.Reader,
	size int64) (reply sim.Reply, err error) {
	at := c.at()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+at.Host+"/"+name, body)
	if err != nil {
		return reply, err
	}
	req.ContentLength = size
	for k, v := range header {
		req.Header[k] = v
	}
	req.Header.Set("Authorization", "Bearer "+at.Secret)
	resp, err := c.http.Do(req)
	if err != nil {
		c.moved(at)
		return reply, fmt.Errorf("%s: the simulated estate %w (%v)", name, connector.ErrUnreachable, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusUnauthorized && c.moved(at) {
		return reply, fmt.Errorf("%s: the simulated estate was started again, and %w here any more", name,
			connector.ErrUnreachable)
	}
	if resp.StatusCode != http.StatusOK {
		b, _ := io.ReadAll(io.LimitReader(resp.Body, 512))
		return reply, fmt.Errorf("%s: the simulated estate answers %s: %s", name, resp.Status, bytes.TrimSpace(b))
	}
	if err := json.NewDecoder(resp.Body).Decode(&reply); err != nil {
		return reply, fmt.Errorf("%s: the simulated estate %w (%v)", name, connector.ErrUnreachable, err)
	}
	c.hear(reply)
	switch {
	case reply.Silent:
		return reply, fmt.Errorf("%s: %s: %w", name, host, connector.ErrUnreachable)
	case reply.Stale:
		return reply, fmt.Errorf("%s: %w (%s)", host, connector.ErrStale, reply.Error)
	case reply.Known:
		return reply, fmt.Errorf("%s: %w (%s)", host, connector.ErrKnown, reply.Error)
	case reply.Error != "":
		return reply, fmt.Errorf("%s %s: %s", name, host, reply.Error)
	}
	return reply, nil
}

// hear sets the clock by the answer.
func (c *Connector) hear(r sim.Reply) {
	now, err := time.Parse(time.RFC3339Nano, r.Now)
	if err != nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now, c.heard, c.speed = now, time.Now(), r.Speed
}

// Now is the estate's time.
func (c *Connector) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now.Add(time.Duration(float64(time.Since(c.heard)) * c.speed))
}

// Lasted goes by the estate's time, which nobody can set.
func (c *Connector) Lasted() time.Duration { return time.Duration(c.Now().UnixNano()) }

// Speed is how many seconds of the estate pass in one of ours.
func (c *Connector) Speed() float64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.speed
}

// SetSpeed changes it.
func (c *Connector) SetSpeed(ctx context.Context, speed float64) error {
	_, err := c.call(ctx, "clock", sim.Call{Speed: speed})
	return err
}

// Estate returns what there is.
func (c *Connector) Estate(ctx context.Context) (estate.Estate, error) {
	r, err := c.call(ctx, "estate", sim.Call{})
	if err != nil {
		return estate.Estate{}, err
	}
	return *r.Estate, nil
}

// World returns the whole simulated world, for tests and for the demo's own account.
func (c *Connector) World(ctx context.Context) (*sim.World, error) {
	r, err := c.call(ctx, "world", sim.Call{})
	return r.World, err
}

// Stop asks the simulation to save its world and end.
func (c *Connector) Stop(ctx context.Context) error {
	_, err := c.call(ctx, "stop", sim.Call{})
	return err
}

// Order orders a fault.
func (c *Connector) Order(ctx context.Context, f sim.Fault) error {
	_, err := c.call(ctx, "fault", sim.Call{Fault: f})
	return err
}

// kept is how many BMCs a connector stays connected with.
const kept = 64

// target is the BMC of a host.
func (c *Connector) target(host, at string) redfish.Target {
	to := redfish.Target{At: at, User: sim.User, Fingerprint: c.address.Fingerprint}
	if c.Trusted != nil {
		to.Again = func() string { return c.Trusted(host, to.Fingerprint) }
	}
	return to
}

func (c *Connector) bmc(host string) (*redfish.Client, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if b, ok := c.bmcs[host]; ok {
		return b, nil
	}
	at, ok := c.address.BMC[host]
	if !ok {
		return nil, fmt.Errorf("%s has no BMC", host)
	}
	b := redfish.New(host, c.target(host, at), c.address.Secret)
	c.bmcs[host] = b
	c.order = append(c.order, host)
	if len(c.order) > kept { // a client that is let go and still asked logs in anew
		old := c.bmcs[c.order[0]]
		delete(c.bmcs, c.order[0])
		c.order = c.order[1:]
		go old.Close()
	}
	return b, nil
}
