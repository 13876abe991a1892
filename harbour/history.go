package harbour

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/view"
	"yareharbour/store"
)

// tally keeps what the drift of the clusters comes to now in which hosts were read, as the newest kept readings have
// it.
func (h *Harbour) tally(ctx context.Context, read map[string]*estate.Reading) error {
	c := h.Checker()
	for _, cl := range h.Estate.Clusters {
		if !slices.ContainsFunc(cl.Hosts, func(host string) bool { return read[host] != nil }) {
			continue
		}
		kept, err := h.Readings.Newest(ctx, slices.DeleteFunc(slices.Clone(cl.Hosts), func(host string) bool {
			return read[host] != nil
		}))
		if err != nil {
			return err
		}
		for _, host := range cl.Hosts {
			if r := read[host]; r != nil {
				kept[host] = r
			}
		}
		verdicts := make(map[string][]drift.Verdict, len(kept))
		for host, r := range kept {
			verdicts[host] = c.Host(cl.Name, r)
		}
		if err := h.Tallies.KeepTally(ctx, cl.Name, drift.Count(c.Now, cl.Hosts, verdicts)); err != nil {
			return err
		}
	}
	return nil
}

// Spans tells when each version of each component was first and last seen on the host.
func (h *Harbour) Spans(ctx context.Context, host string) ([]drift.Span, error) {
	rs, err := h.Readings.History(ctx, host, remembered)
	if err != nil {
		return nil, err
	}
	kept, err := h.Readings.When(ctx, host, remembered)
	if err != nil {
		return nil, err
	}
	slices.Reverse(kept)
	until := make([]time.Time, len(rs))
	for i := range rs {
		until[i] = kept[i].To
	}
	return drift.Spans(rs, until), nil
}

// Compare says in what two kept readings differ, each named as ReadingAt takes it.
func (h *Harbour) Compare(ctx context.Context, from, to string) (view.Comparison, error) {
	before, err := h.ReadingAt(ctx, from)
	if err != nil {
		return view.Comparison{}, err
	}
	after, err := h.ReadingAt(ctx, to)
	if err != nil {
		return view.Comparison{}, err
	}
	return view.Compare(from, before, to, after), nil
}

// ReadingAt returns the reading that a name means: HOST, its newest kept one; HOST@TIME, the one that held then. The
// time is a date, a date with a time, or a duration before now, as 24h or 7d.
func (h *Harbour) ReadingAt(ctx context.Context, name string) (*estate.Reading, error) {
	host, when, dated := strings.Cut(name, "@")
	if _, ok := h.Estate.ClusterOf(host); !ok {
		return nil, fmt.Errorf("there is no host %q in %s", host, h.Estate.Name)
	}
	at := h.World.Now()
	if dated {
		var err error
		if at, err = ParseTime(when, at); err != nil {
			return nil, err
		}
	}
	got, err := h.Readings.On(ctx, []string{host}, at)
	if err != nil {
		return nil, err
	}
	if got[host] == nil {
		first := "it was never read"
		if kept, err := h.Readings.When(ctx, host, 1<<20); err == nil && len(kept) > 0 {
			first = "the first reading of it that was kept is of " + kept[len(kept)-1].From.Local().Format(stamp)
		}
		return nil, fmt.Errorf("no reading of %s is kept from %s or before: %s", host, at.Local().Format(stamp), first)
	}
	r := *got[host]
	if dated && r.Tried().After(at) { // it was still found to be so later
		r.Sections = slices.Clone(r.Sections)
		for i := range r.Sections {
			if r.Sections[i].At.After(at) {
				r.Sections[i].At = at
			}
		}
	}
	return &r, nil
}

// ParseTime reads a moment as people write it: a date, a date and a time, or how long before now.
func ParseTime(s string, now time.Time) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, time.DateTime, "2006-01-02 15:04", "2006-01-02T15:04"} {
		if t, err := time.ParseInLocation(layout, s, now.Location()); err == nil {
			return t, nil
		}
	}
	if t, err := time.ParseInLocation(time.DateOnly, s, now.Location()); err == nil {
		return t.AddDate(0, 0, 1).Add(-time.Second), nil // a day is meant to its end
	}
	text := s
	if days, ok := strings.CutSuffix(s, "d"); ok {
		var n int
		if _, err := fmt.Sscanf(days, "%d", &n); err == nil {
			text = fmt.Sprintf("%dh", 24*n)
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 {
		return time.Time{}, fmt.Errorf("%q is no time: expected a date (2026-11-21), a date and a time (\"2026-11-21 "+
			"20:00\"), or how long ago (24h, 7d)", s)
	}
	return now.Add(-d), nil
}

// News compares verdicts of a cluster with the last look at it. Where nobody looked yet nothing is news.
func (h *Harbour) News(ctx context.Context, cluster string, verdicts map[string][]drift.Verdict) (drift.News, error) {
	c, err := h.Cluster(cluster)
	if err != nil {
		return drift.News{}, err
	}
	n := drift.News{Now: drift.Count(h.World.Now(), c.Hosts, verdicts)}
	l, ok, err := h.Tallies.Looked(ctx, cluster)
	if err != nil || !ok {
		return n, err
	}
	n.Since, n.By, n.Drift = l.At, l.By, l.Seen.Since(verdicts)
	return n, nil
}

// Looked notes that somebody has seen the drift of a cluster as it is now; what comes after is news.
func (h *Harbour) Looked(ctx context.Context, cluster, by string) error {
	c, err := h.Cluster(cluster)
	if err != nil {
		return err
	}
	kept, err := h.Readings.Newest(ctx, c.Hosts)
	if err != nil {
		return err
	}
	verdicts := h.Check(h.Checker(), kept)
	return h.Tallies.KeepLook(ctx, cluster, store.Look{At: h.World.Now(), By: by, Seen: drift.See(verdicts)})
}

// stamp is how a time is shown: with its zone.
const stamp = "2006-01-02 15:04:05 MST"
