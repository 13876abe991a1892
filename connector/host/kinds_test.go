package host

import (
	"os"
	"strings"
	"testing"

	"yareharbour/connector/libvirt"
	"yareharbour/connector/linux"
	"yareharbour/core/act"
)

// Every kind of act that there is can be ordered of a host, and stands in the page about the journal's form.
func TestEveryKindOfActIsOrdered(t *testing.T) {
	page, err := os.ReadFile("../../docs/formats.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range act.Names() {
		if orders[n] == nil {
			t.Errorf("%s can't be ordered", n)
		}
		if !strings.Contains(string(page), "`"+string(n)+"`") {
			t.Errorf("docs/formats.md does not name %q among the kinds", n)
		}
	}
	if len(orders) != len(act.Names()) {
		t.Errorf("%d kinds can be ordered, and there are %d", len(orders), len(act.Names()))
	}
}

// What proves that libvirt asks the hook is what the hook says.
func TestTheHookSaysWhatIsLookedFor(t *testing.T) {
	if !strings.Contains(linux.Hook, libvirt.HookSays) || !strings.Contains(linux.Hook, libvirt.ProofGuest) {
		t.Error(linux.Hook)
	}
}
