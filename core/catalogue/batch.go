package catalogue

import "time"

// Batch is what one file of a feed or bundle adds to a catalogue: of whatever format it was, it comes down to these.
type Batch struct {
	Feed       Feed
	Releases   []Release
	Tracks     []Track
	Advisories []Advisory
	Pairings   []Pairing
	// Aside says what could not be read, an entry each, with why; the rest came in.
	Aside []string
}

// Empty tells whether nothing is in it.
func (b Batch) Empty() bool {
	return len(b.Releases)+len(b.Tracks)+len(b.Advisories)+len(b.Pairings) == 0
}

// AddBatch takes in all that is in the batch.
func (c *Catalogue) AddBatch(b Batch) {
	if len(b.Releases)+len(b.Tracks) > 0 || b.Empty() {
		c.Add(b.Feed, b.Releases, b.Tracks...)
	}
	if len(b.Advisories) > 0 {
		c.AddAdvisories(b.Feed, b.Advisories)
	}
	c.AddPairings(b.Pairings)
}

// Until returns the catalogue as it was known at that time: without releases and advisories that are dated later. What
// has no date was always known.
func (c *Catalogue) Until(t time.Time) *Catalogue {
	out := &Catalogue{}
	var then []Release
	var tracks []Track
	for key, rs := range c.releases {
		tracks = append(tracks, c.tracks[key]...)
		for _, r := range rs {
			if !r.Date.After(t) {
				r.Severity, r.Withdrawn = r.stated, r.own
				then = append(then, r)
			}
		}
	}
	out.Add(Feed{}, then, tracks...)
	var known []Advisory
	for _, a := range c.advisories {
		if !a.Published.After(t) {
			known = append(known, *a)
		}
	}
	out.AddAdvisories(Feed{}, known)
	out.feeds, out.pairs, out.gaps = c.feeds, c.pairs, c.gaps
	return out
}
