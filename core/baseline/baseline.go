// Package baseline says how hosts should be: clauses, each about one component, gathered in baselines that bind
// clusters or hosts. It settles which clause holds where several speak of the same component; what a host has, and what
// that makes of it, is judged in drift.
package baseline

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// Posture is how a clause binds.
type Posture string

// The four postures.
const (
	AtLeast   Posture = "at least"   // present, at this version or a later one of its track; installed where absent
	Exactly   Posture = "exactly"    // present, at this version and no other
	IfPresent Posture = "if present" // at this version or a later one where it is present; absent is as good
	Never     Posture = "never"      // absent
)

// Postures lists them all.
var Postures = []Posture{AtLeast, Exactly, IfPresent, Never}

// Clause is one component's part of a baseline: either pinned to a Version or following the newest release that its
// rule admits. A clause with posture Never has neither.
type Clause struct {
	Component estate.Key // the name "*" means every component of its kind that the host has
	Posture   Posture
	Version   string             // pinned
	Follow    bool               // the newest the rule admits
	Track     string             // follow this track; empty: the one the host stands on
	Severity  catalogue.Severity // follow only releases of this severity and above
	MinAge    time.Duration      // follow only releases older than this
	Vendor    string             // follow only this publisher's releases
	Hardware  string             // speak only of devices of this model; empty: of any
	Of        string             // the whole-host target that it is a part of; empty: it stands by itself
	Line      int                // where it stands in its file, from 1; 0 if it is from no file
}

// Says returns the clause in words, without its component: "at least 8.2.4-1", "if present the newest on track 4".
func (c Clause) Says() string {
	switch {
	case c.Posture == Never:
		return "never" + c.on()
	case !c.Follow:
		return string(c.Posture) + " " + c.Version + c.on()
	}
	s := string(c.Posture) + " the newest"
	if c.Vendor != "" {
		s += " by " + c.Vendor
	}
	if c.Track != "" {
		s += " on track " + c.Track
	}
	if c.Severity > catalogue.Unknown {
		s += " of severity " + c.Severity.String() + " and above"
	}
	if c.MinAge > 0 {
		s += fmt.Sprintf(" that is %d days old", int(c.MinAge.Hours()/24))
	}
	return s + c.on()
}

// Subject is what a filter looks at of the clause.
func (c Clause) Subject() narrow.Subject {
	return narrow.Subject{Component: c.Component, Severity: c.Severity, Vendor: c.Vendor, Age: -1,
		Words: []string{c.Says(), c.Hardware}}
}

func (c Clause) on() string {
	if c.Hardware == "" {
		return ""
	}
	return ", on a " + c.Hardware
}

// same tells whether two clauses want the same thing.
func (c Clause) same(o Clause) bool {
	c.Line, o.Line = 0, 0
	c.Of, o.Of = "", ""
	return c == o
}

// Wants tells whether two bound clauses want the same and are disputed alike, whichever baselines they are from.
func (b *Bound) Wants(o *Bound) bool {
	return b.same(o.Clause) && slices.Equal(b.Against, o.Against)
}

// Exception is a dated pardon for one component on some hosts.
type Exception struct {
	Component estate.Key
	Hosts     []string  // "cluster" or "cluster/host"
	Until     time.Time // the first moment at which it holds no more: its last day counts whole
	Reason    string
	By        string
}

// LastDay is the day through whose end it holds, as "6 Dec 2026".
func (e Exception) LastDay() string { return e.Until.Add(-time.Second).Format("2 Jan 2006") }

// Baseline is a wanted state.
type Baseline struct {
	Name       string
	Rank       int      // the lower rank goes before
	Assign     []string // "cluster" or "cluster/host"
	Clauses    []Clause
	Exceptions []Exception
	// Due is how long drift of a severity may last; a severity that is not in it has no limit.
	Due map[catalogue.Severity]time.Duration
}

// Names tells whether the baseline or one of its exceptions speaks of just this place: a cluster, or one host as
// cluster/host.
func (b Baseline) Names(place string) bool {
	return slices.Contains(b.Assign, place) ||
		slices.ContainsFunc(b.Exceptions, func(e Exception) bool { return slices.Contains(e.Hosts, place) })
}

// Binds tells whether the baseline is assigned to the host.
func (b Baseline) Binds(cluster, host string) bool { return assigned(b.Assign, cluster, host) }

// Bound is a clause as it binds a host.
type Bound struct {
	Clause
	Baseline string
	// Against names the other clauses of the same rank that want something else: while there are any, nobody knows what
	// is wanted.
	Against []Rival

	prefix string // of the components that a clause for a whole kind is about: "deb:"
}

// Rival is a clause that wants something else than one of its rank.
type Rival struct {
	Baseline string
	Wants    string // in words
}

// Rivals puts into words what other clauses of its rank want instead.
func (b *Bound) Rivals() string {
	var out []string
	for _, r := range b.Against {
		out = append(out, r.Baseline+" wants "+r.Wants)
	}
	return strings.Join(out, " and ")
}

// Set is all that binds one host. The zero value binds nothing.
type Set struct {
	exact      map[estate.Key][]*Bound // of one component; those for a model of hardware first
	named      []estate.Key            // the keys of exact, sorted
	wild       []*Bound                // first match holds
	exceptions []Exception
}

