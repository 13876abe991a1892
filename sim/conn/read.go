package conn

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

// Read reads the sections asked for, or all. The host and its BMC fail on their own: each section says what became of
// it.
func (s *session) Read(ctx context.Context, sections ...estate.SectionName) (*estate.Reading, error) {
	c, host := s.c, s.host
	if len(sections) == 0 {
		sections = estate.SectionNames
	}
	r := &estate.Reading{Host: host}
	if own := hostSections(sections); len(own) > 0 {
		var err error
		if r, err = c.readHost(ctx, host, own); err != nil {
			return nil, err
		}
	}
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

// hostSections are those of the sections that the host itself tells.
func hostSections(sections []estate.SectionName) []estate.SectionName {
	return slices.DeleteFunc(slices.Clone(sections), func(s estate.SectionName) bool {
		return slices.Contains(bmcSections, s)
	})
}

// readHost asks the host itself; where it does not answer, its sections are unread.
func (c *Connector) readHost(ctx context.Context, host string, sections []estate.SectionName) (*estate.Reading, error) {
	reply, err := c.call(ctx, "read", sim.Call{Host: host, Sections: sections})
	if err == nil {
		for i := range reply.Reading.Sections {
			reply.Reading.Sections[i].Source = fromHost
		}
		return reply.Reading, nil
	}
	if !errors.Is(err, connector.ErrUnreachable) {
		return nil, err
	}
	return connector.Unreached(host, fromHost, c.Now(), err, sections...), nil
}

// Connect tries both ways to a host: its own interface and its BMC.
func (s *session) Connect(ctx context.Context) []connector.Stage {
	c, host := s.c, s.host
	answer := connector.Stage{Way: "host interface", Name: "answer", OK: true}
	if r, err := c.readHost(ctx, host, []estate.SectionName{estate.Host}); err != nil {
		answer.OK, answer.Found = false, err.Error()
	} else if why := r.Section(estate.Host).Err; why != "" {
		answer.OK, answer.Found = false, why
	} else {
		answer.Found = r.Release + ", kernel " + r.Kernel.Running
	}
	if !answer.OK {
		answer.Do = "see whether the host is up"
	}
	b, err := c.bmc(host)
	if err != nil {
		return []connector.Stage{answer, {Way: "BMC", Name: "configuration", Found: err.Error()}}
	}
	return append([]connector.Stage{answer}, b.Test(ctx)...)
}
