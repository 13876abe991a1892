package estate

import (
	"fmt"
	"maps"
	"slices"
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
	// Inside is the guest layer: what stands inside guests or is set for them, as their agent and machine type.
	Inside Layer = "guest"
	// Settings is how the host is set up: services, kernel arguments, name servers.
	Settings Layer = "settings"
)

// Layers lists every layer: the host's own from the top of the stack down, then guests and settings.
var Layers = []Layer{Platform, Driver, Firmware, Inside, Settings}

// Listed joins words for a sentence.
func Listed[T ~string](words []T) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = string(w)
	}
	return strings.Join(out, ", ")
}

// Few joins words for a sentence that names so many at most, and counts the others.
func Few(words []string, most int) string {
	if len(words) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(words[:most-1], ", "), len(words)-most+1)
	}
	return strings.Join(words, ", ")
}

// Key names a component: a kind, a colon and the component's own name, as "deb:brae-tls", "rpm:brae-tls-libs",
// "drv:lorne25", "fw:tarbet-s9", "agent:brae-agent", "machine:q35", "set:service/chrony" or "host:brae-stack". A
// package of a foreign architecture carries it after a second colon, as dpkg does. The zero value is no component.
type Key string

type kind struct {
	layer   Layer
	section SectionName
	scheme  version.Scheme
}

var kinds = map[string]kind{
	"deb":     {Platform, Packages, version.Debian},
	"rpm":     {Platform, Packages, version.RPM},
	"drv":     {Driver, Drivers, version.Dotted},
	"fw":      {Firmware, FirmwareItems, version.Dotted},
	"agent":   {Inside, GuestList, version.Dotted}, // one for each guest, which is its device
	"machine": {Inside, GuestList, version.Dotted},
	"set":     {Settings, SettingItems, 0}, // a value is the wanted one or it is not: there is no order
	WholeHost: {Platform, Host, version.Dotted},
}

// WholeHost is the kind of a target that is platform, drivers and firmware as one. No host has such a component; a
// clause about one stands for clauses about all that it is made of.
const WholeHost = "host"

// Kinds lists the kinds of components, sorted.
func Kinds() []string { return slices.Sorted(maps.Keys(kinds)) }

// SectionsOf returns the sections of a reading in which components of the layer are found.
func SectionsOf(l Layer) (out []SectionName) {
	for _, s := range SectionNames {
		for _, k := range kinds {
			if k.layer == l && k.section == s && !slices.Contains(out, s) && s != Host {
				out = append(out, s)
			}
		}
	}
	return out
}

// NewKey names a component of a kind. Names of drivers and firmware come from makers, feeds and people, who spell them
// differently: theirs are in small letters, with a hyphen for blanks inside and none around. All others are taken as
// they are, byte for byte.
func NewKey(kind, name string) Key {
	if k, ok := kinds[kind]; ok && (k.layer == Driver || k.layer == Firmware) {
		name = strings.ToLower(strings.Join(strings.Fields(name), "-"))
	}
	return Key(kind + ":" + name)
}

// ParseKey checks that s names a component of a kind that there is, and spells it as NewKey does. The name may be "*" for
// all of a kind.
func ParseKey(s string) (Key, error) {
	kind, name, _ := strings.Cut(s, ":")
	k := NewKey(kind, name)
	if _, ok := kinds[k.Kind()]; !ok {
		return "", fmt.Errorf("component %q: a component's name begins with its kind and a colon; the kinds are %s", s,
			strings.Join(Kinds(), ", "))
	}
	if k.Name() == "" || strings.ContainsAny(string(k), " \t\n") {
		return "", fmt.Errorf("component %q has no proper name after its kind", s)
	}
	return k, nil
}

// Kind is what stands before the first colon, as "deb", "drv" or "fw".
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
	// Version is what is installed: what will run after the next restart. It is empty where it could not be read, and
	// Unread says why.
	Version string `json:"version"`
	Unread  string `json:"unread,omitempty"`
	// Last is the version at which it was last known to be, where that could not be read now.
	Last string `json:"last,omitempty"`
	// Running is what runs now where that is known to differ from Version, and otherwise empty.
	Running string `json:"running,omitempty"`
	// Restarts names what must restart until Version runs: "host", or a service's name. Empty where Running is.
	Restarts string `json:"restarts,omitempty"`
	// Model is the hardware the component belongs to, as its maker names it; empty for software.
	Model string `json:"model,omitempty"`
	// Class says what kind of device it is: one of Classes; empty for software, and where nobody tells.
	Class string `json:"class,omitempty"`
	// State is how far a package is installed where it is not wholly: "unpacked", "half-configured" and their like, in
	// its package system's words. It is there, and nothing else can be installed until somebody mends it.
	State string `json:"state,omitempty"`
	// Holders are the processes that still run what Version replaced on disk. A component with holders is installed,
	// but not all of it runs.
	Holders []Holder `json:"holders,omitempty"`
	// Units are the services that a package brings, as "sshd.service", sorted.
	Units []string `json:"units,omitempty"`
}

// Classes are the kinds of devices, by which people narrow what they look at.
var Classes = []string{"network", "storage", "disk", "power", "bmc", "bios", "graphics", "other"}

// Holder is a process that runs what was replaced.
type Holder struct {
	// Service is the unit that must restart, as "libvirtd.service"; empty where the process is a guest's emulator.
	Service string `json:"service,omitempty"`
	// Guest is whose emulator it is: the guest must move away, or stop and start again.
	Guest string `json:"guest,omitempty"`
	// Runs is the version that runs, where that is known.
	Runs string `json:"runs,omitempty"`
}

// String says what must restart.
func (h Holder) String() string {
	if h.Guest != "" {
		return "the emulator of guest " + h.Guest
	}
	return h.Service
}

// Known tells whether the component's version was read. One that is there at a version nobody knows is neither in line
// nor behind, and is no difference to any other.
func (c *Component) Known() bool { return c.Version != "" }

// Waits tells whether something of the component's installed version does not run yet.
func (c *Component) Waits() bool {
	return c.Running != "" && c.Running != c.Version || len(c.Holders) > 0
}

// Awaits says in words what must restart until the installed version runs, and "" where it runs.
func (c *Component) Awaits() string {
	switch {
	case c.Running != "" && c.Running != c.Version && c.Restarts == "host":
		return "the host"
	case c.Running != "" && c.Running != c.Version:
		return c.Restarts
	}
	var who []string
	for _, h := range c.Holders {
		who = append(who, h.String())
	}
	return strings.Join(who, ", ")
}

// Services are those that must restart until what is installed runs.
func (c *Component) Services() (out []string) {
	for _, h := range c.Holders {
		if h.Service != "" && !slices.Contains(out, h.Service) {
			out = append(out, h.Service)
		}
	}
	if len(out) == 0 && c.Restarts != "" && c.Restarts != "host" && c.Running != c.Version {
		out = []string{c.Restarts}
	}
	return out
}

// Title is the component with its device, as people say it: "fw:lorne-l25 (slot 2)".
func (c Component) Title() string {
	if c.Device == "" {
		return string(c.Key)
	}
	return string(c.Key) + " (" + c.Device + ")"
}
