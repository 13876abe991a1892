package plan

import (
	"cmp"
	"fmt"
	"slices"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// standings are the versions that run on a host, by component and device.
type standings map[estate.Key]map[string]string

// lowest is the lowest version of the component that runs on any of its devices; "" where one is not known, or there is
// none.
func (s standings) lowest(k estate.Key) (low string) {
	for _, v := range s[k] {
		if v == "" {
			return ""
		}
		if low == "" || k.Scheme().Compare(v, low) < 0 {
			low = v
		}
	}
	return low
}

func (s standings) set(k estate.Key, device, version string) {
	if s[k] == nil {
		s[k] = map[string]string{}
	}
	s[k][device] = version
}

// arrange gives every change its pass and its place. The BMC goes first, then firmware, packages and drivers; what
// requires a version that only runs after this visit's restart goes into a later pass. What requires something that is
// nowhere gives way to the best release below it that does not, and else is left. What is required must run on every
// device that has it.
func arrange(in Input, r *estate.Reading, v *Visit, todo []want) {
	runs := standings{}
	for _, c := range r.Present() {
		runs.set(c.Key, c.Device, cmp.Or(c.Running, c.Version))
	}
	for pass := 1; len(todo) > 0; pass++ {
		var now, later []want
		for _, c := range todo {
			if unmet(in, r, runs, c.Change) == "" {
				c.Pass = pass
				now = append(now, c)
			} else {
				later = append(later, c)
			}
		}
		if len(now) == 0 {
			if stepDown(in, r, runs, later) {
				todo, pass = later, pass-1
				continue
			}
			for _, c := range later {
				why := unmet(in, r, runs, c.Change)
				if q := misses(in, r, runs, c.Change); q != nil && !q.Anywhere && c.from == "" {
					v.lacks = append(v.lacks, lack{c.Title(), *q, !knowsRequired(in, r, c.Change)})
				}
				if c.from != "" {
					v.Left = append(v.Left, fmt.Sprintf("%s: %s can't be had yet: %s; %s is put in",
						c.Title(), c.To, why, c.from))
				} else {
					v.Left = append(v.Left, c.Says()+": "+why)
				}
			}
			break
		}
		slices.SortStableFunc(now, func(a, b want) int { return cmp.Compare(before(a.Change), before(b.Change)) })
		for _, c := range now {
			v.Changes = append(v.Changes, c.Change)
			runs.set(c.Component, c.Device, c.To)
			if c.then != nil {
				c.then.From, c.then.from = c.To, c.To
				later = append(later, *c.then)
			}
		}
		todo = later
	}
}

// stepDown lets the first change that can't be made give way to the best release below what it was to put in that can
// be: a rung on the way to it, which is tried again in a later pass. Equal devices go up together. It tells whether there
// was one. Taking the highest
// that can be had at each step climbs a ladder in the fewest steps, since what a release requires is at least a
// version. Where it is only not known whether what is required is there, nothing gives way: the newest may well be had.
func stepDown(in Input, r *estate.Reading, runs standings, later []want) bool {
	var first want // that gives way, as it was
	for i := range later {
		c := &later[i]
		if first.Component != "" && (c.Component != first.Component || c.To != first.To) || !knowsRequired(in, r, c.Change) {
			continue
		}
		was := *c
		if c.stepDown(in, r, runs) && first.Component == "" {
			first = was
		}
	}
	return first.Component != ""
}

// stepDown lets the change give way to the best release below it that can be had now, if there is one.
func (c *want) stepDown(in Input, r *estate.Reading, runs standings) bool {
	for n, rel := range c.below {
		rung := *c
		rung.put(rel, catalogue.NoRestart)
		if rel.Barred() != "" || unmet(in, r, runs, rung.Change) != "" {
			continue
		}
		top := *c
		top.below = c.below[:n]
		rung.below, rung.then = nil, &top
		rung.Why += ", on the way to " + c.To
		*c = rung
		return true
	}
	return false
}

func before(c act.Change) int {
	if c.Image { // which is the pass's restart
		return 9
	}
	if c.Restart == catalogue.BMCRestart {
		return 0
	}
	return 1 + slices.Index([]string{"fw", "deb", "rpm", "drv"}, c.Component.Kind())
}

// knowsRequired tells whether it was read at what everything stands that the change requires.
func knowsRequired(in Input, r *estate.Reading, c act.Change) bool {
	rel := releaseOf(in.Catalogue, r, c)
	if rel == nil {
		return true
	}
	for _, q := range rel.Requires {
		hosts := []*estate.Reading{r}
		if q.Anywhere {
			hosts = hosts[:0]
			for _, h := range in.Cluster.Hosts {
				hosts = append(hosts, in.Readings[h])
			}
		}
		for _, h := range hosts {
			if h == nil || !catalogue.HeldBy(h)(q.Component).Known {
				return false
			}
		}
	}
	return true
}

func releaseOf(cat *catalogue.Catalogue, r *estate.Reading, c act.Change) *catalogue.Release {
	if cat == nil || c.To == "" {
		return nil
	}
	comp, _ := r.Component(c.Component, c.Device)
	track, _ := cat.TrackOf(c.Component, c.To, comp.Model)
	return cat.Release(c.Component, c.To, track, comp.Model)
}

func unmet(in Input, r *estate.Reading, runs standings, c act.Change) string {
	q := misses(in, r, runs, c)
	switch {
	case q == nil:
		return ""
	case q.Anywhere:
		return fmt.Sprintf("it requires %s %s to run somewhere in the cluster first", q.Component, q.AtLeast)
	}
	return fmt.Sprintf("it requires %s %s", q.Component, q.AtLeast)
}

// misses is the first requirement of a change that is not met; nil where all are.
func misses(in Input, r *estate.Reading, runs standings, c act.Change) *catalogue.Requirement {
	rel := releaseOf(in.Catalogue, r, c)
	if rel == nil {
		return nil
	}
	for i := range rel.Requires {
		q := &rel.Requires[i]
		if q.Anywhere {
			if !somewhere(in.Readings, *q) {
				return q
			}
			continue
		}
		if has := runs.lowest(q.Component); has == "" || q.Component.Scheme().Compare(has, q.AtLeast) < 0 {
			return q
		}
	}
	return nil
}

// somewhere tells whether what is required runs on some host, or inside some guest, of the cluster.
func somewhere(readings map[string]*estate.Reading, q catalogue.Requirement) bool {
	for _, r := range readings {
		for _, c := range r.Of(q.Component) {
			if !r.Read(q.Component.Section()) || !c.Known() {
				continue
			}
			if q.Component.Scheme().Compare(cmp.Or(c.Running, c.Version), q.AtLeast) >= 0 {
				return true
			}
		}
	}
	return false
}
