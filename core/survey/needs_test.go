package survey

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
	"yareharbour/core/fit"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// told are the needs, each "URGENCY HOST: TEXT".
func told(in Input) (out []string) {
	for _, n := range Make(in).Needs {
		out = append(out, fmt.Sprintf("%d %s: %s", n.Urgency, n.Host, n.Text))
	}
	return out
}

// roomy is an estate in which every host can be drained.
func roomy() Input {
	in := input()
	in.Estate.Clusters[0].Reserve = 0
	return in
}

// What a person is told of a host, and how urgent it is: each by itself.
func TestWhatNeedsAPerson(t *testing.T) {
	of := func(o drift.Outcome) func(*Input) {
		return func(in *Input) { in.Verdicts["a"] = []drift.Verdict{verdict(o, 0)} }
	}
	cond := func(change func(*estate.Condition)) func(*Input) {
		return func(in *Input) { change(&in.Readings["a"].Condition) }
	}
	for _, c := range []struct {
		what   string
		change func(*Input)
		want   string
	}{
		{"nothing", func(*Input) {}, ""},
		{"withdrawn", of(drift.Withdrawn), "1 a: withdrawn release"},
		{"unread", of(drift.Unread), "1 a: something is unread"},
		{"half installed", of(drift.HalfInstalled), "1 a: a package is half installed"},
		{"disputed", of(drift.Disputed), "2 a: baselines disagree"},
		{"off track", of(drift.OffTrack), "2 a: off its track"},
		{"ahead", of(drift.Ahead), "2 a: ahead of its baseline"},
		{"just behind", of(drift.Behind), ""},
		{"critical", func(in *Input) {
			in.Verdicts["a"] = []drift.Verdict{verdict(drift.Behind, catalogue.Critical)}
		}, "0 a: critical release missing"},
		{"a fan", func(in *Input) {
			in.Readings["a"].Health = []estate.Health{{Item: "fan 1", Detail: "stands"}, {Item: "fan 2", OK: true}}
		}, "1 a: fan 1: stands"},
		{"a fan, some time ago", func(in *Input) {
			in.MaxAge = time.Hour
			in.Readings["a"].Health = []estate.Health{{Item: "fan 1", Detail: "stands"}}
			in.Readings["a"].SetSection(estate.Section{Name: estate.HealthItems, At: now.Add(-2 * time.Hour)})
		}, "1 a: fan 1: stands (last known)"},
		{"some health", func(in *Input) {
			in.Readings["a"].SetSection(estate.Section{Name: estate.HealthItems, At: now,
				Partial: "the fans are silent"})
		}, "1 a: its health was not all read: the fans are silent"},
		{"no BMC is named", func(in *Input) {
			in.Readings["a"].BMC.None = true
			in.Readings["a"].SetSection(estate.Section{Name: estate.HealthItems, Err: "nobody to ask"})
		}, ""},
		{"an array", cond(func(c *estate.Condition) {
			c.Arrays = []estate.Array{{Name: "md0", Detail: "recovery at 3 %"}, {Name: "md1", Whole: true}}
		}), "1 a: md0: recovery at 3 %"},
		{"a link", cond(func(c *estate.Condition) {
			c.Bonds = []estate.Bond{{Name: "bond0", Links: []estate.Link{{Name: "x", Up: true}, {Name: "y"}}}}
		}), "1 a: bond0: x up, y down"},
		{"a worn disk, and one that does not tell", cond(func(c *estate.Condition) {
			c.Wear = []estate.Wear{{Name: "sda", Used: 95}, {Name: "sdb", Unread: "no smartctl"}}
		}), "1 a: wear of sda: 95 % of its life is used"},
		{"an array of before, where nothing was read now", func(in *Input) {
			in.Readings["a"].Condition.Arrays = []estate.Array{{Name: "md0"}}
			in.Readings["a"].SetSection(estate.Section{Name: estate.ConditionItems, Err: "silent"})
		}, ""},
		{"a queue", func(in *Input) { in.Readings["a"].BMC.Waiting = []estate.BMCTask{{ID: "1"}} },
			"1 a: 1 task in the BMC's queue, forgotten"},
	} {
		in := roomy()
		c.change(&in)
		if got := strings.Join(told(in), "; "); got != c.want {
			t.Errorf("%s: %q, want %q", c.what, got, c.want)
		}
	}
}

// A host is named once, however much on it is so, and never more than three of them.
func TestHostsAreNamedOnce(t *testing.T) {
	in := roomy()
	for _, h := range []string{"a", "b"} {
		in.Verdicts[h] = []drift.Verdict{verdict(drift.Ahead, 0), verdict(drift.Ahead, 0)}
	}
	if got := told(in); !slices.Equal(got, []string{"2 : ahead of its baseline on a, b"}) {
		t.Errorf("%q", got)
	}
	for n, want := range map[int]string{1: "a", 2: "a, b", 3: "a, b, c", 4: "a, b and 2 more", 5: "a, b and 3 more"} {
		if got := list([]string{"a", "b", "c", "d", "e"}[:n]); got != want {
			t.Errorf("%d: %q", n, got)
		}
	}
}

