package course

import (
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
)

// Failure is why a visit stands still.
type Failure struct {
	Act     *act.Act // nil where it was no act that failed
	Step    act.Step
	Error   string
	Remedy  string
	Command []string // that helps; nil where none does by itself
	At      time.Time
	Certain bool // how the act came out is known
	Waited  bool // it was waited for
	Marked  bool // the host carries the reason, or needs not
	// Logs are the ends of the logs of the host and its BMC at that moment, once they were asked for.
	Logs   []act.Log
	Logged bool
	// Queued are the tasks that waited at the host's BMC then.
	Queued []string
}

// Says is what failed, and how.
func (f *Failure) Says() string {
	what := string(f.Step)
	if f.Act != nil {
		what = string(f.Act.Kind)
	}
	return what + " failed: " + f.Error
}

// Span is a step of a visit as it went; To is zero while it lasts.
type Span struct {
	Step     act.Step
	Pass     int
	From, To time.Time
	Failed   bool
}

// Stated is how long the acts of a step state that it takes, as it was planned; 0 where it was not.
func (v *Visit) Stated(s Span) time.Duration { return v.Planned(s).Stated }

// Planned is a step as it was planned; the zero value where it was not.
func (v *Visit) Planned(s Span) plan.Stretch {
	for _, x := range v.Steps {
		if x.Step == s.Step && (x.Pass == s.Pass || x.Pass == 0) {
			return x
		}
	}
	return plan.Stretch{}
}

// Phase is how far a visit is.
type Phase string

// The phases, in order.
const (
	Waiting  Phase = "waiting"
	Checking Phase = "checking"
	Working  Phase = "working"
	Settling Phase = "proving"
	Closing  Phase = "closing off" // proven; what is owed is undone
	Over     Phase = "over"
	LeftOut  Phase = "left out"
	// HandedOver is a visit that did not come to its end: its host is a person's.
	HandedOver Phase = "handed over"
)

// Visit is how far a host's visit has come.
type Visit struct {
	plan.Visit
	Phase  Phase
	Before *estate.Reading // the host as it was
	Acts   []act.Act       // that were done, in order
	// Started is when guests were started again, by name
	Started map[string]time.Time
	Owed    []act.Act // that were done and are still to be undone
	Skip    bool      // somebody asked to leave it out
	Hands   *Word     // somebody takes the host over as it is
	Owner   *Word     // of a host that was handed over: whose it is, and why
	// who wants the tasks out of its BMC's queue that the visit clears; nil: it was planned so
	Clearing *Word
	Dropped  []int     // changes that somebody decided to leave out
	Loose    []act.Act // of a host that was handed over: acts of which nobody knows how they came out
	// why a host that is handed over could not be told so, and carries the round's mark
	Unmarked string
	// why what it owes can't be undone after its failure; it is handed over with that
	Unpaid string
	Waits  time.Time // since when it waits for what can't be read; zero while it does not
	Why    string    // what it waits for
	Waited bool      // it was waited for once, and is not a second time
	Anew   bool      // somebody let it go on after a failure: it is closed anew if its mark is gone
	// Held is since when a hook says wait, and HookRan when it last did; zero where none does.
	Held, HookRan time.Time
	Proving       time.Time // since when it is being proven
	Failure       *Failure
	Spans         []Span
	Notes         []string // what proving it brought up
	Stay          []string // guests, by UID, that were to come back and do not
	Uncopied      []string // guests, by UID, of which no snapshot can be made: they are gone
	Extended      int      // passes beyond those that were planned
	Kept          string   // SHA-256 of the configuration that was kept
}

// Over tells whether the visit is behind us.
func (v *Visit) Over() bool { return v.Phase == Over || v.Phase == LeftOut || v.Phase == HandedOver }

// Without tells whether somebody decided to leave that change out.
func (v *Visit) Without(i int) bool { return slices.Contains(v.Dropped, i) }

// wanted are the changes that the visit is to make, by their numbers.
func (v *Visit) wanted() (out []int) {
	for i := range v.Changes {
		if !v.Without(i) {
			out = append(out, i)
		}
	}
	return out
}

// rung tells whether a wanted change of a higher number brings the same component further.
func (v *Visit) rung(i int) bool {
	return slices.ContainsFunc(v.wanted(), func(j int) bool { return j > i && v.Changes[i].Place(v.Changes[j]) })
}

