package drift

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// A scenario is a few lines about one host, knot of the cluster vts:
//
//	release KEY VERSION [track=T] [severity=S] [withdrawn] [model=M] [age=DAYS]
//	track KEY NAME PREFIX
//	clause KEY POSTURE VERSION|newest [track=T] [severity=S] [rank=N] [age=DAYS]    (a posture's blank is written "-")
//	except KEY until=DAYS
//	advisory ID KEY fixed=V severity=S              (what it says of a component)
//	members KEY VERSION KEY=VERSION…                (a release of a whole-host target)
//	guest NAME                                      (that runs)
//	held KEY service=NAME|guest=NAME                (by a process that still runs what was replaced)
//	has KEY VERSION|? [running=V] [model=M] [device=D]
//	unread SECTION
//	old SECTION
//	=> KEY VERDICT [WANTED]                         (a verdict's blank is written "-")
var scenarios = []struct{ name, text string }{
	{"behind the newest", `
		release deb:ssl 1.0
		release deb:ssl 1.1
		clause deb:ssl if-present newest
		has deb:ssl 1.0
		=> deb:ssl behind 1.1`},
	{"at the newest", `
		release deb:ssl 1.1
		clause deb:ssl at-least newest
		has deb:ssl 1.1
		=> deb:ssl in-line 1.1`},
	// C2: lacking the component means one thing under "if present" and another under "at least", and in line under
	// neither.
	{"lacking it under if present", `
		release deb:ssl 1.1
		clause deb:ssl if-present newest
		=> deb:ssl does-not-apply`},
	{"lacking it under at least", `
		release deb:ssl 1.1
		clause deb:ssl at-least newest
		=> deb:ssl absent 1.1`},
	{"lacking it under exactly", `
		clause deb:ssl exactly 1.0
		=> deb:ssl absent 1.0`},
	{"lacking what must never be there", `
		clause deb:telnetd never -
		=> deb:telnetd in-line`},
	{"having what must never be there", `
		clause deb:telnetd never -
		has deb:telnetd 0.17
		=> deb:telnetd unwanted`},
	{"later is well under at least", `
		clause deb:ssl at-least 1.0
		has deb:ssl 1.1
		=> deb:ssl in-line 1.0`},
	{"later is ahead under exactly", `
		clause deb:ssl exactly 1.0
		has deb:ssl 1.1
		=> deb:ssl ahead 1.0`},
	{"installed is not running", `
		release deb:kernel 6.2
		clause deb:kernel at-least newest
		has deb:kernel 6.2 running=6.1
		=> deb:kernel awaiting-restart 6.2`},
	{"behind goes before awaiting restart", `
		release deb:kernel 6.3
		clause deb:kernel at-least newest
		has deb:kernel 6.2 running=6.1
		=> deb:kernel behind 6.3`},
	{"newest by date is not newest on the track", `
		track fw:hba 4 4.
		track fw:hba 5 5.
		release fw:hba 4.1 track=4 age=90
		release fw:hba 4.2 track=4 age=60
		release fw:hba 5.0 track=5 age=1
		clause fw:hba if-present newest
		has fw:hba 4.1
		=> fw:hba behind 4.2`},
	{"a version that no release has still stands on its track", `
		track fw:hba 4 4.
		track fw:hba 5 5.
		release fw:hba 4.2 track=4
		release fw:hba 5.0 track=5
		clause fw:hba if-present newest
		has fw:hba 4.0.9
		=> fw:hba behind 4.2`},
	{"the clause asks for another track", `
		track fw:hba 4 4.
		track fw:hba 5 5.
		release fw:hba 4.2 track=4
		release fw:hba 5.0 track=5
		clause fw:hba if-present newest track=5
		has fw:hba 4.2
		=> fw:hba off-track 5.0`},
	{"pinned to another track", `
		track fw:hba 4 4.
		track fw:hba 5 5.
		release fw:hba 5.0 track=5
		clause fw:hba exactly 5.0
		has fw:hba 4.2
		=> fw:hba off-track 5.0`},
	{"withdrawn goes before everything that compares", `
		release fw:nic 22.1
		release fw:nic 22.2 withdrawn
		clause fw:nic if-present newest
		has fw:nic 22.2
		=> fw:nic withdrawn 22.1`},
	{"a withdrawn release is never newest", `
		release fw:nic 22.1
		release fw:nic 22.2 withdrawn
		clause fw:nic if-present newest
		has fw:nic 22.0
		=> fw:nic behind 22.1`},
	{"a release for other hardware is none", `
		release fw:nic 22.1 model=L10
		release fw:nic 23.0 model=L25
		clause fw:nic if-present newest
		has fw:nic 22.0 model=L10
		=> fw:nic behind 22.1`},
	{"severity below the clause's", `
		release deb:ssl 1.0 severity=critical
		release deb:ssl 1.1 severity=low
		clause deb:ssl if-present newest severity=high
		has deb:ssl 1.0
		=> deb:ssl in-line 1.0`},
	{"younger than the clause allows", `
		release deb:ssl 1.0 age=30
		release deb:ssl 1.1 age=3
		clause deb:ssl if-present newest age=14
		has deb:ssl 1.0
		=> deb:ssl in-line 1.0`},
	{"nothing in the catalogue to compare with", `
		clause deb:local if-present newest
		has deb:local 1.0
		=> deb:local undecided`},
	{"nothing in the catalogue to compare with, of a whole kind", `
		clause deb:* if-present newest
		has deb:local 1.0
		=> deb:local does-not-apply`},
	{"two baselines of one rank disagree", `
		clause deb:ssl exactly 1.0 rank=1
		clause deb:ssl exactly 1.1 rank=1
		has deb:ssl 1.0
		=> deb:ssl disputed`},
	{"the lower rank goes before", `
		clause deb:ssl exactly 1.1 rank=2
		clause deb:ssl exactly 1.0 rank=1
		has deb:ssl 1.0
		=> deb:ssl in-line 1.0`},
	{"a named clause goes before one for the kind", `
		release deb:ssl 1.1
		clause deb:* if-present newest rank=1
		clause deb:ssl exactly 1.0 rank=2
		has deb:ssl 1.0
		=> deb:ssl in-line 1.0`},
	{"an exception pardons until its day", `
		release deb:ssl 1.1
		clause deb:ssl at-least newest
		except deb:ssl until=3
		has deb:ssl 1.0
		=> deb:ssl excepted 1.1`},
	{"an exception that has ended pardons nothing", `
		release deb:ssl 1.1
		clause deb:ssl at-least newest
		except deb:ssl until=-1
		has deb:ssl 1.0
		=> deb:ssl behind 1.1`},
	{"an exception does not hide what is in line", `
		release deb:ssl 1.1
		clause deb:ssl at-least newest
		except deb:ssl until=3
		has deb:ssl 1.1
		=> deb:ssl in-line 1.1`},
	{"unread goes before all", `
		clause fw:nic exactly 1.0 rank=1
		clause fw:nic exactly 1.1 rank=1
		has fw:nic 1.0
		unread firmware
		=> fw:nic unread`},
	{"too old is unread", `
		clause fw:nic exactly 1.0
		has fw:nic 1.0
		old firmware
		=> fw:nic unread`},
	{"a component that was never read is not absent", `
		clause fw:nic never -
		unread firmware
		=> fw:nic unread`},
	{"a service still runs the library that was replaced", `
		release deb:ssl 1.1
		clause deb:ssl at-least newest
		has deb:ssl 1.1
		held deb:ssl service=ssh.service
		=> deb:ssl awaiting-restart 1.1`},
	{"a guest is still on the old emulator", `
		clause deb:qemu at-least 9.2
		has deb:qemu 9.2
		held deb:qemu guest=gauge-1
		=> deb:qemu awaiting-restart 9.2`},
	{"an advisory makes a release severe for who lacks it", `
		release deb:ssl 1.1
		release deb:ssl 1.2
		advisory A-1 deb:ssl fixed=1.1 severity=critical
		clause deb:ssl if-present newest severity=high
		has deb:ssl 1.0
		=> deb:ssl behind 1.1`},
	{"what is mended already makes nothing severe", `
		release deb:ssl 1.2
		advisory A-1 deb:ssl fixed=1.1 severity=critical
		clause deb:ssl if-present newest severity=high
		has deb:ssl 1.1.5
		=> deb:ssl in-line 1.1`},
	{"an advisory of low severity is none for a clause that follows high", `
		release deb:ssl 1.2
		advisory A-1 deb:ssl fixed=1.2 severity=low
		clause deb:ssl if-present newest severity=high
		has deb:ssl 1.0
		=> deb:ssl does-not-apply`},
	{"a setting at another value is unwanted, whichever sorts first", `
		clause set:iommu exactly pt
		has set:iommu off
		=> set:iommu unwanted pt`},
	{"a setting at its value", `
		clause set:iommu exactly pt
		has set:iommu pt
		=> set:iommu in-line pt`},
	{"a setting that was not read is unread", `
		clause set:iommu exactly pt
		unread settings
		=> set:iommu unread`},
	{"a component that is there at a version nobody can tell is unread, whatever is wanted of it", `
		track fw:hba 4 4.
		release fw:hba 4.2 track=4
		clause fw:hba if-present newest
		clause fw:nic at-least 1.0
		clause fw:bios exactly 2.0
		has fw:hba ?
		has fw:nic ?
		has fw:bios ?
		=> fw:bios unread
		=> fw:hba unread
		=> fw:nic unread`},
	{"one that must not be there is unwanted at any version", `
		clause deb:telnetd never -
		has deb:telnetd ?
		=> deb:telnetd unwanted`},
	{"one guest has the agent and another lacks it", `
		guest gauge-1
		guest gauge-2
		clause agent:ga at-least 2.3
		has agent:ga 2.3 device=gauge-1
		=> agent:ga@gauge-1 in-line 2.3
		=> agent:ga@gauge-2 absent 2.3`},
	{"a guest without the agent under if present", `
		guest gauge-1
		clause agent:ga if-present 2.3
		=> agent:ga@gauge-1 does-not-apply`},
	{"a machine type that is too old", `
		guest gauge-1
		clause machine:q35 if-present 9.0
		has machine:q35 8.1 device=gauge-1
		=> machine:q35@gauge-1 behind 9.0`},
	{"a whole-host target stands for its members", `
		members host:stack 2026.08 deb:kernel=6.1
		members host:stack 2026.11 deb:kernel=6.2 fw:bmc=14.6
		clause host:stack at-least newest
		has deb:kernel 6.1
		=> deb:kernel behind 6.2
		=> fw:bmc absent 14.6`},
	{"a whole-host target that nobody publishes does not vanish", `
		clause host:stack at-least newest
		=> host:stack undecided`},
	{"a clause for one model of hardware goes before one for any", `
		clause fw:nic exactly 1.0
		clause fw:nic exactly 2.0 hardware=L25
		has fw:nic 2.0 model=L25 device=a
		has fw:nic 2.0 model=L10 device=b
		=> fw:nic@a in-line 2.0
		=> fw:nic@b ahead 1.0`},
	{"a clause for hardware that is not there asks for nothing", `
		clause fw:nic at-least 2.0 hardware=L25
		=> fw:nic none`},
	{"another publisher's release is not followed", `
		release fw:nic 1.0 vendor=Corran
		release fw:nic 2.0 vendor=Lorne
		clause fw:nic if-present newest vendor=corran
		has fw:nic 1.0
		=> fw:nic in-line 1.0`},
	{"a kind that was never read is not in line", `
		clause deb:* if-present newest
		unread packages
		=> deb:* unread`},
}

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

