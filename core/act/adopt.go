package act

import (
	"time"

	"yareharbour/core/estate"
)

// Adopt makes the mark that somebody else put on a host that of this round: of a round that is lost, or of a person who
// lets it go.
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
	return "adopt the closing of " + a.Before.Mark.Identity()
}

func (adopt) Takes(Act) (middle, worst time.Duration) { return 5 * time.Second, 15 * time.Second }

func (adopt) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host}} }

func (adopt) Find(a Act, s Seen) Finding {
	f := findMark(a, s)
	if f.Outcome == NeedsPerson && a.Before.Mark != nil && s.Host.Closed.Identity() == a.Before.Mark.Identity() {
		return Finding{Outcome: NotDone, Detail: "it carries the mark of " + s.Host.Closed.Identity()}
	}
	return f
}
