package harbour

import (
	"errors"
	"testing"

	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/sim"
)

// bands are what the Waterline says of each cluster: how many hosts a round would visit, and -1 where nobody knows.
func bands(t *testing.T, h *Harbour) map[string]int {
	t.Helper()
	e, err := h.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]int{}
	for _, b := range e.Survey.Bands {
		if out[b.Cluster.Name] = -1; b.Planned {
			out[b.Cluster.Name] = b.Ready
		}
	}
	return out
}

func foresee(t *testing.T, h *Harbour, want bool) {
	t.Helper()
	e, err := h.View(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if news, err := h.Foresee(t.Context(), e); err != nil || news != want {
		t.Fatalf("something was planned: %v, want %v, %v", news, want, err)
	}
}

// How many hosts are ready is what plans say, on the same facts, and planned anew where a fact changed; where only looking
// is allowed, and where the usual round means nothing, none is.
func TestReadyIsWhatThePlanWouldVisit(t *testing.T) {
	h := open(t)
	alone := estate.Cluster{Name: "alone", Hosts: []string{"lapwing"}, Reserve: 1, Act: true}
	hosts, err := h.Hosts()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.Read(t.Context(), hosts, nil); err != nil {
		t.Fatal(err)
	}
	for cluster, n := range bands(t, h) {
		if n != -1 {
			t.Errorf("%s: %d ready, and nobody planned", cluster, n)
		}
	}
	foresee(t, h, true)
	foresee(t, h, false)
	compare := func() (counts map[string]int) {
		counts = bands(t, h)
		for cluster, n := range counts {
			c, _ := h.Estate.Cluster(cluster)
			p, err := h.Plan(t.Context(), plan.DefaultBrief(c))
			if err != nil {
				t.Fatal(err)
			}
			if len(p.Ready()) != n {
				t.Errorf("%s: %d ready, and the plan visits %d of %d", cluster, n, len(p.Ready()), len(p.Visits))
			}
		}
		return counts
	}
	before := compare()
	if before["yard"] != 0 || before["vts"]+before["tides"] == 0 {
		t.Errorf("ready: %v", before)
	}
	if err := simulation(h).Order(t.Context(), sim.Fault{Host: "heron", Kind: sim.Crashes}); err != nil {
		t.Fatal(err)
	}
	if _, err := h.Read(t.Context(), hosts, nil); err != nil {
		t.Fatal(err)
	}
	foresee(t, h, true)
	if after := compare(); after["vts"] != 0 {
		t.Errorf("with a host that does not answer %d of its cluster are ready", after["vts"])
	}
	h.Estate.Clusters = []estate.Cluster{alone}
	foresee(t, h, true)
	if n := bands(t, h)["alone"]; n != 0 {
		t.Errorf("of a cluster of one host, which must keep one in reserve, %d are ready", n)
	}
	h.catalogueFault = errors.New("a list can't be read")
	foresee(t, h, false)
	if n := bands(t, h)["alone"]; n != -1 {
		t.Errorf("while not all of the catalogue can be read %d are ready", n)
	}
}
