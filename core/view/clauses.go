package view

import (
	"fmt"
	"slices"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
	"yareharbour/core/narrow"
)

// Standing is how hosts stand to a clause, in verdicts.
type Standing struct {
	InLine, Drift, Unread, Undecided int
	Excepted, Idle                   int      // pardoned; known not to apply
	Hosts                            []string // out of line, sorted
}

// Standings counts the verdicts by the clause of a baseline that made them, by its line in the baseline's file.
func (e *Estate) Standings(name string) map[int]Standing {
	out := map[int]Standing{}
	for _, vs := range e.Verdicts {
		for i := range vs {
			v := &vs[i]
			if v.Clause == nil || v.Clause.Baseline != name {
				continue
			}
			s := out[v.Clause.Line]
			switch {
			case v.Outcome == drift.InLine:
				s.InLine++
			case v.Outcome == drift.Unread:
				s.Unread++
			case v.Outcome == drift.Undecided:
				s.Undecided++
			case v.Outcome == drift.Excepted:
				s.Excepted++
			case v.Outcome.Drifts():
				s.Drift++
				if at, found := slices.BinarySearch(s.Hosts, v.Host); !found {
					s.Hosts = slices.Insert(s.Hosts, at, v.Host)
				}
			default:
				s.Idle++
			}
			out[v.Clause.Line] = s
		}
	}
	return out
}

// LetsClause tells whether a filter lets a clause through: by what it is about, and by the hosts that are out of line
// by it.
func LetsClause(f narrow.Filter, c baseline.Clause, s Standing) bool {
	subject := c.Subject()
	subject.Hosts = s.Hosts
	return f.Empty() || f.Lets(subject)
}

// OutOfLine are the verdicts that are out of line by a baseline, in the order of clusters and hosts.
func (e *Estate) OutOfLine(name string, f narrow.Filter) (out []drift.Verdict) {
	for _, host := range e.Hosts("") {
		for _, v := range e.Verdicts[host] {
			if v.Clause != nil && v.Clause.Baseline == name && v.Outcome.Drifts() && e.Lets(f, &v) {
				out = append(out, v)
			}
		}
	}
	return out
}

// Disputes says where a baseline and another of its rank want different things: until one gives way nothing is planned
// there.
func (e *Estate) Disputes(name string) (out []string) {
	for _, vs := range e.Verdicts {
		for i := range vs {
			v := &vs[i]
			if v.Outcome != drift.Disputed {
				continue
			}
			for _, rival := range v.Clause.Against {
				if v.Clause.Baseline == name || rival.Baseline == name {
					out = append(out, fmt.Sprintf("%s on %s: %s wants %s, %s wants %s, at the same rank; give one the "+
						"lower rank, or take one clause away", v.Title(), v.Host, v.Clause.Baseline, v.Clause.Says(),
						rival.Baseline, rival.Wants))
				}
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
