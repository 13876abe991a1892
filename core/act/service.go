package act

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Service restarts the services that still run what an installation replaced.
var Service = define("service restart", service{})

type service struct{}

func (service) Rules() Rules {
	return Rules{Step: ChangeStep, Needs: Needs{Alone: true}, Tries: 2, Repeats: true,
		Remedy: "see the service's own log on the host, then resume the round"}
}

func (service) Says(a Act) string {
	return "restart " + cmp.Or(strings.Join(a.Services, ", "), "the services of "+a.Change.Title())
}

func (service) Takes(Act) (middle, worst time.Duration) { return 10 * time.Second, time.Minute }

func (service) Asks(a Act) Asks {
	return Asks{Host: []estate.SectionName{a.Change.Component.Section()}, Trace: true}
}

func (service) Find(a Act, s Seen) Finding {
	c := a.Change
	now, unread := c.Standing(s.Host)
	switch {
	case s.Trace.Unasked != "":
		return untold(errors.New(s.Trace.Unasked))
	case s.Trace.State == Runs:
		return s.Trace.underWay("")
	case unread != nil:
		return untold(unread)
	case now.Version != c.To:
		return Finding{Outcome: NeedsPerson,
			Detail: fmt.Sprintf("%s was at %q and is at %q", c.Component, c.To, now.Version)}
	}
	// guests that run the old go on with it until they move, and other services until somebody restarts them
	if still, _ := c.Stale(now); len(still) > 0 {
		return Finding{Outcome: NotDone,
			Detail: cmp.Or(s.Trace.Error,
				fmt.Sprintf("%s still run what %s %s replaced", strings.Join(still, ", "), c.Component, c.To))}
	}
	return Finding{Outcome: Done}
}
