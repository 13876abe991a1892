package view

import (
	"fmt"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/plan"
)

// Timeline is a round along time, with what stands above and below it.
type Timeline struct {
	Title, Subtitle, Note string
	Lanes                 Lanes
}

// timeline is a round with its lanes.
func timeline(s *course.State, l Lanes, took string) Timeline {
	_, moves := s.Tally()
	b := s.Plan.Brief
	subtitle := fmt.Sprintf("%s – %s", s.Started.Format("Mon 2 Jan 2006 15:04"), s.Status)
	if b.By != "" {
		subtitle += fmt.Sprintf(", by %s: %s", b.By, b.Reason)
	}
	return Timeline{"Round over " + b.Cluster, subtitle,
		fmt.Sprintf("%s %s; moves %d, floor %d", took, drift.Age(l.To.Sub(l.From)), moves, s.Plan.Floor), l}
}

// round is a round report.
type round struct {
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
	Hosts   []visit      `json:"hosts"`
	Aside   []plan.Aside `json:"aside"` // hosts that were not visited, with why
	Staging plan.Staging `json:"staging,omitempty"`
}

// visit is a host of a round report.
type visit struct {
	Host    string    `json:"host"`
	Outcome string    `json:"outcome"`
	Why     string    `json:"why,omitempty"`
	Remedy  string    `json:"remedy,omitempty"`
	Logs    []act.Log `json:"logs,omitempty"` // of the moment at which it failed
	Seconds float64   `json:"seconds"`
	Moves   []string  `json:"moves"`
	Changes []change  `json:"changes"`
	Steps   []step    `json:"steps"`
	Notes   []string  `json:"notes,omitempty"`
	// of the configuration that was kept before the first change
	Kept string   `json:"configuration_sha256,omitempty"`
	Left []string `json:"left,omitempty"`
}

// change is a component before and after.
type change struct {
	Component string `json:"component"`
	Device    string `json:"device,omitempty"`
	Before    string `json:"before"`
	After     string `json:"after"`
	Pass      int    `json:"pass"`
	Outcome   string `json:"outcome"` // done, failed, not known, not done, left out; of staging: waits there, not brought
}

// step is a step with the time it took.
type step struct {
	Step    string    `json:"step"`
	From    time.Time `json:"from"`
	Seconds float64   `json:"seconds"`
	Failed  bool      `json:"failed,omitempty"`
}

// OfRound is what a round did, from its journal's fold; as a drawing, its timeline.
func OfRound(id string, s *course.State) Document {
	b := s.Plan.Brief
	r := round{ID: id, Cluster: b.Cluster, Status: string(s.Status), Detail: s.Detail, By: b.By, Reason: b.Reason,
		Started: s.Started, Ended: s.Ended, Floor: s.Plan.Floor, Aside: s.Plan.Aside, Staging: b.Staging, Hosts: []visit{}}
	_, r.Moves = s.Tally()
	d := Document{Name: "round", Subjects: []string{b.Cluster}, Drawing: timeline(s, Went(s, s.Last, nil, 0), "took")}
	d.Table.Columns = Columns("round", "cluster", "host", "outcome", "component", "device", "before", "after", "pass", "change")
	d.Text = []Block{Lines(r.head()...)}
	for i := range s.Visits {
		v := visitOf(&s.Visits[i])
		r.Hosts = append(r.Hosts, v)
		for _, c := range v.Changes {
			d.Table.Rows = append(d.Table.Rows, []any{id, b.Cluster, v.Host, v.Outcome, c.Component, c.Device, c.Before, c.After,
				c.Pass, c.Outcome})
		}
		d.Text = append(d.Text, v.text()...)
	}
	d.Value, d.Text = r, append(d.Text, aside(r.Aside)...)
	return d
}

func visitOf(v *course.Visit) visit {
	out := visit{Host: v.Host, Outcome: outcome(v), Left: v.Left, Notes: v.Notes, Kept: v.Kept, Moves: []string{},
		Changes: []change{}, Steps: []step{}}
	if v.Failure != nil {
		out.Why, out.Remedy, out.Logs = v.Failure.Error, act.Advised(v.Failure.Remedy, v.Failure.Command), v.Failure.Logs
	}
	for _, m := range v.Moved() {
		out.Moves = append(out.Moves, m.Guest+" → "+m.To)
	}
	for i, c := range v.Changes {
		out.Changes = append(out.Changes, change{string(c.Component), c.Device, c.From, c.To, c.Pass, changed(v, i)})
	}
	for _, s := range v.Spans {
		d := s.To.Sub(s.From)
		if s.To.IsZero() {
			d = 0
		}
		out.Seconds += d.Seconds()
		out.Steps = append(out.Steps, step{string(s.Step), s.From, d.Seconds(), s.Failed})
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

// changed is what became of the i-th change.
func changed(v *course.Visit, i int) string {
	f := v.Failure
	switch {
	case v.Ahead && v.Did(act.Stage, i):
		return "waits there"
	case v.Ahead:
		return "not brought"
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

func (r *round) head() (s said) {
	s.add("Round %s over %s: %s", r.ID, r.Cluster, r.Status)
	if r.Detail != "" {
		s.add("  %s", r.Detail)
	}
	s.add("  by %s: %s", OrDash(r.By), OrDash(r.Reason))
	took := ""
	if !r.Ended.IsZero() {
		took = fmt.Sprintf(" to %s, %s", r.Ended.Local().Format(second), r.Ended.Sub(r.Started).Round(time.Second))
	}
	s.add("  from %s%s", r.Started.Local().Format(second), took)
	if r.Staging == "" {
		s.add("  moves %d, floor %d", r.Moves, r.Floor)
	}
	return s
}

func (v *visit) text() []Block {
	head := said{""}
	head.add("%s: %s, %s, moves %d", v.Host, v.Outcome, drift.Age(time.Duration(v.Seconds)*time.Second), len(v.Moves))
	if v.Why != "" {
		head.add("  why: %s", v.Why)
		head.add("  what next: %s", OrDash(v.Remedy))
	}
	for i := range v.Logs {
		l := &v.Logs[i]
		for j, line := range l.Last(8) {
			if j == 0 {
				head.add("  log of %s at that moment:", l.Title())
			}
			head.add("    %s", line)
		}
	}
	changes := Table{Columns: Columns("component", "change", "outcome"), Headless: true}
	for _, c := range v.Changes {
		changes.Rows = append(changes.Rows, []any{strings.TrimSpace(c.Component + " " + c.Device),
			OrDash(c.Before) + " → " + OrDash(c.After), c.Outcome})
	}
	var foot said
	if v.Kept != "" {
		foot.add("  its configuration was kept before the first change, SHA-256 %s", v.Kept)
	}
	for _, n := range append(v.Notes, v.Left...) {
		foot.add("  note: %s", n)
	}
	return []Block{Lines(head...), {Table: &changes}, Lines(foot...)}
}
