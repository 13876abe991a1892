package act

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"yareharbour/core/estate"
)

// Move migrates a running guest to another host, and Return one back to a host whose visit is over. It is done by the
// host that the guest is on, for the visit of the one that it goes to.
var (
	Move   = define("move", move{step: DrainStep, verb: "move"})
	Return = define("return", move{step: ReturnStep, verb: "bring back"})
)

// Bandwidth of a migration is assumed where the estate neither limits it nor has a history, in MiB a second.
const Bandwidth = 900

type move struct {
	step Step
	verb string
}

func (k move) Rules() Rules {
	return Rules{Step: k.step, Tries: 3, Remedy: "see on both hosts why the guest can't move, then resume the round",
		Unclear: "look for the guest on both hosts: it must run on one of them only; then resume the round"}
}

func (k move) Says(a Act) string { return fmt.Sprintf("%s %s to %s", k.verb, a.Guest, a.To) }

func (move) Takes(a Act) (middle, worst time.Duration) {
	middle = time.Duration(a.MemoryMiB/cmp.Or(a.Bandwidth, Bandwidth)) * time.Second
	return middle, 2*middle + time.Minute
}

func (move) Asks(Act) Asks {
	who := []estate.SectionName{estate.Host, estate.GuestList}
	return Asks{Host: who, To: who, Trace: true}
}

// Find looks for the guest at both ends. In the middle of a migration it is seen at both. At an end whose power is off
// it is certainly not.
func (move) Find(a Act, s Seen) Finding {
	t := s.Trace
	if s.Host == nil || !s.Host.Off() {
		switch {
		case t.Unasked != "":
			return untold(errors.New(t.Unasked))
		case t.State == Runs:
			return t.underWay("")
		}
		if err := unreadIn(s.Host, estate.Host, estate.GuestList); err != nil {
			return untold(fmt.Errorf("the guests of %s can't be read: %w", a.Host, err))
		}
	}
	if s.To == nil || !s.To.Off() {
		if err := unreadIn(s.To, estate.Host, estate.GuestList); err != nil {
			return untold(fmt.Errorf("the guests of %s can't be read: %w", a.To, err))
		}
	}
	here, there := holds(s.Host, a), holds(s.To, a)
	switch {
	case there == estate.Running && here == "":
		return Finding{Outcome: Done}
	case here == estate.Running && there == "":
		return Finding{Outcome: NotDone, Detail: cmp.Or(t.Error, "it still runs on "+a.Host), Final: t.Final}
	}
	word := func(state estate.GuestState, host string, r *estate.Reading) string {
		if r.Off() {
			return "not on " + host + ", whose power is off"
		}
		return cmp.Or(string(state), "not there") + " on " + host
	}
	return Finding{Outcome: NeedsPerson, Detail: fmt.Sprintf("%s is %s and %s", a.Guest, word(here, a.Host, s.Host),
		word(there, a.To, s.To))}
}

// holds is the state of the act's guest on a host; "" where it is not there, or only as a definition that holds
// nothing.
func holds(r *estate.Reading, a Act) estate.GuestState {
	if r.Off() {
		return ""
	}
	i := slices.IndexFunc(r.Guests, func(g estate.Guest) bool { return g.UID() == a.UID() && g.Holds() })
	if i < 0 {
		return ""
	}
	return r.Guests[i].State
}
