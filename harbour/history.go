package harbour

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/logbook"
	"yareharbour/core/span"
	"yareharbour/core/view"
	"yareharbour/store"
)

// tally keeps what the drift of the clusters comes to now in which hosts were read, as the newest kept readings have
// it.
func (h *house) tally(ctx context.Context, read map[string]*estate.Reading) error {
	c := h.Checker()
	for _, cl := range h.Estate.Clusters {
		if !slices.ContainsFunc(cl.Hosts, func(host string) bool { return read[host] != nil }) {
			continue
		}
		kept, err := h.readings.Newest(ctx, slices.DeleteFunc(slices.Clone(cl.Hosts), func(host string) bool {
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
		if err := h.count(ctx, cl, c.Now, verdicts); err != nil {
			return err
		}
	}
	return nil
}

// count keeps what verdicts on a cluster come to, and from when until when what of them is out of line.
func (h *house) count(ctx context.Context, cl estate.Cluster, at time.Time, verdicts map[string][]drift.Verdict) error {
	if err := h.tallies.KeepTally(ctx, cl.Name, drift.Count(at, cl.Hosts, verdicts)); err != nil {
		return err
	}
	open, err := h.tallies.Lasting(ctx, cl.Name, time.Time{})
	if err != nil {
		return err
	}
	judged := maps.Clone(verdicts)
	for _, l := range open {
		if !slices.Contains(cl.Hosts, l.Host) { // it is none of the cluster's any more
			judged[l.Host] = nil
		}
	}
	return h.tallies.KeepLasting(ctx, drift.Last(cl.Name, open, judged, at))
}

// lasting is since when places are out of line that still are.
func (h *house) lasting(ctx context.Context) (map[string]time.Time, error) {
	all, err := h.tallies.Lasting(ctx, "", time.Time{})
	out := make(map[string]time.Time, len(all))
	for i := range all {
		out[all[i].Place()] = all[i].Since
	}
	return out, err
}

// Spans tells when each version of each component was first and last seen on the host.
func (h Looking) Spans(ctx context.Context, host string) ([]drift.Span, error) {
	rs, err := h.readings.History(ctx, host, remembered)
	if err != nil {
		return nil, err
	}
	kept, err := h.readings.When(ctx, host, remembered)
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

// Seen tells when versions of a component were first and last seen, over all hosts.
func (h Looking) Seen(ctx context.Context, key estate.Key) ([]view.Seen, error) {
	hosts, err := h.Hosts()
	if err != nil {
		return nil, err
	}
	spans := map[string][]drift.Span{}
	for _, host := range hosts {
		if spans[host], err = h.Spans(ctx, host); err != nil {
			return nil, err
		}
	}
	return view.SeenOf(key, hosts, spans), nil
}

// Compare says in what two kept readings differ, each named as ReadingAt takes it.
func (h Looking) Compare(ctx context.Context, from, to string) (view.Comparison, error) {
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
func (h Looking) ReadingAt(ctx context.Context, name string) (*estate.Reading, error) {
	name, when, dated := strings.Cut(name, "@")
	host, _, err := h.Host(name)
	if err != nil {
		return nil, err
	}
	at := h.Now()
	if dated {
		if at, err = ParseTime(when, at); err != nil {
			return nil, err
		}
	}
	got, err := h.readings.On(ctx, []string{host}, at)
	if err != nil {
		return nil, err
	}
	if got[host] == nil {
		first := "it was never read"
		if kept, err := h.readings.When(ctx, host, 1<<20); err == nil && len(kept) > 0 {
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
	d, err := span.Parse(s)
	if err != nil || d < 0 {
		return time.Time{}, fmt.Errorf("%q is no time: expected a date (2026-11-21), a date and a time (\"2026-11-21 "+
			"20:00\"), or how long ago (24h, 7d)", s)
	}
	return now.Add(-d), nil
}

// Trend is a cluster's drift from a moment until now.
func (h Looking) Trend(ctx context.Context, cluster string, from time.Time) (view.Trend, error) {
	t := view.Trend{Cluster: cluster, From: from, To: h.Now()}
	if _, err := h.Cluster(cluster); err != nil {
		return t, err
	}
	var err error
	if t.Tallies, err = h.tallies.Trend(ctx, cluster, from); err != nil {
		return t, err
	}
	all, err := h.tallies.Lasting(ctx, cluster, from)
	if err != nil {
		return t, err
	}
	t.Means = drift.Means(all, t.To)
	b, err := h.Book(ctx)
	t.Marks = view.Marks(logbook.Since(b.Entries, from, time.Time{}), cluster)
	return t, err
}

// Remember keeps readings of a day that is past, and what they came to by what had been released until then. With a name
// it is noted that this person has seen that.
func (h Looking) Remember(ctx context.Context, day time.Time, readings map[string]*estate.Reading, seenBy string) error {
	c := &drift.Checker{Catalogue: h.Catalogue().Until(day), Baselines: h.InForce(), Now: day}
	verdicts := h.Check(c, readings)
	if err := h.readings.KeepReadings(ctx, slices.Collect(maps.Values(readings))); err != nil {
		return err
	}
	for _, cl := range h.Estate.Clusters {
		own := map[string][]drift.Verdict{}
		for _, host := range cl.Hosts {
			if vs, ok := verdicts[host]; ok {
				own[host] = vs
			}
		}
		if err := h.count(ctx, cl, day, own); err != nil {
			return err
		}
		if seenBy == "" {
			continue
		}
		if err := h.tallies.KeepLook(ctx, cl.Name, store.Look{At: day, By: seenBy, Seen: drift.See(own)}); err != nil {
			return err
		}
	}
	return nil
}

// Unknown tells whether no host was ever read.
func (h Looking) Unknown(ctx context.Context) (bool, error) {
	kept, err := h.newest(ctx)
	return len(kept) == 0, err
}

// Since is what is otherwise on a closed host than before it was closed, by the newest kept readings; nil where it is
// not closed, or was not read before that.
func (h Looking) Since(ctx context.Context, host string) (closed *estate.Mark, c *drift.Comparison, err error) {
	now, err := h.readings.Newest(ctx, []string{host})
	if err != nil || now[host] == nil || now[host].Closed == nil {
		return nil, nil, err
	}
	closed = now[host].Closed
	then, err := h.readings.On(ctx, []string{host}, closed.At)
	if err != nil || then[host] == nil {
		return closed, nil, err
	}
	is := drift.Compare(then[host], now[host])
	is.Facts = slices.DeleteFunc(is.Facts, func(f drift.Fact) bool { return f.What == "closed" })
	return closed, &is, nil
}

// KeptFilters are the filters that were kept, by name.
func (h Looking) KeptFilters(ctx context.Context) (out []view.Filter, err error) {
	all, err := h.filters.Filters(ctx)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, view.Filter{Name: name, Text: all[name]})
	}
	return out, err
}

// News compares verdicts of a cluster with the last look at it. Where nobody looked yet nothing is news.
func (h Looking) News(ctx context.Context, cluster string, verdicts map[string][]drift.Verdict) (drift.News, error) {
	c, err := h.Cluster(cluster)
	if err != nil {
		return drift.News{}, err
	}
	n := drift.News{Now: drift.Count(h.Now(), c.Hosts, verdicts)}
	l, ok, err := h.tallies.Looked(ctx, cluster)
	if err != nil || !ok {
		return n, err
	}
	n.Since, n.By, n.Drift = l.At, l.By, l.Seen.Since(verdicts)
	return n, nil
}

// MarkSeen notes that somebody has seen the drift of a cluster as it is now; what comes after is news.
func (h Looking) MarkSeen(ctx context.Context, cluster string) error {
	c, err := h.Cluster(cluster)
	if err != nil {
		return err
	}
	if err := h.refuses("nothing is marked as seen"); err != nil {
		return err
	}
	verdicts, err := h.keptVerdicts(ctx, c.Name)
	if err != nil {
		return err
	}
	return h.tallies.KeepLook(ctx, cluster, store.Look{At: h.Now(), By: h.By, Seen: drift.See(verdicts)})
}

// stamp is how a time is shown: with its zone.
const stamp = "2006-01-02 15:04:05 MST"
