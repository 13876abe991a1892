package tui

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/mattn/go-runewidth"

	"yareharbour/bundle"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/survey"
	"yareharbour/feed"
	"yareharbour/store"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

// snapshot is an estate of so many clusters and hosts, with something out of line on every third host.
func snapshot(clusters, hosts int) *Snapshot {
	cat := &catalogue.Catalogue{}
	cat.Add(catalogue.Feed{Name: "f"}, []catalogue.Release{{Component: "fw:nic", Version: "2", Severity: catalogue.Critical}, {Component: "deb:k", Version: "2"}})
	b := baseline.Baseline{Name: "b", Clauses: []baseline.Clause{{Component: "fw:nic", Posture: baseline.IfPresent, Follow: true},
		{Component: "deb:k", Posture: baseline.AtLeast, Follow: true}}}
	in := survey.Input{Estate: estate.Estate{Name: "E"}, Now: now, Readings: map[string]*estate.Reading{}, Verdicts: map[string][]drift.Verdict{}}
	for c := range clusters {
		cl := estate.Cluster{Name: fmt.Sprintf("c%d", c), Act: true}
		b.Assign = append(b.Assign, cl.Name)
		for h := range hosts {
			name := fmt.Sprintf("c%dh%03d", c, h)
			cl.Hosts = append(cl.Hosts, name)
			in.Readings[name] = aReading(name, h)
		}
		in.Estate.Clusters = append(in.Estate.Clusters, cl)
	}
	s := &Snapshot{Readings: in.Readings, Checker: &drift.Checker{Catalogue: cat, Baselines: []baseline.Baseline{b}, Now: now}, Speed: 1,
		Rounds: map[string]Round{}, Siblings: map[string][]drift.Siblings{}}
	for _, cl := range in.Estate.Clusters {
		for _, h := range cl.Hosts {
			in.Verdicts[h] = s.Checker.Host(cl.Name, in.Readings[h])
		}
	}
	s.Verdicts, s.Survey = in.Verdicts, survey.Make(in)
	s.Held = drift.Hold(in.Estate.Clusters, in.Readings, now, 0)
	s.Baselines = []Baseline{{Baseline: b, File: "b.yaml", Text: "baseline: b\nclauses: []\n", Version: 2}}
	s.Feeds = []feed.State{{Feed: feed.Feed{Name: "mirror", Kind: feed.Debian}}, {Feed: feed.Feed{Name: "beta", Kind: feed.Files}, Schedule: feed.Schedule{Off: true}}}
	s.Bundles = []bundle.Contents{{Name: "q4.zip", ID: "feedbeef", By: "op"}}
	s.News = map[string]News{"c0": {Since: now.AddDate(0, 0, -2), By: "op", Drift: in.Verdicts["c0h000"], Trend: []drift.Tally{{At: now.AddDate(0, 0, -9), Drift: map[estate.Layer]int{estate.Firmware: 4}, Hosts: 3, Adrift: 2}}}}
	s.Filters = map[string]string{"urgent": "severity=critical"}
	return s
}

func aReading(name string, n int) *estate.Reading {
	ver := "2"
	if n%3 == 0 {
		ver = "1"
	}
	r := &estate.Reading{Host: name, Capacity: estate.Resources{MemoryMiB: 1000, CPU: 1000}, Hardware: estate.Hardware{Model: "Quay 1"},
		Components: []estate.Component{{Key: "deb:k", Version: ver}, {Key: "fw:nic", Version: ver}},
		Guests:     []estate.Guest{{Name: "g-" + name, State: estate.Running, Load: estate.Resources{MemoryMiB: int64(100 + n%5*150)}}}}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s, At: now, Source: "test"})
	}
	return r
}

// fake is a backend that answers at once and counts.
type fake struct {
	snap  *Snapshot
	plan  *plan.Plan
	err   error
	calls []string
}

func (f *fake) note(what string) error { f.calls = append(f.calls, what); return f.err }

func (f *fake) Load(context.Context) (*Snapshot, error)                 { return f.snap, f.err }
func (f *fake) Read(context.Context, []string, func(string, int)) error { return nil } // from a goroutine of its own
func (f *fake) Plan(_ context.Context, _ string, w WhatIf) (*plan.Plan, error) {
	return f.plan, f.note(fmt.Sprintf("plan without %v, %d more", w.Without, w.More))
}
func (f *fake) Start(_ context.Context, c, reason string, w WhatIf) error {
	return f.note(strings.TrimSpace("start " + c + " " + reason + " " + strings.Join(w.Without, ",")))
}
func (f *fake) Resume(_ context.Context, c string) error { return f.note("resume " + c) }
func (f *fake) Ask(_ context.Context, c, what string) (string, error) {
	return what, f.note(what + " " + c)
}
func (f *fake) Write(_ context.Context, e Export) (string, error) {
	return "file", f.note(fmt.Sprintf("write %s %s %s", e.View, e.Subject, e.Format))
}

