package bundles

import (
	"context"
	"errors"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
	"yareharbour/core/narrow"
	"yareharbour/harbour"
	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

type app struct {
	took  []string
	wrong error
}

func (d *app) TakeIn(_ context.Context, o *harbour.Opened, _ func(string)) (bool, error) {
	d.took = append(d.took, o.Name)
	return false, d.wrong
}

func open(t *testing.T) (*parttest.Bench, *Screen, *app) {
	d := &app{}
	o := &harbour.Opened{Bundle: catalogue.Bundle{Name: "q4.zip", Size: 5 << 20,
		Files: []catalogue.BundleFile{{Path: "a/releases.yaml", Kind: "release list", Says: "fw:nic 3"},
			{Path: "b/p2.bin", Kind: "payload", Says: "of fw:bmc"}}, Releases: 1}, NewReleases: 1}
	s := New(d, part.Place{What: o})
	return parttest.Open(t, s, parttest.Frame()), s, d
}

// What is in the archive is shown before anything is taken in; a filter narrows the files, and what it hides is taken
// in all the same: a bundle comes whole.
func TestWhatIsInIt(t *testing.T) {
	b, s, _ := open(t)
	b.Shows(120, 20, "q4.zip", "a/releases.yaml", "release list", "fw:nic 3", "b/p2.bin")
	f, err := narrow.Parse("releases")
	if err != nil {
		t.Fatal(err)
	}
	b.Frame.Filter = f
	b.Take(part.Shown{})
	b.Shows(120, 20, "a/releases.yaml")
	b.Hides(120, 20, "b/p2.bin")
	if what := s.Export(b.Frame, "csv"); what == nil || !strings.Contains(parttest.Named(what), "bundle-q4.zip") {
		t.Errorf("%+v", what)
	}
}

func TestTakingItIn(t *testing.T) {
	b, _, d := open(t)
	b.Frame.Job = "syncing"
	if not := b.Press("a"); not != "syncing is under way; X ends it" || len(d.took) > 0 {
		t.Errorf("%q, %v", not, d.took)
	}
	b.Frame.Job = ""
	d.wrong = errors.New("the disk is full")
	if b.Press("a"); b.Said != "the disk is full" {
		t.Errorf("%q", b.Said)
	}
	d.wrong = nil
	if b.Press("a"); b.Said != "q4.zip was taken in" || len(d.took) != 2 {
		t.Errorf("%q, %v", b.Said, d.took)
	}
	b.Said = ""
	if b.Take(takenIn{name: "another.zip"}); b.Said != "" {
		t.Errorf("another bundle's end closes this one: %q", b.Said)
	}
}
