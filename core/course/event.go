// Package course is a round under way. A round's journal is a list of events; its state is their fold; and Next names
// what is to be done now, as values: acts to start, events to record, hosts to look at, and when to ask again. That is
// the whole policy of a round. Nothing here calls out or blocks: patience, settling and silence are times in the fold,
// and what may begin is decided by a list of gates.
package course

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// Schema is the version of the journal's form. A journal of another one is refused, not guessed at.
const Schema = 3

// EventKind says what an event of the journal tells.
type EventKind string

// The events. Those from Intent to Overdue are about an act; Began to Left about a visit; the others about the round.
const (
	Started EventKind = "started" // a round begins; carries its plan
	Taken   EventKind = "taken"   // a runner takes the round on, under a new epoch
	Asked   EventKind = "asked"   // a person asks for something
	Ended   EventKind = "ended"
	Leapt   EventKind = "leapt" // the time of day was set, or the runner's machine slept: carries by how much

	Intent     EventKind = "intent"     // an act is about to be done
	Accepted   EventKind = "accepted"   // the outside took it on
	Unanswered EventKind = "unanswered" // the call ended without an answer: whether it was taken on is not known
	Done       EventKind = "done"       // a look found it done
	Undone     EventKind = "undone"     // a look found that it was not done, and it may be begun anew
	Failed     EventKind = "failed"     // it was refused, or ended in failure: that is certain
	Quiet      EventKind = "quiet"      // from now on nobody can be asked how it stands
	Heard      EventKind = "heard"      // now it can be told again
	Overdue    EventKind = "overdue"    // it was waited for long enough; how it stands is still not known
	Stuck      EventKind = "stuck"      // what was found fits neither done nor not done: a person must look

	Began    EventKind = "began"
	Checked  EventKind = "checked"  // the prechecks let it go ahead
	Extended EventKind = "extended" // more applies to it than was planned, and is made too; carries that
	Rerouted EventKind = "rerouted" // its guests go elsewhere than was planned; carries their moves from now on
	Waits    EventKind = "waits"    // something that must be known can't be read; carries what
	Blocked  EventKind = "blocked"  // it can't go ahead
	Proving  EventKind = "proving"  // all is done, and what was done is being proven
	Proven   EventKind = "proven"
	Unproven EventKind = "unproven"
	Stays    EventKind = "stays"       // guests that were to come back stay where they are; carries them
	Uncopied EventKind = "no snapshot" // of guests that are gone; carries them
	Left     EventKind = "left"        // it is left out, as somebody asked
	Handed   EventKind = "handed over" // the host is somebody's from now on; carries what is owed of its visit
	Logged   EventKind = "logged"      // the ends of logs of the moment of a failure; carries them
	Refuted  EventKind = "refuted"     // a look contradicts what a person said of an act
)

// Event is one entry of a round's journal.
type Event struct {
	V     int       `json:"v"`   // Schema
	Seq   int64     `json:"seq"` // counts from 1, without a gap
	At    time.Time `json:"at"`
	Epoch int64     `json:"epoch"` // of the lease under which it was written
	Kind  EventKind `json:"kind"`
	Round string    `json:"round,omitempty"` // its id, for Started
	Host  string    `json:"host,omitempty"`  // of a visit
	Act   *act.Act  `json:"act,omitempty"`
	Task  string    `json:"task,omitempty"`
	// of what was taken or given, as the outside or the runner computed it
	SHA256 string `json:"sha256,omitempty"`
	Detail string `json:"detail,omitempty"`
	Final  bool   `json:"final,omitempty"` // of Failed: it would fail again as it is
	Again  bool   `json:"again,omitempty"` // of Failed: it was an attempt, and is made again
	Remedy string `json:"remedy,omitempty"`
	// Command is what helps, where one command of this program does: its arguments.
	Command []string `json:"command,omitempty"`
	// of Leapt, in nanoseconds; below zero where the time of day went back
	Leap time.Duration `json:"leap,omitempty"`
	By   string        `json:"by,omitempty"`
	// From is where that person was: his machine, and the login of SSH.
	From string `json:"from,omitempty"`
	// Of is what a person decides about: a change's title, or an act's id; Reason is why, and what the person saw. Tasks
	// are those of a BMC that are to be cleared, or that waited there when something failed.
	Of     string            `json:"of,omitempty"`
	Tasks  []string          `json:"tasks,omitempty"`
	Reason string            `json:"reason,omitempty"`
	Status Status            `json:"status,omitempty"`
	Plan   *plan.Plan        `json:"plan,omitempty"`
	Checks []precheck.Answer `json:"checks,omitempty"`
	Moves  []fit.Move        `json:"moves,omitempty"`  // of Rerouted, Stays and Uncopied
	Before *estate.Reading   `json:"before,omitempty"` // the host as it was before its visit
	// More are changes that an Extended visit makes too, and Along what comes in with them.
	More  []act.Change `json:"more,omitempty"`
	Along []act.Along  `json:"along,omitempty"`
	Logs  []act.Log    `json:"logs,omitempty"` // of Logged: of the moment of a failure
}