// model is the screens on a backend, loaded, at a size.
func model(t testing.TB, f *fake, w, h int) *Model {
	m := New(t.Context(), f, Options{Fixed: true})
	m.Update(tea.WindowSizeMsg{Width: w, Height: h})
	m.due = time.Now() // nothing is synced behind the test's back
	m.heard(loadedMsg{snap: f.snap, err: f.err})
	m.reading = nil
	return m
}

// press sends keys and carries out what they lead to.
func press(m *Model, keys ...string) {
	for _, k := range keys {
		msg := tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}
		if code, ok := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "tab": tea.KeyTab, "down": tea.KeyDown, "backspace": tea.KeyBackspace, "right": tea.KeyRight}[k]; ok {
			msg = tea.KeyPressMsg{Code: code}
		}
		_, cmd := m.Update(msg)
		settle(m, cmd)
	}
}

func settle(m *Model, cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case saidMsg, plannedMsg, begunMsg, goMsg, lifeOf, effectMsg, savedMsg, editMsg, leaveMsg, versionsOf, comparedMsg, jobMsg, jobEnded, openedMsg, takenMsg, doomedMsg, sheet:
		settle(m, m.heard(msg))
	case streamMsg:
		settle(m, func() tea.Msg { return msg.msg })
		settle(m, listen(msg.ch))
	case tea.BatchMsg:
		for _, c := range msg {
			settle(m, c)
		}
	}
}

var escapes = regexp.MustCompile("\x1b\\[[0-9;]*m")

func text(m *Model) string { return escapes.ReplaceAllString(m.View().Content, "") }

func TestEveryScreenFitsEverySize(t *testing.T) {
	for _, size := range [][2]int{{20, 6}, {40, 12}, {80, 24}, {120, 30}, {160, 45}, {250, 80}} {
		for _, keys := range [][]string{{}, {"tab"}, {"enter"}, {"d"}, {"r"}, {"?"}, {":"}, {"e"}, {"/", "h", "enter"}, {"c"}, {"c", "tab"}, {"c", "a"}, {"c", "i", "x", "enter"},
			{"b"}, {"b", "tab"}, {"b", "enter"}, {"d", "tab"}, {"enter", "=", "enter"}, {"c", "?"}, {"b", "?"}} {
			f := &fake{snap: snapshot(3, 9), plan: &plan.Plan{Made: now, Visits: []plan.Visit{{Host: "c0h000", Obstacle: strings.Repeat("in the way ", 30)},
				{Host: "c0h003", Steps: []plan.Stretch{{Step: plan.RestartStep, Middle: time.Hour}}}}}}
			m := model(t, f, size[0], size[1])
			press(m, keys...)
			rows := strings.Split(text(m), "\n")
			if len(rows) != size[1] {
				t.Errorf("%v %v: %d rows", size, keys, len(rows))
			}
			for _, r := range rows {
				if n := runewidth.StringWidth(r); n > size[0] {
					t.Errorf("%v %v: a row of %d cells: %q", size, keys, n, r)
				}
			}
		}
	}
}

// Without any colour every state must still be told: by its shape or its word.
func TestStatesAreToldWithoutColour(t *testing.T) {
	seen := map[string]drift.Outcome{}
	for _, o := range drift.Outcomes {
		g := signs[o].glyph
		if other, twice := seen[g]; twice {
			t.Errorf("%v and %v have one sign, %q", o, other, g)
		}
		if runewidth.StringWidth(g) != 1 {
			t.Errorf("the sign of %v is %d cells wide", o, runewidth.StringWidth(g))
		}
		seen[g] = o
	}
	steps := map[string]bool{}
	for _, s := range []plan.StepName{plan.DrainStep, plan.ChangeStep, plan.RestartStep, plan.ProveStep} {
		if steps[stepSigns[s].glyph] {
			t.Errorf("%s looks like another step", s)
		}
		steps[stepSigns[s].glyph] = true
	}
}

func TestEveryKeyIsExplained(t *testing.T) {
	for _, s := range []screenName{waterlineScreen, hostScreen, driftScreen, roundScreen, catalogueScreen, bundleScreen, baselineScreen, compareScreen} {
		m := model(t, &fake{snap: snapshot(1, 3)}, 100, 60)
		m.stack = []place{{screen: s, cluster: "c0", host: "c0h000"}}
		press(m, "?")
		help := text(m)
		for _, c := range m.available() {
			if !strings.Contains(help, c.name) {
				t.Errorf("the help of %s does not explain %q (%s)", s, c.key, c.name)
			}
		}
	}
}