const day = 24 * time.Hour

func TestScenarios(t *testing.T) {
	for _, s := range scenarios {
		t.Run(s.name, func(t *testing.T) {
			c, r, wants := parseScenario(t, s.text)
			got := c.Host("vts", r)
			for _, w := range wants {
				checkVerdict(t, c, r, got, w)
			}
		})
	}
}

func checkVerdict(t *testing.T, c *Checker, r *estate.Reading, got []Verdict, want []string) {
	t.Helper()
	key, device, _ := strings.Cut(want[0], "@")
	for _, v := range got {
		if string(v.Component) != key || v.Device != device {
			continue
		}
		if o := strings.ReplaceAll(want[1], "-", " "); v.Outcome.String() != o {
			t.Errorf("%s is %v, want %s\n%s", want[0], v.Outcome, o, strings.Join(c.Why("vts", v, r), "\n"))
		}
		if len(want) > 2 && v.Wants != want[2] {
			t.Errorf("%s wants %q, want %q", want[0], v.Wants, want[2])
		}
		last := strings.Join(c.Why("vts", v, r), " ")
		if !strings.Contains(last, strings.ReplaceAll(want[1], "-", " ")) {
			t.Errorf("the story never says %q: %s", want[1], last)
		}
		return
	}
	if want[1] != "none" {
		t.Errorf("no verdict on %s", want[0])
	}
}

