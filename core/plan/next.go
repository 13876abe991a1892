package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/precheck"
)

// Facts is the world as the runner just saw it.
type Facts struct {
	Now      time.Time
	Round    string // the round's id, by which our own marks are known
	Hosts    []string
	Readings map[string]*estate.Reading // all hosts; what could not be read is as it was last known, its section unread
	Full     string                     // the host whose every section was read just now; of the others only host, guests and BMC were
	Payload  func(file, sha256 string) (problem string)
	// Withdrawn says why what a change would put in was taken back since the round began; "" where it stands. What is wanted stays
	// frozen all the same: a withdrawal can only stop the round.
	Withdrawn func(Change) string
}

// Turn is the one thing to do now. Exactly one field is set.
type Turn struct {
	Settle *Pending  // an intent without an outcome: look at the host and write down which it was
	Do     *Action   // write the intent, do it, write the outcome
	Await  []Pending // tasks are under way: wait for any of them
	Record *Event    // an outcome that needs no act
	Look   string    // read this host in full and ask again
	Wait   string    // nothing to do but let time pass, and why
	End    *Event    // the round ends here
}

// Next names what to do now. It is the whole policy of a round: the runner adds nothing to it.
func Next(s *State, f Facts) Turn {
	for i := range s.Open {
		if !s.Open[i].Accepted {
			return Turn{Settle: &s.Open[i]}
		}
	}
	v := s.current()
	if v == nil {
		return ending(Finished, "every visit is made")
	}
	if v.Failure != nil {
		return s.afterFailure(v)
	}
	if len(v.Spans) == 0 || !v.Checked && len(s.Open) == 0 {
		if t, held := s.held(); held {
			return t
		}
	}
	if !v.Checked {
		return s.precheck(v, f)
	}
	if s.Stop && !v.Closed && len(s.Open) == 0 {
		return ending(Stopped, "stopped at a safe point: "+v.Host+" is not closed")
	}
	return s.step(v, f)
}

func ending(st Status, detail string) Turn {
	return Turn{End: &Event{Kind: Ended, Status: st, Detail: detail}}
}

// current is the first visit that is not over.
func (s *State) current() *VisitState {
	for i := range s.Visits {
		if !s.Visits[i].Over() {
			return &s.Visits[i]
		}
	}
	return nil
}

// held tells whether a person asked the round not to begin another visit.
func (s *State) held() (Turn, bool) {
	switch {
	case s.Stop:
		return ending(Stopped, "stopped between two hosts"), true
	case s.Pause:
		return ending(Paused, "paused between two hosts"), true
	}
	return Turn{}, false
}

// afterFailure lets what is in flight land, writes the reason on a closed host, and ends the round.
func (s *State) afterFailure(v *VisitState) Turn {
	if len(s.Open) > 0 {
		return Turn{Await: s.Open}
	}
	if v.Closed && !v.Failure.Marked {
		return s.do(Action{Kind: Remark, Host: v.Host, Reason: v.Failure.Action.Kind.failed() + ": " + v.Failure.Error})
	}
	return ending(Failing, v.Host+": "+v.Failure.Action.Kind.failed()+": "+v.Failure.Error)
}

func (k ActionKind) failed() string { return string(k) + " failed" }

// do completes an action with an id that is its own.
func (s *State) do(a Action) Turn {
	key := attemptKey(a)
	a.ID = fmt.Sprintf("%s#%d.%d", key, s.attempts[key]+1, s.Seq)
	return Turn{Do: &a}
}

func record(kind EventKind, a Action, detail, remedy string) Turn {
	a.ID = attemptKey(a)
	return Turn{Record: &Event{Kind: kind, Action: &a, Detail: detail, Remedy: remedy}}
}

func (s *State) precheck(v *VisitState, f Facts) Turn {
	if f.Full != v.Host {
		return Turn{Look: v.Host}
	}
	// No age limit: the readings were taken for this very turn.
	facts := precheck.Facts{Now: f.Now, Reserve: s.Plan.Brief.Reserve, Out: s.Plan.Brief.Out, Hosts: f.Hosts,
		Readings: f.Readings, Empties: v.Empties, Round: f.Round, Payloads: map[string]string{}}
	for _, c := range v.Changes {
		if c.File == "" {
			continue
		}
		facts.Payloads[c.File] = "there is nothing here to verify it with"
		if f.Payload != nil {
			facts.Payloads[c.File] = f.Payload(c.File, c.SHA256)
		}
	}
	r := f.Readings[v.Host]
	answers := append(precheck.Host(facts, v.Host), asPlanned(v, r), standing(v, f))
	a := Action{Kind: Precheck, Host: v.Host}
	t := record(Done, a, fmt.Sprintf("%d checks, none blocks", len(answers)), "")
	if b := precheck.Blockers(answers); len(b) > 0 {
		t = record(Failed, a, b[0].Check+": "+b[0].Evidence, b[0].Remedy)
	}
	t.Record.Answers, t.Record.Snapshot = answers, r
	return t
}

