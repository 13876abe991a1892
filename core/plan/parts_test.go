package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/precheck"
)

// reading is a host that answers, of 100 GiB, with its guests in MiB.
func reading(host string, guests ...int64) *estate.Reading {
	r := &estate.Reading{Host: host, Capacity: estate.Resources{MemoryMiB: 100 << 10, CPU: 1000}}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s, At: now, Source: "test"})
	}
	for i, m := range guests {
		r.Guests = append(r.Guests, estate.Guest{ID: fmt.Sprint(host, i), Name: fmt.Sprintf("%s-%d", host, i),
			State: estate.Running, Load: estate.Resources{MemoryMiB: m}})
	}
	return r
}

// The load is that of the hosts in service; the limit what is left when the largest of them is lost for each in
// reserve.
func TestTheTide(t *testing.T) {
	rs := map[string]*estate.Reading{"a": reading("a", 50<<10), "b": reading("b", 30<<10), "c": reading("c"),
		"d": reading("d", 90<<10)}
	rs["b"].Capacity.MemoryMiB = 200 << 10
	rs["d"].Closed = &estate.Mark{}
	in := Input{Cluster: estate.Cluster{Act: true, Hosts: []string{"a", "b", "c", "d", "e"}},
		Brief: Brief{Reserve: 1}, Readings: rs}
	for _, c := range []struct {
		out         string
		reserve     int
		load, limit float64
	}{{"", 1, 80.0 / 400, 200.0 / 400}, {"a", 1, 30.0 / 300, 100.0 / 300}, {"c", 0, 80.0 / 300, 1},
		{"b", 1, 50.0 / 200, 100.0 / 200}, {"b", 3, 50.0 / 200, 0}, {"", 2, 80.0 / 400, 100.0 / 400}} {
		in.Brief.Reserve = c.reserve
		if load, limit := in.tide(precheck.FitHosts(in.Cluster.Hosts, rs), []string{c.out}); load != c.load ||
			limit != c.limit {
			t.Errorf("without %q, a reserve of %d: %.3f of %.3f, want %.3f of %.3f", c.out, c.reserve,
				load, limit, c.load, c.limit)
		}
	}
	silent := reading("a", 1)
	silent.SetSection(estate.Section{Name: estate.Host, At: now, Err: "silent"})
	in.Readings = map[string]*estate.Reading{"a": silent}
	if load, limit := in.tide(precheck.FitHosts(in.Cluster.Hosts, in.Readings), nil); load != 0 || limit != 0 {
		t.Errorf("of a host that does not answer: %v of %v", load, limit)
	}
}

// Why a host is not visited. Only where all was judged and is kept is it in line.
func TestWhyAHostIsNotVisited(t *testing.T) {
	v := func(o drift.Outcome) drift.Verdict { return drift.Verdict{Component: "deb:k", Outcome: o} }
	silent := reading("a")
	silent.SetSection(estate.Section{Name: estate.Host, At: now, Err: "no route"})
	for _, c := range []struct {
		r      *estate.Reading
		vs     []drift.Verdict
		left   []string
		inLine bool
		unread int
		why    string
	}{
		{nil, nil, nil, false, 1, "it was never read"},
		{silent, []drift.Verdict{v(drift.InLine)}, nil, false, 1, "it does not answer: no route"},
		{reading("a"), nil, nil, false, 1, "no baseline covers it"},
		{reading("a"), []drift.Verdict{v(drift.InLine), v(drift.Unread)}, nil, false, 1,
			"unread: 1, the first is deb:k"},
		{reading("a"), []drift.Verdict{v(drift.Ahead)}, []string{"x", "y", "z"}, false, 0,
			"out of line beyond a round's reach: 1, x; y"},
		{reading("a"), []drift.Verdict{v(drift.Ahead), v(drift.Behind)}, []string{"x: no", "y: " + leftOut}, false, 0,
			"out of line beyond a round's reach: 1, x: no; out of line and left out by the brief, which names other components: 1, y"},
		{reading("a"), []drift.Verdict{v(drift.Behind), v(drift.Behind), v(drift.Behind), v(drift.Behind)},
			[]string{"w: " + leftOut, "x: " + leftOut, "y: " + leftOut, "z: " + leftOut}, false, 0,
			"out of line and left out by the brief, which names other components: 4, w, x and 2 more"},
		{reading("a"), []drift.Verdict{v(drift.InLine)}, nil, true, 0, "in line"},
		{reading("a"), []drift.Verdict{v(drift.InLine), v(drift.Excepted)}, nil, true, 0,
			"in line; 1 excepted or not applying"},
	} {
		if a := aside("a", c.r, c.vs, c.left); a.InLine != c.inLine || a.Unread != c.unread || a.Why != c.why {
			t.Errorf("%+v, want %q", a, c.why)
		}
	}
	for _, c := range []struct {
		p    Plan
		want bool
	}{{Plan{}, false}, {Plan{Aside: []Aside{{InLine: true}}}, true}, {Plan{Aside: []Aside{{InLine: true}, {}}}, false},
		{Plan{Aside: []Aside{{InLine: true}}, Visits: []Visit{{}}}, false}} {
		if c.p.InLine() != c.want {
			t.Errorf("%+v: %v", c.p, c.p.InLine())
		}
	}
}

