package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/survey"
	"yareharbour/harbour"
	"yareharbour/store"
	"yareharbour/tui"
)

// screens opens the full-screen interface.
func (a *app) screens(ctx context.Context) error {
	return a.with(ctx, func(h *harbour.Harbour) error {
		o := tui.Options{}
		switch os.Getenv("YARE_BACKGROUND") {
		case "light":
			o = tui.Options{Light: true, Fixed: true}
		case "dark":
			o = tui.Options{Fixed: true}
		}
		m := tui.New(ctx, &backend{app: a, h: h, journals: map[string]*journal{}}, o)
		_, err := tea.NewProgram(m, tea.WithContext(ctx)).Run()
		if errors.Is(err, tea.ErrProgramKilled) || errors.Is(err, tea.ErrInterrupted) {
			return nil
		}
		return err
	})
}

// backend does for the screens what takes time.
type backend struct {
	app      *app
	h        *harbour.Harbour
	mu       sync.Mutex
	journals map[string]*journal // by cluster

	holdings *drift.Holdings // as they were last made, of which readings, and when
	heldOf   map[string]*estate.Reading
	heldAt   time.Time
}

// journal is what was read of a round's journal so far: only what is new is read again.
type journal struct {
	id     string
	state  *plan.State
	events []plan.Event
}

func (b *backend) Load(ctx context.Context) (*tui.Snapshot, error) {
	hosts, err := b.h.Hosts()
	if err != nil {
		return nil, err
	}
	kept, err := b.h.Store.Newest(ctx, hosts)
	if err != nil {
		return nil, err
	}
	s := &tui.Snapshot{Readings: kept, Checker: b.h.Checker(), Speed: b.h.World.Speed(), Rounds: map[string]tui.Round{}, Siblings: map[string][]drift.Siblings{}}
	states := map[string]*plan.State{}
	for _, c := range b.h.Estate.Clusters {
		r, err := b.round(ctx, c.Name)
		if err != nil {
			return nil, err
		}
		if r.State != nil {
			s.Rounds[c.Name], states[c.Name] = r, r.State
		}
		s.Siblings[c.Name] = drift.CompareSiblings(ordered(kept, c.Hosts))
	}
	s.Verdicts = b.h.Check(s.Checker, kept)
	s.Held = b.held(kept, s.Checker)
	if err := errors.Join(b.shelves(ctx, s), b.past(ctx, s)); err != nil {
		return nil, err
	}
	news := map[string]survey.News{}
	for c, n := range s.News {
		news[c] = survey.News{Count: len(n.Drift), Since: n.Since}
	}
	runs := map[string]bool{}
	for c, r := range s.Rounds {
		runs[c] = r.Runs
	}
	s.Survey, err = b.h.SurveyOf(ctx, s.Checker, s.Held, survey.Input{Readings: kept, Verdicts: s.Verdicts, Rounds: states, Runs: runs, News: news})
	return s, err
}

// held turns the readings around, anew only where one is another than the last time.
func (b *backend) held(kept map[string]*estate.Reading, c *drift.Checker) *drift.Holdings {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.holdings == nil || !maps.Equal(kept, b.heldOf) || c.Now.Sub(b.heldAt) > time.Minute {
		b.holdings, b.heldOf, b.heldAt = drift.Hold(b.h.Estate.Clusters, kept, c.Now, c.MaxAge), kept, c.Now
	}
	return b.holdings
}

// shelves tells of baselines, feeds, bundles, payloads and kept filters.
func (b *backend) shelves(ctx context.Context, s *tui.Snapshot) (err error) {
	for _, x := range b.h.Sources() {
		s.Baselines = append(s.Baselines, tui.Baseline{Baseline: x.Baseline, File: x.File, Text: x.Text, Version: x.Version})
	}
	slices.SortStableFunc(s.Baselines, func(x, y tui.Baseline) int { return x.Rank - y.Rank })
	if s.Feeds, err = b.h.FeedStates(); err != nil {
		return err
	}
	if s.Bundles, err = b.h.Bundles.Taken(); err != nil {
		return err
	}
	all, err := b.h.Payloads.Store.List()
	if err != nil {
		return err
	}
	s.Payloads.Count = len(all)
	for _, p := range all {
		s.Payloads.Size += p.Size
	}
	if s.Payloads.Free, err = b.h.Payloads.Store.Free(); err != nil {
		return err
	}
	s.Filters, err = b.h.Store.Filters(ctx)
	return err
}

// trendFor is how long ago the trend on the screen begins.
const trendFor = 60 * 24 * time.Hour

// past tells what is new in each cluster since the last look, and how its drift came about.
func (b *backend) past(ctx context.Context, s *tui.Snapshot) error {
	s.News = map[string]tui.News{}
	for _, c := range b.h.Estate.Clusters {
		of := map[string][]drift.Verdict{}
		for _, h := range c.Hosts {
			of[h] = s.Verdicts[h]
		}
		n, err := b.h.NewDrift(ctx, c.Name, of)
		if err != nil {
			return err
		}
		trend, err := b.h.Store.Trend(ctx, c.Name, s.Checker.Now.Add(-trendFor))
		if err != nil {
			return err
		}
		s.News[c.Name] = tui.News{Since: n.Since, By: n.By, Drift: n.News, Trend: trend}
	}
	return nil
}

