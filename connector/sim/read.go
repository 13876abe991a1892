package sim

import (
	"context"
	"errors"
	"slices"

	"yareharbour/connector"
	"yareharbour/core/estate"
	"yareharbour/sim"
)

// sources of the two halves of a reading, as its sections name them.
const (
	fromHost = "host interface"
	fromBMC  = "Redfish"
)

var bmcSections = []estate.SectionName{estate.FirmwareItems, estate.HealthItems, estate.BMCState}

// Read reads the sections asked for, or all. The host and its BMC fail on their own: each section says what became of it.
func (c *Connector) Read(ctx context.Context, host string, sections ...estate.SectionName) (*estate.Reading, error) {
	if len(sections) == 0 {
		sections = estate.SectionNames
	}
	r, err := c.readHost(ctx, host)
	if err != nil {
		return nil, err
	}
	r.Sections = slices.DeleteFunc(r.Sections, func(s estate.Section) bool { return !slices.Contains(sections, s.Name) })
	b, err := c.bmc(host)
	for _, name := range bmcSections {
		if !slices.Contains(sections, name) {
			continue
		}
		failed := err
		s := estate.Section{Name: name, Source: fromBMC}
		if failed == nil {
			s.Partial, failed = b.ReadSection(ctx, name, r)
		}
		if s.At = c.Now(); failed != nil {
			s.Err, s.Partial = failed.Error(), ""
		}
		r.SetSection(s)
	}
	r.Sort()
	return r, ctx.Err()
}

// readHost asks the host itself; where it does not answer, its sections are unread.
func (c *Connector) readHost(ctx context.Context, host string) (*estate.Reading, error) {
	reply, err := c.call(ctx, "read", sim.Call{Host: host})
	if err == nil {
		for i := range reply.Reading.Sections {
			reply.Reading.Sections[i].Source = fromHost
		}
		return reply.Reading, nil
	}
	if !errors.Is(err, connector.ErrUnreachable) {
		return nil, err
	}
	r := &estate.Reading{Host: host}
	for _, s := range estate.SectionNames {
		if !slices.Contains(bmcSections, s) {
			r.SetSection(estate.Section{Name: s, At: c.Now(), Source: fromHost, Err: err.Error()})
		}
	}
	return r, nil
}

// Connect tries both ways to a host: its own interface and its BMC.
func (c *Connector) Connect(ctx context.Context, host string) []connector.Stage {
	s := connector.Stage{Way: "host interface", Name: "answer", OK: true}
	if r, err := c.readHost(ctx, host); err != nil {
		s.OK, s.Found = false, err.Error()
	} else if why := r.Section(estate.Host).Err; why != "" {
		s.OK, s.Found = false, why
	} else {
		s.Found = r.Release + ", kernel " + r.Kernel.Running
	}
	if !s.OK {
		s.Do = "see whether the host is up"
	}
	b, err := c.bmc(host)
	if err != nil {
		return []connector.Stage{s, {Way: "BMC", Name: "configuration", Found: err.Error()}}
	}
	return append([]connector.Stage{s}, b.Test(ctx)...)
}