// restarts tells whether the host is still to restart in that pass. A restart for changes alone that were left out is
// none.
func (v *Visit) restarts(pass int) bool {
	if !slices.Contains(v.Restarts, pass) || v.Did(act.Restart, pass) ||
		slices.ContainsFunc(v.Acts, func(a act.Act) bool { return a.Kind == act.Boot && a.Pass == pass }) {
		return false
	}
	asked, dropped := false, false
	for i, c := range v.Changes {
		if c.Pass == pass && c.Restart.EmptiesHost() {
			asked, dropped = asked || !v.Without(i), dropped || v.Without(i)
		}
	}
	return asked || !dropped || v.Rehearses && pass == 1
}

// extend takes more into the visit than was planned.
func (v *Visit) extend(e *Event) {
	v.Phase = Working
	before := v.Passes
	v.Changes = append(slices.Clone(v.Changes), e.More...)
	v.Along = append(slices.Clone(v.Along), e.Along...)
	for _, c := range e.More {
		v.Passes, v.Backup = max(v.Passes, c.Pass), v.Backup || c.Installs()
		if c.Restart.EmptiesHost() && !slices.Contains(v.Restarts, c.Pass) {
			v.Restarts = append(slices.Clone(v.Restarts), c.Pass)
		}
	}
	v.Extended += v.Passes - before
	v.Notes = append(v.Notes, e.Says())
}

// goOn lets the visit go on after a failure.
func (v *Visit) goOn() {
	if f := v.Failure; f != nil {
		v.Waited, v.Anew = f.Waited, true
	}
	if v.Phase == Settling {
		v.Phase, v.Proving = Working, time.Time{}
	}
	v.Unpaid = ""
	v.Failure, v.Waits, v.Why, v.Held, v.HookRan = nil, time.Time{}, "", time.Time{}, time.Time{}
}

// owe takes into what is owed what an act has done, once for each thing that is undone.
func (v *Visit) owe(a act.Act) {
	v.Owed = slices.DeleteFunc(v.Owed, func(o act.Act) bool { return o.Kind == a.Kind && o.Of() == a.Of() })
	v.Owed = append(v.Owed, a)
}

// Owing is what of that is undone in the visit itself: not what has a day of its own, and not media of a guest before it
// is back, or where it stays elsewhere.
func (v *Visit) Owing() []act.Act {
	return slices.DeleteFunc(slices.Clone(v.Owed), func(a act.Act) bool {
		return a.Kind.Of().Rules().Later || a.Kind == act.Eject && !v.back(a.UID())
	})
}

// back tells whether a guest that left the host, or was to leave it, is there again, as far as the visit knows.
func (v *Visit) back(uid string) bool {
	there := true
	for _, a := range v.Acts {
		if a.To != "" && a.UID() == uid {
			there = a.To == v.Host
		}
	}
	return there
}

// Due says what is owed after the visit, each in words: that its host is closed, guests that rest, media, and acts of
// which nobody knows how they came out.
func (v *Visit) Due() (out []string) {
	for _, a := range v.Owed {
		out = append(out, Owes(a))
	}
	for _, a := range v.Loose {
		out = append(out, notTold(a))
	}
	return out
}

// Owes says what is owed after an act.
func Owes(a act.Act) string {
	says := a.Kind.Of().Rules().Owes
	if a.Guest != "" {
		says = a.Guest + ": " + says
	}
	if len(a.Media) > 0 {
		says += ": " + act.Sources(a.Media) + " of " + a.Host
	}
	if a.Image != "" {
		says += ": " + a.Image
	}
	if a.Lent != nil {
		says = a.Lent.Title() + " " + says
	}
	return says
}

// notTold says that nobody knows how an act came out.
func notTold(a act.Act) string { return "whether it came to \"" + a.Says() + "\" is not known" }

// Under tells whether the visit is under way.
func (v *Visit) Under() bool { return v.Phase != Waiting && !v.Over() }

// Closed tells whether the host carries our mark, as far as the journal knows.
func (v *Visit) Closed() bool {
	return slices.ContainsFunc(v.Owed, func(a act.Act) bool { return a.Kind.Of().Rules().Pays == act.Open })
}

