package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
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
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

func aDrift() Drift {
	cat := &catalogue.Catalogue{}
	cat.Add(catalogue.Feed{Name: "f"},
		[]catalogue.Release{{Component: "deb:ssl", Version: "2", Severity: catalogue.Critical}})
	c := &drift.Checker{Catalogue: cat, Now: now,
		Baselines: []baseline.Baseline{{Name: "b", Assign: []string{"vts"}, Clauses: []baseline.Clause{
			{Component: "deb:ssl", Posture: baseline.AtLeast, Follow: true},
			{Component: "fw:nic", Posture: baseline.Exactly, Version: "1"}}}}}
	r := &estate.Reading{Host: "heron", Components: []estate.Component{{Key: "deb:ssl", Version: "1"}}}
	r.SetSection(estate.Section{Name: estate.Packages, At: now, Source: "test"})
	r.SetSection(estate.Section{Name: estate.FirmwareItems, At: now, Err: "the BMC is silent, \"again\""})
	return NewDrift([]estate.Cluster{{Name: "vts", Hosts: []string{"heron"}}}, c,
		map[string]*estate.Reading{"heron": r}, map[string][]drift.Verdict{"heron": c.Host("vts", r)},
		[]string{"heron"}, narrow.Filter{})
}

func TestDriftInEveryForm(t *testing.T) {
	d := aDrift()
	var text, table, js bytes.Buffer
	if err := d.Text(&text, false); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"heron", "deb:ssl", "behind", "critical",
		`unread on heron: firmware: the BMC is silent, "again"`, "0 places in line, 1 adrift on 1 of 1 host, 1 unread"} {
		if !strings.Contains(text.String(), want) {
			t.Errorf("the text lacks %q:\n%s", want, text.String())
		}
	}
	if err := d.CSV(&table); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&table).ReadAll()
	if err != nil || len(rows) != 3 || strings.Join(rows[1], ",") != "heron,deb:ssl,,platform,behind,1,2,critical" ||
		rows[2][4] != "unread" {
		t.Errorf("%v %v", rows, err)
	}
	if err := JSON(&js, d); err != nil {
		t.Fatal(err)
	}
	var back Drift
	if err := json.Unmarshal(js.Bytes(), &back); err != nil {
		t.Fatal(err)
	}
	if v := back.Verdicts[0]; v.Has != "1" || v.Wants != "2" || len(v.Why) < 3 || back.Summary.Unread != 1 ||
		back.Summary.Worst != catalogue.Critical {
		t.Errorf("%+v", back)
	}
}

func TestJoinAddsUp(t *testing.T) {
	a, b := aDrift(), aDrift()
	a.join(b)
	if len(a.Verdicts) != 4 || a.Summary.Drift != 2 || a.Summary.Unread != 2 || a.Summary.ByWord["behind"] != 2 ||
		a.Summary.ByLayer["platform"] != 2 {
		t.Errorf("%+v", a.Summary)
	}
}

func TestNoVerdictsIsAnEmptyListAndNotNull(t *testing.T) {
	var js bytes.Buffer
	c := &drift.Checker{Catalogue: &catalogue.Catalogue{}, Now: now}
	if err := JSON(&js, NewDrift(nil, c, nil, nil, nil, narrow.Filter{})); err != nil ||
		!strings.Contains(js.String(), `"verdicts": []`) {
		t.Errorf("%s %v", js.String(), err)
	}
}

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
	return &course.State{Status: course.Failing, Detail: "ibis: flash failed", Started: now, Ended: now.Add(time.Hour),
		Plan: plan.Plan{Brief: plan.Brief{Cluster: "vts", By: "me", Reason: "November"}, Floor: 1,
			Aside: []plan.Aside{{Host: "lapwing", InLine: true, Why: "in line"}}},
		Visits: []course.Visit{done, failed, waiting}}
}

func TestRoundInEveryForm(t *testing.T) {
	r := NewRound("R1", aRound())
	var text, table bytes.Buffer
	if err := r.Text(&text); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Round R1 over vts: failed", "by me: November", "heron: done, 5 min, moves 1",
		"ibis: failed, stays closed", "why: refused",
		"what next: look at it", "knot: not begun", "not visited\n   lapwing  in line"} {
		if !strings.Contains(text.String(), want) {
			t.Errorf("the text lacks %q:\n%s", want, text.String())
		}
	}
	if err := r.CSV(&table); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&table).ReadAll()
	if err != nil || len(rows) != 4 {
		t.Fatal(rows, err)
	}
	for i, want := range []string{"done", "failed", "not done"} {
		if got := rows[i+1][9]; got != want {
			t.Errorf("the change on %s is %q, want %q", rows[i+1][2], got, want)
		}
	}
}
