package view

import (
	"slices"

	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// Concerned are the hosts of a cluster with something out of line that a filter lets through, and the components that
// are; none of these where that is all that is out of line on those hosts.
func (e *Estate) Concerned(cluster string, f narrow.Filter) (hosts []string, only []estate.Key) {
	left := false
	for _, host := range e.Hosts(cluster) {
		var here []estate.Key
		kept := false
		for i := range e.Verdicts[host] {
			switch v := &e.Verdicts[host][i]; {
			case !v.Outcome.Drifts():
			case e.Lets(f, v):
				here = append(here, v.Component)
			default:
				kept = true
			}
		}
		if len(here) > 0 {
			hosts, only, left = append(hosts, host), append(only, here...), left || kept
		}
	}
	if !left {
		return hosts, nil
	}
	slices.Sort(only)
	return hosts, slices.Compact(only)
}
