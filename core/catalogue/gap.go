package catalogue

import (
	"slices"
	"time"

	"yareharbour/core/estate"
)

// Gap is what is not known of a source: it was never read, could not be read in part, or what it said is too old.
type Gap struct {
	Feed string
	Why  string
	// Carried are the components of which the source has something to say, as far as that is known: what is wanted of
	// them can't be told. Of what no source describes it can't be told either.
	Carried []estate.Key
	// Kinds are those of the components that it could describe; none: any.
	Kinds []string
	// Told tells that it is only to be known: what the source said last still holds.
	Told bool
}

// Says puts it in words.
func (g *Gap) Says() string { return "the feed " + g.Feed + " " + g.Why }

// carries tells whether the source has something to say of a component.
func (g *Gap) carries(key estate.Key) bool {
	_, found := slices.BinarySearch(g.Carried, key)
	return found
}

// AddGap notes that a source is not known as it stands.
func (c *Catalogue) AddGap(g Gap) {
	slices.Sort(g.Carried)
	g.Carried = slices.Compact(g.Carried)
	c.gaps = append(c.gaps, g)
}

// Gaps are the sources that are not known as they stand.
func (c *Catalogue) Gaps() []Gap { return c.gaps }

// Gap says why it can't be told what the newest release of a component is: a source that carries it is not known as it
// stands, or none describes it and there is one that might and is not. Empty: it can be told.
func (c *Catalogue) Gap(key estate.Key) string {
	described := len(c.releases[key]) > 0
	for i := range c.gaps {
		g := &c.gaps[i]
		if !g.Told && (g.carries(key) || !described && (len(g.Kinds) == 0 || slices.Contains(g.Kinds, key.Kind()))) {
			return g.Says()
		}
	}
	return ""
}

// Stale says why it can't be told whether a version of the component was withdrawn: a source that spoke of it is not known
// as it stands. Empty: as far as any source ever spoke of it, it can be told.
func (c *Catalogue) Stale(key estate.Key) string {
	for i := range c.gaps {
		if g := &c.gaps[i]; !g.Told && g.carries(key) {
			return g.Says()
		}
	}
	return ""
}

// Contested returns the newest release above a version that the rule would admit, were its feeds not in disagreement
// about its very file; nil where there is none.
func (c *Catalogue) Contested(key estate.Key, above, model string, rule Rule) *Release {
	rs := c.releases[key]
	for i := len(rs) - 1; i >= 0 && (above == "" || key.Scheme().Compare(rs[i].Version, above) > 0); i-- {
		if r := rs[i]; r.Ambiguous() {
			r.Disputed = ""
			if admits(rule, &r, model) {
				return &rs[i]
			}
		}
	}
	return nil
}

// ForHardware tells whether all releases of the component are for named models.
func (c *Catalogue) ForHardware(key estate.Key) bool {
	rs := c.releases[key]
	return len(rs) > 0 && !slices.ContainsFunc(rs, func(r Release) bool { return len(r.Hardware) == 0 })
}

// Unmet says which wish of the rule keeps every release of the component away: its age, or its publisher. Empty where it
// is neither: a severity that none has, another track, other hardware. These are known.
func (c *Catalogue) Unmet(key estate.Key, model string, rule Rule) string {
	of := func(rule Rule) *Release { // also those about which feeds disagree: the wish keeps them away all the same
		rs := c.releases[key]
		for i := len(rs) - 1; i >= 0; i-- {
			r := rs[i]
			if r.Disputed = ""; admits(rule, &r, model) {
				return &rs[i]
			}
		}
		return nil
	}
	if of(rule) != nil {
		return ""
	}
	ageless := rule
	ageless.Before = time.Time{}
	switch r := of(ageless); {
	case r != nil && r.Date.IsZero():
		return "the clause asks for an age, and no release with a date qualifies"
	case r != nil:
		return "no release of it is as old as the clause asks for"
	}
	anyone := ageless
	anyone.Vendor = ""
	if of(anyone) != nil {
		return "no release of it is published by " + rule.Vendor + ", which the clause follows"
	}
	return ""
}
