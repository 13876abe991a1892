package tui

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/mattn/go-runewidth"

	"yareharbour/core/baseline"
	"yareharbour/core/brief"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part/parttest"
)

var now = parttest.Now

// fake is a desk that answers at once and counts.
type fake struct {
	snap  *view.Estate
	plan  *plan.Plan
	err   error
	calls []string
}

func (f *fake) Logbook(context.Context, harbour.Period) (view.Logbook, error) {
	return view.Logbook{}, nil
}

func (f *fake) Journal(context.Context, string, string) (view.Round, error) { return view.Round{}, nil }

func (f *fake) note(what string) error { f.calls = append(f.calls, what); return f.err }

func (f *fake) View(context.Context) (*view.Estate, error)              { return f.snap, f.err }
func (f *fake) Foresee(context.Context, *view.Estate) (bool, error)     { return false, f.err }
func (f *fake) Look(context.Context, []string, func(string, int)) error { return nil } // from a goroutine of its own
func (f *fake) Usual(cluster string) (plan.Brief, error) {
	return plan.DefaultBrief(estate.Cluster{Name: cluster}), f.err
}
func (f *fake) ReadBrief(_, cluster string) (b, usual plan.Brief, err error) {
	b, err = f.Usual(cluster)
	return b, b, err
}
func (f *fake) WriteBrief(plan.Brief) ([]byte, error) { return nil, f.note("brief") }
func (f *fake) FetchPlanned(context.Context, *plan.Plan, func(string)) (string, error) {
	return "", f.note("fetch planned")
}
func (f *fake) Gather(_ context.Context, b plan.Brief) (*plan.Input, error) {
	return &plan.Input{Brief: b, Now: now, Cluster: f.snap.Survey.Bands[0].Cluster}, f.err
}
func (f *fake) Make(in plan.Input) (*plan.Plan, error) {
	return f.plan, f.note(strings.Join(append([]string{"plan"},
		brief.Words(in.Brief, plan.DefaultBrief(estate.Cluster{Name: in.Brief.Cluster}))...), " "))
}
func (f *fake) Waive(_ context.Context, c string, of []precheck.Answer, reason string, lasts time.Duration) ([]precheck.Waiver, error) {
	return nil, f.note(fmt.Sprintf("waive %s of %d hosts of %s for %s: %s", of[0].Check, len(of), c, lasts, reason))
}
func (f *fake) TakeBack(_ context.Context, c string, of []precheck.Waiver) error {
	return f.note(fmt.Sprintf("take back %d waivers of %s", len(of), c))
}
func (f *fake) LaunchStaging(context.Context, *plan.Plan) error { return nil }

func (f *fake) LaunchRound(_ context.Context, p *plan.Plan, reason string) error {
	return f.note(fmt.Sprintf("start a plan of %d visits %s", len(p.Visits), reason))
}
func (f *fake) Missing(_ context.Context, c string) (hosts, lines []string, err error) {
	return []string{"c0h000", "c0h003"}, []string{"c0h000, c0h003: /var/lib/yare: a directory"},
		f.note("missing on " + c)
}
func (f *fake) Prepare(_ context.Context, hosts []string, done func(string)) error {
	for _, h := range hosts {
		done(h)
	}
	return f.note("prepare " + strings.Join(hosts, " "))
}
func (f *fake) LaunchResume(_ context.Context, c string) error { return f.note("resume " + c) }
func (f *fake) LaunchDecision(_ context.Context, c string, w course.Way, reason string) error {
	return f.note(w.Asks + " " + c + ": " + reason)
}
func (f *fake) LaunchWork(_ context.Context, does plan.Does, host, reason string, options ...string) error {
	return f.note(strings.Join(append([]string{string(does), host, reason}, options...), " "))
}
func (f *fake) Request(_ context.Context, c, what, host string) (string, error) {
	return what, f.note(strings.TrimSpace(what + " " + c + " " + host))
}

// model is the screens at a desk, loaded, at a size.
func model(t testing.TB, f *fake, w, h int) *Model {
	m := New(t.Context(), f, Options{Fixed: true})
	m.Update(tea.WindowSizeMsg{Width: w, Height: h})
	m.due = time.Now() // nothing is synced behind the test's back
	settle(m, m.heard(loadedMsg{view: f.snap, err: f.err}))
	return m
}

