// Package host reads real hosts: what the machine tells of itself over SSH, or here; its guests from its libvirt, through the same connection; its BMC over Redfish.
// Each of the three fails on its own. It only looks: whatever would change a host is refused.
package host

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/linux"
	"yareharbour/connector/redfish"
	"yareharbour/connector/ssh"
	"yareharbour/core/estate"
)

// Limit is how long one look at a host may take where the estate file says nothing else.
const Limit = 10 * time.Second

// bmcSections are those that only a BMC tells.
var bmcSections = []estate.SectionName{estate.HealthItems, estate.BMCState}

// BMC is how a host's BMC is reached.
type BMC struct {
	redfish.Target
	// Password fetches the secret when it is wanted.
	Password func(ctx context.Context) (string, error)
}

// Reader reads hosts. It is safe for concurrent use.
type Reader struct {
	SSH   *ssh.Dialer
	Sudo  bool           // look as root
	BMCs  map[string]BMC // by host
	Limit time.Duration  // of one look; 0: Limit
}

func (d *Reader) limit() time.Duration {
	if d.Limit > 0 {
		return d.Limit
	}
	return Limit
}

// Read reads the sections asked for, or all. The machine and its BMC are asked side by side.
func (d *Reader) Read(ctx context.Context, host string, sections ...estate.SectionName) (*estate.Reading, error) {
	if len(sections) == 0 {
		sections = estate.SectionNames
	}
	bounded, cancel := context.WithTimeout(ctx, d.limit())
	defer cancel()
	var machine, board *estate.Reading
	var wait sync.WaitGroup
	wait.Go(func() { machine = d.machine(bounded, host, sections) })
	wait.Go(func() { board = d.bmc(bounded, host, sections) })
	wait.Wait()
	r := join(machine, board)
	r.Sort()
	return r, ctx.Err()
}

// wanted are those of the sections that are also asked for.
func wanted(of, sections []estate.SectionName) (out []estate.SectionName) {
	for _, s := range of {
		if slices.Contains(sections, s) {
			out = append(out, s)
		}
	}
	return out
}

// machine reads a machine and its guests over SSH. One that does not let us in has none of its sections read.
func (d *Reader) machine(ctx context.Context, host string, sections []estate.SectionName) *estate.Reading {
	own, guests := wanted(linux.Sections, sections), slices.Contains(sections, estate.GuestList)
	if len(own) == 0 && !guests {
		return &estate.Reading{Host: host}
	}
	conn, err := d.SSH.Dial(ctx, host)
	if err != nil {
		return silent(host, err, append(own, wanted([]estate.SectionName{estate.GuestList}, sections)...))
	}
	defer conn.Close()
	there := &estate.Reading{}
	var wait sync.WaitGroup
	if guests {
		wait.Go(func() { there = readGuests(ctx, overSSH{conn, d.Sudo}) })
	}
	r := &estate.Reading{Host: host}
	if len(own) > 0 {
		if r, err = d.probe(ctx, conn, host, own); err != nil {
			r = silent(host, err, own)
		}
	}
	wait.Wait()
	if guests {
		adopt(r, there)
	}
	return r
}

func (d *Reader) probe(ctx context.Context, conn *ssh.Conn, host string, sections []estate.SectionName) (*estate.Reading, error) {
	answer, err := conn.Run(ctx, linux.Probe(d.limit()/4, sections...), d.Sudo)
	if err != nil {
		return nil, err
	}
	p, err := linux.ParseProbe(strings.NewReader(string(answer)))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", host, err)
	}
	return linux.Machine{Source: p, Name: host, From: "SSH", Now: time.Now}.Read(sections...), nil
}

// silent is the reading of a host whose machine could not be read.
func silent(host string, err error, sections []estate.SectionName) *estate.Reading {
	r := &estate.Reading{Host: host}
	for _, s := range sections {
		r.SetSection(estate.Section{Name: s, At: time.Now(), Source: "SSH", Err: err.Error()})
	}
	return r
}

