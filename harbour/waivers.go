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

// Waive puts pardons of what checks found on the record, for so long. It is refused for what is clear, and for what must
// never be waived.
func (h Planning) Waive(ctx context.Context, cluster string, of []precheck.Answer, reason string,
	lasts time.Duration) (out []precheck.Waiver, err error) {
	if h.unwritable != nil {
		return nil, fmt.Errorf("a waiver goes on the record, and the state directory can't be written: %w", h.unwritable)
	}
	now := h.Now()
	for _, a := range of {
		w, err := precheck.NewWaiver(cluster, a, reason, h.By, now, now.Add(lasts))
		if err != nil {
			return out, err
		}
		w.ID = ulid.Make().String()
		if err := h.waivers.KeepWaiver(ctx, w); err != nil {
			return out, err
		}
		out = append(out, w)
	}
	return out, nil
}

// Waivers is what was ever waived on a cluster, in the order in which it was.
func (h Planning) Waivers(ctx context.Context, cluster string) ([]precheck.Waiver, error) {
	if _, err := h.Cluster(cluster); err != nil {
		return nil, err
	}
	return h.waivers.Waivers(ctx, cluster)
}

// Unwaive takes a waiver back; it stays on the record. The waiver is named by its id, or the end of it.
func (h Planning) Unwaive(ctx context.Context, cluster, id string) (precheck.Waiver, error) {
	all, err := h.Waivers(ctx, cluster)
	if err != nil {
		return precheck.Waiver{}, err
	}
	now := h.Now()
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
	w.Ended, w.EndedBy = now, h.By
	return w, h.waivers.KeepWaiver(ctx, w)
}

// TakeBack ends waivers before their time.
func (h Planning) TakeBack(ctx context.Context, cluster string, of []precheck.Waiver) error {
	for _, w := range of {
		if _, err := h.Unwaive(ctx, cluster, w.ID); err != nil {
			return err
		}
	}
	return nil
}

// Prechecks reads a cluster and asks every check of the hosts that a round would visit. hosts and checks narrow that;
// none means all.
func (h Planning) Prechecks(ctx context.Context, b plan.Brief, checks []string) ([]precheck.Answer, []plan.Aside, error) {
	names := h.Checks()
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

// Checks are the names of all prechecks, those of the estate file among them.
func (h *house) Checks() []string {
	var names []string
	for _, x := range precheck.Checks {
		names = append(names, x.Name)
	}
	for _, x := range h.own {
		names = append(names, x.Name)
	}
	return names
}
