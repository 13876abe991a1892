package precheck

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
)

// A waiver pardons what was found, on that host, until its end, and nothing else.
func TestAWaiverPardonsJustWhatWasFound(t *testing.T) {
	a := Answer{Check: "together", Host: "a", Level: Blocker, Evidence: "L25 is on no line, read 3 min ago",
		Lasting: "L25 is on no line"}
	w, err := NewWaiver("c", a, "the maker says so", "op", now, now.Add(time.Hour))
	if err != nil {
		t.Fatal(err)
	}
	waived := func(a Answer, w Waiver, at time.Time) bool {
		as := Waive([]Answer{a}, []Waiver{w}, at)
		return as[0].Waived != nil && !as[0].Blocks() && len(Blockers(as)) == 0
	}
	if !waived(a, w, now) || !waived(a, w, now.Add(time.Hour-1)) || !strings.Contains(w.Says(), "by op until") {
		t.Errorf("%+v", w)
	}
	later := a
	later.Evidence = "L25 is on no line, read 50 min ago"
	if !waived(later, w, now.Add(time.Minute)) {
		t.Error("that it was found longer ago makes it something else")
	}
	for name, c := range map[string]struct {
		a  Answer
		w  Waiver
		at time.Time
	}{
		"over":          {a, w, now.Add(time.Hour)},
		"not yet":       {a, w, now.Add(-1)},
		"taken back":    {a, func() Waiver { x := w; x.Ended = now; return x }(), now},
		"another host":  {func() Answer { x := a; x.Host = "b"; return x }(), w, now},
		"another check": {func() Answer { x := a; x.Check = "dispute"; return x }(), w, now},
		"more is wrong": {func() Answer { x := a; x.Lasting += "; S9 is not either"; return x }(), w, now},
	} {
		if waived(c.a, c.w, c.at) {
			t.Errorf("%s: it pardons", name)
		}
	}
}

func TestWhatCantBeWaived(t *testing.T) {
	good := Answer{Check: "health", Host: "a", Level: Caution, Evidence: "a fan"}
	for want, c := range map[string]struct {
		a      Answer
		reason string
		until  time.Time
	}{
		"nothing to waive":         {Answer{Check: "health", Level: Clear}, "r", now.Add(1)},
		"needs a reason":           {good, " ", now.Add(1)},
		"a waiver ends":            {good, "r", now},
		"within 92 days":           {good, "r", now.Add(MostWaived + 1)},
		"fit must never be waived": {Answer{Check: "fit", Level: Blocker, Never: "x"}, "r", now.Add(1)},
		"about this round alone":   {Answer{Check: "planned", Level: Blocker, Never: onlyHere}, "r", now.Add(1)},
	} {
		if _, err := NewWaiver("c", c.a, c.reason, "op", now, c.until); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	// One that stands in the store all the same pardons nothing.
	for _, c := range Checks {
		a := Answer{Check: c.Name, Host: "a", Level: Blocker, Evidence: "e", Never: c.Never}
		as := Waive([]Answer{a}, []Waiver{{Host: "a", Check: c.Name, Evidence: "e", At: now, Until: now.Add(1)}}, now)
		if got := as[0].Waived != nil; got != (c.Never == "") {
			t.Errorf("%s: waived %v, and it %q", c.Name, got, c.Never)
		}
	}
}

// What could not be known says so, and is never clear; a clear answer says how long it holds.
func TestWhatCouldNotBeKnown(t *testing.T) {
	for check, spoil := range map[string]func(*Facts){
		"reachable": func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.GuestList, At: now, Err: "no answer"})
		},
		"members": func(f *Facts) {
			f.Readings["b"].SetSection(estate.Section{Name: estate.Host, At: now, Err: "no answer"})
		},
		"bmc": func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.BMCState, At: now, Err: "no answer"})
		},
		"health": func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.HealthItems, At: now, Err: "no answer"})
		},
		"packages": func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.Packages, At: now, Err: "no answer"})
		},
		"restart": func(f *Facts) {
			f.Readings["a"].SetSection(estate.Section{Name: estate.Drivers, At: now, Err: "no answer"})
		},
		"dispute":  func(f *Facts) { f.Judged = false },
		"together": func(f *Facts) { f.Judged = false },
	} {
		f := facts()
		for _, a := range Host(f, "a") {
			if a.Unknown {
				t.Errorf("%s of a cluster in which nothing is wrong is not known: %s", a.Check, a.Evidence)
			}
			if !a.At.IsZero() && !a.Until.Equal(a.At.Add(f.MaxAge)) {
				t.Errorf("%s of %s holds until %s", a.Check, a.At, a.Until)
			}
		}
		spoil(&f)
		for _, a := range Host(f, "a") {
			if a.Check == check && (!a.Unknown || a.Level == Clear) {
				t.Errorf("%s: %+v", check, a)
			}
		}
	}
}

// The rules about guests are held to guests that there are, and against each other.
func TestRulesAboutGuests(t *testing.T) {
	for want, rules := range map[string][]estate.Rule{
		"no rule says": nil,
		"kept (2)": {{Keep: estate.Apart, Guests: []string{"g-*"}},
			{Keep: estate.KeptIn, Guests: []string{"g-a"}, Hosts: []string{"a"}}},
		`names "g-z", and no`: {{Keep: estate.Apart, Guests: []string{"g-a", "g-z"}}},
		"contradict each other": {{Keep: estate.Apart, Guests: []string{"g-*"}},
			{Keep: estate.Together, Guests: []string{"g-a", "g-b"}}},
		"all rules name guests that exist and are kept (2)": {{Keep: estate.Together, Guests: []string{"g-*"}, Prefer: true},
			{Keep: estate.Apart, Guests: []string{"g-a", "g-b"}}},
		"about g-a and g-b": {{Keep: estate.Together, Guests: []string{"g-a", "g-b"}},
			{Keep: estate.Apart, Guests: []string{"g-a", "g-b", "g-c"}}},
	} {
		f := facts()
		f.Rules = rules
		for _, a := range Host(f, "a") {
			if a.Check == "rules" && !strings.Contains(a.Evidence, want) {
				t.Errorf("%s: %q, want %q", a.Level, a.Evidence, want)
			}
		}
	}
}
