package harbour

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"yareharbour/connector"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/survey"
	"yareharbour/payload"
)

// atOnce is how many hosts are read at the same time.
const atOnce = 8

// Read reads the hosts and keeps what was read. After each it calls progress, if there is one; calls do not overlap. A host that does not
// answer is in the result with its sections unread and what else was last known of it.
func (h *Harbour) Read(ctx context.Context, hosts []string, progress func(host string, done int)) (map[string]*estate.Reading, error) {
	kept, err := h.Store.Newest(ctx, hosts)
	if err != nil {
		return nil, err
	}
	out := make(map[string]*estate.Reading, len(hosts))
	var mu sync.Mutex
	g, reading := errgroup.WithContext(ctx)
	g.SetLimit(atOnce)
	for _, host := range hosts {
		g.Go(func() error {
			r, err := h.World.Read(reading, host)
			if err != nil {
				return fmt.Errorf("reading %s: %w", host, err)
			}
			r = r.Over(kept[host])
			if err := h.Store.KeepReading(reading, r); err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
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
	if h.Sound() != nil { // then nothing is counted
		return out, nil
	}
	return out, h.tally(ctx)
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
	g.SetLimit(atOnce)
	for i, host := range hosts {
		g.Go(func() error {
			out[i] = Ways{host, h.World.Connect(ctx, host)}
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
	rs, err := h.Store.History(ctx, host, remembered)
	return drift.Life(rs), err
}

// Survey looks at everything that is known: kept readings, verdicts, rounds. It reads no host.
func (h *Harbour) Survey(ctx context.Context, readings map[string]*estate.Reading) (survey.Survey, error) {
	rounds, runs := map[string]*plan.State{}, map[string]bool{}
	for _, c := range h.Estate.Clusters {
		st, _, err := h.Latest(ctx, c.Name)
		if err != nil {
			return survey.Survey{}, err
		}
		if st == nil {
			continue
		}
		held, err := h.Store.Holder(ctx, c.Name)
		if err != nil {
			return survey.Survey{}, err
		}
		rounds[c.Name], runs[c.Name] = st, held != nil
	}
	c := h.Checker()
	verdicts := h.Check(c, readings)
	news, err := h.news(ctx, verdicts)
	if err != nil {
		return survey.Survey{}, err
	}
	in := survey.Input{Readings: readings, Verdicts: verdicts, Rounds: rounds, Runs: runs, News: news}
	return h.SurveyOf(ctx, c, drift.Hold(h.Estate.Clusters, readings, c.Now, c.MaxAge), in)
}

// news counts what is new in each cluster.
func (h *Harbour) news(ctx context.Context, verdicts map[string][]drift.Verdict) (map[string]survey.News, error) {
	out := map[string]survey.News{}
	for _, c := range h.Estate.Clusters {
		of := map[string][]drift.Verdict{}
		for _, host := range c.Hosts {
			of[host] = verdicts[host]
		}
		n, err := h.NewDrift(ctx, c.Name, of)
		if err != nil {
			return nil, err
		}
		out[c.Name] = survey.News{Count: len(n.News), Since: n.Since}
	}
	return out, nil
}

// SurveyOf sums up what is given, and what this estate's files say and name wrongly. The holdings are of the same readings.
func (h *Harbour) SurveyOf(ctx context.Context, c *drift.Checker, held *drift.Holdings, in survey.Input) (survey.Survey, error) {
	in.Estate, in.Now, in.MaxAge = h.Estate, h.World.Now(), MaxAge
	if err := h.Sound(); err != nil {
		in.Faults = strings.Split(err.Error(), "\n")
	}
	var err error
	if in.Problems, err = h.Problems(ctx, c.Baselines); err != nil {
		return survey.Survey{}, err
	}
	in.Flags = drift.Flags(held, c.Catalogue, drift.BoundBy(in.Verdicts))
	return survey.Make(in), nil
}

// Payloads are the payload store, and beside it the estate's own directory of payload files.
type Payloads struct {
	Store payload.Store
	Dir   string
}

// Check returns why the file can't be used, and "" where it can.
func (p Payloads) Check(file, sum string) string {
	if _, err := p.Open(file, sum); err != nil {
		return err.Error()
	}
	return ""
}

// Open returns the bytes of the file if they have that SHA-256, in hex.
func (p Payloads) Open(file, sum string) ([]byte, error) {
	b, err := p.Store.Open(sum)
	if !errors.Is(err, payload.ErrNone) {
		return b, err
	}
	b, err = os.ReadFile(filepath.Join(p.Dir, filepath.Base(file)))
	if os.IsNotExist(err) {
		return nil, fmt.Errorf("the payload %s is neither in the payload store nor in %s; \"yare payload fetch\" gets what hosts want", file, p.Dir)
	}
	if err != nil {
		return nil, err
	}
	got := sha256.Sum256(b)
	if hex.EncodeToString(got[:]) != sum {
		return nil, fmt.Errorf("the payload %s has the SHA-256 %x, and its release says %s: it is damaged or not the one", file, got, sum)
	}
	return b, nil
}
