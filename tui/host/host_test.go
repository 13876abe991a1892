package host

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

// app tells a past that says for which host it was asked, and keeps what it is asked for.
type app struct {
	parttest.Notes
}

func (d *app) Past(_ context.Context, host string) (view.Past, error) {
	return view.Past{}, d.Note("past of %s", host)
}
func (d *app) Amend(b view.Baseline, w baseline.Wish) (text string, line int, err error) {
	says := ""
	if w.Exception != nil {
		says = fmt.Sprintf(" (%s %s %s)", w.Exception.Component, w.Exception.Hosts, w.For)
	}
	return "text", 7, d.Note("%s: %s%s", b.Name, w.Says, says)
}
func (d *app) Compare(_ context.Context, from, to string) (view.Comparison, error) {
	return view.Comparison{FromName: from, ToName: to}, d.Note("compare %s %s", from, to)
}
func (d *app) LaunchWork(_ context.Context, does plan.Does, host, reason string, options ...string) error {
	return d.Note("%s %s: %s %s", does, host, reason, strings.Join(options, " "))
}
func (d *app) Begin(_ context.Context, of harbour.Beginning) (name, text string, err error) {
	host := of.Like
	return "like-" + host, "baseline: like", d.Note("derive %s", host)
}

func open(t *testing.T, e *view.Estate, p part.Place) (*parttest.Bench, *Screen, *app) {
	d := &app{}
	s := New(t.Context(), d, p)
	f := parttest.Frame()
	f.View = e
	return parttest.Open(t, s, f), s, d
}

// under is the line under the cursor.
func under(s *Screen) string {
	r := s.rows[s.table.At(len(s.rows))]
	if r.head != "" {
		return "[" + r.head + "]"
	}
	return string(r.line.Component)
}

// The cursor begins on the worst line, or on what the host was opened on; to the side it stays on the same component.
func TestWhereTheCursorStands(t *testing.T) {
	_, first, _ := open(t, parttest.Estate(1, 3), part.Place{Host: "c0h000"})
	if got := under(first); got != "fw:nic" || first.at.Cluster != "c0" {
		t.Errorf("on %s of %s", got, first.at.Cluster)
	}
	b, s, d := open(t, parttest.Estate(1, 3), part.Place{Host: "c0h000", Component: "fw:nic"})
	if got := under(s); got != "fw:nic" {
		t.Errorf("on %s", got)
	}
	b.Step(1, 0)
	if got := under(s); got != "fw:nic" || s.at.Host != "c0h001" {
		t.Errorf("on %s of %s", got, s.at.Host)
	}
	b.Step(9, 0)
	b.Step(-1, 0)
	if s.at.Host != "c0h001" || under(s) != "fw:nic" {
		t.Errorf("on %s of %s", under(s), s.at.Host)
	}
	if got := strings.Join(d.Did, ";"); got != "past of c0h000;past of c0h001;past of c0h002;past of c0h001" {
		t.Errorf("%s", got)
	}
	b.Enter()
	if len(b.Went) != 1 || b.Went[0].Screen != part.Catalogue || b.Went[0].Component != "fw:nic" {
		t.Errorf("%+v", b.Went)
	}
}

// A heading folds what stands under it and says how much that is; a filter opens what is folded.
func TestFolding(t *testing.T) {
	e := parttest.Estate(1, 3)
	b, s, _ := open(t, e, part.Place{Host: "c0h000"})
	n := len(s.rows)
	b.Step(0, -9)
	b.Enter()
	if len(s.rows) >= n || !strings.HasPrefix(under(s), "[") {
		t.Errorf("%d rows, on %s", len(s.rows), under(s))
	}
	b.Shows(120, 30, "1, 1 not in line")
	b.Press("space")
	if len(s.rows) != n {
		t.Errorf("%d rows, want %d", len(s.rows), n)
	}
	b.Press("space")
	f, err := narrow.Parse("kind=deb")
	if err != nil {
		t.Fatal(err)
	}
	b.Frame.Filter = f
	b.Take(part.Shown{})
	b.Shows(120, 30, "deb:k")
	b.Hides(120, 30, "fw:nic")
}