func TestARoundIsStartedOnlyWithAReasonAndAYes(t *testing.T) {
	f := &fake{snap: snapshot(1, 3), plan: &plan.Plan{Visits: []plan.Visit{{Host: "c0h000"}}}}
	m := model(t, f, 120, 40)
	press(m, "r", "s", "enter")
	press(m, "s", "w", "h", "y", "enter", "n")
	for _, c := range f.calls {
		if strings.HasPrefix(c, "start") {
			t.Fatalf("started without a yes: %v", f.calls)
		}
	}
	press(m, "s", "w", "h", "y", "enter", "y")
	if last := f.calls[len(f.calls)-1]; last != "start c0 why" {
		t.Errorf("%v", f.calls)
	}
}

func TestAPlanWithAnObstacleIsNotStarted(t *testing.T) {
	f := &fake{snap: snapshot(1, 3), plan: &plan.Plan{Visits: []plan.Visit{{Host: "c0h000", Obstacle: "no room"}}}}
	m := model(t, f, 120, 40)
	press(m, "r", "s")
	if m.mode == reasoning || !strings.Contains(text(m), "the plan has obstacles") {
		t.Error(text(m))
	}
}

func TestWhatIfPlansAtOnceAndGoesIntoTheRound(t *testing.T) {
	f := &fake{snap: snapshot(1, 3), plan: &plan.Plan{Visits: []plan.Visit{{Host: "c0h000"}, {Host: "c0h002"}}}}
	m := model(t, f, 140, 40)
	press(m, "r")
	text(m)
	press(m, "down", "v", "+")
	if last := f.calls[len(f.calls)-1]; last != "plan without [c0h002], 1 more" {
		t.Errorf("%v", f.calls)
	}
	if got := text(m); !strings.Contains(got, "left out") || !strings.Contains(got, "2 hosts may be out of service") {
		t.Error(got)
	}
	press(m, "s", "w", "h", "y", "enter", "y")
	if last := f.calls[len(f.calls)-1]; last != "start c0 why c0h002" {
		t.Errorf("%v", f.calls)
	}
}

func TestErrorsAreShownAndNothingIsLost(t *testing.T) {
	f := &fake{snap: snapshot(1, 3)}
	m := model(t, f, 100, 30)
	m.heard(loadedMsg{err: errors.New("the disk is full")})
	if got := text(m); !strings.Contains(got, "the disk is full") || !strings.Contains(got, "c0h001") {
		t.Errorf("after a failed load:\n%s", got)
	}
	m = model(t, &fake{err: errors.New("no such file")}, 80, 24)
	if got := text(m); !strings.Contains(got, "The estate can't be opened.") || !strings.Contains(got, "no such file") {
		t.Errorf("failed from the start:\n%s", got)
	}
}

func TestExportsNameTheirView(t *testing.T) {
	f := &fake{snap: snapshot(2, 3)}
	m := model(t, f, 100, 30)
	press(m, "e", "s", "enter", "e", "j", "e", "s")
	want := []string{"write waterline  svg", "write host c0h000 json", "write host c0h000 svg"}
	if strings.Join(f.calls, ";") != strings.Join(want, ";") {
		t.Errorf("%v", f.calls)
	}
}

func TestAHostsLifeIsTold(t *testing.T) {
	f := &fake{snap: snapshot(1, 3)}
	m := model(t, f, 160, 45)
	press(m, "enter")
	settle(m, m.wantLife())
	if got := text(m); !strings.Contains(got, "21 Nov 20:00 fw:nic 0.9 → 1") {
		t.Error(got)
	}
}

func TestNarrowing(t *testing.T) {
	m := model(t, &fake{snap: snapshot(3, 6)}, 160, 45)
	press(m, "/", "h", "o", "s", "t", "=", "c", "1", "h", "0", "0", "2", "enter")
	got := text(m)
	if !strings.Contains(got, "c1h002") || strings.Contains(got, "c0h000") || strings.Contains(got, "c1h001") {
		t.Errorf("narrowed to c1h002:\n%s", got)
	}
	press(m, "esc")
	if !strings.Contains(text(m), "c0h000") {
		t.Error("Esc does not show all again")
	}
}

// The frame of a large estate must cost no more than that of a small one.
func BenchmarkWaterlineFrame1000Hosts(b *testing.B) {
	m := model(b, &fake{snap: snapshot(10, 100)}, 160, 45)
	for b.Loop() {
		if len(m.View().Content) < 2000 {
			b.Fatal("nothing was painted")
		}
	}
}

