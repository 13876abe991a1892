package demo

import (
	"slices"
	"time"

	"yareharbour/core/estate"
	"yareharbour/sim"
)

// event is a change that happened so many days before Start: until then, hosts that have the component at version to
// now had it at version from.
type event struct {
	days  int
	hosts []string // none: all
	key   estate.Key
	from  string // empty: it was not there
	to    string
}

// past is how the demo estate came to be what it is.
var past = []event{
	{26, nil, "drv:lorne25", "2.14.1", "2.14.3"},
	{26, nil, "fw:lorne-l25", "7.3.1", "7.4.2"},
	{23, []string{"vts"}, "fw:corran-bmc", "14.2", "14.6"},
	{18, []string{"tides"}, "fw:corran-bmc", "14.2", "14.6"},
	{17, nil, "deb:qemu-system-x86", "9.2.3-brae1", "9.2.4-brae1"},
	{12, []string{"curlew", "jacana", "dunlin"}, "fw:lorne-l25", "7.3.1", "7.4.0"},
	{8, []string{"vts"}, "deb:linux-image-brae", "30.4-brae1", "30.6-brae1"},
	{5, []string{"tides"}, "deb:linux-image-brae", "30.4-brae1", "30.6-brae1"},
	{3, nil, "deb:brae-tls", "1.8-brae1", "1.9-brae1"},
	{1, []string{"fulmar"}, "deb:chrony", "4.6-brae2", "4.7-brae1"},
	{1, []string{"dunlin"}, "fw:tarbet-s9", "4.19.0", "5.2.0"},
	{1, []string{"jacana"}, "deb:telnetd", "", "0.9-brae4"},
}

// LookedAt is when somebody last looked at the drift of the demo estate.
var LookedAt = Start.AddDate(0, 0, -2)

// Days are the times at which the demo's hosts were read before Start, in order.
func Days() (out []time.Time) {
	for d := 34; d > 0; d-- {
		out = append(out, Start.AddDate(0, 0, -d))
	}
	return out
}

// Past are the readings that were taken of the demo's hosts at that time.
func Past(w *sim.World, at time.Time) map[string]*estate.Reading {
	out := map[string]*estate.Reading{}
	for _, c := range w.Estate.Clusters {
		for _, name := range c.Hosts {
			out[name] = pastOf(w, c.Name, name, at)
		}
	}
	return out
}

func pastOf(w *sim.World, cluster, host string, at time.Time) *estate.Reading {
	h := w.Hosts[host]
	r := h.Reading
	r.Components = slices.Clone(r.Components)
	for i := range r.Guests {
		r.Components = append(r.Components, r.Guests[i].Components()...)
	}
	for i := range r.Components { // what waits for a restart now had not come yet
		if c := &r.Components[i]; c.Running != "" {
			c.Version, c.Running, c.Restarts = c.Running, "", ""
		}
		r.Components[i].Holders = nil
	}
	for i := len(past) - 1; i >= 0; i-- {
		e := past[i]
		if !at.Before(Start.AddDate(0, 0, -e.days)) ||
			len(e.hosts) > 0 && !slices.Contains(e.hosts, host) && !slices.Contains(e.hosts, cluster) {
			continue
		}
		r.Components = slices.DeleteFunc(r.Components, func(c estate.Component) bool {
			return c.Key == e.key && c.Version == e.to && e.from == ""
		})
		for j := range r.Components {
			if c := &r.Components[j]; c.Key == e.key && c.Version == e.to {
				c.Version = e.from
			}
		}
	}
	if r.Closed != nil && r.Closed.At.After(at) {
		r.Closed = nil
	}
	for _, c := range r.Components {
		if c.Key == "deb:linux-image-brae" {
			r.Kernel = estate.Kernel{Running: c.Version, Installed: c.Version}
		}
	}
	r.Sections = nil
	for _, s := range estate.SectionNames {
		source := "host interface"
		if s == estate.FirmwareItems || s == estate.HealthItems || s == estate.BMCState {
			source = "Redfish"
		}
		r.SetSection(estate.Section{Name: s, At: at, Source: source})
	}
	r.Sort()
	return &r
}
