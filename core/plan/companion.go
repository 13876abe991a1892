package plan

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/catalogue"
)

// Companion is what changes of the plan require and the plan does not do: without it they are not done.
type Companion struct {
	catalogue.Requirement
	For   []string `json:"for"` // the changes that wait for it
	Hosts []string `json:"hosts"`
	// Wanted tells that baselines want it there, and that the brief leaves it out; Unknown that it is not known at what
	// that stands there.
	Wanted  bool `json:"wanted"`
	Unknown bool `json:"unknown,omitempty"`
}

// Says puts it in words.
func (c *Companion) Says() string {
	is, it, why := "is", "it requires", "and no baseline wants that there"
	if len(c.For) > 1 {
		is, it = "are", "they require"
	}
	switch {
	case c.Unknown:
		why = "and at what that stands there is not known"
	case c.Wanted:
		why = "which this plan leaves out"
	}
	return fmt.Sprintf("%s %s not done on %s: %s %s %s, %s", strings.Join(c.For, ", "), is, strings.Join(c.Hosts, ", "), it,
		c.Component, c.AtLeast, why)
}

// TakeAlong lays over a brief all that changes of the plan require and that it leaves out. It tells whether there was
// something.
func (p *Plan) TakeAlong(b *Brief) (is bool) {
	b.Only = slices.Clone(b.Only)
	for _, c := range p.Companions {
		if s := Scope(c.Component); c.Wanted && len(b.Only) > 0 && !slices.Contains(b.Only, s) {
			b.Only, is = append(b.Only, s), true
		}
	}
	return is
}

// lack is a change that is not done because of what it requires.
type lack struct {
	title   string
	of      catalogue.Requirement
	unknown bool // it was not read at what that stands
}

// lacking takes in what a host's changes wait for.
func (p *Plan) lacking(in Input, v *Visit) {
	for _, l := range v.lacks {
		wanted, within := in.wants(v.Host, l.of)
		if wanted && within {
			continue // it waits for something itself, and that is told
		}
		c := Companion{Requirement: l.of, Wanted: wanted && !l.unknown, Unknown: l.unknown}
		i := slices.IndexFunc(p.Companions, func(o Companion) bool {
			return o.Requirement == c.Requirement && o.Wanted == c.Wanted && o.Unknown == c.Unknown
		})
		if i < 0 {
			i, p.Companions = len(p.Companions), append(p.Companions, c)
		}
		x := &p.Companions[i]
		if !slices.Contains(x.For, l.title) {
			x.For = append(x.For, l.title)
		}
		if !slices.Contains(x.Hosts, v.Host) {
			x.Hosts = append(x.Hosts, v.Host)
		}
	}
}

// wants tells whether the baselines want what is required on the host, and whether that is within what the brief changes.
func (in Input) wants(host string, q catalogue.Requirement) (wanted, within bool) {
	for _, d := range in.Verdicts[host] {
		if d.Component != q.Component {
			continue
		}
		c, left := change(d, in.Readings[host])
		if left == "" && c.Installs() && c.To != "" && q.Component.Scheme().Compare(c.To, q.AtLeast) >= 0 {
			return true, len(in.Brief.Only) == 0 || slices.ContainsFunc(in.Brief.Only, func(s Scope) bool { return s.Holds(&d) })
		}
	}
	return false, false
}
