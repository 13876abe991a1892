package editor

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
	"yareharbour/core/view"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

// app tells an effect that holds the text it was asked about, and refuses one that says "broken".
type app struct {
	effect drift.Effect
	amiss  []baseline.Problem
	saved  []string
	wrong  error
}

func (d *app) EffectOn(_ context.Context, _ *view.Estate, _, text string) (drift.Effect, []baseline.Problem, error) {
	if strings.Contains(text, "broken") {
		return drift.Effect{}, nil, errors.New("b.yaml:3:1: it is broken")
	}
	return d.effect, d.amiss, nil
}
func (d *app) SaveBaseline(_ context.Context, name, text string, after int, why string) (int, error) {
	d.saved = append(d.saved, fmt.Sprintf("%s after %d, %s: %q", name, after, why, text))
	return after + 1, d.wrong
}

func open(t *testing.T, d *app, draft part.Draft) (*parttest.Bench, *Screen) {
	s := New(t.Context(), d, part.Place{Subject: "b", What: draft})
	f := parttest.Frame()
	f.View = parttest.Estate(1, 2)
	return parttest.Open(t, s, f), s
}

func (s *Screen) types(b *parttest.Bench, text string) {
	for _, r := range text {
		b.Take(s.Type(b.Frame, tea.KeyPressMsg{Text: string(r), Code: r}))
	}
}

// What was typed is lost only after a yes; what was not changed needs none.
func TestLeaving(t *testing.T) {
	b, s := open(t, &app{}, part.Draft{Text: "baseline: b\nclauses: []\n", After: 2})
	if _, ok := s.Leave(b.Frame).(part.Left); !ok {
		t.Error("it asks, and nothing was changed")
	}
	s.types(b, "x")
	if q, ok := s.Leave(b.Frame).(part.Confirm); !ok || q.Title != "Leave without saving?" {
		t.Errorf("%+v", q)
	}
	b, s = open(t, &app{}, part.Draft{Text: "baseline: new\n"})
	if _, ok := s.Leave(b.Frame).(part.Confirm); !ok {
		t.Error("a new one is lost without a question")
	}
}

// A version needs a text that can be read, that is another one, and a reason; what is not saved is kept.
func TestSaving(t *testing.T) {
	d := &app{}
	b, s := open(t, d, part.Draft{Text: "baseline: b\nclauses: []\n", After: 2})
	if not := b.Press("ctrl+s"); not != "nothing has changed" {
		t.Errorf("%q", not)
	}
	s.types(b, "broken")
	if not := b.Press("ctrl+s"); not != "it can't be saved yet: b.yaml:3:1: it is broken" {
		t.Errorf("%q", not)
	}
	b.Shows(120, 20, "! it can't be read yet", "b.yaml:3:1: it is broken")
	s.text.SetValue("baseline: b\nrank: 2\n")
	b.Take(s.changed(b.Frame))
	if b.Press("ctrl+s"); b.Said != "a version needs a reason: it is what people will ask for" || len(d.saved) > 0 {
		t.Errorf("%q, %v", b.Said, d.saved)
	}
	b.Typed, d.wrong = "ranked", errors.New("version 3 is there already")
	if b.Press("ctrl+s"); b.Said != "not saved: version 3 is there already" || len(b.Went) > 0 {
		t.Errorf("%q, %+v", b.Said, b.Went)
	}
	d.wrong = nil
	b.Press("ctrl+s")
	if len(b.Went) != 1 || b.Went[0].Screen != part.Baselines || d.saved[1] !=
		`b after 2, ranked: "baseline: b\nrank: 2\n"` {
		t.Errorf("%+v, %q", b.Went, d.saved)
	}
	b.Take(b.Undo)
	if d.saved[2] != `b after 3, undone: ranked: "baseline: b\nclauses: []\n"` {
		t.Errorf("%q", d.saved[2])
	}
}

// An effect that was told for an earlier text is let go: what stands beside a text is of that text.
func TestALateEffectIsLetGo(t *testing.T) {
	b, s := open(t, &app{effect: drift.Effect{Better: 1}}, part.Draft{Text: "baseline: b\n", After: 2})
	was := s.turn
	late := s.changed(b.Frame)
	b.Take(effectMsg{name: "b", turn: was, err: errors.New("an old mistake")})
	b.Take(effectMsg{name: "other", turn: s.turn, err: errors.New("another's mistake")})
	b.Shows(120, 20, "computing …")
	b.Hides(120, 20, "mistake")
	b.Take(late)
	b.Shows(120, 20, "computed in")
}

