package estate

import (
	"cmp"
	"fmt"
	"maps"
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
	// ConditionItems are the clock, room, the root, links, arrays and certificates.
	ConditionItems SectionName = "condition"
)

// SectionNames lists every section in the order in which they are read and shown.
var SectionNames = []SectionName{Host, Packages, Drivers, FirmwareItems, GuestList, HealthItems, BMCState,
	SettingItems, ConditionItems}

// Section says when and from where a part of a reading was taken. One with an Err is unread: nothing it would hold may
// be taken for absent, and nothing for fine. What the reading has of an unread section is what was last known, and Held
// says since when.
type Section struct {
	Name   SectionName `json:"name"`
	At     time.Time   `json:"at"` // of the look, which may have failed
	Source string      `json:"source"`
	Err    string      `json:"error,omitempty"`
	// Partial says why some of the section could not be read while the rest was: what is there is as it was read, and
	// nothing may be taken for absent.
	Partial string `json:"partial,omitempty"`
	// Hidden is how many running processes could not be looked into: whether they still run what was replaced is not
	// known. Of the packages.
	Hidden int `json:"hidden,omitempty"`
	// Held and HeldFrom are the time and source at which the values were read that stand here although the last look
	// failed; zero where there are none.
	Held     time.Time `json:"held,omitzero"`
	HeldFrom string    `json:"held_from,omitempty"`
}

// Unseen says what is not known of a section that was read; "" where nothing is.
func (s Section) Unseen() string {
	switch s.Hidden {
	case 0:
		return ""
	case 1:
		return "1 process may not be looked into: whether what was replaced still runs there is not known"
	}
	return fmt.Sprintf("%d processes may not be looked into: whether what was replaced still runs there is not known",
		s.Hidden)
}

// Whole tells whether all of the section was read: only then is what is not in it absent.
func (s Section) Whole() bool { return s.Err == "" && s.Partial == "" }

// Known returns when and from where the values were read that stand in the section, and the zero time where none were.
func (s Section) Known() (time.Time, string) {
	if s.Err == "" {
		return s.At, s.Source
	}
	return s.Held, s.HeldFrom
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
	// why guests could come all the same; empty while the host itself refuses them
	Loose string `json:"loose,omitempty"`
}

// RunsSomewhere tells whether a guest is known to run on a host.
func RunsSomewhere(uid string, readings map[string]*Reading) bool {
	for _, r := range readings {
		if r.Read(GuestList) && slices.ContainsFunc(r.Guests, func(g Guest) bool {
			return g.UID() == uid && g.State == Running
		}) {
			return true
		}
	}
	return false
}

// Find is the guest with that UID on the host that it is defined on; where several have it, on one where it is not off, and
// else on the first by name. Where it is found on none, known tells whether all hosts were read: one that is off may have it
// too.
func Find(uid string, readings map[string]*Reading) (host string, g *Guest, known bool) {
	known = true
	for _, h := range slices.Sorted(maps.Keys(readings)) {
		r := readings[h]
		if !r.Read(GuestList) {
			known = false
			continue
		}
		i := slices.IndexFunc(r.Guests, func(g Guest) bool { return g.UID() == uid })
		if i >= 0 && (g == nil || g.State == Off && r.Guests[i].State != Off) {
			host, g = h, &r.Guests[i]
		}
	}
	return host, g, known || g != nil
}

// Identity tells one closing from another: its round, or, of one outside any round, who closed it when.
func (m *Mark) Identity() string {
	if m.Round != "" {
		return m.Round
	}
	return m.By + " at " + m.At.UTC().Format(time.RFC3339)
}

// Refuses tells whether a host with this guard takes no order of that round and epoch: the epoch is lower than one that
// it knows, or it is another round's. A lease runs one round, so two rounds of one epoch come of two stores that do not
// know of each other.
func (g Guard) Refuses(round string, epoch int64) bool {
	return epoch < g.Epoch || epoch == g.Epoch && g.Round != "" && g.Round != round
}

// Health is one thing that a host or its BMC reports about itself.
type Health struct {
	Item   string `json:"item"`
	OK     bool   `json:"ok"`
	Detail string `json:"detail,omitempty"`
	// Unknown tells that how it stands could not be known: it is not OK, and nothing is known to be wrong with it.
	Unknown bool `json:"unknown,omitempty"`
}

