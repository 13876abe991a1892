package estate

import (
	"slices"
	"strings"
)

// SameModel tells whether two names of hardware mean the same model, as FoldModel spells them.
func SameModel(a, b string) bool { return a == b || FoldModel(a) == FoldModel(b) }

// FoldModel spells a name of hardware one way: the case of letters does not count, blanks around a name do not, and blanks
// inside are as good as one. Makers, their feeds and people spell it differently.
func FoldModel(s string) string { return strings.ToLower(strings.Join(strings.Fields(s), " ")) }

// HasModel tells whether a model is among those named.
func HasModel(names []string, model string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return SameModel(n, model) })
}

// SameModels tells whether two lists name the same models in the same order.
func SameModels(a, b []string) bool { return slices.EqualFunc(a, b, SameModel) }