// Advice is what to do about it: the remedy, with the command that helps.
func (e *Event) Advice() string { return act.Advised(e.Remedy, e.Command) }

// About is the host that the event is about; "" where it is about the round.
func (e *Event) About() string {
	if e.Act != nil {
		return e.Act.Visit()
	}
	return e.Host
}

// Announces tells whether the event only says what is to come, or was heard on the way: those who read what happened
// can do without it.
func (e *Event) Announces() bool {
	switch e.Kind {
	case Intent, Accepted, Heard, Began, Proving:
		return true
	case Logged:
		return len(e.Logs) == 0
	}
	return false
}

// Says returns what happened in words, without the host.
func (e *Event) Says() string {
	switch {
	case e.Kind == Quiet && e.Act.Kind.Of().Rules().Quiet:
		return e.Act.Says() + ": silent meanwhile, as expected"
	case e.Kind == Quiet:
		return e.Act.Says() + ": no answer, and it is waited for: " + e.Detail
	case e.Kind == Heard:
		return e.Act.Says() + ": it answers again"
	case e.Kind == Leapt && e.Leap < 0:
		return "the time of day was set back by " + drift.Age(-e.Leap)
	case e.Kind == Leapt:
		return "the time of day was set forth by " + drift.Age(e.Leap) + ", or the machine slept"
	case e.Kind == Extended:
		return "unplanned: " + e.Detail
	case e.Kind == Rerouted:
		return "planned again: " + e.Detail
	case e.Kind == Stays:
		return "not brought back: " + e.Detail
	case e.Kind == Uncopied:
		return "no snapshot is made: " + e.Detail
	case e.Kind == Waits:
		return "waits: " + e.Detail
	case e.Kind == Left:
		return "left out: " + e.Detail
	case e.Kind == Handed:
		return "handed over: " + e.Detail
	case e.Kind == Logged:
		return "its logs at that moment"
	case e.Kind == Asked:
		return e.asks()
	case e.Kind == Failed && e.Again:
		return e.Act.Says() + ": an attempt failed, and is made again: " + e.Detail
	case e.Kind == Undone, e.Kind == Unanswered, e.Kind == Refuted:
		return e.Act.Says() + ": " + e.Detail
	case e.Act != nil:
		return e.Act.Says()
	case e.Kind == Checked || e.Kind == Blocked:
		return "precheck"
	case e.Kind == Proven || e.Kind == Unproven:
		return "prove"
	}
	return string(e.Kind)
}

// Status is where a round stands.
type Status string

// The statuses.
const (
	Running  Status = "running"
	Paused   Status = "paused"
	Stopped  Status = "stopped"  // a person stopped it
	Failing  Status = "failed"   // something failed; a person is needed
	Finished Status = "finished" // nothing is left to do
	Planned  Status = "planned"  // it has not begun: a forecast
)

// Requests that a person can make of a round, as an Asked event's detail. AskSkip names a host.
const (
	AskPause = "pause"
	AskStop  = "stop"
	AskGoOn  = "go on"
	AskSkip  = "skip"
)

// Decisions that a person can make of a round that does not go on by itself, as an Asked event's detail. Each has a
// reason, and all but AskEnd name a host; the first three say of what.
const (
	AskDrop   = "leave a change out" // the rest is done, proven and reopened, and the change stays drift
	AskDone   = "it was done"        // of an act that no look can settle
	AskUndone = "it was not done"
	AskClear  = "clear the BMC's queue" // of tasks, and go on
	AskHand   = "hand over"             // the host stays as it is, and is the person's from now on
	AskEnd    = "end"                   // nothing more is begun, and a host that can't be finished is handed over
)

// Decides tells whether the request is a decision: it lets a round that had ended go on.
func (e *Event) Decides() bool {
	switch e.Detail {
	case AskDrop, AskDone, AskUndone, AskClear, AskHand, AskEnd:
		return e.Kind == Asked
	}
	return false
}

// asks says what a person asks for.
func (e *Event) asks() string {
	says := e.Detail
	if of := append(slices.Clone(e.Tasks), e.Of); strings.Join(of, "") != "" {
		says += ": " + strings.Trim(strings.Join(of, ", "), ", ")
	}
	if e.Host != "" {
		says += " (" + e.Host + ")"
	}
	if e.Reason != "" {
		says += ", because " + e.Reason
	}
	return says
}

// Malformed is what a journal that can't be gives: the number of the entry and what is wrong with it. What comes before
// that entry stands.
type Malformed struct {
	Entry int64
	Why   string
}

func (m *Malformed) Error() string { return fmt.Sprintf("entry %d of the journal: %s", m.Entry, m.Why) }
