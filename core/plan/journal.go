package plan

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/precheck"
)

// ActionKind says what an action does.
type ActionKind string

// The actions. Precheck and Prove only look; the others act on the outside.
const (
	Precheck ActionKind = "precheck"
	Stage    ActionKind = "stage"
	Move     ActionKind = "move"
	Close    ActionKind = "close"
	Install  ActionKind = "install"
	Restart  ActionKind = "restart"
	Prove    ActionKind = "prove"
	Reopen   ActionKind = "reopen"
	Remark   ActionKind = "remark" // writes on a closed host why it stays closed
)

var stepOf = map[ActionKind]StepName{Precheck: PrecheckStep, Stage: StageStep, Move: DrainStep, Close: CloseStep,
	Install: ChangeStep, Restart: RestartStep, Prove: ProveStep, Reopen: ReopenStep, Remark: CloseStep}

// Step is the step of a visit that the action belongs to.
func (k ActionKind) Step() StepName { return stepOf[k] }

// Action is one act of a round.
type Action struct {
	ID    string     `json:"id"`
	Kind  ActionKind `json:"kind"`
	Host  string     `json:"host"`
	Guest string     `json:"guest,omitempty"`
	// GuestID is the guest's UUID, by which it is known at both ends.
	GuestID string  `json:"guest_id,omitempty"`
	To      string  `json:"to,omitempty"` // the host that the guest goes to
	Index   int     `json:"index"`        // of the change in the visit
	Pass    int     `json:"pass,omitempty"`
	Change  *Change `json:"change,omitempty"`
	Reason  string  `json:"reason,omitempty"`
	Before  Before  `json:"before"`
}

// UID is by what the action's guest is known: its UUID, or its name where that was not read.
func (a Action) UID() string { return cmp.Or(a.GuestID, a.Guest) }

// Before is what was true when the intent was written; after a crash it tells done from not done.
type Before struct {
	BootID  string       `json:"boot_id,omitempty"`
	Version string       `json:"version,omitempty"`
	Mark    *estate.Mark `json:"mark,omitempty"`
}

// Says returns the action in words.
func (a Action) Says() string {
	switch a.Kind {
	case Move:
		return fmt.Sprintf("move %s to %s", a.Guest, a.To)
	case Stage:
		return "stage " + a.Change.File
	case Install:
		return "change " + a.Change.Says()
	case Restart:
		return fmt.Sprintf("restart (pass %d)", a.Pass)
	case Remark:
		return "write down why it stays closed"
	}
	return string(a.Kind)
}

// EventKind says what an event of the journal tells.
type EventKind string

// The events.
const (
	Started  EventKind = "started"  // a round begins; carries its plan
	Intent   EventKind = "intent"   // an action is about to be done
	Accepted EventKind = "accepted" // the outside took it on as a task
	Done     EventKind = "done"
	Failed   EventKind = "failed"
	Undone   EventKind = "undone" // looked at after a crash: it was not done
	Asked    EventKind = "asked"  // a person asks for pause, stop or go on
	Ended    EventKind = "ended"
)

// Event is one entry of a round's journal.
type Event struct {
	Seq      int64             `json:"seq"`
	At       time.Time         `json:"at"`
	Kind     EventKind         `json:"kind"`
	Action   *Action           `json:"action,omitempty"`
	Task     string            `json:"task,omitempty"`
	Detail   string            `json:"detail,omitempty"`
	Remedy   string            `json:"remedy,omitempty"`
	By       string            `json:"by,omitempty"`
	Status   Status            `json:"status,omitempty"`
	Plan     *Plan             `json:"plan,omitempty"`
	Answers  []precheck.Answer `json:"answers,omitempty"`
	Snapshot *estate.Reading   `json:"snapshot,omitempty"` // the host as it was before its visit
}

// Status is where a round stands.
type Status string

// The statuses.
const (
	Running  Status = "running"
	Paused   Status = "paused"
	Stopped  Status = "stopped"  // a person stopped it
	Failing  Status = "failed"   // a step failed; a person is needed
	Finished Status = "finished" // nothing is left to do
	Planned  Status = "planned"  // it has not begun: a forecast
)

