package act

import (
	"fmt"
	"time"

	"yareharbour/core/estate"
)

// Claim tells a host the epoch of the lease, so that it takes nothing any more from whoever held the lease before. It
// goes before a look at what that one left unsettled: only then can nothing of it begin after the look.
var Claim = define("claim", claim{})

type claim struct{}

func (claim) Rules() Rules {
	return Rules{Step: PrecheckStep, Tries: 1, Repeats: true,
		Remedy: "see that the host answers, then resume the round"}
}

func (claim) Says(a Act) string { return fmt.Sprintf("tell it the epoch %d", a.Epoch) }

func (claim) Takes(Act) (middle, worst time.Duration) { return time.Second, 15 * time.Second }

func (claim) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host}} }

func (claim) Find(a Act, s Seen) Finding {
	if err := unreadIn(s.Host, estate.Host); err != nil {
		return untold(err)
	}
	if s.Host.Guard.Epoch >= a.Epoch {
		return Finding{Outcome: Done, Detail: fmt.Sprintf("it refuses what is older than epoch %d", s.Host.Guard.Epoch)}
	}
	return Finding{Outcome: NotDone, Detail: fmt.Sprintf("it knows of epoch %d", s.Host.Guard.Epoch)}
}
