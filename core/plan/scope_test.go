package plan

import (
	"testing"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
)

// A scope holds what it says, and nothing else; a word that says nothing is refused with what there is.
func TestScopes(t *testing.T) {
	nic := &drift.Verdict{Component: "fw:lorne-l25", Class: "network", Clause: &baseline.Bound{Baseline: "hardware"}}
	tls := &drift.Verdict{Component: "deb:brae-tls", Clause: &baseline.Bound{Baseline: "platform"}}
	for word, want := range map[string]string{"fw:lorne-l25": "nic", "fw:lorne-l2": "", "fw:*": "nic", "*tls": "tls", "layer=platform": "tls",
		"layer=firmware": "nic", "class=network": "nic", "class=disk": "", "baseline=platform": "tls", "baseline=plat": "", "*": "nictls"} {
		s, err := ParseScope(word)
		if err != nil {
			t.Errorf("%s: %v", word, err)
		}
		got := ""
		if s.Holds(nic) {
			got += "nic"
		}
		if s.Holds(tls) {
			got += "tls"
		}
		if got != want {
			t.Errorf("%s holds %q, want %q", word, got, want)
		}
	}
	for _, word := range []string{"layer=cloud", "class=paint", "baseline=", "vendor=corran", "tls", "fw:[", ""} {
		if s, err := ParseScope(word); err == nil {
			t.Errorf("%q is taken for %q", word, s)
		}
	}
}
