package cli

import (
	"fmt"
	"os"
	"time"

	"yareharbour/plain"
)

// How often progress is told, once it has taken patience: over and over on one line of a terminal, and now and then in
// a log.
const (
	patience   = time.Second
	onTerminal = 100 * time.Millisecond
	inLog      = 10 * time.Second
)

// progressLine tells progress on stderr where the work takes longer than a moment.
func (a *app) progressLine() (line func(string), done func()) {
	f, terminal := a.err.(*os.File)
	if terminal {
		st, err := f.Stat()
		terminal = err == nil && st.Mode()&os.ModeCharDevice != 0
	}
	begun, last := time.Now(), time.Time{}
	line = func(s string) {
		switch since := time.Since(last); {
		case time.Since(begun) < patience:
		case terminal && since > onTerminal:
			last = time.Now()
			plain.Fprintf(f, "\r\x1b[K%.100s", s)
		case !terminal && since > inLog:
			last = time.Now()
			plain.Fprintln(a.err, s)
		}
	}
	return line, func() {
		if terminal && !last.IsZero() {
			fmt.Fprint(f, "\r\x1b[K")
		}
	}
}