// BMC is the state of the management controller.
type BMC struct {
	None  bool   `json:"none,omitempty"`  // none is named for the host: not even its power can be told
	Power string `json:"power,omitempty"` // "On" or "Off", as Redfish says it
	// Waiting are the tasks that wait or run.
	Waiting []BMCTask `json:"waiting,omitempty"`
	// Tasks are the ids of all tasks that it lists, ended ones too; Reset is when it last started itself, zero where it
	// does not say.
	Tasks []string  `json:"tasks,omitempty"`
	Reset time.Time `json:"reset,omitzero"`
	// Drives are its virtual drives that take an image of a CD or DVD, and Media what is in them: the addresses of images.
	Drives int      `json:"drives,omitempty"`
	Media  []string `json:"media,omitempty"`
	// BootOnce is what the host is to start from beside its usual order, as Redfish says it; empty for nothing.
	BootOnce string `json:"boot_once,omitempty"`
}

// Inserted tells whether the image of that address is in a drive; without an address any.
func (b *BMC) Inserted(url string) bool {
	if url == "" {
		return len(b.Media) > 0
	}
	return slices.Contains(b.Media, url)
}

// BMCTask is work that a BMC has taken on and not ended.
type BMCTask struct {
	ID    string    `json:"id"`
	Says  string    `json:"says,omitempty"` // as the BMC names it, and how it stands
	Since time.Time `json:"since,omitzero"` // zero where it does not say
}

// Waits are the ids of the tasks that wait or run.
func (b *BMC) Waits() (ids []string) {
	for _, t := range b.Waiting {
		ids = append(ids, t.ID)
	}
	return ids
}

// Guard is the highest order that a host has taken. It refuses lower epochs, so that whoever lost the lease of its
// cluster can do nothing to it any more; and it is a second place that knows how long the round's journal is.
type Guard struct {
	Round string `json:"round,omitempty"`
	Epoch int64  `json:"epoch,omitempty"`
	Entry int64  `json:"entry,omitempty"` // of the round's journal, in which the act was intended
	Sum   string `json:"sum,omitempty"`   // that the entry carries
}

// Owed is what an order has done to a guest and what is still to be undone, as the host's own ledger has it: it was
// written there before the order was carried out, and outlives the journal.
type Owed struct {
	Kind    string `json:"kind"` // of the act
	Round   string `json:"round"`
	Guest   string `json:"guest"`
	GuestID string `json:"guest_id"`
}

// Staged is a payload that waits on a host to be put in.
type Staged struct {
	SHA256 string `json:"sha256"`
	Kind   string `json:"kind"` // of the components that come in such files, as "deb"
	Size   int64  `json:"size"` // in bytes
}

// Holds tells whether a payload with that hash waits on the host.
func (r *Reading) Holds(sha256 string) bool {
	return slices.ContainsFunc(r.Staged, func(s Staged) bool { return s.SHA256 == sha256 })
}

// Reading is what was found on one host at one time. Its zero value is the reading of a host that was never read.
type Reading struct {
	Host     string    `json:"host"`
	Sections []Section `json:"sections"`
	Release  string    `json:"release,omitempty"` // the platform's own name for itself
	// System is the distribution and its release in the words of os-release(5), ID and VERSION_ID: "debian 12". What it
	// does not say is left out.
	System   string    `json:"system,omitempty"`
	Build    string    `json:"build,omitempty"` // the build or image that it was installed from, where it names one
	Kernel   Kernel    `json:"kernel"`
	BootID   string    `json:"boot_id,omitempty"`
	Machine  string    `json:"machine,omitempty"` // a hash of the installation's machine-id(5); empty where it has none
	BootedAt time.Time `json:"booted_at,omitzero"`
	Hardware Hardware  `json:"hardware"`
	Capacity Resources `json:"capacity"`
	Networks []string  `json:"networks,omitempty"`
	Storages []string  `json:"storages,omitempty"` // that it reaches
	Features []string  `json:"features,omitempty"` // of its processor and emulator, types of machine among them
	// Counts are what it has of countable things, by kind, whether they are taken or not.
	Counts map[string]int `json:"counts,omitempty"`
	Offer  Offer          `json:"offer,omitzero"`
	// the component that guests run on; empty where that is not known
	Emulator   Key         `json:"emulator,omitempty"`
	Closed     *Mark       `json:"closed,omitempty"`
	Guard      Guard       `json:"guard,omitzero"`
	Owed       []Owed      `json:"owed,omitempty"`
	Staged     []Staged    `json:"staged,omitempty"`
	Unready    string      `json:"unready,omitempty"` // why it takes no orders; empty where it does
	Components []Component `json:"components"`        // sorted by key, then device
	Guests     []Guest     `json:"guests"`
	Health     []Health    `json:"health,omitempty"`
	BMC        BMC         `json:"bmc"`
	// Board are the settings of the host's own firmware, by the names that its BMC gives them; nil where it tells none.
	// They belong to the section of the firmware.
	Board     map[string]string `json:"board,omitempty"`
	Condition Condition         `json:"condition,omitzero"`
}

