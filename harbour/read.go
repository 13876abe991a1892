package harbour

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"yareharbour/connector"
	"yareharbour/connector/host"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/view"
)

// atOnce is how many hosts are read at the same time where the estate file says nothing else.
const atOnce = 8

func (h *house) atOnce() int { return cmp.Or(h.file.AtOnce, atOnce) }

// newest is the newest kept reading of every host; those that were never read are not in it.
func (h *house) newest(ctx context.Context) (map[string]*estate.Reading, error) {
	hosts, err := h.Hosts()
	if err != nil {
		return nil, err
	}
	return h.readings.Newest(ctx, hosts)
}

// Read reads the hosts and keeps what was read, as they are named.
func (h Looking) Read(ctx context.Context, hosts []string,
	progress func(host string, done int)) (map[string]*estate.Reading, error) {
	return h.read(ctx, hosts, progress)
}

// Look is Read for whoever looks at what is known afterwards.
func (h Looking) Look(ctx context.Context, hosts []string, progress func(host string, done int)) error {
	_, err := h.read(ctx, hosts, progress)
	return err
}

// Now is the moment, by the estate's clock.
func (h *house) Now() time.Time { return h.world.Now() }

// read reads the hosts and keeps what was read. After each it calls progress, if there is one; calls do not overlap. A
// host that does not answer is in the result with its sections unread and what else was last known of it.
func (h *house) read(ctx context.Context, hosts []string,
	progress func(host string, done int)) (map[string]*estate.Reading, error) {
	kept, err := h.readings.Newest(ctx, hosts)
	if err != nil {
		return nil, err
	}
	out := make(map[string]*estate.Reading, len(hosts))
	var mu sync.Mutex
	var unkept error
	g, reading := errgroup.WithContext(ctx)
	g.SetLimit(h.atOnce())
	for _, host := range hosts {
		g.Go(func() error {
			r, err := connector.Read(reading, h.world, host)
			if err != nil {
				return fmt.Errorf("reading %s: %w", host, err)
			}
			r = r.Over(kept[host])
			err = h.readings.KeepReading(reading, r)
			mu.Lock()
			defer mu.Unlock()
			if err != nil && reading.Err() == nil {
				unkept = err // looking goes on where nothing can be written
			}
			out[host] = r
			if progress != nil {
				progress(host, len(out))
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return out, err
	}
	if unkept != nil {
		slog.Warn("what was read could not be kept", "error", unkept)
		return out, nil
	}
	if h.Unreadable() != nil { // then nothing is counted
		return out, nil
	}
	return out, h.tally(ctx, out)
}

// Connect tries every way to the hosts, some at a time, and tells in their order what it found.
func (h Looking) Connect(ctx context.Context, hosts []string, progress func(string)) ([]view.Ways, error) {
	out := make([]view.Ways, len(hosts))
	var mu sync.Mutex
	done := 0
	var g errgroup.Group
	g.SetLimit(h.atOnce())
	for i, host := range hosts {
		g.Go(func() error {
			s, err := h.world.Open(ctx, host)
			if err != nil {
				return err
			}
			defer s.Close()
			out[i].Host = host
			for _, st := range connector.TryWays(ctx, s) {
				out[i].Stages = append(out[i].Stages, view.Stage(st))
			}
			mu.Lock()
			defer mu.Unlock()
			done++
			progress(fmt.Sprintf("tried %d of %d: %s", done, len(hosts), host))
			return ctx.Err()
		})
	}
	return out, g.Wait()
}

// remembered is how many different readings of a host its life is told from.
const remembered = 200

// turns tells what changed on the host, the newest change first, as far as readings were kept.
func (h *house) turns(ctx context.Context, host string) ([]drift.Turn, error) {
	rs, err := h.readings.History(ctx, host, remembered)
	return drift.Life(rs), err
}

// Past tells what is known of a host's past.
func (h Looking) Past(ctx context.Context, host string) (p view.Past, err error) {
	if p.Spans, err = h.Spans(ctx, host); err == nil {
		p.Life, err = h.Life(ctx, host)
	}
	return p, err
}

// Life is what changed on a host, and what was done to it, the newest first.
func (h Looking) Life(ctx context.Context, host string) ([]view.Happening, error) {
	turns, err := h.turns(ctx, host)
	if err != nil {
		return nil, err
	}
	c, err := h.clusterOf(host)
	if err != nil {
		return nil, err
	}
	rounds, err := h.List(ctx, c.Name, Period{})
	if err != nil {
		return nil, err
	}
	b, err := h.Book(ctx)
	return view.Life(host, turns, rounds, b.Entries), err
}

// Here reads this machine.
func Here(ctx context.Context) (*estate.Reading, error) { return host.Here(ctx) }
