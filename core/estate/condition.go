package estate

import (
	"cmp"
	"fmt"
	"strings"
	"time"
)

// Condition is how a host stands in what has no version: its clock, its room, its root, its links, its certificates and
// its arrays.
type Condition struct {
	// Ahead is how far the host's clock is ahead of the one of whoever read it; behind where it is negative. What is
	// less than ClockGrain is told as none.
	Ahead time.Duration `json:"ahead,omitempty"`
	// Root is the type of its root file system; Volatile tells that what is written there does not survive a restart.
	Root         string        `json:"root,omitempty"`
	Volatile     bool          `json:"volatile,omitempty"`
	Space        []Space       `json:"space,omitempty"` // of local file systems
	Bonds        []Bond        `json:"bonds,omitempty"`
	Arrays       []Array       `json:"arrays,omitempty"`
	Certificates []Certificate `json:"certificates,omitempty"`
	Wear         []Wear        `json:"wear,omitempty"`
	Servers      []Server      `json:"servers,omitempty"`
}

// Wear is how much of its life a disk of a kind that wears has used, in percent of what it was made to bear; it may be
// over 100.
type Wear struct {
	Name   string `json:"name"`
	Used   int    `json:"used_percent"`
	Unread string `json:"unread,omitempty"` // why that could not be known; empty where it could
}

// Server is where a file system comes from that is mounted over the network.
type Server struct {
	At      string `json:"at"` // where it is mounted
	Address string `json:"address"`
	MAC     string `json:"mac,omitempty"` // of the server, where it is a neighbour
}

// ClockGrain is how exactly a clock is read: the way to a host takes time.
const ClockGrain = 5 * time.Second

// Space is the room on a file system, rounded down: readings that say the same are kept once.
type Space struct {
	Path    string `json:"path"`
	FreeMiB int64  `json:"free_mib"`
	SizeMiB int64  `json:"size_mib"`
}

// or fills in what a look did not tell that told only a part with what was last known.
func (c Condition) or(last Condition) Condition {
	c.Ahead = cmp.Or(c.Ahead, last.Ahead)
	if c.Root == "" {
		c.Root, c.Volatile = last.Root, last.Volatile
	}
	if c.Space == nil {
		c.Space = last.Space
	}
	if c.Bonds == nil {
		c.Bonds = last.Bonds
	}
	if c.Arrays == nil {
		c.Arrays = last.Arrays
	}
	if c.Certificates == nil {
		c.Certificates = last.Certificates
	}
	if c.Wear == nil {
		c.Wear = last.Wear
	}
	if c.Servers == nil {
		c.Servers = last.Servers
	}
	return c
}

// Under is the file system that a path is on; the zero value where that is not known.
func (c *Condition) Under(path string) (best Space) {
	for _, s := range c.Space {
		if (s.Path == "/" || path == s.Path || len(path) > len(s.Path) && path[:len(s.Path)+1] == s.Path+"/") &&
			len(s.Path) >= len(best.Path) {
			best = s
		}
	}
	return best
}

// Bond is several links that stand in for each other.
type Bond struct {
	Name  string `json:"name"`
	Links []Link `json:"links"`
}

// Up are the names of its links that are up, and of those that are not.
func (b *Bond) Up() (up, down []string) {
	for _, l := range b.Links {
		if l.Up {
			up = append(up, l.Name)
		} else {
			down = append(down, l.Name)
		}
	}
	return up, down
}

// Link is a network adapter's port.
type Link struct {
	Name string `json:"name"`
	Up   bool   `json:"up"`
}

// Array is storage made of several devices.
type Array struct {
	Name   string `json:"name"`
	Whole  bool   `json:"whole"`            // every device is there, and in sync
	Detail string `json:"detail,omitempty"` // what is not
}

// Certificate is one that the host shows to others, or trusts.
type Certificate struct {
	Name   string    `json:"name"`
	Until  time.Time `json:"until"`
	Unread string    `json:"unread,omitempty"` // why it could not be read; empty where it could
}

// Says tells all of it, a thing a line.
func (c *Condition) Says() (out []Health) {
	add := func(item string, ok bool, format string, args ...any) {
		out = append(out, Health{Item: item, OK: ok, Detail: fmt.Sprintf(format, args...)})
	}
	unknown := func(item, why string) {
		out = append(out, Health{Item: item, Detail: "not known: " + why, Unknown: true})
	}
	if c.Root != "" {
		add("root", !c.Volatile, "%s%s", c.Root, map[bool]string{true: ", gone after a restart"}[c.Volatile])
	}
	if c.Ahead == 0 {
		add("clock", true, "agrees")
	} else {
		add("clock", false, "%s ahead", c.Ahead)
	}
	for _, s := range c.Space {
		add("room on "+s.Path, s.SizeMiB == 0 || s.FreeMiB*20 >= s.SizeMiB, "%d of %d MiB free", s.FreeMiB, s.SizeMiB)
	}
	for _, b := range c.Bonds {
		var links []string
		for _, l := range b.Links {
			links = append(links, l.Name+" "+map[bool]string{true: "up", false: "down"}[l.Up])
		}
		up, _ := b.Up()
		add(b.Name, len(up) > 1, "%s", strings.Join(links, ", "))
	}
	for _, a := range c.Arrays {
		add(a.Name, a.Whole, "%s", map[bool]string{true: "whole", false: a.Detail}[a.Whole])
	}
	for _, w := range c.Wear {
		if w.Unread != "" {
			unknown("wear of "+w.Name, w.Unread)
			continue
		}
		add("wear of "+w.Name, w.Used < 90, "%d %% of its life is used", w.Used)
	}
	for _, s := range c.Servers {
		add(s.At, true, "from %s", s.Address)
	}
	for _, x := range c.Certificates {
		if x.Unread != "" {
			unknown(x.Name, x.Unread)
			continue
		}
		add(x.Name, true, "until %s", x.Until.Format("2 Jan 2006"))
	}
	return out
}
