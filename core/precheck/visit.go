package precheck

import (
	"fmt"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/estate"
)

// onlyHere is why what is asked about one visit must never be waived.
const onlyHere = "it is about this round alone"

// Visit is what a plan, and then a round, knows of what is changed on the host. What it does not hold is not asked about.
type Visit struct {
	Said      []act.Resolution // what the host's package manager said that its packages bring; nil: it was not asked
	Begun     bool             // the round has begun: the host is held to what was planned
	Planned   []act.Change     // with Begun: what is changed, of a ladder its first rung
	Withdrawn []Withdrawal     // with Begun: what of that was withdrawn since
}

// Withdrawal is a change whose release was withdrawn.
type Withdrawal struct {
	act.Change
	Why     string
	Cluster string
}

// along holds a visit to what its host's package manager said of it. A change that it would refuse, or that takes
// something away, is not begun.
func along(f Facts, _ *estate.Reading) (x found) {
	if f.Said == nil {
		return x
	}
	x = clear("nothing else changes with its packages")
	var with []string
	for _, r := range f.Said {
		switch wrong := r.Says(); {
		case wrong != "":
			return blocker(wrong,
				"bring what it lacks to where the host's package manager finds it, or plan without the change")
		case r.Unasked != "":
			x = caution("what else would change could not be asked: "+r.Unasked,
				"a change that would bring more than was planned is refused by the host when it is made")
		}
		for _, a := range r.Along {
			with = append(with, a.Says())
		}
	}
	if len(with) > 0 && x.level == Clear {
		x.evidence = "with its packages " + strings.Join(with, ", ")
	}
	return x
}

// planned holds the host to what it was when the round's wants were frozen.
func planned(f Facts, r *estate.Reading) (x found) {
	if !f.Begun {
		return x
	}
	x = clear("it is as it was when the round was planned")
	for _, c := range f.Planned {
		switch has, unread := c.Standing(r); {
		case unread != nil:
			x = blocker(fmt.Sprintf("at what %s stands can't be told: %s", c.Component, unread),
				"see why it can't be read, then resume the round")
		case has.Version != c.From && has.Version != c.To:
			x = blocker(fmt.Sprintf("%s was %q when the round was planned and is %q now", c.Component, c.From, has.Version),
				"plan the round again")
		}
	}
	return x
}

// withdrawn holds what is still to be installed to what its publishers say today.
func withdrawn(f Facts, r *estate.Reading) (x found) {
	if !f.Begun {
		return x
	}
	x = clear("nothing that would be put in was withdrawn since")
	for _, w := range f.Withdrawn {
		x = blocker(fmt.Sprintf("%s %s was withdrawn since the round was planned: %s", w.Component, w.To, w.Why),
			"leave it out, for a reason").by("round", "drop", w.Cluster, r.Host, w.Title())
	}
	return x
}