// asPlanned holds the host to what it was when the round's wants were frozen.
func asPlanned(v *VisitState, r *estate.Reading) precheck.Answer {
	a := precheck.Answer{Check: "as planned", Host: v.Host, Level: precheck.Clear, Evidence: "it is as it was when the round was planned"}
	for _, c := range v.Changes {
		if why := cmp.Or(r.Section(c.Component.Section()).Err, r.Section(c.Component.Section()).Partial); why != "" {
			a.Level = precheck.Blocker
			a.Evidence = fmt.Sprintf("at what %s stands can't be told: %s", c.Component, why)
			a.Remedy = "see why it can't be read, then resume the round"
			continue
		}
		if has := versionOf(r, c); has != c.From && has != c.To {
			a.Level = precheck.Blocker
			a.Evidence = fmt.Sprintf("%s was %q when the round was planned and is %q now", c.Component, c.From, has)
			a.Remedy = "plan the round again"
		}
	}
	return a
}

// standing holds the round's wants to what their publishers say today.
func standing(v *VisitState, f Facts) precheck.Answer {
	a := precheck.Answer{Check: "standing", Host: v.Host, Level: precheck.Clear, Evidence: "nothing that would be put in was withdrawn since"}
	for _, c := range v.Changes {
		if f.Withdrawn == nil || !c.installs() || c.To == "" {
			continue
		}
		if why := f.Withdrawn(c); why != "" {
			a.Level = precheck.Blocker
			a.Evidence = fmt.Sprintf("%s %s was withdrawn since the round was planned: %s", c.Component, c.To, why)
			a.Remedy = "plan the round again"
		}
	}
	return a
}

func versionOf(r *estate.Reading, c Change) string {
	comp, _ := r.Component(c.Component, c.Device)
	return comp.Version
}

// step goes on with a visit whose prechecks are clear. Before each act it asks anew whether what is still to be put in stands: a withdrawal stops the visit there.
func (s *State) step(v *VisitState, f Facts) Turn {
	if len(s.Open) == 0 {
		left := *v
		left.Changes = nil
		for i, c := range v.Changes {
			if !v.Installed[i] {
				left.Changes = append(left.Changes, c)
			}
		}
		if a := standing(&left, f); a.Level == precheck.Blocker {
			return record(Failed, Action{Kind: Install, Host: v.Host}, a.Evidence, a.Remedy)
		}
	}
	for i, done := range v.Staged {
		c := v.Changes[i]
		there := slices.ContainsFunc(v.Changes[:i], func(o Change) bool { return o.File == c.File })
		if !done && !there && c.File != "" && c.installs() && !v.Installed[i] {
			return s.orAwait(Action{Kind: Stage, Host: v.Host, Index: i, Change: &c})
		}
	}
	if v.Empties && len(v.Restarted) < len(v.Restarts) {
		if t, ok := s.empty(v, f); ok {
			return t
		}
	}
	for pass := 1; pass <= v.Passes; pass++ {
		if t, ok := s.pass(v, f, pass); ok {
			return t
		}
	}
	if !v.Proven {
		return s.prove(v, f)
	}
	return s.orAwait(Action{Kind: Reopen, Host: v.Host})
}

// orAwait does the action once nothing else is under way.
func (s *State) orAwait(a Action) Turn {
	if len(s.Open) > 0 {
		return Turn{Await: s.Open}
	}
	return s.do(a)
}

// empty drains and closes the host; ok is false when both are done.
func (s *State) empty(v *VisitState, f Facts) (t Turn, ok bool) {
	r := f.Readings[v.Host]
	if !r.Reached() && len(s.Open) == 0 {
		return record(Failed, Action{Kind: Move, Host: v.Host}, "the host does not answer, and counts as running its guests",
			"look at its console; its power must be proven off before anybody starts its guests elsewhere"), true
	}
	if t, unknown := s.guestsUnread(v, f, v.Host, Move); unknown {
		return t, true
	}
	var staying []estate.Guest
	for _, g := range r.Holding() {
		if !s.moving(g.UID()) {
			staying = append(staying, g)
		}
	}
	switch {
	case len(s.Open) >= max(s.Plan.Brief.Moves, 1), len(staying) == 0 && len(s.Open) > 0:
		return Turn{Await: s.Open}, true
	case len(staying) > 0 && s.Stop && !v.Closed:
		return Turn{Await: s.Open}, true // nothing new is begun; Next ends the round when these have landed
	case len(staying) > 0:
		return s.move(v, f, staying), true
	case !v.Closed:
		return s.do(Action{Kind: Close, Host: v.Host, Reason: s.Plan.Brief.Reason}), true
	}
	return Turn{}, false
}

