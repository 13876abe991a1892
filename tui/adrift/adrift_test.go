package adrift

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/view"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

type app struct {
	seen  []string
	wrong error
}

func (d *app) Amend(b view.Baseline, w baseline.Wish) (text string, line int, err error) {
	d.seen = append(d.seen, b.Name+": "+w.Says)
	return "", 0, d.wrong
}
func (d *app) MarkSeen(_ context.Context, cluster string) error {
	d.seen = append(d.seen, cluster)
	return d.wrong
}

func open(t *testing.T, p part.Place) (*parttest.Bench, *Screen, *app) {
	d := &app{}
	s := New(t.Context(), d, p)
	f := parttest.Frame()
	f.View = parttest.Estate(1, 8)
	return parttest.Open(t, s, f), s, d
}

func (s *Screen) under() string {
	return fmt.Sprintf("%s on %s", s.matrix.Rows[s.row].Component, s.host())
}

// The cursor begins where the screen was opened on, stays on the same cell when the view is another, and never leaves
// the matrix.
func TestWhereTheCursorStands(t *testing.T) {
	b, s, _ := open(t, part.Place{Cluster: "c0", Host: "c0h003", Component: "fw:nic"})
	if got := s.under(); got != "fw:nic on c0h003" {
		t.Fatalf("it begins with %s", got)
	}
	b.Frame.View = parttest.Estate(1, 8)
	b.Take(part.Shown{})
	if got := s.under(); got != "fw:nic on c0h003" {
		t.Errorf("shown anew it is on %s", got)
	}
	b.Step(99, 99)
	b.Step(-1, 0)
	if got := s.under(); got != s.under() || s.host() != "c0h006" {
		t.Errorf("on %s", got)
	}
	b.Step(-99, -99)
	if s.row != 0 || s.host() != "c0h000" {
		t.Errorf("on %s", s.under())
	}
	b.Take(turned(99))
	b.Enter()
	last := s.matrix.Rows[len(s.matrix.Rows)-1].Component
	if len(b.Went) != 1 || b.Went[0].Screen != part.Host || b.Went[0].Component != last || b.Went[0].Host != "c0h000" {
		t.Errorf("%+v", b.Went)
	}
}

// The first click chooses a cell, the second goes in; a click on a host's name keeps the row.
func TestClicks(t *testing.T) {
	b, s, _ := open(t, part.Place{Cluster: "c0"})
	b.Take(cell{1, 2})
	if len(b.Went) > 0 || s.row != 1 || s.col != 2 {
		t.Errorf("%+v, on %d %d", b.Went, s.row, s.col)
	}
	b.Take(cell{1, 2})
	if len(b.Went) != 1 || b.Went[0].Host != s.host() {
		t.Errorf("%+v", b.Went)
	}
	b.Take(cell{99, 99}) // of a view that was larger
	if s.row >= len(s.matrix.Rows) || s.col >= len(s.matrix.Hosts) {
		t.Errorf("on %d %d", s.row, s.col)
	}
}

// Where nothing was judged nothing is good; an empty matrix never falls over.
func TestNothingDisagrees(t *testing.T) {
	b, s, _ := open(t, part.Place{Cluster: "c0"})
	clear(b.Frame.View.Verdicts)
	b.Take(part.Shown{})
	b.Shows(100, 20, "c0: nothing is known to be in line")
	b.Enter()
	b.Step(1, 1)
	b.Take(cell{0, 0})
	if len(b.Went) > 0 {
		t.Errorf("%+v", b.Went)
	}
	b.Frame.View = parttest.Estate(1, 8)
	for h, vs := range b.Frame.View.Verdicts {
		for i := range vs {
			vs[i].Outcome = drift.InLine
		}
		b.Frame.View.Verdicts[h] = vs
	}
	b.Take(part.Shown{})
	b.Shows(100, 20, "c0: nothing disagrees, 16 verdicts are in line")
	delete(b.Frame.View.Verdicts, "c0h005")
	b.Take(part.Shown{})
	b.Shows(100, 20, "nothing disagrees where it was judged, 14 verdicts are in line", "nothing was judged of c0h005")
	if s.host() != "" && len(s.matrix.Rows) > 0 {
		t.Errorf("%d rows", len(s.matrix.Rows))
	}
}