// Targets tells what a whole-host target is made of: clauses with the posture of the one given, and nil where there is
// no such target.
type Targets func(Clause) []Clause

// Bind returns the clauses that bind the host. Where several speak of one component, a clause that names it goes before
// one for its whole kind, one for a model of hardware before one for any, and then the lower rank before the higher;
// clauses of one rank that disagree are bound as disputed. A clause about a whole-host target stands for what targets
// makes of it; targets may be nil where there are none.
func Bind(baselines []Baseline, cluster, host string, targets Targets) *Set {
	bs := slices.Clone(baselines)
	slices.SortStableFunc(bs, func(a, b Baseline) int { return a.Rank - b.Rank })
	s := &Set{exact: map[estate.Key][]*Bound{}}
	ranks := map[*Bound]int{}
	for _, b := range bs {
		if !b.Binds(cluster, host) {
			continue
		}
		for _, c := range b.Clauses {
			for _, part := range expand(c, targets) {
				s.bind(b, part, ranks)
			}
		}
		for _, e := range b.Exceptions {
			if assigned(e.Hosts, cluster, host) {
				s.exceptions = append(s.exceptions, e)
			}
		}
	}
	s.named = slices.Sorted(maps.Keys(s.exact))
	return s
}

// expand returns what the clause stands for. A target that is not known stays as it is, so that it can't be overlooked.
func expand(c Clause, targets Targets) []Clause {
	if c.Component.Kind() == estate.WholeHost && targets != nil {
		if parts := targets(c); len(parts) > 0 {
			return parts
		}
	}
	return []Clause{c}
}

func (s *Set) bind(b Baseline, c Clause, ranks map[*Bound]int) {
	held := s.held(c)
	if held != nil {
		if ranks[held] == b.Rank && !held.same(c) {
			held.Against = append(held.Against, Rival{Baseline: b.Name, Wants: c.Says()})
		}
		return
	}
	n := &Bound{Clause: c, Baseline: b.Name}
	ranks[n] = b.Rank
	if c.Component.Name() == "*" {
		n.prefix = c.Component.Kind() + ":"
		s.wild = append(s.wild, n)
		return
	}
	all := append(s.exact[c.Component], n)
	slices.SortStableFunc(all, func(a, b *Bound) int {
		return -cmp.Compare(min(len(a.Hardware), 1), min(len(b.Hardware), 1))
	})
	s.exact[c.Component] = all
}

// held is the clause that speaks of just the same already.
func (s *Set) held(c Clause) *Bound {
	among := s.wild
	if c.Component.Name() != "*" {
		among = s.exact[c.Component]
	}
	i := slices.IndexFunc(among, func(b *Bound) bool {
		return b.Component == c.Component && estate.SameModel(b.Hardware, c.Hardware)
	})
	if i < 0 {
		return nil
	}
	return among[i]
}

// Print tells which of the baselines and exceptions bind a host: two hosts with the same print are bound by the same.
func Print(bs []Baseline, cluster, host string) string {
	var out []byte
	mark := func(to []string) {
		if assigned(to, cluster, host) {
			out = append(out, '1')
		} else {
			out = append(out, '0')
		}
	}
	for _, b := range bs {
		mark(b.Assign)
		for _, e := range b.Exceptions {
			mark(e.Hosts)
		}
	}
	return string(out)
}

func assigned(to []string, cluster, host string) bool {
	return slices.ContainsFunc(to, func(a string) bool {
		c, h, one := strings.Cut(a, "/")
		return c == cluster && (!one || h == host)
	})
}

// For returns the clause that binds the component on that model of hardware, or nil.
func (s *Set) For(key estate.Key, model string) *Bound {
	if len(s.exact) > 0 {
		for _, b := range s.exact[key] {
			if b.Hardware == "" || estate.SameModel(b.Hardware, model) {
				return b
			}
		}
	}
	for _, b := range s.wild {
		if strings.HasPrefix(string(key), b.prefix) && (b.Hardware == "" || estate.SameModel(b.Hardware, model)) {
			return b
		}
	}
	return nil
}

// Named returns the components that clauses name one by one, sorted: those whose absence can matter. The slice belongs
// to the set.
func (s *Set) Named() []estate.Key { return s.named }

// Naming returns the clause that says whether a component's absence matters, and nil where each clause is only about a
// model of hardware: whether that is there at all, the component's absence does not tell.
func (s *Set) Naming(key estate.Key) *Bound {
	for _, b := range s.exact[key] {
		if b.Hardware == "" {
			return b
		}
	}
	return nil
}

// Wild returns the clauses for a whole kind.
func (s *Set) Wild() []*Bound { return s.wild }

// Excepted returns the exception that pardons the component at that time, or nil.
func (s *Set) Excepted(key estate.Key, now time.Time) *Exception {
	for i := range s.exceptions {
		if e := &s.exceptions[i]; key.Matches(e.Component) && now.Before(e.Until) {
			return e
		}
	}
	return nil
}

// SamePardons tells whether two sets pardon the same.
func (s *Set) SamePardons(o *Set) bool {
	return slices.EqualFunc(s.exceptions, o.exceptions, func(a, b Exception) bool {
		return a.Component == b.Component && a.Until.Equal(b.Until)
	})
}