func (s *State) moving(guest string) bool {
	return slices.ContainsFunc(s.Open, func(p Pending) bool { return p.Action.Kind == Move && p.Action.UID() == guest })
}

// guestsUnread bears with a host whose guests can't be read for as long as the brief's patience lasts: a service that restarts is soon back. Until then nothing is
// done for which it matters who is on the host.
func (s *State) guestsUnread(v *VisitState, f Facts, host string, doing ActionKind) (t Turn, unknown bool) {
	why := f.Readings[host].Section(estate.GuestList).Err
	switch {
	case why == "":
		return Turn{}, false
	case len(s.Open) > 0:
		return Turn{Await: s.Open}, true
	case f.Now.Sub(s.Last) < s.Plan.Brief.Patience:
		return Turn{Wait: "which guests are on " + host + " can't be read: " + why}, true
	}
	return record(Failed, Action{Kind: doing, Host: v.Host}, "which guests are on "+host+" can't be read, and those last known count as running: "+why,
		"see why its libvirt does not answer, then resume"), true
}

// move picks the next guest to go and where to, on the cluster as it is this moment: a guest in flight counts at both ends.
func (s *State) move(v *VisitState, f Facts, staying []estate.Guest) Turn {
	a := Action{Kind: Move, Host: v.Host}
	for _, h := range f.Hosts {
		if r := f.Readings[h]; h != v.Host && (r == nil || !r.Reached()) {
			if len(s.Open) > 0 {
				return Turn{Await: s.Open}
			}
			return record(Failed, a, h+" does not answer: no new moves are begun", "bring "+h+" back or prove its power off, then resume")
		}
	}
	for _, h := range f.Hosts {
		if t, unknown := s.guestsUnread(v, f, h, Move); unknown {
			return t
		}
	}
	hosts := precheck.FitHosts(f.Hosts, f.Readings)
	for i := range hosts {
		if hosts[i].Name == v.Host {
			hosts[i].Guests = staying
			continue
		}
		for _, p := range s.Open {
			there := func(g estate.Guest) bool { return g.UID() == p.Action.UID() } // in the middle of its move it is seen at both ends
			if p.Action.To == hosts[i].Name && !slices.ContainsFunc(hosts[i].Guests, there) {
				hosts[i].Guests = append(hosts[i].Guests, inFlight(f, p.Action))
			}
		}
	}
	i := slices.IndexFunc(s.Plan.Visits, func(pv Visit) bool { return pv.Host == v.Host })
	answer := fit.Drain(hosts, v.Host, s.Plan.Brief.Reserve, Avoid(&s.Plan, i))
	if answer.Outcome != fit.Fits {
		if len(s.Open) > 0 {
			return Turn{Await: s.Open}
		}
		return record(Failed, a, "no room: "+answer.Obstacle.String(), answer.Obstacle.WayOut)
	}
	a.Guest, a.GuestID, a.To = answer.Moves[0].Guest, answer.Moves[0].ID, answer.Moves[0].To
	return s.do(a)
}

func inFlight(f Facts, a Action) estate.Guest {
	for _, g := range f.Readings[a.Host].Guests {
		if g.UID() == a.UID() {
			return g
		}
	}
	return estate.Guest{}
}

// pass puts in what belongs to the pass and restarts the host if that needs it; ok is false when both are done.
func (s *State) pass(v *VisitState, f Facts, pass int) (t Turn, ok bool) {
	for i, c := range v.Changes {
		if c.Pass != pass || v.Installed[i] || !c.installs() && c.Restart.EmptiesHost() {
			continue
		}
		return s.install(v, i), true
	}
	if slices.Contains(v.Restarts, pass) && !slices.Contains(v.Restarted, pass) {
		r := f.Readings[v.Host]
		if t, unknown := s.guestsUnread(v, f, v.Host, Restart); unknown {
			return t, true
		}
		if n := len(r.Holding()); n > 0 && len(s.Open) == 0 {
			return record(Failed, Action{Kind: Restart, Host: v.Host, Pass: pass}, fmt.Sprintf("%d guests are on it that run or hold their memory", n), "move them away, then resume"), true
		}
		return s.orAwait(Action{Kind: Restart, Host: v.Host, Pass: pass, Before: Before{BootID: r.BootID}, Reason: s.Plan.Brief.Reason}), true
	}
	return Turn{}, false
}

