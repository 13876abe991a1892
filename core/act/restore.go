package act

import (
	"errors"
	"strings"
	"time"

	"yareharbour/core/catalogue"
)

// Files are files of a host's kept configuration that are put back: an archive of them, as a payload.
type Files struct {
	File   string   `json:"file"`
	SHA256 string   `json:"sha256"`
	Size   int64    `json:"size"`  // in bytes
	Paths  []string `json:"paths"` // without a slash before them
}

// Restore puts files of a host's kept configuration back, on a host that is closed. What they replace stays on the host,
// beside the order.
var Restore = define("restore files", restoring{})

type restoring struct{}

func (restoring) Rules() Rules {
	return Rules{Step: BackupStep, Needs: Needs{Closed: true, Alone: true}, Tries: 1, Repeats: true, Carries: true,
		Remedy: "see on the host why they can't be written there, then resume the round"}
}

func (restoring) Says(a Act) string {
	n := len(a.Files.Paths)
	return "put back " + strings.Join(a.Files.Paths[:min(n, 3)], ", ") + map[bool]string{true: " and " + catalogue.Some(n-3, "more file")}[n > 3]
}

func (restoring) Takes(Act) (middle, worst time.Duration) { return 5 * time.Second, time.Minute }

func (restoring) Asks(Act) Asks { return Asks{Trace: true} }

func (restoring) Find(_ Act, s Seen) Finding {
	switch t := s.Trace; {
	case t.Unasked != "":
		return untold(errors.New(t.Unasked))
	case t.State == Runs:
		return t.underWay("")
	case t.State == Ended:
		return Finding{Outcome: Done}
	case t.State == Broke:
		return Finding{Outcome: NotDone, Detail: t.Error}
	case s.Accepted && t.State == Taken && s.Now.Sub(s.Since) < Settling:
		return t.underWay("")
	}
	return Finding{Outcome: NotDone, Detail: "nothing tells that it was"}
}
