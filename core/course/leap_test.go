package course

import (
	"testing"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/plan"
)

// A step has lasted as long as it did, also where the time of day was set in it; one that had ended before is left where it was.
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
