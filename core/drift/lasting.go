package drift

import (
	"cmp"
	"slices"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Lasting is a place that is out of line, from when that was first found until it was first found otherwise.
type Lasting struct {
	Cluster   string             `json:"cluster"`
	Host      string             `json:"host"`
	Component estate.Key         `json:"component"`
	Device    string             `json:"device,omitempty"`
	Severity  catalogue.Severity `json:"severity"` // the worst that it had
	Since     time.Time          `json:"since"`
	Until     time.Time          `json:"until,omitzero"` // zero: it still is
}

// Place names where it is, as that of a verdict does.
func (l *Lasting) Place() string {
	return (&Verdict{Host: l.Host, Component: l.Component, Device: l.Device}).place()
}

// Place names where a verdict stands, the same from check to check.
func (v *Verdict) Place() string { return v.place() }

// Last holds what lasts against verdicts of a moment, and returns what has changed: places that are out of line anew, that
// are so no more, or worse than before. Places of hosts that were not judged stay as they are, and so do those of which
// nothing is known now: silence ends nothing.
func Last(cluster string, open []Lasting, byHost map[string][]Verdict, at time.Time) (changed []Lasting) {
	now := map[string]*Verdict{}
	for _, vs := range byHost {
		for i := range vs {
			now[vs[i].place()] = &vs[i]
		}
	}
	known := map[string]bool{}
	for _, l := range open {
		known[l.Place()] = true
		if _, judged := byHost[l.Host]; !judged {
			continue
		}
		v := now[l.Place()]
		switch {
		case v != nil && v.Outcome.Open():
		case v == nil || !v.Outcome.Drifts():
			l.Until = at
			if at.Before(l.Since) { // the time of day was set back
				l.Until = l.Since
			}
			changed = append(changed, l)
		case v.Severity() > l.Severity:
			l.Severity = v.Severity()
			changed = append(changed, l)
		}
	}
	for place, v := range now {
		if v.Outcome.Drifts() && !known[place] {
			changed = append(changed, Lasting{Cluster: cluster, Host: v.Host, Component: v.Component, Device: v.Device, Severity: v.Severity(), Since: at})
		}
	}
	slices.SortFunc(changed, func(a, b Lasting) int { return cmp.Compare(a.Place(), b.Place()) })
	return changed
}

// Due is until when a verdict's drift may last that was found at that time, by the limits of the baseline that wants it
// otherwise; zero where it has none for that severity.
func (c *Checker) Due(v *Verdict, since time.Time) time.Time {
	if v.Clause == nil || since.IsZero() || !v.Outcome.Drifts() {
		return time.Time{}
	}
	for i := range c.Baselines {
		if b := &c.Baselines[i]; b.Name == v.Clause.Baseline {
			if limit, ok := b.Due[v.Severity()]; ok {
				return since.Add(limit)
			}
		}
	}
	return time.Time{}
}

// Mean is how long drift of a severity lasts: how many places, how many of them still, the mean of all, and the longest
// that still does. What still lasts counts with the time so far.
type Mean struct {
	Severity string        `json:"severity"`
	Places   int           `json:"places"`
	Still    int           `json:"still"`
	Mean     time.Duration `json:"mean"`
	Longest  time.Duration `json:"longest_still"`
}

// Means are those of the severities that occur, the worst first.
func Means(all []Lasting, now time.Time) (out []Mean) {
	for _, s := range catalogue.Severities {
		m := Mean{Severity: s.String()}
		var sum time.Duration
		for _, l := range all {
			if l.Severity != s {
				continue
			}
			m.Places++
			if lasts := cmp.Or(l.Until, now).Sub(l.Since); l.Until.IsZero() {
				m.Still++
				m.Longest, sum = max(m.Longest, lasts), sum+lasts
			} else {
				sum += lasts
			}
		}
		if m.Places > 0 {
			m.Mean = sum / time.Duration(m.Places)
			out = append(out, m)
		}
	}
	return out
}
