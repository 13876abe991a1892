// Package survey sums an estate up for one look: a band for each cluster with its hosts as berths along a waterline,
// load above and drift below it, and beside it what needs a person, worst first. Screens and drawings show a Survey;
// they compute nothing of it.
package survey

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/precheck"
)

// Service says whether a host takes guests.
type Service string

// The kinds of service.
const (
	Open   Service = "open"
	Closed Service = "closed"
	Silent Service = "silent" // it does not answer
	Away   Service = "away"   // it does not answer, as is expected: a round is changing or restarting it
	Never  Service = "never read"
)

// Depth is how far a host is out of line in one layer.
type Depth struct {
	Drift  int
	Worst  catalogue.Severity
	Unread bool
	InLine int // clauses that were judged in line; with none, nothing is claimed
	Aside  int // excepted, or not applying
}

// Berth is a host in its cluster's band.
type Berth struct {
	Host    string
	Service Service
	Mark    *estate.Mark
	Memory  float64 // share of its memory that running guests have, 0 to 1
	CPU     float64 // share of its cores that they use
	Guests  int     // running
	Depth   map[estate.Layer]Depth
	Drift   int
	Unread  int
	Judged  int // clauses that were judged in line
	ReadAt  time.Time
	Step    act.Step // where a running round is with it; empty otherwise
}

// InLine tells whether something was asked of the host, all of it was read, and nothing is out of line. A host of which
// nothing is asked is not in line with anything.
func (b Berth) InLine() bool {
	return b.Judged > 0 && b.Drift == 0 && b.Unread == 0 && b.Service != Silent && b.Service != Never
}

// Band is a cluster.
type Band struct {
	Cluster estate.Cluster
	Berths  []Berth
	Guests  int     // running
	Load    float64 // share of the memory of all open hosts
	Limit   float64 // the load up to which the loss of the reserve's hosts can be borne, by memory
	Reserve fit.Answer
	Spare   fit.Spare
	ReadAt  time.Time // the oldest reading; zero where a host was never read
	InLine  int
	Adrift  int
	// of those adrift: nothing that their readings tell keeps a round from visiting them. Payloads and what is wanted
	// are for the plan to say; of clusters that are too large for a look, room too
	Ready   int
	Unasked int // hosts of which no clause asks anything
	Out     int // hosts out of service
	Unread  int // hosts of which something is not known
	Round   *course.State
}

// Urgency orders what needs a person.
type Urgency int

// The urgencies, worst first.
const (
	Now Urgency = iota
	Soon
	Sometime
)

// Need is something that needs a person.
type Need struct {
	Urgency Urgency
	Cluster string
	Host    string // empty where it is about the whole cluster
	Text    string
	why     string    // the cause, told after the text: it does not keep apart what is so of several hosts
	First   bool      // before all others: what a round left in the middle
	Since   time.Time // since when it is so; zero where that is not known
	// Where it can be mended, and what to look at there.
	See       Where
	Component estate.Key
	Device    string
	Baseline  string
}

// Where is where a need can be seen to.
type Where int

// The places. A need that is about nothing of the estate's is seen to outside.
const (
	Outside Where = iota
	AtHost
	AtDrift
	AtRound
	AtPlan
	AtBaselines
	AtCatalogue
)

// Survey is the whole look.
type Survey struct {
	Name  string
	At    time.Time
	Bands []Band
	Needs []Need
}

// Input is what a survey is made from.
type Input struct {
	Estate   estate.Estate
	Now      time.Time
	MaxAge   time.Duration
	Readings map[string]*estate.Reading
	Verdicts map[string][]drift.Verdict
	Rounds   map[string]*course.State // the newest of each cluster
	News     map[string]drift.News    // by cluster: what is new since somebody last looked
	Runs     map[string]bool          // by cluster: somebody runs its round now
	// Faults are the estate's files that can't be read: while there is one, no host is in line. Problems are names in
	// baselines that match nothing, Flags versions on hosts that were withdrawn or are open to advisories.
	Faults []string
	// Distrusted are the newest rounds whose journal is not as it was written, by their clusters, and what is wrong
	// with it.
	Distrusted map[string]string
	Problems   []baseline.Problem
	Flags      []drift.Flag
}