// Requests that a person can make of a round.
const (
	AskPause = "pause"
	AskStop  = "stop"
	AskGoOn  = "go on"
)

// Pending is an action whose outcome is not known yet.
type Pending struct {
	Action   Action    `json:"action"`
	At       time.Time `json:"at"`
	Task     string    `json:"task,omitempty"`
	Accepted bool      `json:"accepted"`
}

// Failure is why a visit stands still.
type Failure struct {
	Action Action
	Error  string
	Remedy string
	At     time.Time
	Marked bool // the host carries the reason
}

// Span is a step of a visit as it went; To is zero while it lasts.
type Span struct {
	Step     StepName
	Pass     int
	From, To time.Time
	Failed   bool
}

// VisitState is how far a visit has come.
type VisitState struct {
	Visit
	Checked   bool
	Snapshot  *estate.Reading
	Staged    []bool // by change
	Installed []bool // by change
	Moved     []fit.Move
	Closed    bool
	Restarted []int // passes
	Proven    bool
	Reopened  bool
	Failure   *Failure
	Spans     []Span
	Notes     []string // what the prove step reported
}

// Over tells whether the visit is behind us.
func (v *VisitState) Over() bool { return v.Proven && !v.Closed }

// State is a round as its journal tells it.
type State struct {
	Plan     Plan
	Status   Status
	Visits   []VisitState
	Open     []Pending
	Pause    bool
	Stop     bool
	Started  time.Time
	Ended    time.Time
	Last     time.Time // of the newest event
	Seq      int64
	Detail   string
	attempts map[string]int
}

// Fold plays a journal. It returns an error for one that can't be: an outcome without an intent, say.
func Fold(events []Event) (*State, error) {
	s := &State{}
	for _, e := range events {
		if err := s.Apply(e); err != nil {
			return s, err
		}
	}
	return s, nil
}

// Apply takes in the next event.
func (s *State) Apply(e Event) error {
	if e.Seq != 0 && e.Seq <= s.Seq {
		return fmt.Errorf("journal: event %d comes after event %d", e.Seq, s.Seq)
	}
	s.Seq, s.Last = e.Seq, e.At
	switch e.Kind {
	case Started:
		s.start(e)
	case Asked:
		s.ask(e.Detail)
	case Ended:
		s.Status, s.Ended, s.Detail = e.Status, e.At, e.Detail
	case Intent, Accepted, Done, Failed, Undone:
		if e.Action == nil {
			return fmt.Errorf("journal: event %d (%s) has no action", e.Seq, e.Kind)
		}
		return s.act(e)
	default:
		return fmt.Errorf("journal: event %d is of an unknown kind %q", e.Seq, e.Kind)
	}
	return nil
}

func (s *State) start(e Event) {
	s.Status, s.Started, s.attempts = Running, e.At, map[string]int{}
	if e.Plan == nil {
		return
	}
	s.Plan = *e.Plan
	for _, v := range e.Plan.Visits {
		s.Visits = append(s.Visits, VisitState{Visit: v, Staged: make([]bool, len(v.Changes)), Installed: make([]bool, len(v.Changes))})
	}
}

func (s *State) ask(what string) {
	switch what {
	case AskPause:
		s.Pause = true
	case AskStop:
		s.Stop = true
	case AskGoOn:
		s.Pause, s.Stop, s.Status, s.Ended = false, false, Running, time.Time{}
		s.attempts = map[string]int{}
		for i := range s.Visits {
			s.Visits[i].Failure = nil
		}
	}
}

// Visit returns the state of the host's visit, or nil.
func (s *State) Visit(host string) *VisitState {
	for i := range s.Visits {
		if s.Visits[i].Host == host {
			return &s.Visits[i]
		}
	}
	return nil
}

// Tally counts the visits that are over and the migrations that were made.
func (s *State) Tally() (visits, moves int) {
	for i := range s.Visits {
		if s.Visits[i].Over() {
			visits++
		}
		moves += len(s.Visits[i].Moved)
	}
	return visits, moves
}

