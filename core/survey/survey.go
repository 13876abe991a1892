// Package survey sums an estate up for one look: a band for each cluster with its hosts as berths along a waterline, load above and drift
// below it, and beside it what needs a person, worst first. Screens and drawings show a Survey; they compute nothing of it.
package survey

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/plan"
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
	Step    plan.StepName // where a running round is with it; empty otherwise
}

// InLine tells whether something was asked of the host, all of it was read, and nothing is out of line. A host of which nothing is asked is not in line with anything.
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
	Unasked int // hosts of which no clause asks anything
	Out     int // hosts out of service
	Unread  int // hosts of which something is not known
	Round   *plan.State
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
	First   bool // before all others: what a round left in the middle
}

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
	Rounds   map[string]*plan.State // the newest of each cluster
	News     map[string]News        // by cluster: what is new since somebody last looked
	Runs     map[string]bool        // by cluster: somebody runs its round now
	// Faults are the estate's files that can't be read: while there is one, no host is in line. Problems are names in baselines that match nothing, Flags versions on
	// hosts that were withdrawn or are open to advisories.
	Faults   []string
	Problems []baseline.Problem
	Flags    []drift.Flag
}

// News is how much is out of line in a cluster that was not when somebody last looked.
type News struct {
	Count int
	Since time.Time
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
		out = append(out, Need{Urgency: u, Text: p.String()})
	}
	for _, f := range in.Flags {
		switch {
		case f.Bound: // its verdict says so
		case f.Withdrawn != "":
			out = append(out, Need{Urgency: Soon, Host: only(f.Hosts), Text: fmt.Sprintf("withdrawn, and no clause speaks of it: %s %s%s", f.Component, f.Version, onHosts(f.Hosts))})
		case f.Severity >= catalogue.High:
			out = append(out, Need{Urgency: Sometime, Host: only(f.Hosts),
				Text: fmt.Sprintf("open to %s, and no clause speaks of it: %s %s%s", strings.Join(f.Advisories, ", "), f.Component, f.Version, onHosts(f.Hosts))})
		}
	}
	return out
}

