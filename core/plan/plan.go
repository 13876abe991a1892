// Package plan turns drift, prechecks and fit into a round: visits made of steps, in an order, with the moves and the
// time they will take. A plan is a value with a digest: the one that was shown is the one that is carried out, and
// package course says how.
package plan

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/precheck"
)

// Visit is one host's turn.
type Visit struct {
	Host     string       `json:"host"`
	Model    string       `json:"model"` // its hardware, by which times are learned
	Changes  []act.Change `json:"changes"`
	Passes   int          `json:"passes"`
	Restarts []int        `json:"restarts"` // the passes that end with a restart of the host
	Empties  bool         `json:"empties"`  // guests must leave
	Backup   bool         `json:"backup"`   // its configuration is kept before the first change
	// the closing of the host, by its identity, that is made the round's
	Adopts string `json:"adopts,omitempty"`
	// Keeps tells that the host stays closed at the end, and is the person's; Owes are acts of earlier visits that are
	// still to be undone.
	Keeps bool `json:"keeps,omitempty"`
	// Restores are files of its kept configuration that are put back.
	Restores *act.Files `json:"restores,omitempty"`
	// Uncopies are snapshots that are removed first, and Copies guests of which one is made.
	Uncopies []Uncopy `json:"uncopies,omitempty"`
	Copies   []Copy   `json:"copies,omitempty"`
	// Clears are tasks that are taken out of the queue of the host's BMC first.
	Clears []string  `json:"clears,omitempty"`
	Owes   []act.Act `json:"owes,omitempty"`
	Guests []string  `json:"guests,omitempty"` // that are on it, by name
	// share of the memory of the hosts in service while this one is out, 0 to 1
	Load float64 `json:"load"`
	// the share up to which the loss of the reserve can be borne then
	Limit     float64    `json:"limit"`
	Moves     []fit.Move `json:"moves,omitempty"`
	Back      []fit.Move `json:"back,omitempty"`      // guests that go back to it afterwards
	Rehearses bool       `json:"rehearses,omitempty"` // its first pass is a restart and nothing else
	// guests that do not move: they come to rest after the others have left, in this order, and are started in the
	// opposite one
	Rests  []Rest  `json:"rests,omitempty"`
	Ejects []Eject `json:"ejects,omitempty"` // guests that move once media are out of their drives
	Colds  []Cold  `json:"colds,omitempty"`  // guests that move while they are off
	// guests that are powered off on it, by name: they stay, and nothing is done with them
	Off []string `json:"off,omitempty"`
	// hosts whose visits must be over before it begins: its guests go there
	After    []string  `json:"after,omitempty"`
	Obstacle string    `json:"obstacle,omitempty"` // why it can't be done as things stand
	WayOut   string    `json:"way_out,omitempty"`
	Ways     []Way     `json:"ways,omitempty"` // the smallest ways out, as far as they are the round's to take
	WaysBack []WayBack `json:"ways_back,omitempty"`
	// features, types of machine among them, that the host has no more afterwards
	Drops []string    `json:"drops,omitempty"`
	Left  []string    `json:"left,omitempty"` // drift that this round does not mend, and why
	Along []act.Along `json:"along,omitempty"`
	// Staged are the hashes of payloads that wait on the host already.
	Staged []string `json:"staged,omitempty"`
	// Ahead tells that payloads are brought to it, or taken away, and nothing else is done; Unstages are those that are
	// taken away.
	Ahead    bool              `json:"ahead,omitempty"`
	Unstages []estate.Staged   `json:"unstages,omitempty"`
	Answers  []precheck.Answer `json:"prechecks"`
	Steps    []Stretch         `json:"steps"`
	lacks    []lack            // changes that are not done because of what they require
	leaves   string            // the guest for whose sake the host is not visited
	crowd    []estate.Guest    // that are on it when its turn comes; nil where that is not known
}

// Estimate is how long a visit takes, in the middle case and in the pessimistic one.
func (v *Visit) Estimate() (middle, pessimistic time.Duration) {
	for _, s := range v.Steps {
		middle, pessimistic = middle+s.Middle, pessimistic+s.Pessimistic
	}
	return middle, pessimistic
}

