package round

import (
	"errors"
	"flag"
	"fmt"
	"maps"
	"math/rand"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/sim"
	"yareharbour/sim/demo"
)

var (
	soakSeeds = flag.Int("seeds", 0, "worlds of the soak; 0: a few")
	soakFrom  = flag.Int64("from", 0, "the first seed of the soak")
	soakTale  = flag.Int("tale", 40, "entries of its journal that a failing soak shows")
)

// happening is what befalls a world at one of the calls of its round.
type happening struct {
	call int
	kind string // "dies", "dies after", "leaps", "lease", "refuses", "withdrawn", a request, or a kind of fault
	host string
}

func (x happening) String() string { return fmt.Sprintf("%s %s at %d", x.kind, x.host, x.call) }

// soak is a world, a brief and what befalls it, all out of a seed.
type soak struct {
	seed   int64
	script []happening
}

var befalls = slices.Concat([]string{"dies", "dies after", "leaps", "lease", "refuses", "withdrawn"},
	[]string{course.AskPause, course.AskStop, course.AskSkip, course.AskEnd},
	kinds(sim.FaultKinds))

func kinds(all []sim.FaultKind) (out []string) {
	for _, k := range all {
		out = append(out, string(k))
	}
	return out
}

// soaked makes the soak of a seed.
func soaked(seed int64) soak {
	r := rand.New(rand.NewSource(seed))
	s := soak{seed: seed}
	hosts := 3 + int(seed%3)
	for range r.Intn(12) {
		call := 1 + r.Intn(40*hosts)
		for n := 1 + r.Intn(6)/4*r.Intn(3); n > 0; n-- { // now and then some at once
			s.script = append(s.script, happening{call, befalls[r.Intn(len(befalls))], fmt.Sprintf("c01h%03d", 1+r.Intn(hosts))})
		}
	}
	return s
}

// world is that of the soak, with guests of all kinds.
func (s soak) world() *sim.World {
	r := rand.New(rand.NewSource(^s.seed))
	w := demo.Generate(s.seed, 1, 3+int(s.seed%3), 2)
	for _, name := range slices.Sorted(maps.Keys(w.Hosts)) {
		h := w.Hosts[name]
		for i := range h.Reading.Guests {
			g := &h.Reading.Guests[i]
			g.Disks = []estate.Disk{{Target: "vda", Source: "/srv/g.img", Format: "qcow2"}}
			switch r.Intn(12) {
			case 3:
				g.Snapshots = []estate.Snapshot{{Name: "yare-older", Round: "older", Until: w.Now.Add(time.Duration(r.Intn(3)-2) * time.Hour)}}
			case 0:
				g.Disks = []estate.Disk{{Target: "sda", Source: "/srv/x.iso", Media: true, Local: true}}
			case 1:
				g.Devices = []string{"card"}
			case 2:
				g.State = estate.Off
			}
		}
		h.Reading.Components = append(h.Reading.Components, estate.Component{Key: "set:service/chrony", Version: "enabled, running"})
		if r.Intn(3) == 0 {
			h.Reading.Components = append(h.Reading.Components, estate.Component{Key: "fw:corran-hub", Version: "2.1", Model: "Corran Hub 3"})
		}
		h.Reading.Sort()
	}
	return w
}

// brief is what the soak's round is to do.
func (s soak) brief(hosts []string) func(*plan.Brief) {
	r := rand.New(rand.NewSource(s.seed * 7919))
	one := func(n int) bool { return r.Intn(n) == 0 }
	b := func(b *plan.Brief) {
		b.Out, b.Moves, b.Patience = 1+r.Intn(2), 1+r.Intn(4), time.Duration(5+r.Intn(20))*time.Minute
		b.Reserve = r.Intn(2)
		if b.Out == 2 && one(3) {
			b.Leaves = 1
		}
		b.Home = one(4)
		if one(4) {
			b.Trial, b.Soak = hosts[r.Intn(len(hosts))], time.Minute
		}
		if one(5) {
			b.Rehearse = time.Hour
		}
		do := []plan.Do{plan.DoShutDown, plan.DoSuspend, plan.DoEject, plan.DoEjectOut, plan.DoCold}
		for range 1 + r.Intn(3) {
			b.Guests = append(b.Guests, plan.Policy{Guests: []string{"c01*"}, Do: do[r.Intn(len(do))]})
		}
		b.Guests = append(b.Guests, plan.Policy{Guests: []string{"c01*"}, Do: plan.DoShutDown})
		if one(4) {
			b.Snapshots = []plan.Safety{{Guests: []string{"c01*"}, For: time.Hour}}
		}
		if one(3) {
			b.Temporary = []act.Lent{{Unit: "chrony.service"}, {Setting: "vm.swappiness", To: "1"}}
		}
		points := act.HookPoints()
		for range r.Intn(4) {
			h := act.Hook{Before: one(2), Of: points[r.Intn(len(points))], OnHost: true, Program: sim.Programs + "x", GoOn: []int{0}, Wait: []int{75},
				Within: time.Minute, Repeats: one(2)}
			if h.OnHost = h.Of != "round"; h.OnHost { // those of this machine are tried where they run
				b.Hooks = append(b.Hooks, h)
			}
		}
		if one(8) {
			*b = b.Staged([]plan.Staging{plan.StageAhead, plan.StageAway}[r.Intn(2)])
		}
	}
	return b
}

