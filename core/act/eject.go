package act

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Eject takes media out of a guest's drives that only its host has, so that it can move. They are not put in again:
// where it goes they are not.
var Eject = define("eject", eject{})

type eject struct{}

func (eject) Rules() Rules {
	return Rules{Step: DrainStep, Tries: 2, Repeats: true,
		Remedy: "see in the guest who holds its drive, then resume the round"}
}

func (eject) Says(a Act) string { return "take the media out of the drives of " + a.Guest }

func (eject) Takes(Act) (middle, worst time.Duration) { return 2 * time.Second, time.Minute }

func (eject) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host, estate.GuestList}} }

// Find looks into the guest's drives.
func (eject) Find(a Act, s Seen) Finding {
	g, f := guestOf(a, s)
	if g == nil {
		return f
	}
	switch held := Inserted(g); {
	case len(held) == 0:
		return Finding{Outcome: Done}
	case s.Accepted && s.Now.Sub(s.Since) < time.Minute:
		return Finding{Outcome: UnderWay, Detail: "its drives open"}
	default:
		return Finding{Outcome: NotDone, Detail: fmt.Sprintf("%s still has %s", a.Guest, strings.Join(held, ", "))}
	}
}

// Inserted are the media in a guest's drives that only its host has.
func Inserted(g *estate.Guest) (out []string) {
	for _, d := range g.Disks {
		if d.Media && d.Local {
			out = append(out, d.Source)
		}
	}
	slices.Sort(out)
	return out
}