// Plan is everything that a round would do.
type Plan struct {
	Brief Brief     `json:"brief"`
	Made  time.Time `json:"made"`
	// Basis tells the releases and baselines by which it was made apart from those of another time; "" where nobody
	// says.
	Basis     string    `json:"basis,omitempty"`
	Visits    []Visit   `json:"visits"` // in order; those with an obstacle stand where their turn would be
	Aside     []Aside   `json:"aside"`  // hosts that are not visited, each with why
	early     *tooEarly // while it is made
	Moves     int       `json:"moves"`
	Floor     int       `json:"floor"`      // no round could do it with fewer
	Bound     int       `json:"bound"`      // nor, with hosts as these are, with fewer than this
	GoingHome int       `json:"going_home"` // moves if every host's guests were brought back after its visit
	Load      float64   `json:"load"`       // as Visit.Load, while nobody is out
	Limit     float64   `json:"limit"`      // as Visit.Limit, likewise
	// Excess says what of the moves beyond the floor what costs, and Twice are the moves that a guest makes after its
	// first.
	Excess []fit.Lifted `json:"excess,omitempty"`
	Twice  []fit.Move   `json:"twice,omitempty"`
	// how far apart the fullest and the emptiest host are at the end, but for the last one visited, in shares of what
	// is scarcest
	Spread float64 `json:"spread"`
	Width  int     `json:"width"` // visits side by side at most
	// moves more that would bring every host within fit.Evenly of the mean
	Level int `json:"level"`
	// Companions are what changes require that are not done because the plan does not do that.
	Companions []Companion       `json:"companions,omitempty"`
	Waivers    []precheck.Waiver `json:"waivers,omitempty"` // that pardon something here
	Rules      []estate.Rule     `json:"rules,omitempty"`   // about guests, that the round keeps
	// Controller is the guest of the cluster that this program runs in, by name or UUID; empty where it runs in none.
	Controller string `json:"controller,omitempty"`
}

// Aside is a host of the cluster that a round does not visit.
type Aside struct {
	Host string `json:"host"`
	// InLine tells that every clause that binds the host was judged, and is kept. Only then is there nothing to do.
	InLine bool   `json:"in_line"`
	Drift  int    `json:"drift"`  // verdicts that are out of line
	Unread int    `json:"unread"` // verdicts of which nothing is known; 1 for a host that was never read
	Why    string `json:"why"`
}

// InLine tells whether every host of the cluster is in line, as far as anybody asked anything of it.
func (p *Plan) InLine() bool {
	return len(p.Visits) == 0 && len(p.Aside) > 0 &&
		!slices.ContainsFunc(p.Aside, func(a Aside) bool { return !a.InLine })
}

// Answered is what the prechecks of a round come to: answers about hosts that would be visited, and hosts that would not.
// One of which something is not known was asked nothing, and so is not clear.
func Answered(answers []precheck.Answer, aside []Aside) precheck.Sum {
	if slices.ContainsFunc(aside, func(a Aside) bool { return !a.InLine && a.Unread > 0 }) {
		return precheck.NotKnown
	}
	return precheck.SumOf(answers)
}

