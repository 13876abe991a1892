package precheck

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// What the condition of a host is held to.
const (
	clockCaution = 10 * time.Second // logs and certificates get out of step
	clockBlocker = 5 * time.Minute  // certificates and tickets are refused
	certCaution  = 21 * 24 * time.Hour
	wearCaution  = 90  // percent of what a disk was made to bear; what an update writes comes on top
	wearBlocker  = 100 // it may turn read-only at any write
	spareMiB     = 512 // beside what is put in
	bootMiB      = 200 // a kernel with its initial file system
)

// condition asks about the condition of a host. Where that was not read it could not be known; what blocked as it was
// last known blocks still.
func condition(what string, ask func(Facts, *estate.Reading) found) func(Facts, *estate.Reading) found {
	return func(f Facts, r *estate.Reading) found {
		x := ask(f, r)
		why := cmp.Or(r.Unread(estate.ConditionItems, f.Now, f.MaxAge), r.Section(estate.ConditionItems).Partial)
		switch {
		case why == "":
			return x
		case x.level == Blocker:
			x.evidence, x.unknown = fmt.Sprintf("%s; that is as it was last known: %s", x.evidence, why), true
			return x
		}
		return unknown(Caution, what+" could not be known: "+why, "see that the host answers, then read it again")
	}
}

func clock(f Facts, r *estate.Reading) found {
	off := r.Condition.Ahead
	says, away := "ahead of", off
	if off < 0 {
		says, away = "behind", -off
	}
	evidence := fmt.Sprintf("its clock is %s %s this one", drift.Age(away), says)
	const remedy = "see why it does not follow its time servers: chronyc tracking, or timedatectl"
	switch {
	case away >= clockBlocker:
		return blocker(evidence, remedy)
	case away >= clockCaution:
		return caution(evidence, remedy)
	}
	return clear("its clock agrees with this one")
}

// space holds the room on a host to what is put there.
func space(f Facts, r *estate.Reading) found {
	var short, low, untold []string
	need := func(path string, mib int64, why string) {
		switch s := r.Condition.Under(path); {
		case s.Path == "":
			untold = append(untold, path)
		case s.FreeMiB < mib:
			short = append(short, fmt.Sprintf("%s has %d MiB free, and %s takes %d", s.Path, s.FreeMiB, why, mib))
		}
	}
	if f.StagesMiB > 0 {
		need("/var/lib/yare", f.StagesMiB+spareMiB, "what is staged there")
		need("/usr", 3*f.StagesMiB+spareMiB, "what is installed")
	}
	if f.Kernel {
		need("/boot", bootMiB, "a kernel")
	}
	for _, s := range r.Condition.Space {
		if s.SizeMiB > 0 && s.FreeMiB*20 < s.SizeMiB {
			low = append(low, fmt.Sprintf("%s has %d of %d MiB free", s.Path, s.FreeMiB, s.SizeMiB))
		}
	}
	const remedy = "make room there: old kernels, package caches, logs"
	switch {
	case len(short) > 0:
		return blocker(strings.Join(short, "; "), remedy)
	case len(low) > 0:
		return caution(strings.Join(low, "; "), remedy)
	case len(r.Condition.Space) == 0:
		return unknown(Caution, "its disk space could not be known: no file system was told", "look at it on the host: df")
	case len(untold) > 0:
		return unknown(Caution, "the space at "+strings.Join(untold, ", ")+
			" could not be known: no file system was told that it is on", "look at it on the host: df")
	}
	return clear("there is enough disk space")
}

// keptMiB is how much a host's configuration takes on the host while it is kept, at worst.
const keptMiB = 64

// backup asks whether the configuration can be kept: it is packed on the host, and lies here afterwards.
func backup(f Facts, r *estate.Reading) found {
	if !f.Keeps {
		return clear("nothing is changed that it would be kept for")
	}
	if f.Unkept != "" {
		return blocker("it can't be kept here: "+f.Unkept, "make room for it, or let the state directory be written")
	}
	switch s := r.Condition.Under("/var/lib/yare"); {
	case r.Unread(estate.ConditionItems, f.Now, f.MaxAge) != "", s.Path == "":
		return unknown(Caution, "whether the host has room to pack it could not be known", "look at it on the host: df /var/lib")
	case s.FreeMiB < keptMiB:
		return blocker(fmt.Sprintf("%s has %d MiB free, and packing it takes up to %d", s.Path, s.FreeMiB, keptMiB), "make room there: old kernels, package caches, logs")
	}
	return clear("there is room for it, there and here")
}

