package baseline

import (
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// Beginning is what a new baseline is to want, where it is made by a rule and not of a host.
type Beginning struct {
	// Kinds are those of components, as "deb" or "fw", of which every one that a host has is to stand at the newest release
	// that the rule admits; Components are single ones. Neither: it wants nothing yet.
	Kinds      []string
	Components []estate.Key
	Severity   catalogue.Severity // of releases, at least
}

// Begin makes it. What a host does not have it need not get: the posture is "if present".
func Begin(name string, of Beginning) (Baseline, error) {
	b := Baseline{Name: name}
	all := slices.Clone(of.Components)
	for _, kind := range of.Kinds {
		key, err := estate.ParseKey(kind + ":*")
		if err != nil {
			return b, err
		}
		all = append(all, key)
	}
	for _, key := range all {
		if key.Layer() == estate.Settings {
			return b, fmt.Errorf("a setting has a value and no newest release: write a clause about %s yourself", strings.TrimSuffix(string(key), ":*"))
		}
		b.Clauses = append(b.Clauses, Clause{Component: key, Posture: IfPresent, Follow: true, Severity: of.Severity})
	}
	return b, nil
}