// press sends keys and carries out what they lead to.
func press(m *Model, keys ...string) {
	for _, k := range keys {
		msg := tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}
		if code, ok := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "tab": tea.KeyTab, "up": tea.KeyUp,
			"down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight, "backspace": tea.KeyBackspace,
			"space": tea.KeySpace, "end": tea.KeyEnd}[k]; ok {
			msg = tea.KeyPressMsg{Code: code}
		}
		_, cmd := m.Update(msg)
		settle(m, cmd)
	}
}

// settle carries a command out, and all that it leads to.
func settle(m *Model, cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	switch msg := cmd().(type) {
	case nil, tickMsg, tea.QuitMsg:
	case tea.BatchMsg:
		for _, c := range msg {
			settle(m, c)
		}
	default:
		_, next := m.Update(msg)
		settle(m, next)
	}
}

// ctrl presses a key with Ctrl held.
func ctrl(m *Model, k rune) {
	_, cmd := m.Update(tea.KeyPressMsg{Code: k, Mod: tea.ModCtrl})
	settle(m, cmd)
}

// enter types a text.
func enter(m *Model, text string) {
	for _, r := range text {
		_, cmd := m.Update(tea.KeyPressMsg{Text: string(r), Code: r})
		settle(m, cmd)
	}
}

// click presses the mouse where the text stands first, so many cells into it.
func click(t *testing.T, m *Model, what string) {
	t.Helper()
	for y, row := range strings.Split(text(m), "\n") {
		if i := strings.Index(row, what); i >= 0 {
			_, cmd := m.Update(tea.MouseClickMsg{X: runewidth.StringWidth(row[:i]), Y: y, Button: tea.MouseLeft})
			settle(m, cmd)
			return
		}
	}
	t.Fatalf("%q is nowhere to be clicked on:\n%s", what, text(m))
}

var escapes = regexp.MustCompile("\x1b\\[[0-9;]*m")

func text(m *Model) string { return escapes.ReplaceAllString(m.View().Content, "") }

func shows(t *testing.T, m *Model, what ...string) {
	t.Helper()
	got := text(m)
	for _, w := range what {
		if !strings.Contains(got, w) {
			t.Errorf("%q is not shown:\n%s", w, got)
		}
	}
}

func hides(t *testing.T, m *Model, what ...string) {
	t.Helper()
	got := text(m)
	for _, w := range what {
		if strings.Contains(got, w) {
			t.Errorf("%q is shown:\n%s", w, got)
		}
	}
}

// on tells on which screen one stands.
func on(m *Model) string { return m.top().Place().Screen }

func last(f *fake) string {
	if len(f.calls) == 0 {
		return ""
	}
	return f.calls[len(f.calls)-1]
}

// written tells which files there are in the working directory.
func written(t *testing.T, want ...string) {
	t.Helper()
	all, err := filepath.Glob("*")
	if err != nil || !slices.Equal(all, want) {
		t.Errorf("written were %v, want %v: %v", all, want, err)
	}
}