// Here reads this machine, with its guests where it has a libvirt.
func Here(ctx context.Context) (*estate.Reading, error) {
	m, err := linux.Here()
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, Limit)
	defer cancel()
	r := m.Read()
	adopt(r, readGuests(ctx, onThisMachine{}))
	for _, s := range bmcSections {
		r.SetSection(estate.Section{Name: s, At: m.Now(), Source: "BMC", Err: "not asked from inside the machine"})
	}
	r.Sort()
	return r, nil
}

// adopt takes guests and networks into a machine's reading.
func adopt(r, guests *estate.Reading) {
	s := guests.Section(estate.GuestList)
	if r.SetSection(s); s.Err != "" {
		return
	}
	r.Guests = guests.Guests
	for _, n := range guests.Networks {
		if !slices.Contains(r.Networks, n) {
			r.Networks = append(r.Networks, n)
		}
	}
	slices.Sort(r.Networks)
	for i := range r.Guests {
		r.Components = append(r.Components, r.Guests[i].Components()...)
	}
}

var errNoBMC = errors.New("the estate file names no BMC for this host")

// bmc reads what a BMC tells: its own sections, and the firmware that only it knows. It logs in for this one look, and out again.
func (d *Reader) bmc(ctx context.Context, host string, sections []estate.SectionName) *estate.Reading {
	r := &estate.Reading{Host: host}
	names := wanted(append(slices.Clone(bmcSections), estate.FirmwareItems), sections)
	if len(names) == 0 {
		return r
	}
	if until, ok := ctx.Deadline(); ok && time.Until(until) > 2*redfish.Goodbye {
		var cancel func()
		ctx, cancel = context.WithDeadline(ctx, until.Add(-redfish.Goodbye))
		defer cancel()
	}
	client, err := d.client(ctx, host)
	if client != nil {
		defer client.Close()
	}
	for _, name := range names {
		failed := err
		s := estate.Section{Name: name, Source: "Redfish"}
		if errors.Is(err, errNoBMC) && name == estate.FirmwareItems {
			continue // the machine's own word stands alone
		}
		if failed == nil {
			s.Partial, failed = client.ReadSection(ctx, name, r)
		}
		if s.At = time.Now(); failed != nil {
			s.Err, s.Partial = failed.Error(), ""
		}
		r.SetSection(s)
	}
	return r
}

func (d *Reader) client(ctx context.Context, host string) (*redfish.Client, error) {
	b, ok := d.BMCs[host]
	if !ok {
		return nil, errNoBMC
	}
	secret, err := b.Password(ctx)
	if err != nil {
		return nil, fmt.Errorf("the password of the BMC of %s: %w", host, err)
	}
	return redfish.New(host, b.Target, secret), nil
}

// join makes one reading of what the machine and its BMC told. Firmware comes from both; where one of them fails, what the other told stands, and the section says what is missing.
func join(machine, board *estate.Reading) *estate.Reading {
	r := machine
	r.Components = append(r.Components, board.Components...)
	r.Health, r.BMC = board.Health, board.BMC
	if board.Hardware.Model != "" {
		r.Hardware = board.Hardware
	}
	for _, s := range board.Sections {
		own := r.Section(s.Name)
		if s.Name != estate.FirmwareItems || own.Source == "" {
			r.SetSection(s)
			continue
		}
		both := estate.Section{Name: s.Name, At: own.At, Source: own.Source + " and " + s.Source, Partial: strings.Trim(own.Partial+"; "+s.Partial, "; ")}
		if s.At.Before(own.At) { // the section is as old as the older half
			both.At = s.At
		}
		switch {
		case own.Err != "" && s.Err != "":
			both.Err, both.Partial = own.Err+"; "+s.Err, ""
		case own.Err != "":
			both.Partial = strings.Trim("the machine: "+own.Err+"; "+both.Partial, "; ")
		case s.Err != "":
			both.Partial = strings.Trim("the BMC: "+s.Err+"; "+both.Partial, "; ")
		}
		r.SetSection(both)
	}
	if s := r.Section(estate.FirmwareItems); s.Source != "" && board.Section(estate.FirmwareItems).Source == "" {
		s.Source += " (no BMC is named)"
		r.SetSection(s)
	}
	return r
}

// Hangup lets go of all connections; each look has ended its own.
func (d *Reader) Hangup() {}

var _ connector.Reader = (*Reader)(nil)