func TestSiblings(t *testing.T) {
	b, _, _ := open(t, part.Place{Cluster: "c0"})
	of := func(groups ...[]string) {
		d := drift.Difference{Component: "fw:nic", Versions: map[string][]string{}}
		for i, g := range groups {
			d.Versions[fmt.Sprint(i)] = g
		}
		b.Frame.View.Siblings["c0"] = []drift.Siblings{{Model: "Quay 1", Groups: groups,
			Differences: []drift.Difference{d}}}
		b.Take(part.Shown{})
	}
	of([]string{"c0h000", "c0h001", "c0h002"})
	b.Shows(130, 40, "siblings Quay 1: all 3 alike")
	of([]string{"c0h000", "c0h001"}, []string{"c0h002"})
	b.Shows(130, 40, "siblings Quay 1: 3 hosts, 2 alike", "c0h002: fw:nic")
	of([]string{"c0h000"}, []string{"c0h001"}, []string{"c0h002"})
	b.Shows(130, 40, "3 hosts, no two alike; each beside what most have")
}

// A cell says what it shows in words, beside the grid where there is room and below it where there is not.
func TestTheStoryOfACell(t *testing.T) {
	b, _, _ := open(t, part.Place{Cluster: "c0", Host: "c0h003", Component: "fw:nic"})
	b.Shows(160, 40, "fw:nic on c0h003", "behind, critical", "has 1, wants 2", "across the cluster",
		"· 2, in line: c0h001")
	b.Shows(80, 24, "behind, critical", "fw:nic on c0h003  has 1  wants 2")
}

// A cell without a verdict is not taken for one of a host that does not have the component: it may be there without a
// baseline, and it may be that nobody knows.
func TestACellWithoutAVerdict(t *testing.T) {
	for _, c := range []struct {
		change func(e *view.Estate, r *estate.Reading)
		says   string
		sign   string
	}{
		{func(*view.Estate, *estate.Reading) {}, "c0h004: has 2, and no baseline covers it there.", "∘ 2"},
		{func(_ *view.Estate, r *estate.Reading) { r.Components = r.Components[:1] },
			"c0h004: does not have it, and nothing is wanted of it there.", ""},
		{func(_ *view.Estate, r *estate.Reading) { r.Components[1].Version = "" },
			"c0h004: not known: its version was not told.", "?"},
		{func(e *view.Estate, _ *estate.Reading) { delete(e.Readings, "c0h004") },
			"c0h004: not known: it was never read.", "?"},
		{func(_ *view.Estate, r *estate.Reading) {
			r.SetSection(estate.Section{Name: estate.FirmwareItems, At: parttest.Now, Err: "silent"})
		}, `c0h004: not known: its section "firmware" is unread: silent.`, "?"},
		{func(e *view.Estate, r *estate.Reading) {
			e.Checker.MaxAge = time.Hour
			r.SetSection(estate.Section{Name: estate.FirmwareItems, At: parttest.Now.Add(-2 * time.Hour)})
		}, `read 2h0m0s ago`, "?"},
	} {
		b, s, _ := open(t, part.Place{Cluster: "c0", Host: "c0h003", Component: "fw:nic"})
		delete(b.Frame.View.Verdicts, "c0h004")
		c.change(b.Frame.View, b.Frame.View.Readings["c0h004"])
		b.Take(part.Shown{})
		b.Step(1, 0)
		said := strings.Join(strings.Fields(strings.ReplaceAll(b.Text(240, 40), "│", "")), " ")
		if !strings.Contains(said, c.says) {
			t.Errorf("%q is not said: %s", c.says, b.Text(240, 40))
		}
		cv := part.NewCanvas(20, 1)
		s.paintCell(b.Frame, cv, &s.matrix.Rows[s.row], drift.News{}, "c0h004", part.Rect(0, 0, 12, 1), false)
		if got := strings.TrimSpace(parttest.Plain(cv)); got != c.sign {
			t.Errorf("%s: the cell is %q, want %q", c.says, got, c.sign)
		}
	}
}

func TestMarkedAsSeen(t *testing.T) {
	b, _, d := open(t, part.Place{Cluster: "c0"})
	b.Press("m")
	if strings.Join(d.seen, " ") != "c0" || b.Said != "what is out of line on c0 now is marked as seen" {
		t.Errorf("%v, %q", d.seen, b.Said)
	}
	d.wrong = errors.New("the disk is full")
	b.Press("m")
	if b.Said != "the disk is full" {
		t.Errorf("%q", b.Said)
	}
	b.Press("tab")
	b.Shows(120, 30, "out of line, by layer")
	if what := b.Screen.Export(b.Frame, "svg"); !strings.Contains(parttest.Named(what), "trend-c0") {
		t.Errorf("%+v", what)
	}
}
