package drift

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Checker judges hosts against a catalogue and baselines at one moment. It remembers what it found out, since the hosts
// of a cluster mostly hold the same versions of the same things: checking the second host is much cheaper than the
// first. It is not safe for concurrent use.
type Checker struct {
	Catalogue *catalogue.Catalogue
	Baselines []baseline.Baseline
	Now       time.Time
	// MaxAge is how old a section may be before it counts as unread; zero is no limit.
	MaxAge time.Duration

	sets map[string]*baseline.Set // by cluster, or host where baselines speak of that one
	// by what binds: clusters that the same binds share a set, and with it what was found out
	alike map[string]*baseline.Set
	memo  map[question]answer
}

// question is all that an answer depends on.
type question struct {
	clause                  *baseline.Bound
	key                     estate.Key
	version, running, model string
	held                    bool // processes still run what was replaced
	half                    bool // it is not wholly installed
}

type answer struct {
	outcome Outcome
	wants   string
	release *catalogue.Release
	tracked bool // the track of what is wanted is known
	cause   string
}

// Host returns a verdict for every clause that binds the host: by component, then device. A clause for a whole kind
// gives one for each component of that kind that the host has.
func (c *Checker) Host(cluster string, r *estate.Reading) []Verdict {
	set := c.set(cluster, r.Host)
	named := set.Named()
	// several devices of one kind take more; a clause for a whole kind may take as many as there are components
	room := 2*len(named) + 8
	if len(set.Wild()) > 0 {
		room = len(r.Components) + 8
	}
	out := make([]Verdict, 0, room)
	read := c.readSections(r)
	kind, known := "", false
	for i := range r.Components {
		comp := &r.Components[i]
		for len(named) > 0 && named[0] < comp.Key {
			out = c.absent(out, r, set, named[0], read)
			named = named[1:]
		}
		if len(named) > 0 && named[0] == comp.Key {
			// some guests may have it and others lack it
			if comp.Key.Layer() == estate.Inside && read[comp.Key.Section()] {
				out = c.absent(out, r, set, comp.Key, read)
			}
			named = named[1:]
		}
		b := set.For(comp.Key, comp.Model)
		// of a whole kind that is unread one verdict says all
		if b == nil || b.Component != comp.Key && !read[comp.Key.Section()] {
			continue
		}
		v := Verdict{Host: r.Host, Component: comp.Key, Device: comp.Device, Has: comp.Version, Found: comp, Clause: b,
			Model: comp.Model, Class: comp.Class}
		if kind == "" || !strings.HasPrefix(string(comp.Key), kind) { // they are sorted: a kind comes all at once
			kind, known = comp.Key.Kind()+":", read[comp.Key.Section()]
		}
		switch {
		case !known:
			v.Outcome, v.Has, v.Found, v.Last = Unread, "", nil, cmp.Or(comp.Version, comp.Last)
			v.LastAt, _ = r.Section(comp.Key.Section()).Known()
		case !comp.Known() && (b.Posture != baseline.Never || r.Section(comp.Key.Section()).Partial != ""):
			v.Outcome, v.Last = Unread, comp.Last
		default:
			c.judge(&v, set)
		}
		out = append(out, v)
	}
	for _, key := range named {
		out = c.absent(out, r, set, key, read)
	}
	out = c.wildUnread(out, r, set, read)
	if slices.ContainsFunc(set.Named(), func(k estate.Key) bool { return k.Layer() == estate.Inside }) {
		slices.SortStableFunc(out, func(a, b Verdict) int {
			return cmp.Or(strings.Compare(string(a.Component), string(b.Component)),
				strings.Compare(a.Device, b.Device))
		})
	}
	return out
}

// readSections tells which sections can be relied on.
func (c *Checker) readSections(r *estate.Reading) map[estate.SectionName]bool {
	read := make(map[estate.SectionName]bool, len(estate.SectionNames))
	for _, s := range estate.SectionNames {
		read[s] = r.Unread(s, c.Now, c.MaxAge) == ""
	}
	return read
}

// absent appends the verdict on a component that a clause names and the reading does not hold.
func (c *Checker) absent(out []Verdict, r *estate.Reading, set *baseline.Set, key estate.Key,
	read map[estate.SectionName]bool) []Verdict {
	v := Verdict{Host: r.Host, Component: key, Clause: set.Naming(key)}
	if v.Clause == nil {
		return out
	}
	switch {
	case !read[key.Section()] || r.Section(key.Section()).Partial != "":
		v.Outcome = Unread
	case key.Layer() == estate.Inside:
		return c.absentInside(out, r, set, key, v)
	default:
		c.judge(&v, set)
	}
	return append(out, v)
}