// A host that was never read offers nothing that needs a reading, and is not held to be in line.
func TestAHostThatWasNeverRead(t *testing.T) {
	e := parttest.Estate(1, 3)
	e.Readings["c0h001"] = nil
	e.Verdicts["c0h001"] = nil
	b, s, d := open(t, e, part.Place{Host: "c0h001"})
	b.Shows(80, 24, "c0h001 was never read.")
	b.Hides(80, 24, "in line")
	for _, k := range []string{"=", "D"} {
		if not := b.Press(k); not != "c0h001 was never read; R reads every host" {
			t.Errorf("%s: %q", k, not)
		}
	}
	if len(d.Did) > 0 || len(s.rows) > 0 {
		t.Errorf("%v, %d rows", d.Did, len(s.rows))
	}
	b.Enter()
	b.Press("space")
	if len(b.Went) > 0 {
		t.Errorf("%+v", b.Went)
	}
}

// What is not well stands there whatever the cursor is on.
func TestTroubles(t *testing.T) {
	e := parttest.Estate(1, 2)
	r := e.Readings["c0h001"]
	r.BMC.Waiting = []estate.BMCTask{{ID: "1"}, {ID: "2"}}
	r.Closed = &estate.Mark{By: "op", Reason: "a fan", At: parttest.Now}
	r.SetSection(estate.Section{Name: estate.HealthItems, At: parttest.Now, Err: "the BMC hangs"})
	r.SetSection(estate.Section{Name: estate.Packages, At: parttest.Now, Hidden: 7})
	b, _, _ := open(t, e, part.Place{Host: "c0h001"})
	for _, w := range []int{80, 140} {
		b.Shows(w, 40, "7 processes may not be looked into", "closed by op since Sat 21 Nov 20:00: a fan",
			"in the BMC's queue: 2 tasks",
			"health is unread: the BMC hangs")
	}
}

func TestComparingAndDeriving(t *testing.T) {
	b, _, d := open(t, parttest.Estate(1, 2), part.Place{Host: "c0h000"})
	b.Press("=")
	if b.Typed = "c0h001"; len(b.Went) > 0 {
		t.Errorf("nothing was typed, and it went to %+v", b.Went)
	}
	b.Press("=", "D")
	if got := strings.Join(d.Did[1:], ";"); got != "compare c0h001 c0h000;derive c0h000" {
		t.Errorf("%s", got)
	}
	if len(b.Went) != 2 || b.Went[0].Screen != part.Compare || b.Went[1].Screen != part.Edit ||
		b.Went[1].Subject != "like-c0h000" {
		t.Errorf("%+v", b.Went)
	}
	d.Wrong = errors.New("it was not read then")
	b.Press("=")
	if b.Said != "it was not read then" || len(b.Went) != 2 {
		t.Errorf("%q, %d", b.Said, len(b.Went))
	}
}

// A past that comes late, of a host that was left, is let go.
func TestALatePastIsLetGo(t *testing.T) {
	b, s, _ := open(t, parttest.Estate(1, 2), part.Place{Host: "c0h000"})
	b.Step(1, 0)
	b.Take(pastMsg{"c0h000", parttest.Now, view.Past{Spans: []drift.Span{{}}}})
	if len(s.past.Spans) > 0 {
		t.Error("it is shown for another host")
	}
}

// By hand a host that is open is emptied, and one that is closed is opened, restarted or taken over; not while a round
// runs, nor where only looking is allowed.
func TestWorkByHand(t *testing.T) {
	e := parttest.Estate(1, 3)
	b, _, d := open(t, e, part.Place{Host: "c0h000"})
	all := func() string {
		d.Did, b.Went = nil, nil
		for i := 0; ; i++ {
			b.Pick = i
			b.Press("m")
			if i+1 == len(b.Chose.Options) {
				return strings.Join(d.Did, ";")
			}
		}
	}
	to := part.Place{Host: "c0h000", What: part.ByHand{}}
	if led, _, _ := open(t, e, to); led.Chose.Title != "c0h000 by hand" { // it is asked at once where somebody comes for it
		t.Errorf("%+v", led.Chose)
	}
	e.Rounds["c0"] = view.Round{Runs: true}
	if led, _, _ := open(t, e, to); led.Chose.Title != "" || led.Said != "a round runs over c0" {
		t.Errorf("%q %+v", led.Said, led.Chose)
	}
	e.Rounds["c0"] = view.Round{}
	b.Typed = "a fan"
	if got := all(); got != "close c0h000: a fan --drain;restart c0h000: a fan --drain" {
		t.Errorf("%s", got)
	}
	if len(b.Went) != 2 || b.Went[0].Screen != part.Round || b.Went[0].Cluster != "c0" {
		t.Errorf("%+v", b.Went)
	}
	e.Readings["c0h000"].Closed = &estate.Mark{By: "op", Reason: "a fan", At: parttest.Now}
	if got := all(); got != "open c0h000: a fan ;open c0h000: a fan --home;restart c0h000: a fan ;take c0h000: a fan --yes" {
		t.Errorf("%s", got)
	}
	if !strings.Contains(b.Chose.Lines[0], "closed by op since Sat 21 Nov 20:00 UTC: a fan") {
		t.Errorf("%q", b.Chose.Lines)
	}
	d.Did = nil
	if b.Typed = ""; all() != "" || b.Said != "nothing is done without a reason" {
		t.Errorf("%s: %s", b.Said, d.Did)
	}
	e.Rounds["c0"] = view.Round{Runs: true}
	if got := b.Press("m"); got != "a round runs over c0" {
		t.Errorf("%q", got)
	}
	e.Rounds["c0"] = view.Round{}
	e.Band("c0").Cluster.Act = false
	if got := b.Press("m"); got != "the estate file allows looking at c0 only" {
		t.Errorf("%q", got)
	}
	delete(e.Readings, "c0h000")
	if got := b.Press("m"); got != "c0h000 does not answer" {
		t.Errorf("%q", got)
	}
}