func (s *State) act(e Event) error {
	a := e.Action
	v := s.Visit(a.Host)
	if v == nil {
		return fmt.Errorf("journal: event %d is about %s, which has no visit", e.Seq, a.Host)
	}
	i := slices.IndexFunc(s.Open, func(p Pending) bool { return p.Action.ID == a.ID })
	if e.Kind == Intent {
		if i >= 0 {
			return fmt.Errorf("journal: event %d intends %s again while it is open", e.Seq, a.ID)
		}
		s.Open = append(s.Open, Pending{Action: *a, At: e.At})
		s.attempts[attemptKey(*a)]++
		v.begin(a.Kind.Step(), a.Pass, e.At)
		return nil
	}
	if i < 0 && e.Kind != Failed && a.Kind != Precheck && a.Kind != Prove {
		return fmt.Errorf("journal: event %d (%s) is the outcome of %s, which was never intended", e.Seq, e.Kind, a.ID)
	}
	if e.Kind == Accepted {
		s.Open[i].Task, s.Open[i].Accepted = e.Task, true
		return nil
	}
	if i >= 0 {
		s.Open = slices.Delete(s.Open, i, i+1)
	} else {
		v.begin(a.Kind.Step(), a.Pass, e.At)
	}
	switch e.Kind {
	case Done:
		v.done(e)
	case Failed:
		s.fail(v, e)
	}
	return nil
}

// begin opens a span for the step, unless it is the one that is open already.
func (v *VisitState) begin(step StepName, pass int, at time.Time) {
	if n := len(v.Spans); n > 0 {
		last := &v.Spans[n-1]
		if last.Step == step && last.Pass == pass {
			last.To = time.Time{}
			return
		}
		if last.To.IsZero() {
			last.To = at
		}
	}
	v.Spans = append(v.Spans, Span{Step: step, Pass: pass, From: at})
}

func (v *VisitState) done(e Event) {
	a := e.Action
	if n := len(v.Spans); n > 0 {
		v.Spans[n-1].To = e.At
	}
	switch a.Kind {
	case Precheck:
		v.Checked, v.Answers, v.Snapshot = true, e.Answers, e.Snapshot
	case Stage:
		v.Staged[a.Index] = true
	case Move:
		v.Moved = append(v.Moved, fit.Move{ID: a.GuestID, Guest: a.Guest, From: a.Host, To: a.To})
	case Close:
		v.Closed = true
	case Install:
		v.Installed[a.Index] = true
	case Restart:
		v.Restarted = append(v.Restarted, a.Pass)
	case Prove:
		v.Proven = true
		if e.Detail != "" {
			v.Notes = append(v.Notes, e.Detail)
		}
	case Reopen:
		v.Closed, v.Reopened = false, true
	case Remark:
		if v.Failure != nil {
			v.Failure.Marked = true
		}
	}
}

// tries is how often a migration is tried before the visit fails.
const tries = 3

func (s *State) fail(v *VisitState, e Event) {
	if n := len(v.Spans); n > 0 {
		v.Spans[n-1].To, v.Spans[n-1].Failed = e.At, true
	}
	switch {
	case e.Action.Kind == Move && e.Action.Guest != "" && s.attempts[attemptKey(*e.Action)] < tries:
		return
	case e.Action.Kind == Remark && v.Failure != nil:
		v.Failure.Marked = true // it could not be written there; the journal has it
		return
	}
	if e.Action.Kind == Precheck {
		v.Answers = e.Answers
	}
	v.Failure = &Failure{Action: *e.Action, Error: e.Detail, Remedy: e.Remedy, At: e.At, Marked: !v.Closed}
}

func attemptKey(a Action) string {
	switch a.Kind {
	case Move:
		return a.Host + "/move/" + a.UID()
	case Stage, Install:
		return fmt.Sprintf("%s/%s/%d", a.Host, a.Kind, a.Index)
	case Restart:
		return fmt.Sprintf("%s/restart/%d", a.Host, a.Pass)
	}
	return a.Host + "/" + string(a.Kind)
}
