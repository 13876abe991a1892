package precheck

import (
	"slices"
	"strings"
	"testing"

	"yareharbour/core/estate"
)

// answerOf is what a check answers about a.
func answerOf(f Facts, check string) Answer {
	for _, a := range Host(f, "a") {
		if a.Check == check {
			return a
		}
	}
	return Answer{}
}

// Nothing takes orders in a cluster that is only looked at, whatever its hosts say.
func TestAClusterThatIsOnlyLookedAtTakesNoOrders(t *testing.T) {
	f := facts()
	if a := answerOf(f, "orders"); a.Level != Clear {
		t.Errorf("%+v", a)
	}
	f.LookOnly = true
	if a := answerOf(f, "orders"); !a.Blocks() || a.Never == "" || !strings.Contains(a.Remedy, "act: true") {
		t.Errorf("%+v", a)
	}
}

// Rules contradict each other about guests that both mean: two at least, and the same ones.
func TestWhichRulesContradict(t *testing.T) {
	rule := func(keep estate.Keep, guests ...string) estate.Rule { return estate.Rule{Keep: keep, Guests: guests} }
	after := func(of string, guests ...string) estate.Rule {
		return estate.Rule{Keep: estate.After, Guests: guests, Of: []string{of}}
	}
	for _, c := range []struct {
		what  string
		rules []estate.Rule
		says  string
	}{
		{"the same two", []estate.Rule{rule(estate.Together, "g-a", "g-b"), rule(estate.Apart, "g-b", "g-a")},
			"contradict each other about g-b and g-a"},
		{"the other way round", []estate.Rule{rule(estate.Apart, "g-a", "g-b"), rule(estate.Together, "g-*")},
			"contradict each other about g-a and g-b"},
		{"one in common", []estate.Rule{rule(estate.Together, "g-a", "g-b"), rule(estate.Apart, "g-b", "g-c")}, ""},
		{"none in common", []estate.Rule{rule(estate.Together, "g-a"), rule(estate.Apart, "g-b", "g-c")}, ""},
		{"of one kind", []estate.Rule{rule(estate.Apart, "g-a", "g-b"), rule(estate.Apart, "g-a", "g-b")}, ""},
		{"one comes after itself", []estate.Rule{after("g-a", "g-b"), after("g-b", "g-c"), after("g-c", "g-a")},
			"g-a would be started after itself"},
		{"two come after one", []estate.Rule{after("g-a", "g-b"), after("g-a", "g-c"), after("g-b", "g-c")}, ""},
		{"all of a pattern after one of them", []estate.Rule{after("g-a", "g-*")}, ""},
		{"after nobody", []estate.Rule{after("nobody", "g-a")}, `names "nobody", and no host has such a guest`},
		{"one is only preferred", []estate.Rule{rule(estate.Together, "g-a", "g-b"),
			{Keep: estate.Apart, Guests: []string{"g-*"}, Prefer: true}}, ""},
	} {
		f := facts()
		f.Rules = c.rules
		a := answerOf(f, "rules")
		if (a.Level == Blocker) != (c.says != "") || !strings.Contains(a.Evidence, c.says) {
			t.Errorf("%s: %s, %q", c.what, a.Level, a.Evidence)
		}
	}
}

// Every rule of which something is wrong is named: that it means nobody, that it is broken already. What is only preferred,
// and what a guest that is off would break, is not.
func TestEveryRuleThatIsNotKeptIsNamed(t *testing.T) {
	f := facts()
	f.Readings["a"].Guests = append(f.Readings["a"].Guests, estate.Guest{Name: "g-d", State: estate.Running},
		estate.Guest{Name: "g-off", State: estate.Off})
	f.Rules = []estate.Rule{{Keep: estate.Together, Guests: []string{"g-a", "g-b"}}, {Keep: estate.Apart, Guests: []string{"g-a", "g-d"}},
		{Keep: estate.KeptIn, Guests: []string{"g-c"}, Hosts: []string{"a", "b"}}, {Keep: estate.KeptOut, Guests: []string{"g-b"}, Hosts: []string{"b"}},
		{Keep: estate.Together, Guests: []string{"g-a", "g-c"}, Prefer: true}, {Keep: estate.Apart, Guests: []string{"g-a", "g-off"}},
		{Keep: estate.Together, Guests: []string{"g-a", "g-d"}}, {Keep: estate.KeptIn, Guests: []string{"g-a"}, Hosts: []string{"a"}}}
	a := answerOf(f, "rules")
	for _, says := range []string{"g-a is on a and g-b on b", "g-a and g-d are both on a", `"keep g-c inside a, b" is broken already: g-c is on c`,
		`"keep g-b outside b" is broken already: g-b is on b`} {
		if !strings.Contains(a.Evidence, says) {
			t.Errorf("it does not say %q: %s", says, a.Evidence)
		}
	}
	if n := strings.Count(a.Evidence, "broken already"); n != 4 {
		t.Errorf("%d are broken: %s", n, a.Evidence)
	}
	f.Rules = f.Rules[2:3]
	if a := answerOf(f, "rules"); a.Level != Caution {
		t.Errorf("%+v", a)
	}
	f.Rules = append(f.Rules, estate.Rule{Keep: estate.Apart, Guests: []string{"g-x", "g-y"}})
	if a := answerOf(f, "rules"); a.Level != Blocker || !strings.Contains(a.Evidence, "g-x") || !strings.Contains(a.Evidence, "g-y") ||
		!strings.Contains(a.Evidence, "broken already") {
		t.Errorf("%+v", a)
	}
}

