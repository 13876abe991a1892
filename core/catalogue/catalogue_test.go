package catalogue

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
)

var now = time.Date(2026, 11, 21, 0, 0, 0, 0, time.UTC)

// fill makes a catalogue of lines "version track [withdrawn] [manual] [model=M] [severity=S] [age=N]" of fw:hba.
func fill(t *testing.T, text string) *Catalogue {
	t.Helper()
	c := &Catalogue{}
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		f := strings.Fields(line)
		r := Release{Component: "fw:hba", Version: f[0], Track: f[1], Date: now}
		for _, o := range f[2:] {
			k, v, _ := strings.Cut(o, "=")
			switch k {
			case "withdrawn":
				r.Withdrawn = "bad"
			case "manual":
				r.Manual = true
			case "model":
				r.Hardware = []string{v}
			case "severity":
				r.Severity, _ = ParseSeverity(v)
			case "age":
				d, _ := time.ParseDuration(v + "h")
				r.Date = now.Add(-24 * d)
			}
		}
		c.Add(Feed{Name: "test"}, []Release{r}, Track{"fw:hba", r.Track, r.Track + "."})
	}
	return c
}

func TestNewest(t *testing.T) {
	c := fill(t, `
		4.1 4 severity=high age=90
		4.2 4 severity=low age=3
		4.3 4 withdrawn
		4.4 4 manual
		4.5 4 model=S8
		5.0 5 severity=critical`)
	for _, q := range []struct {
		name string
		rule Rule
		want string
	}{
		{"on the track", Rule{Track: "4"}, "4.2"},
		{"on the other track", Rule{Track: "5"}, "5.0"},
		{"on a track that has none", Rule{Track: "6"}, ""},
		{"severity high and above", Rule{Track: "4", Severity: High}, "4.1"},
		{"two weeks old", Rule{Track: "4", Before: now.AddDate(0, 0, -14)}, "4.1"},
	} {
		got := ""
		if r := c.Newest("fw:hba", "S9", q.rule); r != nil {
			got = r.Version
		}
		if got != q.want {
			t.Errorf("%s: %q, want %q", q.name, got, q.want)
		}
	}
	if r := c.Newest("fw:hba", "S8", Rule{Track: "4"}); r.Version != "4.5" {
		t.Errorf("for the hardware it is for: %s", r.Version)
	}
}

// Every release above the one proposed is either proposed or refused in words: none is passed over in silence.
func TestRefusalsAreComplete(t *testing.T) {
	c := fill(t, `
		4.1 4
		4.2 4 withdrawn
		4.3 4 manual
		4.4 4 model=S8
		4.5 4 severity=low
		4.6 4 severity=high age=2
		5.0 5 severity=high age=90`)
	rule := Rule{Track: "4", Severity: Medium, Before: now.AddDate(0, 0, -14)}
	got := c.Refusals("fw:hba", "4.1", "S9", rule)
	if len(got) != 6 {
		t.Errorf("%d refusals of 6", len(got))
	}
	for i, want := range []string{"one does not continue the other", "younger", "severity is low",
		"not for this hardware", "automatically", "withdrew"} {
		if i < len(got) && !strings.Contains(got[i].Why, want) {
			t.Errorf("%s: %q, want %q", got[i].Release.Version, got[i].Why, want)
		}
	}
}

func TestTrackOf(t *testing.T) {
	c := fill(t, "4.1 4\n5.0 5")
	for ver, want := range map[string]string{"4.1": "4", "4.0.9": "4", "5.9": "5"} {
		if got, ok := c.TrackOf("fw:hba", ver, ""); got != want || !ok {
			t.Errorf("%s stands on %q, %v", ver, got, ok)
		}
	}
	if got, ok := c.TrackOf("fw:hba", "9.9", ""); ok {
		t.Errorf("9.9 stands on %q", got)
	}
	if _, ok := c.TrackOf("deb:a", "1", ""); !ok {
		t.Error("a component without tracks has but one line, and everything stands on it")
	}
}

func TestAddingTwiceChangesNothingAndAWithdrawalIsTakenOver(t *testing.T) {
	c := fill(t, "4.1 4\n4.2 4")
	c.Add(Feed{Name: "again"}, []Release{{Component: "fw:hba", Version: "4.2", Track: "4", Withdrawn: "bad"}})
	if n := len(c.Releases("fw:hba")); n != 2 {
		t.Errorf("%d releases", n)
	}
	if r := c.Newest("fw:hba", "", Rule{Track: "4"}); r.Version != "4.1" {
		t.Errorf("newest is %s", r.Version)
	}
}

func TestSeverityNames(t *testing.T) {
	for s := Unknown; s <= Critical; s++ {
		if got, err := ParseSeverity(s.String()); err != nil || got != s {
			t.Errorf("%v: %v %v", s, got, err)
		}
	}
	if _, err := ParseSeverity("urgent"); err == nil {
		t.Error("a severity that there is not")
	}
	if estate.Key("fw:hba").Scheme().String() != "dotted" {
		t.Error("firmware is compared by another scheme")
	}
}
