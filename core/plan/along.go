package plan

import (
	"slices"

	"yareharbour/core/act"
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

// along takes into a visit what its host's package manager said of it, and returns that: nil where it was not asked.
func (in Input) along(v *Visit) (said []act.Resolution) {
	r, asked := in.Resolved[v.Host]
	if !asked || len(v.Packages()) == 0 {
		return nil
	}
	if !r.about(v.Packages()) {
		return []act.Resolution{{Unasked: "these changes are others than those that it was asked about"}}
	}
	said = append([]act.Resolution{}, r.Said...) // asked, and nothing came of it, is not the same as not asked
	for i := range said {
		said[i].Along = slices.Clone(said[i].Along)
		for j := range said[i].Along {
			x := &said[i].Along[j]
			// dnf does not say what is there
			if c, ok := in.Readings[v.Host].Component(x.Component, ""); ok && x.From == "" {
				x.From = c.Version
			}
		}
		v.Along = append(v.Along, said[i].Along...)
	}
	return said
}
