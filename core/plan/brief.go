package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
)

// Brief is a round's settings.
type Brief struct {
	Cluster string   `json:"cluster"`
	Hosts   []string `json:"hosts,omitempty"`  // only these; empty: all
	Except  []string `json:"except,omitempty"` // not these
	// SendNone are hosts that are sent no guests, those that come home among them.
	SendNone []string `json:"send_none,omitempty"`
	Out      int      `json:"out"` // hosts out of service at once, counting those that already are
	// Leaves is how many hosts may be left behind after a failure, closed or as they are, while the round goes on with
	// the others; 0: it stops with the first. They count as out of service.
	Leaves  int    `json:"leaves,omitempty"`
	Reserve int    `json:"reserve"` // hosts that may fail meanwhile
	Moves   int    `json:"moves"`   // migrations at once
	By      string `json:"by"`
	Reason  string `json:"reason"`
	// Bandwidth is what one migration may take, in MiB a second; 0: all that there is.
	Bandwidth int64 `json:"bandwidth,omitempty"`
	// Patience is how long a host is waited for beyond the usual before the round stops.
	Patience time.Duration `json:"patience"`
	// Order is how hosts are put in order; Sequence puts them by hand, as far as it names them: the others come after.
	// One that can be emptied only after a later one is not visited.
	Order    Order    `json:"order,omitempty"`
	Sequence []string `json:"sequence,omitempty"`
	// Trial is a host that goes before all others. They begin Soak after its visit is over.
	Trial string        `json:"trial,omitempty"`
	Soak  time.Duration `json:"soak,omitempty"`
	// Rehearse is after how long without a restart a host that is drained is restarted once before anything is changed
	// on it, so that it is known to come back as it is; 0: never.
	Rehearse time.Duration `json:"rehearse,omitempty"`
	// Converge says what is done about guests whose memory changes faster than it is copied.
	Converge Converge `json:"converge,omitempty"`
	// Home has guests go back to their host when its visit is over, as far as there is room; hosts are out one at a
	// time then. Without it a host on trial alone has one guest sent back, as proof.
	Home bool `json:"home,omitempty"`
	// Limit is the share of its capacity, 0 to 1, up to which a host is sent guests; 0: all of it.
	Limit float64 `json:"limit,omitempty"`
	// Lift are rules about guests, in their words, that are lifted for the round.
	Lift []string `json:"lift,omitempty"`
	// Only are the parts of what is out of line that are changed; empty: all of it.
	Only []Scope `json:"only,omitempty"`
	// Releases are versions that are put in instead of the ones that the baselines want, by component.
	Releases map[estate.Key]string `json:"releases,omitempty"`
	// Guests say what is done with those that do not move.
	Guests []Policy `json:"guests,omitempty"`
	// Windows are when visits may be under way, in order of time; none: always.
	Windows []Window `json:"windows,omitempty"`
	// Snapshots say of which guests a safety copy is made, and for how long it is kept.
	Snapshots []Safety `json:"snapshots,omitempty"`
	// Hooks are programs of a site's own that run at points of the round.
	Hooks []act.Hook `json:"hooks,omitempty"`
	// ClearTasks is for how long a task has waited in a host's BMC that its visit takes out of the queue first; 0: none is.
	ClearTasks time.Duration `json:"clear_tasks,omitempty"`
	// Temporary are services and settings that are changed for the time of each visit.
	Temporary []act.Lent `json:"temporary,omitempty"`
	// Adopts is a host that a lost round left closed: its mark is made this round's, and the host is brought to an end
	// as any other.
	Adopts string `json:"adopts,omitempty"`
	// Staging brings payloads to the hosts, or takes them away, and nothing else; "" for a round.
	Staging Staging `json:"staging,omitempty"`
	// Hand is what a person does to the one host of the brief, instead of bringing it in line; nil: nothing of that.
	Hand *Hand `json:"by_hand,omitempty"`
}

// Hand is work on one host by a person's decision: the steps of a visit without changes.
type Hand struct {
	Does Does `json:"does"`
	// Until is when the person means to have it open again, as it was said; nothing opens by itself.
	Until time.Time `json:"until,omitzero"`
	// Home are guests that come back to it once it is open; Owes are acts of earlier visits that are still to be undone.
	Home []fit.Move `json:"home,omitempty"`
	Owes []act.Act  `json:"owes,omitempty"`
	// Tasks are those of its BMC that are cleared.
	Tasks []string `json:"tasks,omitempty"`
	// Files are those of its kept configuration that are put back.
	Files *act.Files `json:"files,omitempty"`
	// Guests are those whose snapshots are removed, by UID.
	Guests []string `json:"guests,omitempty"`
}

