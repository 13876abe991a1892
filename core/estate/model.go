package estate

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// SameModel tells whether two names of hardware mean the same model: the case of letters does not count, blanks around a
// name do not, and blanks inside are as good as one. Makers, their feeds and people spell it differently.
func SameModel(a, b string) bool {
	if a == b {
		return true
	}
	a, b = strings.TrimSpace(a), strings.TrimSpace(b)
	for {
		x, restA := letter(a)
		y, restB := letter(b)
		if x != y {
			return false
		}
		if x == end {
			return true
		}
		a, b = restA, restB
	}
}

const end rune = -1

// letter takes the first letter off a name that has no blanks at its end: blanks inside are one.
func letter(s string) (rune, string) {
	if s == "" {
		return end, ""
	}
	r, n := utf8.DecodeRuneInString(s)
	if !unicode.IsSpace(r) {
		return unicode.ToLower(r), s[n:]
	}
	return ' ', strings.TrimLeftFunc(s, unicode.IsSpace)
}

// HasModel tells whether a model is among those named.
func HasModel(names []string, model string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return SameModel(n, model) })
}

// SameModels tells whether two lists name the same models in the same order.
func SameModels(a, b []string) bool { return slices.EqualFunc(a, b, SameModel) }
