package export

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
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
	"yareharbour/core/ladder"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/survey"
	"yareharbour/core/view"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// anEstate is two clusters of two hosts, of which one host each is behind in one component, and one was never read.
func anEstate() *view.Estate {
	cat := &catalogue.Catalogue{}
	cat.Add(catalogue.Feed{Name: "f"},
		[]catalogue.Release{{Component: "deb:k", Version: "2", Severity: catalogue.High}})
	e := &view.Estate{
		Checker:  &drift.Checker{Catalogue: cat, Now: now},
		Readings: map[string]*estate.Reading{},
		Verdicts: map[string][]drift.Verdict{},
		Survey:   survey.Survey{Name: "Merrow Sound", At: now},
	}
	b := baseline.Baseline{
		Name: "b",
		Clauses: []baseline.Clause{
			{Line: 1, Component: "deb:k", Posture: baseline.AtLeast, Follow: true},
			{Line: 2, Component: "fw:n", Posture: baseline.IfPresent, Follow: true},
		},
	}
	b.Assign = []string{"c", "d"}
	e.Checker.Baselines = []baseline.Baseline{b}
	e.Baselines = []view.Baseline{{Baseline: b, Text: "baseline: b\n", Version: 1}}
	for _, c := range b.Assign {
		cl := estate.Cluster{Name: c, Hosts: []string{c + "1", c + "2"}}
		band := survey.Band{Cluster: cl}
		for i, h := range cl.Hosts {
			r := &estate.Reading{Host: h, Components: []estate.Component{{Key: "deb:k", Version: fmt.Sprint(i + 1)}}}
			for _, s := range []estate.SectionName{estate.Host, estate.Packages} {
				r.SetSection(estate.Section{Name: s, At: now, Source: "test"})
			}
			e.Readings[h], e.Verdicts[h] = r, e.Checker.Host(c, r)
			band.Berths = append(band.Berths, survey.Berth{Host: h, Service: survey.Open})
		}
		e.Survey.Bands = append(e.Survey.Bands, band)
	}
	return e
}

