package view

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/drift"
)

// spent is where the time of a visit went: acts of a kind while at least one of them was under way, silence, and time in
// which nothing was.
type spent struct {
	What    string  `json:"what"`
	Seconds float64 `json:"seconds"`
	Acts    int     `json:"acts,omitempty"`
	Longest string  `json:"longest,omitempty"` // act, with how long it took
}

// stretch is from when until when something was under way.
type stretch struct{ from, to time.Time }

// union is how long at least one of the stretches lasted.
func union(all []stretch) (sum time.Duration) {
	slices.SortFunc(all, func(a, b stretch) int { return a.from.Compare(b.from) })
	var end time.Time
	for _, s := range all {
		from := s.from
		if end.After(from) {
			from = end
		}
		if s.to.After(from) {
			sum, end = sum+s.to.Sub(from), s.to
		}
	}
	return sum
}

// went tells where the time of a visit went, by its acts in the journal, the longest first.
func went(v *course.Visit, events []course.Event) (out []spent) {
	type kind struct {
		spent
		all     []stretch
		longest time.Duration
	}
	kinds := map[act.Name]*kind{}
	var order []act.Name
	open, quiet := map[string]time.Time{}, map[string]time.Time{}
	var every, silent []stretch
	hush := func(id string, at time.Time) {
		if since, is := quiet[id]; is {
			silent = append(silent, stretch{since, at})
			delete(quiet, id)
		}
	}
	for i := range events {
		e := &events[i]
		if e.Act == nil || e.Act.Visit() != v.Host || e.Act.Kind == act.Claim {
			continue
		}
		switch e.Kind {
		case course.Intent:
			open[e.Act.ID] = e.At
		case course.Quiet:
			quiet[e.Act.ID] = e.At
		case course.Heard:
			hush(e.Act.ID, e.At)
		case course.Done, course.Failed, course.Undone, course.Overdue, course.Stuck:
			hush(e.Act.ID, e.At)
			from, is := open[e.Act.ID]
			if !is {
				continue
			}
			delete(open, e.Act.ID)
			k := kinds[e.Act.Kind]
			if k == nil {
				k = &kind{spent: spent{What: string(e.Act.Kind)}}
				kinds[e.Act.Kind], order = k, append(order, e.Act.Kind)
			}
			k.all, every = append(k.all, stretch{from, e.At}), append(every, stretch{from, e.At})
			k.Acts++
			if took := e.At.Sub(from); took > k.longest {
				k.longest, k.Longest = took, fmt.Sprintf("%s, %s", e.Act.Says(), drift.Age(took))
			}
		}
	}
	for _, name := range order {
		k := kinds[name]
		k.Seconds = union(k.all).Seconds()
		if k.Acts < 2 {
			k.Longest = ""
		}
		out = append(out, k.spent)
	}
	if s := union(silent).Seconds(); s > 0 {
		out = append(out, spent{What: "silence, in that", Seconds: s})
	}
	if total := lasted(v); total > 0 {
		if idle := total - union(every); idle > time.Second {
			out = append(out, spent{What: "looking, proving and waiting", Seconds: idle.Seconds()})
		}
	}
	slices.SortStableFunc(out, func(a, b spent) int { return cmp.Compare(b.Seconds, a.Seconds) })
	return out
}

// lasted is how long the steps of a visit took.
func lasted(v *course.Visit) (sum time.Duration) {
	for _, s := range v.Spans {
		if !s.To.IsZero() {
			sum += s.To.Sub(s.From)
		}
	}
	return sum
}

// slow are the steps that took more than half again as long as planned, and a minute more at least, in words.
func (v *visit) slow() (out []string) {
	for _, s := range v.Steps {
		if s.Planned > 0 && s.Seconds > 1.5*s.Planned && s.Seconds > s.Planned+60 {
			out = append(out, fmt.Sprintf("%s took %s, and usually takes %s", s.Step, Seconds(s.Seconds), Seconds(s.Planned)))
		}
	}
	return out
}
