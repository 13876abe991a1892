package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// Timeline is a round along time, with what stands above and below it.
type Timeline struct {
	Title, Subtitle, Note string
	Lanes                 Lanes
}

// timeline is a round with its lanes.
func timeline(s *course.State, l Lanes, took string, length time.Duration) Timeline {
	_, moves := s.Tally()
	b := s.Plan.Brief
	subtitle := fmt.Sprintf("%s – %s", s.Started.Format("Mon 2 Jan 2006 15:04 MST"), s.Status)
	if b.By != "" {
		subtitle += fmt.Sprintf(", by %s: %s", b.By, b.Reason)
	}
	return Timeline{"Round over " + b.Cluster, subtitle,
		fmt.Sprintf("%s %s; moves %d, floor %d", took, drift.Age(length), moves, s.Plan.Floor), l}
}

// RoundLine is a round in one line, as it stands or ended.
type RoundLine struct {
	ID      string    `json:"id"`
	Cluster string    `json:"cluster"`
	Does    string    `json:"does"` // round, staging, or what was done by hand to which host
	Status  string    `json:"status"`
	Detail  string    `json:"detail,omitempty"`
	By      string    `json:"by"`
	From    string    `json:"from,omitempty"` // where that person was
	Reason  string    `json:"reason"`
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended,omitzero"`
	Totals
	Took    float64 `json:"seconds"`         // until it ended, or until its newest entry
	Planned float64 `json:"planned_seconds"` // about, as its plan had it
	Worst   float64 `json:"worst_seconds"`   // at worst
	// Needed counts the times that it stood still for a person, and Decided what persons asked of it.
	Needed  int      `json:"needed_person"`
	Decided int      `json:"decisions"`
	Visited []string `json:"visited"`                 // hosts, in the order of their visits
	Wrong   string   `json:"journal_fault,omitempty"` // why its journal can't be read to its end; the rest is of what comes before
}

// Totals count what rounds did.
type Totals struct {
	Hosts      int `json:"hosts"` // visits that were planned
	HostsDone  int `json:"hosts_done"`
	Moves      int `json:"moves"`
	Changes    int `json:"changes"` // that were planned, and taken in on the way
	Done       int `json:"changes_done"`
	Failed     int `json:"changes_failed"` // how they came out is certain or not known
	LeftOut    int `json:"changes_left_out"`
	Cancelled  int `json:"changes_cancelled"`
	Unfinished int `json:"changes_not_done"`
}

// Add adds others to them.
func (t *Totals) Add(o Totals) {
	t.Hosts, t.HostsDone, t.Moves, t.Changes = t.Hosts+o.Hosts, t.HostsDone+o.HostsDone, t.Moves+o.Moves, t.Changes+o.Changes
	t.Done, t.Failed, t.LeftOut = t.Done+o.Done, t.Failed+o.Failed, t.LeftOut+o.LeftOut
	t.Cancelled, t.Unfinished = t.Cancelled+o.Cancelled, t.Unfinished+o.Unfinished
}

// Says puts them in words.
func (t *Totals) Says() string {
	parts := []string{fmt.Sprintf("hosts %d of %d done", t.HostsDone, t.Hosts), fmt.Sprintf("moves %d", t.Moves),
		fmt.Sprintf("changes %d of %d done", t.Done, t.Changes)}
	for _, n := range []struct {
		n    int
		says string
	}{{t.Failed, "failed"}, {t.LeftOut, "left out"}, {t.Cancelled, "cancelled"}, {t.Unfinished, "not done"}} {
		if n.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n.n, n.says))
		}
	}
	return strings.Join(parts, " · ")
}

