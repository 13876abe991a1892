package course

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/fit"
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
		switch i := slices.IndexFunc(v.Before.Health, func(b estate.Health) bool { return b.Item == h.Item }); {
		case h.OK, i >= 0 && !v.Before.Health[i].OK: // it was not well before either
		case i < 0:
			wrong = append(wrong, h.Item+" is not well, and nothing was told of it before: "+h.Detail)
		default:
			wrong = append(wrong, h.Item+" was well before: "+h.Detail)
		}
	}
	wrong = append(wrong, less(v, r)...)
	left := slices.DeleteFunc(r.BMC.Waits(), func(id string) bool {
		return slices.Contains(v.Before.BMC.Waits(), id) // it waited before
	})
	if len(left) > 0 {
		wrong = append(wrong, "in its BMC's queue there is left: "+strings.Join(left, ", "))
	}
	return wrong
}

// less lists what a host has no more that it had before its visit, or has less of, as far as both readings tell: memory
// (more than a fiftieth of it: firmware takes some for itself), processors, networks, storages, devices, links, whole
// arrays, file systems, and the right time. What is only different is none of it.
func less(v *Visit, r *estate.Reading) (out []string) {
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	was := v.Before
	both := func(s estate.SectionName) bool { return was.Section(s).Whole() && r.Section(s).Whole() }
	if both(estate.Host) {
		if a, b := was.Capacity.MemoryMiB, r.Capacity.MemoryMiB; b*100 < a*98 {
			add("it has %s of memory, and had %s", fit.GiB(b), fit.GiB(a))
		}
		if a, b := was.Capacity.CPU, r.Capacity.CPU; b < a {
			add("it has %.0f processors, and had %.0f", float64(b)/1000, float64(a)/1000)
		}
	}
	lost := func(what string, had, has []string) {
		for _, x := range had {
			if !slices.Contains(has, x) {
				add("the %s %s is gone", what, x)
			}
		}
	}
	lost("network", was.Offers().Networks, r.Offers().Networks)
	lost("storage", was.Offers().Storages, r.Offers().Storages)
	for _, b := range was.Present() {
		layer := b.Key.Layer()
		if layer != estate.Driver && layer != estate.Firmware || !both(b.Key.Section()) {
			continue
		}
		goes := slices.ContainsFunc(v.Changes, func(c act.Change) bool { return c.Component == b.Key && c.To == "" })
		if now, ok := r.Component(b.Key, b.Device); (!ok || now.Version == "" && now.Unread == "") && !goes {
			add("%s is gone", b.Title())
		}
	}
	if both(estate.FirmwareItems) {
		for _, name := range slices.Sorted(maps.Keys(was.Board)) { // what new firmware adds or drops is its own
			if now, told := r.Board[name]; told && now != was.Board[name] {
				add("its firmware's setting %s is %q, and was %q", name, now, was.Board[name])
			}
		}
		if len(was.Board) > 0 && len(r.Board) == 0 {
			add("its firmware's settings are not told any more")
		}
	}
	if both(estate.ConditionItems) {
		out = append(out, worse(&was.Condition, &r.Condition)...)
	}
	return out
}

// worse lists what of a host's condition is worse than it was.
func worse(was, now *estate.Condition) (out []string) {
	if was.Root != "" && now.Root != "" && (was.Root != now.Root || now.Volatile && !was.Volatile) {
		out = append(out, fmt.Sprintf("its root is %s, and was %s", now.Root, was.Root))
	}
	if was.Ahead == 0 && now.Ahead != 0 {
		out = append(out, fmt.Sprintf("its clock is %s ahead, and was right", now.Ahead))
	}
	for _, s := range was.Space {
		if !slices.ContainsFunc(now.Space, func(o estate.Space) bool { return o.Path == s.Path }) {
			out = append(out, "the file system at "+s.Path+" is gone")
		}
	}
	for _, s := range was.Servers {
		if !slices.ContainsFunc(now.Servers, func(o estate.Server) bool { return o.At == s.At }) {
			out = append(out, "what was mounted at "+s.At+" is gone")
		}
	}
	for _, a := range was.Arrays {
		i := slices.IndexFunc(now.Arrays, func(o estate.Array) bool { return o.Name == a.Name })
		if i < 0 {
			out = append(out, "the array "+a.Name+" is gone")
		} else if a.Whole && !now.Arrays[i].Whole {
			out = append(out, "the array "+a.Name+" was whole: "+now.Arrays[i].Detail)
		}
	}
	for _, b := range was.Bonds {
		i := slices.IndexFunc(now.Bonds, func(o estate.Bond) bool { return o.Name == b.Name })
		if i < 0 {
			out = append(out, "the bond "+b.Name+" is gone")
			continue
		}
		up, _ := now.Bonds[i].Up()
		if had, _ := b.Up(); len(up) < len(had) {
			out = append(out, fmt.Sprintf("of the links of %s %d are up, and were %d", b.Name, len(up), len(had)))
		}
	}
	return out
}

// lent tells whether the component is what is changed for the time of the visit.
func lent(v *Visit, k estate.Key) bool {
	return slices.ContainsFunc(v.Owed, func(a act.Act) bool { return a.Lent != nil && a.Lent.Component() == k })
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
		case asked, along(b.Key), lent(v, b.Key):
		case !ok:
			out = append(out, b.Title()+" is gone, unplanned")
		case b.Known() && !now.Known():
			out = append(out, fmt.Sprintf("%s was at %s, and where it is now can't be read: %s", b.Title(),
				b.Version, now.Unread))
		case b.Known() && now.Version != b.Version:
			out = append(out, fmt.Sprintf("%s went from %s to %s, unplanned", b.Title(), b.Version, now.Version))
		}
	}
	return out
}