// A host that a lost round left closed is visited though nothing is to be done on it; without a mark there is nothing
// to adopt.
func TestAnAdoptedHostIsVisited(t *testing.T) {
	in := parse(t, `a 0 | deb:k=2`, `deb:k 2 host`)
	in.Brief.Adopts = "a"
	if p := Make(in); len(p.Visits) != 0 {
		t.Errorf("%+v", p.Visits)
	}
	in.Readings["a"].Closed = &estate.Mark{Round: "lost"}
	if p := Make(in); len(p.Visits) != 1 || p.Visits[0].Adopts != "lost" {
		t.Errorf("%+v", p.Visits)
	}
	in.Brief.Adopts = "b"
	if p := Make(in); len(p.Visits) != 0 {
		t.Errorf("%+v", p.Visits)
	}
}

func TestAPlanIsSummedUp(t *testing.T) {
	p := Plan{Moves: 3, Floor: 2, GoingHome: 6,
		Visits: []Visit{{Host: "a", Steps: []Stretch{{Middle: 10 * time.Minute, Pessimistic: 20 * time.Minute},
			{Middle: 5 * time.Minute, Pessimistic: 10 * time.Minute}}},
			{Host: "b", Steps: []Stretch{{Middle: 15 * time.Minute, Pessimistic: 15 * time.Minute}}},
			{Host: "c", Obstacle: "no", Steps: []Stretch{{Middle: time.Hour, Pessimistic: time.Hour}}}}}
	if got, want := p.Summary(),
		"visits 2 · can't be made 1 · moves 3 (floor 2, going home each time 6) · "+
			"about 30 min, at worst 45 min"; got != want {
		t.Errorf("%s\n%s", got, want)
	}
	if got := p.Obstacles(); len(got) != 1 || got[0].Obstacle != "no" {
		t.Errorf("%+v", got)
	}
	p.Width = 2
	if got := p.Summary(); !strings.HasSuffix(got, "about 15 min, at worst 30 min") {
		t.Errorf("side by side: %s", got)
	}
	if m, w := p.Visits[0].Estimate(); m != 15*time.Minute || w != 30*time.Minute {
		t.Errorf("%s, %s", m, w)
	}
	p.Visits = p.Visits[:2]
	if got := p.Summary(); strings.Contains(got, "can't") {
		t.Error(got)
	}
}

// Where the host on trial can't be visited nobody else is, and the plan does not show them as possible.
func TestATrialThatCantBeVisited(t *testing.T) {
	in := scenario(t)
	usual := Make(in)
	in.Brief.Trial = usual.Visits[0].Host
	in.Readings[in.Brief.Trial].Closed = &estate.Mark{By: "somebody"}
	in.Brief.Out = 3
	p := Make(in)
	for i := range p.Visits {
		v := &p.Visits[i]
		if v.Obstacle == "" || v.Host != in.Brief.Trial && (!strings.Contains(v.Obstacle, "which is on trial") ||
			v.WayOut != "another host on trial, or none") {
			t.Errorf("%s: %q, way out %q", v.Host, v.Obstacle, v.WayOut)
		}
	}
	if p.Moves > 0 || len(p.Visits) != len(usual.Visits) {
		t.Errorf("%d moves, %d visits", p.Moves, len(p.Visits))
	}
}

