package act

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Mount puts an image into the virtual drive of a host's BMC and has the host start from it once. Boot restarts the host
// from it, which takes the host as a restart does, and Unmount takes the image out and puts the order back in which the
// host starts. (DMTF DSP0266 and DSP2046: VirtualMedia, and BootSourceOverrideEnabled "Once".)
var (
	Mount   = define("boot image", mount{})
	Unmount = define("take out image", mount{back: true})
	Boot    = define("boot", booting{})
)

type mount struct{ back bool }

func (k mount) Rules() Rules {
	if k.back {
		return Rules{Step: RestartStep, Tries: 3, Repeats: true, ByBMC: true,
			Remedy: "take the image out of the virtual drive at the BMC itself and have the host start from its disk, then resume the round"}
	}
	return Rules{Step: ChangeStep, Needs: Needs{Closed: true, Alone: true, Powered: true}, Tries: 2, Repeats: true,
		Owes: "is to start from an image once", Pays: Unmount, Early: true,
		Remedy: "see at the BMC why it takes no image, and whether it reaches the address at which images are served; then resume the round"}
}

func (k mount) Says(a Act) string {
	if k.back {
		return "take the image " + a.Image + " out of its BMC's drive"
	}
	return "put the image " + a.Image + " into its BMC's drive, to start from it once"
}

func (mount) Takes(Act) (middle, worst time.Duration) { return 10 * time.Second, 2 * time.Minute }

func (mount) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.BMCState}} }

// Find asks the BMC what its drives hold and what the host starts from next.
func (k mount) Find(a Act, s Seen) Finding {
	if err := unreadIn(s.Host, estate.BMCState); err != nil {
		return untold(err)
	}
	b := &s.Host.BMC
	in, once := b.Inserted(a.URL), b.BootOnce != ""
	switch {
	case in && once && !k.back, !in && !once && k.back:
		return Finding{Outcome: Done}
	case s.Accepted && s.Now.Sub(s.Since) < Settling:
		return Finding{Outcome: UnderWay, Detail: "its BMC takes its time"}
	}
	var wrong []string
	if in == k.back {
		wrong = append(wrong, map[bool]string{true: "the image is in its drive still", false: "the image is not in its drive"}[k.back])
	}
	if once == k.back {
		wrong = append(wrong, map[bool]string{true: "it is to start from " + b.BootOnce + " still", false: "it is not to start from it"}[k.back])
	}
	return Finding{Outcome: NotDone, Detail: strings.Join(wrong, ", and ")}
}

type booting struct{}

func (booting) Rules() Rules {
	return Rules{Step: RestartStep, Needs: Needs{Empty: true, Closed: true, Alone: true, Powered: true}, Tries: 1, Quiet: true,
		Remedy:  "look at the host's console through its BMC for what the image said, then resume the round: it is started from it again",
		Unclear: "look at the host's console through its BMC; what an image writes is not interrupted. Then resume the round"}
}

func (booting) Says(a Act) string { return "start from the image " + a.Image }

// Usually is how long a host takes to be back from an image whose list says nothing of that.
const Usually = 20 * time.Minute

func (booting) Takes(a Act) (middle, worst time.Duration) {
	m, w := restart{}.Takes(a)
	takes := Usually
	if a.Change != nil {
		takes = cmp.Or(a.Change.Takes, takes)
	}
	return m + takes, w + 2*takes
}

func (booting) Asks(Act) Asks {
	return Asks{Host: []estate.SectionName{estate.Host, estate.GuestList}, Back: []estate.SectionName{estate.FirmwareItems}, Trace: true}
}

// shown is how long a BMC is given to show the versions that an image brought, once the host is back.
const shown = 5 * time.Minute

// Find holds the boot id against the one before, and then what the image was to bring against what there is: an image
// that says it has ended proves nothing.
func (booting) Find(a Act, s Seen) Finding {
	f := restart{}.Find(a, s)
	if f.Outcome != Done {
		f.Percent = max(f.Percent, s.Trace.Percent)
		return f
	}
	behind := ""
	for _, c := range a.Changes() {
		switch now, unread := c.Standing(s.Host); {
		case unread != nil:
			return untold(unread)
		case now.Version == c.To:
		case now.Version != c.From:
			return Finding{Outcome: NeedsPerson, Detail: fmt.Sprintf("%s was %q, should become %q and is %q", c.Title(), c.From, c.To, now.Version)}
		default:
			behind = cmp.Or(behind, fmt.Sprintf("%s is at %q", c.Title(), now.Version))
		}
	}
	if behind == "" {
		return f
	}
	if at := s.Host.BootedAt; !at.IsZero() && s.Now.Sub(at) < shown {
		return Finding{Outcome: UnderWay, Detail: "it is back, and " + behind + " still: its BMC is given some minutes to show it"}
	}
	return Finding{Outcome: NotDone, Detail: "it has started again, and " + behind + " still: the image was not started, or did not bring it"}
}
