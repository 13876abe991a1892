package act

import (
	"fmt"
	"time"

	"yareharbour/core/estate"
)

// Hand makes the round's mark on a closed host a person's: it stays closed, and no round opens it any more.
var Hand = define("hand over", hand{})

type hand struct{}

func (hand) Rules() Rules {
	return Rules{Step: CloseStep, Tries: 1, Repeats: true, Aside: true,
		Remedy: "the journal says whose it is"}
}

func (hand) Says(a Act) string { return "make its mark " + a.By + "'s" }

func (hand) Takes(Act) (middle, worst time.Duration) { return 5 * time.Second, 15 * time.Second }

func (hand) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host}} }

func (hand) Find(a Act, s Seen) Finding {
	if err := unreadIn(s.Host, estate.Host); err != nil {
		return untold(err)
	}
	switch m := s.Host.Closed; {
	case m == nil:
		return Finding{Outcome: NotDone, Detail: "it is open"}
	case m.Round == a.Round && a.Round != "":
		return Finding{Outcome: NotDone, Detail: "it carries the round's mark"}
	case m.Round == "" && m.By == a.By:
		return Finding{Outcome: Done}
	default:
		return Finding{Outcome: NeedsPerson, Detail: fmt.Sprintf("it is closed by %s (%s)", m.By, m.Reason)}
	}
}
