package course

import (
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// A step has lasted as long as it did, also where the time of day was set in it; one that had ended before is left
// where it was.
func TestAStepInWhichTheTimeOfDayWasSetLastedAsLongAsItDid(t *testing.T) {
	for _, by := range []time.Duration{time.Hour, -time.Hour} {
		at := noon
		seq := int64(0)
		event := func(after time.Duration, e Event) Event {
			seq++
			at = at.Add(after)
			e.V, e.Seq, e.At = Schema, seq, at
			return e
		}
		restart := act.Act{ID: "1", Kind: act.Restart, Host: "a", Pass: 1}
		s, err := Fold([]Event{
			event(0, Event{Kind: Started, Round: "R", Plan: &plan.Plan{Visits: []plan.Visit{{Host: "a", Passes: 1}}}}),
			event(0, Event{Kind: Began, Host: "a"}),
			event(time.Minute, Event{Kind: Checked, Host: "a"}),
			event(0, Event{Kind: Intent, Act: &restart}),
			event(2*time.Minute+by, Event{Kind: Leapt, Leap: by}),
			event(3*time.Minute, Event{Kind: Done, Act: &restart}),
		})
		if err != nil {
			t.Fatal(err)
		}
		spans := s.Visits[0].Spans
		if len(spans) != 2 {
			t.Fatalf("%+v", spans)
		}
		if got := spans[0]; !got.From.Equal(noon) || got.To.Sub(got.From) != time.Minute {
			t.Errorf("leapt by %s: the step before is now %+v", by, got)
		}
		if got := spans[1]; got.To.Sub(got.From) != 5*time.Minute {
			t.Errorf("leapt by %s: the step lasted %s, want 5 min", by, got.To.Sub(got.From))
		}
	}
}

// A waiver that was taken back since the round was planned, that is over, or that is not on the record, pardons nothing
// at the host's turn.
func TestAWaiverThatWasTakenBackIsOver(t *testing.T) {
	w := precheck.Waiver{ID: "w", Host: "a", Check: "health", Evidence: "a fan", At: noon, Until: noon.Add(time.Hour)}
	back := w
	back.Ended = noon
	other := w
	other.ID = "o"
	for name, c := range map[string]struct {
		today []precheck.Waiver
		at    time.Time
		want  int
	}{
		"it stands": {[]precheck.Waiver{other, w}, noon, 1}, "taken back": {[]precheck.Waiver{back}, noon, 0},
		"over": {[]precheck.Waiver{w}, noon.Add(time.Hour), 0}, "not on the record": {nil, noon, 0},
		"another": {[]precheck.Waiver{other}, noon, 0},
	} {
		tt := &turn{s: &State{Plan: plan.Plan{Waivers: []precheck.Waiver{w}}}, f: &Facts{Now: c.at}}
		if got := tt.pardons(Today{Waivers: c.today}); len(got) != c.want {
			t.Errorf("%s: %v", name, got)
		}
	}
}

// The rungs of a ladder are one thing to whoever looks at the host before and after: before, it stands below the first,
// and afterwards on the last.
func TestALadderIsHeldToItsEnds(t *testing.T) {
	at := func(version string) *estate.Reading {
		r := &estate.Reading{Host: "a", Components: []estate.Component{{Key: "fw:x", Version: version}}}
		for _, s := range estate.SectionNames {
			r.SetSection(estate.Section{Name: s, At: noon})
		}
		return r
	}
	v := &Visit{Visit: plan.Visit{Host: "a", Changes: []act.Change{{Component: "fw:x", From: "1", To: "3", Pass: 1},
		{Component: "fw:x", From: "3", To: "4", Pass: 2}}}, Before: at("1")}
	for version, want := range map[string][2]bool{"1": {true, false}, "3": {true, false}, "4": {false, true},
		"2": {false, false}} {
		f := precheck.Facts{Readings: map[string]*estate.Reading{"a": at(version)},
			Visit: precheck.Visit{Begun: true, Planned: planned(v)}}
		if ok := precheck.Named("planned", f, "a").Level == precheck.Clear; ok != want[0] {
			t.Errorf("at %s it is as planned: %v", version, ok)
		}
		if ok := len(unproven(v, at(version))) == 0; ok != want[1] {
			t.Errorf("at %s it is proven: %v", version, ok)
		}
	}
}
