// Package view is what screens, reports, exports and drawings show of an estate. A view is a value that is made once of
// what is known at one moment; everything that is shown of that moment is taken from it, so that an export says what
// its screen said. Nothing here reads, waits, or changes what it is given.
package view

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/survey"
)

// Estate is an estate as it was known at one moment.
type Estate struct {
	Survey    survey.Survey
	Readings  map[string]*estate.Reading
	Verdicts  map[string][]drift.Verdict
	Checker   *drift.Checker              // that gave the verdicts
	Faults    []string                    // the estate's files that can't be read; while there is one no verdict can be trusted
	Siblings  map[string][]drift.Siblings // by cluster
	Rounds    map[string]Round            // the newest of each cluster
	Held      *drift.Holdings             // what hosts have, turned around
	Baselines []Baseline                  // by rank
	Feeds     []Feed
	Lists     []ReleaseList      // of releases
	Bundles   []catalogue.Bundle // that were taken in, the newest first
	Stock     Stock
	News      map[string]drift.News    // by cluster
	Trends    map[string][]drift.Tally // by cluster, in the order of time
	Means     map[string][]drift.Mean  // by cluster: how long drift lasts, of the time of the trends
	Lasting   map[string]time.Time     // since when a place is out of line, by drift.Verdict.Place
	Filters   map[string]string        // kept ones, by name
	Speed     float64                  // of the estate's clock; 1 for real hosts
}

// TrendFor is how long ago a view's trends begin.
const TrendFor = 60 * 24 * time.Hour

// Baseline is a baseline with its text and the number of its newest kept version.
type Baseline struct {
	baseline.Baseline
	File, Text string
	Version    int
}

// Feed is where releases come from, and how it stands. Its times are this machine's, not the estate's.
type Feed struct {
	Name       string    `json:"name"`
	Kind       string    `json:"kind"`
	At         string    `json:"at"`
	Schedule   string    `json:"sync"`
	Off        bool      `json:"-"` // it is never synced by itself
	Due        bool      `json:"-"` // it should be synced now
	Tried      time.Time `json:"tried,omitzero"`
	Synced     time.Time `json:"synced,omitzero"`
	Made       time.Time `json:"made,omitzero"`
	Error      string    `json:"error,omitempty"` // of the last try
	Releases   int       `json:"releases"`
	Advisories int       `json:"advisories"`
	Bytes      int64     `json:"bytes"`
	Aside      []string  `json:"set_aside,omitempty"` // entries that could not be read, and why
}

// ReleaseList is a release list that the estate file names, and how old it is.
type ReleaseList struct {
	Name     string    `json:"name"`
	File     string    `json:"file"`
	Made     time.Time `json:"made,omitzero"` // as its publisher dates it
	Releases int       `json:"releases"`
}

// Payload is a payload in the store, and what it is.
type Payload struct {
	catalogue.Stored
	Release string `json:"release,omitempty"` // component and version; empty where no release names it
	Wanted  bool   `json:"wanted"`            // by a host, as it was last read
}

// Payloads is what the payload store holds.
type Payloads struct {
	Payloads []Payload `json:"payloads"`
	Size     int64     `json:"size"` // bytes
	Free     int64     `json:"free"` // bytes
	Own      Own       `json:"own"`
}

// Own is what the estate's own directory of payloads holds: yare reads it, and never prunes it.
type Own struct {
	Dir   string `json:"dir"`
	Count int    `json:"count"`
	Size  int64  `json:"size"` // bytes
}

// Says puts it in words.
func (o Own) Says() string {
	return fmt.Sprintf("%s, %s, in %s, which is the estate's own and is not pruned", catalogue.Some(o.Count, "payload"),
		catalogue.Bytes(o.Size), o.Dir)
}

// Ways are the ways to a host, as a test of the connection found them.
type Ways struct {
	Host   string  `json:"host"`
	Stages []Stage `json:"stages"`
}

// Stage is a step of a way, as far as that was gone.
type Stage struct {
	Way   string `json:"way"` // SSH, libvirt, BMC
	Name  string `json:"stage"`
	OK    bool   `json:"ok"`
	Found string `json:"found"`
	Do    string `json:"do,omitempty"` // where it does not hold
}

// Failed counts the stages that do not hold.
func (w *Ways) Failed() (n int) {
	for _, s := range w.Stages {
		if !s.OK {
			n++
		}
	}
	return n
}

// Stock is what the payload store holds, in numbers.
type Stock struct {
	Count      int
	Size, Free int64 // bytes
}

// Round is a round as a watcher knows it.
type Round struct {
	ID     string
	State  *course.State
	Events []course.Event
	Says   []course.Said // what is under way, and what hosts wait for
	Runs   bool          // somebody runs it now
}

// Unfinished tells whether there is a round that is not at its end: it runs, or can be gone on with.
func (r Round) Unfinished() bool { return r.State != nil && r.State.Status != course.Finished }

// At is the moment, by the estate's clock.
func (e *Estate) At() time.Time { return e.Survey.At }

