package ledger

import (
	"context"
	"errors"
	"strings"
	"testing"
	"time"

	"yareharbour/core/course"
	"yareharbour/core/logbook"
	"yareharbour/core/narrow"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/harbour"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

type app struct {
	parttest.Notes
	book view.Logbook
}

func (d *app) Logbook(_ context.Context, in harbour.Period) (view.Logbook, error) {
	says := "all"
	if !in.From.IsZero() {
		says = parttest.Now.Sub(in.From).String()
	}
	d.book.From = in.From
	return d.book, d.Note("logbook of %s", says)
}

func (d *app) Journal(_ context.Context, cluster, id string) (view.Round, error) {
	s := &course.State{Round: id, Plan: plan.Plan{Brief: plan.Brief{Cluster: cluster}}}
	return view.Round{ID: id, State: s}, d.Note("journal %s %s", cluster, id)
}

// open shows a logbook in which two rounds, a decision about one and a baseline are.
func open(t *testing.T) (*parttest.Bench, *Screen, *app) {
	at := func(h int) time.Time { return parttest.Now.Add(time.Duration(h-48) * time.Hour) }
	d := &app{}
	var kept []course.Entry
	var head course.Head
	for _, e := range []logbook.Entry{
		{At: at(1), By: "ana", From: "quay", Kind: logbook.Saved, Says: "the baseline ssl, version 2", Why: "the new library", Of: &logbook.Thing{Shelf: logbook.Baselines, ID: "ssl", Seq: 2, Sum: "5b"}},
		{At: at(2), By: "ana", From: "quay", Kind: logbook.Begun, Cluster: "c0", Round: "R1", Says: "a round over c0"},
		{At: at(3), By: "ben", From: "quay", Kind: logbook.Asked, Cluster: "c0", Host: "c0h000", Round: "R1", Says: "hand over (c0h000), because it is dead"},
		{At: at(4), By: "ana", Kind: logbook.Ended, Cluster: "c0", Round: "R1", Says: "finished"},
		{At: at(5), By: "ana", Kind: logbook.Prepared, Host: "c0h001", Says: "c0h001: what hosts need"},
		{At: at(6), By: "cy", Kind: logbook.Begun, Cluster: "c1", Round: "R2", Says: "a round over c1"},
	} {
		k, err := logbook.Next(head, e)
		if err != nil {
			t.Fatal(err)
		}
		kept, head = append(kept, k), course.Head{Seq: k.Seq, Sum: k.Sum}
	}
	d.book = view.Logbook{Book: logbook.Read(kept, head), Rounds: []view.RoundLine{
		{ID: "R2", Cluster: "c1", Does: "round", Status: "failed", Detail: "the flash was refused", By: "cy", Reason: "patches", Started: at(6), Needed: 1,
			Totals: view.Totals{Hosts: 3, HostsDone: 1, Changes: 5, Done: 2, Failed: 1, Unfinished: 2}, Took: 600, Planned: 1200, Worst: 2400},
		{ID: "R1", Cluster: "c0", Does: "round", Status: "finished", By: "ana", From: "quay", Reason: "November", Started: at(2), Decided: 1,
			Totals: view.Totals{Hosts: 3, HostsDone: 2, Moves: 7, Changes: 4, Done: 3, LeftOut: 1}, Took: 3600}}}
	s := New(t.Context(), d)
	return parttest.Open(t, s, part.Frame{View: parttest.Estate(2, 3), Now: parttest.Now}), s, d
}

// Rounds and what was decided beside them are one list, the newest first; what a round's line tells is told once.
func TestWhatWasDone(t *testing.T) {
	b, s, d := open(t)
	b.Shows(160, 40, "the last 30 days", "2 rounds: 1 finished, 1 failed", "hosts 3 of 6 done · moves 7 · changes 5 of 9 done · 1 failed · 1 left out · 2 not done",
		"the chain of 6 entries is intact", "round over c1", "the flash was refused", "took 10 min; the plan had about 20 min, at worst 40 min",
		"it stood still for a person once", "asked of a round: hand over", "baseline saved: the baseline ssl, version 2", "3/4")
	b.Hides(160, 40, "round begun", "round ended")
	if len(s.deeds) != 5 || s.deeds[0].Round == nil || s.deeds[4].Entry.N != 1 {
		t.Errorf("%+v", s.deeds)
	}
	b.Take(part.Step{DY: 4})
	b.Shows(160, 40, "the new library", "by ana on quay", "entry 1 of the logbook", "version 2 of the baseline ssl had the sum 5b")
	b.Press("a")
	b.Hides(160, 40, "asked of a round", "baseline saved")
	b.Shows(80, 24, "round over c1", "failed", "1/3")
	if what := s.Export(b.Frame, "csv"); what == nil || len(what.Table.Rows) != 2 || what.Name != "rounds" {
		t.Errorf("%+v", what)
	}
	b.Press("a")
	if what := s.Export(b.Frame, "csv"); what == nil || len(what.Table.Rows) != 6 || what.Name != "log" {
		t.Errorf("%+v", what)
	}
	b.Press("]")
	b.Press("[")
	b.Press("[")
	if not := b.Press("["); not != "it is the shortest period" {
		t.Errorf("%q", not)
	}
	if want := "logbook of 720h0m0s, logbook of 2160h0m0s, logbook of 720h0m0s, logbook of 168h0m0s"; strings.Join(d.Did, ", ") != want {
		t.Errorf("%q", d.Did)
	}
}

// Enter goes to what the line is about: a round as it was, a host, a baseline.
func TestGoingIn(t *testing.T) {
	b, _, d := open(t)
	for range 5 {
		b.Take(part.Enter{})
		b.Take(part.Step{DY: 1})
	}
	var went []string
	for _, g := range b.Went {
		id := ""
		if r, ok := g.What.(view.Round); ok {
			id = r.ID
		}
		went = append(went, strings.TrimSpace(strings.Join([]string{g.Screen, g.Cluster, g.Host, g.Subject, id}, " ")))
	}
	if want := "Round c1   R2|Host c0 c0h001|Round c0   R1|Round c0   R1|Baselines   ssl"; strings.Join(went, "|") != want {
		t.Errorf("%q", strings.Join(went, "|"))
	}
	b.Frame.View.Rounds["c1"] = view.Round{ID: "R2"}
	b.Take(part.Step{DY: -10})
	b.Take(part.Enter{})
	if last := b.Went[len(b.Went)-1]; last.What != nil {
		t.Error("the newest round is opened as an old one")
	}
	d.Wrong = errors.New("entry 3 is missing")
	b.Take(part.Step{DY: 3})
	if b.Take(part.Enter{}); !strings.Contains(b.Said, "entry 3 is missing") {
		t.Errorf("%q", b.Said)
	}
}

// What can't be relied on is told first.
func TestALogbookThatWasAltered(t *testing.T) {
	b, _, d := open(t)
	d.book.Book.Fault = &logbook.Fault{From: 3, Why: "it is missing"}
	b.Press("]")
	b.Shows(160, 40, "✗ the logbook can't be relied on from entry 3 on: it is missing")
	d.Wrong = errors.New("the disk is gone")
	b.Press("[")
	b.Shows(160, 40, "✗ it can't be read: the disk is gone")
}

func TestNarrowingTheLogbook(t *testing.T) {
	b, s, _ := open(t)
	for text, want := range map[string]int{"c0h000": 1, "ssl": 1, "failed": 1, "host=c0h001": 1, "ana": 3, "nobody": 0} {
		f, err := narrow.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		b.Frame.Filter = f
		b.Take(part.Shown{})
		if len(s.deeds) != want {
			t.Errorf("%q lets %d through, want %d", text, len(s.deeds), want)
		}
	}
	b.Frame.Filter, _ = narrow.Parse("nobody")
	b.Take(part.Shown{})
	b.Shows(160, 40, "nothing in this period matches the filter")
	b.Take(part.Enter{})
}
