package prechecks

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

// app gives the same answers to every question, and keeps what it is asked for.
type app struct {
	answers []precheck.Answer
	aside   []plan.Aside
	briefs  []plan.Brief
	did     []string
	wrong   error
}

func (d *app) Usual(cluster string) (plan.Brief, error) {
	return plan.DefaultBrief(estate.Cluster{Name: cluster}), d.wrong
}
func (d *app) Gather(_ context.Context, b plan.Brief) (*plan.Input, error) {
	d.briefs = append(d.briefs, b)
	return &plan.Input{Brief: b, Now: parttest.Now}, d.wrong
}
func (d *app) Make(in plan.Input) (*plan.Plan, error) {
	p := &plan.Plan{Brief: in.Brief, Aside: d.aside}
	for _, a := range d.answers {
		p.Visits = append(p.Visits, plan.Visit{Host: a.Host, Answers: []precheck.Answer{a}})
	}
	return p, d.wrong
}
func (d *app) Waive(_ context.Context, _ string, of []precheck.Answer, why string, lasts time.Duration) ([]precheck.Waiver, error) {
	d.did = append(d.did, fmt.Sprintf("waive %d %s %s: %s", len(of), of[0].Check, lasts, why))
	return nil, d.wrong
}
func (d *app) TakeBack(_ context.Context, _ string, of []precheck.Waiver) error {
	d.did = append(d.did, fmt.Sprintf("take back %d", len(of)))
	return d.wrong
}

func open(t *testing.T, d *app) (*parttest.Bench, *Screen) {
	s := New(t.Context(), d, part.Place{Cluster: "c"})
	return parttest.Open(t, s, parttest.Frame()), s
}

func answer(check, host string, level precheck.Level, evidence string) precheck.Answer {
	return precheck.Answer{Check: check, Host: host, Level: level, Evidence: evidence, At: parttest.Now}
}

// What blocks stands first, then what could not be known, what is to be thought of, what was waived, and last what is
// clear; the same finding of several hosts is one row, and other words are another.
func TestInTheOrderInWhichAPersonWouldAct(t *testing.T) {
	unknown := func(a precheck.Answer) precheck.Answer { a.Unknown = true; return a }
	waived := answer("health", "a", precheck.Caution, "a fan")
	waived.Waived = &precheck.Waiver{ID: "W"}
	rows := arrange([]precheck.Answer{
		answer("reachable", "a", precheck.Clear, "read 1 min ago"),
		answer("reachable", "b", precheck.Clear, "read 2 min ago"),
		waived,
		answer("restart", "a", precheck.Caution, "k 2 waits"),
		answer("restart", "b", precheck.Caution, "k 3 waits"),
		answer("restart", "d", precheck.Caution, "k 2 waits"),
		unknown(answer("wear", "a", precheck.Caution, "not told")),
		unknown(answer("bmc", "a", precheck.Blocker, "silent")),
		answer("health", "b", precheck.Caution, "a fan"),
		answer("space", "a", precheck.Blocker, "full"),
	})
	var got []string
	for i := range rows {
		got = append(got, rows[i].first().Check+":"+strings.Join(rows[i].hosts(), "+"))
	}
	const want = "space:a bmc:a wear:a restart:a+d restart:b health:b health:a reachable:a+b"
	if s := strings.Join(got, " "); s != want {
		t.Errorf("%s\nwant %s", s, want)
	}
}

func TestWhyAKeyCantBeUsed(t *testing.T) {
	never := answer("bmc", "a", precheck.Blocker, "silent")
	never.Never = "nobody could prove that it is off"
	waived := answer("health", "a", precheck.Caution, "a fan")
	waived.Waived = &precheck.Waiver{ID: "W"}
	for _, c := range []struct {
		of    []precheck.Answer
		waive string
		back  string
	}{
		{nil, "nothing is shown", "nothing is shown"},
		{[]precheck.Answer{never}, "it must never be waived: nobody could prove that it is off", "it is not waived"},
		{[]precheck.Answer{waived}, "it is waived already", ""},
		{[]precheck.Answer{answer("bmc", "a", precheck.Clear, "well")}, "it is clear: there is nothing to waive",
			"it is not waived"},
		{[]precheck.Answer{answer("space", "a", precheck.Blocker, "full")}, "", "it is not waived"},
	} {
		b, _ := open(t, &app{answers: c.of})
		b.Typed = "7d ordered"
		var waive, back string
		for _, k := range b.Screen.Keys(b.Frame) {
			switch k.Key {
			case "W":
				waive = k.Not
			case "U":
				back = k.Not
			}
		}
		if waive != c.waive || back != c.back {
			t.Errorf("%+v: %q and %q, want %q and %q", c.of, waive, back, c.waive, c.back)
		}
	}
}

