// Package version orders version strings. It knows how two versions of one component compare and nothing else: which
// versions exist is the catalogue's business, which one is wanted the baseline's.
//
// A scheme belongs to a kind of component: Debian's ordering to packages, the dotted ordering to drivers and firmware.
// Every scheme is a total preorder over all strings, so that a sort never depends on the order of its input; strings
// that the scheme does not admit are still ordered, and Valid says what is wrong with them.
package version

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Scheme names one ordering of version strings. The zero value is no scheme: it compares byte by byte.
type Scheme uint8

const (
	// Debian is the ordering of Debian Policy, section 5.6.12.
	Debian Scheme = iota + 1
	// Dotted is the ordering of firmware and driver versions: numbers and words, separated by anything else.
	Dotted
	// RPM is rpm's own ordering.
	RPM
	// Semantic is the precedence of Semantic Versioning 2.0.0.
	Semantic
)

var schemeNames = map[Scheme]string{Debian: "debian", Dotted: "dotted", RPM: "rpm", Semantic: "semantic"}

// Schemes lists them all.
var Schemes = []Scheme{Debian, RPM, Semantic, Dotted}

// String returns the scheme's name, as ParseScheme reads it.
func (s Scheme) String() string {
	if n, ok := schemeNames[s]; ok {
		return n
	}
	return "none"
}

// ParseScheme is the inverse of String.
func ParseScheme(name string) (Scheme, error) {
	for s, n := range schemeNames {
		if n == name {
			return s, nil
		}
	}
	return 0, fmt.Errorf("no version scheme %q: there are %s", name, strings.Join(slices.Sorted(maps.Values(schemeNames)), ", "))
}

// Compare returns -1, 0 or +1 as a sorts before, with or after b.
func (s Scheme) Compare(a, b string) int {
	if a == b {
		return 0
	}
	switch s {
	case Debian:
		return compareDebian(a, b)
	case Dotted:
		return compareDotted(a, b)
	case RPM:
		return compareRPM(a, b)
	case Semantic:
		return compareSemantic(a, b)
	}
	if a < b {
		return -1
	}
	return 1
}

// Valid returns nil if the scheme admits v, and otherwise says what in v it does not admit.
func (s Scheme) Valid(v string) error {
	switch s {
	case Debian:
		return validDebian(v)
	case Dotted:
		return validDotted(v)
	case RPM:
		return validRPM(v)
	case Semantic:
		return validSemantic(v)
	}
	return nil
}