func parse(t *testing.T, text string) narrow.Filter {
	t.Helper()
	f, err := narrow.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

// What is exported of verdicts is what the view holds, no more and no less, also where the checker would say something
// else by now.
func TestAnExportSaysWhatItsViewSays(t *testing.T) {
	e := anEstate()
	e.Verdicts["c1"][0].Has = "as it was shown"
	e.Checker.Baselines = nil // whoever judged anew would find nothing
	for _, c := range []struct {
		what   view.Document
		hosts  []string
		filter string
	}{
		{view.OfEstate(e, narrow.Filter{}), []string{"c1", "c2", "d1", "d2"}, ""},
		{view.OfDrift(e, "c", narrow.Filter{}), []string{"c1", "c2"}, ""},
		{view.OfHost(e, "d1", narrow.Filter{}), []string{"d1"}, ""},
		{view.OfDrift(e, "c", parse(t, "verdict=behind")), []string{"c1", "c2"}, "verdict=behind"},
	} {
		var b bytes.Buffer
		if err := Write(&b, c.what, "json"); err != nil {
			t.Fatal(err)
		}
		var got struct {
			Verdicts []struct{ Host, Component, Verdict, Has, Wants string } `json:"verdicts"`
		}
		if err := json.Unmarshal(b.Bytes(), &got); err != nil {
			t.Fatal(err)
		}
		var said, shown []string
		for _, v := range got.Verdicts {
			said = append(said, fmt.Sprint(v.Host, v.Component, v.Verdict, v.Has, v.Wants))
		}
		for _, h := range c.hosts {
			for _, v := range e.Verdicts[h] {
				if e.Lets(parse(t, c.filter), &v) {
					shown = append(shown, fmt.Sprint(v.Host, string(v.Component), v.Outcome.String(), v.Has, v.Wants))
				}
			}
		}
		if !slices.Equal(said, shown) {
			t.Errorf("%v, %q: exported %q, shown %q", c.hosts, c.filter, said, shown)
		}
	}
}

// aRound is a round of which one host is done, one failed, and one waits.
func aRound() *course.State {
	change := act.Change{Component: "fw:nic", Device: "slot 2", From: "1", To: "2", Pass: 1, File: "nic"}
	visit := func(host string) course.Visit {
		return course.Visit{Visit: plan.Visit{Host: host, Changes: []act.Change{change}}, Phase: course.Waiting}
	}
	done, failed, waiting := visit("heron"), visit("ibis"), visit("knot")
	flash := act.Act{Kind: act.Flash, Change: &change}
	done.Phase, done.Acts = course.Over, []act.Act{{Kind: act.Move, Guest: "g", Host: "heron", To: "knot"}, flash}
	done.Spans = []course.Span{{Step: act.RestartStep, From: now, To: now.Add(5 * time.Minute)}}
	failed.Phase, failed.Owed = course.Working, []act.Act{{Kind: act.Close}}
	failed.Failure = &course.Failure{Act: &flash, Certain: true, Error: "refused", Remedy: "look at it"}
	return &course.State{Status: course.Failing, Detail: "ibis: flash failed", Started: now, Last: now, Ended: now.Add(time.Hour),
		Plan: plan.Plan{Brief: plan.Brief{Cluster: "vts", By: "me", Reason: "November"}, Floor: 1,
			Aside: []plan.Aside{{Host: "lapwing", InLine: true, Why: "in line"}}},
		Visits: []course.Visit{done, failed, waiting}}
}

// reading is one of a host at a version; with unread, its firmware is.
func reading(host, version string, unread bool) *estate.Reading {
	r := &estate.Reading{Host: host, Kernel: estate.Kernel{Running: version},
		Components: []estate.Component{{Key: "deb:ssl", Version: version}}}
	for _, s := range estate.SectionNames {
		e := ""
		if unread && s == estate.FirmwareItems {
			e = "the BMC is silent, \"again\""
		}
		r.SetSection(estate.Section{Name: s, At: now, Source: "test", Err: e})
	}
	return r
}

// documents are one of each kind, with what their texts say, how many lines their tables have, with one of them, and
// what stands in their JSON.
func documents() map[string]struct {
	d     view.Document
	says  string // apart by |
	rows  int
	line  string // of the table
	value string // apart by |
} {
	e := anEstate()
	change := act.Change{Component: "deb:k", From: "1", To: "2", Pass: 1}
	p := &plan.Plan{Made: now, Brief: plan.Brief{Cluster: "c"}, Visits: []plan.Visit{{Host: "c1", Changes: []act.Change{change},
		Steps: []plan.Stretch{{Step: act.ChangeStep, Middle: time.Minute}}}}}
	tally := drift.Tally{At: now, Drift: map[estate.Layer]int{estate.Firmware: 8}, Unread: 1, Undecided: 2, Unasked: 3, Unseen: 4,
		Hosts: 7, Adrift: 5}
	rungs := []ladder.Rung{{Version: "4.3", Release: &catalogue.Release{Version: "4.3", Withdrawn: "it drops the link", Date: now},
		Hosts: []string{"heron"}}, {Version: "4.1", Hosts: []string{"ibis"}, Open: []string{"A-1"}, Wanted: []string{"b"},
		Waits: []string{"ibis"}}}
	bundled := catalogue.Bundle{Name: "q4.zip", ID: "feedbeef", Summed: 1, Files: []catalogue.BundleFile{{Path: "a", Kind: "OSV advisory",
		Size: 2048, Says: "deb:k"}}}
	answers := []precheck.Answer{{Host: "heron", Check: "bmc", Level: precheck.Clear, Evidence: "it answers"},
		{Host: "ibis", Check: "health", Level: precheck.Blocker, Unknown: true, Evidence: "=1+1", Remedy: "look at it", At: now}}
	shift := drift.Shift{Host: "heron", Component: "fw:nic", Before: drift.NotBound, After: drift.Behind}
	debt := course.Debt{Host: "heron", Owed: []string{"it is closed", "a guest rests"}, Since: now, Until: now.Add(-time.Hour)}
	return map[string]struct {
		d     view.Document
		says  string
		rows  int
		line  string
		value string
	}{
		"waterline": {view.OfEstate(e, narrow.Filter{}), "deb:k|behind", 8, "c1,deb:k,,platform,behind,1,2,high,,", "by_cluster|never_read"},
		"drift":     {view.OfDrift(e, "c", narrow.Filter{}), "1 adrift on 1 of 2 hosts", 4, "c2,deb:k,,platform,in line,2,2,high,,", "why"},
		"host":      {view.OfHost(e, "c2", narrow.Filter{}), "in line", 2, "c2,deb:k,,platform,in line,2,2,high,,", "Merrow Sound"},
		"trend": {view.Trend{Cluster: "tides", Tallies: []drift.Tally{tally}, From: now, To: now}.Document(),
			"FIRMWARE|5 of 7|1 unread, 2 undecided, 3 not covered, 4 never read", 1, "tides,2026-11-21T20:00:00Z,0,0,8,0,0,0,0,0,0,0,1,2,7,5,3,4",
			`"cluster": "tides"`},
		"ladder": {view.OfLadder(ladder.Ladder{Component: "fw:nic", Without: []string{"egret"},
			Tracks: []ladder.Track{{Name: "4", Model: "S9", Rungs: rungs}}}),
			"fw:nic, track 4, for S9|withdrawn: it drops the link|in no feed|affected by A-1|wanted by b|not running yet on ibis|absent though it is wanted: egret",
			2, "fw:nic,S9,4,4.3,2026-11-21,,it drops the link,,,heron", `"absent_on"`},
		"components": {view.OfComponents([]ladder.Row{{Component: "fw:nic", Newest: []string{"4.2 (4)", "5.0 (5)"}, Releases: 3, Hosts: 7,
			Drift: 2, Severity: catalogue.High, Vendor: "Corran", Made: now}}), "fw:nic|4.2 (4), 5.0 (5)|high|2026-11-21|Corran",
			1, "fw:nic,4.2 (4) 5.0 (5),3,0,high,Corran,2026-11-21,,7,2", `"vendor": "Corran"`},
		"baseline":  {view.OfBaseline(e.Baselines[0], narrow.Filter{}), "baseline: b", 2, "b,deb:k,,at least,at least the newest", `"assign"`},
		"baselines": {view.OfBaselines(e.Baselines), "BASELINE|EXCEPTIONS|c, d", 1, "b,0,2,0,1,c d,", `"baseline": "b"`},
		"bundle":    {view.OfBundle(bundled, 1, 0), "2 KiB|nobody has signed that", 1, "q4.zip,a,OSV advisory,2048,,deb:k", "feedbeef"},
		"comparison": {view.Compare("heron@1d", reading("heron", "1", false), "heron", reading("heron", "2", true)).Document(),
			"heron of 21 Nov 2026 20:00|running kernel|→ 2|not compared: firmware, which one of the two lacks", 2, "deb:ssl,,1,2", `"differences"`},
		"alike": {view.Compare("heron@1d", reading("heron", "1", false), "heron", reading("heron", "1", false)).Document(),
			"nothing differs in what both hold", 0, "", `"from"`},
		"plan": {view.OfPlan(p, nil), "pass 1|carry out just this", 1, "c,1,c1,,deb:k,,1,2,1,,,", `"visits"`},
		"round": {view.OfRound(view.Round{ID: "R1", State: aRound()}), "Round R1 over vts: failed|by me: November|heron: done, 5 min, moves 1|ibis: failed, stays closed|why: refused|what next: look at it|knot: not begun|not visited\n  lapwing  in line",
			3, "R1,vts,ibis,\"failed, stays closed\",fw:nic,slot 2,1,2,1,failed", `"aside"`},
		"readings": {view.OfReadings([]*estate.Reading{reading("heron", "1", true)}), "unread: the BMC is silent|deb:ssl  1", 1,
			"heron,deb:ssl,,1,,,,,,", `"sections"`},
		"prechecks": {view.OfPrechecks(answers), "blocker, not known|→ look at it", 2, "ibis,health,blocker,yes,'=1+1,look at it,2026-11-21T20:00:00Z,,,,",
			`"level": "blocker"`},
		"news": {view.OfNews([]view.New{view.NewOf("tides", drift.News{Since: now, By: "me", Now: tally,
			Drift: []drift.Verdict{{Host: "heron", Component: "fw:nic", Outcome: drift.Behind, Has: "1", Wants: "2"}}})}),
			"tides: 1 new since|not known: 1 unread", 1, "tides,heron,fw:nic,,behind,1,2,", `"layer": "firmware"`},
		"effect": {view.OfEffect(drift.Effect{Worse: 1, Shifts: []drift.Shift{shift}}, nil), "not asked for|WOULD WANT", 1,
			"heron,fw:nic,,,not asked for,behind", `"hosts_worse": 1`},
		"feeds": {view.OfFeeds([]view.Feed{{Name: "f", Kind: "rpm", At: "https://x.invalid", Releases: 7, Error: "the server is gone", Synced: now,
			Schedule: "off"}}, now.Add(time.Hour)), "60 min ago|the server is gone|0 B", 1, "f,rpm,off,2026-11-21T20:00:00Z,7,0,0,https://x.invalid,the server is gone",
			`"sync": "off"`},
		"owed": {view.OfOwed([]course.Debt{debt}, now), "it is closed; a guest rests|the round's", 1,
			"heron,it is closed; a guest rests,the round's,2026-11-21T20:00:00Z,2026-11-21T19:00:00Z,yes,", `"host": "heron"`},
		"nothing owed": {view.OfOwed(nil, now), "nothing is owed", 0, "", "[]"},
		"no life":      {view.OfLife("heron", nil), "nothing changed on heron", 0, "", `"life": []`},
		"ways": {view.OfWays([]view.Ways{{Host: "heron", Stages: []view.Stage{{Way: "BMC", Name: "port", Found: "closed", Do: "open it"}}}}),
			"FAILS|→ open it|0 of 1 hosts", 1, "heron,BMC,port,,closed,open it", `"stage": "port"`},
		"lacks": {view.OfLacks([]view.Lacks{{Host: "heron", Items: []view.Item{{What: "/x", Why: "why"}}}, {Host: "ibis",
			Items: []view.Item{{What: "/x", Why: "why"}}}, {Host: "knot"}}), "heron, ibis\n  missing  /x  why|knot\n  takes orders as it is", 3,
			"heron,/x,,why,", `"items"`},
	}
}

// Every document says in every form what it is of.
func TestEveryDocumentInEveryForm(t *testing.T) {
	for name, c := range documents() {
		form := map[string]string{}
		for _, format := range Formats {
			var b bytes.Buffer
			if err := Write(&b, c.d, format); err != nil {
				t.Errorf("%s as %s: %v", name, format, err)
			}
			form[format] = b.String()
		}
		for format, parts := range map[string]string{"text": c.says, "json": c.value, "svg": "<?xml", "pdf": "%PDF", "html": "<!DOCTYPE html>"} {
			for _, w := range strings.Split(parts, "|") {
				if !strings.Contains(form[format], w) {
					t.Errorf("%s as %s lacks %q:\n%.1500s", name, format, w, form[format])
				}
			}
		}
		if !json.Valid([]byte(form["json"])) {
			t.Errorf("%s: %s", name, form["json"])
		}
		rows, err := csv.NewReader(strings.NewReader(form["csv"])).ReadAll()
		if err != nil || len(rows) != c.rows+1 || !strings.Contains(form["csv"], c.line+"\r\n") {
			t.Errorf("%s: %d lines (%v), and none is %q:\n%s", name, len(rows)-1, err, c.line, form["csv"])
		}
	}
}

// A list is narrowed by what its columns are called, in every form.
func TestAListIsNarrowed(t *testing.T) {
	d := view.OfComponents([]ladder.Row{{Component: "fw:nic", Severity: catalogue.High}, {Component: "deb:ssl", Severity: catalogue.Low}})
	for text, want := range map[string]string{"layer=firmware": "fw:nic", "severity=high": "fw:nic", "ssl": "deb:ssl"} {
		some := d.Narrow(parse(t, text))
		for _, format := range []string{"text", "csv", "json"} {
			var b bytes.Buffer
			if err := Write(&b, some, format); err != nil {
				t.Fatal(err)
			}
			for _, k := range []string{"fw:nic", "deb:ssl"} {
				if strings.Contains(b.String(), k) != (k == want) {
					t.Errorf("%q as %s: %s", text, format, b.String())
				}
			}
			if format == "text" && !strings.Contains(b.String(), "1 of 2 shown") {
				t.Errorf("%q hides in silence: %s", text, b.String())
			}
		}
	}
}

func TestAFileIsNamedAfterWhatItHolds(t *testing.T) {
	for want, d := range map[string]view.Document{
		"yare-drift-c-20261121-2000.csv":              {Name: "drift", Subjects: []string{"c"}},
		"yare-waterline-20261121-2000.txt":            {Name: "waterline", Subjects: []string{""}},
		"yare-compare-a_7d-.._etc_-20261121-2000.svg": {Name: "compare", Subjects: []string{"a@7d", "../etc/"}},
	} {
		format := Format(want, Formats)
		if got := FileName(d, now, format); got != want || strings.ContainsAny(got, "/ ") {
			t.Errorf("%s, want %s", got, want)
		}
	}
	if Format("x.gif", Formats) != "" || Format("csv", Formats) != "" {
		t.Error("a file's ending says what it does not")
	}
}
