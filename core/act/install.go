package act

import (
	"cmp"
	"errors"
	"fmt"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Install puts a package or driver in, or takes one away.
var Install = define("install", install{})

type install struct{}

func (install) Rules() Rules {
	return Rules{Step: ChangeStep, Needs: Needs{Alone: true}, Tries: 1,
		Remedy: "see the host's own log of that moment, fix it, then resume the round"}
}

func (install) Says(a Act) string {
	if n := len(a.With); n > 0 {
		return fmt.Sprintf("change %d packages: %s and %d more", n+1, a.Change.Says(), n)
	}
	return "change " + a.Change.Says()
}

func (install) Takes(a Act) (middle, worst time.Duration) {
	n := time.Duration(len(a.With))
	return 20*time.Second + n*5*time.Second, 40*time.Second + n*10*time.Second
}

func (install) Asks(a Act) Asks {
	return Asks{Host: []estate.SectionName{a.Change.Component.Section()}, Trace: true}
}

// Find holds every change of the act against what stands on the host. Where some are in and others as they were it is
// not done: what is in is in, and doing it again brings the rest.
func (install) Find(a Act, s Seen) Finding {
	switch {
	case s.Trace.Unasked != "":
		return untold(errors.New(s.Trace.Unasked))
	case s.Trace.State == Runs:
		return s.Trace.underWay("")
	}
	in, out := 0, ""
	for _, c := range a.Changes() {
		now, unread := c.Standing(s.Host)
		switch {
		case unread != nil:
			return untold(unread)
		case now.State != "":
			return Finding{Outcome: NeedsPerson,
				Detail: strings.TrimSuffix(fmt.Sprintf("%s %s is %s: %s", c.Title(), now.Version, now.State,
					s.Trace.Error), ": ")}
		case now.Version == c.To:
			in++
		case now.Version == c.From:
			out = cmp.Or(out, fmt.Sprintf("%s is at %q", c.Component, now.Version))
		default:
			return Finding{Outcome: NeedsPerson,
				Detail: fmt.Sprintf("%s was %q, should become %q and is %q", c.Component, c.From, c.To, now.Version)}
		}
	}
	if out == "" {
		return Finding{Outcome: Done}
	}
	if in > 0 {
		out = fmt.Sprintf("%s, and %d of %d are in", out, in, len(a.Changes()))
	}
	return Finding{Outcome: NotDone, Detail: cmp.Or(s.Trace.Error, out)}
}