// run runs the soak, and returns what it finds wrong, and how the round went.
func (s soak) run(t *testing.T) (wrong, tale []string) {
	w := s.world()
	inBubble(t, w, func(t *testing.T, h *harness) {
		hosts := h.world.Estate.Clusters[0].Hosts
		r := rand.New(rand.NewSource(s.seed + 1))
		h.brief = s.brief(hosts)
		x := &soaking{h: h, r: r, script: slices.Clone(s.script), hurt: map[string]bool{}, ours: map[string]bool{}}
		h.befall = x.befall
		h.refuses = x.refuse
		h.withdrawn = x.isWithdrawn
		for _, host := range hosts {
			for _, g := range h.world.Hosts[host].Reading.Guests {
				if len(act.Inserted(&g)) > 0 {
					x.media = append(x.media, g.Name)
				}
				if g.State == estate.Running {
					x.ran = append(x.ran, g.Name)
				}
			}
		}
		p := h.plan("c01")
		for _, v := range p.Obstacles() {
			p.Brief.Except = append(p.Brief.Except, v.Host)
		}
		if len(p.Obstacles()) > 0 {
			h.brief = func(b *plan.Brief) { *b = p.Brief }
			p = h.plan("c01")
		}
		if len(p.Visits) == 0 || len(p.Obstacles()) > 0 {
			return
		}
		wrong = x.through(p)
		for _, e := range h.journal {
			tale = append(tale, fmt.Sprintf("%s %s %s: %s %s", e.At.Format("15:04:05"), e.About(), e.Kind, e.Says(), e.Detail))
		}
	})
	return wrong, tale
}

// soaking is a soak under way.
type soaking struct {
	h         *harness
	r         *rand.Rand
	script    []happening
	refused   int             // calls that are still to be refused
	withdraws string          // a component's release
	hurt      map[string]bool // guests that something befell, by name
	ours      map[string]bool // that a brief brings to rest
	ran       []string        // at the beginning
	media     []string        // guests that had a medium then
	calls     int
}

// befall lets happen what is due at this call. The harness's lock is held.
func (x *soaking) befall(h *harness) {
	x.calls++
	for len(x.script) > 0 {
		i := slices.IndexFunc(x.script, func(p happening) bool { return p.call <= x.calls })
		if i < 0 {
			return
		}
		p := x.script[i]
		x.script = slices.Delete(x.script, i, i+1)
		if _, ok := h.world.Hosts[p.host]; !ok {
			continue
		}
		switch p.kind {
		case "dies", "dies after":
			h.dieAt, h.after = h.ops+1, p.kind == "dies after"
		case "leaps":
			h.skew += time.Duration(x.r.Intn(121)-60) * time.Minute
		case "lease":
			h.lost = true
		case "refuses":
			x.refused = 1 + x.r.Intn(6)
		case "withdrawn":
			x.withdraws = []string{"deb:brae-tls", "fw:corran-bmc", "deb:linux-image-brae"}[x.r.Intn(3)]
		case course.AskPause, course.AskStop, course.AskEnd:
			h.requests = append(h.requests, course.Event{Detail: p.kind, By: "op", Reason: "they want it"})
		case course.AskSkip:
			h.requests = append(h.requests, course.Event{Detail: p.kind, Host: p.host, By: "op"})
		default:
			if k := sim.FaultKind(p.kind); k == sim.Crashes || k == sim.StaysOff || k == sim.NoReturn {
				for _, g := range h.world.Hosts[p.host].Reading.Guests {
					x.hurt[g.Name] = true
				}
			}
			_ = h.world.Order(sim.Fault{Host: p.host, Kind: sim.FaultKind(p.kind), Times: 1})
		}
	}
}

func (x *soaking) refuse(a act.Act) error {
	if x.refused > 0 && a.Kind != act.Claim {
		x.refused--
		if x.r.Intn(2) == 0 {
			return fmt.Errorf("%s %w", a.Host, connector.ErrUnreachable)
		}
		return errors.New(a.Host + " refuses: its disk is full")
	}
	return nil
}

