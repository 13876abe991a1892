package precheck

import (
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
)

// A guest that runs on two hosts blocks both, and every host that has to be emptied; on its way it is on one only. What
// was never read is not clear, and a host that is off runs nothing.
func TestAGuestThatRunsTwice(t *testing.T) {
	guest := func(state estate.GuestState) []estate.Guest {
		return []estate.Guest{{Name: "gauge", ID: "5e1f", State: state}}
	}
	facts := func() Facts {
		f := Facts{Hosts: []string{"a", "b", "c"}, Readings: map[string]*estate.Reading{}}
		for _, h := range f.Hosts {
			r := &estate.Reading{Host: h}
			r.SetSection(estate.Section{Name: estate.Host, At: now})
			r.SetSection(estate.Section{Name: estate.GuestList, At: now})
			f.Readings[h] = r
		}
		return f
	}
	ask := func(f Facts, host string) Answer {
		for _, a := range Host(f, host) {
			if a.Check == "single" {
				return a
			}
		}
		t.Fatal("it is not asked")
		return Answer{}
	}
	f := facts()
	f.Readings["a"].Guests, f.Readings["b"].Guests = guest(estate.Running), guest(estate.Running)
	for host, level := range map[string]Level{"a": Blocker, "b": Blocker, "c": Clear} {
		if a := ask(f, host); a.Level != level || level == Blocker && (a.Never == "" || !strings.Contains(a.Evidence, "gauge runs on a and b")) {
			t.Errorf("%s: %+v", host, a)
		}
	}
	f.Empties = true
	if a := ask(f, "c"); a.Level != Blocker {
		t.Errorf("a host whose guests may have to go there: %+v", a)
	}
	f.Moving = map[string]bool{"5e1f": true}
	if a := ask(f, "a"); a.Level != Clear {
		t.Errorf("one that the round moves at this moment: %+v", a)
	}
	for _, state := range []estate.GuestState{estate.Suspended, estate.Off, estate.Crashed} {
		f := facts()
		f.Readings["a"].Guests, f.Readings["b"].Guests = guest(estate.Running), guest(state)
		if a := ask(f, "a"); a.Level != Clear {
			t.Errorf("%s there: %+v", state, a)
		}
	}
	f = facts()
	f.Readings["b"].SetSection(estate.Section{Name: estate.GuestList, Err: "libvirt is stopped"})
	if a := ask(f, "a"); a.Level != Caution || !a.Unknown {
		t.Errorf("guests that were never read: %+v", a)
	}
}

// Of a host that does not answer nobody says that it takes orders.
func TestWhoDoesNotAnswerTakesNoOrders(t *testing.T) {
	r := &estate.Reading{Host: "a"}
	r.SetSection(estate.Section{Name: estate.Host, Err: "no route", Held: now, HeldFrom: "SSH"})
	if x := orders(Facts{Hosts: []string{"a"}, Readings: map[string]*estate.Reading{"a": r}}, r); x.level != Blocker || !x.unknown {
		t.Errorf("%+v", x)
	}
}

// That a guest runs twice is sure once both hosts were looked at again: it may have moved between the first two looks.
func TestASecondLookAtBoth(t *testing.T) {
	at := func(a, b time.Duration) map[string]*estate.Reading {
		out := map[string]*estate.Reading{}
		for h, d := range map[string]time.Duration{"a": a, "b": b} {
			r := &estate.Reading{Host: h, Guests: []estate.Guest{{Name: "g", ID: "5e1f", State: estate.Running}}}
			r.SetSection(estate.Section{Name: estate.GuestList, At: now.Add(d)})
			out[h] = r
		}
		return out
	}
	hosts := []string{"a", "b"}
	var seen map[string]time.Time
	for _, c := range []struct {
		a, b time.Duration
		sure bool
	}{{1, 5, false}, {1, 5, false}, {6, 5, false}, {6, 7, true}, {9, 9, true}} {
		var sure map[string]bool
		seen, sure = Again(Twice(hosts, at(c.a, c.b)), at(c.a, c.b), seen)
		if sure["5e1f"] != c.sure {
			t.Errorf("%+v: %v", c, sure)
		}
	}
	if seen, _ = Again(nil, nil, seen); len(seen) != 0 {
		t.Errorf("one that runs once is remembered: %v", seen)
	}
}
