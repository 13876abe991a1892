// Package host reads real hosts: what the machine tells of itself over SSH, or here; its guests from its libvirt, through the same connection; its BMC over Redfish.
// Each of the three fails on its own. It only looks: whatever would change a host is refused.
package host

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/libvirt"
	"yareharbour/connector/linux"
	"yareharbour/connector/redfish"
	"yareharbour/connector/ssh"
	"yareharbour/core/estate"
)

// Patience is how long reading one host may take.
const Patience = time.Minute

// bmcSections are those that only a BMC tells.
var bmcSections = []estate.SectionName{estate.HealthItems, estate.BMCState}

// BMC is how a host's BMC is reached. The password stands in an environment variable, never in a file of ours.
type BMC struct {
	At          string // name:port
	User        string
	PasswordEnv string
	Fingerprint string // SHA-256 of its certificate, in hex
}

// Reader reads hosts. It is safe for concurrent use.
type Reader struct {
	SSH  *ssh.Dialer
	Sudo bool           // look as root
	BMCs map[string]BMC // by host

	mu      sync.Mutex
	clients map[string]*redfish.Client
}

// Read reads the sections asked for, or all.
func (d *Reader) Read(ctx context.Context, host string, sections ...estate.SectionName) (*estate.Reading, error) {
	if len(sections) == 0 {
		sections = estate.SectionNames
	}
	bounded, cancel := context.WithTimeout(ctx, Patience)
	defer cancel()
	r := &estate.Reading{Host: host}
	if slices.ContainsFunc(sections, func(s estate.SectionName) bool { return !slices.Contains(bmcSections, s) }) {
		r = d.machine(bounded, host)
	}
	d.bmc(bounded, host, r, sections)
	r.Sections = slices.DeleteFunc(r.Sections, func(s estate.Section) bool { return !slices.Contains(sections, s.Name) })
	r.Sort()
	return r, ctx.Err()
}

// machine reads a machine and its guests over SSH. One that does not let us in has none of its sections read.
func (d *Reader) machine(ctx context.Context, host string) *estate.Reading {
	conn, err := d.SSH.Dial(ctx, host)
	if err != nil {
		return silent(host, err)
	}
	defer conn.Close()
	var guests *estate.Reading
	var wait sync.WaitGroup
	wait.Go(func() { guests = readGuests(ctx, "SSH, ", conn.Unix) })
	r, err := d.probe(ctx, conn, host)
	wait.Wait()
	if err != nil {
		r = silent(host, err)
	}
	adopt(r, guests)
	return r
}

func (d *Reader) probe(ctx context.Context, conn *ssh.Conn, host string) (*estate.Reading, error) {
	answer, err := conn.Run(ctx, linux.Probe, d.Sudo)
	if err != nil {
		return nil, err
	}
	p, err := linux.ParseProbe(strings.NewReader(string(answer)))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", host, err)
	}
	return linux.Machine{Source: p, Name: host, From: "SSH", Now: time.Now}.Read(), nil
}

// silent is the reading of a host whose machine could not be read.
func silent(host string, err error) *estate.Reading {
	r := &estate.Reading{Host: host}
	for _, s := range append(slices.Clone(linux.Sections), estate.GuestList) {
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
	r := m.Read()
	adopt(r, readGuests(ctx, "", func(ctx context.Context, path string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, "unix", path)
	}))
	for _, s := range bmcSections {
		r.SetSection(estate.Section{Name: s, At: m.Now(), Source: "BMC", Err: "not asked from inside the machine"})
	}
	r.Sort()
	return r, nil
}

// readGuests reads guests through the first of libvirt's sockets that lets us in. What it returns holds guests, networks and the section of the guests.
func readGuests(ctx context.Context, from string, dial func(ctx context.Context, path string) (net.Conn, error)) *estate.Reading {
	r := &estate.Reading{}
	section := estate.Section{Name: estate.GuestList, Source: from + "libvirt"}
	err := errors.New("it has no libvirt: none of " + strings.Join(libvirt.Sockets, ", ") + " is there, or may be used")
	for _, path := range libvirt.Sockets {
		conn, dialled := dial(ctx, path)
		if dialled != nil {
			continue
		}
		section.Source = from + path
		if err = guestsAt(ctx, conn, r); err == nil {
			break
		}
	}
	if section.At = time.Now(); err != nil {
		section.Err = err.Error()
		if ctx.Err() != nil {
			section.Err = "libvirt does not answer in time"
		}
	}
	r.SetSection(section)
	return r
}

func guestsAt(ctx context.Context, conn net.Conn, r *estate.Reading) error {
	h, err := libvirt.Connect(ctx, conn, libvirt.URI)
	if err != nil {
		return err
	}
	defer h.Close()
	if r.Guests, err = h.Guests(ctx); err != nil {
		return err
	}
	r.Networks, err = h.Networks()
	return err
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

// bmc reads what a BMC tells into the reading: its own sections, and the firmware that only it knows beside what the machine told.
func (d *Reader) bmc(ctx context.Context, host string, r *estate.Reading, sections []estate.SectionName) {
	client, err := d.client(host)
	for _, name := range append(slices.Clone(bmcSections), estate.FirmwareItems) {
		if !slices.Contains(sections, name) {
			continue
		}
		if name == estate.FirmwareItems && errors.Is(err, errNoBMC) {
			s := r.Section(name) // the machine's own word stands alone
			s.Source += " (no BMC is named)"
			r.SetSection(s)
			continue
		}
		failed := err
		if failed == nil {
			failed = client.ReadSection(ctx, name, r)
		}
		s := estate.Section{Name: name, At: time.Now(), Source: "Redfish"}
		if own := r.Section(name); name == estate.FirmwareItems && own.Source != "" {
			s.Source = own.Source + " and Redfish"
		}
		if failed != nil {
			s.Err = failed.Error()
		}
		r.SetSection(s)
	}
}

var errNoBMC = errors.New("the estate file names no BMC for this host")

func (d *Reader) client(host string) (*redfish.Client, error) {
	b, ok := d.BMCs[host]
	if !ok {
		return nil, errNoBMC
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if c := d.clients[host]; c != nil {
		return c, nil
	}
	password, ok := os.LookupEnv(b.PasswordEnv)
	if !ok {
		return nil, fmt.Errorf("the password of the BMC of %s should be in the environment as %s, and is not", host, b.PasswordEnv)
	}
	if d.clients == nil {
		d.clients = map[string]*redfish.Client{}
	}
	c := redfish.New(host, b.At, b.Fingerprint, b.User, password)
	d.clients[host] = c
	return c, nil
}

// Hangup lets go of all connections.
func (d *Reader) Hangup() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range d.clients {
		c.Close()
	}
}

var _ connector.Reader = (*Reader)(nil)
