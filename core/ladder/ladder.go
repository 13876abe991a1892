// Package ladder lays a component's releases out as ladders, one a track: on each rung the hosts that stand there, the
// mark of the baselines that want it, and whether it was withdrawn. It shows why "newer" is not always up. Screens and
// drawings show ladders; they compute nothing of them.
package ladder

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// Rung is a version on a ladder.
type Rung struct {
	Version string             `json:"version"`
	Release *catalogue.Release `json:"release,omitempty"` // nil where hosts stand at a version that no feed has
	Hosts   []string           `json:"hosts,omitempty"`   // that stand here, sorted
	Waits   []string           `json:"waits,omitempty"`   // of them, where it is installed and does not run yet
	Wanted  []string           `json:"wanted,omitempty"`  // baselines that want it, each with on how many hosts
	Newest  bool               `json:"newest,omitempty"`  // the newest that may be proposed on its track
	Open    []string           `json:"open,omitempty"`    // advisories that affect it
}

// Track is one ladder, the highest rung first.
type Track struct {
	Name  string `json:"name"` // empty: the component has but one line
	Model string `json:"hardware,omitempty"`
	Rungs []Rung `json:"rungs"`
}

// Ladder is all tracks of a component.
type Ladder struct {
	Component estate.Key `json:"component"`
	Tracks    []Track    `json:"tracks"`
	Without   []string   `json:"absent_on,omitempty"` // hosts where a clause wants it and it is not there
}

// Make lays the component out. The verdicts are of the hosts of which the holdings are.
func Make(cat *catalogue.Catalogue, held *drift.Holdings, verdicts map[string][]drift.Verdict, key estate.Key) Ladder {
	l := Ladder{Component: key}
	at := func(track, model, version string) *Rung {
		i := slices.IndexFunc(l.Tracks, func(t Track) bool {
			return t.Name == track && estate.SameModel(t.Model, model)
		})
		if i < 0 {
			i = len(l.Tracks)
			l.Tracks = append(l.Tracks, Track{Name: track, Model: model})
		}
		t := &l.Tracks[i]
		for j := range t.Rungs {
			if key.Scheme().Compare(t.Rungs[j].Version, version) == 0 {
				return &t.Rungs[j]
			}
		}
		t.Rungs = append(t.Rungs, Rung{Version: version})
		return &t.Rungs[len(t.Rungs)-1]
	}
	rs := cat.Releases(key)
	for i := range rs {
		at(rs[i].Track, strings.Join(rs[i].Hardware, ", "), rs[i].Version).Release = &rs[i]
	}
	for _, s := range held.Standings(key) {
		track, known := cat.TrackOf(key, s.Version, s.Model)
		if !known {
			track = "no known track"
		}
		r := at(track, hardwareOf(cat, key, s.Model), s.Version)
		for _, h := range s.Hosts {
			if !slices.Contains(r.Hosts, h) {
				r.Hosts = append(r.Hosts, h)
			}
		}
	}
	l.want(cat, verdicts, at)
	for i := range l.Tracks {
		l.Tracks[i].finish(cat, held, key)
	}
	slices.SortStableFunc(l.Tracks, func(a, b Track) int {
		return cmp.Or(strings.Compare(a.Model, b.Model), key.Scheme().Compare(b.Name, a.Name))
	})
	return l
}

// hardwareOf is the hardware of the ladder on which a device of that model stands: as the releases for it have it.
func hardwareOf(cat *catalogue.Catalogue, key estate.Key, model string) string {
	rs := cat.Releases(key)
	for i := range rs {
		if len(rs[i].Hardware) > 0 && estate.HasModel(rs[i].Hardware, model) {
			return strings.Join(rs[i].Hardware, ", ")
		}
	}
	if len(rs) > 0 && len(rs[0].Hardware) == 0 {
		return ""
	}
	return model
}