// aside says why a host is not visited, by its verdicts and what a round would have to leave.
func aside(host string, r *estate.Reading, vs []drift.Verdict, left []string) Aside {
	a := Aside{Host: host}
	sum := drift.Summarize(vs)
	a.Drift, a.Unread = sum.Drift, sum.Open()
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	switch {
	case r == nil:
		a.Why, a.Unread = "it was never read", 1
		return a
	case !r.Reached():
		a.Unread = max(a.Unread, 1)
		add("it does not answer: %s", r.Section(estate.Host).Err)
	case len(vs) == 0:
		a.Unread = 1
		add("no baseline covers it")
	}
	if sum.Unread > 0 {
		first := slices.IndexFunc(vs, func(v drift.Verdict) bool { return v.Outcome == drift.Unread })
		add("unread: %d, the first is %s", sum.Unread, vs[first].Title())
	}
	if sum.Undecided > 0 {
		first := slices.IndexFunc(vs, func(v drift.Verdict) bool { return v.Outcome == drift.Undecided })
		add("undecided: %d, the first is %s: %s", sum.Undecided, vs[first].Title(), vs[first].Cause)
	}
	var by, beyond []string // left by the brief, and what no round does
	for _, l := range left {
		if title, is := strings.CutSuffix(l, ": "+leftOut); is {
			by = append(by, title)
		} else {
			beyond = append(beyond, l)
		}
	}
	if n := sum.Drift - len(by); n > 0 {
		add("out of line beyond a round's reach: %d, %s", n, strings.Join(beyond[:min(len(beyond), 2)], "; "))
	}
	if n := len(by); n > 0 {
		add("out of line and left out by the brief, which names other components: %d, %s", n, estate.Few(by, 3))
	}
	if len(parts) == 0 && sum.InLine == 0 {
		add("nothing was judged in line: every clause is excepted or does not apply")
	} else if len(parts) == 0 {
		a.InLine = true
		parts = []string{"in line"}
		if sum.Aside > 0 {
			add("%d excepted or not applying", sum.Aside)
		}
	}
	a.Why = strings.Join(parts, "; ")
	return a
}

// Obstacles returns the visits that can't be done as things stand.
func (p *Plan) Obstacles() []Visit {
	return slices.DeleteFunc(slices.Clone(p.Visits), func(v Visit) bool { return v.Obstacle == "" })
}

// Ready are the hosts that the round would visit as things stand, in order.
func (p *Plan) Ready() (hosts []string) {
	for i := range p.Visits {
		if p.Visits[i].Obstacle == "" {
			hosts = append(hosts, p.Visits[i].Host)
		}
	}
	return hosts
}

// Stands is until when the plan's answers hold, as long as no fact changes: the first moment at which one rests on what
// is too old by then, or is pardoned no longer. It is the zero time where none has an end.
func (p *Plan) Stands() (until time.Time) {
	first := func(t time.Time) {
		if !t.IsZero() && (until.IsZero() || t.Before(until)) {
			until = t
		}
	}
	for i := range p.Visits {
		for _, a := range p.Visits[i].Answers {
			first(a.Until)
			if a.Waived != nil {
				first(a.Waived.Until)
			}
		}
	}
	return until
}

// Input is what a plan is made from.
type Input struct {
	Brief    Brief
	Now      time.Time
	MaxAge   time.Duration
	Cluster  estate.Cluster
	Readings map[string]*estate.Reading
	Verdicts map[string][]drift.Verdict      // by host
	Payloads func(file, sha256 string) error // why it can't be used; nil where it is here and verified
	// what the hosts' own package managers say of their visits; hosts that are not in it were not asked
	Resolved  map[string]Resolved
	Times     Times
	Catalogue *catalogue.Catalogue
	Basis     string                       // as Plan.Basis
	Own       map[string][]precheck.Answer // what checks of one\'s own answered, by host
	Waivers   []precheck.Waiver            // of what was found on the cluster's hosts
	// Programs says why a program of this machine may not be run by a hook; nil where it may. It may be nil itself.
	Programs func(path string) error
	// Unserved is why images can't be served to BMCs from here; "" where they can.
	Unserved string
	// Unkept is why no configuration of a host can be kept here; "" where it can.
	Unkept string
	// Controller is the guest, by name or UUID, that this program runs in; empty where it runs on none. Its host goes
	// last.
	Controller string
	// Below names the releases between what a verdict's host has and what it should have, newest first: what is put in
	// where the newest can't be had. It may be nil.
	Below func(drift.Verdict) []*catalogue.Release
}

