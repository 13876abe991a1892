package act

import (
	"time"

	"yareharbour/core/estate"
)

// Remark writes on a closed host why it stays closed.
var Remark = define("remark", remark{})

type remark struct{}

func (remark) Rules() Rules {
	return Rules{Step: CloseStep, Tries: 1, Repeats: true, Aside: true,
		Remedy: "the journal has the reason"}
}

func (remark) Says(Act) string { return "write down why it stays closed" }

func (remark) Takes(Act) (middle, worst time.Duration) { return 5 * time.Second, 15 * time.Second }

func (remark) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host}} }

func (remark) Find(a Act, s Seen) Finding {
	f := findMark(a, s)
	if f.Outcome == Done && s.Host.Closed.Reason != a.Reason {
		return Finding{Outcome: NotDone, Detail: "it carries the reason from before"}
	}
	return f
}