// Make surveys the estate.
func Make(in Input) Survey {
	s := Survey{Name: in.Estate.Name, At: in.Now}
	for _, c := range in.Estate.Clusters {
		b := band(in, c)
		s.Bands = append(s.Bands, b)
		s.Needs = append(s.Needs, needs(in, b)...)
	}
	s.Needs = append(s.Needs, general(in)...)
	slices.SortStableFunc(s.Needs, func(a, b Need) int {
		if a.First != b.First {
			return map[bool]int{true: -1, false: 1}[a.First]
		}
		return cmp.Compare(a.Urgency, b.Urgency)
	})
	return s
}

// general are the needs that are of no one cluster.
func general(in Input) (out []Need) {
	for _, f := range in.Faults {
		out = append(out, Need{Urgency: Now, Text: "no verdict is to be believed while this can't be read: " + f})
	}
	for _, p := range in.Problems {
		u := Sometime
		if p.Error {
			u = Now
		}
		out = append(out, Need{Urgency: u, Text: p.String(), See: AtBaselines, Baseline: p.Baseline})
	}
	for _, f := range in.Flags {
		switch {
		case f.Bound: // its verdict says so
		case f.Withdrawn != "":
			out = append(out, Need{Urgency: Soon, Host: only(f.Hosts), See: AtCatalogue, Component: f.Component,
				Text: fmt.Sprintf("withdrawn, and no baseline covers it: %s %s%s", f.Component,
					f.Version, onHosts(f.Hosts))})
		case f.Severity >= catalogue.High:
			out = append(out, Need{Urgency: Sometime, Host: only(f.Hosts), See: AtCatalogue, Component: f.Component,
				Text: fmt.Sprintf("affected by %s, and no baseline covers it: %s %s%s",
					strings.Join(f.Advisories, ", "), f.Component, f.Version, onHosts(f.Hosts))})
		}
	}
	return out
}

func band(in Input, c estate.Cluster) Band {
	b := Band{Cluster: c, Round: in.Rounds[c.Name]}
	hosts := precheck.FitHosts(c.Hosts, in.Readings)
	var used, room, largest estate.Resources
	var may []string // be visited, if there is room for their guests
	for _, h := range c.Hosts {
		berth := berth(in, h)
		if len(in.Faults) > 0 {
			berth.Unread++
		}
		if b.Round != nil && b.Round.Status == course.Running && in.Runs[c.Name] {
			berth.Step = currentStep(b.Round, h)
			if berth.Service == Silent && b.Round.Silent(h) {
				berth.Service = Away
			}
		}
		b.Berths = append(b.Berths, berth)
		b.count(berth)
		if berth.Drift > 0 && ready(in, c, h) {
			if empties(in.Verdicts[h]) {
				may = append(may, h)
			} else {
				b.Ready++
			}
		}
		if r := in.Readings[h]; r != nil && berth.Service == Open {
			used, room = used.Add(r.Used()), room.Add(r.Capacity)
			if r.Capacity.MemoryMiB > largest.MemoryMiB {
				largest = r.Capacity
			}
		}
	}
	if room.MemoryMiB > 0 {
		b.Load = float64(used.MemoryMiB) / float64(room.MemoryMiB)
		b.Limit = max(0, float64(room.MemoryMiB-int64(c.Reserve)*largest.MemoryMiB)/float64(room.MemoryMiB))
	}
	const exact = 64 // beyond this many hosts a proof takes longer than a look may
	if len(hosts) <= exact {
		problem := fit.Problem{Hosts: hosts, Terms: fit.Terms{Rules: c.Rules, Reserve: c.Reserve}}
		b.Reserve = fit.Reserve(problem)
		for _, there := range fit.Rooms(problem, may) {
			if there {
				b.Ready++
			}
		}
	} else {
		b.Ready += len(may)
	}
	b.Spare = fit.Headroom(hosts, min(c.Reserve, 1))
	return b
}