// A host that a round left closed is the round's; one on which it had not begun is whoever's closed it.
func TestWhoseAClosedHostIs(t *testing.T) {
	in := roomy()
	for _, h := range []string{"a", "b"} {
		in.Readings[h].Closed = &estate.Mark{By: "yare", Reason: "round 1", At: now}
	}
	in.Rounds["c"] = &course.State{Status: course.Failing, Detail: "a: restart failed", Visits: []course.Visit{
		{Visit: plan.Visit{Host: "a"}, Spans: []course.Span{{Step: act.CloseStep}}}, {Visit: plan.Visit{Host: "b"}}}}
	want := []string{"0 : the round failed: a: restart failed", "0 a: left closed by the round: round 1",
		"1 b: closed by yare: round 1"}
	if got := told(in); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	in.Rounds["c"].Visits[0].Phase = course.Over
	if got := told(in); len(got) != 2 || got[1] != "1 : closed by yare: round 1 on a, b" {
		t.Errorf("%q", got)
	}
	in.Verdicts["d"] = []drift.Verdict{verdict(drift.Behind, catalogue.Critical)}
	if got := told(in); got[0] != want[0] || got[1] != "0 d: critical release missing" {
		t.Errorf("what a round left does not stand first: %q", got)
	}
}

// Which hosts could not be drained is what the plan of the usual round says, once for each cause; not while a round sees
// to that, and nothing where no plan was made.
func TestWhoCantBeDrained(t *testing.T) {
	in := roomy()
	visit := func(host, check, evidence string, waived bool) plan.Visit {
		a := precheck.Answer{Check: check, Level: precheck.Blocker, Evidence: evidence}
		if waived {
			a.Waived = &precheck.Waiver{}
		}
		return plan.Visit{Host: host, Answers: []precheck.Answer{{Check: "health", Level: precheck.Clear}, a}}
	}
	if got := told(in); len(got) != 0 {
		t.Errorf("nobody planned: %q", got)
	}
	in.Plans = map[string]*plan.Plan{"c": {Brief: plan.Brief{Cluster: "c"}, Visits: []plan.Visit{
		visit("a", precheck.RoomCheck, "does not fit: too little", false), visit("b", precheck.RoomCheck, "unproven: x", false),
		visit("d", precheck.RoomCheck, "does not fit: too little", false)}}}
	want := []string{"1 : a, d can't be drained: too little", "1 b: can't be drained: unproven: x"}
	if got := told(in); !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	in.Rounds["c"], in.Runs = &course.State{Status: course.Running}, map[string]bool{"c": true}
	if got := told(in); len(got) != 0 {
		t.Errorf("while a round runs: %q", got)
	}
	in.Rounds["c"] = &course.State{Status: course.Stopped}
	in.Plans["c"].Visits = []plan.Visit{visit("a", "health", "a fan", false), visit("b", precheck.RoomCheck, "x", true)}
	if got := told(in); len(got) != 0 {
		t.Errorf("of other checks, and of a pardoned one: %q", got)
	}
}

// What is counted of a cluster: nobody is in line while a file can't be read, room is that of hosts in service, the
// reserve is the largest of them, and a cluster was read when its oldest reading was.
func TestWhatIsCounted(t *testing.T) {
	in := input()
	in.Readings["a"].Capacity = estate.Resources{MemoryMiB: 200, CPU: 0}
	in.Readings["d"].Closed = &estate.Mark{By: "op"}
	in.Verdicts["b"] = []drift.Verdict{verdict(drift.Unread, 0), verdict(drift.Unread, 0), verdict(drift.Excepted, 0),
		verdict(drift.Behind, catalogue.High), verdict(drift.Behind, catalogue.Low), verdict(drift.InLine, 0)}
	for _, s := range estate.SectionNames {
		in.Readings["b"].SetSection(estate.Section{Name: s, At: now.Add(-time.Hour)})
	}
	b := Make(in).Bands[0]
	if b.Load != 80.0/300 || b.Limit != 100.0/300 || !b.ReadAt.Equal(now.Add(-time.Hour)) ||
		b.Out != 1 || b.Unread != 1 {
		t.Errorf("%+v", b)
	}
	x := b.Berths[1]
	d := x.Depth[estate.Firmware]
	if x.Unread != 2 || x.Drift != 2 || x.Summary.InLine != 1 || d.Drift != 2 || d.InLine != 1 || d.Aside != 1 || !d.Unread ||
		d.Worst != catalogue.High {
		t.Errorf("%+v", x)
	}
	if a := b.Berths[0]; a.Memory != 0.2 || a.CPU != 10 || a.Guests.All != 1 {
		t.Errorf("%+v", a)
	}
	in.Faults = []string{"x"}
	if b := Make(in).Bands[0]; b.InLine != 0 || b.Unread != 3 || b.Berths[0].Unread != 1 || b.Berths[1].Unread != 3 {
		t.Errorf("%+v", b)
	}
	in = Input{Estate: estate.Estate{Clusters: []estate.Cluster{{Name: "c", Hosts: []string{"a"}, Reserve: 1}}},
		Now: now}
	if b := Make(in).Bands[0]; b.Load != 0 || b.Limit != 0 || !b.ReadAt.IsZero() || b.Reserve.Outcome == fit.Fits &&
		b.Out != 1 {
		t.Errorf("%+v", b)
	}
}

