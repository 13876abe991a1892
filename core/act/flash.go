package act

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"yareharbour/core/estate"
)

// Flash gives an image to the host's BMC. A BMC knows no act by its id and may be silent while it flashes, so an image
// is given again only where it is certain that it was not taken: the BMC says that it failed, or has started anew
// since, or lists no task that it did not list before, some time after.
var Flash = define("flash", flash{})

type flash struct{}

// Settling is how long a BMC is given to list a task for an image of which it is not known whether it was taken.
const Settling = time.Minute

func (flash) Rules() Rules {
	return Rules{Step: ChangeStep, Needs: Needs{Alone: true, Powered: true}, Tries: 1, Quiet: true, Carries: true,
		Remedy: "see the BMC's own log of that moment, fix it, then resume the round",
		Unclear: "look at the BMC's own log and tasks; flash it by hand, or restart the BMC so that nothing can be " +
			"under way in it, then resume the round"}
}

func (flash) Says(a Act) string { return "change " + a.Change.Says() }

func (flash) Takes(Act) (middle, worst time.Duration) { return 2 * time.Minute, 4 * time.Minute }

func (flash) Asks(Act) Asks {
	return Asks{Host: []estate.SectionName{estate.FirmwareItems, estate.BMCState}, Trace: true}
}

func (flash) Find(a Act, s Seen) Finding {
	c := a.Change
	now, unread := c.Standing(s.Host)
	switch {
	case s.Trace.Unasked != "":
		return untold(errors.New(s.Trace.Unasked))
	case s.Trace.State == Runs:
		return s.Trace.underWay("")
	case unread != nil:
		return untold(unread)
	case now.Version == c.To:
		return Finding{Outcome: Done}
	case now.Version != c.From:
		return Finding{Outcome: NeedsPerson, Detail: fmt.Sprintf("%s was %q, should become %q and is %q", c.Component,
			c.From, c.To, now.Version)}
	case s.Trace.State == Broke:
		return Finding{Outcome: NotDone, Detail: s.Trace.Error}
	}
	why := unreadIn(s.Host, estate.BMCState)
	switch b := s.Host.BMC; {
	case why != nil:
		return untold(why)
	case b.Reset.After(a.Before.BMCReset) && !a.Before.BMCReset.IsZero():
		return Finding{Outcome: NotDone, Detail: fmt.Sprintf("%s is at %q, and the BMC has restarted since",
			c.Component, now.Version)}
	case s.Accepted:
		return Finding{Outcome: NeedsPerson,
			Detail: fmt.Sprintf("the BMC took the image, knows no task for it any more, and %s is still at %q",
				c.Component, now.Version)}
	case slices.ContainsFunc(b.Tasks, func(id string) bool { return !slices.Contains(a.Before.Tasks, id) }):
		return Finding{Outcome: NeedsPerson,
			Detail: fmt.Sprintf("the BMC has a task that it had not before, and %s is still at %q",
				c.Component, now.Version)}
	case s.Now.Sub(s.Since) < Settling:
		return s.Trace.underWay("whether the BMC took the image is not known yet: it is given a minute to say so")
	}
	return Finding{Outcome: NotDone, Detail: fmt.Sprintf("%s is at %q, and the BMC has no task that it had not before",
		c.Component, now.Version)}
}