// Line is the round in one line.
func (r *Round) Line() RoundLine {
	s := r.State
	b := s.Plan.Brief
	l := RoundLine{ID: r.ID, Cluster: b.Cluster, Does: does(&s.Plan), Status: string(s.Status), Detail: s.Detail, By: b.By, Reason: b.Reason,
		Started: s.Started, Ended: s.Ended}
	middle, worst := s.Plan.Takes()
	l.Planned, l.Worst, l.Took = middle.Seconds(), worst.Seconds(), cmp.Or(s.Ended, s.Last).Sub(s.Started).Seconds()
	for i := range r.Events {
		switch e := &r.Events[i]; {
		case e.Kind == course.Started:
			l.From = e.From
		case e.Kind == course.Asked:
			l.Decided++
		case e.Kind == course.Ended && e.Status == course.Failing:
			l.Needed++
		}
	}
	l.Hosts = len(s.Visits)
	for i := range s.Visits {
		v := &s.Visits[i]
		l.Visited = append(l.Visited, v.Host)
		if v.Phase == course.Over || v.Phase == course.HandedOver && b.Hand != nil && b.Hand.Does != "" { // closing by hand ends so
			l.HostsDone++
		}
		l.Moves += len(v.Moved())
		for n := range v.Changes {
			l.Changes++
			switch changed(v, n) {
			case done, waits:
				l.Done++
			case failed, unknown:
				l.Failed++
			case leftOut:
				l.LeftOut++
			case cancelled:
				l.Cancelled++
			default:
				l.Unfinished++
			}
		}
	}
	return l
}

func does(p *plan.Plan) string {
	switch b := &p.Brief; {
	case b.Hand != nil && b.Hand.Does != "" && len(p.Visits) == 1:
		return string(b.Hand.Does) + " " + p.Visits[0].Host
	case b.Staging != "":
		return "staging"
	}
	return "round"
}

// round is a round report.
type round struct {
	RoundLine
	Plan      string         `json:"plan"` // its digest
	Floor     int            `json:"floor"`
	Visits    []visit        `json:"visits"`
	Aside     []plan.Aside   `json:"aside"` // hosts that were not visited, with why
	Staging   plan.Staging   `json:"staging,omitempty"`
	Decisions []decision     `json:"decided"`
	Waivers   []waiverOnHost `json:"waivers"` // by which what was found did not hold a visit up
	Messages  []message      `json:"messages"`
	Owed      []owed         `json:"owed"` // after it, by its journal
}

// visit is a host of a round report.
type visit struct {
	Host     string        `json:"host"`
	Outcome  string        `json:"outcome"`
	Why      string        `json:"why,omitempty"`
	Remedy   string        `json:"remedy,omitempty"`
	Help     string        `json:"help,omitempty"` // the topic of the manual that explains what to do
	Logs     []act.Log     `json:"logs,omitempty"` // of the moment at which it failed
	Seconds  float64       `json:"seconds"`
	Planned  float64       `json:"planned_seconds"`
	Moves    []string      `json:"moves"`
	Changes  []change      `json:"changes"`
	Steps    []step        `json:"steps"`
	Went     []spent       `json:"time"` // where it went
	Slow     []string      `json:"slow,omitempty"`
	Guests   []guestAtRest `json:"guests"` // to which something was done beside moving
	Cautions []caution     `json:"cautions"`
	Proven   time.Time     `json:"proven,omitzero"`
	Unasked  []string      `json:"changed_unasked,omitempty"`
	Notes    []string      `json:"notes,omitempty"`
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
	Outcome   string `json:"outcome"`
}

// Stopped is the topic of the manual about a round that does not go on by itself.
const Stopped = "when it does not go on"

// What became of a change.
const (
	done      = "done"
	failed    = "failed"
	unknown   = "not known"
	leftOut   = "left out"  // a person decided so
	cancelled = "cancelled" // its host was left out, or the round ended before it
	notDone   = "not done"
	waits     = "waits there" // of staging
	unbrought = "not brought"
)

