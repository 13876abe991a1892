// Package estate holds the nouns of the job: clusters of hosts, their guests, the components on them, and readings of
// them. It has no opinion about any of it: whether a version is the right one is asked in drift, whether a host may be
// touched in precheck, whether its guests can go elsewhere in fit.
package estate

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"
)

// Cluster is a set of hosts that can take each other's guests by live migration.
type Cluster struct {
	Name  string   `json:"name"`
	Hosts []string `json:"hosts"`
	// Act allows changes. Without it the hosts are only looked at.
	Act bool `json:"act"`
	// Reserve is how many hosts may fail at once while all guests still find a place.
	Reserve int `json:"reserve"`
	// Moves is how many migrations are made at once, and Patience how long a host is waited for beyond the usual before
	// a round stops; 0 where the estate does not say.
	Moves    int           `json:"moves,omitempty"`
	Patience time.Duration `json:"patience,omitempty"`
	// Bandwidth is what one migration may take, in MiB a second; 0: all that there is.
	Bandwidth int64 `json:"bandwidth,omitempty"`
	// Rules say which guests may be where, and with whom.
	Rules []Rule `json:"rules,omitempty"`
}

// Keep is what a rule keeps.
type Keep string

// What rules keep: guests apart, no two on one host; together, all on one host; inside or outside certain hosts.
const (
	Apart    Keep = "apart"
	Together Keep = "together"
	KeptIn   Keep = "inside"
	KeptOut  Keep = "outside"
	// After keeps guests from being started before others, and from being shut down after them.
	After Keep = "after"
)

// Keeps lists them.
var Keeps = []Keep{Apart, Together, KeptIn, KeptOut, After}

// Rule says where guests may be. Guests are named by name or UUID, with * for any run of characters in a name, or by a
// label of theirs behind #; one word may mean several.
type Rule struct {
	Keep   Keep     `json:"keep"`
	Guests []string `json:"guests"`
	Hosts  []string `json:"hosts,omitempty"`  // that guests are kept inside or outside of
	Prefer bool     `json:"prefer,omitempty"` // it gives way where it must
	// Of are the guests that those of After come after, and Wait is how long one of these runs before.
	Of   []string      `json:"of,omitempty"`
	Wait time.Duration `json:"wait,omitempty"`
	// Answers is an address, host:port, at which something must answer before.
	Answers string `json:"answers,omitempty"`
}

// Others is a rule that means the guests that those of After come after.
func (r *Rule) Others() *Rule { return &Rule{Guests: r.Of} }

