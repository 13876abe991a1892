package catalogue

// Batch is what one file of a feed or bundle adds to a catalogue: of whatever format it was, it comes down to these.
type Batch struct {
	Feed       Feed
	Releases   []Release
	Tracks     []Track
	Advisories []Advisory
	Pairings   []Pairing
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
