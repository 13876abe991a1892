package version

import (
	"cmp"
	"fmt"
	"strings"
)

// compareSemantic follows the precedence of Semantic Versioning 2.0.0, section 11. A "v" before the version is common
// and means nothing; build metadata does not count. What is no semantic version sorts before all that are, byte by
// byte.
func compareSemantic(a, b string) int {
	ca, pa, okA := parseSemantic(a)
	cb, pb, okB := parseSemantic(b)
	switch {
	case !okA && !okB:
		return strings.Compare(a, b)
	case okA != okB:
		if okA {
			return 1
		}
		return -1
	}
	for i := range ca {
		if c := compareDigits(ca[i], cb[i]); c != 0 {
			return c
		}
	}
	return comparePrerelease(pa, pb)
}

// comparePrerelease compares identifiers from left to right: numbers by value and before words; a version without any
// sorts after one with.
func comparePrerelease(a, b []string) int {
	if (len(a) == 0) != (len(b) == 0) {
		return sign(len(b) - len(a))
	}
	for i := range min(len(a), len(b)) {
		na, nb := allDigits(a[i]), allDigits(b[i])
		c := 0
		switch {
		case na && nb:
			c = compareDigits(a[i], b[i])
		case na != nb:
			c = 1
			if na {
				c = -1
			}
		default:
			c = strings.Compare(a[i], b[i])
		}
		if c != 0 {
			return c
		}
	}
	return cmp.Compare(len(a), len(b))
}

func parseSemantic(v string) (core [3]string, pre []string, ok bool) {
	v = strings.TrimPrefix(v, "v")
	v, build, hasBuild := strings.Cut(v, "+")
	v, tail, hasPre := strings.Cut(v, "-")
	parts := strings.Split(v, ".")
	if len(parts) != 3 {
		return core, nil, false
	}
	for i, p := range parts {
		if !allDigits(p) || len(p) > 1 && p[0] == '0' {
			return core, nil, false
		}
		core[i] = p
	}
	if hasPre {
		pre = strings.Split(tail, ".")
		for _, p := range pre {
			if !identifier(p) || allDigits(p) && len(p) > 1 && p[0] == '0' {
				return core, nil, false
			}
		}
	}
	if hasBuild {
		for _, p := range strings.Split(build, ".") {
			if !identifier(p) {
				return core, nil, false
			}
		}
	}
	return core, pre, true
}

func allDigits(s string) bool {
	digits, rest := leadingDigits(s)
	return digits != "" && rest == ""
}

func identifier(s string) bool {
	_, bad := outside(s, "-")
	return s != "" && !bad
}

func validSemantic(v string) error {
	if _, _, ok := parseSemantic(v); !ok {
		return fmt.Errorf("version %q is not of the form MAJOR.MINOR.PATCH, with -pre.release and "+
			"+build where there are any", v)
	}
	return nil
}