// absentInside appends a verdict for each running guest that lacks what a clause wants inside guests; one that does not
// run can't be asked.
func (c *Checker) absentInside(out []Verdict, r *estate.Reading, set *baseline.Set, key estate.Key,
	like Verdict) []Verdict {
	for i := range r.Guests {
		g := &r.Guests[i]
		if _, has := r.Component(key, g.Name); has || g.State != estate.Running {
			continue
		}
		v := like
		v.Device = g.Name
		c.judge(&v, set)
		out = append(out, v)
	}
	return out
}

// wildUnread appends one unread verdict for each clause about a whole kind whose section was not read: without it, a
// host of which nothing is known would have nothing against it.
func (c *Checker) wildUnread(out []Verdict, r *estate.Reading, set *baseline.Set,
	read map[estate.SectionName]bool) []Verdict {
	for _, b := range set.Wild() {
		if !read[b.Component.Section()] || r.Section(b.Component.Section()).Partial != "" {
			out = append(out, Verdict{Host: r.Host, Component: b.Component, Outcome: Unread, Clause: b})
		}
	}
	return out
}

func (c *Checker) set(cluster, host string) *baseline.Set {
	id, own := cluster, cluster+"/"+host
	if slices.ContainsFunc(c.Baselines, func(b baseline.Baseline) bool { return b.Names(own) }) {
		id = own
	}
	if s, ok := c.sets[id]; ok {
		return s
	}
	if c.sets == nil {
		c.sets, c.alike, c.memo = map[string]*baseline.Set{}, map[string]*baseline.Set{}, map[question]answer{}
	}
	print := baseline.Print(c.Baselines, cluster, host)
	s := c.alike[print]
	if s == nil {
		s = baseline.Bind(c.Baselines, cluster, host, c.targets)
		c.alike[print] = s
	}
	c.sets[id] = s
	return s
}

// judge fills in the outcome of a verdict whose section was read.
func (c *Checker) judge(v *Verdict, set *baseline.Set) {
	if len(v.Clause.Against) > 0 {
		v.Outcome = Disputed
		return
	}
	q := question{clause: v.Clause, key: v.Component}
	if v.Found != nil {
		q.version, q.running, q.model, q.held = v.Found.Version, v.Found.Running, v.Found.Model,
			len(v.Found.Holders) > 0
		q.half = v.Found.State != ""
	}
	a, ok := c.memo[q]
	if !ok {
		a = c.answer(q, v.Found != nil)
		c.memo[q] = a
	}
	v.Outcome, v.Wants, v.Release, v.Cause = a.outcome, a.wants, a.release, a.cause
	if a.outcome.Drifts() && set.Excepted(v.Component, c.Now) != nil {
		v.Outcome = Excepted
	}
}

func (c *Checker) answer(q question, present bool) answer {
	if q.clause.Posture == baseline.Never {
		if present {
			return answer{outcome: Unwanted}
		}
		return answer{outcome: InLine}
	}
	if !present && q.clause.Posture == baseline.IfPresent {
		return answer{outcome: NotApplying}
	}
	a, track := c.wanted(q, present)
	if present {
		a.outcome = c.compare(q, a, track)
	} else if a.outcome = Absent; a.cause != "" {
		a.outcome = Undecided
	}
	if a.outcome == InLine {
		if gap := c.Catalogue.Stale(q.key); gap != "" {
			a.outcome, a.cause = Undecided, "whether it was withdrawn can't be told: "+gap
		}
	}
	if a.outcome != Undecided {
		a.cause = ""
	}
	return a
}

// undecided says why nobody can tell what a following clause wants here; empty where somebody can. What is known not to
// concern the host is no such case: that its releases are for other hardware, on other tracks or less severe.
func (c *Checker) undecided(q question, present bool, rule catalogue.Rule, wants string) string {
	if gap := c.Catalogue.Gap(q.key); gap != "" {
		return gap
	}
	if r := c.Catalogue.Contested(q.key, wants, q.model, rule); r != nil {
		return fmt.Sprintf("feeds disagree about %s: %s", r.Version, r.Disputed)
	}
	if wants != "" {
		return ""
	}
	if device := q.key.Layer() == estate.Firmware || q.key.Layer() == estate.Driver; device && present && q.model == "" &&
		c.Catalogue.ForHardware(q.key) {
		return "it is not known on what hardware it is, and its releases are for named models"
	}
	why := c.Catalogue.Unmet(q.key, q.model, rule)
	if why == "" && len(c.Catalogue.Releases(q.key)) == 0 && q.clause.Component == q.key {
		why = "no source knows any release of it"
	}
	return why
}