// Does is what is done by hand.
type Does string

// What can be done by hand. Whoever closes a host or takes one over has it from then on.
const (
	HandClose   Does = "close"   // its guests leave, and it takes none
	HandTake    Does = "take"    // a closing that is somebody else's becomes this person's
	HandRestart Does = "restart" // it is emptied, restarted, proven and opened; one that was closed stays so
	HandOpen    Does = "open"    // it is proven, opened, and what is owed of it is undone
	HandClear   Does = "clear"   // tasks are taken out of its BMC's queue; it stays closed or open as it is
	// snapshots that rounds made of guests on it are removed; it stays closed or open as it is
	HandUncopy Does = "remove-snapshots"
	// files of its kept configuration are put back; it stays closed
	HandRestore Does = "restore"
)

// Programs are those that the brief's hooks run on this machine, each with what is said against that, and how many they run
// on a host.
func (b *Brief) Programs(check func(path string) error) (here map[string]error, onHost int) {
	here = map[string]error{}
	for i := range b.Hooks {
		switch h := &b.Hooks[i]; {
		case h.OnHost:
			onHost++
		case check == nil:
			here[h.Program] = fmt.Errorf("%s: nobody here can look at it", h.Program)
		default:
			here[h.Program] = check(h.Program)
		}
	}
	return here, onHost
}

// AtOnce is how many visits may be under way at once.
func (b *Brief) AtOnce() int {
	if b.Staging != "" {
		return StagesAtOnce
	}
	if b.Home || slices.ContainsFunc(b.Guests, func(p Policy) bool { return p.Do == DoEject }) { // guests go back
		return 1
	}
	return max(b.Out, 1)
}

// Converge is what is done about a guest whose memory changes faster than it is copied.
type Converge string

// What can be done. After that the migration is given up, and tried again a few times.
const (
	SlowDown Converge = ""      // it is slowed down
	AsItIs   Converge = "as-is" // it is not slowed down
	LeaveIt  Converge = "leave" // it is slowed down; and where that does not help, its host is left as it is and the round goes on
)

// Order is how the hosts of a round are put in order.
type Order string

// The orders. In either a host that can't be emptied in its turn goes as soon as it can.
const (
	FewestMoves   Order = ""         // as searched, so that few guests move twice
	LightestFirst Order = "lightest" // by the memory of the guests that must go
	LeastTime     Order = "quickest" // whichever of the two is over sooner, by what visits take
)

// Window is a time in which visits may be under way: a visit begins in it only if it would be over by its end, in the
// pessimistic case.
type Window struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to"`
}

// Opens is the first moment from now on at which something that takes so long may begin, and false where none of the
// windows is long enough.
func Opens(windows []Window, now time.Time, takes time.Duration) (time.Time, bool) {
	if len(windows) == 0 {
		return now, true
	}
	for _, w := range windows {
		at := w.From
		if now.After(at) {
			at = now
		}
		if !at.Add(takes).After(w.To) {
			return at, true
		}
	}
	return time.Time{}, false
}

// DefaultBrief is one host at a time, and the cluster's own reserve, migrations at once and patience; two and twenty
// minutes where it has none.
func DefaultBrief(c estate.Cluster) Brief {
	return Brief{Cluster: c.Name, Out: 1, Reserve: c.Reserve, Moves: cmp.Or(c.Moves, 2),
		Patience: cmp.Or(c.Patience, 20*time.Minute), Bandwidth: c.Bandwidth}
}