func root(f Facts, r *estate.Reading) found {
	switch c := &r.Condition; {
	case c.Root == "":
		return unknown(Caution, "whether its root file system survives a restart could not be known: its type was not told",
			"look at it on the host: findmnt /")
	case c.Volatile:
		return blocker("its root file system ("+c.Root+") does not survive a restart: what is installed would be gone after it",
			"change the image that it starts from instead")
	default:
		return clear("its root file system (" + c.Root + ") survives a restart")
	}
}

func wear(f Facts, r *estate.Reading) found {
	var worn, near, untold []string
	for _, w := range r.Condition.Wear {
		says := fmt.Sprintf("%s has used %d %% of its life", w.Name, w.Used)
		switch {
		case w.Unread != "":
			untold = append(untold, w.Name+": "+w.Unread)
		case w.Used >= wearBlocker:
			worn = append(worn, says)
		case w.Used >= wearCaution:
			near = append(near, says)
		}
	}
	const remedy = "replace it, or see that nothing of the host depends on it"
	switch {
	case len(worn) > 0 && f.Empties:
		return blocker(strings.Join(append(worn, near...), "; "), remedy)
	case len(worn)+len(near) > 0:
		return caution(strings.Join(append(worn, near...), "; "), remedy)
	case len(untold) > 0:
		return unknown(Caution, "how worn its disks are could not be known: "+strings.Join(untold, "; "),
			"have smartctl there (smartmontools), and yare look as root; waive it where a disk never tells")
	case len(r.Condition.Wear) == 0:
		return clear("it has no disk of a kind that wears; what its BMC knows of others is part of health")
	}
	return clear(fmt.Sprintf("none of %d has used %d %% of its life", len(r.Condition.Wear), wearCaution))
}

func bonds(f Facts, r *estate.Reading) found {
	var bad []string
	for _, b := range r.Condition.Bonds {
		if up, down := b.Up(); len(up) < 2 {
			bad = append(bad, fmt.Sprintf("%s: up %s, down %s", b.Name, cmp.Or(strings.Join(up, ", "), "none"), cmp.Or(strings.Join(down, ", "), "none")))
		}
	}
	if len(bad) > 0 {
		return caution(strings.Join(bad, "; ")+": there is no second way",
			"see to the cable, the port and the switch first: a driver's or an adapter's update takes a link down")
	}
	return clear(fmt.Sprintf("every bond has two links up (%d)", len(r.Condition.Bonds)))
}

func storage(f Facts, r *estate.Reading) found {
	var bad []string
	for _, a := range r.Condition.Arrays {
		if !a.Whole {
			bad = append(bad, a.Name+": "+a.Detail)
		}
	}
	if len(bad) == 0 {
		return clear(fmt.Sprintf("every array is whole (%d)", len(r.Condition.Arrays)))
	}
	const remedy = "wait until it is in sync, or replace what failed, before the host restarts"
	if f.Empties {
		return blocker(strings.Join(bad, "; "), remedy)
	}
	return caution(strings.Join(bad, "; "), remedy)
}

func certificates(f Facts, r *estate.Reading) found {
	var over, near, untold []string
	for _, c := range r.Condition.Certificates {
		switch left := c.Until.Sub(f.Now); {
		case c.Unread != "":
			untold = append(untold, c.Name+": "+c.Unread)
		case left <= 0:
			over = append(over, fmt.Sprintf("%s ended on %s", c.Name, c.Until.Format("2 Jan 2006")))
		case left < certCaution:
			near = append(near, fmt.Sprintf("%s ends on %s", c.Name, c.Until.Format("2 Jan 2006")))
		}
	}
	const remedy = "renew it: migrations and logins that rest on it fail from then on"
	switch {
	case len(over) > 0 && f.Empties:
		return blocker(strings.Join(append(over, near...), "; "), remedy)
	case len(over)+len(near) > 0:
		return caution(strings.Join(append(over, near...), "; "), remedy)
	case len(untold) > 0:
		return unknown(Caution, "how long its certificates last could not be known: "+strings.Join(untold, "; "),
			"have yare look as root, or look at it on the host: openssl x509 -enddate")
	}
	return clear(fmt.Sprintf("none of %d is near its end", len(r.Condition.Certificates)))
}