func parseScenario(t *testing.T, text string) (*Checker, *estate.Reading, [][]string) {
	t.Helper()
	r := &estate.Reading{Host: "knot"}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s, At: now.Add(-time.Hour), Source: "test"})
	}
	cat := &catalogue.Catalogue{}
	c := &Checker{Catalogue: cat, Now: now, MaxAge: day}
	var wants [][]string
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		f := strings.Fields(line)
		opt := map[string]string{}
		for _, w := range f {
			k, v, _ := strings.Cut(w, "=")
			opt[k] = v
		}
		sev, _ := catalogue.ParseSeverity(opt["severity"])
		switch key := estate.Key(f[1]); f[0] {
		case "release":
			rel := catalogue.Release{Component: key, Version: f[2], Track: opt["track"], Severity: sev,
				Date: now.Add(-days(opt["age"])), Vendor: opt["vendor"]}
			if _, ok := opt["withdrawn"]; ok {
				rel.Withdrawn = "it loses the link"
			}
			if m := opt["model"]; m != "" {
				rel.Hardware = []string{m}
			}
			cat.Add(catalogue.Feed{Name: "test"}, []catalogue.Release{rel})
		case "track":
			cat.Add(catalogue.Feed{Name: "test"}, nil, catalogue.Track{Component: key, Name: f[2], Prefix: f[3]})
		case "clause":
			cl := baseline.Clause{Component: key, Posture: baseline.Posture(strings.ReplaceAll(f[2], "-", " ")),
				Track: opt["track"], Severity: sev, MinAge: days(opt["age"]), Vendor: opt["vendor"],
				Hardware: opt["hardware"]}
			if cl.Follow = f[3] == "newest"; !cl.Follow {
				cl.Version = f[3]
			}
			c.Baselines = append(c.Baselines,
				baseline.Baseline{Name: "b" + opt["rank"], Rank: len(opt["rank"]) * int(days(opt["rank"])/day),
					Assign: []string{"vts"}, Clauses: []baseline.Clause{cl}})
		case "except":
			c.Baselines = append(c.Baselines, baseline.Baseline{Name: "pardon", Exceptions: []baseline.Exception{
				{Component: key, Hosts: []string{"vts/knot"}, Until: now.Add(days(opt["until"])),
					Reason: "a test", By: "somebody"}},
				Assign: []string{"vts"}})
		case "has":
			ver, unread := f[2], ""
			if ver == "?" {
				ver, unread = "", "the BMC names none"
			}
			r.Components = append(r.Components,
				estate.Component{Key: key, Version: ver, Unread: unread, Running: opt["running"], Model: opt["model"],
					Device: opt["device"], Restarts: "host"})
		case "advisory":
			cat.AddAdvisories(catalogue.Feed{Name: "test"},
				[]catalogue.Advisory{{ID: f[1], Severity: sev,
					Affects: []catalogue.Affect{{Component: estate.Key(f[2]), Fixed: opt["fixed"]}}}})
		case "members":
			rel := catalogue.Release{Component: key, Version: f[2]}
			for _, m := range f[3:] {
				k, v, _ := strings.Cut(m, "=")
				rel.Members = append(rel.Members, catalogue.Requirement{Component: estate.Key(k), AtLeast: v})
			}
			cat.Add(catalogue.Feed{Name: "test"}, []catalogue.Release{rel})
		case "guest":
			r.Guests = append(r.Guests, estate.Guest{Name: f[1], State: estate.Running})
		case "held":
			for i := range r.Components {
				if r.Components[i].Key == key {
					r.Components[i].Holders = []estate.Holder{{Service: opt["service"], Guest: opt["guest"]}}
				}
			}
		case "unread":
			r.SetSection(estate.Section{Name: estate.SectionName(f[1]), Err: "the BMC does not answer"})
		case "old":
			r.SetSection(estate.Section{Name: estate.SectionName(f[1]), At: now.Add(-3 * day), Source: "test"})
		case "=>":
			wants = append(wants, f[1:])
		default:
			t.Fatalf("scenario line %q", line)
		}
	}
	r.Sort()
	return c, r, wants
}

