package view

import (
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
)

// Tone is how something that is said is meant. It is never the only sign of it: the words say it too.
type Tone int

// The tones.
const (
	Plain Tone = iota
	Quiet
	Strong
	Good
	Caution
	Alarm
)

// Lane is a host's way through a round.
type Lane struct {
	Host     string
	State    string // in a word or two
	Tone     Tone
	Spans    []Span
	Obstacle string // why it can't be visited as things stand
	Waits    string // what it waits for
	Comes    []Arrival
}

// Arrival is guests that come to a host at once.
type Arrival struct {
	At     time.Time
	From   string
	Guests int
}

// Span is a step along time.
type Span struct {
	Step     act.Step // "" where it stands still and a person is waited for
	Pass     int
	From, To time.Time
	Failed   bool
	Expected bool // not begun yet: an estimate
}

// Level is how much load there is for a while, and how much there may be.
type Level struct {
	From, To time.Time
	Load     float64 // share of the memory of the hosts in service, 0 to 1
	Limit    float64 // the share up to which the loss of the reserve can be borne; 0 where it is not known
	Out      string  // the host that is out of service; "" while none is
}

// Lanes are a round along time, as it is planned or as it went.
type Lanes struct {
	Lanes    []Lane
	From, To time.Time
	Now      time.Time
	Tide     []Level // without a gap from From to To; none where no host is taken out of service
}

// Planned lays a plan out: its visits, and behind them the hosts that it does not visit. without are those that a
// person left out; limit is the load up to which the reserve is kept while all are in service.
func Planned(p *plan.Plan, without []string, limit float64) Lanes {
	s := course.Forecast(p)
	out := Lanes{From: s.Started, To: s.Last, Now: s.Started}
	for i := range s.Visits {
		v := &s.Visits[i]
		l := Lane{Host: v.Host, State: "ready", Tone: Good}
		if v.Obstacle != "" {
			l.State, l.Tone, l.Obstacle = "can't go", Alarm, v.Obstacle
		} else if len(v.After) > 0 {
			l.State = "after " + v.After[len(v.After)-1]
		}
		for _, sp := range v.Spans {
			l.Spans = append(l.Spans, Span{Step: sp.Step, Pass: sp.Pass, From: sp.From, To: sp.To, Expected: true})
		}
		out.Lanes = append(out.Lanes, l)
	}
	for _, h := range without {
		out.Lanes = append(out.Lanes, Lane{Host: h, State: "left out", Tone: Quiet})
	}
	for _, x := range p.Aside {
		if !slices.Contains(without, x.Host) {
			tone := Caution
			if x.InLine {
				tone = Quiet
			}
			out.Lanes = append(out.Lanes, Lane{Host: x.Host, State: x.Why, Tone: tone})
		}
	}
	out.tide(s, limit)
	return out
}

// Arrive writes into the lanes where the guests of a planned visit go, and when.
func (l *Lanes) Arrive(p *plan.Plan, host string) {
	for i := range p.Visits {
		v := &p.Visits[i]
		if v.Host != host {
			continue
		}
		n := slices.IndexFunc(l.Lanes, func(x Lane) bool { return x.Host == host })
		l.arrive(act.DrainStep, n, v.Moves)
		l.arrive(act.ReturnStep, n, v.Back)
	}
}

// arrive writes into the lanes what comes there in a step of the lane n.
func (l *Lanes) arrive(step act.Step, n int, moves []fit.Move) {
	at := slices.IndexFunc(l.Lanes[n].Spans, func(s Span) bool { return s.Step == step })
	if at < 0 {
		return
	}
	for j := range l.Lanes {
		x := Arrival{At: l.Lanes[n].Spans[at].From}
		for _, m := range moves {
			if m.To != l.Lanes[j].Host {
				continue
			}
			if x.Guests++; x.From != "" && x.From != m.From {
				x.From = "others"
			} else {
				x.From = m.From
			}
		}
		if x.Guests > 0 {
			l.Lanes[j].Comes = append(l.Lanes[j].Comes, x)
		}
	}
}

// Steps are those that occur in the lanes, in their order.
func (l *Lanes) Steps() []act.Step {
	return slices.DeleteFunc(slices.Clone(act.Steps), func(step act.Step) bool {
		return !slices.ContainsFunc(l.Lanes, func(x Lane) bool {
			return slices.ContainsFunc(x.Spans, func(s Span) bool { return s.Step == step })
		})
	})
}

// Went lays a round out as its journal tells it, and the estimates of what is to come. now is where it stands; the end
// of one that has ended. says is what hosts wait for.
func Went(s *course.State, now time.Time, says []course.Said, limit float64) Lanes {
	if !s.Ended.IsZero() {
		now = s.Ended
	}
	out := Lanes{From: s.Started, To: now, Now: now}
	at := now
	for i := range s.Visits {
		v := &s.Visits[i]
		l := Lane{Host: v.Host}
		for _, sp := range v.Spans {
			end := ended(v, sp, now)
			l.Spans = append(l.Spans, Span{Step: sp.Step, Pass: sp.Pass, From: sp.From, To: end, Failed: sp.Failed})
		}
		if f := v.Failure; f != nil && now.After(f.At) {
			l.Spans = append(l.Spans, Span{From: f.At, To: now})
		}
		l.State, l.Tone = visitState(v)
		if !v.Over() && v.Failure == nil && s.Status != course.Finished {
			for _, st := range v.Steps[min(len(v.Spans), len(v.Steps)):] {
				l.Spans = append(l.Spans,
					Span{Step: st.Step, Pass: st.Pass, From: at, To: at.Add(st.Middle), Expected: true})
				at = at.Add(st.Middle)
			}
		}
		for _, say := range says {
			if say.Host == v.Host && say.Act == "" {
				l.Waits = say.Says
			}
		}
		out.Lanes = append(out.Lanes, l)
	}
	if at.After(out.To) {
		out.To = at
	}
	out.tide(s, limit)
	return out
}