// Make plans a round. What needs no empty host comes first; then hosts are emptied one after another, in the brief's
// order, so that guests stay where they went and few of them move twice.
func Make(in Input) Plan {
	if in.Brief.Order == LeastTime {
		return quickest(in)
	}
	p := Plan{Brief: in.Brief, Made: in.Now, Basis: in.Basis, Rules: in.rules()}
	if in.controllers() != "" {
		p.Controller = in.Controller
	}
	for _, h := range in.Cluster.Hosts {
		if len(in.Brief.Hosts) > 0 && !slices.Contains(in.Brief.Hosts, h) {
			p.Aside = append(p.Aside, Aside{Host: h, Why: "left out: the brief names other hosts"})
			continue
		}
		if slices.Contains(in.Brief.Except, h) {
			p.Aside = append(p.Aside, Aside{Host: h, Why: "left out: the brief excepts it"})
			continue
		}
		v := visit(in, h)
		p.lacking(in, &v)
		if r := in.Readings[h]; h == in.Brief.Adopts && r != nil && r.Closed != nil {
			v.Adopts = r.Closed.Identity()
			v.Owes = append(slices.Clip(v.Owes), Ledger(r, in.Readings, v.Owes)...)
		}
		if in.Brief.Staging != "" && len(v.Changes)+len(v.Unstages) == 0 {
			p.Aside = append(p.Aside, in.unstaged(&v, in.Verdicts[h]))
			continue
		}
		if len(v.Changes)+len(v.Uncopies) == 0 && v.Adopts == "" && in.Brief.Hand == nil && in.Brief.Staging == "" {
			p.Aside = append(p.Aside, aside(h, in.Readings[h], in.Verdicts[h], v.Left))
			continue
		}
		if v.leaves != "" {
			sum := drift.Summarize(in.Verdicts[h])
			p.Aside = append(p.Aside,
				Aside{Host: h, Drift: sum.Drift, Unread: sum.Unread,
					Why: "left as it is: it would have to be empty, and by the brief " +
						v.leaves + " is left in peace"})
			continue
		}
		p.Visits = append(p.Visits, v)
	}
	for without := map[string]held{}; ; {
		q := p
		q.Visits = slices.Clone(p.Visits)
		for i := range q.Visits {
			v := &q.Visits[i]
			v.Obstacle, v.WayOut = without[v.Host].why, without[v.Host].wayOut
		}
		place(in, &q)
		in.copies(&q)
		for i := range q.Visits {
			v := &q.Visits[i]
			v.Steps = in.Times.steps(v, in.Readings[v.Host], &in.Brief)
		}
		if !q.hold(without) {
			return q
		}
	}
}

// quickest makes the plan in each order, and takes the one that leaves the fewest hosts unvisited, and of these the one
// that is over first.
func quickest(in Input) (best Plan) {
	for i, o := range []Order{FewestMoves, LightestFirst} {
		in.Brief.Order = o
		p := Make(in)
		p.Brief.Order = LeastTime
		a, _ := p.Takes()
		b, _ := best.Takes()
		if i == 0 || cmp.Or(cmp.Compare(len(p.Obstacles()), len(best.Obstacles())), cmp.Compare(a, b)) < 0 {
			best = p
		}
	}
	return best
}

// rules are those of the cluster that the brief does not lift.
func (in Input) rules() []estate.Rule {
	return slices.DeleteFunc(slices.Clone(in.Cluster.Rules), func(r estate.Rule) bool {
		return slices.Contains(in.Brief.Lift, r.Says())
	})
}

