package plan

import (
	"slices"

	"yareharbour/core/act"
	"yareharbour/core/estate"
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

// brought takes into a visit what its images bring beside what is wanted of them: firmware of the host that stands at
// another version.
func (in Input) brought(v *Visit, r *estate.Reading) {
	for _, c := range v.Changes {
		if c.Kind() != act.Boot || in.Catalogue == nil {
			continue
		}
		for _, x := range r.Present() {
			wanted := func(o act.Change) bool { return o.Component == x.Key && o.Device == x.Device }
			if x.Key.Layer() != estate.Firmware || slices.ContainsFunc(v.Changes, wanted) {
				continue
			}
			for _, rel := range in.Catalogue.Releases(x.Key) {
				a := act.Along{Component: x.Key, From: x.Version, To: rel.Version, Pass: c.Pass}
				if rel.Image && rel.SHA256 == c.SHA256 && rel.Version != x.Version && !slices.Contains(v.Along, a) &&
					(len(rel.Hardware) == 0 || estate.HasModel(rel.Hardware, x.Model)) {
					v.Along = append(v.Along, a)
				}
			}
		}
	}
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
