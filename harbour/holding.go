package harbour

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"yareharbour/connector"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/store"
)

// journal binds the store's journal to one round and its lease.
type journal struct {
	store store.Rounds
	lease store.Lease
	round string
	seen  func(course.Event)

	mu   sync.Mutex
	sums []string // of the entries
}

func (j *journal) Append(ctx context.Context, e course.Event) (course.Event, string, error) {
	e, sum, err := j.store.Append(ctx, j.lease, j.round, e)
	if err != nil {
		return e, "", err
	}
	j.add(sum)
	j.seen(e)
	return e, sum, nil
}

func (j *journal) add(sum string) {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.sums = append(j.sums, sum)
}

func (j *journal) Take(ctx context.Context, now time.Time) ([]course.Event, error) {
	events, sums, err := j.store.Take(ctx, j.lease, j.round, now)
	for i, e := range events {
		j.add(sums[i])
		j.seen(e)
	}
	return events, err
}

func (j *journal) SetProgress(ctx context.Context, at time.Time, says []course.Said) error {
	return j.store.SetProgress(ctx, j.round, store.Progress{At: at, Says: says})
}

// contradicts returns how a reading shows that the journal is not all that was written.
func (j *journal) contradicts(r *estate.Reading) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	return course.Contradicts(r.Host, r.Guard, j.round, j.lease.Epoch(), j.sums)
}

// vacant refuses where the cluster's last round still holds something. One whose journal is damaged holds nothing that
// anybody could go on with: it is left as it is where taking over is meant.
func (h *house) vacant(ctx context.Context, cluster string, takeOver bool) error {
	last, head, err := h.latest(ctx, cluster)
	switch {
	case takeOver && errors.As(err, new(*course.Malformed)):
		return nil
	case err != nil:
		return fmt.Errorf("%w%s", err, above(err, cluster))
	}
	if last != nil && last.Status != course.Finished && last.Holds() {
		return fmt.Errorf("round %s over %s is not finished (%s) and holds a closed host, or an act of which it is "+
			"not known how it came out; go on with it: yare round resume %s, or end it: yare round end %s",
			head.ID, cluster, last.Status, cluster, cluster)
	}
	return nil
}

// acquire takes the lease of a cluster, and holds what its hosts have taken against what this store knows: of the round
// with that id, where one is meant, and of epochs. Where taking over is meant, the lease is above whatever hosts know.
func (h *house) acquire(ctx context.Context, c estate.Cluster, id string, takeOver bool) (store.Lease, error) {
	if h.unwritable != nil {
		return nil, fmt.Errorf("a round over %s keeps its journal in the state directory, and that can't be written: "+
			"%w", c.Name, h.unwritable)
	}
	term, err := h.file.LeaseTerm()
	if err != nil {
		return nil, err
	}
	lease, err := h.rounds.Acquire(ctx, c.Name, store.Want{Term: term})
	if err != nil {
		return nil, err
	}
	against, err := h.contradictions(ctx, c, id, lease.Epoch()-1)
	if err == nil && len(against) == 0 {
		return lease, nil
	}
	h.release(lease)
	switch {
	case err != nil:
		return nil, err
	case !takeOver:
		return nil, &ContradictionError{c.Name, against}
	}
	above := int64(0)
	for _, x := range against {
		above = max(above, x.Epoch)
		if err := h.rounds.TakeOver(ctx, x.Round, h.By, h.Now()); err != nil {
			return nil, err
		}
	}
	return h.rounds.Acquire(ctx, c.Name, store.Want{Term: term, Above: above})
}

// contradictions are what hosts have taken of which this store does not know. Before any host is asked the journal is
// read: nobody writes in it while the lease is ours.
func (h *house) contradictions(ctx context.Context, c estate.Cluster, id string,
	epoch int64) (out []*course.Contradiction, err error) {
	var sums []string
	if id != "" {
		_, chain, err := h.journal(ctx, id)
		if err != nil {
			return nil, fmt.Errorf("nothing is done by a journal that can't be trusted: %w", err)
		}
		sums = chain.Sums()
	}
	seen, err := h.glance(ctx, c.Hosts)
	if err != nil {
		return nil, err
	}
	for _, host := range c.Hosts {
		g := seen[host].Guard
		known, err := h.rounds.Knows(ctx, g.Round)
		if err != nil {
			return nil, err
		}
		var x *course.Contradiction
		switch err := course.Contradicts(host, g, id, epoch, sums); {
		case errors.As(err, &x):
			out = append(out, x)
		case err != nil:
			return nil, err
		case g.Round != "" && !known:
			out = append(out, &course.Contradiction{Host: host, Round: g.Round, Epoch: g.Epoch,
				Why: fmt.Sprintf("%s has taken orders of round %s, of which this store does not know: another "+
					"store's runner is or was at work", host, g.Round)})
		}
	}
	return out, nil
}

// glance asks the hosts what they say of themselves, and keeps nothing of it.
func (h *house) glance(ctx context.Context, hosts []string) (map[string]*estate.Reading, error) {
	out := map[string]*estate.Reading{}
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(h.atOnce())
	for _, host := range hosts {
		g.Go(func() error {
			r, err := connector.Read(ctx, h.world, host, estate.Host)
			if err != nil {
				return fmt.Errorf("looking at %s: %w", host, err)
			}
			mu.Lock()
			defer mu.Unlock()
			out[host] = r
			return nil
		})
	}
	return out, g.Wait()
}

// leaseWatch is how often it is asked whether the lease stands: by the clock alone, so that it costs nothing.
const leaseWatch = 50 * time.Millisecond

// hold keeps the lease, and cancels whatever is under way the moment at which the lease does not stand any more, whether
// or not the store answers: whoever slept through its end, or waits for a store that is locked, must not go on when he
// wakes.
func hold(ctx context.Context, l store.Lease, cancel context.CancelCauseFunc) {
	go renew(ctx, l, cancel)
	every(ctx, leaseWatch, func() {
		if err := l.Stands(); err != nil {
			cancel(err)
		}
	})
}

// every does something again and again, until the context ends.
func every(ctx context.Context, pause time.Duration, do func()) {
	t := time.NewTicker(pause)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			do()
		}
	}
}

// renew prolongs the lease again and again.
func renew(ctx context.Context, l store.Lease, cancel context.CancelCauseFunc) {
	every(ctx, l.Every(), func() {
		switch err := l.Renew(ctx); {
		case errors.Is(err, store.ErrLost), errors.Is(err, store.ErrGone):
			cancel(err)
		case err != nil && ctx.Err() == nil:
			slog.Warn("the lease could not be renewed; it is tried again", "cluster", l.Cluster(), "error", err)
		}
	})
}

func (h *house) release(l store.Lease) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := l.Release(ctx); err != nil {
		slog.Warn("giving the lease back", "cluster", l.Cluster(), "error", err)
	}
}