// empties tells whether what is out of line may need the host empty, as far as verdicts tell.
func empties(vs []drift.Verdict) bool {
	return slices.ContainsFunc(vs, func(v drift.Verdict) bool {
		switch {
		case !v.Outcome.Drifts() || v.Outcome == drift.Unwanted:
			return false
		case v.Outcome == drift.AwaitingRestart:
			return v.Found == nil || v.Found.Restarts == "host"
		}
		return v.Release == nil || v.Release.Restart.EmptiesHost()
	})
}

// ready tells whether none of the checks that readings alone answer would hold a visit to the host up.
func ready(in Input, c estate.Cluster, host string) bool {
	f := precheck.Facts{Now: in.Now, MaxAge: in.MaxAge, Terms: fit.Terms{Rules: c.Rules, Reserve: c.Reserve}, Out: 1,
		Hosts: c.Hosts, Readings: in.Readings, Empties: empties(in.Verdicts[host]), Judged: true,
		Placed: &fit.Answer{Outcome: fit.Fits}}
	return len(precheck.Blockers(precheck.Host(f, host))) == 0
}

func (b *Band) count(h Berth) {
	b.Guests += h.Guests
	switch {
	case h.InLine():
		b.InLine++
	case h.Judged+h.Drift+h.Unread == 0 && h.Service != Never:
		b.Unasked++
	case h.Drift > 0:
		b.Adrift++
	}
	if h.Unread > 0 || h.Service == Never {
		b.Unread++
	}
	if h.Service != Open {
		b.Out++
	}
	if len(b.Berths) == 1 || h.ReadAt.Before(b.ReadAt) {
		b.ReadAt = h.ReadAt
	}
}

func berth(in Input, host string) Berth {
	b := Berth{Host: host, Service: Never, Depth: map[estate.Layer]Depth{}}
	r := in.Readings[host]
	if r == nil {
		return b
	}
	b.ReadAt, b.Mark = r.At(), r.Closed
	switch {
	case !r.Reached():
		b.Service = Silent
	case r.Closed != nil:
		b.Service = Closed
	default:
		b.Service = Open
	}
	if r.Capacity.MemoryMiB > 0 {
		used := r.Used()
		b.Memory = float64(used.MemoryMiB) / float64(r.Capacity.MemoryMiB)
		b.CPU = float64(used.CPU) / float64(max(r.Capacity.CPU, 1))
		b.Guests = len(r.RunningGuests())
	}
	for i := range in.Verdicts[host] {
		v := &in.Verdicts[host][i]
		d := b.Depth[v.Layer()]
		switch {
		case v.Outcome == drift.Unread:
			d.Unread = true
			b.Unread++
		case v.Outcome.Drifts():
			d.Drift++
			d.Worst = max(d.Worst, v.Severity())
			b.Drift++
		case v.Outcome == drift.InLine:
			d.InLine++
			b.Judged++
		default:
			d.Aside++
		}
		b.Depth[v.Layer()] = d
	}
	return b
}

func currentStep(s *course.State, host string) act.Step {
	v := s.Visit(host)
	if v == nil || v.Over() || len(v.Spans) == 0 {
		return ""
	}
	return v.Spans[len(v.Spans)-1].Step
}

