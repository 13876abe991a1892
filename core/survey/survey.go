// Package survey sums an estate up for one look: a band for each cluster with its hosts as berths along a waterline, load above and drift
// below it, and beside it what needs a person, worst first. Screens and drawings show a Survey; they compute nothing of it.
package survey

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

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
	ReadAt  time.Time
	Step    plan.StepName // where a running round is with it; empty otherwise
}

// InLine tells whether everything about the host was read and nothing is out of line.
func (b Berth) InLine() bool {
	return b.Drift == 0 && b.Unread == 0 && b.Service != Silent && b.Service != Never
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
	slices.SortStableFunc(s.Needs, func(a, b Need) int { return cmp.Compare(a.Urgency, b.Urgency) })
	return s
}

func band(in Input, c estate.Cluster) Band {
	b := Band{Cluster: c, Round: in.Rounds[c.Name]}
	hosts := precheck.FitHosts(c.Hosts, in.Readings)
	var used, room, largest estate.Resources
	for _, h := range c.Hosts {
		berth := berth(in, h)
		if b.Round != nil && b.Round.Status == plan.Running {
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
		default:
			continue
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
		out = append(out, Need{u, b.Cluster.Name, host, fmt.Sprintf(format, args...)})
	}
	if b.Round != nil && b.Round.Status == plan.Failing {
		add(Now, "", "the round failed: %s", b.Round.Detail)
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
			add(Now, h.Host, "does not answer")
		case Closed:
			add(Soon, h.Host, "closed by %s since %s: %s", h.Mark.By, h.Mark.At.Format("Mon 2 Jan"), h.Mark.Reason)
		}
		for _, i := range r.Health {
			if !i.OK {
				add(Soon, h.Host, "%s: %s", i.Item, i.Detail)
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
	for _, o := range []drift.Outcome{drift.Withdrawn, drift.Unread, drift.Disputed, drift.OffTrack, drift.Ahead} {
		if hosts := byOutcome[o]; len(hosts) > 0 {
			u := Sometime
			if o == drift.Withdrawn || o == drift.Unread {
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
	drift.Disputed: "baselines disagree", drift.OffTrack: "off its track", drift.Ahead: "ahead of its baseline"}

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
		out = append(out, Need{Soon, b.Cluster.Name, only(reasons[why]), who + "can't be drained: " + why})
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
