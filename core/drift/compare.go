package drift

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

func sortVerdicts(vs []Verdict) {
	slices.SortFunc(vs, func(a, b Verdict) int {
		return cmp.Or(strings.Compare(a.Host, b.Host), strings.Compare(string(a.Component), string(b.Component)),
			strings.Compare(a.Device, b.Device))
	})
}

// Comparison is what differs between two readings, of one host at two times or of two hosts.
type Comparison struct {
	Turns []Turn `json:"differences"`
	// Unread names the sections that one of the two lacks: nothing is said of what they hold.
	Unread []estate.SectionName `json:"unread,omitempty"`
	// Facts are differences in what is no component: the kernel that runs, the boot, whether it is closed.
	Facts []Fact `json:"facts,omitempty"`
}

// Fact is a difference in what is no component.
type Fact struct {
	What string `json:"what"`
	From string `json:"from"`
	To   string `json:"to"`
}

// Compare says in what the reading to differs from the reading from. A section that either lacks is not compared, and
// what is inside guests is not: it goes where they go.
func Compare(from, to *estate.Reading) Comparison {
	var out Comparison
	both := map[estate.SectionName]bool{}
	for _, s := range estate.SectionNames {
		both[s] = from.Section(s).Whole() && to.Section(s).Whole() && s != estate.GuestList
		if !both[s] && s != estate.GuestList {
			out.Unread = append(out.Unread, s)
		}
	}
	was := map[place]string{}
	for _, c := range from.Components {
		was[place{c.Key, c.Device}] = c.Version
	}
	for _, c := range to.Components {
		p := place{c.Key, c.Device}
		before, had := was[p]
		delete(was, p)
		if both[c.Key.Section()] && c.Known() && (!had || before != "" && before != c.Version) {
			out.Turns = append(out.Turns, Turn{to.Section(c.Key.Section()).At, c.Key, c.Device, before, c.Version})
		}
	}
	for p, v := range was {
		if v != "" && both[p.key.Section()] {
			out.Turns = append(out.Turns, Turn{to.Section(p.key.Section()).At, p.key, p.device, v, ""})
		}
	}
	sortTurns(out.Turns)
	if both[estate.Host] {
		out.Facts = facts(from, to)
	}
	if both[estate.FirmwareItems] && len(from.Board) > 0 && len(to.Board) > 0 {
		names := maps.Clone(from.Board)
		maps.Copy(names, to.Board)
		for _, n := range slices.Sorted(maps.Keys(names)) {
			if a, b := from.Board[n], to.Board[n]; a != b {
				out.Facts = append(out.Facts, Fact{"firmware setting " + n, a, b})
			}
		}
	}
	return out
}

func facts(from, to *estate.Reading) (out []Fact) {
	add := func(what, a, b string) {
		if a != b {
			out = append(out, Fact{what, a, b})
		}
	}
	add("platform", from.Release, to.Release)
	add("running kernel", from.Kernel.Running, to.Kernel.Running)
	add("installed kernel", from.Kernel.Installed, to.Kernel.Installed)
	if from.Host == to.Host {
		add("boot", from.BootID, to.BootID)
		add("serial number", from.Hardware.Serial, to.Hardware.Serial)
	}
	add("hardware", from.Hardware.Model, to.Hardware.Model)
	add("closed", closedBy(from), closedBy(to))
	add("networks", strings.Join(from.Offers().Networks, ", "), strings.Join(to.Offers().Networks, ", "))
	return out
}

func closedBy(r *estate.Reading) string {
	if r.Closed == nil {
		return ""
	}
	return "by " + r.Closed.By + ": " + r.Closed.Reason
}

// Span is the time during which a component stood at a version on a host, as far as readings tell.
type Span struct {
	Component estate.Key `json:"component"`
	Device    string     `json:"device,omitempty"`
	Version   string     `json:"version"`
	First     time.Time  `json:"first"` // the first reading that saw it
	Last      time.Time  `json:"last"`  // the last that did
	Now       bool       `json:"now"`   // the newest reading still does
}

// Spans tells when each version of each component was first and last seen on a host: by component and device, the
// newest version first. Readings are the host's own in the order of time; until holds for each when it was last found
// to say the same.
func Spans(readings []*estate.Reading, until []time.Time) []Span {
	open := map[place]*Span{}
	var out []*Span
	for i, r := range readings {
		seen := map[place]bool{}
		for _, c := range r.Components {
			s := r.Section(c.Key.Section())
			if s.Err != "" {
				continue
			}
			p := place{c.Key, c.Device}
			seen[p] = true
			if !c.Known() {
				continue
			}
			if o := open[p]; o != nil && o.Version == c.Version {
				o.Last = until[i]
				continue
			}
			n := &Span{Component: c.Key, Device: c.Device, Version: c.Version, First: s.At, Last: until[i]}
			open[p] = n
			out = append(out, n)
		}
		for p := range open {
			if !seen[p] && r.Section(p.key.Section()).Whole() {
				delete(open, p)
			}
		}
	}
	for _, o := range open {
		o.Now = true
	}
	spans := make([]Span, len(out))
	for i, o := range out {
		spans[i] = *o
	}
	slices.SortStableFunc(spans, func(a, b Span) int {
		return cmp.Or(strings.Compare(string(a.Component), string(b.Component)), strings.Compare(a.Device, b.Device),
			b.First.Compare(a.First))
	})
	return spans
}
