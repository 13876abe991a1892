package drift

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Turn is a change in a host's life: a component that came, went or went to another version between two readings.
type Turn struct {
	At        time.Time  `json:"at"` // of the reading in which it was first seen
	Component estate.Key `json:"component"`
	Device    string     `json:"device,omitempty"`
	From      string     `json:"from"` // empty: it was not there
	To        string     `json:"to"`   // empty: it is gone
}

// Title is the component with its device.
func (t Turn) Title() string { return estate.Component{Key: t.Component, Device: t.Device}.Title() }

// Life lists what changed on a host from reading to reading, the newest change first. The readings are the host's own,
// in the order of time. A part that was not read says nothing: what it held is compared with the next reading of it
// that succeeded. What is inside guests is left out: it comes and goes with them.
func Life(readings []*estate.Reading) []Turn {
	var out []Turn
	known := map[place]string{}
	seen := map[estate.SectionName]bool{}
	for _, r := range readings {
		now := map[place]string{}
		for _, c := range r.Components {
			if c.Key.Layer() == estate.Inside || !r.Read(c.Key.Section()) {
				continue
			}
			p := place{c.Key, c.Device}
			if now[p] = c.Version; !c.Known() {
				now[p] = known[p]
			}
		}
		var turns []Turn
		for _, c := range r.Components {
			p := place{c.Key, c.Device}
			if s := c.Key.Section(); c.Key.Layer() != estate.Inside && r.Section(s).Err == "" &&
				seen[s] && known[p] != now[p] {
				turns = append(turns, Turn{r.Section(s).At, p.key, p.device, known[p], now[p]})
			}
		}
		for p, v := range known {
			if _, still := now[p]; !still && r.Section(p.key.Section()).Whole() {
				turns = append(turns, Turn{r.Section(p.key.Section()).At, p.key, p.device, v, ""})
			}
		}
		remember(r, known, now, seen)
		sortTurns(turns)
		out = append(turns, out...)
	}
	return out
}

// remember takes over what the reading says of the sections that were read.
func remember(r *estate.Reading, known, now map[place]string, seen map[estate.SectionName]bool) {
	for _, s := range r.Sections {
		if s.Err != "" {
			continue
		}
		seen[s.Name] = true
		for p := range known {
			if p.key.Section() == s.Name {
				delete(known, p)
			}
		}
		for p, v := range now {
			if p.key.Section() == s.Name {
				known[p] = v
			}
		}
	}
}

func sortTurns(turns []Turn) {
	slices.SortFunc(turns, func(a, b Turn) int {
		return cmp.Or(strings.Compare(string(a.Component), string(b.Component)), strings.Compare(a.Device, b.Device))
	})
}
