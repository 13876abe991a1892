package drift

import (
	"slices"
	"time"

	"yareharbour/core/estate"
)

// Tally is what a check of a cluster counted at one time.
type Tally struct {
	At     time.Time            `json:"at,omitzero"`
	Drift  map[estate.Layer]int `json:"drift"` // verdicts that are out of line, by layer
	Unread int                  `json:"unread"`
	// Undecided are verdicts of which what is wanted can't be told; Unasked, hosts of which no clause asks anything.
	Undecided int `json:"undecided,omitempty"`
	Unasked   int `json:"unasked,omitempty"`
	InLine    int `json:"in_line"`
	Hosts     int `json:"hosts"`  // that were judged
	Adrift    int `json:"adrift"` // of them, with any drift
}

// Count tallies verdicts of a cluster's hosts.
func Count(at time.Time, byHost map[string][]Verdict) Tally {
	t := Tally{At: at, Drift: map[estate.Layer]int{}}
	for _, vs := range byHost {
		t.Hosts++
		if len(vs) == 0 {
			t.Unasked++
		}
		drifts := false
		for i := range vs {
			switch v := &vs[i]; {
			case v.Outcome == Unread:
				t.Unread++
			case v.Outcome == Undecided:
				t.Undecided++
			case v.Outcome == InLine:
				t.InLine++
			case v.Outcome.Drifts():
				t.Drift[v.Layer()]++
				drifts = true
			}
		}
		if drifts {
			t.Adrift++
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
