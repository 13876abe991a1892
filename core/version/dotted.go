package version

import (
	"fmt"
	"slices"
	"strings"
)

// compareDotted orders the versions that makers of devices print: "1.2.10", "2.04a", "B3", "v7.4.0-rc2", "2026-03-01".
// No standard says how, so the rule is our own, with the place of pre-releases taken from Semantic Versioning 2.0.0
// (sections 9 and 11). docs/verdicts.md has it with a table of habits:
//
//   - A version is a list of runs, each all digits or all letters; whatever stands between runs only separates them. A
//     "v" or "ver" before the first digit says nothing.
//   - Digits compare by value, letters without regard to case, and at one place nothing < letters < digits, so that 1.2
//     < 1.2a < 1.2.1.
//   - Zeros at the end say nothing: 1.2 and 1.2.0 are the same version.
//   - A word for what is not finished (alpha, beta, rc, pre, preview, dev, snapshot, nightly, test) begins a
//     pre-release: it sorts before the version in front of that word, whatever follows it.
//   - A date sorts rightly where the year comes first. One with the year last is ordered as any other list of numbers.
func compareDotted(a, b string) int {
	ra, pa, isPreA := splitPre(a)
	rb, pb, isPreB := splitPre(b)
	if c := compareRunLists(trimZeroRuns(ra), trimZeroRuns(rb)); c != 0 {
		return c
	}
	if isPreA != isPreB {
		if isPreA {
			return -1
		}
		return 1
	}
	return compareRunLists(trimZeroRuns(pa), trimZeroRuns(pb))
}

var unfinished = []string{"alpha", "beta", "rc", "pre", "preview", "dev", "snapshot", "nightly", "test"}

// splitPre cuts a version where its pre-release begins, and takes off what stands before its first digit and only says
// that a version follows.
func splitPre(v string) (release, pre string, is bool) {
	if run, rest := nextRun(v); rest != "" && (strings.EqualFold(run, "v") || strings.EqualFold(run, "ver")) {
		if next, _ := nextRun(rest); next != "" && digit(next[0]) {
			v = rest
		}
	}
	for rest := v; rest != ""; {
		run, after := nextRun(rest)
		if run != "" && letter(run[0]) && slices.ContainsFunc(unfinished, func(w string) bool {
			return strings.EqualFold(w, run)
		}) && len(v) > len(rest) {
			return v[:len(v)-len(rest)], rest, true
		}
		rest = after
	}
	return v, "", false
}

func compareRunLists(a, b string) int {
	for {
		var ra, rb string
		ra, a = nextRun(a)
		rb, b = nextRun(b)
		if ra == "" && rb == "" {
			return 0
		}
		if c := sign(runClass(ra) - runClass(rb)); c != 0 {
			return c
		}
		if c := compareRun(ra, rb); c != 0 {
			return c
		}
	}
}

func runClass(run string) int {
	switch {
	case run == "":
		return 0
	case digit(run[0]):
		return 2
	}
	return 1
}

func compareRun(a, b string) int {
	if digit(a[0]) {
		return compareDigits(a, b)
	}
	return strings.Compare(strings.ToLower(a), strings.ToLower(b))
}

// nextRun skips separators and returns the run of digits or of letters that follows, and the rest.
func nextRun(s string) (run, rest string) {
	i := 0
	for i < len(s) && !digit(s[i]) && !letter(s[i]) {
		i++
	}
	start := i
	for i < len(s) && (digit(s[i]) && digit(s[start]) || letter(s[i]) && letter(s[start])) {
		i++
	}
	return s[start:i], s[i:]
}

func letter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80 }

// trimZeroRuns cuts the runs at the end of v that are zero, and the separators around them.
func trimZeroRuns(v string) string {
	for {
		end := len(v)
		for end > 0 && !digit(v[end-1]) && !letter(v[end-1]) {
			end--
		}
		start := end
		for start > 0 && digit(v[start-1]) {
			start--
		}
		if start == end || strings.Trim(v[start:end], "0") != "" {
			return v[:end]
		}
		v = v[:start]
	}
}

func validDotted(v string) error {
	if run, _ := nextRun(v); run == "" {
		return fmt.Errorf("version %q holds neither a digit nor a letter", v)
	}
	if strings.ContainsAny(v, "\n\r\t") {
		return fmt.Errorf("version %q holds a line break or a tab", v)
	}
	return nil
}
