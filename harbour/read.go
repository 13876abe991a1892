package harbour

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"sync"

	"golang.org/x/sync/errgroup"

	"yareharbour/connector"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// atOnce is how many hosts are read at the same time where the estate file says nothing else.
const atOnce = 8

func (h *Harbour) atOnce() int { return cmp.Or(h.file.AtOnce, atOnce) }

// newest is the newest kept reading of every host; those that were never read are not in it.
func (h *Harbour) newest(ctx context.Context) (map[string]*estate.Reading, error) {
	hosts, err := h.Hosts()
	if err != nil {
		return nil, err
	}
	return h.Readings.Newest(ctx, hosts)
}

// Read reads the hosts and keeps what was read. After each it calls progress, if there is one; calls do not overlap. A
// host that does not answer is in the result with its sections unread and what else was last known of it.
func (h *Harbour) Read(ctx context.Context, hosts []string,
	progress func(host string, done int)) (map[string]*estate.Reading, error) {
	kept, err := h.Readings.Newest(ctx, hosts)
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
			r, err := connector.Read(reading, h.World, host)
			if err != nil {
				return fmt.Errorf("reading %s: %w", host, err)
			}
			r = r.Over(kept[host])
			err = h.Readings.KeepReading(reading, r)
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
	if h.Sound() != nil { // then nothing is counted
		return out, nil
	}
	return out, h.tally(ctx, out)
}

// Ways are the ways to a host, as a test of the connection found them.
type Ways struct {
	Host   string            `json:"host"`
	Stages []connector.Stage `json:"stages"`
}

// Failed counts the stages that do not hold.
func (w Ways) Failed() (n int) {
	for _, s := range w.Stages {
		if !s.OK {
			n++
		}
	}
	return n
}

// Connect tries every way to the hosts, some at a time, and tells in their order what it found.
func (h *Harbour) Connect(ctx context.Context, hosts []string, progress func(string)) ([]Ways, error) {
	out := make([]Ways, len(hosts))
	var mu sync.Mutex
	done := 0
	var g errgroup.Group
	g.SetLimit(h.atOnce())
	for i, host := range hosts {
		g.Go(func() error {
			s, err := h.World.Open(ctx, host)
			if err != nil {
				return err
			}
			defer s.Close()
			out[i] = Ways{host, connector.TryWays(ctx, s)}
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

// Life tells what changed on the host, the newest change first, as far as readings were kept.
func (h *Harbour) Life(ctx context.Context, host string) ([]drift.Turn, error) {
	rs, err := h.Readings.History(ctx, host, remembered)
	return drift.Life(rs), err
}
