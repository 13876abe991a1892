package tui

import (
	"slices"
	"strings"
	"testing"

	"yareharbour/core/estate"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

// One key for an action, everywhere: no screen takes a key with which the cursor moves, what is called the same has the
// same key, none has two meanings on one screen, and all keys of the screens are told in the help.
func TestOneKeyPerAction(t *testing.T) {
	f := &fake{snap: parttest.Estate(2, 3), plan: aPlan()}
	same := map[string]string{}
	screensSeen := 0
	for name := range screens {
		m := model(t, f, 160, 45)
		if name == part.Bundle || name == part.Compare {
			continue // they are opened on something
		}
		p := part.Place{Screen: name, Cluster: "c0", Host: "c0h000", Subject: "b"}
		if name == part.Edit {
			p.What = part.Draft{Text: "baseline: b\n", After: 2}
		}
		settle(m, m.goTo(p))
		if on(m) != name {
			t.Fatalf("%s can't be opened", name)
		}
		screensSeen++
		taken := map[string]string{}
		for _, k := range m.top().Keys(m.frame()) {
			if _, moves := steps[k.Key]; moves {
				t.Errorf("%s: %s is for %q, and moves the cursor elsewhere", name, k.Key, k.Name)
			}
			if other, ok := taken[k.Key]; ok {
				t.Errorf("%s: %s is for %q and for %q", name, k.Key, k.Name, other)
			}
			if other, ok := same[k.Hint]; ok && k.Hint != "" && other != k.Key && !slices.Contains([]string{"all", "fewer"}, k.Hint) {
				t.Errorf("%s: %q is %s, and %s elsewhere", name, k.Hint, k.Key, other)
			}
			taken[k.Key], same[k.Hint] = k.Name, k.Key
		}
	}
	if screensSeen < 9 {
		t.Errorf("only %d screens were looked at", screensSeen)
	}
}

// Whoever looks for something by a word of the trade finds it: what a key does, a component, a guest, a feed, a check.
func TestTheFinderKnowsTheTrade(t *testing.T) {
	e := parttest.Estate(2, 3)
	e.Readings["c1h002"].Guests = []estate.Guest{{Name: "traffic-db"}}
	m := model(t, &fake{snap: e, plan: aPlan()}, 120, 40)
	for text, want := range map[string]string{
		"schedule": "plan a round", "update": "plan a round", "maintenance": "plan a round", "history": "see the round", "report": "export what",
		"firmware": "see what can be had", "policy": "see how things should be", "reboot": "close, restart", "prechecks": "prechecks of c0",
		"fw:nic": "component fw:nic", "mirror": "feed mirror", "c0h001": "host c0h001", "traffic": "guest traffic-db on c1h002",
	} {
		names := ""
		for i, k := range m.found(text) {
			if i < 6 {
				names += k.Name + "\n"
			}
		}
		if !strings.Contains(names, want) {
			t.Errorf("%q finds\n%s, want %q among the first", text, names, want)
		}
	}
	for _, k := range m.found("feed mirror") {
		settle(m, m.heard(k.Do()))
		break
	}
	if on(m) != part.Catalogue {
		t.Errorf("on %s", on(m))
	}
	shows(t, m, "▸· mirror")
}

// Keys lead from the Waterline to every screen, and no key that can be used does nothing.
func TestEveryScreenIsReachedAndNoKeyLeadsNowhere(t *testing.T) {
	t.Chdir(t.TempDir())
	ways := map[string][]string{part.Waterline: nil}
	at := func(way []string) (*Model, *fake) {
		f := &fake{snap: parttest.Estate(2, 3), plan: aPlan()}
		m := model(t, f, 160, 45)
		press(m, way...)
		return m, f
	}
	for todo := []string{part.Waterline}; len(todo) > 0; todo = todo[1:] {
		for _, to := range [][]string{nil, {"tab"}, {"down"}} {
			way := append(slices.Clone(ways[todo[0]]), to...)
			m, _ := at(way)
			if _, types := m.top().(part.Typing); types || on(m) != todo[0] {
				continue
			}
			for i, k := range m.keys() {
				if k.Not != "" {
					continue
				}
				m, f := at(way)
				before, calls := m.View().Content, len(f.calls)
				cmd := m.perform(m.keys()[i])
				settle(m, cmd)
				if m.View().Content == before && m.over == nil && cmd == nil && len(f.calls) == calls {
					t.Errorf("%s, %v: %s (%s) leads nowhere", todo[0], to, k.Key, k.Name)
				}
				typed := append(slices.Clone(way), k.Key)
				if _, asks := m.over.(typing); asks && k.Key != ":" && k.Key != "/" {
					for _, r := range "c0h001" {
						typed = append(typed, string(r))
					}
					typed = append(typed, "enter")
					m, _ = at(typed)
				}
				if _, known := ways[on(m)]; !known {
					ways[on(m)] = typed
					todo = append(todo, on(m))
				}
			}
		}
	}
	for name := range screens {
		if _, known := ways[name]; !known {
			t.Errorf("no key leads to %s", name)
		}
	}
}

// While a file of the estate can't be read every screen says that its verdicts can't be trusted, and none is exported.
func TestVerdictsThatCannotBeTrusted(t *testing.T) {
	t.Chdir(t.TempDir())
	f := &fake{snap: parttest.Estate(2, 3), plan: aPlan()}
	f.snap.Faults = []string{"baselines/guests.yaml:4:1: unknown field"}
	for name, keys := range map[string][]string{part.Drift: {"d"}, part.Host: {"enter"}, part.Plan: {"p"}, part.Prechecks: {"p", "a"},
		part.Round: {"r"}, part.Catalogue: {"c"}, part.Baselines: {"b"}} {
		m := model(t, f, 80, 24)
		press(m, keys...)
		if on(m) != name {
			t.Fatalf("%v leads to %s", keys, on(m))
		}
		shows(t, m, "! verdicts can't be trusted until this can be read: baselines/guests.yaml")
		if name == part.Round {
			continue
		}
		press(m, "e", "t")
		shows(t, m, "nothing is exported while this can't be read: baselines/guests.yaml")
	}
	written(t)
}
