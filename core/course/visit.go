package course

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/span"
)

// visit goes on with one visit, one thing at a time.
func (t *turn) visit(v *Visit) {
	switch {
	case v.Over():
	case v.Hands != nil:
		t.hands(v, v.Hands)
	case v.Did(act.Hand, 0):
		a := v.Acts[slices.IndexFunc(v.Acts, func(a act.Act) bool { return a.Kind == act.Hand })]
		t.hands(v, &Word{By: a.By, Reason: a.Reason})
	case v.Failure != nil:
		t.afterFailure(v)
	case len(v.Clears) > 0 && v.Phase != Waiting:
		t.clears(v)
	case v.Phase == Waiting:
		t.begin(v)
	case t.halts(v):
		t.halt(v)
	case t.f.Contradiction != nil:
		t.blocked(v, t.f.Contradiction.Error(), "find the newer copy of the state directory, and go on with that one")
	case v.Phase == Checking:
		t.precheck(v)
	case v.Phase == Working:
		t.work(v)
	case v.Phase == Settling:
		t.prove(v)
	case v.Phase == Closing && v.Keeps:
		t.hands(v, t.owner())
	case v.Phase == Closing && len(v.Owing()) > 0:
		t.pay(v)
	case v.Phase == Closing && len(v.Away()) > 0:
		t.returns(v)
	case v.Phase == Closing && t.copies(v):
	case v.Phase == Closing:
		t.hooks(v, place{})
	}
}

func (t *turn) blocked(v *Visit, why, remedy string) {
	if t.busy(v.Host) == 0 {
		t.record(Event{Kind: Blocked, Host: v.Host, Detail: why, Remedy: remedy})
	}
}

// begin lets the visit begin if every gate is open.
func (t *turn) begin(v *Visit) {
	switch {
	case v.Skip:
		t.record(Event{Kind: Left, Host: v.Host, Detail: "somebody asked to leave it out"})
		return
	case t.s.End != nil:
		t.record(Event{Kind: Left, Host: v.Host, Detail: t.s.End.By + " ended the round"})
		return
	}
	if len(t.d.Record) > 0 {
		return // the gates are asked when that is in the fold
	}
	if _, why, held := t.held(v); held {
		t.say(v.Host, why)
		return
	}
	t.record(Event{Kind: Began, Host: v.Host})
}

// halts tells whether the visit goes no further: somebody asked for it, or another visit failed. One whose host is
// closed, or may be, is finished all the same.
func (t *turn) halts(v *Visit) bool {
	closing := t.count(func(a *act.Act) bool { return a.Host == v.Host && a.Kind.Of().Rules().Pays != "" }) > 0
	return (t.s.Stop || t.s.End != nil || v.Skip || t.s.failing() != nil) && !v.Closed() && !closing
}

// pay undoes what the visit owes, the last first: the host is opened, and then its guests are started, the one that was
// shut down last first.
func (t *turn) pay(v *Visit) {
	if t.unmounts(v, true) {
		return
	}
	owing := v.Owing()
	o := owing[len(owing)-1]
	if o.Kind.Of().Rules().Pays == act.Start && t.comesLater(v, &o) {
		return
	}
	host := ""
	for _, a := range v.Acts { // it was carried away before it could be started
		if a.Kind == act.Carry && o.Kind == act.Down && a.UID() == o.UID() {
			host = a.To
		}
	}
	a := act.Act{Host: cmp.Or(host, v.Host), Kind: o.Kind.Of().Rules().Pays, Guest: o.Guest, GuestID: o.GuestID,
		MemoryMiB: o.MemoryMiB, Lent: o.Lent, Media: o.Media}
	if t.count(func(b *act.Act) bool { return b.Key() == a.Key() }) == 0 {
		t.start(v, a)
	}
}

