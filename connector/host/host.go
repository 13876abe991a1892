// Package host reaches real hosts: the machine over SSH, its guests by its libvirt, through the same connection, and
// its BMC over Redfish. Each of the three fails on its own. Orders go through a small program on the host, the wrapper,
// which refuses those of older leases and those that it has had.
package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/libvirt"
	"yareharbour/connector/linux"
	"yareharbour/connector/redfish"
	"yareharbour/connector/ssh"
	"yareharbour/core/act"
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

// Connector reaches hosts. It is safe for concurrent use.
type Connector struct {
	SSH   *ssh.Dialer
	Sudo  bool           // look as root
	BMCs  map[string]BMC // by host
	Limit time.Duration  // of one look; 0: Limit
	// Migration says how guests move between the hosts.
	Migration libvirt.Migration
	// Trusted is the fingerprint of a BMC's certificate that is trusted instead of the pinned one; "" for none. It may be
	// nil.
	Trusted func(host, pinned string) string
}

func (d *Connector) limit() time.Duration {
	if d.Limit > 0 {
		return d.Limit
	}
	return Limit
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
func (s *session) machine(ctx context.Context, sections []estate.SectionName) *estate.Reading {
	own, guests := wanted(linux.Sections, sections), slices.Contains(sections, estate.GuestList)
	if len(own) == 0 && !guests {
		return &estate.Reading{Host: s.host}
	}
	conn, err := s.dialled(ctx)
	if err != nil {
		return silent(s.host, err, append(own, wanted([]estate.SectionName{estate.GuestList}, sections)...))
	}
	there := &estate.Reading{}
	var wait sync.WaitGroup
	if guests {
		wait.Go(func() { there = readGuests(ctx, overSSH{conn, s.by.Sudo}, &s.meter) })
	}
	r := &estate.Reading{Host: s.host}
	if len(own) > 0 {
		if r, err = s.by.probe(ctx, conn, s.host, own); err != nil {
			r = silent(s.host, err, own)
		}
	}
	wait.Wait()
	if guests {
		adopt(r, there)
	}
	return r
}

// probeAsRoot runs the probe that is on the host, where it is the one that belongs there, and else the one that comes
// over standard input. A login that may only have the former run as root needs it to be there.
const probeAsRoot = `f=$1 sum=$2 n=$3; shift 3
[ "$(sha256sum <"$f" 2>/dev/null)" = "$sum  -" ] && exec sudo -n "$f" within "$n" "$@"
exec sudo -n timeout -k 1 "$n" sh -s -- "$@"`

func (d *Connector) probe(ctx context.Context, conn *ssh.Conn, host string,
	sections []estate.SectionName) (*estate.Reading, error) {
	p, err := d.probed(ctx, conn, host, linux.ProbeWords(0, d.limit()/4, sections...)...)
	if err != nil {
		return nil, err
	}
	return linux.Machine{Source: p, Name: host, From: "SSH", Now: time.Now}.Read(ctx, sections...), nil
}

// logs are the ends of the logs on a host.
func (d *Connector) logs(ctx context.Context, conn *ssh.Conn, host string) ([]act.Log, error) {
	p, err := d.probed(ctx, conn, host, strconv.Itoa(max(1, int(d.limit()/4/time.Second))), linux.LogWord)
	if err != nil {
		return nil, err
	}
	return p.Logs(), nil
}

// probed runs the probe on a host with these words.
func (d *Connector) probed(ctx context.Context, conn *ssh.Conn, host string, words ...string) (*linux.Probed, error) {
	var answer []byte
	var err error
	if d.Sudo {
		answer, err = conn.Told(ctx, "sh -c "+ssh.Words(append([]string{probeAsRoot, "probe", linux.ProbePath,
			linux.ProbeSum(), strconv.Itoa(ssh.Seconds(ctx))}, words...)...), strings.NewReader(linux.Probe))
	} else {
		answer, err = conn.Run(ctx, linux.Probe, false, words...)
	}
	if errors.Is(err, ssh.ErrSudo) {
		return nil, fmt.Errorf("%w; either let the login become root without a password, or put the probe there and let "+
			"it run that (docs/security.md)", err)
	}
	if err != nil {
		return nil, err
	}
	p, err := linux.ParseProbe(ctx, bytes.NewReader(answer))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", host, err)
	}
	return p, nil
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
	r := m.Read(ctx)
	adopt(r, readGuests(ctx, onThisMachine{}, &libvirt.Meter{}))
	for _, s := range bmcSections {
		r.SetSection(estate.Section{Name: s, At: m.Now(), Source: "BMC", Err: "not asked from inside the machine"})
	}
	r.Sort()
	return r, nil
}