func (f *fake) Past(_ context.Context, host string) (view.Past, error) {
	return view.Past{
		Life:  view.Life("c0h000", []drift.Turn{{At: now, Component: "fw:nic", From: "0.9", To: "1"}}, nil, nil),
		Spans: []drift.Span{{Component: "fw:nic", Version: "1", First: now, Last: now, Now: true}},
	}, f.err
}
func (f *fake) Compare(_ context.Context, a, b string) (view.Comparison, error) {
	return view.Comparison{
		FromName: a,
		ToName:   b,
		From:     &estate.Reading{},
		To:       &estate.Reading{},
		Comparison: drift.Comparison{
			Turns:  []drift.Turn{{Component: "fw:nic", From: "1", To: "2"}},
			Unread: []estate.SectionName{estate.HealthItems},
		},
	}, f.note("compare " + a + " " + b)
}
func (f *fake) Amend(b view.Baseline, w baseline.Wish) (text string, line int, err error) {
	return b.Text, 1, f.note("amend " + b.Name + ": " + w.Says)
}
func (f *fake) MarkSeen(_ context.Context, c string) error { return f.note("looked " + c) }
func (f *fake) KeepFilter(_ context.Context, name, text string) error {
	return f.note("keep @" + name + " " + text)
}
func (f *fake) Sync(_ context.Context, w harbour.Which, says func(string)) ([]harbour.Synced, error) {
	says("half")
	return []harbour.Synced{{Name: "mirror", Changed: true}}, f.note("sync " + strings.Join(w.Names, ","))
}
func (f *fake) Schedule(_ context.Context, feed, s string) (string, error) {
	return feed + " is synced " + s + " from now on", f.note("schedule " + feed + " " + s)
}
func (f *fake) Open(_ context.Context, file string, by harbour.Signed, _ func(string)) (*harbour.Opened, error) {
	b := catalogue.Bundle{Name: file, ID: "0123456789ab", Releases: 1,
		Files: []catalogue.BundleFile{{Path: "a/releases.yaml", Kind: "release list", Says: "fw:nic 3"}}}
	return &harbour.Opened{Bundle: b, NewReleases: 1}, f.note(strings.TrimSpace("open " + file + " " + strings.Join(by.Keyrings, " ")))
}
func (f *fake) TakeIn(_ context.Context, o *harbour.Opened, _ func(string)) (bool, error) {
	return false, f.note("accept " + o.Name)
}
func (f *fake) TakeOut(_ context.Context, id string) (catalogue.Bundle, error) {
	return catalogue.Bundle{}, f.note("remove " + id)
}
func (f *fake) Fetch(context.Context, []string, func(string)) (string, error) {
	return "fetched", f.note("fetch")
}
func (f *fake) VerifyPayloads(context.Context, func(string)) (string, []string, error) {
	return "verified", nil, f.note("verify")
}
func (f *fake) Prune(_ context.Context, rule harbour.Rule) ([]catalogue.Pruned, error) {
	return []catalogue.Pruned{{Stored: catalogue.Stored{SHA256: "ab", Size: 5}, Why: "no release names it"}},
		f.note(fmt.Sprint("prune ", rule.Unknown, rule.OlderThan, " false"))
}
func (f *fake) Drop(doomed []catalogue.Pruned) error { return f.note(fmt.Sprint("drop ", len(doomed))) }
func (f *fake) Payloads(context.Context) (view.Payloads, error) {
	return view.Payloads{Payloads: []view.Payload{{Stored: catalogue.Stored{SHA256: "ab", Size: 5}, Release: "fw:nic 2"}}}, f.note("kept")
}
func (f *fake) CompareVersions(_ context.Context, name string, from, to int) ([]baseline.Change, error) {
	return []baseline.Change{{What: "deb:k", From: "1", To: "2"}},
		f.note(fmt.Sprintf("versions of %s: %d, %d", name, from, to))
}

func (f *fake) EffectOn(
	_ context.Context,
	s *view.Estate,
	name, text string,
) (drift.Effect, []baseline.Problem, error) {
	if strings.Contains(text, "broken") {
		return drift.Effect{}, nil, errors.New("b.yaml:1:1: it is broken")
	}
	if strings.Contains(text, "misspelt") {
		return drift.Effect{}, []baseline.Problem{{Baseline: name, Line: 3, Error: true,
			Text: "there is no host misspelt"}}, nil
	}
	return drift.Effect{Worse: len(text)}, nil, nil
}
func (f *fake) SaveBaseline(_ context.Context, name, text string, after int, why string) (int, error) {
	return after + 1, f.note(fmt.Sprintf("save %s after %d: %s", name, after, why))
}
func (f *fake) VersionsOf(_ context.Context, name string) ([]view.Version, error) {
	return []view.Version{
		{
			N:       2,
			By:      "op",
			Why:     "newer",
			Text:    "baseline: b\n",
			Changes: []baseline.Change{{What: "deb:k", From: "1", To: "2"}},
		},
		{N: 1, By: "op", Why: "first", Text: "baseline: b\nold\n"},
	}, f.err
}
func (f *fake) RemoveBaseline(_ context.Context, name string) error {
	return f.note("remove baseline " + name)
}
func (f *fake) Begin(_ context.Context, of harbour.Beginning) (string, string, error) {
	host := of.Like
	return "like-" + host, "baseline: like-" + host + "\n", f.note("derive " + host)
}