func TestDifferences(t *testing.T) {
	a := Make(scenario(t))
	in := scenario(t)
	in.Brief.Hosts = []string{"a", "b"}
	b := Make(in)
	got := strings.Join(Differences(&a, &b), "; ")
	if !strings.Contains(got, "visits 3 → 2") || !strings.Contains(got, "moves ") || !strings.Contains(got, "takes ") ||
		!strings.Contains(got, "changes 4 → 3") {
		t.Error(got)
	}
	if d := Differences(&a, &a); len(d) != 0 {
		t.Errorf("%v", d)
	}
	in = scenario(t)
	in.Brief.Sequence = []string{"c", "b", "a"}
	c := Make(in)
	if got := strings.Join(Differences(&a, &c), "; "); !strings.Contains(got, "order c, b, a") {
		t.Error(got)
	}
}

// The host that the controller runs on goes last, unless somebody says otherwise.
func TestTheControllersHostGoesLast(t *testing.T) {
	in := scenario(t)
	in.Controller = "a-10"
	if p := Make(in); p.Visits[len(p.Visits)-1].Host != "a" {
		t.Errorf("%v", turns(&p))
	}
	in.Brief.Sequence = []string{"a"}
	if p := Make(in); p.Visits[0].Host != "a" {
		t.Errorf("%v", turns(&p))
	}
}

// The host on trial goes before all others, those that are not drained included.
func TestTheHostOnTrialGoesFirst(t *testing.T) {
	in := parse(t, `
		a 10 | deb:s=1
		b 20 | deb:k=1
		c 30 | deb:k=1`, `
		deb:k 2 host
		deb:s 2 service`)
	in.Brief.Trial = "c"
	if p := Make(in); strings.Join(turns(&p), " ") != "c a b" {
		t.Errorf("%v", turns(&p))
	}
}

// Of a host that something else stands against, room is asked all the same: what was not asked is never said to be
// there.
func TestRoomIsAskedOfEveryHost(t *testing.T) {
	in := parse(t, `
		a 60 | deb:k=1
		b 60 | deb:k=2
		c 60 | deb:k=2`, `
		deb:k 2 host`)
	in.Readings["a"].BMC.Waiting = []estate.BMCTask{{ID: "1"}}
	p := Make(in)
	var answers []string
	for _, a := range precheck.Blockers(p.Visits[0].Answers) {
		answers = append(answers, a.Check)
	}
	if strings.Join(answers, " ") != "fit bmc" ||
		!strings.Contains(p.Visits[0].Obstacle, "queue") && !strings.Contains(p.Visits[0].Obstacle, "fit") {
		t.Errorf("%v: %s", answers, p.Visits[0].Obstacle)
	}
	for _, a := range p.Visits[0].Answers {
		if a.Check == "fit" && strings.Contains(a.Evidence, "find a place") {
			t.Error(a.Evidence)
		}
	}
}

// What only waits for a restart has it with the rehearsal; everything else comes after it, in its passes.
func TestARehearsalIsTheRestartThatSomethingWaitsFor(t *testing.T) {
	in := scenario(t)
	in.Brief.Rehearse = time.Hour
	waits := act.Change{Component: "deb:k", From: "3", To: "3", Restart: catalogue.HostRestart, Pass: 1}
	serves := act.Change{Component: "deb:s", From: "1", To: "2", Restart: catalogue.ServiceRestart, Pass: 1}
	flashes := act.Change{Component: "fw:f", From: "1", To: "2", Restart: catalogue.HostRestart, Pass: 2}
	for _, c := range []struct {
		changes []act.Change
		want    string // the pass of each, the restarts, and how many passes there are
	}{
		{[]act.Change{waits}, "1 [1] 1"}, {[]act.Change{waits, serves}, "1 2 [1] 2"}, {[]act.Change{waits, flashes}, "1 3 [1 3] 3"},
		{[]act.Change{serves, flashes}, "2 3 [1 3] 3"},
	} {
		v := Visit{Empties: true, Changes: slices.Clone(c.changes), Restarts: []int{1}, Passes: 2}
		in.rehearse(&v, &estate.Reading{})
		got := ""
		for _, x := range v.Changes {
			got += fmt.Sprint(x.Pass, " ")
		}
		if got += fmt.Sprint(v.Restarts, " ", v.Passes); got != c.want || !v.Rehearses {
			t.Errorf("%s, want %s", got, c.want)
		}
	}
}

