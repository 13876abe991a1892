package tui

import (
	"slices"
	"testing"

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
