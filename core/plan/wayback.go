package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// WayBack tells how what a visit changes in one place could be undone by a person afterwards: rounds themselves never
// go back. Passes count as one: from what stands there now to the last release that is put in.
type WayBack struct {
	Component estate.Key `json:"component"`
	Device    string     `json:"device,omitempty"`
	From      string     `json:"from,omitempty"` // what the visit puts in; empty: it takes it away
	To        string     `json:"to,omitempty"`   // what stands there now; empty: it would be taken away again
	None      string     `json:"none,omitempty"` // why there is no way back; empty where there is one
	Here      bool       `json:"here"`           // what it takes is in the payload store, and verified
}

// Says puts it in words.
func (w *WayBack) Says() string {
	title := estate.Component{Key: w.Component, Device: w.Device}.Title()
	switch {
	case w.None != "":
		return fmt.Sprintf("no way back from %s %s: %s", title, cmp.Or(w.From, "(removed)"), w.None)
	case w.To == "":
		return fmt.Sprintf("%s %s can be removed again", title, w.From)
	case w.Here:
		return fmt.Sprintf("%s %s is here and verified", title, w.To)
	}
	return fmt.Sprintf("%s %s is in a feed, and not here", title, w.To)
}

// waysBack finds the way back of every place that a visit changes. A change that only starts what is installed changes
// nothing that could be undone.
func (in Input) waysBack(v *Visit) (out []WayBack) {
	for i := range v.Changes {
		c := &v.Changes[i]
		if !c.Installs() {
			continue
		}
		begun := slices.IndexFunc(out, func(w WayBack) bool {
			return w.Component == c.Component && w.Device == c.Device
		})
		if begun >= 0 { // a rung of a ladder ends where the next one begins
			out[begun].From = c.To
			continue
		}
		out = append(out, WayBack{Component: c.Component, Device: c.Device, From: c.To, To: c.From})
	}
	for i := range out {
		in.wayBack(v, &out[i])
	}
	return out
}

// wayBack fills in what speaks against it.
func (in Input) wayBack(v *Visit, w *WayBack) {
	model := ""
	if c, ok := in.Readings[v.Host].Component(w.Component, w.Device); ok {
		model = c.Model
	}
	if w.None = in.oneWay(w, model); w.None != "" {
		return
	}
	if w.To == "" {
		if w.Component.Layer() == estate.Firmware {
			w.None = "what was there before could not be read"
		}
		return
	}
	track, _ := in.Catalogue.TrackOf(w.Component, w.To, model)
	rel := in.Catalogue.Release(w.Component, w.To, track, model)
	if why := rel.Barred(); why != "" {
		w.None = w.To + " " + why
		return
	}
	w.Here = rel.At != "" || rel.File != "" && in.Payloads != nil && in.Payloads(rel.File, rel.SHA256) == nil
}

// oneWay says which of the releases that are put in, or passed over, can't be gone back from.
func (in Input) oneWay(w *WayBack, model string) string {
	if in.Catalogue == nil {
		return "the catalogue can't be read"
	}
	if w.From == "" {
		return ""
	}
	order := w.Component.Scheme().Compare
	for _, r := range in.Catalogue.Releases(w.Component) {
		if r.OneWay != "" && r.Fits(model) && order(r.Version, w.From) <= 0 &&
			(w.To == "" || order(r.Version, w.To) > 0) {
			return strings.TrimSuffix(r.OneWay, ".")
		}
	}
	return ""
}

// Backs says of a visit how it could be undone: what has no way back by itself, the others as a number.
func (v *Visit) Backs() (none []string, others string) {
	back, here := 0, 0
	for i := range v.WaysBack {
		w := &v.WaysBack[i]
		switch {
		case w.None != "":
			none = append(none, w.Says())
			continue
		case w.Here || w.To == "":
			here++
		}
		back++
	}
	switch {
	case back == 0:
	case here == back:
		others = fmt.Sprintf("%s can be undone by a person, with what is here", catalogue.Some(back, "change"))
	default:
		others = fmt.Sprintf("%s can be undone by a person; for %d of them the older release must be fetched first",
			catalogue.Some(back, "change"), back-here)
	}
	return none, others
}