// Guests that rest and that nothing starts are told, and a host that was to be open by now: at once, but where somebody
// has the host still.
func TestWhatIsOwedIsTold(t *testing.T) {
	in := input()
	in.Readings["d"].Closed = &estate.Mark{By: "op", Reason: "a fan", At: in.Now.Add(-time.Hour)}
	d := course.Debt{Cluster: in.Estate.Clusters[0].Name, Host: "d", By: "op", Since: in.Now.Add(-time.Hour), Until: in.Now.Add(time.Hour),
		Acts: []act.Act{{Kind: act.Down, Guest: "db"}}}
	urgency := func(text string) Urgency {
		t.Helper()
		in.Owed = []course.Debt{d}
		needs := Make(in).Needs
		i := slices.IndexFunc(needs, func(n Need) bool { return n.Host == "d" && strings.HasPrefix(n.Text, text) })
		if i < 0 {
			t.Fatalf("%q is not told: %+v", text, needs)
		}
		return needs[i].Urgency
	}
	const rests, closed = "db is shut down since d was visited, and nothing starts it", "closed by op: a fan"
	if urgency(rests) != Soon || urgency(closed) != Soon {
		t.Error("somebody has the host still, and it is urgent")
	}
	d.Until = in.Now.Add(-time.Minute)
	if urgency(rests) != Now || urgency(closed+": it was to be open by now") != Now {
		t.Error("it was to be over by now, and is not urgent")
	}
	d.By, d.Until = "", time.Time{}
	if urgency(rests) != Now {
		t.Error("nobody has the host, and it is not urgent")
	}
}

// What is so of several hosts is shown to whoever narrows to one of them, and to nobody else.
func TestANeedOfSeveralHostsIsAboutThoseAlone(t *testing.T) {
	in := input()
	for _, h := range []string{"b", "d"} {
		in.Readings[h].SetSection(estate.Section{Name: estate.HealthItems, At: in.Now})
		in.Readings[h].Health = []estate.Health{{Item: "fan 2", Detail: "it stands still"}}
	}
	needs := Make(in).Needs
	i := slices.IndexFunc(needs, func(n Need) bool { return strings.HasPrefix(n.Text, "fan 2: it stands still on b, d") })
	if i < 0 {
		t.Fatalf("%+v", needs)
	}
	for host, want := range map[string]bool{"a": false, "b": true, "d": true} {
		f, err := narrow.Parse("host=" + host)
		if err != nil {
			t.Fatal(err)
		}
		if got := slices.ContainsFunc(needs[i].Subjects([]string{"a", "b", "d"}, in.Now), f.Lets); got != want {
			t.Errorf("narrowed to %s it is shown: %v", host, got)
		}
	}
}

// A need is narrowed by what it is about: the verdicts that it sums up, or its host. What can't be judged by the words of a
// filter stays.
func TestNeedsAreNarrowedByWhatTheyAreAbout(t *testing.T) {
	in := input()
	v := verdict(drift.Behind, catalogue.Critical)
	v.Host = "a"
	in.Verdicts["a"] = []drift.Verdict{v}
	u := drift.Verdict{Host: "b", Component: "fw:y", Outcome: drift.Unread, Clause: &baseline.Bound{}}
	in.Verdicts["b"] = []drift.Verdict{u}
	in.Readings["d"].SetSection(estate.Section{Name: estate.HealthItems, At: in.Now})
	in.Readings["d"].Health = []estate.Health{{Item: "fan 2", Detail: "it stands still"}}
	needs := Make(in).Needs
	shown := func(filter string) string {
		f, err := narrow.Parse(filter)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for i := range needs {
			if slices.ContainsFunc(needs[i].Subjects([]string{"a", "b", "d"}, in.Now), f.Lets) {
				out = append(out, needs[i].Text)
			}
		}
		return strings.Join(out, "; ")
	}
	for filter, want := range map[string][3]bool{ // the critical release on a, the unread one on b, the fan on d
		"severity=critical": {true, true, true}, "severity=critical host=a": {true, false, false},
		"verdict=behind": {true, false, true}, "verdict=unread": {false, true, true}, "vendor=corran": {false, true, true},
		"host=d": {false, false, true}, "layer=firmware": {true, true, true}, "layer=driver": {false, false, true},
		"fan": {false, false, true}, "kind=deb": {false, false, true},
	} {
		got := shown(filter)
		for i, text := range []string{"critical release missing", "something is unread", "fan 2"} {
			if strings.Contains(got, text) != want[i] {
				t.Errorf("%s: %q is there: %v", filter, text, !want[i])
			}
		}
	}
}