// ended is when a step ended, or how far it is now. From a failure on it stands still.
func ended(v *course.Visit, sp course.Span, now time.Time) time.Time {
	end := sp.To
	if end.IsZero() {
		end = now
	}
	if f := v.Failure; f != nil && end.After(f.At) {
		end = f.At
	}
	return end
}

func visitState(v *course.Visit) (string, Tone) {
	switch {
	case v.Phase == course.LeftOut:
		return "left out", Quiet
	case v.Phase == course.HandedOver:
		return "handed over", Caution
	case v.Over():
		return "done", Good
	case v.Failure != nil && v.Closed():
		return "FAILED, closed", Alarm
	case v.Failure != nil:
		return "FAILED", Alarm
	case len(v.Spans) == 0:
		return "waits", Quiet
	}
	return "▸" + string(v.Spans[len(v.Spans)-1].Step), Strong
}

// tide lays out how much load there is at each moment: while a host is out of service, what the plan says for that, and
// else what there is with all in service.
func (l *Lanes) tide(s *course.State, limit float64) {
	type out struct {
		from, to time.Time
		v        *course.Visit
	}
	var outs []out
	var marks []time.Time
	for i := range s.Visits {
		v := &s.Visits[i]
		if v.Load == 0 || !v.Empties {
			continue
		}
		o := out{v: v}
		for _, sp := range l.Lanes[i].Spans {
			if sp.Step == act.PrecheckStep || sp.Step == act.StageStep || sp.Step == act.ReturnStep {
				continue // it is in service
			}
			if o.from.IsZero() {
				o.from = sp.From
			}
			o.to = sp.To
		}
		if o.to.After(o.from) {
			outs, marks = append(outs, o), append(marks, o.from, o.to)
		}
	}
	if len(outs) == 0 {
		return
	}
	marks = append(marks, l.From, l.To)
	slices.SortFunc(marks, time.Time.Compare)
	marks = slices.CompactFunc(marks, time.Time.Equal)
	for i := range len(marks) - 1 {
		level := Level{From: marks[i], To: marks[i+1], Load: s.Plan.Load, Limit: limit}
		for _, o := range outs {
			if !o.from.After(level.From) && o.to.After(level.From) &&
				(level.Out == "" || o.v.Limit-o.v.Load < level.Limit-level.Load) {
				level.Load, level.Limit, level.Out = o.v.Load, o.v.Limit, o.v.Host
			}
		}
		l.Tide = append(l.Tide, level)
	}
}

// Tightest is the level that comes nearest to its limit, and false where no limit is known.
func (l *Lanes) Tightest() (tight Level, ok bool) {
	for _, t := range l.Tide {
		if t.Limit > 0 && (!ok || t.Limit-t.Load < tight.Limit-tight.Load) {
			tight, ok = t, true
		}
	}
	return tight, ok
}

// Follow is the host that a watcher stays with until he chooses one: the one that is visited, or that needs somebody;
// "" where there is no lane.
func (l *Lanes) Follow() string {
	for _, tone := range []Tone{Strong, Alarm} {
		for _, lane := range l.Lanes {
			if lane.Tone == tone && lane.Obstacle == "" {
				return lane.Host
			}
		}
	}
	if len(l.Lanes) == 0 {
		return ""
	}
	return l.Lanes[0].Host
}

// Result is what a round made of a host.
type Result struct {
	Host          string
	State         string
	Tone          Tone
	Changed       []string      // what was made, before → after
	Missed        []string      // what was planned and was not made, each with that
	Moves, Back   int           // guests that left it, and that came back to it
	Planned, Took time.Duration // Took is from its first step to its last; Planned is the middle estimate
	Longest       act.Step      // the step that took longest, and how long; "" where there was none
	LongestTook   time.Duration
	Needs         string // what a person must see to
	Remedy        string
	Logs          []act.Log // of the moment at which it failed
}

// Results tell host by host what a round came to.
func Results(s *course.State, now time.Time) (out []Result) {
	if !s.Ended.IsZero() {
		now = s.Ended
	}
	for i := range s.Visits {
		v := &s.Visits[i]
		r := Result{Host: v.Host}
		for _, m := range v.Moved() {
			if m.From == v.Host {
				r.Moves++
			} else {
				r.Back++
			}
		}
		r.State, r.Tone = visitState(v)
		r.Planned, _ = v.Estimate()
		for n, c := range v.Changes {
			switch {
			case v.Ahead && v.Did(act.Stage, n):
				r.Changed = append(r.Changed, "its payload waits there: "+c.Says())
			case v.Ahead:
				r.Missed = append(r.Missed, "its payload was not brought: "+c.Says())
			case v.Made(n):
				r.Changed = append(r.Changed, c.Says())
			default:
				r.Missed = append(r.Missed, "not made: "+c.Says())
			}
		}
		took := map[act.Step]time.Duration{}
		for _, sp := range v.Spans {
			lasted := ended(v, sp, now).Sub(sp.From)
			took[sp.Step] += lasted
			r.Took += lasted
		}
		for _, step := range act.Steps {
			if took[step] > r.LongestTook {
				r.Longest, r.LongestTook = step, took[step]
			}
		}
		if f := v.Failure; f != nil {
			r.Needs, r.Remedy, r.Logs = f.Error, act.Advised(f.Remedy, f.Command), f.Logs
		}
		out = append(out, r)
	}
	return out
}