func (x *soaking) isWithdrawn(c act.Change) string {
	if string(c.Component) == x.withdraws {
		return "it is bad"
	}
	return ""
}

// patience is after how many standstills a soak counts as having no way out.
const patience = 80

// through runs the round until it is over, with persons who mend what they see and decide when it stands still.
func (x *soaking) through(p plan.Plan) (wrong []string) {
	h := x.h
	h.out = max(p.Brief.Out, 1)
	for _, v := range p.Visits {
		for _, g := range v.Rests {
			x.ours[g.Guest] = true
		}
		for _, g := range v.Colds {
			x.ours[g.Guest] = true
		}
	}
	s, err := h.start(p)
	for n := 0; ; n++ {
		switch {
		case n > patience:
			return append(wrong, fmt.Sprintf("there is no way out: %s: %s", s.Status, s.Detail))
		case err != nil && !h.dead && !h.lost:
			return append(wrong, "the runner gave up: "+err.Error())
		case err != nil:
			s, err = h.resume("c01")
			continue
		case s.Status == course.Finished:
			return append(wrong, x.judge(s)...)
		case s.Status == course.Running:
			return append(wrong, "the runner returned while the round runs")
		}
		x.mend(n)
		s, err = x.decide(s, n)
	}
}

// decide takes one of the ways that are offered: first mostly to let it go on, later what ends it.
func (x *soaking) decide(s *course.State, n int) (*course.State, error) {
	h := x.h
	ways := s.Ways()
	if len(ways) == 0 {
		h.t.Fatalf("seed: %s (%s) has no way at all", s.Status, s.Detail)
	}
	w := ways[0]
	if x.r.Intn(3) == 0 || n > 10 {
		w = ways[x.r.Intn(len(ways))]
	}
	if n > 30 {
		w = ways[len(ways)-1-x.r.Intn(min(2, len(ways)))]
	}
	e := course.Event{Kind: course.Asked, Detail: w.Asks, Host: w.Host, Of: w.Of, By: "op", Reason: "they looked"}
	if w.Asks == course.AskClear {
		if e.Tasks = slices.Clone(h.world.Hosts[w.Host].Waiting); len(e.Tasks) == 0 {
			return h.resume("c01")
		}
	}
	state, err := course.Fold(h.journal)
	if err != nil {
		h.t.Fatal(err)
	}
	if why := state.Refuses(&e); w.Asks != course.AskGoOn && why != "" {
		h.broken = append(h.broken, fmt.Sprintf("%s is offered, and refused: %s", w.Command, why))
		return h.resume("c01")
	}
	h.dieAt, h.dead, h.lost = 0, false, false
	h.epoch++
	h.write(course.Event{Kind: course.Taken})
	if w.Asks == course.AskDone || w.Asks == course.AskUndone {
		x.putRight() // nobody says how it is before he has seen to it
		h.write(course.Event{Kind: course.Asked, Detail: course.AskGoOn})
	}
	h.write(e)
	return h.run("c01")
}

// mend is what a person does about what he finds on the hosts, at some time.
func (x *soaking) mend(n int) {
	if x.r.Intn(2) > 0 || n >= 20 {
		x.putRight()
	}
}

func (x *soaking) putRight() {
	w := x.h.world
	for _, name := range slices.Sorted(maps.Keys(w.Hosts)) {
		h := w.Hosts[name]
		if !h.Up && !slices.ContainsFunc(w.Tasks, func(t *sim.Task) bool { return t.Host == name && t.State == connector.TaskRuns }) {
			_ = w.Order(sim.Fault{Host: name, Kind: sim.Answers}) // it is brought up
			h.Reading.BootID += "'"
		}
		if h.Up {
			h.Waiting = nil
		}
		for i := range h.Reading.Components {
			h.Reading.Components[i].State = ""
		}
		guests := h.Reading.Guests[:0:0]
		for _, g := range h.Reading.Guests {
			twin := slices.ContainsFunc(slices.Sorted(maps.Keys(w.Hosts)), func(o string) bool {
				return o < name && slices.ContainsFunc(w.Hosts[o].Reading.Guests, func(z estate.Guest) bool { return z.UID() == g.UID() })
			})
			if twin && g.State == estate.Suspended {
				continue // the remnant is destroyed
			}
			if g.State == estate.Suspended && !twin {
				g.State = estate.Running
			}
			guests = append(guests, g)
		}
		h.Reading.Guests = guests
	}
}