// A host that has been up for long restarts once before anything is changed on it.
func TestARestartIsRehearsed(t *testing.T) {
	in := scenario(t)
	in.Brief.Rehearse = 24 * time.Hour
	in.Readings["a"].BootedAt = now.Add(-24 * time.Hour)
	in.Readings["b"].BootedAt = now.Add(-24*time.Hour + 1)
	p := Make(in)
	for i := range p.Visits {
		v := &p.Visits[i]
		want := map[string]string{"a": "[1 2] 2", "b": "[1] 1", "c": "[1 2] 2"}[v.Host] // of c it is not known
		if got := fmt.Sprint(v.Restarts, " ", v.Passes); got != want || v.Rehearses != (v.Host != "b") {
			t.Errorf("%s: %s, want %s", v.Host, got, want)
		}
		for _, c := range v.Changes {
			if c.Pass != v.Passes {
				t.Errorf("%s: %+v", v.Host, c)
			}
		}
		restarts := 0
		for _, s := range v.Steps {
			if s.Step == act.RestartStep {
				restarts++
			}
			if s.Step == act.ChangeStep && s.Pass == 1 && v.Rehearses {
				t.Errorf("%s: a change in the pass of the rehearsal", v.Host)
			}
		}
		if restarts != v.Passes {
			t.Errorf("%s: %d restarts are timed", v.Host, restarts)
		}
	}
}

// Guests go home where the brief says so, and the plan counts, times and tells it; without it only the host on trial
// has one come back.
func TestGuestsThatComeBack(t *testing.T) {
	in := scenario(t)
	usual := Make(in)
	in.Brief.Home, in.Brief.Out = true, 3
	p := Make(in)
	left, back := 0, 0
	for i := range p.Visits {
		v := &p.Visits[i]
		left, back = left+len(v.Moves), back+len(v.Back)
		last := v.Steps[len(v.Steps)-1]
		if last.Step != act.ReturnStep || last.Middle <= 0 || last.Pessimistic < last.Middle ||
			!strings.Contains(last.From, "MiB/s") {
			t.Errorf("%s ends with %+v", v.Host, last)
		}
	}
	if left != back || p.Moves != left+back || p.Moves != usual.GoingHome || p.Width != 1 {
		t.Errorf("%d leave, %d come back, moves %d of %d, %d at once", left, back, p.Moves, usual.GoingHome, p.Width)
	}
	if !strings.Contains(p.Summary(), "guests go home") ||
		!strings.Contains(strings.Join(p.Notes(), ";"), "every guest is where it was afterwards") ||
		strings.Contains(strings.Join(p.Notes(), ";"), "would level") {
		t.Errorf("%s; %v", p.Summary(), p.Notes())
	}
	if d := strings.Join(Differences(&usual, &p), " "); !strings.Contains(d,
		fmt.Sprintf("moves %d → %d", usual.Moves, p.Moves)) {
		t.Error(d)
	}
	in = scenario(t)
	in.Brief.Trial, in.Brief.Out = "b", 3
	p = Make(in)
	for i := range p.Visits {
		v := &p.Visits[i]
		if n := len(v.Back); n != map[bool]int{true: 1}[v.Host == "b"] || n > 0 && v.Back[0].Guest != "b-20" {
			t.Errorf("%s: %+v", v.Host, v.Back)
		}
	}
	if !strings.Contains(strings.Join(p.Notes(), ";"), "b-20 comes back to b as proof") {
		t.Error(p.Notes())
	}
	in.Readings["b"].Guests = nil
	if p = Make(in); !strings.Contains(strings.Join(p.Notes(), ";"), "no guest comes back to b as proof") {
		t.Error(p.Notes())
	}
}

// A host on trial that is not visited at all proves nothing: nobody goes before somebody says what is meant.
func TestATrialOnWhichNothingIsChanged(t *testing.T) {
	in := parse(t, `
		a 10 | deb:k=1
		b 20 | deb:k=2`, `
		deb:k 2 host`)
	in.Brief.Trial = "b"
	p := Make(in)
	if v := &p.Visits[0]; len(p.Visits) != 1 ||
		v.Obstacle != "it waits for b, which is on trial and is not visited: in line" || v.WayOut == "" || p.Moves > 0 {
		t.Errorf("%+v", p.Visits)
	}
}