func days(s string) time.Duration {
	d, _ := time.ParseDuration(s + "h")
	return 24 * d
}

// The memo must change nothing but the time it takes: a checker that has seen other hosts says of this one what a fresh
// one says.
func TestMemoIsNoState(t *testing.T) {
	for _, s := range scenarios {
		c, r, _ := parseScenario(t, s.text)
		first := c.Host("vts", r)
		again := c.Host("vts", r)
		for i := range first {
			if first[i].Outcome != again[i].Outcome || first[i].Wants != again[i].Wants {
				t.Errorf("%s: %v then %v", s.name, first[i].Outcome, again[i].Outcome)
			}
		}
	}
}

func TestWhyNamesTheNewerOneOnTheOtherTrack(t *testing.T) {
	c, r, _ := parseScenario(t, `
		track fw:hba 4 4.
		track fw:hba 5 5.
		release fw:hba 4.2 track=4
		release fw:hba 4.3 track=4 withdrawn
		release fw:hba 5.0 track=5
		clause fw:hba if-present newest
		has fw:hba 4.1`)
	why := strings.Join(c.Why("vts", c.Host("vts", r)[0], r), "\n")
	for _, want := range []string{"5.0 is newer still but not offered", "one does not continue the other",
		"4.3 is newer still but not offered: its publisher withdrew it", "read 21 Nov 2026 19:00"} {
		if !strings.Contains(why, want) {
			t.Errorf("the story lacks %q:\n%s", want, why)
		}
	}
}