func TestWhatTheTextWouldDo(t *testing.T) {
	d := &app{effect: drift.Effect{Worse: 1, Shifts: []drift.Shift{
		{Host: "c0h000", Component: "fw:nic", Before: drift.InLine, After: drift.Behind, Wants: "3"},
		{Host: "c0h001", Component: "deb:k", Before: drift.Behind, After: drift.NotBound},
	}}, amiss: []baseline.Problem{{Baseline: "b", Line: 4, Error: true, Text: "no component fw:nik"},
		{Baseline: "b", Text: "no host zz"}}}
	b, _ := open(t, d, part.Draft{Text: "baseline: b\n", After: 2})
	b.Shows(140, 30, "1 host", "! not saved until this is fixed: line 4: no component", "note: no host zz",
		"▿ c0h000", "wants 3", "→ c0h001", "(was behind)")
	b.Shows(80, 24, "baseline: b", "no component fw:nik")
}

// The cursor of a long line stays in sight, a tab is two blanks, and what is pasted comes in as it is.
func TestTyping(t *testing.T) {
	b, s := open(t, &app{}, part.Draft{Text: ""})
	b.Take(s.Type(b.Frame, tea.KeyPressMsg{Code: tea.KeyTab}))
	b.Take(s.Paste(b.Frame, "- component: fw:nic\n  # why\n"+strings.Repeat("long ", 60)+"END"))
	if got := s.text.Value(); !strings.HasPrefix(got, "  - component: fw:nic\n  # why\nlong ") {
		t.Errorf("%q", got)
	}
	b.Shows(120, 20, "END▏")
	b.Take(wheel(-9))
	if s.text.Line() != 0 {
		t.Errorf("on line %d", s.text.Line())
	}
	b.Take(wheel(1))
	if s.text.Line() != 1 {
		t.Errorf("on line %d", s.text.Line())
	}
}

// What comes back of an editor outside is shown with its effect; where it failed the text is as it was.
func TestAnEditorOutside(t *testing.T) {
	file := func(text string) string {
		name := filepath.Join(t.TempDir(), "b.yaml")
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return name
	}
	b, s := open(t, &app{}, part.Draft{Text: "baseline: b\n", After: 2})
	name := file("baseline: b\nrank: 7\n")
	b.Take(outOf(name, nil))
	if s.text.Value() != "baseline: b\nrank: 7\n" || len(b.Went) > 0 {
		t.Errorf("%q", s.text.Value())
	}
	if _, err := os.Stat(name); err == nil {
		t.Error("its file is left behind")
	}
	b.Take(outOf(file("baseline: b\nrank: 9\n"), errors.New("exit status 1")))
	if s.text.Value() != "baseline: b\nrank: 7\n" || !strings.Contains(b.Said, "the editor failed: exit status 1") {
		t.Errorf("%q, %q", s.text.Value(), b.Said)
	}
	b.Take(outOf(filepath.Join(t.TempDir(), "none"), nil))
	if !strings.Contains(b.Said, "what was edited can't be read") || s.text.Value() != "baseline: b\nrank: 7\n" {
		t.Errorf("%q, %q", s.text.Value(), b.Said)
	}
}

// A new line begins where it should, and Tab writes on as far as there is but one way to.
func TestWritingOn(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "clauses:": "  ", "  - component: deb:a": "    ", "    posture: never": "    ", "# clauses:": "", "  # a:": "  ",
		"  reason: x  ": "  ",
	} {
		if got := indent(text); got != want {
			t.Errorf("after %q: %q", text, got)
		}
	}
	for typed, want := range map[string]string{
		"cl\t": "clauses: ", "comp\t": "component: ", "  - comp\t": "  - component: ", "ex\tx": "exceptions: x",
		"component: d\t": "component: deb:k", "component: deb:k\t": "component: deb:k  ", "posture: at\t": "posture: at least",
		"posture: \t": "posture: ", "follow: \t": "follow: newest", "severity: cr\t": "severity: critical", "\t": "  ",
		"reason: cl\t": "reason: cl  ", "clauses:\n\tx": "clauses:\n    x", "a: 1\nb": "a: 1\nb", "  - a: 1\nb": "  - a: 1\n    b",
	} {
		b, s := open(t, &app{}, part.Draft{})
		for _, r := range typed {
			key := tea.KeyPressMsg{Text: string(r), Code: r}
			switch r {
			case '\t':
				key = tea.KeyPressMsg{Code: tea.KeyTab}
			case '\n':
				key = tea.KeyPressMsg{Code: tea.KeyEnter}
			}
			b.Take(s.Type(b.Frame, key))
		}
		if got := s.text.Value(); got != want {
			t.Errorf("%q: %q, want %q", typed, got, want)
		}
	}
	b, s := open(t, &app{}, part.Draft{})
	s.types(b, "posture: ")
	b.Shows(120, 20, "Tab: at least  exactly  if present  never")
	b, s = open(t, &app{}, part.Draft{Text: "a: 1\nb: 2\nc: 3\n", Line: 2})
	s.types(b, "x")
	if got := s.text.Value(); got != "a: 1\nxb: 2\nc: 3\n" {
		t.Errorf("%q", got)
	}
}