// judge holds a round that is over to what there is.
func (x *soaking) judge(s *course.State) (wrong []string) {
	h := x.h
	if s.Holds() {
		wrong = append(wrong, "it is finished and holds something")
	}
	wrong = append(wrong, h.broken...)
	readings := map[string]*estate.Reading{}
	hosts := h.world.Estate.Clusters[0].Hosts
	where := map[string][]string{}
	for _, host := range hosts {
		readings[host] = h.read(host)
		for _, g := range h.world.Hosts[host].Reading.Guests {
			where[g.Name] = append(where[g.Name], fmt.Sprint(g.State, " on ", host))
		}
	}
	debts := s.Debts(readings)
	owed := func(host, what string) bool {
		return slices.ContainsFunc(debts, func(d course.Debt) bool {
			return d.Host == host && !d.Later && strings.Contains(strings.Join(d.Owed, "; "), what)
		})
	}
	later := func(guest string) bool {
		return slices.ContainsFunc(debts, func(d course.Debt) bool {
			return d.Later && strings.HasPrefix(d.Owed[0], guest+":")
		})
	}
	anybody := func(what string) bool {
		return slices.ContainsFunc(hosts, func(h string) bool { return owed(h, what) })
	}
	for _, host := range hosts {
		c, _ := readings[host].Component("set:service/chrony", "")
		if m := h.world.Hosts[host].Reading.Closed; m != nil && !owed(host, "it is closed") {
			wrong = append(wrong, fmt.Sprintf("%s is closed (%+v), and nobody is told", host, *m))
		}
		if h.world.Hosts[host].Media.URL+h.world.Hosts[host].Media.Once != "" && !owed(host, "is to start from an image once") {
			wrong = append(wrong, fmt.Sprintf("%s is to start from %+v, and nobody is told", host, h.world.Hosts[host].Media))
		}
		if c.Version == "enabled" && readings[host].Reached() && !owed(host, "chrony") {
			wrong = append(wrong, "chrony is stopped on "+host+", and nobody is told")
		}
	}
	for _, host := range hosts {
		for _, g := range h.world.Hosts[host].Reading.Guests {
			if slices.ContainsFunc(g.Snapshots, func(o estate.Snapshot) bool { return o.Round == s.Round }) && !later(g.Name) {
				wrong = append(wrong, g.Name+" has a snapshot, and nobody is told")
			}
			lacks := slices.Contains(x.media, g.Name) && len(act.Inserted(&g)) == 0
			meant := slices.ContainsFunc(h.journal, func(e course.Event) bool { return e.Act != nil && e.Act.Guest == g.Name && e.Act.Unowed })
			if lacks && !meant && !anybody(g.Name+": lacks a medium") {
				wrong = append(wrong, g.Name+" lacks its medium, and nobody is told")
			}
		}
	}
	for _, g := range x.ran {
		at := where[g]
		switch {
		case anybody(g + ": is "), slices.ContainsFunc(debts, func(d course.Debt) bool {
			return slices.ContainsFunc(d.Owed, func(o string) bool { return strings.HasPrefix(o, "whether") && strings.Contains(o, g) })
		}):
		case len(at) != 1:
			wrong = append(wrong, fmt.Sprintf("%s is %v", g, at))
		case strings.HasPrefix(at[0], string(estate.Running)), x.hurt[g]:
		case !x.ours[g] && slices.ContainsFunc(h.journal, func(e course.Event) bool {
			return e.Act != nil && e.Act.Guest == g && (e.Kind == course.Failed || e.Kind == course.Stuck)
		}): // it was told that something became of it
		default:
			wrong = append(wrong, fmt.Sprintf("%s ran and is %s, and nobody is told", g, at[0]))
		}
	}
	return wrong
}

// smaller leaves out of the script what is not needed for something to be wrong.
func (s soak) smaller(t *testing.T) soak {
	for i := 0; i < len(s.script); {
		less := soak{s.seed, slices.Delete(slices.Clone(s.script), i, i+1)}
		if wrong, _ := less.run(t); len(wrong) > 0 {
			s = less
		} else {
			i++
		}
	}
	return s
}

// Worlds, briefs and mishaps at random: whatever happens, the invariants hold, nothing is owed unseen, and there is a way
// out. A seed in which something is wrong is told with the least that must happen for it.
func TestSoak(t *testing.T) {
	n := *soakSeeds
	if n == 0 {
		if n = 150; testing.Short() {
			n = 10
		}
	}
	for i := range n {
		seed := *soakFrom + int64(i)
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			s := soaked(seed)
			if wrong, _ := s.run(t); len(wrong) > 0 {
				least := s.smaller(t)
				then, tale := least.run(t)
				t.Errorf("%s\nscript: %v\nthe least: %v: %v\n%s", strings.Join(wrong, "\n"), s.script, least.script, then,
					strings.Join(tale[max(0, len(tale)-*soakTale):], "\n"))
			}
		})
	}
}
