package plan

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// Staging is work that only brings payloads to hosts, hours before the round that puts them in, or takes them away
// again. No host is drained or closed for it.
type Staging string

// What can be staged.
const (
	StageAhead Staging = "ahead" // what the plan of the brief puts in; what waits there and no baseline wants is taken away
	StageAway  Staging = "away"  // nothing: all that waits there is taken away
)

// StagesAtOnce is how many hosts payloads are brought to side by side.
const StagesAtOnce = 4

// Staged makes of a brief one of the staging of its round: for the whole of the cluster at once, at any time.
func (b Brief) Staged(how Staging) Brief {
	b.Hooks, b.Temporary = nil, nil
	b.Staging, b.Windows, b.Trial, b.Soak, b.Sequence, b.Home, b.Leaves = how, nil, "", 0, nil, false, 0
	return b
}

// stagingAsks are the prechecks that are asked before payloads are brought.
var stagingAsks = []string{"reachable", "orders", "machine", "space", "payload", "planned", "withdrawn"}

// Asks are the prechecks that are asked before the work of a brief; nil asks all.
func (b *Brief) Asks() []string {
	if b.Staging != "" {
		return stagingAsks
	}
	return b.Hand.Asks()
}

// stage leaves of a visit what brings its payloads to the host. What waits there and is useful in another round stays.
func (in Input) stage(v *Visit, r *estate.Reading, useful map[string]bool) {
	var wanted []string
	v.Changes = slices.DeleteFunc(v.Changes, func(c act.Change) bool {
		if in.Brief.Staging == StageAway || !c.Stages() || slices.Contains(wanted, c.SHA256) {
			return true
		}
		wanted = append(wanted, c.SHA256)
		return r.Holds(c.SHA256)
	})
	v.Ahead, v.Passes, v.Left = true, 0, nil
	for _, s := range r.Staged {
		if keep := useful[s.SHA256] && in.Brief.Staging == StageAhead; !keep && !slices.Contains(wanted, s.SHA256) {
			v.Unstages = append(v.Unstages, s)
		} else {
			v.Staged = append(v.Staged, s.SHA256)
		}
	}
}

// unstaged says why nothing is brought to a host, or taken away from it.
func (in Input) unstaged(v *Visit, vs []drift.Verdict) Aside {
	sum := drift.Summarize(vs)
	a := Aside{Host: v.Host, Drift: sum.Drift, Unread: sum.Open()}
	switch n := len(v.Staged); {
	case in.Readings[v.Host] == nil:
		a.Why = "it was never read"
	case in.Brief.Staging == StageAway:
		a.Why = "no payload waits there"
	case n > 0:
		a.Why = catalogue.Some(n, "payload") + ": all that the plan brings waits there already"
	default:
		a.Why = "the plan brings nothing to it that could wait there"
	}
	return a
}

// Waiting are the changes of a visit whose payload waits on the host already, and what bringing it there is assumed to take
// otherwise.
func (v *Visit) Waiting() (changes []act.Change, saves time.Duration) {
	for _, c := range v.Changes {
		if slices.Contains(v.Staged, c.SHA256) && c.Stages() {
			m, _ := act.Stage.Of().Takes(act.Act{Change: &c})
			changes, saves = append(changes, c), saves+m
		}
	}
	return changes, saves
}

// brings are the acts that bring a visit's payloads to its host: each file once, and none that waits there.
func (v *Visit) brings() (acts []act.Act) {
	var seen []string
	for i := range v.Changes {
		c := &v.Changes[i]
		if c.Stages() && !slices.Contains(seen, c.SHA256) && !slices.Contains(v.Staged, c.SHA256) {
			seen, acts = append(seen, c.SHA256), append(acts, act.Act{Kind: act.Stage, Change: c})
		}
	}
	return acts
}

// ToBring is how many payloads could be brought to the hosts of the plan ahead, and their size in bytes: those of hosts
// that can't be visited too.
func (p *Plan) ToBring() (n int, size int64) {
	for i := range p.Visits {
		for _, a := range p.Visits[i].brings() {
			n, size = n+1, size+a.Change.Size
		}
	}
	return n, size
}

// stagingNote says what waits on the plan's hosts already.
func (p *Plan) stagingNote() string {
	var n int
	var size int64
	var saves time.Duration
	for i := range p.Visits {
		changes, s := p.Visits[i].Waiting()
		n, saves = n+len(changes), saves+s
		for _, c := range changes {
			size += c.Size
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%s (%s) on the hosts already, which saves about %s", Wait(n), catalogue.Bytes(size), drift.Age(saves))
}

// Wait says that so many payloads wait.
func Wait(n int) string {
	if n == 1 {
		return "1 payload waits"
	}
	return fmt.Sprintf("%d payloads wait", n)
}

// stagingSummary says in one line what staging brings to the hosts and takes away.
func (p *Plan) stagingSummary() string {
	away := 0
	for i := range p.Visits {
		away += len(p.Visits[i].Unstages)
	}
	brings, size := p.ToBring()
	says := fmt.Sprintf("hosts %d", len(p.Ready()))
	if brings > 0 {
		says += fmt.Sprintf(" · brought %d (%s)", brings, catalogue.Bytes(size))
	}
	if away > 0 {
		says += fmt.Sprintf(" · taken away %d", away)
	}
	middle, worst := p.Takes()
	return says + fmt.Sprintf(" · about %s, at worst %s", drift.Age(middle), drift.Age(worst))
}
