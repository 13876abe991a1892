package report

import (
	"io"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/plan"
	"yareharbour/format/plain"
)

// Round is a round report.
type Round struct {
	ID      string       `json:"id"`
	Cluster string       `json:"cluster"`
	Status  string       `json:"status"`
	Detail  string       `json:"detail,omitempty"`
	By      string       `json:"by"`
	Reason  string       `json:"reason"`
	Started time.Time    `json:"started"`
	Ended   time.Time    `json:"ended,omitzero"`
	Moves   int          `json:"moves"`
	Floor   int          `json:"floor"`
	Hosts   []Visit      `json:"hosts"`
	Aside   []plan.Aside `json:"aside"` // hosts that were not visited, with why
}

// Visit is a host of a round report.
type Visit struct {
	Host    string    `json:"host"`
	Outcome string    `json:"outcome"`
	Why     string    `json:"why,omitempty"`
	Remedy  string    `json:"remedy,omitempty"`
	Logs    []act.Log `json:"logs,omitempty"` // of the moment at which it failed
	Seconds float64   `json:"seconds"`
	Moves   []string  `json:"moves"`
	Changes []Change  `json:"changes"`
	Steps   []Step    `json:"steps"`
	Notes   []string  `json:"notes,omitempty"`
	// of the configuration that was kept before the first change
	Kept string   `json:"configuration_sha256,omitempty"`
	Left []string `json:"left,omitempty"`
}

// Change is a component before and after.
type Change struct {
	Component string `json:"component"`
	Device    string `json:"device,omitempty"`
	Before    string `json:"before"`
	After     string `json:"after"`
	Pass      int    `json:"pass"`
	Outcome   string `json:"outcome"` // done, failed, not known, not done
}

// Step is a step with the time it took.
type Step struct {
	Step    string    `json:"step"`
	From    time.Time `json:"from"`
	Seconds float64   `json:"seconds"`
	Failed  bool      `json:"failed,omitempty"`
}

// NewRound makes the report of a round from its journal's fold.
func NewRound(id string, s *course.State) Round {
	b := s.Plan.Brief
	r := Round{ID: id, Cluster: b.Cluster, Status: string(s.Status), Detail: s.Detail, By: b.By,
		Reason: b.Reason, Started: s.Started, Ended: s.Ended, Floor: s.Plan.Floor,
		Aside: s.Plan.Aside, Hosts: []Visit{}}
	_, r.Moves = s.Tally()
	for i := range s.Visits {
		r.Hosts = append(r.Hosts, newVisit(&s.Visits[i]))
	}
	return r
}

func newVisit(v *course.Visit) Visit {
	out := Visit{Host: v.Host, Outcome: outcome(v), Left: v.Left, Notes: v.Notes, Kept: v.Kept, Moves: []string{},
		Changes: []Change{}, Steps: []Step{}}
	if v.Failure != nil {
		out.Why, out.Remedy, out.Logs = v.Failure.Error, act.Advised(v.Failure.Remedy, v.Failure.Command), v.Failure.Logs
	}
	for _, m := range v.Moved() {
		out.Moves = append(out.Moves, m.Guest+" → "+m.To)
	}
	for i, c := range v.Changes {
		out.Changes = append(out.Changes,
			Change{string(c.Component), c.Device, c.From, c.To, c.Pass, changeOutcome(v, i)})
	}
	for _, s := range v.Spans {
		d := s.To.Sub(s.From)
		if s.To.IsZero() {
			d = 0
		}
		out.Seconds += d.Seconds()
		out.Steps = append(out.Steps, Step{string(s.Step), s.From, d.Seconds(), s.Failed})
	}
	return out
}

func outcome(v *course.Visit) string {
	switch {
	case v.Phase == course.Over:
		return "done"
	case v.Phase == course.HandedOver:
		return "handed over"
	case v.Failure != nil && v.Closed():
		return "failed, stays closed"
	case v.Failure != nil:
		return "failed"
	case v.Phase == course.LeftOut:
		return "left out"
	case v.Under():
		return "under way"
	}
	return "not begun"
}

