package compare

import (
	"strings"
	"testing"

	"yareharbour/core/narrow"
	"yareharbour/core/view"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

func open(t *testing.T, change func(e *view.Estate)) *parttest.Bench {
	f := parttest.Frame()
	f.View = parttest.Estate(1, 3)
	change(f.View)
	c := view.Compare("c0h000@7d", f.View.Readings["c0h000"], "c0h001", f.View.Readings["c0h001"])
	return parttest.Open(t, New(part.Place{Cluster: "c0", Host: "c0h001", What: &c}), f)
}

// What differs stands beside each other under the names by which it was asked for; a filter narrows components, and
// leaves out what is no component.
func TestWhatDiffers(t *testing.T) {
	b := open(t, func(e *view.Estate) { e.Readings["c0h000"].Kernel.Running = "6.1-old" })
	b.Shows(120, 20, "c0h000@7d", "c0h001", "deb:k", "fw:nic", "6.1-old")
	f, err := narrow.Parse("kind=fw")
	if err != nil {
		t.Fatal(err)
	}
	b.Frame.Filter = f
	b.Take(part.Shown{})
	b.Shows(120, 20, "fw:nic")
	b.Hides(120, 20, "deb:k", "6.1-old")
	if what := b.Screen.Export(b.Frame, "csv"); what == nil || !strings.Contains(parttest.Named(what), "compare-c0h000@7d-c0h001") {
		t.Errorf("%+v", what)
	}
}

// What was not read on both sides is named, and never counts as alike.
func TestWhatIsNotCompared(t *testing.T) {
	b := open(t, func(e *view.Estate) {
		r := e.Readings["c0h001"]
		r.Components = r.Components[:1]
		for i := range r.Sections {
			if r.Sections[i].Name == "firmware" {
				r.Sections[i].Err = "the BMC is silent"
			}
		}
	})
	b.Shows(120, 20, "? not compared, since one of the two lacks it: firmware", "deb:k")
	b.Hides(120, 20, "fw:nic")
}

// A place without a comparison shows none, and falls over nothing.
func TestWithoutAComparison(t *testing.T) {
	b := parttest.Open(t, New(part.Place{}), parttest.Frame())
	b.Step(0, 1)
	b.Enter()
	b.Shows(80, 10, "nothing differs in what both hold")
}
