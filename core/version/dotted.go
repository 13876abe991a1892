package version

import (
	"fmt"
	"strings"
)

// compareDotted orders the versions that makers of devices print: "1.2.10", "2.04a", "B3", "7.4.0-rc2", "2024-03-01".
// A version is a list of runs, each all digits or all letters; whatever stands between runs only separates them. Digits
// compare by value, letters without regard to case, and at one place
//
//	nothing < letters < digits
//
// so that 1.2 < 1.2a < 1.2.1. Zeros at the end say nothing: 1.2 and 1.2.0 are the same version.
func compareDotted(a, b string) int {
	a, b = trimZeroRuns(a), trimZeroRuns(b)
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
