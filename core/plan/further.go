package plan

import (
	"fmt"
	"slices"

	"yareharbour/core/act"
)

// MostFurther is how many passes a visit may have beyond those that were planned.
const MostFurther = 3

// Further is what a host could have beside what its visit was to make, as a reading taken after that shows it: firmware
// that the BMC did not list before, a release that can be had now. Only what puts a release in counts: services are
// restarted, and packages taken away, as a plan has shown it. passes are those of the visit so far; those of what is
// returned come after them, three at most. emptied tells that the host is empty and closed.
func (in Input) Further(host string, planned []act.Change, passes int, emptied bool) (more []act.Change, left []string) {
	v := visit(in, host)
	for _, c := range v.Changes {
		known := slices.ContainsFunc(planned, func(o act.Change) bool { return o.Place(c) && o.To == c.To })
		switch {
		case known, !c.Installs() || c.To == "" || c.From == c.To:
		case c.Restart.EmptiesHost() && !emptied:
			left = append(left, c.Says()+": it needs an empty host")
		case c.Supplied() && in.Payloads != nil && in.Payloads(c.File, c.SHA256) != nil:
			left = append(left, fmt.Sprintf("%s: %v", c.Says(), in.Payloads(c.File, c.SHA256)))
		default:
			more = append(more, c)
		}
	}
	var had []int
	for _, c := range more {
		if !slices.Contains(had, c.Pass) {
			had = append(had, c.Pass)
		}
	}
	slices.Sort(had)
	for i := range more {
		more[i].Pass = passes + 1 + slices.Index(had, more[i].Pass)
	}
	return slices.DeleteFunc(more, func(c act.Change) bool { return c.Pass > passes+MostFurther }), left
}
