package act

import (
	"fmt"
	"time"

	"yareharbour/core/estate"
)

// Open takes the round's mark from a host that was proven.
var Open = define("reopen", opening{})

type opening struct{}

func (opening) Rules() Rules {
	return Rules{Step: ReopenStep, Needs: Needs{Alone: true}, Tries: 1,
		Remedy: "see on the host who closed it, then resume the round"}
}

func (opening) Says(Act) string { return "reopen" }

func (opening) Takes(Act) (middle, worst time.Duration) { return 5 * time.Second, 15 * time.Second }

func (opening) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host}} }

func (opening) Find(a Act, s Seen) Finding {
	if err := unreadIn(s.Host, estate.Host); err != nil {
		return untold(err)
	}
	switch m := s.Host.Closed; {
	case m == nil:
		return Finding{Outcome: Done}
	case m.Round == a.Round:
		return Finding{Outcome: NotDone, Detail: "it is closed"}
	default:
		return Finding{Outcome: NeedsPerson, Detail: fmt.Sprintf("it is closed by %s (%s)", m.By, m.Reason)}
	}
}
