package harbour

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/logbook"
	"yareharbour/core/precheck"
	"yareharbour/core/survey"
	"yareharbour/core/view"
	"yareharbour/store"
)

// looks are what one look leaves for the next, so that it costs what is new: journals that were read, readings that
// were turned around.
type looks struct {
	journals map[string]*followed     // by cluster
	ended    map[string]*course.State // of older rounds of which something is owed, by their ids
	book     logbook.Book
	lines    map[string]view.RoundLine // of rounds that are finished, by their ids
	held     *drift.Holdings
	heldOf   map[string]*estate.Reading
	heldAt   time.Time
	// forecasts are what the usual rounds of clusters were last foreseen to do, and answered what package managers of
	// hosts said of their visits.
	forecasts map[string]forecast
	answered  map[string]answered
	twice     map[string]time.Time // guests, by UUID, that ran on several hosts, and when that was seen first
}

// followed is what was read of a round's journal so far.
type followed struct {
	id     string
	chain  *course.Chain
	state  *course.State
	events []course.Event
	wrong  error // what makes it one that can't be trusted
}

// View looks at all that is known and makes one value of it, from which screens, reports, exports and drawings are
// made. It reads no host. It may be called from several goroutines.
func (h Looking) View(ctx context.Context) (*view.Estate, error) {
	h.refresh(ctx)
	readings, err := h.newest(ctx)
	if err != nil {
		return nil, err
	}
	e := &view.Estate{Readings: readings, Checker: h.Checker(), Speed: h.world.Speed(), Rounds: map[string]view.Round{},
		Siblings: map[string][]drift.Siblings{}, News: map[string]drift.News{}, Trends: map[string][]drift.Tally{}, Means: map[string][]drift.Mean{},
		Lasting: map[string]time.Time{}}
	in := survey.Input{Estate: h.Estate, Now: h.Now(), MaxAge: MaxAge, Readings: readings,
		Rounds: map[string]*course.State{}, Runs: map[string]bool{}, News: e.News, Distrusted: map[string]string{}}
	e.Verdicts = h.Check(e.Checker, readings)
	in.Overdue = func(v *drift.Verdict) (since, due time.Time) {
		since = e.Lasting[v.Place()]
		return since, e.Checker.Due(v, since)
	}
	for _, c := range h.Estate.Clusters {
		r, err := h.follow(ctx, c.Name)
		if cut := new(course.Malformed); errors.As(err, &cut) {
			in.Distrusted[c.Name] = err.Error()
		} else if err != nil {
			return nil, err
		}
		if r.State != nil {
			e.Rounds[c.Name], in.Rounds[c.Name], in.Runs[c.Name] = r, r.State, r.Runs
		}
		own, verdicts := []*estate.Reading{}, map[string][]drift.Verdict{}
		for _, host := range c.Hosts {
			verdicts[host] = e.Verdicts[host]
			if r := readings[host]; r != nil {
				own = append(own, r)
			}
		}
		e.Siblings[c.Name] = drift.CompareSiblings(own)
		if e.News[c.Name], err = h.News(ctx, c.Name, verdicts); err != nil {
			return nil, err
		}
		lasted, err := h.tallies.Lasting(ctx, c.Name, e.Checker.Now.Add(-view.TrendFor))
		if err != nil {
			return nil, err
		}
		e.Means[c.Name] = drift.Means(lasted, e.Checker.Now)
		for i := range lasted {
			if lasted[i].Until.IsZero() {
				e.Lasting[lasted[i].Place()] = lasted[i].Since
			}
		}
		if e.Trends[c.Name], err = h.tallies.Trend(ctx, c.Name, e.Checker.Now.Add(-view.TrendFor)); err != nil {
			return nil, err
		}
	}
	e.Held = h.holdings(readings, e.Checker)
	if err := h.shelves(ctx, e); err != nil {
		return nil, err
	}
	if in.Plans, err = h.remembers(ctx, e); err != nil {
		return nil, err
	}
	if err := h.Unreadable(); err != nil {
		e.Faults = strings.Split(err.Error(), "\n")
		in.Faults, in.Plans = e.Faults, nil
	}
	in.Edited = h.edited()
	if in.Owed, err = h.owed(ctx, readings); err != nil {
		return nil, err
	}
	in.Sure = h.sightings(readings)
	in.Problems, in.Verdicts = append(h.problems(readings, e.Checker.Baselines), h.strays(e.Held)...), e.Verdicts
	in.Flags = drift.Flags(e.Held, e.Checker.Catalogue, drift.BoundBy(e.Verdicts))
	e.Survey = survey.Make(in)
	return e, nil
}