// round brings what is known of the cluster's newest round up to date.
func (b *backend) round(ctx context.Context, cluster string) (tui.Round, error) {
	head, err := b.h.Store.Latest(ctx, cluster)
	if errors.Is(err, store.ErrNoRound) {
		return tui.Round{}, nil
	}
	if err != nil {
		return tui.Round{}, err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	j := b.journals[cluster]
	if j == nil || j.id != head.ID {
		j = &journal{id: head.ID}
		b.journals[cluster] = j
	}
	since := int64(0)
	if j.state != nil {
		since = j.state.Seq
	}
	news, err := b.h.Store.Journal(ctx, head.ID, since)
	if err != nil {
		return tui.Round{}, err
	}
	if len(news) > 0 || j.state == nil {
		j.events = append(j.events, news...)
		if j.state, err = plan.Fold(j.events); err != nil { // anew: the screens may still look at the old one
			return tui.Round{}, err
		}
	}
	r := tui.Round{ID: j.id, State: j.state, Events: j.events[:len(j.events):len(j.events)]}
	if r.State.Status == plan.Running {
		if r.Progress, err = b.h.Store.Progress(ctx, head.ID); err != nil {
			return r, err
		}
		held, err := b.h.Store.Holder(ctx, cluster)
		if err != nil {
			return r, err
		}
		r.Runs = held != nil
	}
	return r, nil
}

func (b *backend) Read(ctx context.Context, hosts []string, progress func(string, int)) error {
	_, err := b.h.Read(ctx, hosts, progress)
	return err
}

func (b *backend) Plan(ctx context.Context, cluster string, w tui.WhatIf) (*plan.Plan, error) {
	br, err := b.brief(cluster, w)
	if err != nil {
		return nil, err
	}
	full, err := br.make(b.h, cluster)
	if err != nil {
		return nil, err
	}
	p, err := b.h.Plan(ctx, full)
	return &p, err
}

// brief turns what a person changed on the screen into what the command line would say.
func (b *backend) brief(cluster string, w tui.WhatIf) (brief, error) {
	out := brief{reserve: -1, out: 1 + w.More, moves: 2}
	c, err := b.h.Cluster(cluster)
	if err != nil || len(w.Without) == 0 {
		return out, err
	}
	for _, h := range c.Hosts {
		if !slices.Contains(w.Without, h) {
			out.hosts = append(out.hosts, h)
		}
	}
	if len(out.hosts) == 0 {
		return out, errors.New("every host is left out; v takes one in again")
	}
	return out, nil
}

func (b *backend) Start(ctx context.Context, cluster, reason string, w tui.WhatIf) error {
	br, err := b.brief(cluster, w)
	if err != nil {
		return err
	}
	args := []string{"start", cluster, "--reason", reason, "--out-of-service", strconv.Itoa(br.out)}
	if len(br.hosts) > 0 {
		args = append(args, "--hosts", strings.Join(br.hosts, ","))
	}
	return b.launch(ctx, cluster, args...)
}

func (b *backend) Resume(ctx context.Context, cluster string) error {
	return b.launch(ctx, cluster, "resume", cluster)
}

// launch has a process of its own run the round, and waits until its journal shows that it has begun, or its log why not.
func (b *backend) launch(ctx context.Context, cluster string, args ...string) error {
	name := "round-" + cluster + ".log" // where the round's own process writes
	log := filepath.Join(b.h.State, name)
	if err := os.Remove(log); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	_, before, err := b.h.Latest(ctx, cluster)
	if err != nil {
		return err
	}
	args = append([]string{"round"}, args...)
	args = append(args, "--state", b.h.State)
	if b.app.estate != "" {
		args = append(args, "--estate", b.app.estate)
	}
	if err := b.app.spawn(name, args...); err != nil {
		return err
	}
	for start := time.Now(); time.Since(start) < 30*time.Second; time.Sleep(50 * time.Millisecond) {
		held, err := b.h.Store.Holder(ctx, cluster)
		if err != nil {
			return err
		}
		s, now, err := b.h.Latest(ctx, cluster)
		if err != nil {
			return err
		}
		if now.ID != before.ID || held != nil && s != nil && s.Status == plan.Running {
			return nil
		}
		if said := complaint(log); said != "" {
			return errors.New(said)
		}
	}
	return fmt.Errorf("the round did not begin within 30 s; its own words are in %s", log)
}

// complaint is what the process said before it gave up.
func complaint(log string) string {
	b, err := os.ReadFile(log)
	if err != nil {
		return ""
	}
	_, said, ok := strings.Cut(string(b), "yare: ")
	if !ok || !strings.HasSuffix(said, "\n") {
		return ""
	}
	return strings.Join(strings.Fields(said), " ")
}

func (b *backend) Past(ctx context.Context, host string) (tui.Past, error) {
	turns, err := b.h.Life(ctx, host)
	if err != nil {
		return tui.Past{}, err
	}
	spans, err := b.h.Spans(ctx, host)
	return tui.Past{Turns: turns, Spans: spans}, err
}

func (b *backend) Ask(ctx context.Context, cluster, what string) (string, error) {
	return b.h.Ask(ctx, cluster, what, operator())
}

var _ tui.Backend = (*backend)(nil)