// Means tells whether the rule speaks of the guest.
func (r *Rule) Means(g *Guest) bool {
	return slices.ContainsFunc(r.Guests, func(word string) bool {
		if label, is := strings.CutPrefix(word, "#"); is {
			return slices.Contains(g.Labels, label)
		}
		if word == g.ID {
			return true
		}
		if n := strings.IndexAny(word, `*?[\`); n > 0 && !strings.HasPrefix(g.Name, word[:n]) {
			return false // most names are told from a pattern by how they begin
		}
		ok, err := path.Match(word, g.Name)
		return err == nil && ok
	})
}

// Says puts the rule in words.
func (r *Rule) Says() string {
	says := "keep " + strings.Join(r.Guests, ", ") + " " + string(r.Keep)
	if of := slices.Concat(r.Hosts, r.Of); len(of) > 0 {
		says += " " + strings.Join(of, ", ")
	}
	if r.Prefer {
		says += ", if it can be"
	}
	return says
}

// Estate is all of it.
type Estate struct {
	Name     string    `json:"name"`
	Clusters []Cluster `json:"clusters"`
}

// Cluster returns the cluster of that name.
func (e Estate) Cluster(name string) (Cluster, bool) {
	i := slices.IndexFunc(e.Clusters, func(c Cluster) bool { return c.Name == name })
	if i < 0 {
		return Cluster{}, false
	}
	return e.Clusters[i], true
}

// ClusterOf returns the cluster that the host is in.
func (e Estate) ClusterOf(host string) (Cluster, bool) {
	i := slices.IndexFunc(e.Clusters, func(c Cluster) bool { return slices.Contains(c.Hosts, host) })
	if i < 0 {
		return Cluster{}, false
	}
	return e.Clusters[i], true
}

// Resources is an amount of what guests take and hosts give. CPU is in thousandths of a core.
type Resources struct {
	MemoryMiB int64 `json:"memory_mib"`
	CPU       int64 `json:"cpu_millicores"`
}

// Add returns the sum.
func (r Resources) Add(o Resources) Resources {
	return Resources{r.MemoryMiB + o.MemoryMiB, r.CPU + o.CPU}
}

// Sub returns the difference; it may be negative.
func (r Resources) Sub(o Resources) Resources {
	return Resources{r.MemoryMiB - o.MemoryMiB, r.CPU - o.CPU}
}

// Within tells whether r needs no more than o of anything.
func (r Resources) Within(o Resources) bool { return r.MemoryMiB <= o.MemoryMiB && r.CPU <= o.CPU }

// GuestState says whether a guest runs.
type GuestState string

// The states of a guest. One that is suspended, paused or crashed still holds its memory, and would lose what is in it
// if its host restarted.
const (
	Running   GuestState = "running"
	Off       GuestState = "off"
	Suspended GuestState = "suspended"
	Crashed   GuestState = "crashed"
)

// Guest is a virtual machine, seen on the host it is on. Its Load is what it is granted of memory and what it uses of
// CPU.
type Guest struct {
	// ID is its UUID: two hosts may have guests of one name, and a guest keeps its UUID wherever it goes.
	ID    string     `json:"id,omitempty"`
	Name  string     `json:"name"`
	State GuestState `json:"state"`
	Load  Resources  `json:"load"`
	// Networks that a host must have for the guest to run on it.
	Networks []string `json:"networks,omitempty"`
	// Storages that a host must reach, and Features that its processor and emulator must have, the type of machine
	// among them.
	Storages []string `json:"storages,omitempty"`
	Features []string `json:"features,omitempty"`
	// Disks are its disks and drives, as far as they are known.
	Disks []Disk `json:"disks,omitempty"`
	// Labels are words that its administrator gave it.
	Labels []string `json:"labels,omitempty"`
	// MACs are the addresses of its network adapters.
	MACs []string `json:"macs,omitempty"`
	// Takes is how many of the countable things of its host it takes, by kind, as huge pages or virtual functions.
	Takes map[string]int `json:"takes,omitempty"`
	// Devices are those of the host that are passed through to the guest. With one it can't move.
	Devices []string `json:"devices,omitempty"`
	// Pins are what else keeps it from moving, each in words, as "a backup of it is under way".
	Pins []string `json:"pins,omitempty"`
	// Snapshots keep it from moving as long as it has them.
	Snapshots []Snapshot `json:"snapshots,omitempty"`
	Since     time.Time  `json:"since"`           // when it was last started
	Saved     bool       `json:"saved,omitempty"` // it is off, and what was in its memory is on disk
	// Agent is the agent that answers inside it; Machine the type of machine that it was made as, as {"q35", "9.2"}.
	// Their zero values are not known.
	Agent   Inner `json:"agent,omitzero"`
	Machine Inner `json:"machine,omitzero"`
	// Emulator is the version of the emulator that it runs on; empty where that is not known.
	Emulator string `json:"emulator,omitempty"`
}

// Namesake tells whether two guests are called the same and are not the same: no host takes both.
func (g *Guest) Namesake(o *Guest) bool {
	return g.Name == o.Name && g.ID != o.ID && g.ID != "" && o.ID != ""
}

// UID is by what the guest is known: its UUID, and its name where a reading from before UUIDs were kept lacks that.
func (g *Guest) UID() string {
	if g.ID != "" {
		return g.ID
	}
	return g.Name
}

// Snapshot is a state of a guest that is kept beside it.
type Snapshot struct {
	Name string `json:"name"`
	// Round is the one that made it, and Until the day from which on it is removed; of somebody else's neither is known.
	Round string    `json:"round,omitempty"`
	Until time.Time `json:"until,omitzero"`
	// Claimed tells that the guest's own note has it and its disks do not: it is being made, or was removed by somebody.
	Claimed bool `json:"claimed,omitempty"`
}

// Due tells whether it is one of a round's, and its time is over.
func (s *Snapshot) Due(now time.Time) bool {
	return s.Round != "" && !s.Until.IsZero() && !now.Before(s.Until)
}

// Says puts it in words.
func (s *Snapshot) Says() string {
	if s.Round == "" {
		return "it has the snapshot " + s.Name
	}
	if s.Until.IsZero() {
		return "it has the snapshot of the round " + s.Round + ", and until when it is kept can't be read"
	}
	return fmt.Sprintf("it has the snapshot of the round %s, kept until %s", s.Round, s.Until.Format("Mon 2 Jan 15:04 MST"))
}

// Uncopied are reasons, a phrase each, why no snapshot of the guest can be made: its state is kept inside its disks, so
// each that it writes to must be of a form that has room for that (QEMU's qcow2), and nothing of it may be elsewhere.
func (g *Guest) Uncopied() (out []string) {
	for _, d := range g.Devices {
		out = append(out, "it holds "+d+" of its host")
	}
	out = append(out, g.Pins...)
	disks := 0
	for _, d := range g.Disks {
		switch {
		case d.Media:
		case d.Format == "qcow2":
			disks++
		case d.Format == "":
			out = append(out, fmt.Sprintf("of its disk %s it is not known of what form it is", d.Target))
		default:
			out = append(out, fmt.Sprintf("its disk %s is %s, which keeps no snapshots", d.Target, d.Format))
		}
	}
	if disks == 0 && len(out) == 0 {
		out = append(out, "it has no disk to keep it on")
	}
	return out
}

// Disk is a disk, or a drive for media, of a guest.
type Disk struct {
	Target string `json:"target"`           // its name in the guest
	Source string `json:"source,omitempty"` // a path on its host, or what else it is made of
	Media  bool   `json:"media,omitempty"`  // it is in a drive, and can be taken out
	Local  bool   `json:"local,omitempty"`  // only its host has it
	Format string `json:"format,omitempty"` // as QEMU calls it: "qcow2", "raw"
}

// Loosed is what of a guest's ties is loosed before it moves: media that can be taken out of their drives, and snapshots
// of rounds.
type Loosed struct{ Media, Snapshots bool }

// Ties are what ties the guest to its host but for what is loosed, a phrase each; none where nothing known keeps it from
// being migrated.
func (g *Guest) Ties(but Loosed) (out []string) {
	for _, d := range g.Devices {
		out = append(out, "it holds "+d+" of its host")
	}
	out = append(out, g.Pins...)
	for i := range g.Snapshots {
		if s := &g.Snapshots[i]; !s.Claimed && (s.Round == "" || !but.Snapshots) {
			out = append(out, s.Says())
		}
	}
	for _, d := range g.Disks {
		switch {
		case !d.Local || d.Media && but.Media:
		case d.Media:
			out = append(out, fmt.Sprintf("in its drive %s is %s, which only its host has", d.Target, d.Source))
		default:
			out = append(out, fmt.Sprintf("its disk %s is %s, which only its host has", d.Target, d.Source))
		}
	}
	return out
}

// Rooted tells whether the guest could not even be started on another host: a device or a disk of it is there alone.
func (g *Guest) Rooted() bool {
	return len(g.Devices) > 0 || slices.ContainsFunc(g.Disks, func(d Disk) bool { return d.Local && !d.Media })
}

// Holds tells whether the guest holds memory of its host.
func (g *Guest) Holds() bool { return g.State != Off }

// Inner is something of a guest that has a name and a version. A version that could not be read is empty, and Unread
// says why.
type Inner struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Unread  string `json:"unread,omitempty"`
}

// Components are what a guest has of its own that a clause can speak of: its agent and its machine type.
func (g *Guest) Components() (out []Component) {
	if g.Agent.Name != "" {
		out = append(out, Component{Key: Key("agent:" + g.Agent.Name), Device: g.Name, Version: g.Agent.Version,
			Unread: g.Agent.Unread})
	}
	if g.Machine.Name != "" {
		out = append(out, Component{Key: Key("machine:" + g.Machine.Name), Device: g.Name, Version: g.Machine.Version,
			Unread: g.Machine.Unread})
	}
	return out
}

// Emulated notes which component is the emulator, and on it which of the running guests are still on another version of
// it than the one installed.
func (r *Reading) Emulated(emulator Key) {
	r.Emulator = emulator
	for i := range r.Components {
		c := &r.Components[i]
		if c.Key != emulator {
			continue
		}
		for _, g := range r.Guests {
			if g.State == Running && g.Emulator != "" && g.Emulator != c.Version {
				c.Holders = append(c.Holders[:len(c.Holders):len(c.Holders)], Holder{Guest: g.Name, Runs: g.Emulator})
			}
		}
	}
}