// Wrong says what of a brief means nothing on its cluster, or contradicts itself: nothing that it names is silently
// ignored. It is nil where all of it can be meant.
func (in Input) Wrong() error {
	b, hosts := in.Brief, in.Cluster.Hosts
	for _, named := range []struct {
		what  string
		names []string
	}{{"hosts", b.Hosts}, {"sequence", b.Sequence}, {"trial", nonempty(b.Trial)},
		{"except", b.Except}, {"send none", b.SendNone}} {
		for i, h := range named.names {
			switch {
			case !slices.Contains(hosts, h):
				return fmt.Errorf("the brief's %s: %s has no host %q; it has %s", named.what, in.Cluster.Name, h,
					strings.Join(hosts, ", "))
			case slices.Contains(named.names[:i], h):
				return fmt.Errorf("the brief's %s: %s is there twice", named.what, h)
			case named.what == "send none":
			case named.what != "except" && slices.Contains(b.Except, h):
				return fmt.Errorf("the brief's %s names %s, and excepts it", named.what, h)
			case len(b.Hosts) > 0 && !slices.Contains(b.Hosts, h):
				return fmt.Errorf("the brief's %s names %s, and its hosts leave that out", named.what, h)
			}
		}
	}
	switch {
	case b.Out < 1:
		return fmt.Errorf("the brief lets %d hosts be out of service at once: a visit takes one out, so it "+
			"must be 1 at least", b.Out)
	case b.Leaves < 0 || b.Leaves > 0 && b.Out <= b.Leaves:
		return fmt.Errorf("the brief leaves %d hosts behind after a failure, and lets %d be out of service at once: those that "+
			"are left count, so it must be %d at least", b.Leaves, b.Out, b.Leaves+1)
	case b.Reserve < 0 || b.Reserve >= len(hosts):
		return fmt.Errorf("the brief keeps %d hosts in reserve, and %s has %d", b.Reserve, in.Cluster.Name, len(hosts))
	case b.Moves < 1:
		return fmt.Errorf("the brief makes %d migrations at once: at least one is made at a time", b.Moves)
	case b.Limit != 0 && b.Limit < 0.01 || b.Limit > 1:
		return fmt.Errorf("the brief fills hosts up to %.4g %%: 1 to 100 is wanted", 100*b.Limit)
	case !slices.Contains([]Order{FewestMoves, LightestFirst, LeastTime}, b.Order):
		return fmt.Errorf("the brief's order: there is none called %q", b.Order)
	case b.Rehearse < 0:
		return fmt.Errorf("the brief rehearses the restart of hosts that have been up for %s", b.Rehearse)
	case b.Soak != 0 && b.Trial == "":
		return fmt.Errorf("the brief has the others wait %s after a host on trial, and names none", drift.Age(b.Soak))
	case slices.Contains(b.SendNone, b.Trial):
		return fmt.Errorf("the brief has %s on trial, and sends it no guests: none could come back to it as proof", b.Trial)
	case b.Trial != "" && len(b.Sequence) > 0 && b.Sequence[0] != b.Trial:
		return fmt.Errorf("the brief puts %s first by hand, and has %s on trial before all others",
			b.Sequence[0], b.Trial)
	}
	for i, w := range b.Windows {
		if !w.To.After(w.From) || i > 0 && w.From.Before(b.Windows[i-1].To) {
			return fmt.Errorf("the brief's windows: the one from %s to %s ends before it begins, or before the one "+
				"that it follows", w.From.Format(time.RFC3339), w.To.Format(time.RFC3339))
		}
	}
	for _, words := range b.Lift {
		if !slices.ContainsFunc(in.Cluster.Rules, func(r estate.Rule) bool { return r.Says() == words }) {
			return fmt.Errorf("the brief lifts %q, and %s has no such rule", words, in.Cluster.Name)
		}
	}
	if err := in.unheard(); err != nil {
		return err
	}
	return in.strangers()
}

func nonempty(s string) []string {
	if s == "" {
		return nil
	}
	return []string{s}
}

