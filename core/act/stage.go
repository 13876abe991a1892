package act

import (
	"errors"
	"fmt"
	"time"
)

// Stage puts a payload on the host before it is put in. The host's own hash over what it holds is the proof.
var Stage = define("stage", stage{})

type stage struct{}

func (stage) Rules() Rules {
	return Rules{Step: StageStep, Tries: 1, Repeats: true, Carries: true,
		Remedy: "see whether the host has room and the payload is whole, then resume the round"}
}

func (stage) Says(a Act) string { return "stage " + a.Change.File }

// Rate and Slow are how fast a payload is assumed to reach a host, usually and at worst, in bytes a second.
const (
	Rate = 40 << 20
	Slow = 4 << 20
)

func (stage) Takes(a Act) (middle, worst time.Duration) {
	var size int64
	if a.Change != nil {
		size = a.Change.Size
	}
	return 3*time.Second + time.Duration(size/Rate)*time.Second, 30*time.Second + time.Duration(size/Slow)*time.Second
}

func (stage) Asks(Act) Asks { return Asks{Trace: true} }

func (stage) Find(a Act, s Seen) Finding {
	switch got := s.Trace.SHA256; {
	case s.Trace.Unasked != "":
		return untold(errors.New(s.Trace.Unasked))
	case got == a.Change.SHA256 && got != "":
		return Finding{Outcome: Done, Detail: "verified there, SHA-256 " + short(got)}
	case got == "":
		return Finding{Outcome: NotDone, Detail: "the host does not hold it"}
	default:
		return Finding{Outcome: NotDone, Detail: fmt.Sprintf("%s arrived on %s with the hash %s instead of %s",
			a.Change.File, a.Host, got, a.Change.SHA256)}
	}
}