// That no host has a guest is said only where all were read.
func TestARuleAboutAGuestThatIsNotFound(t *testing.T) {
	f := facts()
	f.Rules = []estate.Rule{{Keep: estate.Apart, Guests: []string{"g-a", "g-x"}}}
	if a := answerOf(f, "rules"); a.Level != Blocker || a.Unknown ||
		!strings.HasSuffix(a.Evidence, "no host has such a guest") {
		t.Errorf("%+v", a)
	}
	for _, hide := range []func(){
		func() {
			f.Readings["b"].SetSection(estate.Section{Name: estate.GuestList, At: now, Err: "libvirt hangs"})
		},
		func() { delete(f.Readings, "b") },
	} {
		hide()
		if a := answerOf(f, "rules"); a.Level != Blocker || !a.Unknown ||
			!strings.HasSuffix(a.Evidence, "the guests of b could not be") {
			t.Errorf("%+v", a)
		}
	}
}

// What is counted of guests: who comes to rest, who is carried while it is off, and how many find a place.
func TestWhatIsCountedOfGuests(t *testing.T) {
	f := facts()
	f.Reserve = 0
	a := f.Readings["a"]
	more := func(name string) { a.Guests = append(a.Guests, estate.Guest{Name: name, State: estate.Running}) }
	more("rests")
	more("cold")
	f.Rest, f.Cold = map[string]bool{"rests": true}, map[string]bool{"cold": true}
	if got := answerOf(f, "guests"); got.Evidence !=
		"able to leave: 1; at rest meanwhile: 1; shut down, moved, and started there: 1" {
		t.Errorf("%q", got.Evidence)
	}
	if got := answerOf(f, "fit"); got.Evidence != "its 2 guests find a place, with the reserve of 0 kept; "+
		"1 come to rest with it" {
		t.Errorf("%q", got.Evidence)
	}
	f = facts()
	if got := answerOf(f, "fit"); got.Evidence != "its guest finds a place, with the reserve of 1 kept" {
		t.Errorf("%q", got.Evidence)
	}
}

// That a check must never be waived is said where it blocks, and nowhere else; how long an answer holds only where ages
// matter, from the oldest of what it looked at.
func TestWhatAnAnswerSaysOfItself(t *testing.T) {
	f := facts()
	f.Readings["a"].BMC.Waiting = []estate.BMCTask{{ID: "1"}}
	if got := answerOf(f, "bmc"); got.Level != Blocker || got.Never == "" {
		t.Errorf("%+v", got)
	}
	f.Readings["a"].BMC.Waiting = nil
	old := now.Add(-f.MaxAge / 2)
	f.Readings["a"].SetSection(estate.Section{Name: estate.GuestList, At: old})
	if got := answerOf(f, "bmc"); got.Level == Blocker || got.Never != "" {
		t.Errorf("%+v", got)
	}
	if got := answerOf(f, "reachable"); !got.At.Equal(old) || !got.Until.Equal(old.Add(f.MaxAge)) {
		t.Errorf("%+v", got)
	}
	f.MaxAge = 0
	if got := answerOf(f, "reachable"); !got.Until.IsZero() {
		t.Errorf("%+v", got)
	}
	f.Readings["a"].Condition.Ahead = -2 * clockBlocker
	if got := answerOf(f, "clock"); got.Evidence != "its clock is 10 min behind this one" {
		t.Errorf("%q", got.Evidence)
	}
}

// An image waits for power and temperature; what is only not known, or of something else, is told and holds nothing up.
func TestPowerBeforeAnImage(t *testing.T) {
	for _, c := range []struct {
		item    estate.Health
		flashes bool
		want    Level
	}{
		{estate.Health{Item: "power redundancy", Detail: "lost"}, true, Blocker},
		{estate.Health{Item: "temperature CPU 1", Detail: "97 °C"}, true, Blocker},
		{estate.Health{Item: "power supply 2", Detail: "dead"}, false, Caution},
		{estate.Health{Item: "power supply 2", Unknown: true, Detail: "it does not say"}, true, Caution},
		{estate.Health{Item: "fan 3", Detail: "it stands"}, true, Caution},
		{estate.Health{Item: "power supply 2", OK: true}, true, Clear},
	} {
		f := facts()
		f.Flashes = c.flashes
		r := f.Readings["a"]
		r.Health = append(slices.Clone(r.Health), c.item)
		if a := answerOf(f, "health"); a.Level != c.want {
			t.Errorf("%+v: %s, %q", c, a.Level, a.Evidence)
		}
	}
}

// Tasks that the visit clears first do not count, and are named.
func TestTasksThatAreClearedFirst(t *testing.T) {
	f := facts()
	f.Readings["a"].BMC.Waiting = []estate.BMCTask{{ID: "1"}, {ID: "2"}}
	for want, clears := range map[string][]string{"1 task in the BMC's queue would run at the next restart: 2": {"1"}, "first clears from its queue 1, 2": {"1", "2"}} {
		f.Clears = clears
		if a := answerOf(f, "bmc"); !strings.Contains(a.Evidence, want) || (a.Level == Clear) != (len(clears) == 2) {
			t.Errorf("%v: %s, %q", clears, a.Level, a.Evidence)
		}
	}
}