// step is a step with the time it took, and how long it was planned to; 0 where it was not.
type step struct {
	Step    string    `json:"step"`
	From    time.Time `json:"from"`
	Seconds float64   `json:"seconds"`
	Planned float64   `json:"planned_seconds,omitempty"`
	Failed  bool      `json:"failed,omitempty"`
}

// guestAtRest is what was done to a guest beside moving it live: from when, and until when it was so.
type guestAtRest struct {
	Guest   string    `json:"guest"`
	Was     string    `json:"was"` // shut down, suspended, moved while it was off, without a medium
	From    time.Time `json:"from"`
	To      time.Time `json:"to,omitzero"` // zero: it still is, as far as the journal knows
	Seconds float64   `json:"seconds"`
	On      string    `json:"on"` // where it is now, as far as the journal knows
}

type caution struct {
	Check    string `json:"check"`
	Evidence string `json:"evidence"`
	Remedy   string `json:"remedy,omitempty"`
	Waived   string `json:"waived,omitempty"`
}

// decision is what a person asked of the round.
type decision struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	From string    `json:"from,omitempty"`
	Host string    `json:"host,omitempty"`
	Says string    `json:"says"`
}

type waiverOnHost struct {
	Host string `json:"host"`
	precheck.Waiver
}

// message is what went otherwise than it should, at that moment.
type message struct {
	At   time.Time `json:"at"`
	Host string    `json:"host,omitempty"`
	Says string    `json:"says"`
}

type owed struct {
	Host string `json:"host"`
	What string `json:"what"`
}

// OfRound is what a round did, from its journal; as a drawing, its timeline.
func OfRound(of Round) Document {
	s := of.State
	r := round{RoundLine: of.Line(), Plan: s.Plan.Digest(), Floor: s.Plan.Floor, Aside: some(s.Plan.Aside), Staging: s.Plan.Brief.Staging,
		Visits: []visit{}, Decisions: []decision{}, Waivers: []waiverOnHost{}, Messages: []message{}, Owed: []owed{}}
	d := Document{Name: "round", Subjects: []string{r.Cluster}, Title: "Round over " + r.Cluster, Drawing: timeline(s, Went(s, s.Last, nil, 0), "took", time.Duration(r.Took*float64(time.Second))),
		Signed: true}
	d.Table.Columns = Columns("round", "cluster", "host", "outcome", "component", "device", "before", "after", "pass", "change")
	for i := range s.Visits {
		v := visitOf(&s.Visits[i], of.Events)
		r.Visits = append(r.Visits, v)
		for _, c := range v.Changes {
			d.Table.Rows = append(d.Table.Rows, []any{r.ID, r.Cluster, v.Host, v.Outcome, c.Component, c.Device, c.Before, c.After,
				c.Pass, c.Outcome})
		}
		for _, a := range s.Visits[i].Answers {
			if a.Waived != nil {
				r.Waivers = append(r.Waivers, waiverOnHost{v.Host, *a.Waived})
			}
		}
		for _, due := range s.Visits[i].Due() {
			r.Owed = append(r.Owed, owed{v.Host, due})
		}
	}
	for i := range of.Events {
		e := &of.Events[i]
		if e.Kind == course.Asked {
			r.Decisions = append(r.Decisions, decision{e.At, e.By, e.From, e.Host, e.Says()})
			continue
		}
		if l := entry(e); (l.Tone == Alarm || l.Tone == Caution) && !e.Announces() {
			r.Messages = append(r.Messages, message{l.At, l.Host, strings.TrimPrefix(l.Text, "✗ ")})
		}
	}
	d.Value = r
	d.Text = r.text(d.Drawing)
	return d
}