// strangers tells of components that the brief names and nothing on the cluster has or is asked to have, and of
// releases that are in no feed.
func (in Input) strangers() error {
	known := func(k estate.Key) bool {
		for _, h := range in.Cluster.Hosts {
			if slices.ContainsFunc(in.Verdicts[h], func(v drift.Verdict) bool { return v.Component == k }) {
				return true
			}
		}
		return false
	}
	for _, s := range in.Brief.Only {
		if !slices.ContainsFunc(in.Cluster.Hosts, func(h string) bool {
			return slices.ContainsFunc(in.Verdicts[h], func(v drift.Verdict) bool { return s.Holds(&v) })
		}) {
			return fmt.Errorf("the brief changes %s alone, and no clause asks anything of that on %s", s, in.Cluster.Name)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(in.Brief.Releases)) {
		version := in.Brief.Releases[k]
		if !known(k) {
			return fmt.Errorf("the brief puts in %s %s, and no clause asks anything of that on %s", k,
				version, in.Cluster.Name)
		}
		if in.Catalogue == nil || !slices.ContainsFunc(in.Catalogue.Releases(k), func(r catalogue.Release) bool {
			return k.Scheme().Compare(r.Version, version) == 0
		}) {
			return fmt.Errorf("the brief puts in %s %s, and that is in no feed", k, version)
		}
	}
	return nil
}

// leftOut is why something is left that the brief does not name.
const leftOut = "left out: the brief names other components"

// scoped is what of a verdict the round changes: nothing where the brief names other components, and another release
// where it names one. left says why it is left.
func (in Input) scoped(d drift.Verdict, c want) (out want, left string) {
	b := &in.Brief
	if c.Component == "" {
		return c, ""
	}
	if len(b.Only) > 0 && !slices.ContainsFunc(b.Only, func(s Scope) bool { return s.Holds(&d) }) {
		return want{}, leftOut
	}
	version, ok := b.Releases[d.Component]
	if !ok || !c.Installs() || c.To == "" {
		return c, ""
	}
	order := d.Component.Scheme().Compare
	switch {
	case d.Has != "" && order(d.Has, version) == 0:
		return want{}, "it has " + version + ", which the brief wants"
	case d.Has != "" && order(d.Has, version) > 0:
		return want{}, fmt.Sprintf("the brief wants %s, and that is a step back: a person decides", version)
	}
	track, _ := in.Catalogue.TrackOf(d.Component, version, c.Model)
	rel := in.Catalogue.Release(d.Component, version, track, c.Model)
	if rel == nil {
		return want{}, fmt.Sprintf("the brief wants %s, of which there is no release for this hardware", version)
	}
	if why := rel.Barred(); why != "" {
		return want{}, fmt.Sprintf("the brief wants %s, which %s", version, why)
	}
	out = c
	out.put(rel, c.Restart)
	out.below = nil
	out.Why += ", by the brief"
	return out, ""
}

// rehearse puts a pass with nothing but a restart before the others, where the host has been up for as long as the
// brief says, or it is not known for how long.
func (in Input) rehearse(v *Visit, r *estate.Reading) {
	long := in.Brief.Rehearse
	if long == 0 || !v.Empties || !r.BootedAt.IsZero() && in.Now.Sub(r.BootedAt) < long {
		return
	}
	v.Restarts, v.Passes, v.Rehearses = []int{1}, 1, true
	for i := range v.Changes {
		c := &v.Changes[i]
		if c.From == c.To && c.Restart.EmptiesHost() && c.Pass == 1 {
			continue // it only waits for a restart, and this is one
		}
		c.Pass++
		v.Passes = max(v.Passes, c.Pass)
		if c.Restart.EmptiesHost() && !slices.Contains(v.Restarts, c.Pass) {
			v.Restarts = append(v.Restarts, c.Pass)
		}
	}
	slices.Sort(v.Restarts)
}

// Differences says in what a plan is another than the one before it, in figures.
func Differences(before, now *Plan) (out []string) {
	number := func(what string, a, b int) {
		if a != b {
			out = append(out, fmt.Sprintf("%s %d → %d", what, a, b))
		}
	}
	ends := func(p *Plan) (middle, worst time.Duration) {
		m, w := p.Takes()
		return m, w
	}
	am, aw := ends(before)
	bm, bw := ends(now)
	number("visits", len(before.Visits)-len(before.Obstacles()), len(now.Visits)-len(now.Obstacles()))
	number("can't be made", len(before.Obstacles()), len(now.Obstacles()))
	number("moves", before.Moves, now.Moves)
	if drift.Age(am) != drift.Age(bm) || drift.Age(aw) != drift.Age(bw) {
		out = append(out, fmt.Sprintf("takes %s → %s, at worst %s → %s", drift.Age(am), drift.Age(bm),
			drift.Age(aw), drift.Age(bw)))
	}
	if a, b := turns(before), turns(now); !slices.Equal(a, b) && len(a) == len(b) {
		out = append(out, "order "+strings.Join(b, ", "))
	}
	if a, b := changes(before), changes(now); a != b {
		number("changes", a, b)
	}
	return out
}

func turns(p *Plan) (hosts []string) {
	for i := range p.Visits {
		hosts = append(hosts, p.Visits[i].Host)
	}
	return hosts
}

func changes(p *Plan) (n int) {
	for i := range p.Visits {
		n += len(p.Visits[i].Changes)
	}
	return n
}

// Resolved is what a host's own package manager said, and of which changes.
type Resolved struct {
	Asked map[int][]act.Change
	Said  []act.Resolution
}

// about tells whether it was said of just these changes.
func (r Resolved) about(asked map[int][]act.Change) bool {
	return maps.EqualFunc(r.Asked, asked, func(a, b []act.Change) bool {
		return slices.EqualFunc(a, b, func(x, y act.Change) bool { return x.Same(y) })
	})
}
