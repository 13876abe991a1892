package course

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// Pending is an act whose outcome is not known yet. Only a look settles it.
type Pending struct {
	Act        act.Act
	At         time.Time // of its intent
	Accepted   bool
	Task       string
	SHA256     string
	Unanswered string    // why the call brought no answer
	Quiet      time.Time // since when nobody can be asked; zero while somebody can
	// it was waited for in vain, or needs a person: nothing is tried before somebody lets the round go on
	Ordered bool
	Word    *Word     // what a person says of it, until a look has been held against that
	Waited  bool      // its silence was borne once, and is not a second time
	From    time.Time // from when its time is counted: its intent, or when somebody let the round go on
}

// State is a round as its journal tells it.
type State struct {
	Round   string
	Plan    plan.Plan
	Status  Status
	Visits  []Visit
	Open    []Pending
	Pause   bool
	Stop    bool
	End     *Word // somebody ended it: nothing more is begun
	Started time.Time
	Ended   time.Time
	Last    time.Time // of the newest event
	Seq     int64
	Epoch   int64
	Detail  string

	undone   map[string]int   // times that an act came to nothing under this runner, by its key
	failures map[string]int   // certain ones since somebody last let the round go on, by the act's key
	touched  map[string]int64 // the newest event about an act on the host, or to it
	claimed  map[string]int64 // the epoch that the host was told
	hooked   map[int]bool     // hooks of the round that were run, by their numbers
	moved    int64            // the newest intent of a migration
}

// Fold plays a journal. For one that can't be it returns a *Malformed, and the state up to the entry before.
func Fold(events []Event) (*State, error) {
	s := &State{}
	for i := range events {
		if err := s.Apply(events[i]); err != nil {
			return s, err
		}
	}
	return s, nil
}

// Visit returns the state of the host's visit, or nil.
func (s *State) Visit(host string) *Visit {
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
		if s.Visits[i].Phase == Over {
			visits++
		}
		moves += len(s.Visits[i].Moved())
	}
	return visits, moves
}

// Holds tells whether the round still has a host closed, or an act of which nobody knows how it came out.
func (s *State) Holds() bool {
	return len(s.Open) > 0 || slices.ContainsFunc(s.Visits, func(v Visit) bool {
		return len(v.Owing()) > 0 && v.Phase != HandedOver
	})
}

// Silent tells whether the host is expected to be silent now: an act is under way that takes it, or its services are
// coming up after one.
func (s *State) Silent(host string) bool {
	v := s.Visit(host)
	return v != nil && (v.Phase == Settling || slices.ContainsFunc(s.Open, func(p Pending) bool {
		return p.Act.Host == host && p.Act.Kind.Of().Rules().Quiet
	}))
}

// Apply takes in the next event. It refuses one that can't come here with a *Malformed, and leaves the state as it was.
func (s *State) Apply(e Event) error {
	if why := s.refuses(&e); why != "" {
		return &Malformed{Entry: s.Seq + 1, Why: why}
	}
	before := s.Last
	s.Seq, s.Last, s.Epoch = e.Seq, e.At, e.Epoch
	switch {
	case e.Act != nil:
		s.touched[e.Act.Host] = e.Seq
		if e.Act.To != "" {
			s.touched[e.Act.To] = e.Seq
		}
		s.act(&e)
	case e.Kind == Handed:
		s.handed(s.Visit(e.Host), &e)
	case e.Host != "" && e.Kind != Asked:
		s.visit(s.Visit(e.Host), &e)
	case e.Kind == Taken:
		s.undone = map[string]int{} // of another runner
		s.unwatched(e.At.Sub(before))
	case e.Kind == Leapt:
		s.leapt(e.Leap)
	default:
		s.round(&e)
	}
	return nil
}

