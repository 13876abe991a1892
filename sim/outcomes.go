package sim

import (
	"slices"
	"time"

	"yareharbour/connector"
	"yareharbour/core/estate"
)

// Uncertain outcomes: what happens to real hosts in the middle of an act, after which a look finds neither how it was nor
// how it was to be, or nobody knows any more how it went.
const (
	MovePauses     FaultKind = "move-pauses"        // the next migration from the host ends with the guest paused at both ends
	GuestQuits     FaultKind = "guest-quits"        // the guest of the next migration from the host shuts itself down
	HalfInstalled  FaultKind = "half-installed"     // the next installation on the host leaves a package half configured
	LosesTask      FaultKind = "loses-task"         // the next work of the host or its BMC is done, and forgotten
	ForgetsImage   FaultKind = "forgets-image"      // the BMC forgets its next update, and nothing comes of it
	IgnoresRestart FaultKind = "ignores-restart"    // the host takes its next restart on, and stays up
	StaysOff       FaultKind = "stays-off"          // the host goes down at its next restart, and its power stays off
	SnapshotFails  FaultKind = "snapshot-fails"     // the next snapshot of a guest on the host is refused
	MediaAway      FaultKind = "media-away"         // the BMC can't reach the next image that it is given
	DropsMedia     FaultKind = "drops-media"        // the BMC takes the next image, and lets it go by itself
	ForgetsBoot    FaultKind = "forgets-boot"       // at its next start from an image the host starts as usual instead
	BootsTwice     FaultKind = "boots-twice"        // the host starts twice from its next image
	ImageFails     FaultKind = "image-fails"        // the next image that the host starts from brings nothing
	RenewsCert     FaultKind = "renews-certificate" // after its next update the BMC shows another certificate
	IsReopened     FaultKind = "is-reopened"        // somebody takes the host's next mark away, half a minute later
)

// outcome ends a task in another way than it should, where a fault was ordered, and tells whether it did.
func (w *World) outcome(h *Host, t *Task) bool {
	fails := func(why string) bool {
		t.State, t.Error = connector.TaskFailed, why
		w.note(h, keepers[t.Kind], "error: %s: %s", t.Kind, why)
		return true
	}
	switch t.Kind {
	case "move":
		i := slices.IndexFunc(h.Reading.Guests, func(g estate.Guest) bool { return g.UID() == t.Guest })
		to := w.Hosts[t.To]
		switch {
		case i < 0:
		case to.Up && w.strikes(h.Name, MovePauses):
			h.Reading.Guests = slices.Clone(h.Reading.Guests)
			h.Reading.Guests[i].State = estate.Suspended
			to.Reading.Guests = append(slices.Clone(to.Reading.Guests), h.Reading.Guests[i])
			to.Reading.Sort()
			return fails("the connection between the two was lost")
		case w.strikes(h.Name, GuestQuits):
			h.Reading.Guests = slices.Clone(h.Reading.Guests)
			h.Reading.Guests[i].State = estate.Off
			return fails("the guest has shut itself down")
		}
	case "change":
		if w.strikes(h.Name, HalfInstalled) {
			h.apply(t.Payload, t.Device)
			for i := range h.Reading.Components {
				if c := &h.Reading.Components[i]; c.Key == t.Payload.Component && c.Device == t.Device {
					c.State = "half-configured"
				}
			}
			return fails("the package's own script failed with status 1")
		}
	case "firmware":
		if w.strikes(h.Name, ForgetsImage) {
			w.forget(t)
			return true
		}
	case "restart":
		switch {
		case w.strikes(h.Name, StaysOff):
			h.Reading.BMC.Power = "Off"
			return fails("its power stayed off")
		case w.strikes(h.Name, IgnoresRestart):
			h.Up = true
			return fails("it did not go down")
		}
	case "reopen":
		if h.Reading.Closed != nil {
			h.Reading.Closed = nil
			w.act("somebody else opens %s", h.Name)
		}
		return true
	}
	return false
}

// forget lets go of a task.
func (w *World) forget(t *Task) {
	w.Tasks = slices.DeleteFunc(w.Tasks, func(o *Task) bool { return o == t })
}

// reopens has somebody else take the host's mark away a little later, where that was ordered.
func (w *World) reopens(host string) {
	if w.strikes(host, IsReopened) {
		w.begin(Task{Kind: "reopen", Host: host}, 30*time.Second)
	}
}
