// Package plan turns drift, prechecks and fit into a round: visits made of steps, in an order, with the moves and the
// time they will take. A plan is a value with a digest: the one that was shown is the one that is carried out, and
// package course says how.
package plan

import (
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

// want is a change that is being planned.
type want struct {
	act.Change
	below []*catalogue.Release // what is put in where To can't be had yet, newest first
	then  *want                // what comes after it, in a later pass: the release that it is a rung towards
	from  string               // the rung that it stands on already; "" where it is none of a ladder
}

// Visit is one host's turn.
type Visit struct {
	Host     string       `json:"host"`
	Model    string       `json:"model"` // its hardware, by which times are learned
	Changes  []act.Change `json:"changes"`
	Passes   int          `json:"passes"`
	Restarts []int        `json:"restarts"` // the passes that end with a restart of the host
	Empties  bool         `json:"empties"`  // guests must leave
	Backup   bool         `json:"backup"`   // its configuration is kept before the first change
	// the round, of which nothing is known here, whose mark the host carries
	Adopts string   `json:"adopts,omitempty"`
	Guests []string `json:"guests,omitempty"` // that are on it, by name
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
	Drops   []string          `json:"drops,omitempty"`
	Left    []string          `json:"left,omitempty"` // drift that this round does not mend, and why
	Along   []act.Along       `json:"along,omitempty"`
	Answers []precheck.Answer `json:"prechecks"`
	Steps   []Stretch         `json:"steps"`
	leaves  string            // the guest for whose sake the host is not visited
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
	Brief     Brief     `json:"brief"`
	Made      time.Time `json:"made"`
	Visits    []Visit   `json:"visits"` // in order; those with an obstacle stand where their turn would be
	Aside     []Aside   `json:"aside"`  // hosts that are not visited, each with why
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
	Level   int               `json:"level"`
	Waivers []precheck.Waiver `json:"waivers,omitempty"` // that pardon something here
	Rules   []estate.Rule     `json:"rules,omitempty"`   // about guests, that the round keeps
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

// aside says why a host is not visited, by its verdicts and what a round would have to leave.
func aside(host string, r *estate.Reading, vs []drift.Verdict, left []string) Aside {
	a := Aside{Host: host}
	sum := drift.Summarize(vs)
	a.Drift, a.Unread = sum.Drift, sum.Unread
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
	if sum.Drift > 0 {
		add("out of line beyond a round's reach: %d, %s", sum.Drift, strings.Join(left[:min(len(left), 2)], "; "))
	}
	if len(parts) == 0 {
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
	Own       map[string][]precheck.Answer // what checks of one\'s own answered, by host
	Waivers   []precheck.Waiver            // of what was found on the cluster's hosts
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
	p := Plan{Brief: in.Brief, Made: in.Now, Rules: in.rules()}
	if in.controllers() != "" {
		p.Controller = in.Controller
	}
	for _, h := range in.Cluster.Hosts {
		if len(in.Brief.Hosts) > 0 && !slices.Contains(in.Brief.Hosts, h) {
			p.Aside = append(p.Aside, Aside{Host: h, Why: "left out: the brief names other hosts"})
			continue
		}
		v := visit(in, h)
		if r := in.Readings[h]; h == in.Brief.Adopts && r != nil && r.Closed != nil {
			v.Adopts = r.Closed.Round
		}
		if len(v.Changes) == 0 && v.Adopts == "" {
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
		for i := range q.Visits {
			v := &q.Visits[i]
			v.Steps = in.Times.steps(v, in.Readings[v.Host], &in.Brief)
		}
		if !q.hold(without) {
			return q
		}
	}
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
	for _, d := range in.Verdicts[host] {
		c, left := change(d, r)
		if left == "" && in.Below != nil && c.Installs() && c.To != "" {
			c.below = in.Below(d)
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
		Empties: v.Empties, Adopts: v.Adopts,
		Payloads: map[string]error{}}
	f.StagesMiB, f.Kernel = v.Stages()
	f.Drops, f.Controller = v.Drops, in.Controller
	f.Own = in.Own[v.Host]
	for _, c := range v.Changes {
		if c.File == "" {
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

// Stages is how much of a visit's payloads is staged on the host, in MiB, rounded up, and whether a kernel is among it.
func (v *Visit) Stages() (mib int64, kernel bool) {
	var bytes int64
	for _, c := range v.Changes {
		if c.Kind() == act.Install {
			bytes += c.Size
			kernel = kernel || strings.Contains(c.Component.Name(), "linux-image") || c.Component.Name() == "kernel"
		}
	}
	return (bytes + 1<<20 - 1) >> 20, kernel
}

// Mismatches returns the combinations on no compatibility list that the host would have after the visit.
func (v *Visit) Mismatches(cat *catalogue.Catalogue, r *estate.Reading) []catalogue.Mismatch {
	return cat.Mismatches(r.Release, r.Models(), after(r, v))
}

// after tells what versions of a component the host will have when its visit is over.
func after(r *estate.Reading, v *Visit) func(estate.Key) catalogue.Holding {
	held := catalogue.HeldBy(r)
	return func(key estate.Key) catalogue.Holding {
		out := catalogue.Holding{Known: held(key).Known}
		for _, c := range r.Of(key) {
			to := c.Version
			for _, ch := range v.Changes {
				if ch.Component == key && ch.Device == c.Device {
					to = ch.To
				}
			}
			if to != "" {
				out.Versions = append(out.Versions, to)
			}
		}
		for _, ch := range v.Changes { // what comes new
			if ch.Component == key && ch.From == "" && ch.To != "" {
				out.Versions = append(out.Versions, ch.To)
			}
		}
		return out
	}
}

// change turns a verdict into what a round does about it; left says why it does nothing about a drift.
func change(d drift.Verdict, r *estate.Reading) (c want, left string) {
	c.Change = act.Change{Component: d.Component, Device: d.Device, From: d.Has, To: d.Wants,
		Restart: catalogue.NoRestart, Pass: 1, Why: d.Outcome.String()}
	if d.Found != nil {
		c.Model = d.Found.Model
	}
	if l := d.Layer(); d.Outcome.Drifts() && (l == estate.Inside || l == estate.Settings) {
		return want{}, d.Outcome.String() + ": rounds change neither settings nor what is inside guests; a person does"
	}
	switch d.Outcome {
	case drift.Behind:
	case drift.Absent:
		if why := cannotHave(d.Component, r); why != "" {
			return want{}, d.Outcome.String() + ": " + why
		}
	case drift.Withdrawn:
		if d.Wants == "" {
			return want{}, "withdrawn, and there is no release to go to"
		}
		if d.Component.Scheme().Compare(d.Has, d.Wants) >= 0 {
			return want{}, "withdrawn, and the newest that stands (" + d.Wants + ") is a step back: a person decides"
		}
	case drift.Unwanted:
		c.To = ""
		return c, ""
	case drift.AwaitingRestart:
		if slices.ContainsFunc(d.Found.Holders, func(h estate.Holder) bool { return h.Guest != "" }) {
			return want{}, "awaiting " + d.Found.Awaits() +
				": each comes onto the new one when it moves here from elsewhere, or starts anew"
		}
		if d.Found.Restarts != "host" {
			c.Restart = catalogue.ServiceRestart
			c.Services = d.Found.Services()
		} else {
			c.Restart = catalogue.HostRestart
		}
		c.From = d.Has
		c.To = d.Has
		return c, ""
	case drift.HalfInstalled:
		return want{}, d.Outcome.String() + ": " + d.Found.State + "; it must be mended on the host first"
	case drift.OffTrack, drift.Ahead, drift.Disputed, drift.Unread:
		return want{}, d.Outcome.String() + ": a person decides"
	default:
		return want{}, ""
	}
	if why := d.Release.Barred(); why != "" {
		return want{}, "the wanted " + d.Wants + " " + why
	}
	c.File, c.SHA256, c.Size = d.Release.File, d.Release.SHA256, d.Release.Size
	if d.Release.Restart != "" {
		c.Restart = d.Release.Restart
	}
	return c, ""
}

// cannotHave says why nothing can put the component on the host: a package of another package system, or firmware and
// drivers of a device that is not in it.
func cannotHave(k estate.Key, r *estate.Reading) string {
	switch k.Kind() {
	case "fw", "drv":
		return "no device in it has " + string(k)
	case "deb", "rpm":
		if !slices.ContainsFunc(r.Components, func(c estate.Component) bool { return c.Key.Kind() == k.Kind() }) {
			return "its packages are not of the kind " + k.Kind()
		}
	}
	return ""
}

// Summary says in one line what the plan comes to.
func (p *Plan) Summary() string {
	bad := len(p.Obstacles())
	parts := []string{fmt.Sprintf("visits %d", len(p.Visits)-bad)}
	if bad > 0 {
		parts = append(parts, fmt.Sprintf("can't be made %d", bad))
	}
	middle, worst := p.Takes()
	moves := fmt.Sprintf("moves %d (floor %d, going home each time %d)", p.Moves, p.Floor, p.GoingHome)
	if p.Brief.Home {
		moves = fmt.Sprintf("moves %d, guests go home (floor %d)", p.Moves, p.Floor)
	}
	parts = append(parts, moves,
		fmt.Sprintf("about %s, at worst %s", drift.Age(middle), drift.Age(worst)))
	return strings.Join(parts, " · ")
}

// returns counts the guests that leave their hosts, and those that come back.
func (p *Plan) returns() (left, back int) {
	for i := range p.Visits {
		left, back = left+len(p.Visits[i].Moves), back+len(p.Visits[i].Back)
	}
	return left, back
}

// Notes are what else is to be said of the plan as a whole: what costs moves, how level the hosts are afterwards, what
// staging takes, how the windows are used.
func (p *Plan) Notes() (out []string) {
	switch left, back := p.returns(); {
	case p.Brief.Home && left > back:
		out = append(out, fmt.Sprintf("%d of %d guests find no room to go home, and stay", left-back, left))
	case p.Brief.Home && len(p.Visits) > 0:
		out = append(out, fmt.Sprintf("every guest is where it was afterwards, for %d moves more", back))
	case back > 0:
		out = append(out, fmt.Sprintf("%s comes back to %s as proof, and stays there over the soak",
			p.visit(p.Brief.Trial).Back[0].Guest, p.Brief.Trial))
	case slices.ContainsFunc(p.Visits, func(v Visit) bool {
		return v.Host == p.Brief.Trial && v.Empties && v.Obstacle == ""
	}):
		out = append(out, "no guest comes back to "+p.Brief.Trial+" as proof: it had none that could")
	}
	if !p.Brief.Home && len(p.Twice) > 0 && p.Moves > p.Floor {
		s := fmt.Sprintf("%d moves more than the floor", p.Moves-p.Floor)
		if len(p.Excess) > 0 {
			s += fmt.Sprintf("; %d would do %s", p.Excess[0].Moves, p.Excess[0].Says)
		}
		out = append(out, s)
	}
	if p.Bound > p.Floor {
		out = append(out, fmt.Sprintf("with hosts as these are, no order takes fewer than %d moves", p.Bound))
	}
	var staging time.Duration
	for i := range p.Visits {
		for _, s := range p.Visits[i].Steps {
			if s.Step == act.StageStep && p.Visits[i].Obstacle == "" {
				staging += s.Middle
			}
		}
	}
	if staging >= time.Minute {
		out = append(out, fmt.Sprintf("of that, %s go into staging", drift.Age(staging)))
	}
	if p.Level > 0 {
		last := ""
		for i := range p.Visits {
			if v := &p.Visits[i]; v.Empties && v.Obstacle == "" {
				last = v.Host
			}
		}
		if last != "" {
			out = append(out, fmt.Sprintf(
				"afterwards %s is empty and the others are within %.0f points of each other; %d moves more would "+
					"level that", last, 100*p.Spread, p.Level))
		}
	}
	if turns := p.Schedule((*Visit).worst); len(p.Brief.Windows) > 0 && len(turns) > 0 {
		var last time.Time
		for _, t := range turns {
			last = later(last, t.To)
		}
		i := slices.IndexFunc(p.Brief.Windows, func(w Window) bool { return !last.After(w.To) })
		if i >= 0 {
			w := p.Brief.Windows[i]
			out = append(out, fmt.Sprintf("at worst it ends at %s, and the window at %s", last.Format("Mon 15:04"),
				w.To.In(last.Location()).Format("Mon 15:04")))
		}
	}
	return out
}