// needs lists what a person should see to in a cluster.
func needs(in Input, b Band) []Need {
	var out []Need
	add := func(u Urgency, host, format string, args ...any) *Need {
		n := Need{Urgency: u, Cluster: b.Cluster.Name, Host: host, Text: fmt.Sprintf(format, args...), See: AtDrift}
		if host != "" {
			n.See = AtHost
		}
		out = append(out, n)
		return &out[len(out)-1]
	}
	since := func(r *estate.Reading, s estate.SectionName) time.Time { at, _ := r.Section(s).Known(); return at }
	if why := in.Distrusted[b.Cluster.Name]; why != "" {
		out = append(out, Need{Urgency: Now, Cluster: b.Cluster.Name,
			Text:  "the journal of its round can't be trusted, and nothing is done by it: " + why,
			First: true, See: AtRound})
	}
	inRound := map[string]bool{} // hosts that a round left in the middle
	if s := b.Round; s != nil &&
		(s.Status == course.Failing || s.Status == course.Running && !in.Runs[b.Cluster.Name]) {
		text := "the round failed: " + s.Detail
		if s.Status == course.Running {
			text = "its round was interrupted: nobody runs it any more. Resume it"
		}
		out = append(out, Need{Urgency: Now, Cluster: b.Cluster.Name, Text: text, First: true,
			See: AtRound, Since: s.Last})
		for i := range s.Visits {
			if v := &s.Visits[i]; !v.Over() && len(v.Spans) > 0 {
				inRound[v.Host] = true
			}
		}
	}
	byOutcome := map[drift.Outcome]*about{}
	var critical about
	for _, h := range b.Berths {
		if h.Step != "" {
			continue // a round sees to it
		}
		r := in.Readings[h.Host]
		switch h.Service {
		case Never:
			add(Now, h.Host, "never read")
			continue
		case Silent:
			n := add(Now, h.Host, "does not answer")
			n.First, n.Since, n.why = inRound[h.Host], since(r, estate.Host), r.Section(estate.Host).Err
		case Closed:
			if inRound[h.Host] {
				n := add(Now, h.Host, "left closed by the round: %s", h.Mark.Reason)
				n.First, n.Since, n.See = true, h.Mark.At, AtRound
				break
			}
			add(Soon, h.Host, "closed by %s: %s", h.Mark.By, h.Mark.Reason).Since = h.Mark.At
		}
		if e := r.Section(estate.GuestList).Err; e != "" && h.Service != Silent {
			n := add(Now, h.Host, "its guests can't be read, and those last known count as running")
			n.Since, n.why = since(r, estate.GuestList), e
		}
		healthKnown, lastKnown := r.Unread(estate.HealthItems, in.Now, in.MaxAge) == "", ""
		if !healthKnown {
			lastKnown = " (last known)"
		}
		if e := r.Section(estate.HealthItems).Err; e != "" && h.Service != Silent &&
			!strings.Contains(e, "names no BMC") {
			n := add(Soon, h.Host, "its health is unread")
			n.Since, n.why = since(r, estate.HealthItems), e
		}
		if p := r.Section(estate.HealthItems).Partial; p != "" {
			add(Soon, h.Host, "its health was not all read").why = p
		}
		for _, i := range r.Health {
			if !i.OK {
				add(Soon, h.Host, "%s: %s%s", i.Item, i.Detail, lastKnown)
			}
		}
		if r.BMC.Queue > 0 {
			add(Soon, h.Host, "%d forgotten task(s) in the BMC's queue", r.BMC.Queue)
		}
		note(in.Verdicts[h.Host], h.Host, byOutcome, &critical)
	}
	if hosts := critical.hosts; len(hosts) > 0 {
		critical.show(add(Now, only(hosts), "critical release missing%s", onHosts(hosts)))
	}
	for _, o := range []drift.Outcome{drift.Withdrawn, drift.Unread, drift.HalfInstalled, drift.Disputed,
		drift.OffTrack, drift.Ahead} {
		if x := byOutcome[o]; x != nil {
			u := Sometime
			if o == drift.Withdrawn || o == drift.Unread || o == drift.HalfInstalled {
				u = Soon
			}
			x.show(add(u, only(x.hosts), "%s%s", says[o], onHosts(x.hosts)))
		}
	}
	if n := in.News[b.Cluster.Name]; len(n.Drift) > 0 {
		add(Sometime, "", "%d new, out of line or unread", len(n.Drift)).Since = n.Since
	}
	if b.Reserve.Outcome == fit.DoesNotFit {
		add(Now, "", "the reserve is not kept: %s", b.Reserve.Obstacle).See = AtPlan
	} else if b.Round == nil || b.Round.Status != course.Running { // a round judges by itself whom it can drain
		out = append(out, drainable(in, b)...)
	}
	return grouped(out)
}

