package catalogue

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Advisory is a publisher's word on a flaw: what has it, and since which version it is mended. The words are those of
// CSAF 2.0.
type Advisory struct {
	ID        string    `json:"id"`
	Aliases   []string  `json:"aliases,omitempty"`
	Title     string    `json:"title,omitempty"`
	Severity  Severity  `json:"severity"`
	Score     float64   `json:"score,omitempty"`  // CVSS base score, 0 to 10
	Vector    string    `json:"vector,omitempty"` // CVSS
	Published time.Time `json:"published,omitzero"`
	Link      string    `json:"link,omitempty"`
	Feed      string    `json:"feed,omitempty"`
	Affects   []Affect  `json:"affects"`
}

// Affect is what an advisory says of one component, or of everything that is built from one source package.
type Affect struct {
	Component estate.Key `json:"component"`
	// Source tells that the component's name is a source package's.
	Source bool `json:"source,omitempty"`
	// System is the distribution and the release of it that is spoken of, "debian 12"; empty: any.
	System string `json:"system,omitempty"`
	// Since is the first version that has the flaw; empty: all before Fixed.
	Since string `json:"since,omitempty"`
	// Fixed is the first version without it; empty: none is known yet.
	Fixed string `json:"fixed,omitempty"`
	// Last is the last version that has it, where that is known and no fixed one; empty: all from Since on.
	Last string `json:"last,omitempty"`
	// Withdrawn is why the version Fixed was itself taken back; then nothing is fixed by it.
	Withdrawn string `json:"withdrawn,omitempty"`
}

// Has tells whether a version lies in the span.
func (a Affect) Has(version string) bool {
	compare := a.Component.Scheme().Compare
	return !(a.Since != "" && compare(version, a.Since) < 0 || a.Fixed != "" && compare(version, a.Fixed) >= 0 ||
		a.Last != "" && compare(version, a.Last) > 0)
}

// Concerns tells whether what is said is said of a host of that distribution and release, as Reading.System has them:
// where both name the same distribution, its release counts, "9" being also 9.4. Of a derivative, or where either is not
// known, it might be, and that is told.
func (a Affect) Concerns(system string) bool {
	of, release, _ := strings.Cut(a.System, " ")
	is, has, _ := strings.Cut(system, " ")
	return of != is || release == "" || has == "" || has == release || strings.HasPrefix(has, release+".")
}

type against struct {
	*Affect
	advisory *Advisory
}

// AddAdvisories takes advisories in. One that is there already under its ID is replaced where it is newer.
func (c *Catalogue) AddAdvisories(feed Feed, advisories []Advisory) {
	if c.advisories == nil {
		c.advisories = map[string]*Advisory{}
	}
	for i := range advisories {
		a := &advisories[i]
		if old := c.advisories[a.ID]; old == nil || !a.Published.Before(old.Published) {
			a.Feed = cmp.Or(a.Feed, feed.Name)
			c.advisories[a.ID] = a
		}
	}
	feed.Advisories = len(advisories)
	c.addFeed(feed)
	c.against, c.sources = map[estate.Key][]against{}, map[estate.Key][]against{}
	for _, id := range slices.Sorted(maps.Keys(c.advisories)) {
		a := c.advisories[id]
		for i := range a.Affects {
			f := &a.Affects[i]
			by := c.against
			if f.Source {
				by = c.sources
			}
			by[f.Component] = append(by[f.Component], against{f, a})
		}
	}
	c.join()
}

// Advisory returns the advisory of that ID, or nil.
func (c *Catalogue) Advisory(id string) *Advisory { return c.advisories[id] }

// Advisories returns all of them, by ID.
func (c *Catalogue) Advisories() []*Advisory {
	var out []*Advisory
	for _, id := range slices.Sorted(maps.Keys(c.advisories)) {
		out = append(out, c.advisories[id])
	}
	return out
}

// join writes into every release which advisories it is the first to mend.
func (c *Catalogue) join() {
	if len(c.advisories) == 0 {
		return
	}
	for key, rs := range c.releases {
		for i := range rs {
			rs[i].Fixes, rs[i].Severity = nil, rs[i].stated
		}
		for _, a := range c.of(key, &rs[0]) {
			c.attach(rs, a)
		}
	}
}

// of are the advisories about a component; like is a release of it, which names the source.
func (c *Catalogue) of(key estate.Key, like *Release) []against {
	out := c.against[key]
	if like != nil && len(c.sources) > 0 {
		source := cmp.Or(like.Source, key.Name())
		out = append(out[:len(out):len(out)], c.sources[estate.Key(key.Kind()+":"+source)]...)
	}
	return out
}

// attach gives the advisory to the lowest release of each track that mends it; withdrawn ones mend nothing.
func (c *Catalogue) attach(rs []Release, a against) {
	scheme := a.Component.Scheme()
	given := map[string]bool{}
	for i := range rs {
		r := &rs[i]
		v := r.Version
		if a.Source {
			v = cmp.Or(r.SourceVersion, r.Version)
		}
		if a.Withdrawn != "" && scheme.Compare(v, a.Fixed) == 0 {
			r.Withdrawn = cmp.Or(r.Withdrawn, a.Withdrawn)
		}
		line := r.Track
		for _, h := range r.Hardware {
			line += "\x00" + estate.FoldModel(h)
		}
		if a.Fixed == "" || a.Withdrawn != "" || r.Withdrawn != "" || given[line] || scheme.Compare(v, a.Fixed) < 0 {
			continue
		}
		given[line] = true
		in := a.Fixed
		if v != r.Version {
			in = r.Version // the source's version is no version of the package
		}
		r.Fixes = append(r.Fixes, Fix{a.advisory.ID, a.advisory.Severity, in})
		r.Severity = max(r.Severity, a.advisory.Severity)
		if !slices.Contains(r.Advisories, a.advisory.ID) {
			r.Advisories = append(r.Advisories[:len(r.Advisories):len(r.Advisories)], a.advisory.ID)
		}
	}
}

// Against returns the advisories to which a version of the component lies open: known flaws that it has and that a
// later version, or none yet, mends. Those that speak of a source package are judged by its version: a release knows
// it; of a version that is none of the releases it is not known, and where the two are numbered apart nothing is
// claimed. What is said of another release of the distribution than any of the systems (Reading.System; none: all are
// meant) is passed over.
func (c *Catalogue) Against(key estate.Key, version string, systems ...string) []*Advisory {
	if len(c.advisories) == 0 {
		return nil
	}
	scheme := key.Scheme()
	rs := c.releases[key]
	var like *Release
	source := version
	for i := range rs {
		like = &rs[i]
		if scheme.Compare(like.Version, version) == 0 {
			source = cmp.Or(like.SourceVersion, version)
			break
		}
		if like.SourceVersion != "" {
			source = ""
		}
	}
	var out []*Advisory
	for _, a := range c.of(key, like) {
		v := version
		if a.Source {
			v = source
		}
		if v != "" && a.Withdrawn == "" && a.Has(v) &&
			(len(systems) == 0 || slices.ContainsFunc(systems, a.Concerns)) {
			out = append(out, a.advisory)
		}
	}
	return out
}