// A waiver takes a time, a reason and a yes; it means the row's hosts, and every check is asked again after it.
func TestWaiving(t *testing.T) {
	full := []precheck.Answer{answer("space", "a", precheck.Caution, "full"),
		answer("space", "b", precheck.Caution, "full")}
	for _, c := range []struct {
		typed, says, did string
		no               bool
		asked            int
	}{
		{"7d ordered today", "it is waived, and on the record", "waive 2 space 168h0m0s: ordered today", false, 2},
		{"  36h   ordered  ", "it is waived, and on the record", "waive 2 space 36h0m0s: ordered", false, 2},
		{"7d ordered", "Waive space of a, b?", "", true, 1},
		{"7d", "a waiver needs a reason: it goes on the record", "", false, 1},
		{"ordered today", `"ordered" is no time: expected one as 30m, 6h, 3d or 2w`, "", false, 1},
	} {
		d := &app{answers: full}
		b, _ := open(t, d)
		b.Typed, b.No = c.typed, c.no
		b.Press("W")
		if b.Said != c.says || strings.Join(d.did, ";") != c.did || len(d.briefs) != c.asked {
			t.Errorf("%q: says %q, did %v, asked %d times", c.typed, b.Said, d.did, len(d.briefs))
		}
	}
}

// The brief that the Plan hands over is the one that is asked about; without one it is the cluster's usual round.
func TestOfWhichBrief(t *testing.T) {
	d := &app{}
	brief := plan.Brief{Cluster: "c", Reserve: 7}
	parttest.Open(t, New(t.Context(), d, part.Place{Cluster: "c", What: brief}), parttest.Frame())
	open(t, d)
	if len(d.briefs) != 2 || d.briefs[0].Reserve != 7 || d.briefs[1].Reserve != 0 {
		t.Errorf("%+v", d.briefs)
	}
}

// An answer to a question that was asked before is let go: what is shown is never older than what was asked last.
func TestALateAnswerIsLetGo(t *testing.T) {
	b, s := open(t, &app{answers: []precheck.Answer{answer("space", "a", precheck.Blocker, "full")}})
	b.Take(answered{cluster: "c", turn: s.turn - 1})
	b.Take(answered{cluster: "other", turn: s.turn})
	b.Shows(120, 20, "1 blocking", "full")
	b.Take(answered{cluster: "c", turn: s.turn})
	b.Hides(120, 20, "full")
}

func TestWhatIsShown(t *testing.T) {
	d := &app{wrong: errors.New("b does not answer")}
	b, _ := open(t, d)
	b.Shows(80, 20, "The checks can't be asked.", "b does not answer")
	d.wrong = nil
	b.Press("n")
	b.Shows(80, 20, "! No host of c would be visited, and not all are in line.")
	d.aside = []plan.Aside{{Host: "a", InLine: true}}
	b.Press("n")
	b.Shows(80, 20, "✓ Every host of c is in line")
	own := answer("own:racks", "a", precheck.Caution, "a and b stand in one rack")
	own.Remedy, own.Until = "move one", parttest.Now.Add(time.Hour)
	d.answers = []precheck.Answer{own, answer("along", "a", precheck.Clear, "nothing else"),
		answer("space", "b", precheck.Clear, "4 GiB"), answer("space", "a", precheck.Clear, "3 GiB"),
		answer("space", "d", precheck.Clear, "4 GiB")}
	b.Press("n")
	b.Shows(140, 20, "1 caution  ✓ 4 clear", "own:racks: a check of your own", "→ move one",
		"it holds until", "Is there enough disk space")
	b.Step(0, 1)
	b.Shows(140, 20, "along: What else changes with its packages?")
	b.Step(0, 1)
	b.Shows(140, 20, "space: Is there enough disk space?", "b, d: 4 GiB", "a: 3 GiB")
	b.Step(0, 9)
	b.Enter()
	if len(b.Went) != 1 || b.Went[0].Screen != part.Host || b.Went[0].Host != "b" {
		t.Errorf("%+v", b.Went)
	}
	if what := b.Screen.Export(b.Frame, "csv"); what == nil || !strings.Contains(parttest.Named(what), "prechecks-c") {
		t.Errorf("%+v", what)
	}
}

// Before anything is known nothing is exported.
func TestNothingToExport(t *testing.T) {
	b, _ := open(t, &app{})
	if what := b.Screen.Export(b.Frame, "csv"); what != nil {
		t.Errorf("%+v", what)
	}
}