// grouped tells once what is so of several hosts, where it was first told. Where the causes differ, the first is told
// with its host.
func grouped(needs []Need) (out []Need) {
	type same struct {
		urgency Urgency
		text    string
		see     Where
		first   bool
	}
	at, members := map[same]int{}, map[same][]Need{}
	for _, n := range needs {
		k := same{n.Urgency, n.Text, n.See, n.First}
		i, told := at[k]
		if n.Host == "" || !told {
			at[k] = len(out)
			out = append(out, n)
		} else if out[i].Since.After(n.Since) {
			out[i].Since = n.Since
		}
		members[k] = append(members[k], n)
	}
	for k, i := range at {
		n, of, why := &out[i], members[k], out[i].why
		if len(of) > 1 && n.Host != "" {
			var hosts []string
			for _, o := range of {
				hosts = append(hosts, o.Host)
				if o.why != n.why {
					why = "on " + n.Host + ", " + n.why
				}
			}
			n.Host, n.Text = "", n.Text+onHosts(hosts)
			if n.See == AtHost {
				n.See = AtDrift
			}
		}
		if why != "" {
			n.Text += ": " + why
		}
	}
	return out
}

var says = map[drift.Outcome]string{drift.Withdrawn: "withdrawn release", drift.Unread: "something is unread",
	drift.HalfInstalled: "a package is half installed", drift.Disputed: "baselines disagree",
	drift.OffTrack: "off its track", drift.Ahead: "ahead of its baseline"}

// about is the hosts that have something in common, and the first thing on them that has it.
type about struct {
	hosts []string
	first *drift.Verdict
}

func (a *about) add(host string, v *drift.Verdict) {
	if a.first == nil {
		a.first = v
	}
	if n := len(a.hosts); n == 0 || a.hosts[n-1] != host {
		a.hosts = append(a.hosts, host)
	}
}

// show has a need lead to it.
func (a *about) show(n *Need) {
	n.Component, n.Device = a.first.Component, a.first.Device
}

func note(vs []drift.Verdict, host string, by map[drift.Outcome]*about, critical *about) {
	for i := range vs {
		v := &vs[i]
		if by[v.Outcome] == nil {
			by[v.Outcome] = &about{}
		}
		by[v.Outcome].add(host, v)
		if v.Outcome.Drifts() && v.Severity() == catalogue.Critical {
			critical.add(host, v)
		}
	}
}

// drainable says which hosts that are out of line could not be drained now. Past some size that is left to the plan.
func drainable(in Input, b Band) (out []Need) {
	const most = 16
	if len(b.Berths) > most {
		return nil
	}
	cluster := fit.Problem{Hosts: precheck.FitHosts(b.Cluster.Hosts, in.Readings),
		Terms: fit.Terms{Rules: b.Cluster.Rules, Reserve: b.Cluster.Reserve}}
	reasons := map[string][]string{}
	var order []string
	for _, h := range b.Berths {
		if h.Drift == 0 || h.Service != Open {
			continue
		}
		if a := fit.Drain(cluster, []string{h.Host}, nil, fit.Effort); a.Outcome != fit.Fits {
			why := a.Obstacle.String()
			if len(a.Obstacle.Lost) > 0 {
				why = "the reserve would not be kept"
			}
			if reasons[why] == nil {
				order = append(order, why)
			}
			reasons[why] = append(reasons[why], h.Host)
		}
	}
	for _, why := range order {
		who := ""
		if only(reasons[why]) == "" {
			who = list(reasons[why]) + " "
		}
		out = append(out, Need{Urgency: Soon, Cluster: b.Cluster.Name, Host: only(reasons[why]),
			Text: who + "can't be drained: " + why, See: AtPlan})
	}
	return out
}

func only(hosts []string) string {
	if len(hosts) == 1 {
		return hosts[0]
	}
	return ""
}

// onHosts names the hosts where there are several; one stands beside the text anyway.
func onHosts(hosts []string) string {
	if len(hosts) == 1 {
		return ""
	}
	return " on " + list(hosts)
}

func list(hosts []string) string {
	const most = 3
	if len(hosts) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(hosts[:most-1], ", "), len(hosts)-most+1)
	}
	return strings.Join(hosts, ", ")
}