// What else may be wanted of a line is offered, written into the baseline whose clause binds it, or into one that is
// chosen, and opened there; an exception has an end and a reason.
func TestSomethingElseIsWanted(t *testing.T) {
	e := parttest.Estate(1, 3)
	e.Readings["c0h000"].Components = append(e.Readings["c0h000"].Components, estate.Component{Key: "deb:z", Version: "3"})
	other := e.Baselines[0]
	other.Baseline.Name = "other"
	e.Baselines = append(e.Baselines, other)
	b, s, d := open(t, e, part.Place{Cluster: "c0", Host: "c0h000", Component: "fw:nic"})
	says := func() (out []string) {
		for _, o := range b.Chose.Options {
			out = append(out, o.Says)
		}
		return out
	}
	b.Pick = 1
	b.Press("W")
	if got := strings.Join(says(), "; "); got != "at least 1; exactly 1; at least 2; exactly 2; never; "+
		"except c0h000 for a time" || b.Chose.Lines[0] != "Now b wants it if present the newest." {
		t.Errorf("%s", got)
	}
	if got := b.Went[len(b.Went)-1]; d.Did[len(d.Did)-1] != "b: exactly 1" || got.Screen != part.Edit || got.Subject != "b" ||
		got.What != (part.Draft{Text: "text", After: 2, Line: 7, Why: "fw:nic: exactly 1"}) {
		t.Errorf("%v %+v", d.Did, got)
	}
	b.Pick, b.Typed = 5, "2w it waits for a part"
	b.Press("W")
	if got := d.Did[len(d.Did)-1]; got != "b: except c0/c0h000: it waits for a part (fw:nic [c0/c0h000] 336h0m0s)" {
		t.Errorf("%v", got)
	}
	n := len(d.Did)
	for _, typed := range []string{"2w", "soon it is", ""} {
		b.Typed = typed
		if b.Press("W"); len(d.Did) != n {
			t.Errorf("%q: %v", typed, d.Did[n:])
		}
	}
	s.folded = map[string]bool{}
	s.lay(b.Frame)
	at := slices.IndexFunc(s.rows, func(r row) bool { return r.line.Unbound })
	s.table.Cursor, b.Pick = at, 0
	b.Press("W")
	if got := strings.Join(says(), "; "); got != "b, for c0; other, for c0" {
		t.Errorf("%s", got)
	}
	s.table.Cursor = 0
	if got := b.Press("W"); got != "there is no component of a host under the cursor" {
		t.Errorf("%q", got)
	}
	e.Baselines = nil
	s.table.Cursor = at
	if got := b.Press("W"); got != "no baseline binds c0h000; b makes one" {
		t.Errorf("%q", got)
	}
}

// The cursor is on what needs somebody most, also once that is known later, until somebody puts it elsewhere.
func TestWhereItOpens(t *testing.T) {
	e := parttest.Estate(1, 3)
	known := e.Verdicts
	e.Verdicts = nil
	b, s, _ := open(t, e, part.Place{Cluster: "c0", Host: "c0h000"})
	e.Verdicts = known
	b.Take(part.Shown{})
	if got := s.Place().Component; got != "fw:nic" {
		t.Errorf("on %s", got)
	}
	b.Step(0, -2)
	was := s.Place().Component
	b.Take(part.Shown{})
	if got := s.Place().Component; got != was || got == "fw:nic" {
		t.Errorf("on %s, was on %s", got, was)
	}
}