// refuses says why the event can't be the next one.
func (s *State) refuses(e *Event) string {
	switch {
	case e.V != Schema:
		return fmt.Sprintf("it is of the schema %d, and this version reads %d", e.V, Schema)
	case e.Seq != s.Seq+1:
		return fmt.Sprintf("the entry found here is number %d: one is missing, or they were put in another order",
			e.Seq)
	case (e.Kind == Started) != (s.Seq == 0):
		return fmt.Sprintf("a journal begins with %q and has it once", Started)
	case e.Kind == Started && e.Plan == nil:
		return "it begins a round without a plan"
	case e.Epoch < s.Epoch:
		return fmt.Sprintf("it was written under the epoch %d, after one of epoch %d", e.Epoch, s.Epoch)
	case e.Epoch > s.Epoch && e.Kind != Taken && e.Kind != Started:
		return fmt.Sprintf("it was written under the epoch %d, which nobody took on", e.Epoch)
	}
	switch e.Kind {
	case Started, Taken, Asked, Ended, Leapt:
		if e.Act != nil {
			return fmt.Sprintf("%q is about no act", e.Kind)
		}
		return ""
	case Intent, Accepted, Unanswered, Done, Undone, Failed, Quiet, Heard, Overdue, Stuck, Refuted:
		return s.refusesAct(e)
	case Began, Checked, Waits, Rerouted, Extended, Stays, Uncopied, Blocked, Proving, Proven, Unproven, Left, Handed, Logged:
		if e.Act != nil || s.Visit(e.Host) == nil {
			return fmt.Sprintf("%q is about %q, which has no visit", e.Kind, e.Host)
		}
		return ""
	}
	return fmt.Sprintf("nobody knows what %q is", e.Kind)
}

func (s *State) refusesAct(e *Event) string {
	a := e.Act
	if a == nil {
		return fmt.Sprintf("%q is about an act, and there is none", e.Kind)
	}
	v := s.Visit(a.Visit())
	i := s.pending(a.ID)
	switch {
	case !a.Kind.Known():
		return fmt.Sprintf("nobody knows what kind of act %q is", a.Kind)
	case v == nil:
		return fmt.Sprintf("it is about %s, which has no visit", a.Visit())
	case slices.ContainsFunc(a.Changes(), func(p act.Placed) bool { return p.Index < 0 || p.Index >= len(v.Changes) }):
		return fmt.Sprintf("it is about a change that %s does not have: it has %d", a.Visit(), len(v.Changes))
	case (a.Kind == act.Lend || a.Kind == act.PutBack) != (a.Lent != nil):
		return fmt.Sprintf("%s is about no service", a.Kind)
	case (a.Kind == act.Restore) != (a.Files != nil):
		return fmt.Sprintf("%s is about no files", a.Kind)
	case (a.Kind == act.Snapshot || a.Kind == act.Unsnapshot) != (a.Copy != nil):
		return fmt.Sprintf("%s is about no snapshot", a.Kind)
	case (a.Kind == act.RunHook) != (a.Hook != nil) || a.Hook != nil && (a.Index < 0 || a.Index >= len(s.Plan.Brief.Hooks)):
		return fmt.Sprintf("%s is about a hook that the round does not have", a.Kind)
	case a.Change == nil && a.Kind.Of().Rules().Step == act.ChangeStep:
		return fmt.Sprintf("%s is about a change, and there is none", a.Kind)
	case e.Kind == Intent && i >= 0:
		return fmt.Sprintf("it intends %s again while that is open", a.ID)
	case e.Kind != Intent && i < 0:
		return fmt.Sprintf("it is about %s, which was not intended or is settled already", a.ID)
	}
	return ""
}

func (s *State) pending(id string) int {
	return slices.IndexFunc(s.Open, func(p Pending) bool { return p.Act.ID == id })
}

