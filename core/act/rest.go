package act

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/estate"
)

// Down shuts a guest down that does not move, as its brief says, and Save suspends one to disk: its host takes its
// memory with it. Either is owed a Start.
var (
	Down = define("shut down", rest{verb: "shut down", owes: "is shut down", middle: 40 * time.Second,
		worst: 5 * time.Minute})
	Save = define("suspend", rest{verb: "suspend", owes: "is suspended to disk", saves: true, middle: time.Minute,
		worst: 15 * time.Minute})
)

// rest is how a guest comes to rest.
type rest struct {
	verb, owes    string
	saves         bool // what is in its memory is kept
	middle, worst time.Duration
}

func (k rest) Rules() Rules {
	return Rules{Step: DrainStep, Needs: Needs{Alone: true}, Tries: 2, Owes: k.owes, Pays: Start,
		Remedy:  "see on the guest why it goes on running; then resume the round",
		Unclear: "look for the guest on its host; then resume the round"}
}

func (k rest) Says(a Act) string { return k.verb + " " + a.Guest }

func (k rest) Takes(a Act) (middle, worst time.Duration) {
	if k.saves { // its memory is written to disk, at some 200 MiB a second
		return time.Duration(a.MemoryMiB/200)*time.Second + 5*time.Second,
			time.Duration(a.MemoryMiB/50)*time.Second + time.Minute
	}
	return k.middle, k.worst
}

func (k rest) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host, estate.GuestList}} }

// Find looks at the guest's state. Until the longest that it may take is over, one that runs is on its way down.
func (k rest) Find(a Act, s Seen) Finding {
	g, f := guestOf(a, s)
	if g == nil {
		return f
	}
	switch _, worst := k.Takes(a); {
	case g.State == estate.Off && g.Saved == k.saves:
		return Finding{Outcome: Done}
	case g.State == estate.Off && k.saves:
		return Finding{Outcome: NeedsPerson,
			Detail: a.Guest + " is off, and nothing of what was in its memory is on disk"}
	case g.State == estate.Off:
		return Finding{Outcome: NeedsPerson, Detail: a.Guest + " is suspended to disk, and was to be shut down"}
	case s.Accepted && s.Now.Sub(s.Since) < worst:
		return Finding{Outcome: UnderWay, Detail: "it is asked to"}
	}
	return Finding{Outcome: NotDone, Detail: fmt.Sprintf("%s is %s still", a.Guest, g.State)}
}

// Start starts a guest again on its host, or brings it back with what is in its memory where that is on disk.
var Start = define("start", start{})

type start struct{}

func (start) Rules() Rules {
	return Rules{Step: ReopenStep, Needs: Needs{Alone: true}, Tries: 3,
		Remedy:  "see on the host why the guest does not start, start it, then resume the round",
		Unclear: "look for the guest on its host: it must run there; then resume the round"}
}

func (start) Says(a Act) string { return "start " + a.Guest }

func (start) Takes(Act) (middle, worst time.Duration) { return 15 * time.Second, 3 * time.Minute }

func (start) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host, estate.GuestList}} }

func (start) Find(a Act, s Seen) Finding {
	g, f := guestOf(a, s)
	switch {
	case g == nil:
		return f
	case g.State == estate.Suspended && s.Accepted && s.Now.Sub(s.Since) < 20*time.Second: // it is restored paused
		return Finding{Outcome: UnderWay, Detail: "it is being restored"}
	case g.Holds():
		return Finding{Outcome: Done}
	case s.Accepted && s.Now.Sub(s.Since) < time.Minute:
		return Finding{Outcome: UnderWay, Detail: "it starts"}
	}
	return Finding{Outcome: NotDone, Detail: a.Guest + " is off"}
}

// guestOf is the act's guest on its host. Where it can't be seen the finding says so.
func guestOf(a Act, s Seen) (*estate.Guest, Finding) {
	if err := unreadIn(s.Host, estate.Host, estate.GuestList); err != nil {
		return nil, untold(fmt.Errorf("the guests of %s can't be read: %w", a.Host, err))
	}
	i := slices.IndexFunc(s.Host.Guests, func(g estate.Guest) bool { return g.UID() == a.UID() })
	if i < 0 {
		return nil, Finding{Outcome: NeedsPerson, Detail: a.Guest + " is not on " + a.Host + " any more"}
	}
	return &s.Host.Guests[i], Finding{}
}
