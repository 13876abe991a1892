package act

import (
	"time"

	"yareharbour/core/estate"
)

// Adopt makes the mark of a round that is lost the mark of this one: the host was closed by us, and nobody else can
// open it any more.
var Adopt = define("adopt", adopt{})

type adopt struct{}

func (adopt) Rules() Rules {
	return Rules{Step: CloseStep, Needs: Needs{Alone: true}, Tries: 1, Owes: "it is closed", Pays: Open,
		Remedy: "look at the mark on the host, then resume the round"}
}

func (adopt) Says(a Act) string {
	if a.Before.Mark == nil {
		return "adopt"
	}
	return "adopt the mark of round " + a.Before.Mark.Round
}

func (adopt) Takes(Act) (middle, worst time.Duration) { return 5 * time.Second, 15 * time.Second }

func (adopt) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host}} }

func (adopt) Find(a Act, s Seen) Finding {
	f := findMark(a, s)
	if f.Outcome == NeedsPerson && a.Before.Mark != nil && s.Host.Closed.Round == a.Before.Mark.Round {
		return Finding{Outcome: NotDone, Detail: "it carries the mark of round " + s.Host.Closed.Round}
	}
	return f
}