func (s *State) round(e *Event) {
	switch e.Kind {
	case Started:
		s.Round, s.Plan, s.Status, s.Started = e.Round, *e.Plan, Running, e.At
		s.Plan.Brief.By, s.Plan.Brief.Reason = e.By, e.Detail
		s.hooked = map[int]bool{}
		s.failures, s.undone, s.touched, s.claimed = map[string]int{}, map[string]int{}, map[string]int64{}, map[string]int64{}
		for _, v := range e.Plan.Visits {
			s.Visits = append(s.Visits, Visit{Visit: v, Phase: Waiting, Owed: slices.Clone(v.Owes)})
		}
	case Ended:
		s.Status, s.Ended, s.Detail = e.Status, e.At, e.Detail
	case Asked:
		s.asked(e)
	}
}

// unwatched lets everything that is waited for start so much later: patience is for what somebody waited for, and since
// the last entry of the runner before it is not known that anybody did.
func (s *State) unwatched(gap time.Duration) {
	if gap < 0 {
		s.leapt(gap) // by its own clock the runner before was ahead of this one
		return
	}
	for i := range s.Open {
		p := &s.Open[i]
		p.From, p.Quiet = later(p.From, gap), later(p.Quiet, gap)
	}
	for i := range s.Visits {
		v := &s.Visits[i]
		v.Waits, v.Proving, v.Held = later(v.Waits, gap), later(v.Proving, gap), later(v.Held, gap)
	}
}

// leapt moves what is under way to where it stands by a time of day that leapt, so that it has lasted as long as it
// did.
func (s *State) leapt(by time.Duration) {
	for i := range s.Open {
		p := &s.Open[i]
		p.At, p.From, p.Quiet = later(p.At, by), later(p.From, by), later(p.Quiet, by)
	}
	for i := range s.Visits {
		v := &s.Visits[i]
		v.Waits, v.Proving, v.Held, v.HookRan = later(v.Waits, by), later(v.Proving, by), later(v.Held, by), later(v.HookRan, by)
		for name, at := range v.Started {
			v.Started[name] = later(at, by)
		}
		if n := len(v.Spans); n > 0 && v.Spans[n-1].To.IsZero() {
			v.Spans[n-1].From = later(v.Spans[n-1].From, by)
		}
	}
}

// later is a time that is so much later; zero stays zero.
func later(t time.Time, by time.Duration) time.Time {
	if t.IsZero() {
		return t
	}
	return t.Add(by)
}

// Word is what a person decided or said, with why.
type Word struct{ Says, By, Reason string }

func (s *State) asked(e *Event) {
	word := &Word{Says: e.Detail, By: e.By, Reason: e.Reason}
	v := s.Visit(e.Host)
	if e.Decides() {
		s.Status, s.Ended, s.Detail = Running, time.Time{}, ""
	}
	switch e.Detail {
	case AskDrop:
		if v != nil {
			s.drop(v, e)
		}
	case AskDone, AskUndone:
		if i := s.pending(e.Of); i >= 0 {
			s.Open[i].Word = word
		}
	case AskClear:
		if v != nil && !v.Over() {
			v.Clears, v.Clearing = slices.Clone(e.Tasks), word
			s.failures, s.undone = map[string]int{}, map[string]int{}
			v.goOn()
			s.lookAgain(e.At, func(a *act.Act) bool { return a.Visit() == v.Host })
		}
	case AskHand:
		if v != nil && !v.Over() {
			v.Hands = word
		}
	case AskEnd:
		s.End = word
		for i := range s.Visits {
			s.settle(&s.Visits[i])
		}
	case AskPause:
		s.Pause = true
	case AskStop:
		s.Stop = true
	case AskSkip:
		if v != nil {
			v.Skip = true
			s.settle(v)
		}
	case AskGoOn:
		s.Pause, s.Stop, s.Status, s.Ended, s.Detail = false, false, Running, time.Time{}, ""
		s.failures, s.undone = map[string]int{}, map[string]int{}
		for i := range s.Visits {
			s.Visits[i].goOn()
		}
		s.lookAgain(e.At, func(*act.Act) bool { return true })
	}
}