func (l *Ladder) want(cat *catalogue.Catalogue, verdicts map[string][]drift.Verdict,
	at func(track, model, version string) *Rung) {
	for host, vs := range verdicts {
		i, _ := slices.BinarySearchFunc(vs, l.Component, func(v drift.Verdict, k estate.Key) int {
			return strings.Compare(string(v.Component), string(k))
		})
		for ; i < len(vs) && vs[i].Component == l.Component; i++ {
			v := &vs[i]
			if v.Found == nil && v.Outcome == drift.Absent {
				l.Without = append(l.Without, host)
			}
			if v.Wants == "" {
				continue
			}
			model := ""
			if v.Found != nil {
				model = v.Found.Model
			}
			track, _ := cat.TrackOf(l.Component, v.Wants, model)
			r := at(track, hardwareOf(cat, l.Component, model), v.Wants)
			if !slices.Contains(r.Wanted, v.Clause.Baseline) {
				r.Wanted = append(r.Wanted, v.Clause.Baseline)
			}
			if v.Outcome == drift.AwaitingRestart {
				r.Waits = append(r.Waits, host)
			}
		}
	}
	slices.Sort(l.Without)
}

func (t *Track) finish(cat *catalogue.Catalogue, held *drift.Holdings, key estate.Key) {
	slices.SortStableFunc(t.Rungs, func(a, b Rung) int { return key.Scheme().Compare(b.Version, a.Version) })
	first := true
	for i := range t.Rungs {
		r := &t.Rungs[i]
		slices.Sort(r.Hosts)
		slices.Sort(r.Waits)
		slices.Sort(r.Wanted)
		if r.Release != nil && r.Release.Withdrawn == "" && !r.Release.Manual && first {
			r.Newest, first = true, false
		}
		for _, a := range cat.Against(key, r.Version, held.Systems(r.Hosts)...) {
			r.Open = append(r.Open, a.ID)
		}
	}
}

// Row is a component in the list of all of them.
type Row struct {
	Component estate.Key         `json:"component"`
	Newest    []string           `json:"newest"` // by track
	Tracks    int                `json:"tracks"`
	Releases  int                `json:"releases"`
	Hosts     int                `json:"hosts"`     // that have it
	Drift     int                `json:"drift"`     // verdicts about it that are out of line
	Withdrawn int                `json:"withdrawn"` // releases
	Severity  catalogue.Severity `json:"severity"`  // the worst of the releases that some host wants or could go to
	Vendor    string             `json:"vendor,omitempty"`
	Made      time.Time          `json:"date,omitzero"` // of the newest release
	Feed      string             `json:"feed,omitempty"`
}

// List lists components that the filter lets through. A component of which hosts have some and the catalogue knows
// nothing is in it too; so, with all, is one that no host has.
func List(cat *catalogue.Catalogue, held *drift.Holdings, verdicts map[string][]drift.Verdict, f narrow.Filter,
	now time.Time, all bool) []Row {
	drifts := map[estate.Key]int{}
	bound := map[estate.Key]bool{}
	says := map[estate.Key]map[string]bool{}
	for _, vs := range verdicts {
		for i := range vs {
			v := &vs[i]
			bound[v.Component] = true
			if v.Outcome.Drifts() {
				drifts[v.Component]++
			}
			if says[v.Component] == nil {
				says[v.Component] = map[string]bool{}
			}
			says[v.Component][v.Outcome.String()] = true
		}
	}
	var out []Row
	keys := cat.Components()
	if len(held.Keys()) > 0 {
		keys = slices.Compact(slices.Sorted(slices.Values(slices.Concat(keys, held.Keys()))))
	}
	for _, k := range keys {
		r := row(cat, held, k)
		r.Drift = drifts[k]
		if k.Layer() == estate.Settings { // what is set has no releases
			continue
		}
		if k.Name() == "*" || r.Hosts == 0 && !bound[k] && !all && k.Kind() != estate.WholeHost ||
			r.Releases == 0 && !bound[k] && !all {
			continue
		}
		if f.Empty() || f.Lets(subject(cat, held, k, r, says[k], now)) {
			out = append(out, r)
		}
	}
	return out
}

