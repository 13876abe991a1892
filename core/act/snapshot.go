package act

import (
	"fmt"
	"slices"
	"time"

	"yareharbour/core/estate"
)

// Snapshot makes a safety copy of a guest where it is, once it has moved for the last time. What it owes is paid on a
// day, by Unsnapshot: until then the guest does not move.
var (
	Snapshot   = define("snapshot", snapshot{})
	Unsnapshot = define("remove snapshot", snapshot{back: true})
)

type snapshot struct{ back bool }

func (k snapshot) Rules() Rules {
	if k.back {
		return Rules{Step: StageStep, Needs: Needs{Alone: true}, Tries: 2, Repeats: true,
			Remedy:  "see on the host why libvirt does not remove it, then resume the round",
			Unclear: "look at the guest's snapshots on its host, then resume the round"}
	}
	return Rules{Step: BackupStep, Needs: Needs{Alone: true}, Tries: 1, Owes: "has a snapshot", Pays: Unsnapshot, Later: true, Early: true,
		Remedy:  "see on the host why libvirt makes none, then resume the round",
		Unclear: "look at the guest's snapshots on its host, then resume the round"}
}

func (k snapshot) Says(a Act) string {
	if k.back {
		return fmt.Sprintf("remove the snapshot %s of %s", a.Copy.Name, a.Guest)
	}
	return fmt.Sprintf("make a snapshot of %s, kept until %s", a.Guest, a.Copy.Until.Format("Mon 2 Jan 15:04 MST"))
}

// Takes is the time in which the guest's memory is written to its disk, at some 200 MiB a second.
func (k snapshot) Takes(a Act) (middle, worst time.Duration) {
	return time.Duration(a.MemoryMiB/200)*time.Second + 5*time.Second, time.Duration(a.MemoryMiB/50)*time.Second + time.Minute
}

func (snapshot) Asks(Act) Asks {
	return Asks{Host: []estate.SectionName{estate.Host, estate.GuestList}}
}

// Find looks for the snapshot among the guest's own.
func (k snapshot) Find(a Act, s Seen) Finding {
	g, f := guestOf(a, s)
	if g == nil {
		return f
	}
	has := slices.ContainsFunc(g.Snapshots, func(o estate.Snapshot) bool { return o.Name == a.Copy.Name && !o.Claimed })
	switch _, worst := k.Takes(a); {
	case has != k.back:
		return Finding{Outcome: Done}
	case s.Accepted && s.Now.Sub(s.Since) < worst:
		return Finding{Outcome: UnderWay, Detail: "libvirt writes it to disk"}
	}
	return Finding{Outcome: NotDone, Detail: a.Guest + map[bool]string{true: " has it still", false: " has no such snapshot"}[k.back]}
}
