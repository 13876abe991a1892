package harbour

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"

	"yareharbour/core/plan"
	"yareharbour/round"
	"yareharbour/store"
)

// Plan reads the cluster and plans a round over it. Nothing is touched.
func (h *Harbour) Plan(ctx context.Context, b plan.Brief) (plan.Plan, error) {
	c, err := h.Cluster(b.Cluster)
	if err != nil {
		return plan.Plan{}, err
	}
	if err := h.Sound(); err != nil {
		return plan.Plan{}, fmt.Errorf("nothing is planned while this can't be read: %w", err)
	}
	readings, err := h.Read(ctx, c.Hosts, nil)
	if err != nil {
		return plan.Plan{}, err
	}
	times, err := h.Times(ctx)
	if err != nil {
		return plan.Plan{}, err
	}
	checker := h.Checker()
	return plan.Make(plan.Input{Brief: b, Now: h.World.Now(), MaxAge: MaxAge, Cluster: c, Readings: readings,
		Verdicts: h.Check(checker, readings), Below: checker.Below, Payloads: h.Payloads.Check, Times: times, Catalogue: h.Catalogue()}), nil
}

// Times learns from all rounds that were made how long steps take.
func (h *Harbour) Times(ctx context.Context) (plan.Times, error) {
	t := plan.Times{}
	rounds, err := h.Store.Rounds(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, r := range rounds {
		s, err := h.Round(ctx, r.ID)
		if err != nil {
			return nil, err
		}
		for _, v := range s.Visits {
			for _, span := range v.Spans {
				if !span.Failed && !span.To.IsZero() {
					t.Learn(span.Step, v.Model, span.To.Sub(span.From))
				}
			}
		}
	}
	return t, nil
}

// Round folds the journal of a round.
func (h *Harbour) Round(ctx context.Context, id string) (*plan.State, error) {
	events, err := h.Store.Journal(ctx, id, 0)
	if err != nil {
		return nil, err
	}
	return plan.Fold(events)
}

// Latest returns the newest round of a cluster, folded; nil and an empty head where there was none.
func (h *Harbour) Latest(ctx context.Context, cluster string) (*plan.State, store.Round, error) {
	head, err := h.Store.Latest(ctx, cluster)
	if errors.Is(err, store.ErrNoRound) {
		return nil, head, nil
	}
	if err != nil {
		return nil, head, err
	}
	s, err := h.Round(ctx, head.ID)
	return s, head, err
}

// NothingError is what starting a round gives when no host is to be visited. That every host is in line is only one of the reasons.
type NothingError struct{ Plan plan.Plan }

func (e *NothingError) Error() string {
	if e.Plan.InLine() {
		return fmt.Sprintf("a round over %s: there is nothing to do: every host is in line", e.Plan.Brief.Cluster)
	}
	s := fmt.Sprintf("a round over %s would visit no host, and not all of them are in line:", e.Plan.Brief.Cluster)
	for _, a := range e.Plan.Aside {
		s += fmt.Sprintf("\n  %s: %s", a.Host, a.Why)
	}
	return s
}

// ErrObstacles is what starting a round gives when a visit can't be made as things stand.
var ErrObstacles = errors.New("the round can't be made as planned")

// journal binds the store's journal to one round and its lease.
type journal struct {
	store *store.Store
	lease *store.Lease
	round string
	seen  func(plan.Event)
}

func (j journal) Append(ctx context.Context, e plan.Event) (plan.Event, error) {
	e, err := j.store.Append(ctx, j.lease, j.round, e)
	if err == nil && j.seen != nil {
		j.seen(e)
	}
	return e, err
}

func (j journal) Take(ctx context.Context) ([]store.Request, error) {
	return j.store.Take(ctx, j.round)
}

func (j journal) SetProgress(ctx context.Context, p store.Progress) error {
	return j.store.SetProgress(ctx, j.round, p)
}

// Start plans a round, begins it and runs it to its end. seen is called for every event, if there is one. It refuses a cluster that
// may only be looked at, one whose lease is held, one with an unfinished round, and a plan with an obstacle.
func (h *Harbour) Start(ctx context.Context, b plan.Brief, seen func(plan.Event)) (*plan.State, error) {
	c, err := h.Cluster(b.Cluster)
	if err != nil {
		return nil, err
	}
	if !c.Act {
		return nil, fmt.Errorf("a round over %s: the estate file allows looking at it only; say \"act: true\" for it there to change that", c.Name)
	}
	lease, err := h.Store.Acquire(ctx, c.Name)
	if err != nil {
		return nil, err
	}
	defer h.release(lease)
	last, head, err := h.Latest(ctx, c.Name)
	if err != nil {
		return nil, err
	}
	if last != nil && last.Status != plan.Finished && holdsHost(last) {
		return nil, fmt.Errorf("round %s over %s is not finished (%s) and holds a closed host; go on with it: yare round resume %s", head.ID, c.Name, last.Status, c.Name)
	}
	p, err := h.Plan(ctx, b)
	if err != nil {
		return nil, err
	}
	if len(p.Visits) == 0 {
		return nil, &NothingError{p}
	}
	if err := refuse(&p); err != nil {
		return nil, err
	}
	id := ulid.Make().String()
	first := plan.Event{Seq: 1, At: h.World.Now(), Kind: plan.Started, Plan: &p, By: b.By, Detail: b.Reason}
	if err := h.Store.Begin(ctx, lease, id, first); err != nil {
		return nil, err
	}
	if seen != nil {
		seen(first)
	}
	return h.run(ctx, lease, id, seen)
}

// holdsHost tells whether a round still has a host closed or something under way.
func holdsHost(s *plan.State) bool {
	for i := range s.Visits {
		if s.Visits[i].Closed {
			return true
		}
	}
	return len(s.Open) > 0
}

func refuse(p *plan.Plan) error {
	obstacles := p.Obstacles()
	if len(obstacles) == 0 {
		return nil
	}
	var lines, can []string
	for _, v := range p.Visits {
		if v.Obstacle == "" {
			can = append(can, v.Host)
		}
	}
	for _, v := range obstacles {
		lines = append(lines, fmt.Sprintf("  %s: %s (%s)", v.Host, v.Obstacle, v.WayOut))
	}
	hint := ""
	if len(can) > 0 {
		hint = "\nthe others could be visited alone: --hosts " + strings.Join(can, ",")
	}
	return fmt.Errorf("%w:\n%s%s", ErrObstacles, strings.Join(lines, "\n"), hint)
}

// Resume goes on with the newest round of a cluster: after a pause or stop, after a failure that a person has seen to, or after the program
// died in the middle. What an intent without an outcome came to is looked up on the host.
func (h *Harbour) Resume(ctx context.Context, cluster, by string, seen func(plan.Event)) (*plan.State, error) {
	if _, err := h.Cluster(cluster); err != nil {
		return nil, err
	}
	lease, err := h.Store.Acquire(ctx, cluster)
	if err != nil {
		return nil, err
	}
	defer h.release(lease)
	s, head, err := h.Latest(ctx, cluster)
	switch {
	case err != nil:
		return nil, err
	case s == nil:
		return nil, fmt.Errorf("%s had no round yet; begin one with \"yare round start %s\"", cluster, cluster)
	case s.Status == plan.Finished:
		return nil, fmt.Errorf("the last round over %s (%s) is finished; there is nothing to go on with", cluster, head.ID)
	}
	ask := plan.Event{At: h.World.Now(), Kind: plan.Asked, Detail: plan.AskGoOn, By: by}
	if ask, err = h.Store.Append(ctx, lease, head.ID, ask); err != nil {
		return nil, err
	}
	if seen != nil {
		seen(ask)
	}
	return h.run(ctx, lease, head.ID, seen)
}

// run carries a round on from its journal, renewing the lease meanwhile.
func (h *Harbour) run(ctx context.Context, lease *store.Lease, id string, seen func(plan.Event)) (*plan.State, error) {
	s, err := h.Round(ctx, id)
	if err != nil {
		return nil, err
	}
	c, err := h.Cluster(lease.Cluster)
	if err != nil {
		return nil, err
	}
	times, err := h.Times(ctx)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	go renew(ctx, lease, cancel)
	known, err := h.Store.Newest(ctx, c.Hosts)
	if err != nil {
		return nil, err
	}
	r := round.Runner{ID: id, Known: known, Cluster: c, World: h.World, Journal: journal{h.Store, lease, id, seen}, Payloads: h.Payloads, Withdrawn: h.withdrawn,
		Usual: func(step plan.StepName, model string) (time.Duration, time.Duration) {
			m, w, _ := times.Usual(step, model)
			return m, w
		}}
	if err := r.Run(ctx, s); err != nil {
		return s, errors.Join(err, context.Cause(ctx))
	}
	// What was read before the round says little now.
	_, err = h.Read(ctx, c.Hosts, nil)
	return s, err
}

// renew keeps the lease. A runner that lost it must stop at once.
func renew(ctx context.Context, l *store.Lease, cancel context.CancelCauseFunc) {
	t := time.NewTicker(15 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		if err := l.Renew(ctx); errors.Is(err, store.ErrLost) {
			cancel(err)
			return
		}
	}
}

func (h *Harbour) release(l *store.Lease) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := l.Release(ctx); err != nil {
		slog.Warn("giving the lease back", "cluster", l.Cluster, "error", err)
	}
}

// Ask asks the running round of a cluster to pause or stop, and returns what will happen, in words.
func (h *Harbour) Ask(ctx context.Context, cluster, what, by string) (string, error) {
	if _, err := h.Cluster(cluster); err != nil && len(h.Estate.Clusters) > 0 {
		return "", err
	}
	s, head, err := h.Latest(ctx, cluster)
	if err != nil {
		return "", err
	}
	if s == nil || s.Status != plan.Running {
		return "", fmt.Errorf("no round runs over %s", cluster)
	}
	if held, err := h.Store.Holder(ctx, cluster); err != nil {
		return "", err
	} else if held == nil {
		return "", fmt.Errorf("the round %s over %s is unfinished, but nobody runs it; \"yare round resume %s\" goes on with it", head.ID, cluster, cluster)
	}
	if err := h.Store.Ask(ctx, head.ID, what, by); err != nil {
		return "", err
	}
	if what == plan.AskStop {
		return "the round stops at the next safe point: a host that is closed is finished first", nil
	}
	return "the round pauses after the host it is with", nil
}
