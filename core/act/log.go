package act

import "slices"

// Log is the end of a log that something on a host keeps, or its BMC.
type Log struct {
	Of    string   `json:"of"`              // what keeps it, as "package manager"
	Lines []string `json:"lines,omitempty"` // the newest last
	Err   string   `json:"error,omitempty"` // why it could not be read
}

// What keeps logs on a host, or of it.
const (
	LogPackages = "package manager"
	LogGuests   = "libvirt"
	LogBMC      = "BMC"
	LogHost     = "host"
)

// Title is what keeps it, in a sentence.
func (l *Log) Title() string {
	if l.Of == LogGuests {
		return l.Of
	}
	return "the " + l.Of
}

// Foremost puts the log first of what carries out acts of the kind.
func (n Name) Foremost(logs []Log) []Log {
	of := map[Name]string{Flash: LogBMC, Clear: LogBMC, Install: LogPackages, Service: LogPackages}[n]
	if of == "" && (n.Step() == DrainStep || n.Step() == ReturnStep) {
		of = LogGuests
	}
	out := slices.Clone(logs)
	slices.SortStableFunc(out, func(a, b Log) int {
		switch {
		case a.Of == b.Of || a.Of != of && b.Of != of:
			return 0
		case a.Of == of:
			return -1
		}
		return 1
	})
	return out
}

// Last are the last n lines of the log, or why it could not be read.
func (l *Log) Last(n int) []string {
	if l.Err != "" && len(l.Lines) == 0 {
		return []string{"it can't be read: " + l.Err}
	}
	return l.Lines[max(0, len(l.Lines)-n):]
}

// LogLines is how many lines of a log are read.
const LogLines = 40