// adopt takes guests, and what they are offered, into a machine's reading.
func adopt(r, guests *estate.Reading) {
	s := guests.Section(estate.GuestList)
	if r.SetSection(s); s.Err != "" {
		return
	}
	r.Guests, r.Offer = guests.Guests, guests.Offer
	for i := range r.Guests {
		r.Components = append(r.Components, r.Guests[i].Components()...)
	}
}

var errNoBMC = errors.New("the estate file names no BMC for this host")

// bmc reads what a BMC tells: its own sections, and the firmware that only it knows. It logs in for this one look, and
// out again.
func (d *Connector) bmc(ctx context.Context, host string, sections []estate.SectionName) *estate.Reading {
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
		r.BMC.None = r.BMC.None || errors.Is(err, errNoBMC)
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

func (d *Connector) client(ctx context.Context, host string) (*redfish.Client, error) {
	b, ok := d.BMCs[host]
	if !ok {
		return nil, errNoBMC
	}
	secret, err := b.Password(ctx)
	if err != nil {
		return nil, fmt.Errorf("the password of the BMC of %s: %w", host, err)
	}
	return redfish.New(host, d.target(host, b), secret), nil
}

// target is the BMC of a host, with what is trusted of it since.
func (d *Connector) target(host string, b BMC) redfish.Target {
	to := b.Target
	if d.Trusted != nil {
		to.Again = func() string { return d.Trusted(host, b.Fingerprint) }
	}
	return to
}

// Certificate asks the BMC for the certificate that it shows, and the host, which has a way of its own to its BMC, what it
// sees there.
func (s *session) Certificate(ctx context.Context) (c connector.Certificate, err error) {
	b, ok := s.by.BMCs[s.host]
	if !ok {
		return c, errNoBMC
	}
	ctx, cancel := context.WithTimeout(ctx, orderLimit)
	defer cancel()
	if c.Shown, err = redfish.Shown(ctx, b.At, (&net.Dialer{}).DialContext); err != nil {
		return c, fmt.Errorf("the BMC of %s: %w", s.host, err)
	}
	c.Pinned = b.Fingerprint
	c.Known = s.by.target(s.host, b).Knows(ctx) == nil
	if c.Inside, err = s.inside(ctx); err != nil {
		c.Unseen = err.Error()
	}
	return c, nil
}

// inside is the fingerprint that the host sees at the Redfish host interface that its firmware tells of.
func (s *session) inside(ctx context.Context) (string, error) {
	var out ssh.Answer
	if err := s.wrapper(ctx, nil, &out, "boards"); err != nil {
		return "", err
	}
	at := strings.Fields(out.String())
	if len(at) < 2 {
		return "", errors.New("its firmware tells of no way of its own to its BMC")
	}
	conn, err := s.dialled(ctx)
	if err != nil {
		return "", err
	}
	return redfish.Shown(ctx, net.JoinHostPort(at[0], at[1]), conn.TCP)
}

// join makes one reading of what the machine and its BMC told. Firmware comes from both; where one of them fails, what
// the other told stands, and the section says what is missing.
func join(machine, board *estate.Reading) *estate.Reading {
	r := machine
	r.Components = append(r.Components, board.Components...)
	r.Health, r.BMC, r.Board = board.Health, board.BMC, board.Board
	if board.Hardware.Model != "" {
		r.Hardware = board.Hardware
	}
	for _, s := range board.Sections {
		own := r.Section(s.Name)
		if s.Name != estate.FirmwareItems || own.Source == "" {
			r.SetSection(s)
			continue
		}
		both := estate.Section{Name: s.Name, At: own.At, Source: own.Source + " and " + s.Source,
			Partial: strings.Trim(own.Partial+"; "+s.Partial, "; ")}
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