func BenchmarkDriftFrame500Hosts(b *testing.B) {
	m := model(b, &fake{snap: snapshot(1, 500)}, 160, 45)
	m.stack = []place{{screen: driftScreen, cluster: "c0"}}
	for b.Loop() {
		m.View()
	}
}

func BenchmarkWaterlineFrame16Hosts(b *testing.B) {
	m := model(b, &fake{snap: snapshot(3, 5)}, 160, 45)
	for b.Loop() {
		m.View()
	}
}

func (f *fake) Past(_ context.Context, host string) (Past, error) {
	return Past{Turns: []drift.Turn{{At: now, Component: "fw:nic", From: "0.9", To: "1"}}, Spans: []drift.Span{{Component: "fw:nic", Version: "1", First: now, Last: now, Now: true}}}, f.err
}
func (f *fake) Compare(_ context.Context, a, b string) (Comparison, error) {
	return Comparison{From: a, To: b, Comparison: drift.Comparison{Turns: []drift.Turn{{Component: "fw:nic", From: "1", To: "2"}}, Unread: []estate.SectionName{estate.HealthItems}}}, f.note("compare " + a + " " + b)
}
func (f *fake) Looked(_ context.Context, c string) error { return f.note("looked " + c) }
func (f *fake) KeepFilter(_ context.Context, name, text string) error {
	return f.note("keep @" + name + " " + text)
}
func (f *fake) Sync(_ context.Context, feeds []string, says func(string)) (string, error) {
	says("half")
	return "synced", f.note("sync " + strings.Join(feeds, ","))
}
func (f *fake) Schedule(_ context.Context, feed, s string) error {
	return f.note("schedule " + feed + " " + s)
}
func (f *fake) OpenBundle(_ context.Context, file, keyring string, _ func(string)) (*Opened, error) {
	b := &bundle.Bundle{Contents: bundle.Contents{Name: file, ID: "0123456789ab", Releases: 1, Files: []bundle.File{{Path: "a/releases.yaml", Kind: "release list", Says: "fw:nic 3"}}}}
	return &Opened{Bundle: b, NewReleases: 1}, f.note(strings.TrimSpace("open " + file + " " + keyring))
}
func (f *fake) Accept(_ context.Context, o *Opened, _ func(string)) error {
	return f.note("accept " + o.Name)
}
func (f *fake) RemoveBundle(_ context.Context, id string) error { return f.note("remove " + id) }
func (f *fake) Fetch(context.Context, func(string)) (string, error) {
	return "fetched", f.note("fetch")
}
func (f *fake) Verify(context.Context, func(string)) (string, error) {
	return "verified", f.note("verify")
}
func (f *fake) Prune(_ context.Context, rule string, really bool) ([]catalogue.Doomed, error) {
	return []catalogue.Doomed{{Stored: catalogue.Stored{SHA256: "ab", Size: 5}, Why: "no release names it"}}, f.note(fmt.Sprint("prune ", rule, " ", really))
}
func (f *fake) Kept(context.Context) ([]string, error) {
	return []string{"ab  5 B  fw:nic 2"}, f.note("kept")
}
func (f *fake) CompareVersions(_ context.Context, name string, from, to int) ([]baseline.Change, error) {
	return []baseline.Change{{What: "deb:k", From: "1", To: "2"}}, f.note(fmt.Sprintf("versions of %s: %d, %d", name, from, to))
}
func (f *fake) Effect(_ context.Context, s *Snapshot, name, text string) (drift.Effect, []baseline.Problem, error) {
	if strings.Contains(text, "broken") {
		return drift.Effect{}, nil, errors.New("b.yaml:1:1: it is broken")
	}
	if strings.Contains(text, "misspelt") {
		return drift.Effect{}, []baseline.Problem{{Baseline: name, Line: 3, Error: true, Text: "there is no host misspelt"}}, nil
	}
	return drift.Effect{Worse: len(text)}, nil, nil
}
func (f *fake) Save(_ context.Context, name, text string, after int, why string) error {
	return f.note(fmt.Sprintf("save %s after %d: %s", name, after, why))
}
func (f *fake) Versions(_ context.Context, name string) ([]Version, error) {
	return []Version{{Version: store.Version{Name: name, N: 2, By: "op", Why: "newer", Text: "baseline: b\n"}, Changes: []baseline.Change{{What: "deb:k", From: "1", To: "2"}}},
		{Version: store.Version{Name: name, N: 1, By: "op", Why: "first", Text: "baseline: b\nold\n"}}}, f.err
}
func (f *fake) Remove(_ context.Context, name string) error { return f.note("remove baseline " + name) }
func (f *fake) Derive(_ context.Context, host string) (string, string, error) {
	return "like-" + host, "baseline: like-" + host + "\n", f.note("derive " + host)
}
