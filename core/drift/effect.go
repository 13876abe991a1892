package drift

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Holdings is who has what, turned around: for each component the variants in which it is there, with the hosts that
// have each. It is made once of an estate's readings; with it the effect of an edit is told by looking at variants, of
// which there are few, and not at hosts, of which there are many.
type Holdings struct {
	hosts    []held
	variants map[estate.Key][]variant
	keys     []estate.Key // sorted
}

type held struct {
	host, cluster string
	system        string // as Reading.System
	unread        map[estate.SectionName]bool
	partial       map[estate.SectionName]bool // of what was not read there, nothing is absent
}

// variant is a component as some hosts have it.
type variant struct {
	version, running, model string
	class                   string
	waits, half             bool
	at                      []spot
}

// spot is where a variant stands: a host, by its number, and a device.
type spot struct {
	host   int
	device string
}

// Hold turns readings around. A section that was not read at the time now, or longer ago than maxAge, holds nothing.
func Hold(clusters []estate.Cluster, readings map[string]*estate.Reading, now time.Time,
	maxAge time.Duration) *Holdings {
	h := &Holdings{variants: map[estate.Key][]variant{}}
	for _, c := range clusters {
		for _, name := range c.Hosts {
			r := readings[name]
			if r == nil {
				continue
			}
			unread, partial := map[estate.SectionName]bool{}, map[estate.SectionName]bool{}
			for _, s := range estate.SectionNames {
				unread[s], partial[s] = r.Unread(s, now, maxAge) != "", r.Section(s).Partial != ""
			}
			h.hosts = append(h.hosts, held{name, c.Name, r.System, unread, partial})
			for i := range r.Components {
				if comp := &r.Components[i]; !unread[comp.Key.Section()] {
					h.add(len(h.hosts)-1, comp)
				}
			}
		}
	}
	h.keys = slices.Sorted(maps.Keys(h.variants))
	return h
}

func (h *Holdings) add(host int, c *estate.Component) {
	vs := h.variants[c.Key]
	for i := range vs {
		if v := &vs[i]; v.version == c.Version && v.running == c.Running && v.model == c.Model &&
			v.waits == (len(c.Holders) > 0) && v.half == (c.State != "") {
			v.at = append(v.at, spot{host, c.Device})
			return
		}
	}
	h.variants[c.Key] = append(vs, variant{c.Version, c.Running, c.Model, c.Class, len(c.Holders) > 0, c.State != "",
		[]spot{{host, c.Device}}})
}

// Shift is a verdict that an edit changes.
type Shift struct {
	Cluster, Host string
	Component     estate.Key
	Device        string
	Has, Wants    string  // Wants: after the edit
	Before, After Outcome // NotBound where no baseline covers it
}

// NotBound stands in a Shift for no verdict at all: no clause binds the component there.
const NotBound Outcome = 255

// Effect is what an edit would do.
type Effect struct {
	Shifts []Shift // host by host, in the order of the estate
	Worse  int     // hosts on which something falls out of line that was not
	Better int     // hosts on which something comes into line, or is no longer asked for, and nothing falls out
	Unread int     // hosts of which something that the edit speaks of is not known
}

// Edit tells the effect of putting the baseline after in the place of before, which has the same name; either may be
// nil. The others stay.
func (c *Checker) Edit(h *Holdings, before, after *baseline.Baseline) Effect {
	others := slices.DeleteFunc(slices.Clone(c.Baselines), func(b baseline.Baseline) bool {
		return before != nil && b.Name == before.Name || after != nil && b.Name == after.Name
	})
	old := &Checker{Catalogue: c.Catalogue, Baselines: others, Now: c.Now, MaxAge: c.MaxAge}
	now := &Checker{Catalogue: c.Catalogue, Baselines: others, Now: c.Now, MaxAge: c.MaxAge}
	if before != nil {
		old.Baselines = append(slices.Clone(others), *before)
	}
	if after != nil {
		now.Baselines = append(slices.Clone(others), *after)
	}
	e := edit{h: h, old: old, now: now, shifts: make([][]Shift, len(h.hosts)), worse: make([]bool, len(h.hosts)),
		better: make([]bool, len(h.hosts)), unread: make([]bool, len(h.hosts))}
	e.run()
	return e.effect()
}