// lookAgain lets open acts be looked at anew that were given up.
func (s *State) lookAgain(at time.Time, which func(*act.Act) bool) {
	for i := range s.Open {
		if p := &s.Open[i]; which(&p.Act) {
			p.Waited = p.Waited || p.Ordered && !p.Quiet.IsZero()
			p.Ordered, p.From = false, at
		}
	}
}

// drop leaves out what of the change with that title was not done yet, with the later rungs of its ladder, and lets the
// visit go on.
func (s *State) drop(v *Visit, e *Event) {
	for i := range v.Changes {
		c := &v.Changes[i]
		if c.Title() == e.Of && !v.Made(i) && !s.opens(v.Host, i) && !v.Without(i) {
			v.Dropped = append(v.Dropped, i)
			v.Notes = append(v.Notes, fmt.Sprintf("%s was left out by %s: %s", made(c), e.By, e.Reason))
		}
	}
	s.failures, s.undone = map[string]int{}, map[string]int{}
	v.goOn()
}

// handed ends the visit where it stands: what of it is open is nobody's to settle here any more, and what is owed stays
// owed.
func (s *State) handed(v *Visit, e *Event) {
	s.Open = slices.DeleteFunc(s.Open, func(p Pending) bool {
		ours := p.Act.Visit() == v.Host
		if ours && p.Act.Kind != act.Claim {
			v.Loose = append(v.Loose, p.Act)
		}
		return ours
	})
	v.Phase, v.Owner = HandedOver, &Word{By: e.By, Reason: e.Reason}
	v.Notes = append(v.Notes, e.Says())
	v.end(e.At, v.Failure != nil)
}

func (s *State) visit(v *Visit, e *Event) {
	switch e.Kind {
	case Began:
		v.Phase = Checking
		v.begin(act.PrecheckStep, 0, e.At)
	case Checked:
		v.Phase, v.Answers, v.Before = Working, e.Checks, e.Before
		v.moves(e.At)
	case Waits:
		v.Waits, v.Why = e.At, e.Detail
	case Extended:
		v.extend(e)
	case Rerouted:
		v.reroute(e.Moves)
	case Stays:
		for i := range e.Moves {
			v.Stay = append(v.Stay, e.Moves[i].UID())
		}
		v.Notes = append(v.Notes, e.Says())
		s.settle(v)
	case Uncopied:
		for i := range e.Moves {
			v.Uncopied = append(v.Uncopied, e.Moves[i].UID())
		}
		v.Notes = append(v.Notes, e.Says())
		s.settle(v)
	case Blocked:
		if len(e.Checks) > 0 {
			v.Answers = e.Checks
		}
		v.fail(nil, e, true)
	case Proving:
		v.Phase, v.Proving = Settling, e.At
		v.begin(act.ProveStep, v.Passes, e.At)
	case Unproven:
		v.fail(nil, e, true)
	case Proven:
		v.Phase = Closing
		v.moves(e.At)
		if e.Detail != "" {
			v.Notes = append(v.Notes, e.Detail)
		}
		s.settle(v)
	case Logged:
		if v.Failure != nil {
			v.Failure.Logs, v.Failure.Logged = e.Logs, true
		}
	case Left:
		v.Phase, v.Failure = LeftOut, nil
		v.end(e.At, false)
	}
}