func band(in Input, c estate.Cluster) Band {
	b := Band{Cluster: c, Round: in.Rounds[c.Name]}
	hosts := precheck.FitHosts(c.Hosts, in.Readings)
	var used, room, largest estate.Resources
	for _, h := range c.Hosts {
		berth := berth(in, h)
		if len(in.Faults) > 0 {
			berth.Unread++
		}
		if b.Round != nil && b.Round.Status == plan.Running && in.Runs[c.Name] {
			berth.Step = currentStep(b.Round, h)
			if berth.Service == Silent && (berth.Step == plan.RestartStep || berth.Step == plan.ProveStep) {
				berth.Service = Away
			}
		}
		b.Berths = append(b.Berths, berth)
		b.count(berth)
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
		b.Reserve = fit.Reserve(hosts, c.Reserve)
	}
	b.Spare = fit.Headroom(hosts, min(c.Reserve, 1))
	return b
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

func currentStep(s *plan.State, host string) plan.StepName {
	v := s.Visit(host)
	if v == nil || v.Over() || len(v.Spans) == 0 {
		return ""
	}
	return v.Spans[len(v.Spans)-1].Step
}

// needs lists what a person should see to in a cluster.
func needs(in Input, b Band) []Need {
	var out []Need
	add := func(u Urgency, host, format string, args ...any) {
		out = append(out, Need{Urgency: u, Cluster: b.Cluster.Name, Host: host, Text: fmt.Sprintf(format, args...)})
	}
	inRound := map[string]bool{} // hosts that a round left in the middle
	if s := b.Round; s != nil && (s.Status == plan.Failing || s.Status == plan.Running && !in.Runs[b.Cluster.Name]) {
		text := "the round failed: " + s.Detail
		if s.Status == plan.Running {
			text = "its round was interrupted: nobody runs it any more. Go on with it"
		}
		out = append(out, Need{Now, b.Cluster.Name, "", text, true})
		for i := range s.Visits {
			if v := &s.Visits[i]; !v.Over() && len(v.Spans) > 0 {
				inRound[v.Host] = true
			}
		}
	}
	byOutcome := map[drift.Outcome][]string{}
	var critical []string
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
			add(Now, h.Host, "does not answer: %s", r.Section(estate.Host).Err)
			out[len(out)-1].First = inRound[h.Host]
		case Closed:
			if inRound[h.Host] {
				out = append(out, Need{Now, b.Cluster.Name, h.Host, fmt.Sprintf("left closed by the round: %s", h.Mark.Reason), true})
				break
			}
			add(Soon, h.Host, "closed by %s since %s: %s", h.Mark.By, h.Mark.At.Format("Mon 2 Jan"), h.Mark.Reason)
		}
		if e := r.Section(estate.GuestList).Err; e != "" && h.Service != Silent {
			add(Now, h.Host, "its guests can't be read, and those last known count as running: %s", e)
		}
		healthKnown, lastKnown := r.Unread(estate.HealthItems, in.Now, in.MaxAge) == "", ""
		if !healthKnown {
			lastKnown = " (last known)"
		}
		if e := r.Section(estate.HealthItems).Err; e != "" && h.Service != Silent && !strings.Contains(e, "names no BMC") {
			add(Soon, h.Host, "its health is unread: %s", e)
		}
		if p := r.Section(estate.HealthItems).Partial; p != "" {
			add(Soon, h.Host, "its health was not all read: %s", p)
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
	if len(critical) > 0 {
		add(Now, only(critical), "critical release missing%s", onHosts(critical))
	}
	for _, o := range []drift.Outcome{drift.Withdrawn, drift.Unread, drift.HalfInstalled, drift.Disputed, drift.OffTrack, drift.Ahead} {
		if hosts := byOutcome[o]; len(hosts) > 0 {
			u := Sometime
			if o == drift.Withdrawn || o == drift.Unread || o == drift.HalfInstalled {
				u = Soon
			}
			add(u, only(hosts), "%s%s", says[o], onHosts(hosts))
		}
	}
	if n := in.News[b.Cluster.Name]; n.Count > 0 {
		add(Sometime, "", "%d new out of line or unread since %s", n.Count, n.Since.Format("Mon 2 Jan 15:04"))
	}
	if b.Reserve.Outcome == fit.DoesNotFit {
		add(Now, "", "the reserve is not kept: %s", b.Reserve.Obstacle)
	} else if b.Round == nil || b.Round.Status != plan.Running { // a round judges by itself whom it can drain
		out = append(out, drainable(in, b)...)
	}
	return out
}

var says = map[drift.Outcome]string{drift.Withdrawn: "withdrawn release", drift.Unread: "something is unread",
	drift.HalfInstalled: "a package is half installed", drift.Disputed: "baselines disagree", drift.OffTrack: "off its track", drift.Ahead: "ahead of its baseline"}

func note(vs []drift.Verdict, host string, by map[drift.Outcome][]string, critical *[]string) {
	add := func(list []string) []string {
		if len(list) == 0 || list[len(list)-1] != host {
			list = append(list, host)
		}
		return list
	}
	for i := range vs {
		by[vs[i].Outcome] = add(by[vs[i].Outcome])
		if vs[i].Outcome.Drifts() && vs[i].Severity() == catalogue.Critical {
			*critical = add(*critical)
		}
	}
}

// drainable says which hosts that are out of line could not be drained now. Past some size that is left to the plan.
func drainable(in Input, b Band) (out []Need) {
	const most = 16
	if len(b.Berths) > most {
		return nil
	}
	hosts := precheck.FitHosts(b.Cluster.Hosts, in.Readings)
	reasons := map[string][]string{}
	var order []string
	for _, h := range b.Berths {
		if h.Drift == 0 || h.Service != Open {
			continue
		}
		if a := fit.Drain(hosts, h.Host, b.Cluster.Reserve, nil); a.Outcome != fit.Fits {
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
		out = append(out, Need{Urgency: Soon, Cluster: b.Cluster.Name, Host: only(reasons[why]), Text: who + "can't be drained: " + why})
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
