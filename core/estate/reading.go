package estate

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// SectionName names a part of a reading that is read by itself and can fail by itself.
type SectionName string

// The sections of a reading.
const (
	Host          SectionName = "host" // kernel, boot, hardware, capacity, networks, mark
	Packages      SectionName = "packages"
	Drivers       SectionName = "drivers"
	FirmwareItems SectionName = "firmware"
	GuestList     SectionName = "guests"
	HealthItems   SectionName = "health"
	BMCState      SectionName = "bmc"
	SettingItems  SectionName = "settings"
)

// SectionNames lists every section in the order in which they are read and shown.
var SectionNames = []SectionName{Host, Packages, Drivers, FirmwareItems, GuestList, HealthItems, BMCState, SettingItems}

// Section says when and from where a part of a reading was taken. One with an Err is unread: nothing it would hold may
// be taken for absent, and nothing for fine.
type Section struct {
	Name   SectionName `json:"name"`
	At     time.Time   `json:"at"`
	Source string      `json:"source"`
	Err    string      `json:"error,omitempty"`
}

// Kernel is the kernel that runs and the newest one installed.
type Kernel struct {
	Running   string `json:"running"`
	Installed string `json:"installed"`
}

// Hardware is what the host is made of, as its firmware tells.
type Hardware struct {
	Maker  string `json:"maker,omitempty"`
	Model  string `json:"model,omitempty"`
	Serial string `json:"serial,omitempty"`
}

// Mark is what a closed host carries: who closed it, for which round, and why.
type Mark struct {
	By     string    `json:"by"`
	Round  string    `json:"round,omitempty"` // empty when a person closed it outside any round
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Health is one thing that a host or its BMC reports about itself.
type Health struct {
	Item   string `json:"item"`
	OK     bool   `json:"ok"`
	Detail string `json:"detail,omitempty"`
}

// BMC is the state of the management controller.
type BMC struct {
	Power string `json:"power,omitempty"` // "On" or "Off", as Redfish says it
	Queue int    `json:"queue"`           // tasks that wait or run
}

// Reading is what was found on one host at one time. Its zero value is the reading of a host that was never read.
type Reading struct {
	Host       string      `json:"host"`
	Sections   []Section   `json:"sections"`
	Release    string      `json:"release,omitempty"` // the platform's own name for itself
	Kernel     Kernel      `json:"kernel"`
	BootID     string      `json:"boot_id,omitempty"`
	BootedAt   time.Time   `json:"booted_at,omitzero"`
	Hardware   Hardware    `json:"hardware"`
	Capacity   Resources   `json:"capacity"`
	Networks   []string    `json:"networks,omitempty"`
	Closed     *Mark       `json:"closed,omitempty"`
	Components []Component `json:"components"` // sorted by key, then device
	Guests     []Guest     `json:"guests"`
	Health     []Health    `json:"health,omitempty"`
	BMC        BMC         `json:"bmc"`
}

// Section returns the section of that name; a section that is not there is unread.
func (r *Reading) Section(name SectionName) Section {
	for _, s := range r.Sections {
		if s.Name == name {
			return s
		}
	}
	return Section{Name: name, Err: "never read"}
}

// SetSection records that a section was read, replacing what was said of it before.
func (r *Reading) SetSection(s Section) {
	for i := range r.Sections {
		if r.Sections[i].Name == s.Name {
			r.Sections[i] = s
			return
		}
	}
	r.Sections = append(r.Sections, s)
}

// Unread returns why the section can't be relied on at the time now: never read, failed, or older than maxAge. It
// returns "" where it can. A maxAge of zero means any age will do.
func (r *Reading) Unread(name SectionName, now time.Time, maxAge time.Duration) string {
	s := r.Section(name)
	switch {
	case s.Err != "":
		return s.Err
	case maxAge > 0 && now.Sub(s.At) > maxAge:
		return fmt.Sprintf("read %s ago, which is older than %s", now.Sub(s.At).Round(time.Minute), maxAge)
	}
	return ""
}

// Reached tells whether the host itself answered.
func (r *Reading) Reached() bool { return r.Section(Host).Err == "" }

// At is the time of the oldest section that was read, and the zero time where none was.
func (r *Reading) At() time.Time {
	var oldest time.Time
	for _, s := range r.Sections {
		if s.Err == "" && (oldest.IsZero() || s.At.Before(oldest)) {
			oldest = s.At
		}
	}
	return oldest
}

// Tried is the time of the newest section, read or not.
func (r *Reading) Tried() time.Time {
	var newest time.Time
	for _, s := range r.Sections {
		if s.At.After(newest) {
			newest = s.At
		}
	}
	return newest
}

// Carrying returns the reading with what was last known of the host itself where it does not answer: its guests count as running
// on it, and its hardware has not changed. Its sections stay unread. A host that answers speaks for itself.
func (r *Reading) Carrying(last *Reading) *Reading {
	if r.Reached() || last == nil {
		return r
	}
	c := *last
	c.Sections, c.BMC, c.Health = r.Sections, r.BMC, r.Health
	return &c
}

// Sort brings components and guests into the order that the rest of the program relies on.
func (r *Reading) Sort() {
	slices.SortFunc(r.Components, func(a, b Component) int {
		if c := strings.Compare(string(a.Key), string(b.Key)); c != 0 {
			return c
		}
		return strings.Compare(a.Device, b.Device)
	})
	slices.SortFunc(r.Guests, func(a, b Guest) int { return strings.Compare(a.Name, b.Name) })
}

// Of returns the components with that key; there are several where a host has several devices alike. The reading must
// be sorted.
func (r *Reading) Of(key Key) []Component {
	i, ok := slices.BinarySearchFunc(r.Components, key, func(c Component, k Key) int {
		return strings.Compare(string(c.Key), string(k))
	})
	if !ok {
		return nil
	}
	end := i
	for end < len(r.Components) && r.Components[end].Key == key {
		end++
	}
	return r.Components[i:end]
}

// Component returns the component with that key and device.
func (r *Reading) Component(key Key, device string) (Component, bool) {
	for _, c := range r.Of(key) {
		if c.Device == device {
			return c, true
		}
	}
	return Component{}, false
}

// Models returns the models of the devices in the host, sorted.
func (r *Reading) Models() []string {
	var out []string
	for i := range r.Components {
		if m := r.Components[i].Model; m != "" && !slices.Contains(out, m) {
			out = append(out, m)
		}
	}
	slices.Sort(out)
	return out
}

// Versions returns the versions of a component on the host, one for each device.
func (r *Reading) Versions(key Key) (out []string) {
	for _, c := range r.Of(key) {
		out = append(out, c.Version)
	}
	return out
}

// Used is what the running guests take.
func (r *Reading) Used() Resources {
	var sum Resources
	for _, g := range r.Guests {
		if g.State == Running {
			sum = sum.Add(g.Load)
		}
	}
	return sum
}

// RunningGuests returns the guests that run.
func (r *Reading) RunningGuests() []Guest {
	var out []Guest
	for _, g := range r.Guests {
		if g.State == Running {
			out = append(out, g)
		}
	}
	return out
}