// What many clusters of a large estate have in common is told once, with all that it is about; what few have, and what a
// round left in the middle, is told of each; and in a small estate everything is.
func TestWhatClustersHaveInCommon(t *testing.T) {
	need := func(cluster, host, text string, on ...string) Need {
		return Need{Urgency: Now, Cluster: cluster, Host: host, Text: text + withHosts(on), on: on, See: AtDrift,
			Of: []*drift.Verdict{{Host: host}}}
	}
	left := need("e", "e9", "left closed by the round: x")
	left.First = true
	all := []Need{need("a", "a1", "never read"), need("b", "", "never read", "b1", "b2", "b3", "b4"), left, need("c", "c1", "never read"),
		need("a", "", "critical release missing", "a1", "a2"), need("d", "d1", "critical release missing")}
	for clusters, want := range map[int]string{
		4: "a a1: never read|b : never read on b1, b2 and 2 more|e e9: left closed by the round: x|c c1: never read|" +
			"a : critical release missing on a1, a2|d d1: critical release missing",
		5: "a : never read on 6 hosts|e e9: left closed by the round: x|a : critical release missing on a1, a2|d d1: critical release missing",
	} {
		var got []string
		of := 0
		for _, n := range across(slices.Clone(all), clusters) {
			got = append(got, fmt.Sprintf("%s %s: %s", n.Cluster, n.Host, n.Text))
			of += len(n.Of)
		}
		if s := strings.Join(got, "|"); s != want || of != len(all) {
			t.Errorf("of %d clusters:\n%s, want\n%s (%d verdicts)", clusters, s, want, of)
		}
	}
	if n := across(slices.Clone(all), 5)[0]; strings.Join(n.Clusters, " ") != "a b c" || len(n.Subjects(nil, time.Time{})) != 3 {
		t.Errorf("%+v", n)
	}
	noon := time.Date(2026, 11, 21, 12, 0, 0, 0, time.UTC)
	all[1].Since, all[3].Since = noon, noon.Add(-time.Hour) // of the first it is not known
	if n := across(slices.Clone(all), 5)[0]; !n.Since.Equal(noon.Add(-time.Hour)) {
		t.Errorf("since %s", n.Since)
	}
}

func withHosts(on []string) string {
	if len(on) == 0 {
		return ""
	}
	return onHosts(on)
}

// What is out of line for longer than its baseline allows is told first, by severity, with the one that is late the longest;
// what has no limit, or is within it, is not.
func TestWhatIsOverdueIsToldFirst(t *testing.T) {
	in := roomy()
	in.Verdicts["a"] = []drift.Verdict{verdict(drift.Behind, catalogue.Critical), verdict(drift.Behind, catalogue.High), verdict(drift.Behind, catalogue.Low)}
	in.Verdicts["b"] = []drift.Verdict{verdict(drift.Behind, catalogue.Critical)}
	in.Verdicts["a"][0].Host, in.Verdicts["b"][0].Host = "a", "b"
	day := func(n int) time.Time { return in.Now.AddDate(0, 0, n) }
	in.Overdue = func(v *drift.Verdict) (since, due time.Time) {
		switch {
		case v.Severity() == catalogue.Critical && v.Host == "a":
			return day(-16), day(-2)
		case v.Severity() == catalogue.Critical:
			return day(-20), day(-6)
		case v.Severity() == catalogue.High:
			return day(-20), day(1) // within it
		}
		return day(-90), time.Time{}
	}
	needs := Make(in).Needs
	if len(needs) == 0 || needs[0].Text != "overdue, severity critical on a, b: for as long as 20 days; 14 days are allowed" ||
		len(needs[0].Of) != 2 || !needs[0].Since.Equal(day(-6)) || needs[0].Urgency != Now {
		t.Errorf("%+v", needs)
	}
	for _, n := range needs[1:] {
		if strings.HasPrefix(n.Text, "overdue") {
			t.Errorf("%+v", n)
		}
	}
	in.Faults = []string{"b.yaml: it can't be read"}
	if needs := Make(in).Needs; !needs[0].First || !strings.HasPrefix(needs[1].Text, "overdue") {
		t.Errorf("what can't be trusted comes after what rests on it: %+v", needs)
	}
}