// edit is one comparison under way.
type edit struct {
	h                     *Holdings
	old, now              *Checker
	oldSets, newSets      []*baseline.Set // by host
	shifts                [][]Shift       // by host: so they come out in order without being sorted
	worse, better, unread []bool          // by host
}

func (e *edit) run() {
	for _, h := range e.h.hosts {
		e.oldSets = append(e.oldSets, e.old.set(h.cluster, h.host))
		e.newSets = append(e.newSets, e.now.set(h.cluster, h.host))
	}
	named := map[estate.Key]bool{}
	for i := range e.h.hosts {
		if i > 0 && e.oldSets[i] == e.oldSets[i-1] && e.newSets[i] == e.newSets[i-1] {
			continue
		}
		for _, k := range e.oldSets[i].Named() {
			named[k] = true
		}
		for _, k := range e.newSets[i].Named() {
			named[k] = true
		}
	}
	for _, k := range e.h.keys {
		for i := range e.h.variants[k] {
			e.variant(k, &e.h.variants[k][i])
		}
	}
	for _, k := range slices.Sorted(maps.Keys(named)) {
		e.absent(k)
	}
}

// pair is a verdict before and after, for hosts that the same clauses bind.
type pair struct {
	old, now *baseline.Set
}

type outcomes struct {
	before, after Outcome
	wants         string
}

func (e *edit) variant(k estate.Key, v *variant) {
	var last pair
	var got outcomes
	for _, s := range v.at {
		p := pair{e.oldSets[s.host], e.newSets[s.host]}
		if p != last {
			last, got = p, e.judge(p, k, v)
		}
		if got.before != got.after {
			e.note(s, k, v.version, got)
		}
	}
}

// judge is the verdict on a variant before and after. Where both sets hold the same clause nothing is computed.
func (e *edit) judge(p pair, k estate.Key, v *variant) (o outcomes) {
	var model, version, running string
	waits, half, present := false, false, v != nil
	if present {
		half = v.half
		model, version, running, waits = v.model, v.version, v.running, v.waits
	}
	was, is := p.old.For(k, model), p.now.For(k, model)
	if !present {
		was, is = p.old.Naming(k), p.now.Naming(k)
	}
	if alike(was, is) && p.old.SamePardons(p.now) {
		return outcomes{}
	}
	one := func(c *Checker, set *baseline.Set, b *baseline.Bound) (Outcome, string) {
		if b == nil {
			return NotBound, ""
		}
		if present && version == "" && b.Posture != baseline.Never {
			return Unread, ""
		}
		if len(b.Against) > 0 {
			return Disputed, ""
		}
		a := c.answer(question{clause: b, key: k, version: version, running: running, model: model,
			held: waits, half: half}, present)
		if a.outcome.Drifts() && set.Excepted(k, c.Now) != nil {
			return Excepted, a.wants
		}
		return a.outcome, a.wants
	}
	o.before, _ = one(e.old, p.old, was)
	o.after, o.wants = one(e.now, p.now, is)
	return o
}

func alike(a, b *baseline.Bound) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Wants(b)
}

func (e *edit) absent(k estate.Key) {
	has := make([]bool, len(e.h.hosts))
	for _, v := range e.h.variants[k] {
		for _, s := range v.at {
			has[s.host] = true
		}
	}
	var last pair
	var got outcomes
	for i := range e.h.hosts {
		p := pair{e.oldSets[i], e.newSets[i]}
		if p != last {
			last, got = p, e.judge(p, k, nil)
		}
		if got.before == got.after || has[i] {
			continue
		}
		if e.h.hosts[i].unread[k.Section()] || e.h.hosts[i].partial[k.Section()] {
			e.unread[i] = true
			continue
		}
		e.note(spot{host: i}, k, "", got)
	}
}

// note notes a change of drift. What was in line and is not asked for any more is no news about any host.
func (e *edit) note(s spot, k estate.Key, has string, o outcomes) {
	h := e.h.hosts[s.host]
	was, is := o.before != NotBound && o.before.Drifts(), o.after != NotBound && o.after.Drifts()
	if !was && !is {
		return
	}
	e.shifts[s.host] = append(e.shifts[s.host], Shift{h.cluster, h.host, k, s.device, has, o.wants, o.before, o.after})
	e.worse[s.host] = e.worse[s.host] || is && !was
	e.better[s.host] = e.better[s.host] || was && !is
}