func TestSummaryKeepsUnreadApart(t *testing.T) {
	s := Summarize([]Verdict{{Outcome: Unread}, {Outcome: NotApplying}, {Outcome: AwaitingRestart, Component: "deb:a"},
		{Outcome: InLine},
		{Outcome: Excepted}, {Outcome: Disputed, Component: "fw:a"}})
	if s.InLine != 1 || s.Unread != 1 || s.Drift != 2 || s.Aside != 2 {
		t.Errorf("%+v", s)
	}
	if s.ByLayer["platform"] != 1 || s.ByLayer["firmware"] != 1 {
		t.Errorf("by layer: %v", s.ByLayer)
	}
}

func TestSiblings(t *testing.T) {
	read := func(host, versions string) *estate.Reading {
		r := &estate.Reading{Host: host, Hardware: estate.Hardware{Model: "Quay 1"}}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: now})
		}
		for i, v := range strings.Fields(versions) {
			if v != "-" {
				r.Components = append(r.Components,
					estate.Component{Key: estate.Key("deb:" + string(rune('a'+i))), Version: v})
			}
		}
		return r
	}
	silent := &estate.Reading{Host: "heron", Hardware: estate.Hardware{Model: "Quay 1"}}
	got := CompareSiblings([]*estate.Reading{read("knot", "1 1 1"), read("ibis", "1 2 1"), read("ruff", "1 1 1"),
		read("stint", "1 1 -"), silent})
	if len(got) != 1 || len(got[0].Unread) != 1 {
		t.Fatalf("%+v", got)
	}
	if g := got[0].Groups; len(g) != 3 || strings.Join(g[0], " ") != "knot ruff" {
		t.Errorf("groups: %v", g)
	}
	if d := got[0].Differences; len(d) != 2 || d[0].Component != "deb:b" || d[1].Versions[""][0] != "stint" {
		t.Errorf("differences: %+v", d)
	}
}

