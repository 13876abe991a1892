package plan

import (
	"cmp"
	"slices"
	"strings"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
)

// want is a change that is being planned.
type want struct {
	act.Change
	below []*catalogue.Release // what is put in where To can't be had yet, newest first
	then  *want                // what comes after it, in a later pass: the release that it is a rung towards
	from  string               // the rung that it stands on already; "" where it is none of a ladder
}

// put has the change put the release in; usual is what restarts where the release does not say.
func (c *want) put(rel *catalogue.Release, usual catalogue.Restart) {
	c.To, c.File, c.SHA256, c.Size, c.Image, c.At, c.Takes = rel.Version, rel.File, rel.SHA256, rel.Size, rel.Image, rel.At, rel.Takes
	c.Restart = cmp.Or(rel.Restart, usual)
}

// Boots tells whether the visit has its host start from an image.
func (v *Visit) Boots() bool {
	return slices.ContainsFunc(v.Changes, func(c act.Change) bool { return c.Kind() == act.Boot })
}

// Serves tells whether its BMC fetches an image from here.
func (v *Visit) Serves() bool {
	return slices.ContainsFunc(v.Changes, func(c act.Change) bool { return c.Kind() == act.Boot && c.Supplied() })
}

// Stages is how much of a visit's payloads is staged on the host, in MiB, rounded up, and whether a kernel is among it.
func (v *Visit) Stages() (mib int64, kernel bool) {
	var bytes int64
	for _, c := range v.Changes {
		if c.Kind() == act.Install {
			if !slices.Contains(v.Staged, c.SHA256) {
				bytes += c.Size
			}
			kernel = kernel || strings.Contains(c.Component.Name(), "linux-image") || c.Component.Name() == "kernel"
		}
	}
	return (bytes + 1<<20 - 1) >> 20, kernel
}

// Flashes tells whether the visit sends the host's BMC images.
func (v *Visit) Flashes() bool {
	return slices.ContainsFunc(v.Changes, func(c act.Change) bool { return c.Kind() == act.Flash })
}

// Mismatches returns the combinations on no compatibility list that the host would have after the visit.
func (v *Visit) Mismatches(cat *catalogue.Catalogue, r *estate.Reading) []catalogue.Mismatch {
	return cat.Mismatches(r.Release, r.Models(), after(r, v))
}

// after tells what versions of a component the host will have when its visit is over.
func after(r *estate.Reading, v *Visit) func(estate.Key) catalogue.Holding {
	held := catalogue.HeldBy(r)
	return func(key estate.Key) catalogue.Holding {
		out := catalogue.Holding{Known: held(key).Known}
		for _, c := range r.Of(key) {
			to := c.Version
			for _, ch := range v.Changes {
				if ch.Component == key && ch.Device == c.Device {
					to = ch.To
				}
			}
			if to != "" {
				out.Versions = append(out.Versions, to)
			}
		}
		for _, ch := range v.Changes { // what comes new
			if ch.Component == key && ch.From == "" && ch.To != "" {
				out.Versions = append(out.Versions, ch.To)
			}
		}
		return out
	}
}

// change turns a verdict into what a round does about it; left says why it does nothing about a drift.
func change(d drift.Verdict, r *estate.Reading) (c want, left string) {
	c.Change = act.Change{Component: d.Component, Device: d.Device, From: d.Has, To: d.Wants,
		Restart: catalogue.NoRestart, Pass: 1, Why: d.Outcome.String()}
	if d.Found != nil {
		c.Model = d.Found.Model
	}
	if l := d.Layer(); d.Outcome.Drifts() && (l == estate.Inside || l == estate.Settings) {
		return want{}, d.Outcome.String() + ": rounds change neither settings nor what is inside guests; a person does"
	}
	switch d.Outcome {
	case drift.Behind:
	case drift.Absent:
		if why := cannotHave(d.Component, r); why != "" {
			return want{}, d.Outcome.String() + ": " + why
		}
	case drift.Withdrawn:
		if d.Wants == "" {
			return want{}, "withdrawn, and there is no release to go to"
		}
		if d.Component.Scheme().Compare(d.Has, d.Wants) >= 0 {
			return want{}, "withdrawn, and the newest that was not (" + d.Wants + ") is a step back: a person decides"
		}
	case drift.Unwanted:
		c.To = ""
		return c, ""
	case drift.AwaitingRestart:
		if slices.ContainsFunc(d.Found.Holders, func(h estate.Holder) bool { return h.Guest != "" }) {
			return want{}, "awaiting " + d.Found.Awaits() +
				": each comes onto the new one when it moves here from elsewhere, or is started again"
		}
		// a service that nobody restarts while the host runs takes the host's restart
		c.Restart, c.Services = catalogue.HostRestart, restartable(d.Found.Services())
		if d.Found.Restarts != "host" && len(c.Services) == len(d.Found.Services()) {
			c.Restart = catalogue.ServiceRestart
		} else {
			c.Services = nil
		}
		c.From = d.Has
		c.To = d.Has
		return c, ""
	case drift.HalfInstalled:
		return want{}, d.Outcome.String() + ": " + d.Found.State + "; fix it on the host first"
	case drift.Undecided:
		return want{}, d.Outcome.String() + ": " + d.Cause
	case drift.OffTrack, drift.Ahead, drift.Disputed, drift.Unread:
		return want{}, d.Outcome.String() + ": a person decides"
	default:
		return want{}, ""
	}
	if why := d.Release.Barred(); why != "" {
		return want{}, "the wanted " + d.Wants + " " + why
	}
	c.put(d.Release, c.Restart)
	c.To = d.Wants
	if c.Restart == catalogue.ServiceRestart && d.Found != nil {
		c.Services = restartable(append(slices.Clone(d.Found.Units), d.Found.Services()...))
	}
	return c, ""
}

// restartable are those of the services that are restarted while their host runs, each once.
func restartable(services []string) (out []string) {
	for _, s := range services {
		if estate.Restartable(s) == nil && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// cannotHave says why nothing can put the component on the host: a package of another package system, or firmware and
// drivers of a device that is not in it.
func cannotHave(k estate.Key, r *estate.Reading) string {
	switch k.Kind() {
	case "fw", "drv":
		return "no device in it has " + string(k)
	case "deb", "rpm":
		if !slices.ContainsFunc(r.Components, func(c estate.Component) bool { return c.Key.Kind() == k.Kind() }) {
			return "its packages are not of the kind " + k.Kind()
		}
	}
	return ""
}
