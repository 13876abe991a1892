package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// Scope is a part of what is out of line, in a word: a component (fw:lorne-l25), components by a pattern (fw:corran-*), a
// layer (layer=firmware), a class of devices (class=network), or what a baseline asks for (baseline=hardware-2026q4).
type Scope string

// ParseScope reads one. The error says what there is.
func ParseScope(word string) (Scope, error) {
	field, value, named := strings.Cut(word, "=")
	switch {
	case named && field == "layer":
		if !slices.Contains(estate.Layers, estate.Layer(value)) {
			return "", fmt.Errorf("there is no layer %q; there are %s", value, estate.Listed(estate.Layers))
		}
	case named && field == "class":
		if !slices.Contains(estate.Classes, value) {
			return "", fmt.Errorf("there is no class of devices %q; there are %s", value, strings.Join(estate.Classes, ", "))
		}
	case named && field == "baseline":
		if value == "" {
			return "", fmt.Errorf("baseline= wants a name")
		}
	case named:
		return "", fmt.Errorf("%q is no part of what is out of line: say a component, a pattern of components, layer=, class= or baseline=", word)
	case strings.ContainsAny(word, "*?["):
		if _, err := path.Match(word, ""); err != nil {
			return "", fmt.Errorf("%q is no pattern: %w", word, err)
		}
	default:
		if _, err := estate.ParseKey(word); err != nil {
			return "", err
		}
	}
	return Scope(word), nil
}

// Holds tells whether a verdict is in it.
func (s Scope) Holds(d *drift.Verdict) bool {
	field, value, named := strings.Cut(string(s), "=")
	switch {
	case named && field == "layer":
		return string(d.Layer()) == value
	case named && field == "class":
		return d.Class == value
	case named:
		return d.Clause != nil && d.Clause.Baseline == value
	}
	ok, _ := path.Match(string(s), string(d.Component))
	return ok || string(s) == string(d.Component)
}
