package course

import (
	"cmp"
	"fmt"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// settle looks after an open act: what a look says of it is recorded, and where nobody can be asked it is waited for,
// as long as its kind and the brief allow.
func (t *turn) settle(p *Pending) {
	a := &p.Act
	rules := a.Kind.Of().Rules()
	switch {
	case t.f.Calls[a.ID]:
		t.waits = true
		t.tell(p, act.Finding{})
		return
	case a.Epoch < t.s.Epoch && a.Kind == act.Claim: // however it had ended, it is nobody's question any more
		t.settled(Undone, p, "another runner has taken the round on", "")
		return
	case p.Word != nil:
		t.byWord(p)
		return
	case p.Ordered:
		return
	case a.Epoch < t.s.Epoch && t.s.claimed[a.Host] < t.s.Epoch && !rules.ByBMC:
		t.claim(a) // until the host knows of this lease, what was begun under another may still come
		return
	}
	seen, ok := t.seen(p)
	if !ok {
		return
	}
	f := a.Kind.Of().Find(*a, seen)
	if f.Outcome != act.Untold && !p.Quiet.IsZero() {
		t.settled(Heard, p, "", "")
	}
	switch f.Outcome {
	case act.Done:
		t.settled(Done, p, f.Detail, "")
	case act.NotDone:
		t.notDone(p, f, seen.Trace.State == act.Broke || seen.Trace.State == act.Lost)
	case act.UnderWay:
		t.underWay(p, f)
	case act.NeedsPerson:
		if rules.Repeats && t.s.undone[a.Key()] < attempts {
			t.settled(Undone, p, f.Detail, "")
			return
		}
		t.settled(Stuck, p, f.Detail, rules.Advice(a.Host, false))
	case act.Untold:
		t.untold(p, f)
	}
}

// byWord settles an act as a person says, where no look can: what a look finds goes before anybody's word.
func (t *turn) byWord(p *Pending) {
	a, w := &p.Act, p.Word
	if !t.fresh(a.Host, estate.Host) {
		return
	}
	if t.f.Readings[a.Host].Reached() && a.Epoch < t.s.Epoch && t.s.claimed[a.Host] < t.s.Epoch {
		t.claim(a)
		return
	}
	seen, ok := t.seen(p)
	if !ok {
		return
	}
	says := fmt.Sprintf("%s says %q: %s", w.By, w.Says, w.Reason)
	switch f := a.Kind.Of().Find(*a, seen); {
	case f.Outcome == act.NeedsPerson, f.Outcome == act.Untold:
		t.settled(map[bool]EventKind{true: Done, false: Undone}[w.Says == AskDone], p, says, "")
	default:
		t.settled(Refuted, p, fmt.Sprintf("%s; and a look finds it %s %s", says, f.Outcome, f.Detail), "")
	}
}

// claim tells the host of an act the epoch of this lease, if that is not under way. One that refuses it is not told
// again before somebody lets the round go on.
func (t *turn) claim(of *act.Act) {
	if t.s.refusesClaims(of.Host) {
		return
	}
	if t.count(func(a *act.Act) bool { return a.Host == of.Host && a.Kind == act.Claim && a.Epoch == t.s.Epoch }) > 0 {
		return
	}
	t.intend(act.Act{Kind: act.Claim, Host: of.Host, For: of.For, Round: t.s.Round, Epoch: t.s.Epoch,
		By: t.s.Plan.Brief.By})
}

// refusesClaims tells whether the host has refused a claim since somebody last let the round go on.
func (s *State) refusesClaims(host string) bool {
	return s.failures[act.Act{Host: host, Kind: act.Claim}.Key()] > 0
}

// seen gathers what the act's kind asks for, and asks for a look at what is not fresh. The trace comes first: while it
// runs the hosts need not be looked at, and where it has ended they must be looked at after it, or each could be seen
// as it was before.
func (t *turn) seen(p *Pending) (act.Seen, bool) {
	a := &p.Act
	asks := a.Kind.Of().Asks(*a)
	out := act.Seen{Now: t.f.Now, Since: p.At, Accepted: p.Accepted, SHA256: p.SHA256}
	since := Sight{}
	if asks.Trace {
		trace, ok := t.f.Traces[a.ID]
		if !ok || trace.Seq < t.s.touched[a.Host] {
			t.look(Look{Host: a.Host, Traces: []string{a.ID}})
			return out, false
		}
		out.Trace, since.Tick = trace.Trace, trace.Tick
	}
	ok := true
	if out.Trace.State != act.Runs && (out.Trace.Unasked == "" || a.To != "") {
		if ok = t.proof(since, a.Host, asks.Host...); ok && len(asks.Back) > 0 && t.f.Readings[a.Host].Reached() {
			ok = t.after(since, a.Host, asks.Back...)
		}
		ok = (a.To == "" || t.proof(since, a.To, asks.To...)) && ok
	}
	out.Host, out.To = t.f.Readings[a.Host], t.f.Readings[a.To]
	return out, ok
}

func (t *turn) settled(kind EventKind, p *Pending, detail, remedy string) {
	a := p.Act // a copy: the event outlives the state's own
	if last(&a) && (kind == Overdue || kind == Stuck) {
		kind = Failed
	}
	t.record(Event{Kind: kind, Act: &a, Detail: detail, Remedy: remedy})
}

// notDone tells what the outside had taken on, which failed, from what never reached it and may be begun anew.
func (t *turn) notDone(p *Pending, f act.Finding, broke bool) {
	if f.Again {
		a := p.Act
		t.record(Event{Kind: Undone, Act: &a, Detail: f.Detail, Again: true})
		return
	}
	if p.Accepted || broke {
		a := p.Act
		t.record(Event{Kind: Failed, Act: &a, Detail: f.Detail, Final: f.Final, Remedy: p.Act.Kind.Of().Rules().Remedy})
		return
	}
	if n := t.s.undone[p.Act.Key()]; n >= attempts {
		t.settled(Failed, p, fmt.Sprintf("it was tried %d times, and nothing came of it each time: %s", n+1,
			cmp.Or(f.Detail, p.Unanswered)), p.Act.Kind.Of().Rules().Remedy)
		return
	}
	t.settled(Undone, p, "found not done: "+f.Detail, "")
}

// attempts is how often an act is begun anew of which each time nothing came, and nobody said why.
const attempts = 5

func (t *turn) underWay(p *Pending, f act.Finding) {
	if late := t.f.Now.Sub(p.From) - t.waitFor(p, true); late >= 0 {
		t.settled(Overdue, p, fmt.Sprintf("it has been under way for %s, and should have ended %s ago: %s",
			drift.Age(t.f.Now.Sub(p.At)), drift.Age(late),
			cmp.Or(f.Detail, "nothing says why")), p.Act.Kind.Of().Rules().Advice(p.Act.Host, false))
		return
	}
	t.tell(p, f)
}

// untold puts up with a host or BMC that can't be asked.
func (t *turn) untold(p *Pending, f act.Finding) {
	a := &p.Act
	rules := a.Kind.Of().Rules()
	silent := t.f.Now.Sub(p.Quiet)
	switch {
	case rules.Aside:
		t.settled(Failed, p, f.Detail, rules.Remedy)
	case p.Quiet.IsZero() && !p.Waited:
		t.settled(Quiet, p, f.Detail, "")
	case p.Waited || silent >= t.waitFor(p, rules.Quiet):
		detail := fmt.Sprintf("no answer for %s: %s", drift.Age(silent), f.Detail)
		if a.Kind.Step() == act.RestartStep && rules.Quiet {
			middle, _ := t.usual(a)
			detail = fmt.Sprintf("it did not come back within %s; usually it takes %s: %s", drift.Age(silent),
				drift.Age(middle), f.Detail)
		}
		t.settled(Overdue, p, detail, rules.Advice(a.Host, false))
	default:
		says := fmt.Sprintf("silent for %s: %s", drift.Age(silent), f.Detail)
		if middle, _ := t.usual(a); rules.Quiet {
			says = fmt.Sprintf("silent for %s, as expected meanwhile; usually it takes %s", drift.Age(silent),
				drift.Age(middle))
			if t.f.Now.Sub(p.At) > middle {
				says = fmt.Sprintf("silent for %s: longer than usual, which is %s, and it is waited for another %s",
					drift.Age(silent), drift.Age(middle), drift.Age(t.waitFor(p, true)-silent))
			}
			if f.Percent == 0 {
				f.Percent = min(99, int(100*t.f.Now.Sub(p.At)/middle))
			}
			f.Left = max(0, middle-t.f.Now.Sub(p.At))
			if said := t.f.Traces[a.ID].Said; said != "" {
				says += "; what runs there says: " + said
			}
		}
		f.Detail = says
		t.tell(p, f)
	}
}

func (t *turn) tell(p *Pending, f act.Finding) {
	t.waits = true
	t.d.Says = append(t.d.Says,
		Said{Host: p.Act.Visit(), Act: p.Act.ID, Says: f.Detail, Percent: f.Percent, Left: f.Left})
}

// usual is how long the act usually takes on its host, by the plan: the longer of what the estate knows and what the
// kind states.
func (t *turn) usual(a *act.Act) (middle, worst time.Duration) {
	middle, worst = a.Kind.Of().Takes(*a)
	if v := t.s.Visit(a.Host); v != nil && a.Kind == act.Restart {
		for _, st := range v.Steps {
			if st.Step == act.RestartStep {
				return max(st.Middle, time.Second), max(worst, st.Pessimistic)
			}
		}
	}
	return middle, worst
}

// waitFor is how long an act is waited for: the brief's patience, and before that as long as it may take where it is
// expected to take it in silence. A claim is borne with as long as what it is made for.
func (t *turn) waitFor(p *Pending, takes bool) time.Duration {
	patience := t.s.Plan.Brief.Patience
	var longest time.Duration
	if takes {
		_, longest = t.usual(&p.Act)
	}
	if p.Act.Kind == act.Claim {
		for i := range t.s.Open {
			o := &t.s.Open[i].Act
			if _, worst := t.usual(o); o.Host == p.Act.Host && o.Kind.Of().Rules().Quiet {
				longest = max(longest, worst)
			}
		}
	}
	return longest + patience
}

var everySection = estate.SectionNames
