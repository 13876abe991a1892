package version

import (
	"fmt"
	"strings"
)

// compareRPM follows rpm's own comparison (rpmvercmp and rpmverCmp of librpm; its manual, rpm-version(7)): epoch, then
// version, then release, each by runs of digits and letters, where a tilde sorts before the end and a caret after it
// but before anything else. An absent epoch is zero; an absent release sorts before any.
func compareRPM(a, b string) int {
	ea, va, ra := splitRPM(a)
	eb, vb, rb := splitRPM(b)
	if c := compareSegments(ea, eb); c != 0 {
		return c
	}
	if c := compareSegments(va, vb); c != 0 {
		return c
	}
	if (ra == "") != (rb == "") {
		return sign(len(ra) - len(rb))
	}
	return compareSegments(ra, rb)
}

// splitRPM finds the epoch by its digits before a colon, and the release after the last hyphen.
func splitRPM(v string) (epoch, ver, release string) {
	epoch = "0"
	digits, rest := leadingDigits(v)
	if tail, ok := strings.CutPrefix(rest, ":"); ok {
		v = tail
		if digits != "" {
			epoch = digits
		}
	}
	if i := strings.LastIndexByte(v, '-'); i >= 0 {
		v, release = v[:i], v[i+1:]
	}
	return epoch, v, release
}

func compareSegments(a, b string) int {
	for a != "" || b != "" {
		a, b = skipSeparators(a), skipSeparators(b)
		if c, marked := compareMarks(a, b); c != 0 {
			return c
		} else if marked {
			a, b = a[1:], b[1:]
			continue
		}
		if a == "" || b == "" {
			break
		}
		var ra, rb string
		ra, a = segment(a)
		rb, b = segment(b)
		if digit(ra[0]) != digit(rb[0]) { // digits are newer than letters
			if digit(ra[0]) {
				return 1
			}
			return -1
		}
		c := 0
		if digit(ra[0]) {
			c = compareDigits(ra, rb)
		} else {
			c = strings.Compare(ra, rb)
		}
		if c != 0 {
			return c
		}
	}
	return sign(len(a) - len(b))
}

// compareMarks compares where a tilde or a caret may stand; marked tells that both have the same one there.
func compareMarks(a, b string) (c int, marked bool) {
	for _, mark := range []byte{'~', '^'} {
		inA, inB := a != "" && a[0] == mark, b != "" && b[0] == mark
		switch {
		case inA && inB:
			return 0, true
		case !inA && !inB:
			continue
		case mark == '~' && inA, mark == '^' && inB && a == "", mark == '^' && inA && b != "":
			return -1, false
		}
		return 1, false
	}
	return 0, false
}

func skipSeparators(s string) string {
	i := 0
	for i < len(s) && !digit(s[i]) && !asciiLetter(s[i]) && s[i] != '~' && s[i] != '^' {
		i++
	}
	return s[i:]
}

// segment is the run of ASCII digits or letters that s begins with, and the rest.
func segment(s string) (run, rest string) {
	i := 0
	for i < len(s) && (digit(s[i]) && digit(s[0]) || asciiLetter(s[i]) && asciiLetter(s[0])) {
		i++
	}
	return s[:i], s[i:]
}

func asciiLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

func validRPM(v string) error {
	_, ver, release := splitRPM(v)
	if ver == "" {
		return fmt.Errorf("version %q is empty before its release", v)
	}
	if c, ok := outside(ver+release, "._+~^"); ok {
		return fmt.Errorf("version %q: %q may not stand in a version or release", v, c)
	}
	return nil
}