// comesLater tells whether a guest is not started yet, because others must have run for some time or have their agents
// answer. After the brief's patience it is started all the same.
func (t *turn) comesLater(v *Visit, o *act.Act) bool {
	i := slices.IndexFunc(v.Rests, func(r plan.Rest) bool { return r.UID() == o.UID() })
	if i < 0 || v.Rests[i].After == "" {
		return false
	}
	for _, name := range strings.Split(v.Rests[i].After, ", ") {
		began, started := v.Started[name]
		if !started {
			continue // it did not come to rest, or is somebody's by now
		}
		ran := t.f.Now.Sub(began)
		if ran < v.Rests[i].Wait {
			t.wait(v.Host, fmt.Sprintf("%s is started once %s has run for %s", o.Guest, name, span.String(v.Rests[i].Wait)))
			return true
		}
		if !t.fresh(v.Host, estate.GuestList) {
			return true
		}
		for _, at := range v.Rests[i].Addresses() {
			if ran < t.s.Plan.Brief.Patience && !t.f.Today[v.Host].Answers[at] {
				t.wait(v.Host, fmt.Sprintf("%s is started once %s answers", o.Guest, at))
				return true
			}
		}
		if ran < t.s.Plan.Brief.Patience && agentSilent(v.Before, t.f.Readings[v.Host], name) {
			t.wait(v.Host, fmt.Sprintf("%s is started once the agent of %s answers", o.Guest, name))
			return true
		}
	}
	return false
}

// agentSilent tells whether a guest's agent answered before the visit and does not now.
func agentSilent(before, now *estate.Reading, guest string) bool {
	answers := func(r *estate.Reading) bool {
		return r != nil && slices.ContainsFunc(r.Guests, func(g estate.Guest) bool {
			return g.Name == guest && g.Agent.Name != "" && g.Agent.Unread == ""
		})
	}
	return answers(before) && !answers(now)
}

func (t *turn) halt(v *Visit) {
	switch {
	case t.busy(v.Host) > 0: // what is in flight lands
	case len(v.Owing()) > 0: // guests that were shut down for it are started again
		t.pay(v)
	case v.Skip:
		t.record(Event{Kind: Left, Host: v.Host,
			Detail: "somebody asked to leave it out; guests that moved away stay where they are"})
	case t.s.End != nil:
		t.record(Event{Kind: Left, Host: v.Host,
			Detail: t.s.End.By + " ended the round; guests that moved away stay where they are"})
	default:
		t.say(v.Host, "it stands at a safe point")
	}
}

// afterFailure lets what is in flight land, and writes the reason on a closed host.
func (t *turn) afterFailure(v *Visit) {
	if f := v.Failure; !f.Logged && (f.Act != nil || f.Step == act.ProveStep) { // before anything else is written there
		c := Culprit{Visit: v.Host, Host: v.Host}
		if f.Act != nil {
			c.Host, c.Kind = f.Act.Host, f.Act.Kind
		}
		t.d.Logs, t.waits = append(t.d.Logs, c), true
		return
	}
	if t.unmounts(v, true) {
		return
	}
	ended, says := t.s.End, ""
	switch {
	case ended != nil:
		says = ended.By + " ended the round, after: "
	case !v.Skip && (t.s.leaves() || t.s.leavesGuest(v)):
		says = "left as it is, and the round goes on, after: "
		ended = &Word{By: t.s.Plan.Brief.By, Reason: "the round left it, after: " + v.Failure.Says()}
	case v.Skip && v.Unpaid != "":
		ended = &Word{By: t.s.Plan.Brief.By, Reason: "it was to be left out, after: " + v.Failure.Says()}
	}
	switch {
	case ended != nil && v.Unpaid != "":
		t.hands(v, ended)
	case ended != nil && !v.Closed() && t.busy(v.Host) == 0 && len(v.Owing()) > 0:
		t.pay(v)
	case ended != nil && !v.Closed() && t.busy(v.Host) == 0:
		t.record(Event{Kind: Left, Host: v.Host, Detail: says + v.Failure.Says()})
	case ended != nil:
		t.hands(v, ended)
	case v.Skip && !v.Closed() && t.busy(v.Host) == 0 && len(v.Owing()) > 0:
		t.pay(v)
	case v.Skip && !v.Closed() && t.busy(v.Host) == 0:
		t.record(Event{Kind: Left, Host: v.Host, Detail: "somebody asked to leave it out, after: " + v.Failure.Says()})
	case !v.Failure.Marked && !t.flies(v.Host):
		a := act.Act{Kind: act.Remark, Reason: v.Failure.Says()}
		if !t.fresh(v.Host, estate.Host) {
			return
		}
		if r := t.f.Readings[v.Host]; !r.Reached() || r.Closed == nil || r.Closed.Round != t.s.Round {
			return // it can't be written there; the journal has it
		}
		t.start(v, a)
	}
}

