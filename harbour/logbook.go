package harbour

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/logbook"
	"yareharbour/core/view"
	"yareharbour/store"
)

// enter puts something that was decided here into the logbook, by the one who opened the estate.
func (h *house) enter(ctx context.Context, e logbook.Entry) error {
	e.At, e.By = h.Now(), h.By
	if err := h.log.Record(ctx, e); err != nil {
		return fmt.Errorf("it is done, and could not be entered in the logbook: %w", err)
	}
	return nil
}

// noteActing enters where the estate file allows acting, when that is otherwise than the logbook has it.
func (h *house) noteActing(ctx context.Context) error {
	if h.unwritable != nil {
		return nil
	}
	var on, off []string
	for _, c := range h.Estate.Clusters {
		if c.Act {
			on = append(on, c.Name)
		} else {
			off = append(off, c.Name)
		}
	}
	says := "allowed on " + strings.Join(on, ", ")
	if len(on) == 0 {
		says = "allowed on no cluster"
	}
	if len(off) > 0 {
		says += "; not on " + strings.Join(off, ", ")
	}
	last, ok, err := h.log.LastOf(ctx, logbook.Acting)
	if err != nil || ok && last.Says == says {
		return err
	}
	return h.enter(ctx, logbook.Entry{Kind: logbook.Acting, Says: says, Why: "as " + EstateFile + " says"})
}

// Book is the logbook as far as it can be relied on by itself. What was read of it before is not read again.
func (h Looking) Book(ctx context.Context) (logbook.Book, error) {
	h.looking.Lock()
	defer h.looking.Unlock()
	kept, head, err := h.log.Log(ctx, int64(len(h.looks.book.Entries)))
	if err != nil {
		return logbook.Book{}, err
	}
	b := h.looks.book.Extend(kept, head)
	if b.Fault == nil {
		h.looks.book = b
	}
	return b, nil
}

// Logbook is the rounds that began in a period, and everything that was decided in it.
func (h Looking) Logbook(ctx context.Context, in Period) (l view.Logbook, err error) {
	l.From, l.Until = in.From, in.Until
	if l.Book, err = h.Book(ctx); err != nil {
		return l, err
	}
	l.Rounds, err = h.List(ctx, "", in)
	return l, err
}

// Verify reads the whole logbook, and holds against it what it speaks of: journals from their first entry, baselines and
// waivers. noted is a head of it that was written down elsewhere; nil where there is none.
func (h Looking) Verify(ctx context.Context, noted *course.Head) (b logbook.Book, found []logbook.Finding, err error) {
	kept, head, err := h.log.Log(ctx, 0) // anew, whatever was read before
	if err != nil {
		return b, nil, err
	}
	b = logbook.Read(kept, head)
	if noted != nil && b.Fault == nil {
		b.Fault = b.Reaches(*noted)
	}
	have, err := h.log.Things(ctx)
	if err != nil {
		return b, nil, err
	}
	if b.Fault != nil {
		have = nil // an entry that can't be relied on may speak of it
	}
	type journal struct {
		sums []string
		err  error
	}
	journals := map[string]journal{}
	var errs []error
	found = b.Against(have, func(t logbook.Thing) logbook.Stands {
		if t.Shelf != logbook.Journals {
			s, err := h.log.Stands(ctx, t)
			errs = append(errs, err)
			return s
		}
		j, read := journals[t.ID]
		if !read {
			chain := course.NewChain(t.ID)
			_, j.err = h.rounds.Journal(ctx, t.ID, chain)
			j.sums = chain.Sums()
			journals[t.ID] = j
		}
		var cut *course.Malformed
		switch {
		case errors.Is(j.err, store.ErrNoRound):
			return logbook.Stands{Gone: true}
		case t.Seq <= int64(len(j.sums)):
			return logbook.Stands{Sum: j.sums[t.Seq-1]}
		case errors.As(j.err, &cut):
			return logbook.Stands{Why: cut.Error()}
		}
		errs = append(errs, j.err)
		return logbook.Stands{Why: fmt.Sprintf("the journal has %d entries", len(j.sums))}
	})
	for id, j := range journals { // cut behind everything that was decided in it
		var cut *course.Malformed
		if errors.As(j.err, &cut) && !slices.ContainsFunc(found, func(f logbook.Finding) bool { return f.Thing.ID == id }) {
			found = append(found, logbook.Finding{Thing: logbook.Thing{Shelf: logbook.Journals, ID: id, Seq: int64(cut.Entry)}, Says: "round " + id + ": " + cut.Error()})
		}
	}
	return b, found, errors.Join(errs...)
}

// Dated says on a document of which estate it is, and of what moment.
func (h Looking) Dated(d view.Document) view.Document {
	d.Estate, d.At = h.Estate.Name, h.Now()
	return d
}

// Period is from a moment on and before another; a zero time is none.
type Period struct{ From, Until time.Time }

// PruneHistory removes journals of rounds and readings that are older than that; 0 is none of that kind. Never what is owed,
// nor the newest. Dry, it only counts. It says what is, or would be, removed.
func (h Looking) PruneHistory(ctx context.Context, journals, readings time.Duration, dry bool) (says string, n int, err error) {
	now := h.Now()
	var rule store.PruneRule
	if journals > 0 {
		rule.Rounds = now.Add(-journals)
	}
	if readings > 0 {
		rule.Readings = now.Add(-readings)
	}
	p, err := h.log.Prune(ctx, rule, now, dry)
	return fmt.Sprintf("%s of rounds, %s", catalogue.Some(len(p.Rounds), "journal"), catalogue.Some(p.Readings, "reading")), len(p.Rounds) + p.Readings, err
}
