package version

import (
	"fmt"
	"strconv"
	"strings"
)

// compareDebian follows Debian Policy 5.6.12: epoch, then upstream version, then revision, where the epoch is the part
// before the first colon and the revision the part after the last hyphen. An absent epoch or revision is zero.
func compareDebian(a, b string) int {
	ea, ua, ra := splitDebian(a)
	eb, ub, rb := splitDebian(b)
	if c := compareRuns(ea, eb); c != 0 {
		return c
	}
	if c := compareRuns(ua, ub); c != 0 {
		return c
	}
	return compareRuns(ra, rb)
}

func splitDebian(v string) (epoch, upstream, revision string) {
	if i := strings.IndexByte(v, ':'); i >= 0 {
		epoch, v = v[:i], v[i+1:]
	}
	if i := strings.LastIndexByte(v, '-'); i >= 0 {
		v, revision = v[:i], v[i+1:]
	}
	return epoch, v, revision
}

// compareRuns compares alternating runs of non-digits and digits. Non-digits compare character by character by weight,
// digits by their value; values may be longer than any machine integer.
func compareRuns(a, b string) int {
	for a != "" || b != "" {
		for (a != "" && !digit(a[0])) || (b != "" && !digit(b[0])) {
			wa, wb := weight(a), weight(b)
			if wa != wb {
				return sign(wa - wb)
			}
			a, b = a[1:], b[1:] // equal weights: neither can be at its end
		}
		var da, db string
		da, a = leadingDigits(a)
		db, b = leadingDigits(b)
		if c := compareDigits(da, db); c != 0 {
			return c
		}
	}
	return 0
}

// weight is the sorting weight of the first character where a non-digit may stand: tilde before the end of the string
// (or a digit), that before letters, letters before everything else.
func weight(s string) int {
	if s == "" || digit(s[0]) {
		return 0
	}
	c := s[0]
	switch {
	case c == '~':
		return -1
	case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z':
		return int(c)
	}
	return int(c) + 256
}

func digit(c byte) bool { return c >= '0' && c <= '9' }

func leadingDigits(s string) (digits, rest string) {
	i := 0
	for i < len(s) && digit(s[i]) {
		i++
	}
	return s[:i], s[i:]
}

// compareDigits compares two runs of digits by value; an empty run is zero.
func compareDigits(a, b string) int {
	a, b = strings.TrimLeft(a, "0"), strings.TrimLeft(b, "0")
	if len(a) != len(b) {
		return sign(len(a) - len(b))
	}
	return strings.Compare(a, b)
}

func sign(n int) int {
	switch {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}

// validDebian holds v to the syntax of Debian Policy 5.6.12, with the limits that dpkg adds (an epoch fits in 31 bits).
func validDebian(v string) error {
	epoch, upstream, revision := splitDebian(v)
	if strings.Contains(v, ":") {
		if _, err := strconv.ParseUint(epoch, 10, 31); err != nil {
			return fmt.Errorf("version %q: the epoch %q is not a number below 2147483648", v, epoch)
		}
	}
	if upstream == "" {
		return fmt.Errorf("version %q has no upstream part", v)
	}
	if !digit(upstream[0]) {
		return fmt.Errorf("version %q does not start with a digit", v)
	}
	if strings.HasSuffix(v, "-") {
		return fmt.Errorf("version %q ends in a hyphen with no revision after it", v)
	}
	if c, ok := outside(upstream, ".+-~:"); ok {
		return fmt.Errorf("version %q: %q may not stand in a version", v, c)
	}
	if c, ok := outside(revision, ".+~"); ok {
		return fmt.Errorf("version %q: %q may not stand in a revision", v, c)
	}
	return nil
}

// outside returns the first character of s that is neither a letter or digit nor one of also.
func outside(s, also string) (rune, bool) {
	for _, c := range s {
		alnum := c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		if !alnum && !strings.ContainsRune(also, c) {
			return c, true
		}
	}
	return 0, false
}