// leavesGuest tells whether a visit failed for a guest that does not converge, and the brief has its host left then.
func (s *State) leavesGuest(v *Visit) bool {
	a := v.Failure.Act
	return s.Plan.Brief.Converge == plan.LeaveIt && a != nil && a.Kind == act.Move && v.Failure.Certain && !v.Closed()
}

// leaves tells whether the brief lets one more host be left behind after a failure.
func (s *State) leaves() bool {
	if s.Plan.Brief.Staging != "" { // nothing hangs on it: the round brings what is missing
		return true
	}
	n := 0
	for i := range s.Visits {
		if v := &s.Visits[i]; v.Phase == HandedOver || v.Phase == LeftOut && !v.Skip {
			n++
		}
	}
	return n < s.Plan.Brief.Leaves
}

// hands ends a visit where it stands: what is in flight lands, the mark on a host that is closed becomes the person's,
// and what is still owed is named.
func (t *turn) hands(v *Visit, w *Word) {
	if t.flies(v.Host) {
		return
	}
	if t.unmounts(v, true) {
		return
	}
	why := v.Unmarked
	if v.Closed() && why == "" {
		if !t.fresh(v.Host, estate.Host) {
			return
		}
		switch r := t.f.Readings[v.Host]; {
		case !r.Reached():
			why = "it does not answer: " + r.Section(estate.Host).Err
		case r.Closed == nil:
			why = "its mark is gone"
		case r.Closed.Round != t.s.Round:
			why = "it carries the mark of " + r.Closed.By
		default:
			t.start(v, act.Act{Kind: act.Hand, By: w.By, Reason: w.Reason})
			return
		}
	}
	says := "it is " + w.By + "'s from now on: " + w.Reason
	if why != "" {
		says += "; its mark could not be changed: " + why
	}
	due := v.Due()
	for i := range t.s.Open {
		if a := &t.s.Open[i].Act; a.Visit() == v.Host && a.Kind != act.Claim {
			due = append(due, notTold(*a))
		}
	}
	if len(due) > 0 {
		says += "; owed: " + strings.Join(due, ", ")
	}
	t.record(Event{Kind: Handed, Host: v.Host, Detail: says, By: w.By, Reason: w.Reason})
}

// clears takes out of the queue of the host's BMC what a person wants out of it.
func (t *turn) clears(v *Visit) {
	b := &t.s.Plan.Brief
	w := v.Clearing
	if w == nil {
		w = &Word{By: b.By, Reason: b.Reason}
	}
	t.start(v, act.Act{Kind: act.Clear, Tasks: v.Clears, By: w.By, Reason: w.Reason})
}

// flies tells whether anything is under way on the host that is not given up, and whose end can be seen: of what another
// runner began it can't where the host refuses to hear of this lease.
func (t *turn) flies(host string) bool {
	return slices.ContainsFunc(t.s.Open, func(p Pending) bool {
		return p.Act.Concerns(host) && !p.Ordered && !(p.Act.Epoch < t.s.Epoch && t.s.refusesClaims(p.Act.Host))
	})
}

