package baselines

import (
	"context"
	"errors"
	"strings"
	"testing"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
	"yareharbour/core/narrow"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

type app struct {
	parttest.Notes
}

func (d *app) VersionsOf(_ context.Context, name string) ([]view.Version, error) {
	return []view.Version{{N: 2, Text: "new", Why: "second"}, {N: 1, Text: "old", Why: "first"}},
		d.Note("versions of %s", name)
}
func (d *app) RemoveBaseline(_ context.Context, name string) error { return d.Note("remove %s", name) }
func (d *app) CompareVersions(_ context.Context, name string, from, to int) ([]baseline.Change, error) {
	return nil, d.Note("compare %s %d %d", name, from, to)
}
func (d *app) Begin(_ context.Context, of harbour.Beginning) (name, text string, err error) {
	host := of.Like
	return "like-" + host, "text", d.Note("derive %s", host)
}

func open(t *testing.T, change func(*view.Estate)) (*parttest.Bench, *Screen, *app) {
	d := &app{}
	s := New(t.Context(), d, part.Place{})
	f := parttest.Frame()
	f.View = parttest.Estate(1, 4)
	change(f.View)
	return parttest.Open(t, s, f), s, d
}

// That nobody is out of line by a baseline is good only where its hosts were judged and read, and nothing is hidden.
func TestWhyNobodyIsOutOfLine(t *testing.T) {
	set := func(e *view.Estate, o drift.Outcome) {
		for _, vs := range e.Verdicts {
			for i := range vs {
				vs[i].Outcome = o
			}
		}
	}
	for _, c := range []struct {
		change func(*view.Estate)
		filter string
		says   string
		good   bool
	}{
		{func(e *view.Estate) { set(e, drift.InLine) }, "", "nothing", true},
		{func(e *view.Estate) { set(e, drift.InLine); e.Verdicts["c0h001"][0].Outcome = drift.Unread }, "",
			"nothing is known to be, but 1 unread", false},
		{func(e *view.Estate) { set(e, drift.Excepted) }, "", "nothing: all of it is excepted", false},
		{func(e *view.Estate) { clear(e.Verdicts) }, "", "it says nothing of any host that was read", false},
		{func(*view.Estate) {}, "host=c0h001", "nothing that matches “host=c0h001”; 4 without it", false},
	} {
		b, s, _ := open(t, c.change)
		f, err := narrow.Parse(c.filter)
		if err != nil {
			t.Fatal(err)
		}
		b.Frame.Filter, b.Frame.Typed = f, c.filter
		b.Take(part.Shown{})
		says, role := s.noneOut(b.Frame)
		if len(s.out) != 0 || !strings.Contains(says, c.says) || (role == part.Good) != c.good {
			t.Errorf("%q: %q, good %v, %d out", c.says, says, role == part.Good, len(s.out))
		}
		b.Shows(160, 40, "out of line by it", strings.Fields(c.says)[0])
	}
}

// Keys about versions are there once the cursor is among them; the newest is not gone back to.
func TestVersions(t *testing.T) {
	b, _, d := open(t, func(*view.Estate) {})
	const noVersion = "Tab goes to the versions; this is about the one under the cursor"
	if not := b.Press("u"); not != noVersion {
		t.Errorf("%q", not)
	}
	b.Press("tab")
	if not := b.Press("u"); not != "that is what it says now" {
		t.Errorf("%q", not)
	}
	b.Step(0, 9)
	b.Press("u")
	draft, _ := b.Went[0].What.(part.Draft)
	if len(b.Went) != 1 || draft != (part.Draft{Text: "old", After: 2, Why: "back to version 1"}) {
		t.Errorf("%+v", b.Went)
	}
	b.Typed = "2"
	b.Press("=")
	if d.Did[len(d.Did)-1] != "compare b 1 2" || strings.Join(b.Sheet.Lines, "") != "they want the same" {
		t.Errorf("%v, %+v", d.Did, b.Sheet)
	}
	b.Typed = "two"
	if b.Press("="); b.Said != "two is no version" {
		t.Errorf("%q", b.Said)
	}
	b.Take(kept{"other", 9, nil}) // of a baseline that was left
	b.Shows(120, 30, "first")
}

func TestWithoutABaseline(t *testing.T) {
	b, _, d := open(t, func(e *view.Estate) { e.Baselines = nil })
	b.Shows(80, 24, "There is no baseline yet: nothing is wanted of any host.")
	for _, k := range []string{"tab", "E", "x"} {
		if not := b.Press(k); not != "there is no baseline; D begins one" {
			t.Errorf("%s: %q", k, not)
		}
	}
	if b.Enter(); b.Said != "there is no baseline to edit; D begins one" || len(b.Went) > 0 {
		t.Errorf("%q, %+v", b.Said, b.Went)
	}
	b.Step(0, 1)
	b.Pick = 2
	b.Press("D")
	b.Typed = "c0h000"
	b.Press("D")
	if len(b.Went) != 1 || b.Went[0].Subject != "like-c0h000" || strings.Join(d.Did, ";") != "derive c0h000" {
		t.Errorf("%+v, %v", b.Went, d.Did)
	}
	d.Wrong = errors.New("it was never read")
	if b.Press("D"); b.Said != "it was never read" {
		t.Errorf("%q", b.Said)
	}
	if what := b.Screen.Export(b.Frame, "csv"); what != nil {
		t.Errorf("%+v is exported", what)
	}
}

func TestTakingABaselineAway(t *testing.T) {
	b, _, d := open(t, func(*view.Estate) {})
	b.No = true
	b.Press("x")
	if b.Said != "Take the baseline b away?" || strings.Join(d.Did, ";") != "versions of b" {
		t.Errorf("%q, %v", b.Said, d.Did)
	}
	b.No = false
	b.Press("x")
	if d.Did[1] != "remove b" || b.Said != "b binds nobody any more" {
		t.Errorf("%v, %q", d.Did, b.Said)
	}
}
