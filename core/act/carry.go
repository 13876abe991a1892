package act

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/estate"
)

// Carry moves a guest that is off to another host: what it is made of, for there is nothing in its memory.
var Carry = define("carry", carry{})

type carry struct{}

func (carry) Rules() Rules {
	return Rules{Step: DrainStep, Needs: Needs{Alone: true}, Tries: 2,
		Remedy:  "see on both hosts why the guest can't be defined there, then resume the round",
		Unclear: "look for the guest on both hosts: it must be defined on one of them only; then resume the round"}
}

func (carry) Says(a Act) string { return fmt.Sprintf("carry %s, which is off, to %s", a.Guest, a.To) }

func (carry) Takes(Act) (middle, worst time.Duration) { return 3 * time.Second, time.Minute }

func (carry) Asks(Act) Asks {
	who := []estate.SectionName{estate.Host, estate.GuestList}
	return Asks{Host: who, To: who}
}

// Find looks for the guest at both ends. For a moment it may be defined at both.
func (carry) Find(a Act, s Seen) Finding {
	for host, r := range map[string]*estate.Reading{a.Host: s.Host, a.To: s.To} {
		if err := unreadIn(r, estate.Host, estate.GuestList); err != nil {
			return untold(fmt.Errorf("the guests of %s can't be read: %w", host, err))
		}
	}
	at := func(r *estate.Reading) (estate.GuestState, bool) {
		i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == a.UID() })
		if i < 0 {
			return "", false
		}
		return r.Guests[i].State, true
	}
	here, isHere := at(s.Host)
	there, isThere := at(s.To)
	young := s.Accepted && s.Now.Sub(s.Since) < time.Minute
	switch {
	case isHere && here != estate.Off || isThere && there != estate.Off:
		return Finding{Outcome: NeedsPerson, Detail: fmt.Sprintf("%s is not off any more", a.Guest)}
	case isThere && !isHere:
		return Finding{Outcome: Done}
	case isHere && young:
		return Finding{Outcome: UnderWay, Detail: "it is being defined there"}
	case isHere && !isThere:
		return Finding{Outcome: NotDone, Detail: a.Guest + " is on " + a.Host + " still"}
	case isHere:
		return Finding{Outcome: NeedsPerson,
			Detail: fmt.Sprintf("%s is defined on %s and on %s", a.Guest, a.Host, a.To)}
	}
	return Finding{Outcome: NeedsPerson, Detail: fmt.Sprintf("%s is neither on %s nor on %s", a.Guest, a.Host, a.To)}
}
