package act

import (
	"fmt"
	"time"

	"yareharbour/core/estate"
)

// Close marks a host as out of service: it takes no guests from then on.
var Close = define("close", closing{})

type closing struct{}

func (closing) Rules() Rules {
	return Rules{Step: CloseStep, Needs: Needs{Empty: true, Alone: true}, Tries: 1, Owes: "it is closed", Pays: Open,
		Remedy: "see who closed the host, then resume the round"}
}

func (closing) Says(Act) string { return "close" }

func (closing) Takes(Act) (middle, worst time.Duration) { return 5 * time.Second, 15 * time.Second }

func (closing) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host}} }

func (closing) Find(a Act, s Seen) Finding { return findMark(a, s) }

// findMark looks for the round's mark on the host.
func findMark(a Act, s Seen) Finding {
	if err := unreadIn(s.Host, estate.Host); err != nil {
		return untold(err)
	}
	switch m := s.Host.Closed; {
	case m == nil:
		return Finding{Outcome: NotDone, Detail: "it is open"}
	case m.Round != a.Round || a.Round == "":
		return Finding{Outcome: NeedsPerson, Detail: fmt.Sprintf("it is closed, but by %s (%s)", m.By, m.Reason)}
	}
	return Finding{Outcome: Done}
}
