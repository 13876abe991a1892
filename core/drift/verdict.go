// Package drift compares what hosts have with what baselines want of them, and hosts with their siblings. Each verdict
// can say why: which value was read when and from where, which clause binds it, which release mends it and which
// newer-looking ones were passed over.
package drift

import (
	"fmt"
	"maps"
	"strings"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// Outcome is what a clause comes to on a host. The outcomes are tried in the order in which they stand here; the first
// that holds is the verdict.
type Outcome uint8

// The outcomes.
const (
	Unread Outcome = iota
	Disputed
	Excepted
	NotApplying
	Unwanted
	HalfInstalled
	Withdrawn
	Undecided // what is wanted can't be told: sources disagree or are missing, or nothing meets the clause
	Absent
	OffTrack
	Behind
	Ahead
	AwaitingRestart
	InLine
)

// Outcomes lists them in the order in which they are tried.
var Outcomes = []Outcome{Unread, Disputed, Excepted, NotApplying, Unwanted, HalfInstalled, Withdrawn, Undecided, Absent,
	OffTrack, Behind, Ahead, AwaitingRestart, InLine}

var outcomeNames = [...]string{"unread", "disputed", "excepted", "does not apply", "unwanted", "half installed",
	"withdrawn", "undecided", "absent", "off track", "behind", "ahead", "awaiting restart", "in line"}

// String returns the vocabulary's word for the outcome.
func (o Outcome) String() string { return outcomeNames[o] }

// MarshalText writes that word.
func (o Outcome) MarshalText() ([]byte, error) { return []byte(o.String()), nil }

// UnmarshalText reads that word.
func (o *Outcome) UnmarshalText(b []byte) error {
	for i, n := range outcomeNames {
		if n == string(b) {
			*o = Outcome(i)
			return nil
		}
	}
	return fmt.Errorf("no outcome %q", b)
}

// Open tells whether nobody can say what the outcome comes to: what the host has was not read, or what is wanted of it
// can't be told. It is neither in line nor drift, and may turn out to be either.
func (o Outcome) Open() bool { return o == Unread || o == Undecided }

// Drifts tells whether the outcome is out of line. One that is open is neither that nor in line.
func (o Outcome) Drifts() bool {
	switch o {
	case Unread, Undecided, Excepted, NotApplying, InLine:
		return false
	}
	return true
}

// Verdict is one clause's outcome on one host.
type Verdict struct {
	Host      string
	Component estate.Key
	Device    string
	Outcome   Outcome
	Has       string            // installed version; empty where absent or unread
	Last      string            // where it is unread: the version last known; empty where none is
	LastAt    time.Time         // when that was read
	Wants     string            // wanted version; empty where none can be named
	Found     *estate.Component // what was read; nil where absent or unread
	Model     string            // of the device, as it was read or last known
	Class     string            // likewise
	Clause    *baseline.Bound
	Release   *catalogue.Release // the wanted release, if the catalogue has it
	Cause     string             // where it is undecided: why
}

// Layer is the layer of the verdict's component.
func (v *Verdict) Layer() estate.Layer { return v.Component.Layer() }

// Title is the component with its device.
func (v *Verdict) Title() string {
	return estate.Component{Key: v.Component, Device: v.Device}.Title()
}

// Subject is what a filter looks at of the verdict at the time now. Which release an undecided one wants is not known,
// and so neither is its severity, publisher or age.
func (v *Verdict) Subject(now time.Time) narrow.Subject {
	s := narrow.Subject{Hosts: []string{v.Host}, Component: v.Component,
		Verdicts: []string{v.Outcome.String()}, Age: -1, Hardware: []string{v.Model}, Class: v.Class,
		Words: []string{v.Device, v.Has, v.Wants, v.Last, v.Model}, Open: v.Outcome.Open()}
	if v.Clause != nil {
		s.Words = append(s.Words, v.Clause.Baseline)
	}
	if r := v.Release; r != nil && !v.Outcome.Open() {
		s.Severity, s.Vendor, s.Words = v.Severity(), r.Vendor, append(s.Words, r.Advisories...)
		if !r.Date.IsZero() {
			s.Age = now.Sub(r.Date)
		}
	}
	return s
}

// Severity is that of the wanted release, where it is known.
func (v *Verdict) Severity() catalogue.Severity {
	if v.Release == nil {
		return catalogue.Unknown
	}
	return v.Release.SeverityFrom(v.Has)
}

// Summary counts verdicts, each of which is about one place: a component, or one of several devices, on a host. Those
// that are open stand by themselves, each by its name.
type Summary struct {
	Hosts     int                `json:"hosts"`        // that were judged
	Adrift    int                `json:"hosts_adrift"` // of them, with any drift
	InLine    int                `json:"in_line"`
	Drift     int                `json:"drift"`
	Unread    int                `json:"unread"`
	Undecided int                `json:"undecided"`
	Aside     int                `json:"aside"` // excepted, or does not apply
	ByWord    map[string]int     `json:"by_verdict"`
	ByLayer   map[string]int     `json:"drift_by_layer"`
	Worst     catalogue.Severity `json:"worst_severity"`
	// BySeverity counts drift by the severity of the release that would mend it; "unknown" where none is stated.
	BySeverity map[string]int `json:"drift_by_severity"`
}

// Summarize counts the verdicts.
func Summarize(vs []Verdict) Summary {
	s := Summary{ByWord: map[string]int{}, ByLayer: map[string]int{}, BySeverity: map[string]int{}}
	hosts := map[string]bool{} // whether it is adrift
	for i := range vs {
		v := &vs[i]
		hosts[v.Host] = hosts[v.Host] || v.Outcome.Drifts()
		s.ByWord[v.Outcome.String()]++
		switch {
		case v.Outcome == InLine:
			s.InLine++
		case v.Outcome == Unread:
			s.Unread++
		case v.Outcome == Undecided:
			s.Undecided++
		case v.Outcome.Drifts():
			s.Drift++
			s.ByLayer[string(v.Layer())]++
			s.BySeverity[v.Severity().String()]++
			s.Worst = max(s.Worst, v.Severity())
		default:
			s.Aside++
		}
	}
	s.Hosts = len(hosts)
	for _, adrift := range hosts {
		if adrift {
			s.Adrift++
		}
	}
	return s
}

// Well tells of the sum of all verdicts on a host whether it is in line: something was judged to be, and everything else
// is too, or excepted, or known not to apply.
func (s Summary) Well() bool { return s.InLine > 0 && s.Drift+s.Open() == 0 }

// Unasked tells of the sum of all verdicts on a host that none of them judges anything: no clause binds it, or each is
// excepted or does not apply.
func (s Summary) Unasked() bool { return s.InLine+s.Drift+s.Open() == 0 }

// Unjudged tells that nothing was judged: nothing is well, or wrong, as far as anybody knows.
func (s Summary) Unjudged() bool { return s.InLine+s.Drift == 0 }

// Says puts the sum in words: places, and on how many hosts those that are out of line are.
func (s Summary) Says() string {
	parts := []string{catalogue.Some(s.InLine, "place") + " in line", fmt.Sprintf("%d adrift", s.Drift)}
	if s.Drift > 0 {
		parts[1] += fmt.Sprintf(" on %d of %s", s.Adrift, catalogue.Some(s.Hosts, "host"))
	}
	parts = append(parts, fmt.Sprintf("%d unread", s.Unread))
	if s.Undecided > 0 {
		parts = append(parts, fmt.Sprintf("%d undecided", s.Undecided))
	}
	return strings.Join(append(parts, fmt.Sprintf("%d excepted or not applying", s.Aside)), ", ")
}

// Open counts the verdicts that nobody can give.
func (s Summary) Open() int { return s.Unread + s.Undecided }

// Plus adds the sum of other hosts to this one. Every sum over hosts or clusters is made so.
func (s Summary) Plus(o Summary) Summary {
	add := func(a, b map[string]int) map[string]int {
		out := maps.Clone(a)
		if out == nil {
			out = map[string]int{}
		}
		for k, n := range b {
			out[k] += n
		}
		return out
	}
	return Summary{Hosts: s.Hosts + o.Hosts, Adrift: s.Adrift + o.Adrift, InLine: s.InLine + o.InLine,
		Drift: s.Drift + o.Drift, Unread: s.Unread + o.Unread, Undecided: s.Undecided + o.Undecided, Aside: s.Aside + o.Aside,
		ByWord: add(s.ByWord, o.ByWord), ByLayer: add(s.ByLayer, o.ByLayer),
		BySeverity: add(s.BySeverity, o.BySeverity), Worst: max(s.Worst, o.Worst)}
}
