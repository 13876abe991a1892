package plan

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/precheck"
)

// Packages are the package changes of a visit by the pass that they are made in: what a host's package manager is to be
// asked about.
func (v *Visit) Packages() map[int][]act.Change {
	out := map[int][]act.Change{}
	for _, c := range v.Changes {
		if c.Kind() == act.Install && (c.Component.Kind() == "deb" || c.Component.Kind() == "rpm") {
			out[c.Pass] = append(out[c.Pass], c)
		}
	}
	return out
}

// along takes into a visit what its host's package manager said of it. A change that it would refuse, or that takes
// something away, is not begun; what comes along is part of the plan.
func (in Input) along(v *Visit) []precheck.Answer {
	r, asked := in.Resolved[v.Host]
	if !asked || len(v.Packages()) == 0 {
		return nil
	}
	said := r.Said
	if !r.about(v.Packages()) {
		said = []act.Resolution{{Unasked: "these changes are others than those that it was asked about"}}
	}
	a := precheck.Answer{Check: "along", Host: v.Host, Level: precheck.Clear,
		Evidence: "nothing else changes with its packages", Never: precheck.OnlyHere}
	var with []string
	for _, r := range said {
		r.Along = slices.Clone(r.Along)
		switch wrong := r.Says(); {
		case wrong != "":
			a.Level, a.Evidence, a.Remedy = precheck.Blocker, wrong,
				"bring what it lacks to where the host's package manager finds it, or plan without the change"
			return []precheck.Answer{a}
		case r.Unasked != "":
			a.Level, a.Evidence, a.Remedy = precheck.Caution, "what else would change could not be asked: "+r.Unasked,
				"a change that would bring more than was planned is refused by the host when it is made"
		}
		for i := range r.Along {
			x := &r.Along[i]
			// dnf does not say what is there
			if c, ok := in.Readings[v.Host].Component(x.Component, ""); ok && x.From == "" {
				x.From = c.Version
			}
			with = append(with, x.Says())
		}
		v.Along = append(v.Along, r.Along...)
	}
	if len(with) > 0 && a.Level == precheck.Clear {
		a.Evidence = fmt.Sprintf("with its packages %s", strings.Join(with, ", "))
	}
	return []precheck.Answer{a}
}
