package drift

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
)

// What is out of line lasts from when that was first found until it is found otherwise; what can't be told ends nothing.
func TestHowLongDriftLasts(t *testing.T) {
	at := func(h int) time.Time { return time.Date(2026, 11, 21, h, 0, 0, 0, time.UTC) }
	verdicts := func(text string) map[string][]Verdict {
		out := map[string][]Verdict{}
		for w := range strings.FieldsSeq(text) {
			host, rest, _ := strings.Cut(w, ":")
			if _, known := out[host]; !known {
				out[host] = nil // it was judged, and nothing binds it
			}
			key, is, _ := strings.Cut(rest, "=")
			if key == "" {
				continue
			}
			v := Verdict{Host: host, Component: "deb:k", Device: key, Release: &catalogue.Release{Severity: catalogue.High}}
			switch is {
			case "behind":
				v.Outcome = Behind
			case "worse":
				v.Outcome, v.Release = Withdrawn, &catalogue.Release{Severity: catalogue.Critical}
			case "unread":
				v.Outcome = Unread
			case "excepted":
				v.Outcome = Excepted
			default:
				v.Outcome = InLine
			}
			out[host] = append(out[host], v)
		}
		return out
	}
	var all []Lasting
	open := func() (out []Lasting) {
		for _, l := range all {
			if l.Until.IsZero() {
				out = append(out, l)
			}
		}
		return out
	}
	says := func() string {
		var out []string
		for _, l := range all {
			until := "-"
			if !l.Until.IsZero() {
				until = fmt.Sprint(l.Until.Hour())
			}
			out = append(out, fmt.Sprintf("%s.%s %s %d-%s", l.Host, l.Device, l.Severity, l.Since.Hour(), until))
		}
		return strings.Join(out, ", ")
	}
	for i, step := range []struct {
		hour     int
		verdicts string
		want     string
	}{
		{1, "a:x=behind a:y=fine b:x=behind", "a.x high 1--, b.x high 1--"},
		{2, "a:x=unread a:y=fine", "a.x high 1--, b.x high 1--"},                     // nothing is known of x, and b was not judged
		{3, "a:x=worse b:x=fine", "a.x critical 1--, b.x high 1-3"},                  // worse, and in line
		{4, "a:x=behind b:x=behind", "a.x critical 1--, b.x high 1-3, b.x high 4--"}, // again: another time
		{5, "a: b:x=excepted", "a.x critical 1-5, b.x high 1-3, b.x high 4-5"},       // no clause binds it any more
		{0, "a: b:", "a.x critical 1-5, b.x high 1-3, b.x high 4-5"},
	} {
		for _, c := range Last("c", open(), verdicts(step.verdicts), at(step.hour)) {
			known := false
			for j := range all {
				if all[j].Place() == c.Place() && all[j].Since.Equal(c.Since) {
					all[j], known = c, true
				}
			}
			if !known {
				all = append(all, c)
			}
		}
		if says() != step.want {
			t.Errorf("step %d: %s, want %s", i, says(), step.want)
		}
	}
	if got := Last("c", []Lasting{{Host: "a", Component: "deb:k", Since: at(9)}}, verdicts("a:"), at(3)); len(got) != 1 || got[0].Until.Before(got[0].Since) {
		t.Errorf("it ended before it began: %+v", got)
	}
	means := Means(all, at(10))
	if len(means) != 2 || means[0] != (Mean{"critical", 1, 0, 4 * time.Hour, 0}) || means[1] != (Mean{"high", 2, 0, 90 * time.Minute, 0}) {
		t.Errorf("%+v", means)
	}
	if means := Means([]Lasting{{Since: at(2)}}, at(10)); means[0].Longest != 8*time.Hour || means[0].Still != 1 {
		t.Errorf("%+v", means)
	}
}

func TestWhenDriftIsDue(t *testing.T) {
	since := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	c := &Checker{Baselines: []baseline.Baseline{{Name: "a"}, {Name: "b", Due: map[catalogue.Severity]time.Duration{catalogue.Critical: 14 * 24 * time.Hour}}}}
	v := func(base string, s catalogue.Severity, o Outcome) *Verdict {
		return &Verdict{Outcome: o, Release: &catalogue.Release{Severity: s}, Clause: &baseline.Bound{Baseline: base}}
	}
	for i, x := range []struct {
		v    *Verdict
		want time.Time
	}{
		{v("b", catalogue.Critical, Behind), since.AddDate(0, 0, 14)},
		{v("b", catalogue.High, Behind), time.Time{}},
		{v("a", catalogue.Critical, Behind), time.Time{}},
		{v("b", catalogue.Critical, InLine), time.Time{}},
		{&Verdict{Outcome: Behind}, time.Time{}},
	} {
		if got := c.Due(x.v, since); !got.Equal(x.want) {
			t.Errorf("%d: %s", i, got)
		}
	}
	if !c.Due(v("b", catalogue.Critical, Behind), time.Time{}).IsZero() {
		t.Error("what was never found is due")
	}
}