func visitOf(v *course.Visit, events []course.Event) visit {
	out := visit{Host: v.Host, Outcome: outcome(v), Left: v.Left, Notes: v.Notes, Kept: v.Kept, Moves: []string{},
		Changes: []change{}, Steps: []step{}, Guests: atRest(v, events), Cautions: []caution{}}
	if v.Failure != nil {
		out.Help = Stopped
		out.Why, out.Remedy, out.Logs = v.Failure.Error, act.Advised(v.Failure.Remedy, v.Failure.Command), v.Failure.Logs
	}
	for _, m := range v.Moved() {
		out.Moves = append(out.Moves, m.Guest+" → "+m.To)
	}
	for i, c := range v.Changes {
		out.Changes = append(out.Changes, change{string(c.Component), c.Device, c.From, c.To, c.Pass, changed(v, i)})
	}
	for _, a := range v.Along {
		out.Unasked = append(out.Unasked, a.Says())
	}
	middle, _ := v.Estimate()
	out.Planned = middle.Seconds()
	for _, s := range v.Spans {
		d := s.To.Sub(s.From)
		if s.To.IsZero() {
			d = 0
		}
		out.Seconds += d.Seconds()
		out.Steps = append(out.Steps, step{string(s.Step), s.From, d.Seconds(), v.Planned(s).Middle.Seconds(), s.Failed})
	}
	out.Went, out.Slow = some(went(v, events)), out.slow()
	for _, a := range v.Answers {
		if a.Level == precheck.Clear {
			continue
		}
		c := caution{Check: a.Check, Evidence: a.Evidence, Remedy: a.Advice()}
		if a.Waived != nil {
			c.Waived = a.Waived.Says()
		}
		out.Cautions = append(out.Cautions, c)
	}
	for i := range events {
		if events[i].Kind == course.Proven && events[i].Host == v.Host {
			out.Proven = events[i].At
		}
	}
	return out
}

// rests are the kinds of acts by which something is done to a guest beside moving it, with how it is until it is undone.
var rests = map[act.Name]string{act.Down: "shut down", act.Save: "suspended to disk", act.Eject: "without its medium",
	act.Carry: "moved while it was off"}

// atRest are the guests of a visit that were not just moved, from their acts' outcomes.
func atRest(v *course.Visit, events []course.Event) []guestAtRest {
	out := []guestAtRest{}
	on := map[string]string{}
	for i := range events {
		e := &events[i]
		if e.Kind != course.Done || e.Act == nil || e.Act.Visit() != v.Host || e.Act.Guest == "" {
			continue
		}
		a := e.Act
		on[a.UID()] = cmp.Or(a.To, on[a.UID()], a.Host)
		if how, rests := rests[a.Kind]; rests {
			g := guestAtRest{Guest: a.Guest, Was: how, From: e.At}
			if a.Kind == act.Carry {
				g.To = e.At
			}
			out = append(out, g)
		}
		ends := func(was string) {
			if n := slices.IndexFunc(out, func(g guestAtRest) bool { return g.Guest == a.Guest && g.Was == was && g.To.IsZero() }); n >= 0 {
				out[n].To, out[n].Seconds = e.At, e.At.Sub(out[n].From).Seconds()
			}
		}
		switch a.Kind {
		case act.Start:
			ends(rests[act.Down])
			ends(rests[act.Save])
		case act.Insert:
			ends(rests[act.Eject])
		}
		for n := range out {
			if out[n].Guest == a.Guest {
				out[n].On = on[a.UID()]
			}
		}
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
		return waits
	case v.Ahead:
		return unbrought
	case v.Without(i):
		return leftOut
	case v.Made(i) || v.Phase == course.Over:
		return done
	case f != nil && !f.Certain && f.Act != nil && f.Act.Makes(i):
		return unknown
	case f != nil && f.Act != nil && f.Act.Makes(i):
		return failed
	case v.Phase == course.LeftOut:
		return cancelled
	}
	return notDone
}

