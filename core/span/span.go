// Package span reads and writes how long something lasts, as people say it: 90s, 20m, 6h, 3d, 2w, or several of these in
// a row. A day has 24 hours and a week seven days.
package span

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Pattern is what a span looks like, as a regular expression.
const Pattern = `^([0-9]+(\.[0-9]+)?(w|d|h|m|s))+$`

// Parse reads a span. What Go's own durations can say it reads too. A negative one is refused.
func Parse(text string) (time.Duration, error) {
	var sum time.Duration
	rest := text
	for rest != "" {
		at := strings.IndexAny(rest, "dw")
		if at < 0 {
			break
		}
		n, err := strconv.ParseFloat(rest[:at], 64)
		if err != nil || !(n >= 0 && n <= 1e6) {
			return 0, wrong(text)
		}
		unit := 24 * time.Hour
		if rest[at] == 'w' {
			unit *= 7
		}
		sum += time.Duration(n * float64(unit))
		rest = rest[at+1:]
	}
	if rest != "" || text == "" {
		d, err := time.ParseDuration(rest)
		if err != nil || d < 0 || strings.HasPrefix(rest, "-") {
			return 0, wrong(text)
		}
		sum += d
	}
	return sum, nil
}

func wrong(text string) error {
	return fmt.Errorf("%q is no time: expected one as 30m, 6h, 3d or 2w", text)
}

// String writes a span without the parts that are zero.
func String(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}
