package harbour

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"yareharbour/core/plan"
	"yareharbour/core/precheck"
)

// Waive puts a pardon of what a check found on a host on the record. It is refused for what is clear, and for what must
// never be waived.
func (h *Harbour) Waive(ctx context.Context, cluster string, a precheck.Answer, reason, by string,
	until time.Time) (precheck.Waiver, error) {
	w, err := precheck.NewWaiver(cluster, a, reason, by, h.World.Now(), until)
	if err != nil {
		return w, err
	}
	if h.unwritable != nil {
		return w, fmt.Errorf("a waiver goes on the record, and the state directory can't be written: %w", h.unwritable)
	}
	w.ID = ulid.Make().String()
	return w, h.Waivers.KeepWaiver(ctx, w)
}

// Unwaive takes a waiver back; it stays on the record. The waiver is named by its id, or the end of it.
func (h *Harbour) Unwaive(ctx context.Context, cluster, id, by string) (precheck.Waiver, error) {
	all, err := h.Waivers.Waivers(ctx, cluster)
	if err != nil {
		return precheck.Waiver{}, err
	}
	now := h.World.Now()
	var found []precheck.Waiver
	for _, w := range all {
		if strings.HasSuffix(strings.ToUpper(w.ID), strings.ToUpper(id)) && id != "" && w.Stands(now) {
			found = append(found, w)
		}
	}
	if len(found) != 1 {
		return precheck.Waiver{},
			fmt.Errorf("%d waivers of %s that stand have an id that ends in %q", len(found), cluster, id)
	}
	w := found[0]
	w.Ended, w.EndedBy = now, by
	return w, h.Waivers.KeepWaiver(ctx, w)
}

// Prechecks reads a cluster and asks every check of the hosts that a round would visit. hosts and checks narrow that;
// none means all.
func (h *Harbour) Prechecks(ctx context.Context, b plan.Brief, checks []string) ([]precheck.Answer, []plan.Aside, error) {
	names := []string{"along"}
	for _, x := range precheck.Checks {
		names = append(names, x.Name)
	}
	for _, x := range h.own {
		names = append(names, x.Name)
	}
	for _, c := range checks {
		if !slices.Contains(names, c) {
			return nil, nil, fmt.Errorf("there is no check %q; there are %s", c, strings.Join(names, ", "))
		}
	}
	in, err := h.Gather(ctx, b)
	if err != nil {
		return nil, nil, err
	}
	p := plan.Make(*in)
	var out []precheck.Answer
	for i := range p.Visits {
		for _, a := range p.Visits[i].Answers {
			if len(checks) == 0 || slices.Contains(checks, a.Check) {
				out = append(out, a)
			}
		}
	}
	return out, p.Aside, nil
}
