package act

import (
	"cmp"
	"errors"
	"fmt"
	"time"

	"yareharbour/core/estate"
)

// Restart restarts the host in an orderly way. Its boot id is the proof.
var Restart = define("restart", restart{})

type restart struct{}

func (restart) Rules() Rules {
	return Rules{Step: RestartStep, Needs: Needs{Empty: true, Closed: true, Alone: true}, Tries: 1, Quiet: true,
		Remedy:  "see the host's own log of that moment, then resume the round",
		Unclear: "look at the host's console through its BMC, then resume the round"}
}

func (restart) Says(a Act) string { return fmt.Sprintf("restart (pass %d)", a.Pass) }

func (restart) Takes(Act) (middle, worst time.Duration) { return 6 * time.Minute, 12 * time.Minute }

func (restart) Asks(Act) Asks {
	return Asks{Host: []estate.SectionName{estate.Host, estate.GuestList}, Trace: true}
}

// Find holds the boot id against the one before. A host that answers has come back only when its guests can be read
// too: its hypervisor comes up after its SSH. Between the order and the moment in which it goes down a host answers as
// before: so it is asked whether it has the order, or it would be told twice.
func (restart) Find(a Act, s Seen) Finding {
	t := s.Trace
	// what a host ends as it goes down is lost
	told := s.Accepted || t.State == Taken || t.State == Ended || t.State == Lost
	switch {
	case t.Unasked != "":
		return untold(errors.New(t.Unasked))
	case t.State == Runs:
		return t.underWay("it was told to, and has not gone down yet")
	}
	if err := unreadIn(s.Host, estate.Host); err != nil {
		return untold(err)
	}
	switch id := s.Host.BootID; {
	case id == "":
		return untold(errors.New("it answers, and its boot id can't be read"))
	case id != a.Before.BootID && a.Before.BootID == "":
		return Finding{Outcome: NeedsPerson,
			Detail: "its boot id before was not known, so nothing tells whether it restarted"}
	case id == a.Before.BootID && t.State == Broke:
		return Finding{Outcome: NotDone, Detail: cmp.Or(t.Error, "it failed")}
	case id == a.Before.BootID && told:
		return Finding{Outcome: UnderWay, Detail: "it was told to, and has not gone down yet"}
	case id == a.Before.BootID:
		return Finding{Outcome: NotDone, Detail: "boot " + id + " as before"}
	}
	if err := unreadIn(s.Host, estate.GuestList); err != nil {
		return untold(fmt.Errorf("it is back, and its guests can't be read yet: %w", err))
	}
	return Finding{Outcome: Done, Detail: "boot " + s.Host.BootID}
}