// Each reading is a line of "component=version"; "!" marks one whose packages could not be read.
func TestLife(t *testing.T) {
	var rs []*estate.Reading
	for i, line := range []string{"deb:a=1 deb:b=1", "deb:a=1 deb:b=1", "deb:a=2 deb:b=1", "!", "deb:a=2 deb:c=1",
		"deb:a=1 deb:c=1"} {
		r := &estate.Reading{Host: "knot"}
		section := estate.Section{Name: estate.Packages, At: now.Add(time.Duration(i) * time.Hour)}
		for _, w := range strings.Fields(line) {
			if w == "!" {
				section.Err = "no route"
				break
			}
			k, v, _ := strings.Cut(w, "=")
			r.Components = append(r.Components, estate.Component{Key: estate.Key(k), Version: v})
		}
		r.SetSection(section)
		rs = append(rs, r)
	}
	var got []string
	for _, e := range Life(rs) {
		got = append(got, e.At.Format("15")+" "+e.Title()+" "+e.From+">"+e.To)
	}
	want := "01 deb:a 2>1; 00 deb:b 1>; 00 deb:c >1; 22 deb:a 1>2"
	if s := strings.Join(got, "; "); s != want {
		t.Errorf("got  %s\nwant %s", s, want)
	}
}

// However hardware is spelled, what is said of it binds: clauses, releases, withdrawals and compatibility lists.
func TestHardwareIsKnownHoweverItIsSpelled(t *testing.T) {
	cat := &catalogue.Catalogue{}
	cat.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{{Component: "fw:n", Version: "2", Hardware: []string{"LORNE  L25"}},
		{Component: "fw:n", Version: "3", Hardware: []string{"lorne l25"}},
		{Component: "fw:n", Version: "3", Hardware: []string{" Lorne L25"}, Withdrawn: "it hangs"}})
	cat.AddPairings([]catalogue.Pairing{{List: "l", Hardware: "lorne L25 ", With: []catalogue.Within{{Component: "fw:n", From: "9"}}}})
	r := &estate.Reading{Host: "h", Components: []estate.Component{{Key: "fw:n", Version: "1", Model: "Lorne L25"}}}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s, At: now})
	}
	c := Checker{Catalogue: cat, Now: now, Baselines: []baseline.Baseline{{Name: "b", Assign: []string{"c"}, Clauses: []baseline.Clause{
		{Component: "fw:n", Posture: baseline.IfPresent, Follow: true, Hardware: "lorne l25"}}}}}
	if vs := c.Host("c", r); len(vs) != 1 || vs[0].Outcome != Behind || vs[0].Wants != "2" {
		t.Errorf("%+v", vs)
	}
	held := Hold([]estate.Cluster{{Name: "c", Hosts: []string{"h"}}}, map[string]*estate.Reading{"h": r}, now, 0)
	for _, x := range []struct {
		key    estate.Key
		models []string
		has    bool
	}{{"fw:n", nil, true}, {"fw:n", []string{"L5", "lorne  L25"}, true}, {"fw:n", []string{"L5"}, false}, {"fw:m", nil, false}} {
		if held.Has(x.key, x.models) != x.has {
			t.Errorf("%s on %v: %v", x.key, x.models, !x.has)
		}
	}
	if ms := cat.Mismatches("", r.Models(), catalogue.HeldBy(r)); len(ms) != 1 || ms[0].Hardware != "Lorne L25" {
		t.Errorf("%+v", ms)
	}
}