func (t *turn) precheck(v *Visit) {
	own, others := t.fresh(v.Host, everySection...), t.clusterSeen()
	if !own || !others {
		return
	}
	answers := t.answers(v)
	if b := blockers(answers); len(b) > 0 {
		t.record(Event{Kind: Blocked, Host: v.Host, Detail: b[0].Check + ": " + b[0].Evidence,
			Remedy: b[0].Remedy, Command: b[0].Command, Checks: answers})
		return
	}
	t.record(Event{Kind: Checked, Host: v.Host, Detail: fmt.Sprintf("%d checks, none blocks", len(answers)),
		Checks: answers, Before: t.f.Readings[v.Host]})
}

// answers are the prechecks as they are answered now. No age limit: the readings were taken for this very turn.
func (t *turn) answers(v *Visit) []precheck.Answer {
	today := t.f.Today[v.Host]
	f := precheck.Facts{Now: t.f.Now, Terms: t.s.Plan.Terms(), Out: t.s.Plan.Brief.Out, Hosts: t.f.Hosts,
		Readings: t.f.Readings, Empties: v.Empties, Round: t.s.Round, Adopts: v.Adopts, Visited: t.draining(),
		Asked:    t.s.Plan.Brief.Asks(),
		Payloads: map[string]error{}, Judged: today.Judged,
		Verdicts: today.Verdicts, Mismatches: today.Mismatches}
	f.Moving = map[string]bool{}
	for i := range t.s.Open {
		if a := &t.s.Open[i].Act; a.To != "" {
			f.Moving[a.UID()] = true
		}
	}
	f.StagesMiB, f.Kernel = v.Stages()
	f.Visit = precheck.Visit{Begun: true, Planned: planned(v), Withdrawn: t.withdrawn(v, today)}
	f.Drops, f.Controller = v.Drops, t.s.Plan.Controller
	f.Own, f.Clears, f.Flashes = today.Own, v.Clears, v.Flashes()
	f.Restarts, f.Boots, f.Unserved = len(v.Restarts) > 0, v.Boots(), today.Unserved
	f.Snapshots = t.s.Plan.Brief.Copied()
	f.Keeps, f.Unkept = v.Backup, today.Unkept
	f.Programs, f.OnHost = t.s.Plan.Brief.Programs(func(path string) error {
		why, looked := today.Programs[path]
		if !looked {
			return fmt.Errorf("%s: whether it may be run could not be known", path)
		}
		return why
	})
	for _, c := range v.Changes {
		if !c.Supplied() {
			continue
		}
		why, looked := today.Payloads[c.File]
		if !looked {
			why = errUnlooked
		}
		f.Payloads[c.File] = why
	}
	return precheck.Waive(precheck.Host(f, v.Host), t.pardons(today), t.f.Now)
}

// pardons are the waivers that the plan was made with and that stand today.
func (t *turn) pardons(today Today) (out []precheck.Waiver) {
	for _, w := range t.s.Plan.Waivers {
		if slices.ContainsFunc(today.Waivers, func(o precheck.Waiver) bool {
			return o.ID == w.ID && o.Stands(t.f.Now)
		}) {
			out = append(out, w)
		}
	}
	return out
}

var errUnlooked = errors.New("it could not be known whether it is here and whole")

// planned is what is changed on the host; of a ladder its first rung.
func planned(v *Visit) (out []act.Change) {
	for i, c := range v.Changes {
		if !v.Without(i) && !slices.ContainsFunc(v.Changes[:i], c.Place) {
			out = append(out, c)
		}
	}
	return out
}

// withdrawn is what of what is still to be installed its publishers have withdrawn.
func (t *turn) withdrawn(v *Visit, today Today) (out []precheck.Withdrawal) {
	for i, c := range v.Changes {
		if !c.Installs() || c.To == "" || v.Did(c.Kind(), i) || v.Without(i) {
			continue
		}
		if why := today.Withdrawn[i]; why != "" {
			out = append(out, precheck.Withdrawal{Change: c, Why: why, Cluster: t.s.Plan.Brief.Cluster})
		}
	}
	return out
}

