package course

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// unproven lists what keeps the host from being proven.
func unproven(v *Visit, r *estate.Reading) (wrong []string) {
	for _, s := range estate.SectionNames {
		if e := cmp.Or(r.Section(s).Err, r.Section(s).Partial); e != "" && v.Before.Section(s).Whole() {
			wrong = append(wrong, fmt.Sprintf("%s is unread: %s", s, e))
		}
	}
	for _, i := range v.wanted() {
		c := v.Changes[i]
		if v.rung(i) {
			continue // a lower rung of a ladder
		}
		comp, unread := c.Standing(r)
		still, others := c.Stale(comp)
		if c.Restart.EmptiesHost() { // nothing outlives it
			still = append(still, others...)
		}
		switch {
		case unread != nil:
			wrong = append(wrong, fmt.Sprintf("at what %s stands can't be read", c.Component))
		case comp.State != "":
			wrong = append(wrong, fmt.Sprintf("%s %s is %s", c.Component, comp.Version, comp.State))
		case comp.Version != c.To:
			wrong = append(wrong, fmt.Sprintf("%s is %q and should be %q", c.Component, comp.Version, c.To))
		case len(still) > 0 && (c.Restart == catalogue.ServiceRestart || c.Restart.EmptiesHost()):
			wrong = append(wrong, fmt.Sprintf("%s still run what %s %s replaced", strings.Join(still, ", "), c.Component,
				c.To))
		case comp.Running != "":
			wrong = append(wrong, fmt.Sprintf("%s %s is installed but %s runs", c.Component, c.To, comp.Running))
		}
	}
	for _, h := range r.Health {
		if !h.OK && wasWell(v.Before, h.Item) {
			wrong = append(wrong, h.Item+" was well before: "+h.Detail)
		}
	}
	for _, n := range v.Before.Offers().Networks {
		if !slices.Contains(r.Offers().Networks, n) {
			wrong = append(wrong, "the network "+n+" is gone")
		}
	}
	if r.BMC.Queue > 0 {
		wrong = append(wrong, fmt.Sprintf("%d task(s) are left in the BMC's queue", r.BMC.Queue))
	}
	return wrong
}

func wasWell(before *estate.Reading, item string) bool {
	return slices.ContainsFunc(before.Health, func(h estate.Health) bool { return h.Item == item && h.OK })
}

// unasked lists components that changed though nobody asked for it, and services that still run what was replaced and
// that the plan does not name.
func unasked(v *Visit, r *estate.Reading) (out []string) {
	for _, c := range v.Changes {
		comp, _ := c.Standing(r)
		if _, others := c.Stale(comp); len(others) > 0 && !c.Restart.EmptiesHost() {
			out = append(out, fmt.Sprintf("%s still run what %s replaced, and were not to be restarted",
				strings.Join(others, ", "), c.Component))
		}
	}
	along := func(k estate.Key) bool {
		return slices.ContainsFunc(v.Along, func(a act.Along) bool { return a.Component == k })
	}
	if packages := estate.Packages; v.Before.Section(packages).Whole() && r.Section(packages).Whole() {
		for _, c := range r.Present() {
			_, was := v.Before.Component(c.Key, c.Device)
			if asked := slices.ContainsFunc(v.Changes, func(o act.Change) bool {
				return o.Component == c.Key
			}); c.Key.Section() == packages && !was && !asked && !along(c.Key) {
				out = append(out, c.Title()+" has come, unplanned")
			}
		}
	}
	for _, b := range v.Before.Present() {
		// guests have moved away, with what is in them
		if b.Key.Layer() == estate.Inside || !r.Section(b.Key.Section()).Whole() {
			continue
		}
		asked := slices.ContainsFunc(v.Changes, func(c act.Change) bool {
			return c.Component == b.Key && c.Device == b.Device
		})
		now, ok := r.Component(b.Key, b.Device)
		switch {
		case asked, along(b.Key):
		case !ok:
			out = append(out, b.Title()+" is gone, unplanned")
		case b.Known() && !now.Known():
			out = append(out, fmt.Sprintf("%s was at %s, and where it stands now can't be read: %s", b.Title(),
				b.Version, now.Unread))
		case b.Known() && now.Version != b.Version:
			out = append(out, fmt.Sprintf("%s went from %s to %s, unplanned", b.Title(), b.Version, now.Version))
		}
	}
	return out
}