// wanted names the version that the clause asks for here, its release where the catalogue has it, and its track.
func (c *Checker) wanted(q question, present bool) (a answer, track string) {
	if !q.clause.Follow {
		track, known := c.Catalogue.TrackOf(q.key, q.clause.Version, q.model)
		return answer{wants: q.clause.Version, tracked: known,
			release: c.Catalogue.Release(q.key, q.clause.Version, track, q.model)}, track
	}
	rule := c.rule(q.clause, q.key, q.version, q.model)
	a = answer{tracked: true}
	if r := c.Catalogue.Newest(q.key, q.model, rule); r != nil {
		a.wants, a.release = r.Version, r
	} else {
		a.wants = c.Catalogue.Mended(q.key, q.model, rule)
	}
	a.cause = c.undecided(q, present, rule, a.wants)
	return a, rule.Track
}

// rule is the catalogue's rule for a following clause on a component that stands at version; the version is empty where
// it is absent, and then the first track that was declared is followed.
func (c *Checker) rule(clause *baseline.Bound, key estate.Key, version, model string) catalogue.Rule {
	rule := catalogue.Rule{Track: clause.Track, Severity: clause.Severity, Vendor: clause.Vendor, From: version}
	if clause.MinAge > 0 {
		rule.Before = c.Now.Add(-clause.MinAge)
	}
	if rule.Track == "" && version != "" {
		rule.Track, _ = c.Catalogue.TrackOf(key, version, model)
	} else if ts := c.Catalogue.Tracks(key); rule.Track == "" && len(ts) > 0 {
		rule.Track = ts[0]
	}
	return rule
}

// compare is the outcome for a component that is there.
func (c *Checker) compare(q question, a answer, wantTrack string) Outcome {
	ownTrack, known := c.Catalogue.TrackOf(q.key, q.version, q.model)
	if q.half {
		return HalfInstalled
	}
	if c.Catalogue.WithdrawnFor(q.key, q.version, ownTrack, q.model) != "" {
		return Withdrawn
	}
	if a.cause != "" {
		return Undecided
	}
	if a.wants == "" {
		return c.withoutRelease(q)
	}
	if q.key.Scheme() == 0 && q.version != a.wants {
		return Unwanted
	}
	// of a wanted version that is in no feed, and on no declared track, only the order is known
	if a.tracked && (!known || ownTrack != wantTrack) {
		return OffTrack
	}
	switch order := q.key.Scheme().Compare(q.version, a.wants); {
	case order < 0:
		return Behind
	case order > 0 && q.clause.Posture == baseline.Exactly:
		return Ahead
	case q.running != "" && q.running != q.version || q.held:
		return AwaitingRestart
	}
	return InLine
}

// withoutRelease is the outcome where the clause admits no release at all: there is nothing to compare with. Only a
// version that is installed and does not run is worth saying still.
func (c *Checker) withoutRelease(q question) Outcome {
	if q.running != "" && q.running != q.version || q.held {
		return AwaitingRestart
	}
	return NotApplying
}

// Below returns the releases that the verdict's clause admits between what the host has and what the clause would have
// it have, newest first: where the newest can't be had, the best of them is still a step. A pinned clause admits none.
func (c *Checker) Below(v Verdict) (out []*catalogue.Release) {
	if v.Clause == nil || !v.Clause.Follow || v.Release == nil {
		return nil
	}
	model := ""
	if v.Found != nil {
		model = v.Found.Model
	}
	for _, r := range c.Catalogue.Admitted(v.Component, v.Has, model, c.rule(v.Clause, v.Component, v.Has, model)) {
		if v.Component.Scheme().Compare(r.Version, v.Wants) < 0 {
			out = append(out, r)
		}
	}
	return out
}

// Parts are the clauses that a clause about a whole-host target stands for; none where it is about anything else, or
// the target is not known.
func (c *Checker) Parts(clause baseline.Clause) []baseline.Clause {
	if clause.Component.Kind() != estate.WholeHost {
		return nil
	}
	return c.targets(clause)
}

// targets says what a clause about a whole-host target stands for.
func (c *Checker) targets(clause baseline.Clause) []baseline.Clause {
	b := &baseline.Bound{Clause: clause}
	a, _ := c.wanted(question{clause: b, key: clause.Component}, false)
	if a.release == nil {
		return nil
	}
	out := make([]baseline.Clause, 0, len(a.release.Members))
	for _, m := range a.release.Members {
		out = append(out, baseline.Clause{Component: m.Component, Posture: clause.Posture,
			Version: m.AtLeast, Line: clause.Line, Of: string(clause.Component) + " " + a.release.Version})
	}
	return out
}
