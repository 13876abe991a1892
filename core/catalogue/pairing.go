package catalogue

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// Pairing is one line of a compatibility list: versions of several things that are known to work together. A publisher's list is about the
// hardware that its lines name, and says nothing of any other.
type Pairing struct {
	List     string   `json:"list"`     // the list it is from
	Hardware string   `json:"hardware"` // the device's model
	Platform string   `json:"platform"` // prefix of the platform's own name for itself; empty: any
	With     []Within `json:"with"`
	// Blocks tells that its publisher supports nothing outside the list; otherwise leaving it is a caution.
	Blocks bool `json:"blocks,omitempty"`
}

// Within is a range of versions of a component: from From to To, both included. An empty bound is none.
type Within struct {
	Component estate.Key `json:"component"`
	From      string     `json:"from,omitempty"`
	To        string     `json:"to,omitempty"`
}

// String says the range in words.
func (w Within) String() string {
	switch {
	case w.From == w.To:
		return string(w.Component) + " " + w.From
	case w.To == "":
		return fmt.Sprintf("%s %s or later", w.Component, w.From)
	case w.From == "":
		return fmt.Sprintf("%s up to %s", w.Component, w.To)
	}
	return fmt.Sprintf("%s %s to %s", w.Component, w.From, w.To)
}

func (w Within) holds(v string) bool {
	s := w.Component.Scheme()
	return (w.From == "" || s.Compare(v, w.From) >= 0) && (w.To == "" || s.Compare(v, w.To) <= 0)
}

// AddPairings takes lines of compatibility lists in.
func (c *Catalogue) AddPairings(ps []Pairing) { c.pairs = append(c.pairs, ps...) }

// Pairings returns all lines of compatibility lists. The slice belongs to the catalogue.
func (c *Catalogue) Pairings() []Pairing { return c.pairs }

// Mismatch is a device whose combination is on no line of the lists that speak of it.
type Mismatch struct {
	Hardware string
	List     string
	Blocks   bool
	Why      string // what stands and what would go with it
}

// Mismatches holds what a host has, or would have, against the compatibility lists. at tells the version of a component there, and "" where it is
// not there; platform is the platform's name for itself, and models the hardware that is in the host. Hardware of which no list speaks is not
// judged, and neither is a line about a component that is not there.
func (c *Catalogue) Mismatches(platform string, models []string, at func(estate.Key) []string) []Mismatch {
	var out []Mismatch
	for _, model := range models {
		var lines []Pairing
		for _, p := range c.pairs {
			if p.Hardware == model {
				lines = append(lines, p)
			}
		}
		if len(lines) == 0 || slices.ContainsFunc(lines, func(p Pairing) bool { return p.fits(platform, at) }) {
			continue
		}
		out = append(out, Mismatch{model, lines[0].List, slices.ContainsFunc(lines, func(p Pairing) bool { return p.Blocks }), mismatch(lines, platform, at)})
	}
	return out
}

func (p Pairing) fits(platform string, at func(estate.Key) []string) bool {
	if !strings.HasPrefix(platform, p.Platform) {
		return false
	}
	for _, w := range p.With {
		for _, v := range at(w.Component) {
			if !w.holds(v) {
				return false
			}
		}
	}
	return true
}

// mismatch says what stands, and the lines of the list for this platform, the last first: that is mostly where one wants to go.
func mismatch(lines []Pairing, platform string, at func(estate.Key) []string) string {
	var has []string
	for _, w := range lines[0].With {
		for _, v := range slices.Compact(slices.Sorted(slices.Values(at(w.Component)))) {
			has = append(has, string(w.Component)+" "+v)
		}
	}
	var good []string
	for i := len(lines) - 1; i >= 0 && len(good) < 2; i-- {
		if !strings.HasPrefix(platform, lines[i].Platform) {
			continue
		}
		var parts []string
		for _, w := range lines[i].With {
			parts = append(parts, w.String())
		}
		good = append(good, strings.Join(parts, " with "))
	}
	if len(good) == 0 {
		return fmt.Sprintf("nothing on the list is for %s", platform)
	}
	return fmt.Sprintf("%s is on no line of it; what goes together is %s", strings.Join(has, " with "), strings.Join(good, ", or "))
}