// work does what the visit is for. Before each act it asks anew whether what is still to be put in stands: a withdrawal
// stops the visit there.
func (t *turn) work(v *Visit) {
	if t.busy(v.Host) == 0 {
		f := precheck.Facts{Visit: precheck.Visit{Begun: true, Withdrawn: t.withdrawn(v, t.f.Today[v.Host])}}
		if a := precheck.Named("withdrawn", f, v.Host); a.Level == precheck.Blocker {
			t.record(Event{Kind: Blocked, Host: v.Host, Detail: a.Evidence, Remedy: a.Remedy, Command: a.Command})
			return
		}
	}
	if v.Ahead {
		t.ahead(v)
		return
	}
	for _, step := range []func(*Visit) bool{t.adopts, t.lends, t.uncopies, t.stages, t.empties, t.copies, t.backUp, t.restores,
		func(v *Visit) bool { return t.unmounts(v, false) }} {
		if step(v) {
			return
		}
	}
	for pass := 1; pass <= v.Passes; pass++ {
		if t.pass(v, pass) {
			return
		}
	}
	switch {
	case t.busy(v.Host) > 0:
	case v.Keeps && len(v.Restarts) == 0: // nothing was done to it that could be proven
		t.hands(v, t.owner())
	case t.hooks(v, place{act.ProveStep, 0}):
	default:
		t.record(Event{Kind: Proving, Host: v.Host})
	}
}

// owner is who has a host from now on that is worked on by hand.
func (t *turn) owner() *Word {
	b := &t.s.Plan.Brief
	w := &Word{By: b.By, Reason: b.Reason}
	if b.Hand != nil && !b.Hand.Until.IsZero() {
		w.Reason += ", until " + b.Hand.Until.Format("Mon 2 Jan 15:04 MST")
	}
	return w
}

// adopts makes the mark of a lost round that of this one.
func (t *turn) adopts(v *Visit) bool {
	if v.Adopts == "" || v.Did(act.Adopt, 0) {
		return false
	}
	t.start(v, act.Act{Kind: act.Adopt})
	return true
}

// lends changes services and settings for the time of the visit, those that are not so already.
func (t *turn) lends(v *Visit) bool {
	for i := range t.s.Plan.Brief.Temporary {
		l := t.s.Plan.Brief.Temporary[i]
		if slices.ContainsFunc(v.Acts, func(a act.Act) bool { return a.Kind == act.Lend && a.Lent.Says() == l.Says() }) {
			continue
		}
		if t.busy(v.Host) > 0 || !t.fresh(v.Host, estate.SettingItems) {
			return true
		}
		is, unread := l.Is(t.f.Readings[v.Host])
		if l.Setting != "" {
			l.From = is
		}
		if unread != nil || is != l.Wants(false) {
			t.start(v, act.Act{Kind: act.Lend, Lent: &l})
			return true
		}
	}
	return false
}

// restores puts files of the host's kept configuration back.
func (t *turn) restores(v *Visit) bool {
	if v.Restores == nil || v.Did(act.Restore, 0) {
		return false
	}
	t.start(v, act.Act{Kind: act.Restore, Files: v.Restores})
	return true
}

// stages puts payloads on the host, each file once.
func (t *turn) stages(v *Visit) bool {
	for _, i := range v.wanted() {
		c := v.Changes[i]
		earlier := func(j int) bool { return j < i && v.Changes[j].File == c.File }
		if !c.Stages() || slices.ContainsFunc(v.wanted(), earlier) || v.Did(act.Stage, i) || v.Did(c.Kind(), i) {
			continue
		}
		if t.busy(v.Host) == 0 {
			t.start(v, act.Act{Kind: act.Stage, Index: i, Change: &c})
		}
		return true
	}
	return false
}

// ahead brings payloads to a host that has its turn later, and takes away what no plan puts in any more. Each was proven
// as it came, by the host's own hash.
func (t *turn) ahead(v *Visit) {
	if len(v.Unstages) > 0 && !v.Did(act.Unstage, 0) {
		t.start(v, act.Act{Kind: act.Unstage, Staged: v.Unstages})
		return
	}
	if t.stages(v) || t.busy(v.Host) > 0 {
		return
	}
	t.record(Event{Kind: Proven, Host: v.Host, Detail: plan.Wait(len(v.Staged)+len(v.wanted())) + " there"})
}

