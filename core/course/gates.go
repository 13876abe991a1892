package course

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// Gate is something that must hold before a visit begins.
type Gate struct {
	Name   string
	Asks   string // the question in words
	Remedy string // what helps where nothing that is under way will open it
	// command is the round's command that helps, to be given with its cluster; "" where none does
	command string
	// holds tells whether the gate holds the visit, and the sentence that its host then shows.
	holds func(t *turn, v *Visit) (says string, held bool)
}

// Gates lists them in the order in which they are asked. The first that holds a visit gives the sentence that its host
// shows.
var Gates = []Gate{
	{"journal", "Is the journal all that was written?",
		"find the newer copy of the state directory, and go on with that one", "", journalGate},
	{"lease", "Does this runner still hold the cluster's lease?", "watch who holds it", "watch", leaseGate},
	{"stop", "Did nobody ask the round to stop?", "let it go on", "resume", stopGate},
	{"pause", "Did nobody ask the round to pause?", "let it go on", "resume", pauseGate},
	{"failure", "Did no visit fail?", "see to the failed host first", "", failureGate},
	{"turn", "Have all visits before it begun?", "", "", turnGate},
	{"after", "Are the visits over to whose hosts its guests go?", "", "", afterGate},
	{"trial", "Has the host on trial carried guests for as long as the brief says?", "", "", trialGate},
	{"window", "Is it a time at which the brief lets a visit be under way, and would it be over before that ends?",
		"plan again with another window", "", windowGate},
	{"at once", "Are fewer visits under way than the brief allows at once?", "", "", atOnceGate},
	{"out", "Will no more hosts be out of service than the brief allows, those that already are included?",
		"bring the others back, or allow more hosts out at once", "", outGate},
	{"certificate", "Have the guests of all hosts that are out a place, with the reserve kept?",
		"see where room can be made", "", certificateGate},
}

// helps is the command that helps with the gate in that cluster; nil where none does.
func (g *Gate) helps(cluster string) []string {
	if g.command == "" {
		return nil
	}
	return []string{"round", g.command, cluster}
}

// held returns the first gate that holds the visit, and its sentence. It asks for looks that a gate wants; until they
// have come the gate holds.
func (t *turn) held(v *Visit) (g Gate, says string, held bool) {
	for _, g := range Gates {
		if says, held := g.holds(t, v); held {
			return g, says, true
		}
	}
	return Gate{}, "", false
}

func journalGate(t *turn, _ *Visit) (string, bool) {
	if t.f.Contradiction == nil {
		return "", false
	}
	return t.f.Contradiction.Error(), true
}

func leaseGate(t *turn, _ *Visit) (string, bool) {
	if t.f.Lease {
		return "", false
	}
	return "the lease of the cluster is not held any more", true
}

func stopGate(t *turn, _ *Visit) (string, bool) {
	if t.s.Stop {
		return "the round is stopping", true
	}
	return "", false
}

func pauseGate(t *turn, _ *Visit) (string, bool) {
	if t.s.Pause {
		return "the round is pausing", true
	}
	return "", false
}

func failureGate(t *turn, _ *Visit) (string, bool) {
	if v := t.s.failing(); v != nil {
		return "no visit begins after one has failed: " + v.Host, true
	}
	return "", false
}

// failing is the first visit that failed, or nil.
func (s *State) failing() *Visit {
	i := slices.IndexFunc(s.Visits, func(v Visit) bool { return v.Failure != nil && !v.Over() })
	if i < 0 {
		return nil
	}
	return &s.Visits[i]
}

func turnGate(t *turn, v *Visit) (string, bool) {
	for i := range t.s.Visits {
		o := &t.s.Visits[i]
		if o.Host == v.Host {
			break
		}
		if o.Phase == Waiting && !o.Skip {
			return o.Host + " comes first", true
		}
	}
	return "", false
}

func afterGate(t *turn, v *Visit) (string, bool) {
	for _, h := range v.After {
		if o := t.s.Visit(h); o != nil && !o.Over() {
			return "its guests go to " + h + ", which is visited first", true
		}
	}
	return "", false
}

func trialGate(t *turn, v *Visit) (string, bool) {
	brief := &t.s.Plan.Brief
	first := t.s.Visit(brief.Trial)
	if first == nil || v == first || first.Phase == LeftOut {
		return "", false
	}
	switch {
	case !first.Over():
		return first.Host + " is on trial before the others", true
	case first.Phase == HandedOver:
		return first.Host + " was on trial and was handed over: nothing is proven by it", true
	}
	var over time.Time
	if n := len(first.Spans); n > 0 {
		over = first.Spans[n-1].To
	}
	until := over.Add(brief.Soak)
	if t.f.Now.Before(until) {
		t.waits = true
		return fmt.Sprintf("%s is on trial until %s", first.Host, until.Format("15:04 MST")), true
	}
	return "", false
}

func windowGate(t *turn, v *Visit) (string, bool) {
	windows := t.s.Plan.Brief.Windows
	_, worst := v.Estimate()
	switch at, ok := plan.Opens(windows, t.f.Now, worst); {
	case !ok:
		return "no window is left that is long enough for it", true
	case at.After(t.f.Now):
		t.waits = true
		return "waits for the window that opens at " + at.Format("Mon 15:04 MST"), true
	}
	return "", false
}

func atOnceGate(t *turn, _ *Visit) (string, bool) {
	under := t.s.under()
	if most := t.s.Plan.Brief.AtOnce(); len(under) >= most {
		return fmt.Sprintf("waits for %s: at most %d at once", strings.Join(under, ", "), most), true
	}
	return "", false
}

// under are the hosts whose visits are under way.
func (s *State) under() (hosts []string) {
	for i := range s.Visits {
		if s.Visits[i].Under() {
			hosts = append(hosts, s.Visits[i].Host)
		}
	}
	return hosts
}