// text is the report for reading: what it came to, what persons did, and then host by host.
func (r *round) text(drawing any) []Block {
	var head said
	head.add("Round %s over %s: %s", r.ID, r.Cluster, r.Status)
	if r.Detail != "" {
		head.add("  %s", r.Detail)
	}
	head.add("  by %s: %s", Who(r.By, r.From), OrDash(r.Reason))
	took := ""
	if !r.Ended.IsZero() {
		took = fmt.Sprintf(" to %s", r.Ended.Local().Format(second))
	}
	head.add("  from %s%s", r.Started.Local().Format(second), took)
	head.add("  %s", r.took())
	if r.Staging == "" {
		head.add("  %s (floor %d)", r.Totals.Says(), r.Floor)
	}
	head.add("  plan %.12s", r.Plan)
	out := []Block{Lines(head...)}
	if !r.Started.Equal(r.Ended) {
		out = append(out, Block{Drawing: drawing})
	}
	out = append(out, r.persons()...)
	for i := range r.Visits {
		out = append(out, r.Visits[i].text()...)
	}
	return append(out, aside(r.Aside)...)
}

// took says how long the round took beside its plan.
func (r *RoundLine) took() string {
	return fmt.Sprintf("took %s; the plan had about %s, at worst %s", Seconds(r.Took), Seconds(r.Planned), Seconds(r.Worst))
}

// persons is what people must still see to, what they decided, and what was waived.
func (r *round) persons() (out []Block) {
	if len(r.Owed) > 0 {
		b := Block{Head: "Still owed", Table: &Table{Columns: Columns("host", "what")}}
		for _, o := range r.Owed {
			b.Table.Rows = append(b.Table.Rows, []any{o.Host, o.What})
		}
		out = append(out, b)
	}
	if len(r.Decisions) > 0 {
		b := Block{Head: "Requests and decisions", Table: &Table{Columns: Columns("at", "by", "what")}}
		for _, d := range r.Decisions {
			b.Table.Rows = append(b.Table.Rows, []any{d.At, Who(d.By, d.From), d.Says})
		}
		out = append(out, b)
	}
	if len(r.Waivers) > 0 {
		b := Block{Head: "Waivers that were used", Table: &Table{Columns: Columns("host", "check", "found", "by", "until", "why")}}
		for _, w := range r.Waivers {
			b.Table.Rows = append(b.Table.Rows, []any{w.Host, w.Check, w.Evidence, w.By, w.Until, w.Reason})
		}
		out = append(out, b)
	}
	if len(r.Messages) > 0 {
		b := Block{Head: "Problems on the way", Table: &Table{Columns: Columns("at", "host", "what")}}
		for _, m := range r.Messages {
			b.Table.Rows = append(b.Table.Rows, []any{m.At, m.Host, m.Says})
		}
		out = append(out, b)
	}
	return out
}

