package redfish

import (
	"cmp"
	"regexp"
	"slices"
	"strings"

	"yareharbour/core/estate"
)

// item is what is looked at of a member of the firmware inventory (DSP2046, SoftwareInventory).
type item struct {
	at                      string
	Id, Name, Version       string
	SoftwareId, Description string
	Status                  status
	RelatedItem             []ref
	Oem                     struct {
		YareHarbour struct{ RunningVersion string }
	}
}

// other are the words with which ids begin that name an image beside the one that runs: kept to go back to, or not
// active yet.
var other = regexp.MustCompile(`(?i)^(previous|rollback|backup|golden|recovery|available|staged|pending)[-_. ]`)

// own are the words that say nothing but that the image is the one installed.
var own = regexp.MustCompile(`(?i)^(installed|current|active)[-_. ]`)

// apart are what may stand between the parts of an id.
const apart = "-_. :/"

// component turns an inventory item into a component, and false where the item is an image that does not run and will
// not by a restart.
//
// The rule, which docs/hosts.md tells: blanks at either end count for nothing. An id that begins with a word as
// "Previous-" names no component. A word as "current-" is left out of an id, and so is the version, wherever it stands
// in it, with the number or word before it: what follows it is the name, and where nothing follows, what precedes. The
// part of the name before the first dot, in small letters, is the component's name, and the item's own name its model,
// with the device in parentheses where there are several; without them, what stands behind the dot is the device. names
// of the estate file go before all that, by the id as it stands, by the id without version, or by the item's name.
func (s item) component(names map[string]string) (estate.Component, bool) {
	id, name, version := strings.TrimSpace(s.Id), strings.TrimSpace(s.Name), strings.TrimSpace(s.Version)
	if other.MatchString(id) || strings.EqualFold(s.Status.State, "StandbySpare") ||
		strings.EqualFold(s.Status.State, "Absent") {
		return estate.Component{}, false
	}
	bare := unversioned(own.ReplaceAllString(id, ""), version)
	model, device, _ := strings.Cut(strings.TrimSuffix(name, ")"), " (")
	part, rest, _ := strings.Cut(bare, ".")
	if device == "" {
		device = rest
	}
	key := "fw:" + slug(part)
	if to := cmp.Or(names[id], names[bare], names[name]); to != "" {
		key, device, _ = strings.Cut(strings.TrimSuffix(to, ")"), " (")
	}
	kind, part, _ := strings.Cut(key, ":")
	c := estate.Component{Key: estate.NewKey(kind, part), Version: version, Model: strings.TrimSpace(model), Device: device,
		Class: class(s.RelatedItem, key)}
	if c.Version == "" { // DSP0268 lets Version be null
		c.Unread = "its BMC names no version"
	}
	if run := strings.TrimSpace(s.Oem.YareHarbour.RunningVersion); run != "" {
		c.Running, c.Restarts = run, "host"
	}
	return c, true
}

// unversioned leaves the version out of an id; one of a letter or two might as well be a number of the device.
func unversioned(id, version string) string {
	at := strings.Index(id, version)
	if len(version) < 3 || at < 0 || !bounded(id, at, at+len(version)) {
		return id
	}
	if after := strings.Trim(id[at+len(version):], apart); after != "" {
		return after
	}
	return strings.Trim(id[:at], apart)
}

// bounded tells whether id[from:to] is a part of its own, not a piece of a longer word or number.
func bounded(id string, from, to int) bool {
	return (from == 0 || strings.ContainsRune(apart, rune(id[from-1]))) &&
		(to == len(id) || strings.ContainsRune(apart, rune(id[to])))
}

var notInSlug = regexp.MustCompile(`[^a-z0-9]+`)

// slug makes a component's name of a part of an id: small letters and digits, with hyphens between.
func slug(s string) string {
	return strings.Trim(notInSlug.ReplaceAllString(strings.ToLower(s), "-"), "-")
}

// class is the kind of device that the links of an item lead to, and where they lead nowhere, what its name says.
func class(related []ref, key string) string {
	for _, r := range related {
		for _, k := range []struct{ in, class string }{
			{"/Drives/", "disk"}, {"/NetworkAdapters/", "network"}, {"/NetworkInterfaces/", "network"},
			{"/EthernetInterfaces/", "network"}, {"/Storage/", "storage"},
			{"/StorageControllers/", "storage"}, {"/PowerSupplies/", "power"}, {"/GraphicsControllers/", "graphics"},
			{"/Managers/", "bmc"}, {"/Bios", "bios"},
		} {
			if strings.Contains(r.ID+"/", k.in) {
				return k.class
			}
		}
	}
	words := strings.Split(strings.TrimPrefix(key, "fw:"), "-")
	for _, w := range []string{"bmc", "bios"} {
		if slices.Contains(words, w) {
			return w
		}
	}
	return "other"
}

// components turns an inventory into components. One that is listed twice under one name, with two versions, has none
// that could be trusted.
func components(items []item, names map[string]string) (out []estate.Component) {
	at := map[string]int{}
	for _, s := range items {
		c, ok := s.component(names)
		if !ok || c.Key == "fw:" {
			continue
		}
		i, twice := at[c.Title()]
		switch {
		case !twice:
			at[c.Title()] = len(out)
			out = append(out, c)
		case out[i].Version != c.Version:
			out[i].Unread = "its BMC lists it twice, as " + cmp.Or(out[i].Version, "no version") + " and as " +
				cmp.Or(c.Version, "no version") + "; give each its own name with names in the estate file"
			out[i].Version, out[i].Running, out[i].Restarts = "", "", ""
		}
	}
	return out
}
