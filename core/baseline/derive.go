package baseline

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// Derive makes a baseline of a known good host: each component at least at the version that it has there. Where several
// devices alike stand at different versions the lowest is asked for, so that the host itself is in line. A host of
// which something in the layers was not read is refused: what is missing from the reading would silently be missing
// from the baseline.
func Derive(r *estate.Reading, name string, layers []estate.Layer) (Baseline, error) {
	b := Baseline{Name: name}
	var unread []string
	for _, layer := range layers {
		for _, s := range estate.SectionsOf(layer) {
			if e := cmp.Or(r.Section(s).Err, r.Section(s).Partial); e != "" {
				unread = append(unread, fmt.Sprintf("%s (%s)", s, e))
			}
		}
	}
	if len(unread) > 0 {
		return b, fmt.Errorf("%s can't serve as a model: unread are %s", r.Host, strings.Join(unread, ", "))
	}
	at := map[estate.Key]int{}
	for _, c := range r.Components {
		if !slices.Contains(layers, c.Key.Layer()) {
			continue
		}
		if !c.Known() {
			return b, fmt.Errorf("%s can't serve as a model: at which version it has %s is not known: %s",
				r.Host, c.Title(), c.Unread)
		}
		i, known := at[c.Key]
		switch {
		case !known:
			at[c.Key] = len(b.Clauses)
			b.Clauses = append(b.Clauses, Clause{Component: c.Key, Posture: AtLeast, Version: c.Version})
		case c.Key.Scheme().Compare(c.Version, b.Clauses[i].Version) < 0:
			b.Clauses[i].Version = c.Version
		}
	}
	if len(b.Clauses) == 0 {
		return b, fmt.Errorf("%s has no components in the layers %v", r.Host, layers)
	}
	return b, nil
}
