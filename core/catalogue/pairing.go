package catalogue

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// Pairing is one line of a compatibility list: versions of several things that are known to work together. A
// publisher's list is about the hardware that its lines name, and says nothing of any other.
type Pairing struct {
	List string `json:"list"` // the list it is from
	// the device's model; empty: the list is about programs that must go together, as storage software and hypervisor
	Hardware string   `json:"hardware"`
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

// Mismatch is a device, or a pair of programs, whose combination is on no line of a list that speaks of it.
type Mismatch struct {
	Hardware string // the device's model; empty where the list is about programs
	List     string
	Blocks   bool
	Unknown  bool   // what the list speaks of was not read: it may be kept
	Why      string // what stands and what would go with it, or what of it is not known
}

// Holding says at which versions a host has a component, or would have it. Known is false where that could not be read.
type Holding struct {
	Versions []string
	Known    bool
}

// HeldBy tells at which versions a host has a component by its reading. Of a section that was not read as a whole
// nothing is known.
func HeldBy(r *estate.Reading) func(estate.Key) Holding {
	return func(k estate.Key) Holding {
		h := Holding{Known: r.Section(k.Section()).Whole()}
		for _, c := range r.Of(k) {
			h.Known = h.Known && c.Known()
			h.Versions = append(h.Versions, c.Version)
		}
		return h
	}
}

// Mismatches holds what a host has, or would have, against the compatibility lists. at tells the versions of a
// component there; platform is the platform's name for itself, and models the hardware that is in the host. Every list
// that speaks of a model must have a line that holds, each by itself; a list without hardware speaks of hosts that have
// the first component of its lines. A component that is known not to be there makes no line fail; one that could not be
// read makes it uncertain, and that is a mismatch. Hardware of which no list speaks is not judged.
func (c *Catalogue) Mismatches(platform string, models []string, at func(estate.Key) Holding) []Mismatch {
	var out []Mismatch
	for _, subject := range append([]string{""}, models...) {
		for _, name := range c.lists(subject) {
			var lines []Pairing
			for _, p := range c.pairs {
				if estate.SameModel(p.Hardware, subject) && p.List == name {
					lines = append(lines, p)
				}
			}
			if first := at(lines[0].With[0].Component); subject == "" && first.Known && len(first.Versions) == 0 {
				continue
			}
			unread := unreadOf(lines, at)
			if unread == "" && slices.ContainsFunc(lines, func(p Pairing) bool { return p.fits(platform, at) }) {
				continue
			}
			m := Mismatch{Hardware: subject, List: name, Blocks: slices.ContainsFunc(lines, func(p Pairing) bool {
				return p.Blocks
			}), Unknown: unread != "", Why: mismatch(lines, platform, at)}
			if unread != "" {
				m.Why = "whether it is on the list is not known: the version of " + unread + " was not read"
			}
			out = append(out, m)
		}
	}
	return out
}

// lists are the names of the lists that speak of a model, or, for the empty one, of programs alone.
func (c *Catalogue) lists(model string) (out []string) {
	for _, p := range c.pairs {
		if estate.SameModel(p.Hardware, model) && !slices.Contains(out, p.List) {
			out = append(out, p.List)
		}
	}
	return out
}

func unreadOf(lines []Pairing, at func(estate.Key) Holding) string {
	for _, p := range lines {
		for _, w := range p.With {
			if !at(w.Component).Known {
				return string(w.Component)
			}
		}
	}
	return ""
}

func (p Pairing) fits(platform string, at func(estate.Key) Holding) bool {
	if !strings.HasPrefix(platform, p.Platform) {
		return false
	}
	for _, w := range p.With {
		for _, v := range at(w.Component).Versions {
			if !w.holds(v) {
				return false
			}
		}
	}
	return true
}

// mismatch says what stands, and the lines of the list for this platform, the last first: that is mostly where one
// wants to go.
func mismatch(lines []Pairing, platform string, at func(estate.Key) Holding) string {
	var has []string
	for _, w := range lines[0].With {
		for _, v := range slices.Compact(slices.Sorted(slices.Values(at(w.Component).Versions))) {
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
	return fmt.Sprintf("%s is on no line of it; what goes together is %s", strings.Join(has, " with "),
		strings.Join(good, ", or "))
}
