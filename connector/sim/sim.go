// Package sim reaches the simulated estate: hosts through their own interface, BMCs through Redfish, as a real host is reached
// through its hypervisor and its BMC. It implements every capability that a round needs.
package sim

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/redfish"
	"yareharbour/core/estate"
	"yareharbour/sim"
)

// Connector reaches one simulated estate. It is safe for concurrent use.
type Connector struct {
	address sim.Address
	acts    func(host string) bool
	http    *http.Client

	mu    sync.Mutex
	bmcs  map[string]*redfish.Client
	now   time.Time // the estate's time when it was last heard
	heard time.Time
	speed float64
}

// bmcTask tells the tasks of a BMC from those of its host.
const bmcTask = "bmc:"

// Dial connects to the simulated estate whose address stands in dir. acts says on which hosts changes are allowed.
func Dial(ctx context.Context, dir string, acts func(host string) bool) (*Connector, error) {
	a, err := sim.ReadAddress(dir)
	if err != nil {
		return nil, fmt.Errorf("the simulated estate of %s %w: %w; start it with yare sim or yare demo", dir, connector.ErrUnreachable, err)
	}
	c := &Connector{address: a, acts: acts, bmcs: map[string]*redfish.Client{},
		http: &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 16}}}
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
	var reply sim.Reply
	body, err := json.Marshal(call)
	if err != nil {
		return reply, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+c.address.Host+"/"+name, bytes.NewReader(body))
	if err != nil {
		return reply, err
	}
	req.Header.Set("Authorization", "Bearer "+c.address.Secret)
	resp, err := c.http.Do(req)
	if err != nil {
		return reply, fmt.Errorf("%s: the simulated estate %w (%v)", name, connector.ErrUnreachable, err)
	}
	defer resp.Body.Close()
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
		return reply, fmt.Errorf("%s: %s: %w", name, call.Host, connector.ErrUnreachable)
	case reply.NoTask:
		return reply, connector.ErrNoTask
	case reply.Error != "":
		return reply, fmt.Errorf("%s %s: %s", name, call.Host, reply.Error)
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

// Sleep waits for d of the estate's time, and never spins.
func (c *Connector) Sleep(ctx context.Context, d time.Duration) error {
	real := time.Duration(float64(d) / max(c.Speed(), 0.001))
	return connector.Sleep(ctx, max(real, 2*time.Millisecond))
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
	b := redfish.New(host, redfish.Target{At: at, User: sim.User, Fingerprint: c.address.Fingerprint}, c.address.Secret)
	c.bmcs[host] = b
	return b, nil
}

func (c *Connector) allowed(doing, host string) error {
	if c.acts == nil || !c.acts(host) {
		return fmt.Errorf("%s on %s: %w; say \"act: true\" for it there to change that", doing, host, connector.ErrLookOnly)
	}
	return nil
}

// Stage puts a payload on the host.
func (c *Connector) Stage(ctx context.Context, host, file string, body []byte) (string, error) {
	if err := c.allowed("staging", host); err != nil {
		return "", err
	}
	r, err := c.call(ctx, "stage", sim.Call{Host: host, File: file, Body: body})
	return r.SHA256, err
}

// Staged returns the hash of a staged payload.
func (c *Connector) Staged(ctx context.Context, host, file string) (string, error) {
	r, err := c.call(ctx, "staged", sim.Call{Host: host, File: file})
	return r.SHA256, err
}

// Move begins a live migration. Both ends must be allowed.
func (c *Connector) Move(ctx context.Context, host, guest, to string) (string, error) {
	if err := errors.Join(c.allowed("moving a guest", host), c.allowed("moving a guest", to)); err != nil {
		return "", err
	}
	r, err := c.call(ctx, "move", sim.Call{Host: host, Guest: guest, To: to})
	return r.Task, err
}

// Close marks the host.
func (c *Connector) Close(ctx context.Context, host string, m estate.Mark) error {
	if err := c.allowed("closing", host); err != nil {
		return err
	}
	_, err := c.call(ctx, "close", sim.Call{Host: host, Mark: m})
	return err
}

// Open takes the round's mark away.
func (c *Connector) Open(ctx context.Context, host, round string) error {
	if err := c.allowed("opening", host); err != nil {
		return err
	}
	_, err := c.call(ctx, "open", sim.Call{Host: host, Round: round})
	return err
}

// Change changes a component: firmware through the BMC, everything else on the host.
func (c *Connector) Change(ctx context.Context, host string, item connector.Item) (string, error) {
	if err := c.allowed("changing "+string(item.Component), host); err != nil {
		return "", err
	}
	if item.Component.Layer() == estate.Firmware && item.File != "" {
		b, err := c.bmc(host)
		if err != nil {
			return "", err
		}
		id, err := b.Update(ctx, item.Component, item.Device, item.File, item.Body)
		return bmcTask + id, err
	}
	item.Body = nil
	r, err := c.call(ctx, "change", sim.Call{Host: host, Item: item})
	return r.Task, err
}

// Restart begins an orderly restart.
func (c *Connector) Restart(ctx context.Context, host, reason string) (string, error) {
	if err := c.allowed("restarting", host); err != nil {
		return "", err
	}
	r, err := c.call(ctx, "restart", sim.Call{Host: host, Reason: reason})
	return r.Task, err
}

// Task returns a task of the host or of its BMC.
func (c *Connector) Task(ctx context.Context, host, id string) (connector.Task, error) {
	if at, ok := strings.CutPrefix(id, bmcTask); ok {
		b, err := c.bmc(host)
		if err != nil {
			return connector.Task{}, err
		}
		t, err := b.Task(ctx, at)
		t.ID = id
		return t, err
	}
	r, err := c.call(ctx, "task", sim.Call{Host: host, ID: id})
	if err != nil {
		return connector.Task{}, err
	}
	return r.Tasks[0], nil
}

// Running returns what runs on the host and its BMC.
func (c *Connector) Running(ctx context.Context, host string) ([]connector.Task, error) {
	r, err := c.call(ctx, "running", sim.Call{Host: host})
	if err != nil {
		return nil, err
	}
	b, err := c.bmc(host)
	if err != nil {
		return nil, err
	}
	queue, err := b.Queue(ctx)
	for _, t := range queue {
		t.ID = bmcTask + t.ID
		r.Tasks = append(r.Tasks, t)
	}
	return r.Tasks, err
}