func (s *State) install(v *VisitState, i int) Turn {
	c := v.Changes[i]
	a := Action{Kind: Install, Host: v.Host, Index: i, Pass: c.Pass, Change: &c}
	if len(s.Open) > 0 {
		return Turn{Await: s.Open}
	}
	a.Before.Version = c.From
	return s.do(a)
}

// prove asks whether the host is as wanted and as well as it was. Services come up one by one after a restart, so it
// asks again until the brief's patience ends.
func (s *State) prove(v *VisitState, f Facts) Turn {
	if len(s.Open) > 0 {
		return Turn{Await: s.Open}
	}
	if f.Full != v.Host {
		return Turn{Look: v.Host}
	}
	a := Action{Kind: Prove, Host: v.Host, Pass: v.Passes}
	wrong := unproven(v, f.Readings[v.Host])
	switch {
	case len(wrong) == 0:
		return record(Done, a, strings.Join(unasked(v, f.Readings[v.Host]), "; "), "")
	case f.Now.Sub(s.Last) < s.Plan.Brief.Patience:
		return Turn{Wait: "not proven yet: " + wrong[0]}
	}
	return record(Failed, a, strings.Join(wrong, "; "), "mend it on the host, then resume the round: it proves the host again")
}

// unproven lists what keeps the host from being proven.
func unproven(v *VisitState, r *estate.Reading) (wrong []string) {
	for _, s := range estate.SectionNames {
		if e := cmp.Or(r.Section(s).Err, r.Section(s).Partial); e != "" && v.Snapshot.Section(s).Whole() {
			wrong = append(wrong, fmt.Sprintf("%s is unread: %s", s, e))
		}
	}
	for _, c := range v.Changes {
		comp, _ := r.Component(c.Component, c.Device)
		if !r.Read(c.Component.Section()) {
			wrong = append(wrong, fmt.Sprintf("at what %s stands can't be read", c.Component))
		} else if comp.State != "" {
			wrong = append(wrong, fmt.Sprintf("%s %s is %s", c.Component, comp.Version, comp.State))
		} else if comp.Version != c.To {
			wrong = append(wrong, fmt.Sprintf("%s is %q and should be %q", c.Component, comp.Version, c.To))
		} else if comp.Running != "" {
			wrong = append(wrong, fmt.Sprintf("%s %s is installed but %s runs", c.Component, c.To, comp.Running))
		}
	}
	for _, h := range r.Health {
		if !h.OK && wasWell(v.Snapshot, h.Item) {
			wrong = append(wrong, h.Item+" was well before: "+h.Detail)
		}
	}
	for _, n := range v.Snapshot.Networks {
		if !slices.Contains(r.Networks, n) {
			wrong = append(wrong, "the network "+n+" is gone")
		}
	}
	if r.BMC.Queue > 0 {
		wrong = append(wrong, fmt.Sprintf("%d task(s) are left in the BMC's queue", r.BMC.Queue))
	}
	return wrong
}

func wasWell(before *estate.Reading, item string) bool {
	return slices.ContainsFunc(before.Health, func(h estate.Health) bool { return h.Item == item && h.OK })
}

// unasked lists components that changed though nobody asked for it.
func unasked(v *VisitState, r *estate.Reading) (out []string) {
	for _, b := range v.Snapshot.Present() {
		if b.Key.Layer() == estate.Inside || !r.Section(b.Key.Section()).Whole() { // guests have moved away, with what is in them
			continue
		}
		asked := slices.ContainsFunc(v.Changes, func(c Change) bool { return c.Component == b.Key && c.Device == b.Device })
		now, ok := r.Component(b.Key, b.Device)
		switch {
		case asked:
		case !ok:
			out = append(out, b.Title()+" is gone, unasked")
		case b.Known() && !now.Known():
			out = append(out, fmt.Sprintf("%s was at %s, and where it stands now can't be read: %s", b.Title(), b.Version, now.Unread))
		case b.Known() && now.Version != b.Version:
			out = append(out, fmt.Sprintf("%s went from %s to %s, unasked", b.Title(), b.Version, now.Version))
		}
	}
	return out
}