// backUp keeps the host's configuration before the first change.
func (t *turn) backUp(v *Visit) bool {
	if !v.Backup || v.Did(act.Backup, 0) ||
		slices.ContainsFunc(v.Acts, func(a act.Act) bool { return a.Kind.Step() == act.ChangeStep }) {
		return false
	}
	t.start(v, act.Act{Kind: act.Backup})
	return true
}

// pass puts in what belongs to the pass, and restarts the host if that needs it. It tells whether anything was left to
// do.
func (t *turn) pass(v *Visit, pass int) bool {
	settled := func(kind act.Name, i int) bool { return v.Did(kind, i) || v.Without(i) }
	if a, ok := act.Next(v.Changes, pass, settled); ok {
		for _, x := range v.Along {
			if a.Kind == act.Install && x.Pass == pass && x.Component.Kind() == a.Change.Component.Kind() {
				a.Along = append(a.Along, x)
			}
		}
		if a.Kind == act.Boot {
			t.boots(v, a)
			return true
		}
		t.start(v, a)
		return true
	}
	if t.restartServices(v, pass) {
		return true
	}
	if v.restarts(pass) {
		t.start(v, act.Act{Kind: act.Restart, Pass: pass})
		return true
	}
	return false
}

// restartServices restarts the services that run what the pass has replaced, where their restart is what it takes and none of
// the host is to come: those that the plan names, and no other.
func (t *turn) restartServices(v *Visit, pass int) bool {
	if slices.ContainsFunc(v.Restarts, func(r int) bool { return r >= pass && (v.restarts(r) || v.Did(act.Restart, r)) }) {
		return false
	}
	for i, c := range v.Changes {
		if c.Pass != pass || c.Kind() != act.Install || c.Restart != catalogue.ServiceRestart ||
			!v.Did(act.Install, i) || v.Did(act.Service, i) || v.Without(i) {
			continue
		}
		if t.busy(v.Host) > 0 || !t.fresh(v.Host, c.Component.Section()) {
			return true
		}
		now, unread := c.Standing(t.f.Readings[v.Host])
		if services, _ := c.Stale(now); unread == nil && len(services) > 0 {
			t.start(v, act.Act{Kind: act.Service, Index: i, Pass: pass, Change: &c, Services: services,
				Before: act.Before{Version: c.To}})
			return true
		}
	}
	return false
}

// prove asks whether the host is as wanted and as well as it was. Services come up one by one after a restart, so it
// asks again until the brief's patience ends.
func (t *turn) prove(v *Visit) {
	if !t.fresh(v.Host, everySection...) {
		return
	}
	r := t.f.Readings[v.Host]
	if today := t.f.Today[v.Host]; len(today.More) > 0 && v.Extended < plan.MostFurther {
		var says []string
		for _, c := range today.More {
			says = append(says, c.Says())
		}
		t.record(Event{Kind: Extended, Host: v.Host, Detail: strings.Join(says, ", ") + " applies too, and is made in another pass",
			More: today.More, Along: today.Along})
		return
	}
	wrong := unproven(v, r)
	switch {
	case len(wrong) == 0:
		notes := unasked(v, r)
		for _, left := range t.f.Today[v.Host].Left {
			notes = append(notes, "it applies too, and is not made: "+left)
		}
		t.record(Event{Kind: Proven, Host: v.Host, Detail: strings.Join(notes, "; ")})
	case t.f.Now.Sub(v.Proving) < t.s.Plan.Brief.Patience:
		t.wait(v.Host, "not proven yet: "+wrong[0])
	default:
		t.record(Event{Kind: Unproven, Host: v.Host, Detail: strings.Join(wrong, "; "),
			Remedy: "fix it on the host, then resume the round: it proves the host again"})
	}
}
