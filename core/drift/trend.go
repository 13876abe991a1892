package drift

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Tally is what a check of a cluster counted at one time.
type Tally struct {
	At    time.Time            `json:"at,omitzero"`
	Drift map[estate.Layer]int `json:"drift"` // verdicts that are out of line, by layer
	// Severities are the same by severity, in a word.
	Severities map[string]int `json:"by_severity,omitempty"`
	Unread     int            `json:"unread"`
	// Undecided are verdicts of which what is wanted can't be told; Unasked, hosts of which nothing was judged; Unseen,
	// those that were never read.
	Undecided int `json:"undecided,omitempty"`
	Unasked   int `json:"unasked,omitempty"`
	Unseen    int `json:"never_read,omitempty"`
	InLine    int `json:"in_line"`
	Hosts     int `json:"hosts"`  // all of them
	Adrift    int `json:"adrift"` // of them, with any drift
}

// Open says of how much nothing is known or judged: "" where that is nothing.
func (t Tally) Open() string {
	var out []string
	for _, x := range []struct {
		n    int
		says string
	}{{t.Unread, "unread"}, {t.Undecided, "undecided"}, {t.Unasked, "not covered"}, {t.Unseen, "never read"}} {
		if x.n > 0 {
			out = append(out, fmt.Sprintf("%d %s", x.n, x.says))
		}
	}
	return strings.Join(out, ", ")
}

// Count tallies verdicts of a cluster's hosts, those that were never read among them: they are not in byHost.
func Count(at time.Time, hosts []string, byHost map[string][]Verdict) Tally {
	t := Tally{At: at, Drift: map[estate.Layer]int{}, Hosts: len(hosts)}
	for _, h := range hosts {
		vs, read := byHost[h]
		s := Summarize(vs)
		t.Unread, t.Undecided, t.InLine, t.Adrift = t.Unread+s.Unread, t.Undecided+s.Undecided, t.InLine+s.InLine, t.Adrift+s.Adrift
		for l, n := range s.ByLayer {
			t.Drift[estate.Layer(l)] += n
		}
		for s, n := range s.BySeverity {
			if t.Severities == nil {
				t.Severities = map[string]int{}
			}
			t.Severities[s] += n
		}
		switch {
		case !read:
			t.Unseen++
		case s.Unasked():
			t.Unasked++
		}
	}
	return t
}

// Total is the drift of all layers.
func (t Tally) Total() (n int) {
	for _, d := range t.Drift {
		n += d
	}
	return n
}

// Seen is what a look saw: the drift of each host by component and device, as its verdict and the version that was
// there.
type Seen map[string]string

// See notes what is out of line.
func See(byHost map[string][]Verdict) Seen {
	out := Seen{}
	for _, vs := range byHost {
		for i := range vs {
			if v := &vs[i]; v.Outcome.Drifts() || v.Outcome.Open() {
				out[v.place()] = v.Outcome.String() + " " + v.Has
			}
		}
	}
	return out
}

// place names where a verdict stands, the same from check to check.
func (v *Verdict) place() string {
	return v.Host + "\x00" + string(v.Component) + "\x00" + v.Device
}

// New tells whether the verdict is drift that the look did not see: it was in line then, or out of line in another way.
func (s Seen) New(v *Verdict) bool {
	return (v.Outcome.Drifts() || v.Outcome.Open()) && s[v.place()] != v.Outcome.String()+" "+v.Has
}

// News is what is out of line in a cluster and was not when somebody last looked. The zero value is that of a cluster
// at which nobody looked yet.
type News struct {
	Since time.Time // of the last look
	By    string
	Drift []Verdict
	Now   Tally // how the cluster stands: what nobody knows is no news, and not well either
}

// Has tells whether a verdict is among the news.
func (n *News) Has(v *Verdict) bool {
	return slices.ContainsFunc(n.Drift, func(o Verdict) bool {
		return o.Host == v.Host && o.Component == v.Component && o.Device == v.Device
	})
}

// Since returns the verdicts that are new drift since the look.
func (s Seen) Since(byHost map[string][]Verdict) []Verdict {
	var out []Verdict
	for _, vs := range byHost {
		for i := range vs {
			if s.New(&vs[i]) {
				out = append(out, vs[i])
			}
		}
	}
	sortVerdicts(out)
	return out
}
