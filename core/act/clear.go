package act

import (
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Clear takes tasks out of the queue of a host's BMC that nobody wants any more: what waits there runs at the next
// restart. It may be begun while a flash is open: that one may hang there.
var Clear = define("clear tasks", clear{})

type clear struct{}

func (clear) Rules() Rules {
	return Rules{Step: CloseStep, Tries: 2, Repeats: true,
		Remedy: "clear them at the BMC itself, or restart the BMC, then resume the round"}
}

func (clear) Says(a Act) string { return "clear from its BMC's queue: " + strings.Join(a.Tasks, ", ") }

func (clear) Takes(Act) (middle, worst time.Duration) { return 5 * time.Second, 30 * time.Second }

func (clear) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.BMCState}} }

// Find looks into the queue.
func (clear) Find(a Act, s Seen) Finding {
	if err := unreadIn(s.Host, estate.BMCState); err != nil {
		return untold(err)
	}
	var left []string
	for _, id := range s.Host.BMC.Waits() {
		if slices.Contains(a.Tasks, id) {
			left = append(left, id)
		}
	}
	switch {
	case len(left) == 0:
		return Finding{Outcome: Done}
	case s.Accepted && s.Now.Sub(s.Since) < Settling:
		return Finding{Outcome: UnderWay, Detail: "its BMC clears them"}
	}
	return Finding{Outcome: NotDone, Detail: strings.Join(left, ", ") + " still waits there"}
}