func changeOutcome(v *course.Visit, i int) string {
	f := v.Failure
	switch {
	case v.Without(i):
		return "left out"
	case v.Made(i) || v.Phase == course.Over:
		return "done"
	case f != nil && !f.Certain && f.Act != nil && f.Act.Makes(i):
		return "not known"
	case f != nil && f.Act != nil && f.Act.Makes(i):
		return "failed"
	}
	return "not done"
}

// Write writes the report as text, CSV or JSON.
func (r Round) Write(w io.Writer, format string) error {
	switch format {
	case "csv":
		return r.CSV(w)
	case "json":
		return JSON(w, r)
	}
	return r.Text(w)
}

// Text writes the report for reading.
func (r Round) Text(w io.Writer) error {
	plain.Fprintf(w, "Round %s over %s: %s\n", r.ID, r.Cluster, r.Status)
	if r.Detail != "" {
		plain.Fprintf(w, "  %s\n", r.Detail)
	}
	plain.Fprintf(w, "  by %s: %s\n  from %s", dash(r.By), dash(r.Reason), r.Started.Local().Format(stamp))
	if !r.Ended.IsZero() {
		plain.Fprintf(w, " to %s, %s", r.Ended.Local().Format(stamp), r.Ended.Sub(r.Started).Round(time.Second))
	}
	plain.Fprintf(w, "\n  moves %d, floor %d\n", r.Moves, r.Floor)
	for _, v := range r.Hosts {
		plain.Fprintf(w, "\n%s: %s, %s, moves %d\n", v.Host, v.Outcome, drift.Age(time.Duration(v.Seconds)*time.Second),
			len(v.Moves))
		if v.Why != "" {
			plain.Fprintf(w, "  why: %s\n  what next: %s\n", v.Why, dash(v.Remedy))
		}
		for i := range v.Logs {
			l := &v.Logs[i]
			for j, line := range l.Last(8) {
				if j == 0 {
					plain.Fprintf(w, "  log of %s at that moment:\n", l.Title())
				}
				plain.Fprintf(w, "    %s\n", line)
			}
		}
		t := tabwriter.NewWriter(w, 2, 0, 2, ' ', 0)
		for _, c := range v.Changes {
			plain.Fprintf(t, "  \t%s\t%s → %s\t%s\n", strings.TrimSpace(c.Component+" "+c.Device), dash(c.Before),
				dash(c.After), c.Outcome)
		}
		if err := t.Flush(); err != nil {
			return err
		}
		if v.Kept != "" {
			plain.Fprintf(w, "  its configuration was kept before the first change, SHA-256 %s\n", v.Kept)
		}
		for _, n := range append(v.Notes, v.Left...) {
			plain.Fprintf(w, "  note: %s\n", n)
		}
	}
	return Aside(w, r.Aside)
}

// Aside writes which hosts a round does not visit, and why.
func Aside(w io.Writer, all []plan.Aside) error {
	if len(all) == 0 {
		return nil
	}
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	plain.Fprintln(t, "\nnot visited")
	for _, a := range all {
		plain.Fprintf(t, "   %s\t%s\n", a.Host, a.Why)
	}
	return t.Flush()
}

// CSV writes every change as a line (RFC 4180), with a header.
func (r Round) CSV(w io.Writer) error {
	rows := [][]string{{"round", "cluster", "host", "outcome", "component", "device", "before",
		"after", "pass", "change"}}
	for _, v := range r.Hosts {
		for _, c := range v.Changes {
			rows = append(rows, []string{r.ID, r.Cluster, v.Host, v.Outcome, c.Component, c.Device, c.Before, c.After,
				strconv.Itoa(c.Pass), c.Outcome})
		}
	}
	return Rows(w, rows)
}