func (v *visit) text() []Block {
	var head said
	if v.Why != "" {
		head.add("  why: %s", v.Why)
		head.add("  what next: %s", OrDash(v.Remedy))
		head.add("  more about that: yare help %q", v.Help)
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
	if len(v.Steps) > 0 {
		var parts []string
		for _, s := range v.Steps {
			says := s.Step + " " + Seconds(s.Seconds)
			if s.Planned > 0 {
				says += fmt.Sprintf(" (plan %s)", Seconds(s.Planned))
			}
			if s.Failed {
				says += ", failed"
			}
			parts = append(parts, says)
		}
		foot.add("  steps: %s", strings.Join(parts, "; "))
	}
	for _, s := range v.Slow {
		foot.add("  slow: %s", s)
	}
	if len(v.Went) > 0 {
		var parts []string
		for _, s := range v.Went {
			says := s.What + " " + Seconds(s.Seconds)
			if s.Acts > 1 {
				says += fmt.Sprintf(" (%d, the longest %s)", s.Acts, s.Longest)
			}
			parts = append(parts, says)
		}
		foot.add("  where its time went: %s", strings.Join(parts, "; "))
	}
	if len(v.Moves) > 0 {
		foot.add("  moved: %s", strings.Join(v.Moves, ", "))
	}
	for _, g := range v.Guests {
		switch {
		case g.To.IsZero():
			foot.add("  guest %s: %s since %s, and still is", g.Guest, g.Was, g.From.Local().Format(second))
		case g.Seconds == 0:
			foot.add("  guest %s: %s; it is on %s", g.Guest, g.Was, OrDash(g.On))
		default:
			again := "runs again"
			if g.Was == rests[act.Eject] {
				again = "has it again"
			}
			foot.add("  guest %s: %s for %s, from %s; it %s, on %s", g.Guest, g.Was, Seconds(g.Seconds), g.From.Local().Format(second),
				again, OrDash(g.On))
		}
	}
	for _, c := range v.Cautions {
		says := fmt.Sprintf("  precheck %s: %s", c.Check, c.Evidence)
		if c.Waived != "" {
			says += "; " + c.Waived
		}
		foot = append(foot, says)
	}
	for _, u := range v.Unasked {
		foot.add("  unplanned change: %s", u)
	}
	if !v.Proven.IsZero() {
		foot.add("  proven at %s", v.Proven.Local().Format(second))
	}
	if v.Kept != "" {
		foot.add("  its configuration was kept before the first change, SHA-256 %s", v.Kept)
	}
	for _, n := range append(slices.Clone(v.Notes), v.Left...) {
		foot.add("  note: %s", n)
	}
	return []Block{{Head: fmt.Sprintf("%s: %s, %s, moves %d", v.Host, v.Outcome, Seconds(v.Seconds), len(v.Moves)), Lines: head},
		{Table: &changes}, Lines(foot...)}
}

// OfRounds is a list of rounds, the newest first, with what they come to together.
func OfRounds(all []RoundLine) Document {
	of := func(n, all int) string { return fmt.Sprintf("%d of %d", n, all) }
	columns := []Column{{Name: "started"}, {Name: "cluster"}, {Name: "does"}, {Name: "outcome"}, {Name: "by"}, {Name: "reason"}, {"hosts done", Text},
		{"changes done", Text}, {"hosts", Data}, {"done", Data}, {Name: "moves"}, {"changes", Data}, {"made", Data}, {"failed", Data}, {"left_out", Data},
		{"cancelled", Data}, {"took", Text}, {"plan", Text}, {"seconds", Data}, {"planned_seconds", Data}, {"needed", Both}, {"decided", Both}, {"id", Both}}
	d := listed("rounds", all, columns, func(l *RoundLine) []any {
		return []any{l.Started, l.Cluster, l.Does, OrDash(l.Status), l.By, l.Reason, of(l.HostsDone, l.Hosts), of(l.Done, l.Changes), l.Hosts, l.HostsDone,
			l.Moves, l.Changes, l.Done, l.Failed, l.LeftOut, l.Cancelled, Seconds(l.Took), Seconds(l.Planned), int(l.Took), int(l.Planned), l.Needed, l.Decided, l.ID}
	}, func(some []RoundLine) []string {
		sum, says := SumOf(some)
		return []string{says, sum.Says()}
	})
	d.Title, d.Table.Empty = "Rounds", "no rounds in this period"
	return d
}

// Seconds says how long so many seconds are.
func Seconds(s float64) string { return drift.Age(time.Duration(s * float64(time.Second))) }

// SumOf adds rounds up, and says how many there are and how they ended.
func SumOf(all []RoundLine) (t Totals, says string) {
	ended := map[string]int{}
	for i := range all {
		t.Add(all[i].Totals)
		ended[all[i].Status]++
	}
	var parts []string
	for _, s := range []course.Status{course.Finished, course.Failing, course.Stopped, course.Paused, course.Running} {
		if n := ended[string(s)]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, s))
		}
	}
	says = catalogue.Some(len(all), "round")
	if len(parts) > 0 {
		says += ": " + strings.Join(parts, ", ")
	}
	return t, says
}
