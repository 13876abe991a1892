package releases

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
	"yareharbour/core/ladder"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

type app struct {
	parttest.Notes
	doomed []catalogue.Pruned
}

func (d *app) Sync(_ context.Context, w harbour.Which, _ func(string)) ([]harbour.Synced, error) {
	return []harbour.Synced{{Name: "mirror", Changed: true}}, d.Note("sync %s", strings.Join(w.Names, ","))
}
func (d *app) Schedule(_ context.Context, feed, schedule string) (string, error) {
	return feed + " is synced " + schedule + " from now on", d.Note("schedule %s %s", feed, schedule)
}
func (d *app) Open(_ context.Context, file string, by harbour.Signed, _ func(string)) (*harbour.Opened, error) {
	return &harbour.Opened{Bundle: catalogue.Bundle{Name: "q4.zip"}}, d.Note("open %q %q", file, by.Keyrings)
}
func (d *app) TakeOut(_ context.Context, id string) (catalogue.Bundle, error) {
	return catalogue.Bundle{}, d.Note("take out %s", id)
}
func (d *app) Fetch(context.Context, []string, func(string)) (string, error) {
	return "fetched", d.Note("fetch")
}
func (d *app) VerifyPayloads(context.Context, func(string)) (string, []string, error) {
	return "verified", nil, d.Note("verify")
}
func (d *app) Payloads(context.Context) (view.Payloads, error) {
	return view.Payloads{}, d.Note("list")
}
func (d *app) Prune(_ context.Context, rule harbour.Rule) ([]catalogue.Pruned, error) {
	return d.doomed, d.Note("prune %v %s", rule.Unknown, rule.OlderThan)
}
func (d *app) Drop(doomed []catalogue.Pruned) error { return d.Note("drop %d", len(doomed)) }

func open(t *testing.T, p part.Place) (*parttest.Bench, *Screen, *app) {
	d := &app{}
	s := New(t.Context(), d, p)
	f := parttest.Frame()
	f.View = parttest.Estate(1, 4)
	return parttest.Open(t, s, f), s, d
}

// The cursor begins on what the screen was opened on; what no host has and no feed knows is shown for it too.
func TestWhereTheCursorStands(t *testing.T) {
	b, s, _ := open(t, part.Place{Component: "fw:nic"})
	if s.chosen() != "fw:nic" || s.all || s.ladder.key != "fw:nic" {
		t.Errorf("on %s, all %v, ladder of %s", s.chosen(), s.all, s.ladder.key)
	}
	b.Step(0, -1)
	if s.chosen() != "deb:k" || s.ladder.key != "deb:k" {
		t.Errorf("on %s, ladder of %s", s.chosen(), s.ladder.key)
	}
	b.Take(part.Shown{})
	if s.chosen() != "deb:k" {
		t.Errorf("shown anew it is on %s", s.chosen())
	}
	if _, s, _ = open(t, part.Place{Component: "fw:unheard"}); !s.all {
		t.Error("a component that is in no list is not looked for among all")
	}
}

// A list or a ladder that comes late, after another was asked for, is let go.
func TestWhatComesLateIsLetGo(t *testing.T) {
	b, s, _ := open(t, part.Place{})
	b.Take(listed{turn: s.turn - 1, rows: nil})
	b.Take(laddered{key: "fw:other", ladder: ladder.Ladder{}})
	if len(s.listed.rows) == 0 || s.ladder.key != s.chosen() {
		t.Errorf("%d rows, ladder of %s", len(s.listed.rows), s.ladder.key)
	}
}

// Columns sort by what they show: the worst first where that is what one looks for.
func TestSorting(t *testing.T) {
	_, s, _ := open(t, part.Place{})
	s.listed.rows = []ladder.Row{
		{Component: "a", Newest: []string{"3"}, Severity: catalogue.Low, Hosts: 1, Drift: 0},
		{Component: "b", Newest: []string{"1"}, Severity: catalogue.Critical, Hosts: 2, Drift: 1},
		{Component: "c", Newest: []string{"2"}, Severity: catalogue.High, Hosts: 9, Drift: 5},
	}
	for column, want := range []string{"a b c", "b c a", "b c a", "c b a", "c b a"} {
		s.table.Sorted = column + 1
		s.sort()
		var got []string
		for i := range s.listed.rows {
			got = append(got, string(s.row(i).Component))
		}
		if strings.Join(got, " ") != want {
			t.Errorf("column %d: %v, want %s", column, got, want)
		}
	}
}

