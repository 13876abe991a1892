package act

import "time"

// Backup brings the host's configuration into the estate's own store before the first change.
var Backup = define("backup", backup{})

type backup struct{}

func (backup) Rules() Rules {
	return Rules{Step: BackupStep, Tries: 2, Repeats: true, Gives: true, Needs: Needs{Alone: true},
		Remedy: "see whether the host answers and the state directory has room, then resume the round"}
}

func (backup) Says(Act) string { return "keep its configuration" }

func (backup) Takes(Act) (middle, worst time.Duration) { return 5 * time.Second, 30 * time.Second }

// Asks nothing: what was brought is here, and its hash was taken when it came.
func (backup) Asks(Act) Asks { return Asks{} }

func (backup) Find(_ Act, s Seen) Finding {
	if s.Accepted && s.SHA256 != "" {
		return Finding{Outcome: Done, Detail: "SHA-256 " + short(s.SHA256)}
	}
	return Finding{Outcome: NotDone, Detail: "it did not arrive whole"}
}
