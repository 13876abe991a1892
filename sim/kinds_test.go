package sim

import (
	"testing"

	"yareharbour/core/act"
)

// Every kind of act that there is can be done to a simulated host, and nothing else.
func TestEveryKindOfActIsCarriedOut(t *testing.T) {
	for _, n := range act.Names() {
		if effects[n] == nil {
			t.Errorf("%s is not carried out", n)
		}
	}
	if len(effects) != len(act.Names()) {
		t.Errorf("%d kinds are carried out, and there are %d", len(effects), len(act.Names()))
	}
}
