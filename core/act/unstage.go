package act

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/estate"
)

// Unstage takes away what waits on a host, because no plan is to put it in any more.
var Unstage = define("take away", unstage{})

type unstage struct{}

func (unstage) Rules() Rules {
	return Rules{Step: StageStep, Needs: Needs{Alone: true}, Tries: 2, Repeats: true,
		Remedy: "see on the host why it can't be removed, then resume the round"}
}

func (unstage) Says(a Act) string {
	if len(a.Staged) == 1 {
		return "take away a payload that waits there, SHA-256 " + short(a.Staged[0].SHA256)
	}
	return fmt.Sprintf("take away %d payloads that wait there", len(a.Staged))
}

func (unstage) Takes(Act) (middle, worst time.Duration) { return 2 * time.Second, 15 * time.Second }

func (unstage) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host}} }

func (unstage) Find(a Act, s Seen) Finding {
	if err := unreadIn(s.Host, estate.Host); err != nil {
		return untold(err)
	}
	left := slices.DeleteFunc(slices.Clone(a.Staged), func(x estate.Staged) bool { return !s.Host.Holds(x.SHA256) })
	if len(left) > 0 {
		return Finding{Outcome: NotDone, Detail: fmt.Sprintf("it still has %d of them", len(left))}
	}
	return Finding{Outcome: Done}
}