// Did tells whether an act of the kind was done, of the change or pass with that number where the kind has those.
func (v *Visit) Did(kind act.Name, n int) bool {
	return slices.ContainsFunc(v.Acts, func(a act.Act) bool {
		return a.Kind == kind && (a.Change == nil || a.Makes(n)) && (a.Pass == 0 || a.Change != nil || a.Pass == n)
	})
}

// Made tells whether the change was made: by an act of its own, or by being proven where it needs none.
func (v *Visit) Made(i int) bool {
	k := v.Changes[i].Kind()
	return k == "" && v.Phase != Waiting && v.Did(act.Restart, v.Changes[i].Pass) || k != "" && v.Did(k, i)
}

// Moved are the migrations that were made.
func (v *Visit) Moved() (out []fit.Move) {
	for _, a := range v.Acts {
		if a.To != "" {
			out = append(out, fit.Move{ID: a.GuestID, Guest: a.Guest, From: a.Host, To: a.To})
		}
	}
	return out
}

// reroute sends guests elsewhere than was planned.
func (v *Visit) reroute(moves []fit.Move) {
	v.Moves = slices.DeleteFunc(slices.Clone(v.Moves), func(m fit.Move) bool {
		return slices.ContainsFunc(moves, func(n fit.Move) bool { return n.UID() == m.UID() })
	})
	v.Moves = append(v.Moves, moves...)
}

// moves closes the span that is open, and forgets what was waited for: the visit goes on.
func (v *Visit) moves(at time.Time) {
	v.Waits, v.Why, v.Waited = time.Time{}, "", false
	v.end(at, false)
}

func (v *Visit) end(at time.Time, failed bool) {
	if n := len(v.Spans); n > 0 {
		if s := &v.Spans[n-1]; s.To.IsZero() || failed {
			s.To, s.Failed = at, failed
		}
	}
}

// begin opens a span for the step, unless it is the one that is open already.
func (v *Visit) begin(step act.Step, pass int, at time.Time) {
	if n := len(v.Spans); n > 0 {
		last := &v.Spans[n-1]
		if last.Step == step && last.Pass == pass {
			last.To, last.Failed = time.Time{}, false
			return
		}
		v.end(at, false)
	}
	v.Spans = append(v.Spans, Span{Step: step, Pass: pass, From: at})
}

func (v *Visit) step() act.Step {
	if n := len(v.Spans); n > 0 {
		return v.Spans[n-1].Step
	}
	return act.PrecheckStep
}

func (v *Visit) fail(a *act.Act, e *Event, certain bool) {
	v.end(e.At, true)
	if v.Failure != nil { // the first is what a person must know of
		if a == nil || slices.ContainsFunc(v.Owed, func(o act.Act) bool { return o.Kind.Of().Rules().Pays == a.Kind }) {
			v.Unpaid = e.Detail
		}
		return
	}
	step := v.step()
	if a != nil {
		step = a.Kind.Step()
	}
	waited := !v.Waits.IsZero() || e.Kind == Overdue
	v.Failure = &Failure{Act: a, Step: step, Error: e.Detail, Remedy: e.Remedy, Command: e.Command, At: e.At, Certain: certain,
		Waited: waited, Marked: !v.Closed(), Queued: e.Tasks}
}

// Away are the guests that are still to come back.
func (v *Visit) Away() []fit.Move {
	return slices.DeleteFunc(slices.Clone(v.Back), func(m fit.Move) bool {
		return slices.Contains(v.Stay, m.UID()) ||
			slices.ContainsFunc(v.Acts, func(a act.Act) bool { return a.Kind == act.Return && a.UID() == m.UID() })
	})
}

// settle ends a visit of which nothing is owed any more, to whose host no guest is to come back, of whose guests all
// snapshots are made, and in which no hook is still to run. What is proven and open waits for no hook once somebody ends the round, or leaves the host out.
func (s *State) settle(v *Visit) {
	if v.Phase != Closing || v.Keeps || len(v.Owing()) > 0 || len(v.Away()) > 0 {
		return
	}
	if slices.ContainsFunc(s.Open, func(p Pending) bool { return p.Act.Visit() == v.Host && p.Act.Kind != act.Claim }) {
		return // how that came out is still to be told, or whose it is from now on
	}
	_, more := s.hook(v, place{})
	if !more && len(s.uncopied(v)) == 0 || v.Ahead || s.End != nil || v.Skip {
		v.Phase = Over
	}
}
