package estate

import (
	"fmt"
	"strings"

	"yareharbour/core/version"
)

// Layer is one of the strata in which a host can be out of line.
type Layer string

// The layers, in the order in which screens and reports show them.
const (
	Platform Layer = "platform"
	Driver   Layer = "driver"
	Firmware Layer = "firmware"
)

// Layers lists every layer from the top of the stack down.
var Layers = []Layer{Platform, Driver, Firmware}

// Key names a component: a kind, a colon and the component's own name, as "deb:openssl", "drv:lorne25" or
// "fw:tarbet-s9". A package of a foreign architecture carries it after a second colon, as dpkg does. The zero value is
// no component.
type Key string

type kind struct {
	layer   Layer
	section SectionName
	scheme  version.Scheme
}

var kinds = map[string]kind{
	"deb": {Platform, Packages, version.Debian},
	"drv": {Driver, Drivers, version.Dotted},
	"fw":  {Firmware, FirmwareItems, version.Dotted},
}

// SectionsOf returns the sections of a reading in which components of the layer are found.
func SectionsOf(l Layer) (out []SectionName) {
	for _, s := range SectionNames {
		for _, k := range kinds {
			if k.layer == l && k.section == s {
				out = append(out, s)
			}
		}
	}
	return out
}

// ParseKey checks that s names a component of a kind that there is. The name may be "*" for all of a kind.
func ParseKey(s string) (Key, error) {
	k := Key(s)
	if _, ok := kinds[k.Kind()]; !ok {
		return "", fmt.Errorf("component %q: a component's name begins with its kind, which is deb:, drv: or fw: here", s)
	}
	if k.Name() == "" || strings.ContainsAny(s, " \t\n") {
		return "", fmt.Errorf("component %q has no proper name after its kind", s)
	}
	return k, nil
}

// Kind is what stands before the first colon: "deb", "drv" or "fw".
func (k Key) Kind() string {
	kind, _, _ := strings.Cut(string(k), ":")
	return kind
}

// Name is what stands after the first colon.
func (k Key) Name() string {
	_, name, _ := strings.Cut(string(k), ":")
	return name
}

// Layer is the layer that components of this kind belong to.
func (k Key) Layer() Layer { return kinds[k.Kind()].layer }

// Section is the section of a reading in which components of this kind are found.
func (k Key) Section() SectionName { return kinds[k.Kind()].section }

// Scheme is the ordering of this component's versions.
func (k Key) Scheme() version.Scheme { return kinds[k.Kind()].scheme }

// Matches tells whether pattern is this key, or the whole of its kind ("deb:*").
func (k Key) Matches(pattern Key) bool {
	return k == pattern || pattern.Name() == "*" && pattern.Kind() == k.Kind()
}

// Component is one thing on a host that has a version.
type Component struct {
	Key Key `json:"key"`
	// Device says which of several alike it is, as "slot 2"; empty where a host has just one.
	Device string `json:"device,omitempty"`
	// Version is what is installed: what will run after the next restart.
	Version string `json:"version"`
	// Running is what runs now where that is known to differ from Version, and otherwise empty.
	Running string `json:"running,omitempty"`
	// Restarts names what must restart until Version runs: "host", or a service's name. Empty where Running is.
	Restarts string `json:"restarts,omitempty"`
	// Model is the hardware the component belongs to, as its maker names it; empty for software.
	Model string `json:"model,omitempty"`
}

// Title is the component with its device, as people say it: "fw:lorne-l25 (slot 2)".
func (c Component) Title() string {
	if c.Device == "" {
		return string(c.Key)
	}
	return string(c.Key) + " (" + c.Device + ")"
}
