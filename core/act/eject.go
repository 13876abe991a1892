package act

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Eject takes media out of a guest's drives that only its host has, so that it can move. It is owed an Insert, once the
// guest is back, unless its brief says that they stay out.
var (
	Eject  = define("eject", eject{})
	Insert = define("insert", eject{back: true})
)

type eject struct{ back bool }

func (k eject) Rules() Rules {
	r := Rules{Step: DrainStep, Tries: 2, Repeats: true, Owes: "lacks a medium in its drive", Pays: Insert, Early: true,
		Remedy: "see in the guest who holds its drive, then resume the round"}
	if k.back {
		r.Step, r.Owes, r.Pays, r.Early, r.Remedy = ReturnStep, "", "", false, "see on its host whether the medium is there, then resume the round"
	}
	return r
}

func (k eject) Says(a Act) string {
	if k.back {
		return fmt.Sprintf("put %s into the drive of %s again", Sources(a.Media), a.Guest)
	}
	return "take the media out of the drives of " + a.Guest
}

func (eject) Takes(Act) (middle, worst time.Duration) { return 2 * time.Second, time.Minute }

func (eject) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.Host, estate.GuestList}} }

// Find looks into the guest's drives.
func (k eject) Find(a Act, s Seen) Finding {
	g, f := guestOf(a, s)
	if g == nil {
		return f
	}
	held := Inserted(g)
	missing := slices.DeleteFunc(slices.Clone(a.Media), func(d estate.Disk) bool {
		return slices.ContainsFunc(held, func(o estate.Disk) bool { return o.Target == d.Target && o.Source == d.Source })
	})
	switch {
	case len(held) == 0 && !k.back, len(missing) == 0 && k.back:
		return Finding{Outcome: Done}
	case s.Accepted && s.Now.Sub(s.Since) < time.Minute:
		return Finding{Outcome: UnderWay, Detail: "its drives open"}
	case k.back:
		return Finding{Outcome: NotDone, Detail: fmt.Sprintf("%s lacks %s", a.Guest, Sources(missing))}
	}
	return Finding{Outcome: NotDone, Detail: fmt.Sprintf("%s still has %s", a.Guest, Sources(held))}
}

// Inserted are the drives of a guest with media in them that only its host has.
func Inserted(g *estate.Guest) []estate.Disk {
	return slices.DeleteFunc(slices.Clone(g.Disks), func(d estate.Disk) bool { return !d.Media || !d.Local })
}

// Sources are what is in drives, in a sentence.
func Sources(media []estate.Disk) string {
	var out []string
	for _, d := range media {
		out = append(out, d.Source)
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}
