package survey

import (
	"cmp"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
	"yareharbour/core/precheck"
)

// Depth is how far a host is out of line in one layer.
type Depth struct {
	Drift     int
	Worst     catalogue.Severity
	Unread    bool
	Undecided bool
	InLine    int // clauses that were judged in line; with none, nothing is claimed
	Aside     int // excepted, or not applying
}

// Berth is a host in its cluster's band.
type Berth struct {
	Host          string
	Service       Service
	Mark          *estate.Mark
	Memory        float64 // share of its memory that running guests have, 0 to 1
	CPU           float64 // share of its cores that they use
	Guests        estate.Crowd
	Depth         map[estate.Layer]Depth
	drift.Summary // of its verdicts
	ReadAt        time.Time
	Step          act.Step // where a running round is with it; empty otherwise
}

// InLine tells whether something was asked of the host, all of it was read, and nothing is out of line. A host of which
// nothing is asked is not in line with anything.
func (b Berth) InLine() bool {
	return b.Well() && b.Service != Silent && b.Service != Never
}

// Band is a cluster.
type Band struct {
	Cluster estate.Cluster
	Berths  []Berth
	Guests  estate.Crowd
	Load    float64 // share of the memory of all open hosts
	Limit   float64 // the load up to which the loss of the reserve's hosts can be borne, by memory
	Reserve fit.Answer
	Spare   fit.Spare
	ReadAt  time.Time // the oldest reading; zero where a host was never read
	InLine  int
	Adrift  int
	// Ready are the hosts that the plan of the cluster's usual round would visit as things stand, and Planned tells that
	// it was made.
	Ready   int
	Planned bool
	Unasked int // hosts of which nothing was judged
	Out     int // hosts out of service
	Unread  int // hosts of which something is not known
	// Undecided are hosts of which what is wanted can't be told, in one clause at least; they may be counted otherwise too.
	Undecided int
	// Blind are hosts whose guests were never read: Guests and Load are without theirs, and of the reserve nothing is
	// known.
	Blind []string
	Round *course.State
}

// Worst is the most severe of what is out of line in the band.
func (b *Band) Worst() (worst catalogue.Severity) {
	for _, h := range b.Berths {
		for _, d := range h.Depth {
			if d.Drift > 0 {
				worst = max(worst, d.Worst)
			}
		}
	}
	return worst
}

// Compare orders bands by how much they need somebody, the worst first: a reserve that is not kept, hosts that don't
// answer or are out, how severe the drift is, and how many hosts it is on.
func Compare(a, b *Band) int {
	return cmp.Or(cmp.Compare(b.failing(), a.failing()), cmp.Compare(b.Unread, a.Unread), cmp.Compare(b.Out, a.Out),
		cmp.Compare(b.Worst(), a.Worst()), cmp.Compare(b.Adrift, a.Adrift))
}

func (b *Band) failing() int {
	switch {
	case b.Round != nil && b.Round.Status == course.Failing:
		return 2
	case b.Reserve.Outcome == fit.DoesNotFit:
		return 1
	}
	return 0
}

func band(in Input, c estate.Cluster) Band {
	b := Band{Cluster: c, Round: in.Rounds[c.Name]}
	if p := in.Plans[c.Name]; p != nil {
		b.Planned, b.Ready = true, len(p.Ready())
	}
	hosts := precheck.FitHosts(c.Hosts, in.Readings)
	copies := precheck.Copies(c.Hosts, in.Readings)
	var used, room, largest estate.Resources
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
		if b.count(berth); copies[h] == "" {
			b.Guests = b.Guests.Plus(berth.Guests)
		}
		if r := in.Readings[h]; r != nil && berth.Service == Open && copies[h] == "" {
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
	if b.Blind = precheck.Blind(c.Hosts, in.Readings); len(b.Blind) > 0 {
		b.Limit = 0
		b.Reserve = fit.Answer{Outcome: fit.Unproven, Obstacle: &fit.Obstacle{}}
		return b
	}
	const exact = 64 // beyond this many hosts a proof takes longer than a look may
	if len(hosts) <= exact {
		b.Reserve = fit.Reserve(fit.Problem{Hosts: hosts, Terms: fit.Terms{Rules: c.Rules, Reserve: c.Reserve}})
	}
	b.Spare = fit.Headroom(hosts, min(c.Reserve, 1))
	return b
}

func (b *Band) count(h Berth) {
	switch {
	case h.InLine():
		b.InLine++
	case h.Unasked() && h.Service != Never:
		b.Unasked++
	case h.Drift > 0:
		b.Adrift++
	}
	if h.Unread > 0 || h.Service == Never {
		b.Unread++
	}
	if h.Undecided > 0 {
		b.Undecided++
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
	}
	b.Guests, b.Summary = r.Crowd(), drift.Summarize(in.Verdicts[host])
	byLayer := map[estate.Layer][]drift.Verdict{}
	for _, v := range in.Verdicts[host] {
		byLayer[v.Layer()] = append(byLayer[v.Layer()], v)
	}
	for l, vs := range byLayer {
		s := drift.Summarize(vs)
		b.Depth[l] = Depth{Drift: s.Drift, Worst: s.Worst, Unread: s.Unread > 0, Undecided: s.Undecided > 0, InLine: s.InLine,
			Aside: s.Aside}
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
