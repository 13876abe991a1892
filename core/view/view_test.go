package view

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/survey"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// anEstate is a cluster c of hosts, each with its verdicts written as COMPONENT:OUTCOME.
func anEstate(verdicts map[string][]string) *Estate {
	words := map[string]drift.Outcome{
		"unread":   drift.Unread,
		"behind":   drift.Behind,
		"absent":   drift.Absent,
		"fine":     drift.InLine,
		"none":     drift.NotApplying,
		"disputed": drift.Disputed,
		"excepted": drift.Excepted,
	}
	e := &Estate{
		Verdicts: map[string][]drift.Verdict{},
		Readings: map[string]*estate.Reading{},
		Survey:   survey.Survey{At: now},
		Checker:  &drift.Checker{Catalogue: &catalogue.Catalogue{}, Now: now},
	}
	band := survey.Band{Cluster: estate.Cluster{Name: "c"}}
	var hosts []string
	for h := range verdicts {
		hosts = append(hosts, h)
	}
	slices.Sort(hosts)
	for _, h := range hosts {
		band.Cluster.Hosts = append(band.Cluster.Hosts, h)
		band.Berths = append(band.Berths, survey.Berth{Host: h})
		e.Readings[h] = &estate.Reading{Host: h}
		e.Readings[h].SetSection(estate.Section{Name: estate.Host, At: now, Source: "test"})
		for i, w := range verdicts[h] {
			at := strings.LastIndex(w, ":")
			key, device, _ := strings.Cut(w[:at], "@")
			e.Verdicts[h] = append(
				e.Verdicts[h],
				drift.Verdict{Host: h, Component: estate.Key(key), Device: device, Outcome: words[w[at+1:]],
					Clause: &baseline.Bound{Baseline: "b",
						Clause: baseline.Clause{Line: i + 1, Component: estate.Key(key)}}},
			)
		}
	}
	e.Survey.Bands = []survey.Band{band}
	return e
}