// sightings are the guests that two looks saw run on several hosts.
func (h *house) sightings(readings map[string]*estate.Reading) (sure map[string]bool) {
	var twice []precheck.Double
	for _, c := range h.Estate.Clusters {
		twice = append(twice, precheck.Twice(c.Hosts, readings)...)
	}
	h.looking.Lock()
	defer h.looking.Unlock()
	h.looks.twice, sure = precheck.Again(twice, readings, h.looks.twice)
	return sure
}

// holdings turns readings around, anew only where one is another than the last time.
func (h *house) holdings(readings map[string]*estate.Reading, c *drift.Checker) *drift.Holdings {
	h.looking.Lock()
	defer h.looking.Unlock()
	l := &h.looks
	if l.held == nil || !maps.Equal(readings, l.heldOf) || c.Now.Sub(l.heldAt) > time.Minute {
		l.held, l.heldOf, l.heldAt = drift.Hold(h.Estate.Clusters, readings, c.Now, c.MaxAge), readings, c.Now
	}
	return l.held
}

// shelves tells of baselines, feeds, bundles, payloads and kept filters.
func (h *house) shelves(ctx context.Context, e *view.Estate) (err error) {
	e.Baselines = slices.Clone(h.Sources())
	slices.SortStableFunc(e.Baselines, func(x, y view.Baseline) int { return cmp.Compare(x.Rank, y.Rank) })
	if e.Feeds, err = h.Feeds(); err != nil {
		return err
	}
	h.mu.RLock()
	e.Lists = h.lists
	h.mu.RUnlock()
	if e.Bundles, err = h.Bundles(); err != nil {
		return err
	}
	all, err := h.payloads.Store.List()
	if err != nil {
		return err
	}
	e.Stock.Count = len(all)
	for _, p := range all {
		e.Stock.Size += p.Size
	}
	if e.Stock.Free, err = h.payloads.Store.Free(); err != nil {
		return err
	}
	e.Filters, err = h.filters.Filters(ctx)
	return err
}

// follow brings what is known of the cluster's newest round up to date; the zero value where it had none. Of a journal
// that can't be trusted it returns a *course.Malformed.
func (h *house) follow(ctx context.Context, cluster string) (view.Round, error) {
	head, err := h.rounds.Latest(ctx, cluster)
	if errors.Is(err, store.ErrNoRound) {
		return view.Round{}, nil
	}
	if err != nil {
		return view.Round{}, err
	}
	h.looking.Lock()
	defer h.looking.Unlock()
	j := h.looks.journals[cluster]
	if j == nil || j.id != head.ID || j.wrong != nil {
		j = &followed{id: head.ID, chain: course.NewChain(head.ID)}
		if h.looks.journals == nil {
			h.looks.journals = map[string]*followed{}
		}
		h.looks.journals[cluster] = j
	}
	more, err := h.rounds.Journal(ctx, head.ID, j.chain)
	if len(more) > 0 || j.state == nil {
		var wrong error
		j.events = append(j.events, more...)
		j.state, wrong = course.Fold(j.events) // anew: somebody may still look at the old one
		err = errors.Join(err, wrong)
	}
	if j.wrong = err; err != nil {
		return view.Round{}, err
	}
	r := view.Round{ID: j.id, State: j.state, Events: j.events[:len(j.events):len(j.events)]}
	if r.State.Status != course.Running {
		return r, nil
	}
	held, err := h.rounds.Holder(ctx, cluster)
	if err != nil {
		return r, err
	}
	if r.Runs = held != nil; r.Runs {
		p, err := h.rounds.Progress(ctx, head.ID)
		r.Says = p.Says
		return r, err
	}
	return r, nil
}