func row(cat *catalogue.Catalogue, held *drift.Holdings, k estate.Key) Row {
	r := Row{Component: k}
	rs := cat.Releases(k)
	r.Releases = len(rs)
	newest := map[string]string{}
	var order []string
	for i := range rs {
		x := &rs[i]
		if x.Withdrawn != "" {
			r.Withdrawn++
			continue
		}
		if _, ok := newest[x.Track]; !ok {
			order = append(order, x.Track)
		}
		newest[x.Track] = x.Version
		r.Severity, r.Vendor, r.Feed = max(r.Severity, x.Severity), x.Vendor, x.Feed
		if x.Date.After(r.Made) {
			r.Made = x.Date
		}
	}
	for _, t := range order {
		v := newest[t]
		if len(order) > 1 && t != "" {
			v += " (" + t + ")"
		}
		r.Newest = append(r.Newest, v)
	}
	r.Tracks = len(order)
	seen := map[string]bool{}
	for _, s := range held.Standings(k) {
		for _, h := range s.Hosts {
			seen[h] = true
		}
	}
	r.Hosts = len(seen)
	return r
}

func subject(cat *catalogue.Catalogue, held *drift.Holdings, k estate.Key, r Row, says map[string]bool,
	now time.Time) narrow.Subject {
	s := narrow.Subject{Component: k, Severity: r.Severity, Vendor: r.Vendor, Age: -1,
		Words: append(slices.Clone(r.Newest), r.Feed)}
	if !r.Made.IsZero() {
		s.Age = now.Sub(r.Made)
	}
	s.Class = held.Class(k)
	for w := range says {
		s.Verdicts = append(s.Verdicts, w)
	}
	for _, st := range held.Standings(k) {
		s.Hosts = append(s.Hosts, st.Hosts...)
		s.Hardware, s.Words = append(s.Hardware, st.Model), append(s.Words, st.Version)
	}
	rs := cat.Releases(k)
	for i := range rs {
		s.Hardware = append(s.Hardware, rs[i].Hardware...)
		s.Words = append(s.Words, rs[i].Advisories...)
	}
	return s
}

// Title names one of the ladders.
func (l Ladder) Title(t Track) string {
	s := string(l.Component)
	if t.Name != "" {
		s += ", track " + t.Name
	}
	if t.Model != "" {
		s += ", for " + t.Model
	}
	return s
}

// Says is what there is to say of a rung, a phrase each.
func (r Rung) Says() (out []string) {
	switch {
	case r.Release == nil:
		out = append(out, "in no feed")
	case r.Release.Withdrawn != "":
		out = append(out, "withdrawn: "+r.Release.Withdrawn)
	case r.Release.Manual:
		out = append(out, "not followed automatically")
	}
	if r.Release != nil && r.Release.Severity > catalogue.Unknown {
		out = append(out, r.Release.Severity.String())
	}
	if r.Newest {
		out = append(out, "newest")
	}
	if len(r.Wanted) > 0 {
		out = append(out, "wanted by "+strings.Join(r.Wanted, ", "))
	}
	if len(r.Open) > 0 {
		out = append(out, "affected by "+strings.Join(r.Open, ", "))
	}
	if len(r.Waits) > 0 {
		out = append(out, "not running yet on "+strings.Join(r.Waits, ", "))
	}
	return out
}

// Advisories are those that some rung is affected by or is the first to mend, in the order of their ids.
func (l Ladder) Advisories() []string {
	var out []string
	for _, t := range l.Tracks {
		for _, r := range t.Rungs {
			out = append(out, r.Open...)
			if r.Release != nil {
				for _, f := range r.Release.Fixes {
					out = append(out, f.Advisory)
				}
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
