package harbour

import (
	"cmp"
	"context"
	"reflect"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/view"
	"yareharbour/program"
)

// forecast is the plan of a cluster's usual round, and the facts that it is made from.
type forecast struct {
	of    plan.Input // without the functions, the time and the catalogue
	known *catalogue.Catalogue
	stock view.Stock
	plan  *plan.Plan
	until time.Time // when the answer must be looked for anew though no fact changed; zero where it holds
}

// answered is what a host's package manager said of its visit, and the components that it had then.
type answered struct {
	has []estate.Component
	plan.Resolved
}

// Foresee plans the usual round of each cluster whose facts are not those of the last time, from what is remembered of
// its hosts, and tells whether there was one. The next View has the outcome. It reads no host.
func (h Planning) Foresee(ctx context.Context, e *view.Estate) (news bool, err error) {
	if h.Unreadable() != nil {
		return false, nil // then nothing is planned
	}
	times, err := h.rounds.Times(ctx)
	if err != nil {
		return false, err
	}
	for _, c := range h.Estate.Clusters {
		f, err := h.foresees(ctx, e, c, times)
		if err != nil || ctx.Err() != nil {
			return news, cmp.Or(err, ctx.Err())
		}
		if h.foreseen(f, e.Checker.Now) != nil {
			continue
		}
		in := f.of
		in.Payloads, in.Programs, in.Below, in.Now, in.Catalogue = h.payloads.Check, program.Check, e.Checker.Below, e.Checker.Now, e.Checker.Catalogue
		in.Own = h.askAll(ctx, c, in.Readings)
		f.plan = &plan.Plan{Brief: in.Brief}
		if in.Wrong() == nil { // where the usual round means nothing on a cluster, it visits nobody
			*f.plan = plan.Make(in)
			f.until = f.plan.Stands()
		}
		h.looking.Lock()
		if h.looks.forecasts == nil {
			h.looks.forecasts = map[string]forecast{}
		}
		h.looks.forecasts[c.Name] = f
		h.looking.Unlock()
		news = true
	}
	return news, nil
}

// remembers are the plans that were foreseen and still hold, by cluster. Where nothing was ever foreseen nothing is asked.
func (h *house) remembers(ctx context.Context, e *view.Estate) (map[string]*plan.Plan, error) {
	h.looking.Lock()
	none := len(h.looks.forecasts) == 0
	h.looking.Unlock()
	if none {
		return nil, nil
	}
	times, err := h.rounds.Times(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]*plan.Plan{}
	for _, c := range h.Estate.Clusters {
		f, err := h.foresees(ctx, e, c, times)
		if err != nil {
			return nil, err
		}
		if p := h.foreseen(f, e.Checker.Now); p != nil {
			out[c.Name] = p
		}
	}
	return out, nil
}

// foresees brings together what the usual round of a cluster would be planned from.
func (h *house) foresees(ctx context.Context, e *view.Estate, c estate.Cluster, times plan.Times) (forecast, error) {
	in, err := h.facts(ctx, c, e.Checker, map[string]*estate.Reading{}, nil, times)
	if err != nil {
		return forecast{}, err
	}
	in.Brief = plan.DefaultBrief(c)
	in.Verdicts = map[string][]drift.Verdict{}
	h.looking.Lock()
	defer h.looking.Unlock()
	in.Resolved = map[string]plan.Resolved{}
	for _, host := range c.Hosts {
		r := e.Readings[host]
		if r == nil {
			continue
		}
		in.Readings[host], in.Verdicts[host] = r, e.Verdicts[host]
		if a, ok := h.looks.answered[host]; ok && reflect.DeepEqual(a.has, r.Components) {
			in.Resolved[host] = a.Resolved
		}
	}
	in.Payloads, in.Programs, in.Below, in.Now, in.Catalogue = nil, nil, nil, time.Time{}, nil
	return forecast{of: in, known: e.Checker.Catalogue, stock: view.Stock{Count: e.Stock.Count, Size: e.Stock.Size}}, nil
}

// foreseen is the plan that was made from the same facts, and nil where none was.
func (h *house) foreseen(f forecast, now time.Time) *plan.Plan {
	h.looking.Lock()
	defer h.looking.Unlock()
	last, ok := h.looks.forecasts[f.of.Cluster.Name]
	if !ok || !last.until.IsZero() && !now.Before(last.until) || last.known != f.known || last.stock != f.stock ||
		!reflect.DeepEqual(last.of, f.of) {
		return nil
	}
	return last.plan
}

// recall keeps what package managers said of a plan's visits for as long as their hosts stay as they are.
func (h *house) recall(in *plan.Input) {
	h.looking.Lock()
	defer h.looking.Unlock()
	if h.looks.answered == nil {
		h.looks.answered = map[string]answered{}
	}
	for host, said := range in.Resolved {
		h.looks.answered[host] = answered{in.Readings[host].Components, said}
	}
}