func (e *edit) effect() Effect {
	var out Effect
	n := 0
	for _, of := range e.shifts {
		n += len(of)
	}
	out.Shifts = make([]Shift, 0, n)
	for i := range e.h.hosts {
		out.Shifts = append(out.Shifts, e.shifts[i]...)
		switch {
		case e.worse[i]:
			out.Worse++
		case e.better[i]:
			out.Better++
		}
		if e.unread[i] {
			out.Unread++
		}
	}
	return out
}

// Standing is a rung of a component's ladder with the hosts on it.
type Standing struct {
	Version string
	Model   string
	Hosts   []string // with the device where there are several, sorted
}

// Standings tells who stands at which version of a component, rising by version.
func (h *Holdings) Standings(k estate.Key) []Standing {
	var out []Standing
	for _, v := range h.variants[k] {
		if v.version == "" {
			continue
		}
		i := slices.IndexFunc(out, func(s Standing) bool {
			return s.Version == v.version && estate.SameModel(s.Model, v.model)
		})
		if i < 0 {
			i = len(out)
			out = append(out, Standing{Version: v.version, Model: v.model})
		}
		for _, s := range v.at {
			if name := h.hosts[s.host].host; !slices.Contains(out[i].Hosts, name) {
				out[i].Hosts = append(out[i].Hosts, name)
			}
		}
	}
	for i := range out {
		slices.Sort(out[i].Hosts)
	}
	slices.SortFunc(out, func(a, b Standing) int {
		return cmp.Or(k.Scheme().Compare(a.Version, b.Version), strings.Compare(a.Model, b.Model))
	})
	return out
}

// Systems are the distributions and releases (Reading.System) that the hosts are of.
func (h *Holdings) Systems(hosts []string) (out []string) {
	for i := range h.hosts {
		if s := h.hosts[i].system; slices.Contains(hosts, h.hosts[i].host) && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// Has tells whether some host has the component, on hardware of one of the models where any are named.
func (h *Holdings) Has(k estate.Key, models []string) bool {
	return slices.ContainsFunc(h.variants[k], func(v variant) bool {
		return len(models) == 0 || estate.HasModel(models, v.model)
	})
}

// Keys returns the components that some host has, sorted. The slice belongs to the holdings.
func (h *Holdings) Keys() []estate.Key { return h.keys }

// Class is the class of the devices that the component is of, where somebody told it.
func (h *Holdings) Class(k estate.Key) string {
	for _, v := range h.variants[k] {
		if v.class != "" {
			return v.class
		}
	}
	return ""
}

// Used tells whether a release's component stands on some host, on hardware that it is for.
func (h *Holdings) Used(r *catalogue.Release) bool {
	return slices.ContainsFunc(h.variants[r.Component], func(v variant) bool { return r.Fits(v.model) })
}

// Title is the component with its device.
func (s Shift) Title() string { return estate.Component{Key: s.Component, Device: s.Device}.Title() }

// Word is the vocabulary's word for the outcome, or that no baseline covers it.
func (o Outcome) Word() string {
	if o == NotBound {
		return "not asked for"
	}
	return o.String()
}

// Says sums the effect up in a sentence.
func (e Effect) Says() string {
	var parts []string
	if e.Worse > 0 {
		parts = append(parts, fmt.Sprintf("%s would fall out of line", hosts(e.Worse)))
	}
	if e.Better > 0 {
		parts = append(parts, fmt.Sprintf("%s would have less against them", hosts(e.Better)))
	}
	if len(parts) == 0 && len(e.Shifts) > 0 {
		parts = append(parts, fmt.Sprintf(
			"%d verdicts would change, and no host would fall out of line or come into it", len(e.Shifts)))
	}
	if len(parts) == 0 {
		parts = append(parts, "no host's verdicts would change")
	}
	if e.Unread > 0 {
		parts = append(parts, fmt.Sprintf("of %s it is not known", hosts(e.Unread)))
	}
	return strings.Join(parts, ", ")
}

func hosts(n int) string {
	if n == 1 {
		return "1 host"
	}
	return fmt.Sprintf("%d hosts", n)
}
