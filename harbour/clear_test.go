package harbour

import (
	"slices"
	"strings"
	"testing"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/sim"
)

// What is left in the queue of a BMC keeps a host from being proven; clearing it is a decision in the round that failed,
// which goes on, and work by hand where there is none. What does not wait there can't be cleared.
func TestTheQueueOfABMCIsCleared(t *testing.T) {
	t.Parallel()
	h := openAt(t, 3000)
	if err := simulation(h).Order(t.Context(), sim.Fault{Host: "heron", Kind: sim.LeavesTask, Times: 1}); err != nil {
		t.Fatal(err)
	}
	s, err := h.Start(t.Context(), start(brief(h, "vts", "heron")), unseen)
	if err != nil || s.Status != course.Failing {
		t.Fatalf("%v: %+v", err, s)
	}
	v := s.Visit("heron")
	if !strings.Contains(v.Failure.Error, "in its BMC's queue there is left: waiting-") || len(v.Failure.Queued) != 1 ||
		!slices.ContainsFunc(s.Ways(), func(w course.Way) bool { return w.Asks == course.AskClear }) {
		t.Errorf("%+v, %v", v.Failure, s.Ways())
	}
	w := ByHand{Host: "heron", Brief: brief(h, "vts"), Reason: "nobody knows it",
		Tasks: []string{"another"}}
	if _, _, err := h.Clear(t.Context(), w, unseen); err == nil || !strings.Contains(err.Error(), `no task "another" waits`) {
		t.Errorf("%v", err)
	}
	w.Tasks = nil
	s, left, err := h.Clear(t.Context(), w, unseen)
	if err != nil || left != "" || s.Status != course.Finished || !s.Visit("heron").Did(act.Clear, 0) || len(s.Plan.Visits) != 1 {
		t.Fatalf("%v %q: %+v", err, left, s)
	}
	if s.Plan.Brief.Hand != nil {
		t.Error("it was cleared beside the round that failed")
	}
	if _, _, err := h.Clear(t.Context(), w, unseen); err == nil || !strings.Contains(err.Error(), "nothing waits") {
		t.Errorf("%v", err)
	}
	w.Host, w.Brief = "curlew", brief(h, "tides")
	if s, _, err = h.Clear(t.Context(), w, unseen); err != nil || s.Status != course.Finished || s.Plan.Brief.Hand == nil {
		t.Fatalf("%v: %+v", err, s)
	}
	if tasks, err := h.Tasks(t.Context(), "curlew"); err != nil || len(tasks) > 0 {
		t.Errorf("%v %v", tasks, err)
	}
}