// outGate counts who is out of service: visited hosts that are being emptied, hosts that are closed by anybody else,
// and hosts that do not answer.
func outGate(t *turn, v *Visit) (string, bool) {
	if !v.Empties {
		return "", false
	}
	if !t.clusterSeen() {
		return "the cluster is being looked at", true
	}
	var out []string
	for _, h := range t.f.Hosts {
		if h == v.Host {
			continue
		}
		own := t.s.Visit(h)
		switch r := t.f.Readings[h]; {
		case own != nil && own.Under() && own.Empties:
			out = append(out, h+" (visited)")
		case r.Off():
			out = append(out, h+" (off)")
		case !r.Reached():
			out = append(out, h+" (does not answer)")
		case r.Closed != nil:
			out = append(out, fmt.Sprintf("%s (closed by %s: %s)", h, r.Closed.By, r.Closed.Reason))
		}
	}
	if most := t.s.Plan.Brief.Out; len(out) >= most {
		return fmt.Sprintf("out of service: %s, and at most %d may be at once", strings.Join(out, ", "), most), true
	}
	return "", false
}

// clusterSeen tells whether host and guests of all hosts were looked at for this turn, since the last migration was
// begun: what the next one leaves room for is judged on all of them anew.
func (t *turn) clusterSeen() bool {
	ok := true
	for _, h := range t.f.Hosts {
		ok = t.proof(Sight{Seq: t.s.moved}, h, estate.Host, estate.GuestList) && ok
	}
	return ok
}

func certificateGate(t *turn, v *Visit) (string, bool) {
	if !v.Empties {
		return "", false
	}
	if !t.clusterSeen() {
		return "the cluster is being looked at", true
	}
	if len(t.draining()) == 0 {
		return "", false // one host alone is judged by its prechecks, which say more
	}
	switch a, kept := t.certify(v.Host, fit.Glance); {
	case a.Outcome != fit.Fits:
		return fmt.Sprintf("with %s out as well: %s: %s", v.Host, a.Outcome, a.Obstacle), true
	case !kept: // it would begin now only to send its guests elsewhere than was shown
		return fmt.Sprintf("while %s is out its guests can't go where it was planned: %s",
			strings.Join(t.draining(), ", "), a.Obstacle), true
	}
	return "", false
}

// draining are the hosts whose visits are under way and that must be empty, or are.
func (t *turn) draining() (out []string) {
	for i := range t.s.Visits {
		if v := &t.s.Visits[i]; v.Under() && v.Empties {
			out = append(out, v.Host)
		}
	}
	return out
}

// certify asks fit whether the guests of all hosts that are out, and of the one named, have a place elsewhere with the
// reserve kept: where they were planned to go, if that stands, or else anywhere. A guest in flight counts at both ends,
// and needs no other place. A gate is asked at every turn, and glances only: where that proves nothing, the host waits.
// kept tells that what was planned stands.
func (t *turn) certify(host string, effort int) (a fit.Answer, kept bool) {
	out := t.draining()
	if !slices.Contains(out, host) {
		out = append(out, host)
	}
	p := t.problem(out)
	var planned []fit.Move
	for _, h := range out {
		if v := t.s.Visit(h); v != nil {
			planned = append(planned, v.Moves...)
		}
	}
	if a = certified(p, out, fit.Keep(p, out, planned)); a.Outcome == fit.Fits {
		return a, true
	}
	why := a.Obstacle
	a = certified(p, out, fit.Drain(p, out, t.toCome(out), effort))
	if a.Outcome == fit.Fits {
		a.Obstacle = why // of what was planned
	}
	return a, false
}

// certified holds a placement to its own certificate, by a check that shares nothing with the search that found it: what
// does not stand is no answer to go by.
func certified(p fit.Problem, out []string, a fit.Answer) fit.Answer {
	if a.Outcome != fit.Fits {
		return a
	}
	if err := fit.Certified(p, out, a.Moves); err != nil {
		return fit.Answer{Outcome: fit.Unproven, Obstacle: &fit.Obstacle{Constraint: "the placement that was found does not stand: " +
			err.Error()}}
	}
	return a
}

// problem is the cluster as it is this moment, with what is in flight counted at both ends but for hosts that are to be
// empty, and with those that are shut down counted where they are to start.
func (t *turn) problem(out []string) fit.Problem {
	hosts := precheck.FitHosts(t.f.Hosts, t.f.Readings)
	for i := range hosts {
		h := &hosts[i]
		if slices.Contains(out, h.Name) {
			h.Guests = slices.DeleteFunc(slices.Clone(h.Guests), func(g estate.Guest) bool {
				return t.moving(h.Name, g.UID())
			})
			continue
		}
		for _, p := range t.flights(h.Name) {
			// in the middle of its move it is seen at both ends
			there := func(g estate.Guest) bool { return g.UID() == p.UID() }
			if !slices.ContainsFunc(h.Guests, there) {
				h.Guests = append(slices.Clip(h.Guests), t.guest(p.Host, p.UID()))
			}
		}
		h.Guests = append(slices.Clip(h.Guests), t.awaited(h.Name)...)
	}
	return fit.Problem{Hosts: hosts, Terms: t.s.Plan.Terms()}
}

// toCome are the hosts that are still to be emptied, the next one last: guests that go there move again.
func (t *turn) toCome(out []string) (later []string) {
	for i := len(t.s.Visits) - 1; i >= 0; i-- {
		if v := &t.s.Visits[i]; v.Phase == Waiting && !v.Skip && v.Empties && !slices.Contains(out, v.Host) {
			later = append(later, v.Host)
		}
	}
	return later
}