func filter(t *testing.T, text string) narrow.Filter {
	t.Helper()
	f, err := narrow.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// picture is a matrix as a text: a line for each row.
func picture(m Matrix) string {
	var out []string
	for i := range m.Rows {
		r := &m.Rows[i]
		line := r.Title() + ":"
		for _, h := range m.Hosts {
			if v, ok := r.ByHost[h]; ok {
				line += fmt.Sprintf(" %s=%s", h, v.Outcome)
			}
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

func TestAMatrixHoldsWhatDisagrees(t *testing.T) {
	for name, c := range map[string]struct {
		verdicts map[string][]string
		filter   string
		want     string
	}{
		"what is in line everywhere is no row": {map[string][]string{"x": {"deb:a:fine", "deb:b:behind"},
			"y": {"deb:a:fine", "deb:b:fine"}}, "", "deb:b: x=behind y=in line"},
		"what does not apply is no disagreement": {map[string][]string{"x": {"deb:a:none"}, "y": {"deb:a:fine"}},
			"", ""},
		"firmware stands below platform": {map[string][]string{"x": {"fw:z:behind", "deb:z:absent"}}, "",
			"deb:z: x=absent\nfw:z: x=behind"},
		"a host without a verdict has an empty cell": {map[string][]string{"x": {"deb:a:behind"}, "y": nil},
			"", "deb:a: x=behind"},
		"what is unread is unread in each of its rows": {map[string][]string{"x": {"fw:n@1:behind", "fw:n@2:fine"},
			"y": {"fw:n:unread"}}, "", "fw:n (1): x=behind y=unread\nfw:n (2): x=in line y=unread"},
		"what is unread everywhere has a row": {map[string][]string{"x": {"fw:n:unread"}},
			"", "fw:n: x=unread"},
		"a filter keeps the rows that it lets through": {map[string][]string{"x": {"deb:a:behind", "fw:b:behind"}},
			"kind=fw", "fw:b: x=behind"},
		"and the hosts": {map[string][]string{"x": {"deb:a:behind"}, "y": {"deb:a:behind"}},
			"host=y", "deb:a: y=behind"},
	} {
		if got := picture(anEstate(c.verdicts).Matrix("c", filter(t, c.filter))); got != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", name, got, c.want)
		}
	}
	if m := anEstate(nil).Matrix("nowhere", narrow.Filter{}); len(m.Rows)+len(m.Hosts) > 0 {
		t.Errorf("%+v", m)
	}
}

// An empty matrix says what it is empty of; one that only hides something is not empty of drift.
func TestAnEmptyMatrixSaysOfWhat(t *testing.T) {
	e := anEstate(map[string][]string{"x": {"deb:a:fine", "deb:b:none"}, "y": {"deb:a:behind"}})
	if m := e.Matrix("c", filter(t, "host=x")); len(m.Rows) != 0 || m.Judged != 3 || m.InLine != 1 || m.Hidden != 1 {
		t.Errorf("%+v", m)
	}
	if m := anEstate(map[string][]string{"x": nil}).Matrix("c", narrow.Filter{}); m.Judged != 0 || m.InLine != 0 {
		t.Errorf("%+v", m)
	}
}

func TestTheLinesOfAHost(t *testing.T) {
	e := anEstate(map[string][]string{"x": {"fw:f:behind", "deb:calm:fine", "deb:bad:absent", "deb:pardon:excepted"}})
	e.Readings["x"].Components = []estate.Component{{Key: "deb:calm", Version: "1"}, {Key: "deb:lone", Version: "7"}}
	var got []string
	for _, l := range e.Lines("x", narrow.Filter{}) {
		got = append(got, l.Group()+" "+l.Title())
	}
	want := []string{
		"platform deb:bad",
		"platform deb:pardon",
		"platform deb:calm",
		"firmware fw:f",
		NoClause + " deb:lone",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	for _, l := range e.Lines("x", filter(t, "verdict=behind")) {
		if l.Unbound {
			t.Errorf("what has no verdict is let through by one: %s", l.Title())
		}
	}
	lines := e.Lines("x", filter(t, "lone"))
	if len(lines) != 1 || !strings.Contains(strings.Join(e.Story(&lines[0]), " "), "version 7") {
		t.Errorf("%+v", lines)
	}
	if len(e.Lines("nobody", narrow.Filter{})) != 0 {
		t.Error("a host that there is not has lines")
	}
}

// A guest that would not move says why; knowing less never makes one movable.
func TestWhatKeepsAGuestFromMoving(t *testing.T) {
	e := anEstate(map[string][]string{"x": nil, "y": nil})
	e.Readings["y"].Networks = []string{"n"}
	for _, c := range []struct {
		guest estate.Guest
		do    func()
		why   string
	}{
		{estate.Guest{State: estate.Running, Networks: []string{"n"}}, func() {}, ""},
		{estate.Guest{State: estate.Off}, func() {}, "off: it is not moved"},
		{estate.Guest{State: estate.Running, Devices: []string{"card"}}, func() {}, "it holds card of its host"},
		{estate.Guest{State: estate.Running, Networks: []string{"m"}}, func() {},
			"no other host that answers has its network m"},
		{estate.Guest{State: estate.Running, Networks: []string{"n"}}, func() {
			e.Readings["y"].Closed = &estate.Mark{}
		}, "no other host that answers has its network n"},
		{estate.Guest{State: estate.Running, Networks: []string{"n"}}, func() {
			delete(e.Readings, "y")
		}, "no other host that answers has its network n"},
	} {
		c.do()
		if got := e.Stays("x", &c.guest); got != c.why {
			t.Errorf("%+v: %q, want %q", c.guest, got, c.why)
		}
	}
}

func TestHowHostsStandToClauses(t *testing.T) {
	e := anEstate(
		map[string][]string{
			"x": {"deb:a:behind", "deb:b:fine"},
			"y": {"deb:a:fine", "deb:b:unread"},
			"z": {"deb:a:behind", "deb:b:excepted"},
		},
	)
	got := e.Standings("b")
	if a := got[1]; a.Drift != 2 || a.InLine != 1 || !slices.Equal(a.Hosts, []string{"x", "z"}) {
		t.Errorf("%+v", a)
	}
	if b := got[2]; b.Unread != 1 || b.Excepted+b.Idle != 1 || b.InLine != 1 || len(b.Hosts) != 0 {
		t.Errorf("%+v", b)
	}
	if len(e.Standings("other")) != 0 {
		t.Error("another baseline has its standings")
	}
	if out := e.OutOfLine("b", filter(t, "host=z")); len(out) != 1 || out[0].Host != "z" {
		t.Errorf("%+v", out)
	}
}

func TestDisputesNameBothEnds(t *testing.T) {
	e := anEstate(map[string][]string{"x": {"deb:a:disputed"}})
	e.Verdicts["x"][0].Clause.Against = []baseline.Rival{{Baseline: "other", Wants: "exactly 2"}}
	for _, name := range []string{"b", "other"} {
		if got := e.Disputes(name); len(got) != 1 || !strings.Contains(got[0], "b wants") ||
			!strings.Contains(got[0], "other wants exactly 2") {
			t.Errorf("%s: %q", name, got)
		}
	}
	if got := e.Disputes("third"); len(got) != 0 {
		t.Errorf("%q", got)
	}
}

// aPlan is two visits of an hour, one after the other, the second without its host being emptied.
func aPlan() *plan.Plan {
	steps := []plan.Stretch{
		{Step: act.StageStep, Middle: 10 * time.Minute},
		{Step: act.DrainStep, Middle: 20 * time.Minute},
		{Step: act.ChangeStep, Middle: 30 * time.Minute},
	}
	return &plan.Plan{
		Made: now,
		Load: 0.3,
		Visits: []plan.Visit{
			{Host: "x", Empties: true, Load: 0.45, Limit: 0.6, Steps: steps},
			{Host: "y", Load: 0.9, Limit: 0.1, Steps: steps},
		},
		Aside: []plan.Aside{{Host: "z", InLine: true, Why: "in line"}, {Host: "w", Why: "never read"}},
	}
}

func TestTheLanesOfAPlan(t *testing.T) {
	l := Planned(aPlan(), []string{"w"}, 0.8)
	var got []string
	for _, lane := range l.Lanes {
		got = append(got, fmt.Sprintf("%s %s %d", lane.Host, lane.State, len(lane.Spans)))
	}
	if want := []string{"x ready 3", "y ready 3", "w left out 0", "z in line 0"}; !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	var tide []string
	for _, v := range l.Tide {
		tide = append(tide, fmt.Sprintf("%s-%s %.2f of %.2f %s", v.From.Format("15:04"), v.To.Format("15:04"),
			v.Load, v.Limit, v.Out))
	}
	if want := []string{"20:00-20:10 0.30 of 0.80 ", "20:10-21:00 0.45 of 0.60 x",
		"21:00-22:00 0.30 of 0.80 "}; !slices.Equal(tide, want) {
		t.Errorf("%q", tide)
	}
	if tight, ok := l.Tightest(); !ok || tight.Out != "x" {
		t.Errorf("%+v", tight)
	}
	if l.Follow() != "x" {
		t.Errorf("it follows %q", l.Follow())
	}
}

// Where two hosts are out at once, the tighter of the two is what counts.
func TestTheTighterOfTwoHostsThatAreOut(t *testing.T) {
	p := aPlan()
	p.Visits[1].Empties, p.Visits[1].Load, p.Visits[1].Limit = true, 0.5, 0.55
	s := course.Forecast(p)
	for i := range s.Visits[1].Spans {
		s.Visits[1].Spans[i].From, s.Visits[1].Spans[i].To = s.Visits[0].Spans[i].From, s.Visits[0].Spans[i].To
	}
	s.Status = course.Finished
	l := Went(s, now.Add(time.Hour), nil, 0.8)
	if tight, ok := l.Tightest(); !ok || tight.Out != "y" || tight.Load != 0.5 {
		t.Errorf("%+v", tight)
	}
}

func TestTheLanesOfARoundThatFailed(t *testing.T) {
	failed := now.Add(20 * time.Minute)
	s := &course.State{Status: course.Failing, Started: now, Ended: now.Add(time.Hour), Visits: []course.Visit{
		{
			Visit:   plan.Visit{Host: "x", Changes: []act.Change{{Component: "deb:k", From: "1", To: "2"}}},
			Phase:   course.Working,
			Failure: &course.Failure{Error: "no answer", Remedy: "look", At: failed},
			Spans: []course.Span{
				{Step: act.CloseStep, From: now, To: now.Add(time.Minute)},
				{Step: act.RestartStep, From: now.Add(time.Minute), To: now.Add(time.Hour), Failed: true},
			},
		},
		{Visit: plan.Visit{Host: "y", Steps: aPlan().Visits[0].Steps}, Phase: course.Waiting}}}
	l := Went(s, now.Add(9*time.Hour),
		[]course.Said{{Host: "y", Says: "waits for x"}, {Host: "x", Act: "1", Says: "not what it waits for"}}, 0)
	x := l.Lanes[0]
	if n := len(x.Spans); n != 3 || !x.Spans[1].To.Equal(failed) || !x.Spans[1].Failed || x.Spans[2].Step != "" ||
		!x.Spans[2].From.Equal(failed) ||
		!x.Spans[2].To.Equal(s.Ended) {
		t.Errorf("%+v", x.Spans)
	}
	if x.State != "FAILED" || x.Waits != "" || l.Lanes[1].Waits != "waits for x" || !l.Now.Equal(s.Ended) ||
		l.Follow() != "x" {
		t.Errorf("%+v, now %v", l.Lanes, l.Now)
	}
	if n := len(l.Lanes[1].Spans); n != 3 || !l.Lanes[1].Spans[0].Expected || !l.To.Equal(s.Ended.Add(time.Hour)) {
		t.Errorf("what is to come: %+v until %v", l.Lanes[1].Spans, l.To)
	}
	r := Results(s, now.Add(9*time.Hour))
	if r[0].Took != 20*time.Minute || r[0].Longest != act.RestartStep || r[0].LongestTook != 19*time.Minute ||
		r[0].Needs != "no answer" ||
		r[0].Remedy != "look" ||
		len(r[0].Missed) != 1 ||
		len(r[0].Changed) != 0 {
		t.Errorf("%+v", r[0])
	}
	if r[1].Took != 0 || r[1].Planned != time.Hour || r[1].Longest != "" {
		t.Errorf("%+v", r[1])
	}
}

func TestTheLogLeavesOutWhatOnlyAnnounces(t *testing.T) {
	a := act.Act{Kind: act.Close, Host: "x"}
	got := Log(
		[]course.Event{
			{Kind: course.Started, By: "op", Detail: "why"},
			{Kind: course.Intent, Act: &a},
			{Kind: course.Done, Act: &a},
			{Kind: course.Failed, Act: &a, Detail: "no", Remedy: "look"},
			{Kind: course.Leapt, Leap: -time.Hour},
		},
	)
	var lines []string
	for _, l := range got {
		lines = append(lines, strings.TrimSpace(l.Host+" "+l.Text))
	}
	want := []string{
		"round by op: why",
		"x close",
		"x ✗ close: no",
		"x → look",
		"the time of day was set back by 60 min",
	}
	if !slices.Equal(lines, want) {
		t.Errorf("%q", lines)
	}
}

func TestARoundIsSaidToStand(t *testing.T) {
	for says, r := range map[string]Round{
		"running":         {Runs: true, State: &course.State{Status: course.Running}},
		"interrupted":     {State: &course.State{Status: course.Running}},
		"stopping at the": {Runs: true, State: &course.State{Status: course.Running, Stop: true}},
		"pausing after":   {Runs: true, State: &course.State{Status: course.Running, Pause: true}},
		"finished":        {State: &course.State{Status: course.Finished}},
		"failed: it":      {State: &course.State{Status: course.Failing}},
		"stopped; g":      {State: &course.State{Status: course.Stopped}},
	} {
		if got, _ := r.Standing(); !strings.HasPrefix(got, says) {
			t.Errorf("%q, want %q", got, says)
		}
	}
	if (Round{}).Unfinished() || (Round{State: &course.State{Status: course.Finished}}).Unfinished() ||
		!(Round{State: &course.State{Status: course.Stopped}}).Unfinished() {
		t.Error("which rounds are unfinished")
	}
}

// When a round ends is what is before its visits, less what the step under way has taken; beside each other, where so
// many may be out, and after a soak that is to come.
func TestWhenARoundEnds(t *testing.T) {
	start := time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
	steps := []plan.Stretch{{Step: act.DrainStep, Middle: 10 * time.Minute, Pessimistic: 30 * time.Minute},
		{Step: act.RestartStep, Middle: 5 * time.Minute, Pessimistic: 10 * time.Minute}}
	visit := func(host string, phase course.Phase, spans ...course.Span) course.Visit {
		return course.Visit{Visit: plan.Visit{Host: host, Steps: steps}, Phase: phase, Spans: spans}
	}
	under := visit("b", course.Working, course.Span{Step: act.DrainStep, From: start})
	for _, c := range []struct {
		what   string
		visits []course.Visit
		brief  plan.Brief
		want   string
	}{
		{"all are done", []course.Visit{visit("a", course.Over)}, plan.Brief{}, "0s 0s"},
		{"one is drained", []course.Visit{visit("a", course.Over), under}, plan.Brief{}, "11m0s 36m0s"},
		{"one more comes", []course.Visit{under, visit("c", course.Waiting)}, plan.Brief{Out: 1}, "26m0s 1h16m0s"},
		{"beside it", []course.Visit{under, visit("c", course.Waiting)}, plan.Brief{Out: 2}, "13m0s 38m0s"},
		{"after a soak", []course.Visit{under}, plan.Brief{Trial: "b", Soak: time.Hour}, "1h11m0s 1h36m0s"},
		{"one that failed waits for a person", []course.Visit{{Visit: plan.Visit{Host: "a", Steps: steps}, Failure: &course.Failure{}}}, plan.Brief{}, "0s 0s"},
	} {
		r := Round{State: &course.State{Visits: c.visits, Plan: plan.Plan{Brief: c.brief}}}
		now := start.Add(4 * time.Minute)
		about, worst := r.Ends(now)
		if got := fmt.Sprint(about.Sub(now), " ", worst.Sub(now)); got != c.want {
			t.Errorf("%s: %s, want %s", c.what, got, c.want)
		}
	}
}

// A sentence names a few hosts and counts the others; the data names all.
func TestManyHostsAreCounted(t *testing.T) {
	var hosts []string
	for i := range 1000 {
		hosts = append(hosts, fmt.Sprint("h", i))
	}
	d := Report{Unseen: hosts, Unasked: hosts[:8], Hidden: 1}
	got := d.Says()
	if !strings.HasSuffix(got, "; never read: h0, h1, h2, h3, h4, h5, h6 and 993 more") ||
		!strings.Contains(got, "nothing was judged on h0, h1, h2, h3, h4, h5, h6, h7;") {
		t.Errorf("%s", got)
	}
}

// A plan's document tells of what is done beside the changes: temporary changes, and programs of the site's own.
func TestAPlanTellsOfWhatIsDoneBesideChanges(t *testing.T) {
	p := &plan.Plan{Brief: plan.Brief{Cluster: "c", Temporary: []act.Lent{{Setting: "vm.swappiness", To: "1"}},
		Hooks: []act.Hook{{Of: "visit", Program: "/x"}, {Of: "round", Program: "/y"}}}, Visits: []plan.Visit{{Host: "a"}}}
	text := strings.Join(visitLines(p, 0, nil), "\n")
	if !strings.Contains(text, "first   set vm.swappiness=1 for the time of the visit\n") || !strings.Contains(text, ": /x") || strings.Contains(text, "/y") {
		t.Error(text)
	}
}