// Keys about a feed or a bundle are there once the cursor is on one, and none begins work beside work.
func TestWhichKeysThereAre(t *testing.T) {
	b, _, d := open(t, part.Place{})
	for _, k := range []string{"s", "o"} {
		if not := b.Press(k); not != "Tab goes to the feeds; this is about the one under the cursor" {
			t.Errorf("%s: %q", k, not)
		}
	}
	if not := b.Press("u"); not != "Tab goes to the bundles; u takes out the one under the cursor" {
		t.Errorf("%q", not)
	}
	b.Frame.Job = "syncing"
	for _, k := range []string{"S", "i", "f", "v"} {
		if not := b.Press(k); not != "syncing is under way; X ends it" {
			t.Errorf("%s: %q", k, not)
		}
	}
	b.Frame.Job = ""
	b.Press("tab", "s", "S", "f", "v")
	if got := strings.Join(d.Did, ";"); got != "sync mirror;sync ;fetch;verify" {
		t.Errorf("%s", got)
	}
	b.Frame.View.Feeds = []view.Feed{{Name: "beta", Off: true}}
	if b.Press("S"); b.Said != "there is no feed that is not switched off" {
		t.Errorf("%q", b.Said)
	}
}

func TestSchedules(t *testing.T) {
	b, _, d := open(t, part.Place{})
	b.Typed = "daily 03:30"
	b.Press("tab", "o")
	if b.Said != "mirror is synced daily 03:30 from now on" {
		t.Errorf("%q", b.Said)
	}
	b.Take(b.Undo)
	if got := strings.Join(d.Did, ";"); got != "schedule mirror daily 03:30;schedule mirror on demand" {
		t.Errorf("%s", got)
	}
	b.Typed, d.Wrong = "daily 25:00", errors.New(`"daily 25:00" is no schedule`)
	if b.Press("o"); b.Said != `"daily 25:00" is no schedule` {
		t.Errorf("%q", b.Said)
	}
}

// What would be pruned is shown before it is, and nothing goes without a yes.
func TestPruning(t *testing.T) {
	b, _, d := open(t, part.Place{})
	b.Typed = "unknown"
	if b.Press("P"); b.Said != "there is nothing to prune by this rule" {
		t.Errorf("%q", b.Said)
	}
	for i := range 9 {
		d.doomed = append(d.doomed, catalogue.Pruned{Stored: catalogue.Stored{SHA256: fmt.Sprint(i), Size: 1 << 20},
			Why: "no release names it"})
	}
	b.No = true
	b.Press("P")
	if b.Said != "Remove 9 payloads that nobody wants?" || len(b.Asked.Lines) != 7 ||
		b.Asked.Lines[6] != "9.0 MiB in all" {
		t.Errorf("%q, %q", b.Said, b.Asked.Lines)
	}
	b.No = false
	b.Press("P")
	if got := strings.Join(d.Did, ";"); got !=
		"prune true 0s;prune true 0s;prune true 0s;drop 9" {
		t.Errorf("%s", got)
	}
	b.Press("L")
	if b.Sheet.Title != "Payloads" || !strings.HasPrefix(b.Sheet.Lines[0], "there are none") {
		t.Errorf("%+v", b.Sheet)
	}
}

func TestBundles(t *testing.T) {
	b, _, d := open(t, part.Place{})
	b.Press("i")
	b.Typed = " q4.zip keyring= ulva.gpg "
	b.Press("i")
	if len(b.Went) != 1 || b.Went[0].Screen != part.Bundle || d.Did[0] != `open "q4.zip" ["ulva.gpg"]` {
		t.Errorf("%+v, %v", b.Went, d.Did)
	}
	b.No = true
	b.Press("tab")
	b.Step(0, 2)
	if not := b.Press("u"); not != "" || b.Said != "Take q4.zip out of the catalogue?" || len(d.Did) != 1 {
		t.Errorf("%q, %q, %v", not, b.Said, d.Did)
	}
	b.No = false
	b.Press("u")
	if d.Did[1] != "take out feedbeef" {
		t.Errorf("%v", d.Did)
	}
}

// Enter leads to the drift of the first host that is out of line; where nobody is it leads nowhere.
func TestGoingIn(t *testing.T) {
	b, _, _ := open(t, part.Place{Component: "fw:nic"})
	b.Enter()
	if len(b.Went) != 1 || b.Went[0].Screen != part.Drift || b.Went[0].Host != "c0h000" ||
		b.Went[0].Component != "fw:nic" {
		t.Errorf("%+v", b.Went)
	}
	clear(b.Frame.View.Verdicts)
	b.Enter()
	if len(b.Went) != 1 {
		t.Errorf("%+v", b.Went)
	}
	for format, name := range map[string]string{"svg": "ladder-fw:nic", "csv": "catalogue"} {
		if what := b.Screen.Export(b.Frame, format); what == nil || !strings.Contains(parttest.Named(what), name) {
			t.Errorf("%s: %+v", format, what)
		}
	}
}