// act takes in an event about an act. What is open stays open until a look has settled it, or it is certain that it
// failed.
func (s *State) act(e *Event) {
	a := *e.Act
	v := s.Visit(a.Visit())
	if e.Kind == Intent && a.To != "" {
		s.moved = e.Seq
	}
	if e.Kind == Intent {
		s.Open = append(s.Open, Pending{Act: a, At: e.At, From: e.At})
		if a.Kind.Of().Rules().Early && !a.Unowed {
			v.owe(a)
		}
		v.moves(e.At)
		v.begin(a.Kind.Step(), a.Pass, e.At)
		return
	}
	i := s.pending(a.ID)
	p := &s.Open[i]
	switch e.Kind {
	case Accepted:
		p.Accepted, p.Task, p.SHA256 = true, e.Task, e.SHA256
	case Unanswered:
		p.Unanswered = e.Detail
	case Quiet:
		p.Quiet = e.At
	case Heard:
		p.Quiet, p.Waited = time.Time{}, false
	case Overdue, Stuck:
		p.Ordered = true
		v.fail(&a, e, false)
	case Refuted:
		p.Word, p.Ordered = nil, false
	case Undone:
		if a.Hook != nil {
			s.hookEnded(v, &a, e)
		}
		if !e.Again {
			s.undone[a.Key()]++
		}
		s.Open = slices.Delete(s.Open, i, i+1)
		v.end(e.At, false)
	case Failed:
		s.Open = slices.Delete(s.Open, i, i+1)
		s.failed(v, &a, e)
	case Done:
		sum := p.SHA256
		s.Open = slices.Delete(s.Open, i, i+1)
		s.done(v, a, e, sum)
	}
}

// Again tells whether an act that failed is tried again.
func (s *State) Again(e *Event) bool {
	r := e.Act.Kind.Of().Rules()
	return !r.Aside && !e.Final && s.failures[e.Act.Key()]+1 < r.Tries
}

func (s *State) failed(v *Visit, a *act.Act, e *Event) {
	s.failures[a.Key()]++
	r := a.Kind.Of().Rules()
	switch a.Kind {
	case act.RunHook:
		s.hookEnded(v, a, e)
	case act.Hand:
		v.Unmarked = e.Detail
	case act.Clear:
		if s.failures[a.Key()] >= r.Tries || e.Final {
			v.Clears = nil
		}
	}
	if a.Kind == act.Install { // what was staged for it is looked at anew: it may have been damaged since
		v.Acts = slices.DeleteFunc(v.Acts, func(o act.Act) bool { return o.Kind == act.Stage && a.Makes(o.Index) })
	}
	switch {
	case last(a):
		v.end(e.At, true)
	case r.Aside:
		v.end(e.At, false)
		if v.Failure != nil {
			v.Failure.Marked = true // the journal has it
		}
	case s.failures[a.Key()] < r.Tries && !e.Final:
		v.end(e.At, true)
	default:
		v.fail(a, e, true)
	}
}

func (s *State) done(v *Visit, a act.Act, e *Event, sum string) {
	r := a.Kind.Of().Rules()
	v.end(e.At, false)
	if a.Kind == act.Claim { // it belongs to the lease, not to the visit
		s.claimed[a.Host] = a.Epoch
		return
	}
	if a.Hook != nil {
		s.hookEnded(v, &a, e)
	}
	if r.Aside && v.Failure != nil {
		v.Failure.Marked = true
	}
	if a.Kind == act.Start {
		if v.Started == nil {
			v.Started = map[string]time.Time{}
		}
		v.Started[a.Guest] = e.At
	}
	if v.Acts = append(v.Acts, a); a.Kind == act.Clear {
		v.Clears = nil
	}
	v.Owed = slices.DeleteFunc(v.Owed, func(o act.Act) bool {
		return o.Kind.Of().Rules().Pays == a.Kind && o.Of() == a.Of()
	})
	if a.Kind == act.Hand { // the closing is the person's
		v.Owed = slices.DeleteFunc(v.Owed, func(o act.Act) bool { return o.Kind.Of().Rules().Pays == act.Open })
		return
	}
	if r.Owes != "" && !a.Unowed {
		v.owe(a)
	}
	if r.Gives {
		v.Kept = sum
	}
	s.settle(v)
}

// blockers are the answers that keep a visit from going ahead.
func blockers(as []precheck.Answer) []precheck.Answer { return precheck.Blockers(as) }