// Offer is what a host's libvirt offers guests beside what is read of the host itself; it belongs to the section of the
// guests.
type Offer struct {
	Networks []string `json:"networks,omitempty"`
	Storages []string `json:"storages,omitempty"`
	Features []string `json:"features,omitempty"`
}

// Offers are the networks, storages and features that guests find on the host.
func (r *Reading) Offers() Offer {
	return Offer{union(r.Networks, r.Offer.Networks), union(r.Storages, r.Offer.Storages),
		union(r.Features, r.Offer.Features)}
}

func union(a, b []string) []string {
	if len(b) == 0 {
		return a
	}
	out := slices.Concat(a, b)
	slices.Sort(out)
	return slices.Compact(out)
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

// Off tells whether the host is proven to run nothing: neither it nor its libvirt answers, and its BMC said at the same
// look that its power is off. Without that proof a host that does not answer counts as running its guests.
func (r *Reading) Off() bool {
	host, board := r.Section(Host), r.Section(BMCState)
	return host.Err != "" && r.Section(GuestList).Err != "" && board.Err == "" && r.BMC.Power == "Off" &&
		!board.At.Before(host.At.Add(-sameLook))
}

// sameLook is how far apart the ends of one look at a host and its BMC may be: a host that does not answer is waited
// for.
const sameLook = 30 * time.Second

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

func (r *Reading) sorted() {
	if !slices.IsSortedFunc(r.Components, byPlace) {
		r.Sort()
	}
}

func byPlace(a, b Component) int {
	return cmp.Or(strings.Compare(string(a.Key), string(b.Key)), strings.Compare(a.Device, b.Device))
}

// Read tells whether the section was read at the last look.
func (r *Reading) Read(name SectionName) bool { return r.Section(name).Err == "" }

// Over returns the reading laid over what was known before, section by section. What was read now stands with its own
// time and source. A section that could not be read now is unread, and holds what was last known of it, with the time
// and source of that. One that was not asked for is as it was. Neither reading is changed.
func (r *Reading) Over(last *Reading) *Reading {
	if last == nil {
		return r
	}
	out := *r
	out.Sections = nil
	out.Components = nil
	from := map[SectionName]*Reading{}
	for _, name := range SectionNames {
		now, asked := r.section(name)
		was, had := last.section(name)
		from[name] = r
		switch {
		case asked && now.Err == "":
		case asked:
			if now.Held, now.HeldFrom = was.Known(); had && !now.Held.IsZero() {
				from[name] = last
			}
		case had:
			now, from[name] = was, last
		default:
			continue
		}
		out.SetSection(now)
	}
	for _, c := range r.Components {
		if from[c.Key.Section()] == r {
			out.Components = append(out.Components, c)
		}
	}
	r.sorted()
	for _, c := range last.Components {
		name := c.Key.Section()
		if from[name] == last {
			out.Components = append(out.Components, c)
		} else if partial := r.Section(name).Partial; partial != "" {
			if _, now := r.Component(c.Key, c.Device); !now {
				out.Components = append(out.Components,
					Component{Key: c.Key, Device: c.Device, Model: c.Model, Unread: partial,
						Last: cmp.Or(c.Version, c.Last)})
			}
		}
	}
	if f := from[Host]; f == last {
		out.Release, out.System, out.Build, out.Kernel, out.BootID, out.BootedAt, out.Machine = f.Release, f.System, f.Build,
			f.Kernel, f.BootID, f.BootedAt, f.Machine
		out.Capacity, out.Networks, out.Closed, out.Guard, out.Owed, out.Staged, out.Unready = f.Capacity,
			f.Networks, f.Closed, f.Guard, f.Owed, f.Staged, f.Unready
		out.Storages, out.Features, out.Counts = f.Storages, f.Features, f.Counts
	}
	out.Hardware = r.Hardware.or(last.Hardware)
	out.Condition = from[ConditionItems].Condition
	if from[ConditionItems] == r && r.Section(ConditionItems).Partial != "" {
		out.Condition = r.Condition.or(last.Condition)
	}
	out.Emulator = cmp.Or(r.Emulator, last.Emulator)
	out.Board = from[FirmwareItems].Board
	out.Offer = from[GuestList].Offer
	out.Guests, out.Health, out.BMC = from[GuestList].Guests, from[HealthItems].Health, from[BMCState].BMC
	if _, asked := r.section(BMCState); asked {
		out.BMC.None = r.BMC.None
	}
	out.Sort()
	return &out
}

// or fills in what the hardware was last known to be where this look could not tell: a machine does not change its
// maker.
func (h Hardware) or(o Hardware) Hardware {
	return Hardware{Maker: cmp.Or(h.Maker, o.Maker), Model: cmp.Or(h.Model, o.Model),
		Serial: cmp.Or(h.Serial, o.Serial)}
}

func (r *Reading) section(name SectionName) (Section, bool) {
	i := slices.IndexFunc(r.Sections, func(s Section) bool { return s.Name == name })
	if i < 0 {
		return Section{Name: name}, false
	}
	return r.Sections[i], true
}

// Present returns the components whose section was read at the last look. What is only last known of the others is left
// out.
func (r *Reading) Present() []Component {
	read := map[SectionName]bool{}
	for _, s := range SectionNames {
		read[s] = r.Read(s)
	}
	return slices.DeleteFunc(slices.Clone(r.Components), func(c Component) bool { return !read[c.Key.Section()] })
}

// Sort brings sections, components and guests into the order that the rest of the program relies on.
func (r *Reading) Sort() {
	slices.SortStableFunc(r.Sections, func(a, b Section) int {
		return slices.Index(SectionNames, a.Name) - slices.Index(SectionNames, b.Name)
	})
	slices.SortStableFunc(r.Components, byPlace)
	slices.SortFunc(r.Guests, func(a, b Guest) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.ID, b.ID))
	})
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