// Band is a cluster's band; nil for a cluster that there is not.
func (e *Estate) Band(cluster string) *survey.Band {
	for i := range e.Survey.Bands {
		if e.Survey.Bands[i].Cluster.Name == cluster {
			return &e.Survey.Bands[i]
		}
	}
	return nil
}

// ClusterOf is the cluster that a host belongs to; "" for a host that there is not.
func (e *Estate) ClusterOf(host string) string {
	for _, b := range e.Survey.Bands {
		if slices.Contains(b.Cluster.Hosts, host) {
			return b.Cluster.Name
		}
	}
	return ""
}

// Hosts are the hosts of a cluster, or of the whole estate where none is named.
func (e *Estate) Hosts(cluster string) (out []string) {
	for _, b := range e.Survey.Bands {
		if cluster == "" || b.Cluster.Name == cluster {
			out = append(out, b.Cluster.Hosts...)
		}
	}
	return out
}

// Binding are the baselines that are assigned to a host, the first to go before the others first.
func (e *Estate) Binding(cluster, host string) (out []Baseline) {
	for _, b := range e.Baselines {
		if b.Binds(cluster, host) {
			out = append(out, b)
		}
	}
	return out
}

// Baseline is the baseline of that name, and false where there is none.
func (e *Estate) Baseline(name string) (Baseline, bool) {
	for _, b := range e.Baselines {
		if b.Name == name {
			return b, true
		}
	}
	return Baseline{}, false
}

// Lets tells whether a filter lets a verdict through.
func (e *Estate) Lets(f narrow.Filter, v *drift.Verdict) bool {
	return f.Empty() || f.Lets(v.Subject(e.Survey.At))
}

// LetsHost tells whether a filter lets a host through: by its own name or cluster, or by anything out of line on it.
func (e *Estate) LetsHost(f narrow.Filter, cluster string, b survey.Berth) bool {
	if f.Empty() ||
		f.Lets(narrow.Subject{Hosts: []string{b.Host}, Age: -1, Words: []string{cluster, string(b.Service)}}) {
		return true
	}
	return slices.ContainsFunc(e.Verdicts[b.Host], func(v drift.Verdict) bool {
		return (v.Outcome.Drifts() || v.Outcome.Open()) && e.Lets(f, &v)
	})
}

// Bands are the clusters with the hosts that a filter lets through; one of which it lets none through is not among
// them.
func (e *Estate) Bands(f narrow.Filter) []survey.Band {
	if f.Empty() {
		return e.Survey.Bands
	}
	var out []survey.Band
	for _, b := range e.Survey.Bands {
		b.Berths = slices.DeleteFunc(slices.Clone(b.Berths), func(h survey.Berth) bool {
			return !e.LetsHost(f, b.Cluster.Name, h)
		})
		if len(b.Berths) > 0 {
			out = append(out, b)
		}
	}
	return out
}

// Folded tells whether there are more clusters than can be shown with all their hosts at once.
func (e *Estate) Folded() bool {
	const most = 4
	return len(e.Survey.Bands) > most
}

// Arranged are Bands in the order in which they are shown: as the estate file has them, or, where they are folded, the
// worst first.
func (e *Estate) Arranged(f narrow.Filter) []survey.Band {
	out := e.Bands(f)
	if e.Folded() {
		out = slices.Clone(out)
		slices.SortStableFunc(out, func(a, b survey.Band) int { return survey.Compare(&a, &b) })
	}
	return out
}

// Needs are what needs a person, as far as a filter lets it through.
func (e *Estate) Needs(f narrow.Filter) []survey.Need {
	if f.Empty() {
		return e.Survey.Needs
	}
	hosts := map[string][]string{}
	for _, b := range e.Survey.Bands {
		hosts[b.Cluster.Name] = b.Cluster.Hosts
	}
	return slices.DeleteFunc(slices.Clone(e.Survey.Needs), func(n survey.Need) bool {
		return !slices.ContainsFunc(n.Subjects(hosts[n.Cluster], e.Survey.At), f.Lets)
	})
}

// Idle are the words of a filter that nothing answers to which is judged, and no host: a misspelt one hides everything.
func (e *Estate) Idle(f narrow.Filter) []string {
	var all []narrow.Subject
	for _, b := range e.Survey.Bands {
		for _, h := range b.Cluster.Hosts {
			all = append(all, narrow.Subject{Hosts: []string{h}, Age: -1, Words: []string{b.Cluster.Name}})
			for _, v := range e.Verdicts[h] {
				all = append(all, v.Subject(e.Survey.At))
			}
		}
	}
	return f.Idle(all)
}

// Mismatches are the devices of a host whose combination is on no compatibility list that speaks of them.
func (e *Estate) Mismatches(r *estate.Reading) []catalogue.Mismatch {
	return e.Checker.Catalogue.Mismatches(r.Release, r.Models(), catalogue.HeldBy(r))
}

// Why tells the story of a verdict; nothing where its host was never read.
func (e *Estate) Why(v *drift.Verdict) []string {
	r := e.Readings[v.Host]
	if r == nil {
		return nil
	}
	return Judged{Checker: e.Checker, Lasting: e.Lasting}.Why(e.ClusterOf(v.Host), v, r)
}
