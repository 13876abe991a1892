package harbour

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/sim"
	"yareharbour/sim/demo"
)

// hiding is the demo estate with a BMC that lists one of heron's adapters only once it has new firmware itself.
func hiding() *sim.World {
	w := demo.World()
	h := w.Hosts["heron"]
	hidden := func(c estate.Component) bool { return c.Key == "fw:lorne-l25" && c.Device == "slot 4" }
	i := slices.IndexFunc(h.Reading.Components, hidden)
	h.Reveals = map[estate.Key][]estate.Component{"fw:corran-bmc": {h.Reading.Components[i]}}
	h.Reading.Components = slices.DeleteFunc(slices.Clone(h.Reading.Components), hidden)
	return w
}

// What a visit brings to light is brought in line in a further pass, told as unplanned, and proven with the rest; but
// not by releases and baselines that came after the round had begun.
func TestWhatAVisitBringsToLight(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name    string
		meddles func(h *Harbour) error
		want    string
	}{
		{"as planned by", func(*Harbour) error { return nil }, "7.4.2"},
		{"another baseline", func(h *Harbour) error {
			s, _ := h.Source("settings")
			_, err := h.SaveBaseline(t.Context(), "settings", strings.Replace(s.Text, "value: drop", "value: reject", 1),
				s.Version, "x")
			return err
		}, "7.3.1"},
		{"another release list", func(h *Harbour) error {
			if err := os.MkdirAll(h.shelf.Dir, 0o700); err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(h.shelf.Dir, "more"), []byte("x"), 0o600)
		}, "7.3.1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			h := openWorld(t, 1500, hiding)
			meddled := false
			s, err := h.Start(t.Context(), start(brief(h, "vts", "heron")), func(e course.Event) {
				if e.Kind == course.Checked && !meddled {
					meddled = true
					if err := c.meddles(h); err != nil {
						t.Error(err)
					}
				}
			})
			if err != nil || s.Status != course.Finished {
				t.Fatalf("%v: %+v", err, s)
			}
			w, err := simulation(h).World(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			r := &w.Hosts["heron"].Reading
			if got, ok := r.Component("fw:lorne-l25", "slot 4"); !ok || got.Version != c.want || got.Running != "" {
				t.Errorf("the adapter that came to light is %+v, want %s", got, c.want)
			}
			v := s.Visit("heron")
			told := slices.ContainsFunc(v.Notes, func(n string) bool {
				return strings.HasPrefix(n, "unplanned: fw:lorne-l25 (slot 4) 7.3.1 → 7.4.2 applies too")
			})
			planned := len(s.Plan.Visits[0].Changes)
			if unplanned := c.want == "7.4.2"; told != unplanned || len(v.Changes) > planned != unplanned ||
				v.Did(act.Flash, planned) != unplanned {
				t.Errorf("%d changes, %d of them planned; notes %q", len(v.Changes), planned, v.Notes)
			}
		})
	}
}