// Used is what the guests take that are not off: those that run, and those that are suspended and hold their memory.
func (r *Reading) Used() Resources {
	var sum Resources
	for i := range r.Guests {
		if r.Guests[i].Holds() {
			sum = sum.Add(r.Guests[i].Load)
		}
	}
	return sum
}

// Holding returns the guests that hold memory of the host: an obstacle for its restart, each of them. One that is off
// has none.
func (r *Reading) Holding() []Guest {
	if r.Off() {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(r.Guests), func(g Guest) bool { return !g.Holds() })
}

// Takes tells whether guests may be sent to the host: it answers, its guests are known, and it is not closed.
func (r *Reading) Takes() bool { return r.Reached() && r.Read(GuestList) && r.Closed == nil }

// ServedBy tells whether the guest serves storage that the host itself has mounted: one of its network adapters answers at
// the server's address.
func (r *Reading) ServedBy(g *Guest) bool {
	return slices.ContainsFunc(r.Condition.Servers, func(s Server) bool { return s.MAC != "" && slices.Contains(g.MACs, s.MAC) })
}

// Crowd counts guests: all that are there, and those of them that run. It is counted so everywhere.
type Crowd struct{ All, Running int }

// Crowd counts the guests of the host.
func (r *Reading) Crowd() Crowd { return Crowd{len(r.Guests), len(r.RunningGuests())} }

// Plus adds other guests to these.
func (c Crowd) Plus(o Crowd) Crowd { return Crowd{c.All + o.All, c.Running + o.Running} }

// Says puts it in words: those that do not run are told where there are any.
func (c Crowd) Says() string {
	text := fmt.Sprintf("%d guests", c.All)
	if c.All == 1 {
		text = "1 guest"
	}
	if c.Running < c.All {
		text += fmt.Sprintf(", %d running", c.Running)
	}
	return text
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