func visit(in Input, host string) Visit {
	v := Visit{Host: host}
	r := in.Readings[host]
	if r == nil {
		return v
	}
	v.Model = r.Hardware.Model
	for _, g := range r.Holding() {
		v.Guests = append(v.Guests, g.Name)
	}
	var wants []want
	useful := map[string]bool{} // payloads that the baselines want there, whatever the brief leaves out
	verdicts := in.Verdicts[host]
	if in.Brief.Hand != nil {
		verdicts = nil
		in.Brief.Hand.arrange(&v, r)
	}
	for _, d := range verdicts {
		c, left := change(d, r)
		if left == "" && in.Below != nil && c.Installs() && c.To != "" {
			c.below = in.Below(d)
		}
		useful[c.SHA256] = true
		for _, rel := range c.below {
			useful[rel.SHA256] = true
		}
		if left == "" {
			c, left = in.scoped(d, c)
		}
		if left != "" {
			v.Left = append(v.Left, d.Title()+": "+left)
		} else if c.Component != "" {
			wants = append(wants, c)
		}
	}
	arrange(in, r, &v, wants)
	if in.Brief.Staging != "" {
		in.stage(&v, r, useful)
		return v
	}
	for _, c := range v.Changes {
		if c.Stages() && r.Holds(c.SHA256) && !slices.Contains(v.Staged, c.SHA256) {
			v.Staged = append(v.Staged, c.SHA256)
		}
	}
	if in.Brief.Hand == nil || v.Empties {
		v.Uncopies = append(v.Uncopies, uncopies(r, func(_ *estate.Guest, s *estate.Snapshot) bool { return s.Due(in.Now) })...)
	}
	for _, t := range r.BMC.Waiting {
		if old := in.Brief.ClearTasks; old > 0 && !t.Since.IsZero() && in.Now.Sub(t.Since) >= old && len(v.Changes) > 0 {
			v.Clears = append(v.Clears, t.ID)
		}
	}
	in.brought(&v, r)
	v.WaysBack = in.waysBack(&v)
	then := in.features(&v)
	v.Drops = slices.DeleteFunc(slices.Clone(r.Offers().Features), func(f string) bool {
		return slices.Contains(then, f)
	})
	for _, c := range v.Changes {
		v.Passes = max(v.Passes, c.Pass)
		v.Backup = v.Backup || c.Installs()
		if c.Restart.EmptiesHost() {
			v.Empties = true
			if !slices.Contains(v.Restarts, c.Pass) {
				v.Restarts = append(v.Restarts, c.Pass)
			}
		}
	}
	slices.Sort(v.Restarts)
	if v.Empties {
		v.leaves = in.Brief.treats(&v, r)
		in.inTurn(&v, r)
		for i := range r.Guests {
			if g := &r.Guests[i]; g.State == estate.Off &&
				!slices.ContainsFunc(v.Colds, func(c Cold) bool { return c.UID() == g.UID() }) {
				v.Off = append(v.Off, g.Name)
			}
		}
	}
	in.rehearse(&v, r)
	return v
}

var errUnverified = errors.New("there is nothing here to verify it with")

func (in Input) facts(v *Visit) precheck.Facts {
	f := precheck.Facts{Now: in.Now, MaxAge: in.MaxAge, Terms: in.Brief.terms(in.rules(), *v), Out: in.Brief.Out,
		Hosts: in.Cluster.Hosts, Readings: in.Readings, Verdicts: in.Verdicts[v.Host],
		Empties: v.Empties, Adopts: v.Adopts, Asked: in.Brief.Asks(), LookOnly: !in.Cluster.Act,
		Payloads: map[string]error{}}
	f.StagesMiB, f.Kernel = v.Stages()
	f.Drops, f.Controller = v.Drops, in.Controller
	f.Own, f.Clears, f.Flashes = in.Own[v.Host], v.Clears, v.Flashes()
	f.Restarts, f.Boots = len(v.Restarts) > 0, v.Boots()
	if v.Serves() {
		f.Unserved = in.Unserved
	}
	f.Snapshots = in.Brief.Copied()
	f.Keeps, f.Unkept = v.Backup, in.Unkept
	f.Programs, f.OnHost = in.Brief.Programs(in.Programs)
	for _, c := range v.Changes {
		if !c.Supplied() {
			continue
		}
		f.Payloads[c.File] = errUnverified
		if in.Payloads != nil {
			f.Payloads[c.File] = in.Payloads(c.File, c.SHA256)
		}
	}
	if r := in.Readings[v.Host]; r != nil && in.Catalogue != nil && in.Verdicts[v.Host] != nil {
		f.Judged, f.Mismatches = true, v.Mismatches(in.Catalogue, r)
	}
	return f
}
