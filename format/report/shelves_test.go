package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/ladder"
	"yareharbour/core/view"
	"yareharbour/feed"
)

// forms writes something as text, CSV and JSON and returns what came of it; CSV and JSON must be what they say.
func forms(t *testing.T, write func(*bytes.Buffer, string) error) (text string, rows [][]string, js map[string]any) {
	t.Helper()
	var a, b, c bytes.Buffer
	for f, w := range map[string]*bytes.Buffer{"text": &a, "csv": &b, "json": &c} {
		if err := write(w, f); err != nil {
			t.Fatalf("%s: %v", f, err)
		}
	}
	rows, err := csv.NewReader(&b).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	var doc any
	if err := json.Unmarshal(c.Bytes(), &doc); err != nil {
		t.Fatal(err)
	}
	if list, ok := doc.([]any); ok && len(list) > 0 {
		doc = list[0]
	}
	js, _ = doc.(map[string]any)
	return a.String(), rows, js
}

func contains(t *testing.T, text string, wants ...string) {
	t.Helper()
	for _, w := range wants {
		if !strings.Contains(text, w) {
			t.Errorf("%q is missing:\n%s", w, text)
		}
	}
}

func TestComponentsAndLadders(t *testing.T) {
	row := ladder.Row{Component: "fw:nic", Newest: []string{"4.2 (4)", "5.0 (5)"}, Releases: 3, Hosts: 7, Drift: 2,
		Severity: catalogue.High, Vendor: "Corran", Made: now}
	text, rows, js := forms(t, func(w *bytes.Buffer, f string) error { return Components(w, []ladder.Row{row}, f) })
	contains(t, text, "fw:nic", "4.2 (4), 5.0 (5)", "high", "2026-11-21", "Corran")
	if len(rows) != 2 || rows[1][0] != "fw:nic" || rows[1][9] != "2" || js["vendor"] != "Corran" ||
		js["severity"] != "high" {
		t.Errorf("%v %v", rows, js)
	}
	l := ladder.Ladder{Component: "fw:nic", Without: []string{"egret"},
		Tracks: []ladder.Track{{Name: "4", Model: "S9", Rungs: []ladder.Rung{
			{Version: "4.3", Release: &catalogue.Release{Version: "4.3", Withdrawn: "it drops the link", Date: now},
				Hosts: []string{"heron"}},
			{Version: "4.1", Hosts: []string{"ibis"}, Open: []string{"A-1"}, Wanted: []string{"b"},
				Waits: []string{"ibis"}}}}}}
	text, rows, js = forms(t, func(w *bytes.Buffer, f string) error { return Ladder(w, l, f) })
	contains(t, text, "fw:nic, track 4, for S9", "withdrawn: it drops the link", "in no feed", "affected by A-1",
		"wanted by b", "not running yet on ibis", "absent though it is wanted: egret")
	if len(rows) != 3 || rows[1][6] != "it drops the link" || js["component"] != "fw:nic" {
		t.Errorf("%v %v", rows, js)
	}
}

func TestComparisonTrendAndNews(t *testing.T) {
	reading := func(host, ver string, unread bool) *estate.Reading {
		r := &estate.Reading{Host: host, Kernel: estate.Kernel{Running: ver},
			Components: []estate.Component{{Key: "deb:ssl", Version: ver}}}
		for _, s := range estate.SectionNames {
			e := ""
			if unread && s == estate.FirmwareItems {
				e = "silent"
			}
			r.SetSection(estate.Section{Name: s, At: now, Err: e})
		}
		return r
	}
	text, rows, js := forms(t, func(w *bytes.Buffer, f string) error {
		return Comparison(w, view.Compare("heron@1d", reading("heron", "1", false), "heron",
			reading("heron", "2", true)), f)
	})
	contains(t, text, "heron of 21 Nov 2026 20:00", "deb:ssl", "running kernel", "→ 2",
		"not compared: firmware, which one of the two lacks")
	if len(rows) != 3 || js["differences"] == nil || js["unread"] == nil {
		t.Errorf("%v %v", rows, js)
	}
	same, _, _ := forms(t, func(w *bytes.Buffer, f string) error {
		return Comparison(w, view.Compare("heron@1d", reading("heron", "1", false), "heron",
			reading("heron", "1", false)), f)
	})
	contains(t, same, "nothing differs in what both hold")
	tally := drift.Tally{At: now, Drift: map[estate.Layer]int{estate.Firmware: 8}, Unread: 1, Undecided: 2, Unasked: 3, Unseen: 4,
		Hosts: 7, Adrift: 5}
	text, rows, js = forms(t, func(w *bytes.Buffer, f string) error {
		return Trend(w, "tides", []drift.Tally{tally}, f)
	})
	contains(t, text, "FIRMWARE", "5 of 7", "1 unread, 2 undecided, 3 not covered, 4 never read")
	if len(rows) != 2 || strings.Join(rows[1][7:], " ") != "1 2 7 5 3 4" || rows[1][4] != "8" || js["cluster"] != "tides" {
		t.Errorf("%v %v", rows, js)
	}
	n := NewNews("tides", drift.News{Since: now, Now: tally,
		Drift: []drift.Verdict{{Host: "heron", Component: "fw:nic", Outcome: drift.Behind, Has: "1", Wants: "2"}}})
	if len(n.News) != 1 || n.News[0].Verdict != "behind" || n.News[0].Layer != "firmware" {
		t.Errorf("%+v", n)
	}
	e := NewEffect(drift.Effect{Worse: 1,
		Shifts: []drift.Shift{{Host: "heron", Component: "fw:nic", Before: drift.NotBound, After: drift.Behind}}}, nil)
	if e.Worse != 1 || e.Shifts[0].Before != "not asked for" || e.Shifts[0].After != "behind" {
		t.Errorf("%+v", e)
	}
}

func TestBaselinesAndFeeds(t *testing.T) {
	b := baseline.Baseline{Name: "b", Rank: 3,
		Clauses: []baseline.Clause{{Component: "drv:l", Posture: baseline.Exactly, Version: "2", Hardware: "L25"}}}
	var table, js bytes.Buffer
	if err := Baseline(&table, b, "csv"); err != nil {
		t.Fatal(err)
	}
	contains(t, table.String(), "b,drv:l,L25,exactly,\"exactly 2, on a L25\"")
	if err := Baseline(&js, b, "json"); err != nil {
		t.Fatal(err)
	}
	contains(t, js.String(), `"rank": 3`, `"says": "exactly 2, on a L25"`)
	fs := Feeds([]feed.State{{Feed: feed.Feed{Name: "f", Kind: feed.RPM, At: "https://x.invalid"},
		Status:   feed.Status{Releases: 7, Error: "the server is gone", Synced: now},
		Schedule: feed.Schedule{Off: true}}})
	if len(fs) != 1 || fs[0].Sync != "off" || fs[0].Releases != 7 || fs[0].Error != "the server is gone" {
		t.Errorf("%+v", fs)
	}
}
