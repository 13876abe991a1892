package libvirt

import (
	"cmp"
	"encoding/xml"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode"

	"yareharbour/core/estate"
	"yareharbour/format/bounds"
)

// domain is what is looked at of a domain's description (libvirt's "Domain XML format").
type domain struct {
	Kind  string `xml:"type,attr"`
	Name  string `xml:"name"`
	UUID  string `xml:"uuid"`
	Notes struct {
		Labels   string `xml:"urn:yareharbour:guest labels"`
		Snapshot *kept  `xml:"urn:yareharbour:snapshot snapshot"`
	} `xml:"metadata"`
	Memory amount `xml:"memory"`
	Given  amount `xml:"currentMemory"`
	Type   struct {
		Machine string `xml:"machine,attr"`
	} `xml:"os>type"`
	CPU struct {
		Mode  string `xml:"mode,attr"`
		Model string `xml:"model"`
	} `xml:"cpu"`
	Devices struct {
		Interfaces []struct {
			MAC struct {
				Address string `xml:"address,attr"`
			} `xml:"mac"`
			Source struct {
				Bridge  string `xml:"bridge,attr"`
				Network string `xml:"network,attr"`
			} `xml:"source"`
		} `xml:"interface"`
		Filesystems []struct {
			Target struct {
				Dir string `xml:"dir,attr"`
			} `xml:"target"`
		} `xml:"filesystem"`
		Disks    []disk    `xml:"disk"`
		Hostdevs []hostdev `xml:"hostdev"`
		Channels []struct {
			Target struct {
				Name  string `xml:"name,attr"`
				State string `xml:"state,attr"`
			} `xml:"target"`
		} `xml:"channel"`
	} `xml:"devices"`
}

// disk is a disk or a drive.
type disk struct {
	Device string `xml:"device,attr"` // "disk" where it does not say
	Driver struct {
		Type string `xml:"type,attr"`
	} `xml:"driver"`
	Source   source    `xml:"source"`
	Target   target    `xml:"target"`
	ReadOnly *struct{} `xml:"readonly"`
	Mirror   *struct {
		Job string `xml:"job,attr"`
	} `xml:"mirror"`
}

// drive tells whether it holds a medium that can be taken out.
func (d *disk) drive() bool { return d.Device == "cdrom" || d.Device == "floppy" }

// source is what a disk is made of.
type source struct {
	File   string `xml:"file,attr,omitempty"`
	Dev    string `xml:"dev,attr,omitempty"`
	Dir    string `xml:"dir,attr,omitempty"`
	Pool   string `xml:"pool,attr,omitempty"`
	Volume string `xml:"volume,attr,omitempty"`
	Name   string `xml:"name,attr,omitempty"`
}

// target is where a disk or drive is in the guest.
type target struct {
	Dev string `xml:"dev,attr"`
	Bus string `xml:"bus,attr,omitempty"`
}

// hostdev is a device of the host that is passed through.
type hostdev struct {
	Type    string `xml:"type,attr"`
	Address struct {
		Domain   string `xml:"domain,attr"`
		Bus      string `xml:"bus,attr"`
		Slot     string `xml:"slot,attr"`
		Function string `xml:"function,attr"`
		UUID     string `xml:"uuid,attr"`
	} `xml:"source>address"`
	Vendor struct {
		ID string `xml:"id,attr"`
	} `xml:"source>vendor"`
	Product struct {
		ID string `xml:"id,attr"`
	} `xml:"source>product"`
}

type amount struct {
	Unit  string `xml:"unit,attr"`
	Value uint64 `xml:",chardata"`
}

// mib is the amount in MiB. libvirt writes KiB, and accepts the units of its manual.
func (a amount) mib() int64 {
	bytes := map[string]float64{"b": 1, "bytes": 1, "KB": 1e3, "k": 1 << 10, "KiB": 1 << 10, "": 1 << 10, "MB": 1e6,
		"M": 1 << 20, "MiB": 1 << 20,
		"GB": 1e9, "G": 1 << 30, "GiB": 1 << 30, "TB": 1e12, "T": 1 << 40, "TiB": 1 << 40}[a.Unit]
	return int64(min(float64(a.Value)*bytes/(1<<20), 1<<40)) // no host has an exbibyte
}

// describe reads a description. One without a UUID names no guest that could be known again.
func describe(text string) (*domain, error) {
	var d domain
	if err := xml.NewDecoder(bounds.XML(strings.NewReader(text), bounds.Usual)).Decode(&d); err != nil {
		return nil, fmt.Errorf("its description: %w", err)
	}
	if strings.TrimSpace(d.UUID) == "" {
		return nil, errors.New("its description has no UUID")
	}
	return &d, nil
}

// guest is what the description says of a guest, but for its state.
func (d *domain) guest() estate.Guest {
	g := estate.Guest{ID: strings.ToLower(strings.TrimSpace(d.UUID)), Name: d.Name,
		Labels: strings.Fields(d.Notes.Labels), Machine: machine(d.Type.Machine)}
	if g.Load.MemoryMiB = d.Given.mib(); g.Load.MemoryMiB == 0 {
		g.Load.MemoryMiB = d.Memory.mib()
	}
	seen := map[string]bool{}
	for _, i := range d.Devices.Interfaces {
		if i.MAC.Address != "" {
			g.MACs = append(g.MACs, strings.ToLower(i.MAC.Address))
		}
		if n := i.Source.Bridge + i.Source.Network; i.Source.Network != "" || i.Source.Bridge != "" {
			if i.Source.Network != "" { // a running guest's interface names the bridge behind the network too
				n = i.Source.Network
			}
			if !seen[n] {
				seen[n] = true
				g.Networks = append(g.Networks, n)
			}
		}
	}
	for _, f := range d.Devices.Filesystems {
		g.Pins = append(g.Pins, "it shares a directory of its host ("+f.Target.Dir+")")
	}
	for _, x := range d.Devices.Disks {
		s := x.Source
		volume := s.Volume
		if s.Pool != "" {
			volume = s.Pool + "/" + s.Volume
		}
		if source := cmp.Or(s.File, s.Dev, s.Dir, s.Name, volume); source != "" {
			g.Disks = append(g.Disks, estate.Disk{Target: x.Target.Dev, Source: source, Media: x.drive(), Local: x.drive() &&
				strings.HasPrefix(s.Dev, "/dev/"), Format: x.Driver.Type})
		}
		if x.Mirror != nil { // a job goes on with it; libvirt moves no guest meanwhile
			g.Pins = append(g.Pins, fmt.Sprintf("its disk %s is being copied (%s)", x.Target.Dev,
				cmp.Or(x.Mirror.Job, "copy")))
		}
	}
	for _, h := range d.Devices.Hostdevs {
		g.Devices = append(g.Devices, h.String())
	}
	return g
}

// agent is the state of the channel to the guest's agent: "connected", "disconnected", or "" where there is none.
func (d *domain) agent() string {
	for _, c := range d.Devices.Channels {
		if c.Target.Name == "org.qemu.guest_agent.0" {
			return c.Target.State
		}
	}
	return ""
}

// String names the device as the host does.
func (h hostdev) String() string {
	num := func(s string) uint64 {
		n, _ := strconv.ParseUint(s, 0, 32) // hexadecimal with 0x, as libvirt writes it
		return n
	}
	switch {
	case h.Type == "pci":
		a := h.Address
		return fmt.Sprintf("%04x:%02x:%02x.%x", num(a.Domain), num(a.Bus), num(a.Slot), num(a.Function))
	case h.Type == "usb" && h.Vendor.ID != "":
		return "usb " + strings.TrimPrefix(h.Vendor.ID, "0x") + ":" + strings.TrimPrefix(h.Product.ID, "0x")
	case h.Address.UUID != "":
		return h.Type + " " + h.Address.UUID
	}
	return h.Type + " device"
}

// machine splits a machine type into its family and its version: "pc-q35-9.2" is q35 at 9.2. A distributor that counts
// for itself, as in "pc-q35-brae9.4.0", makes a family of its own: its numbers can't be compared with others'. A type
// without a version is of its family at a version nobody knows.
func machine(name string) estate.Inner {
	if name == "" {
		return estate.Inner{}
	}
	family, last := "", strings.TrimPrefix(name, "pc-")
	if i := strings.LastIndexByte(last, '-'); i >= 0 {
		family, last = last[:i], last[i+1:]
	}
	digits := strings.IndexFunc(last, unicode.IsDigit)
	switch {
	case family == "" || digits < 0:
		return estate.Inner{Name: strings.TrimPrefix(name, "pc-"),
			Unread: "the machine type " + name + " names no version"}
	case digits > 0:
		family += "-" + last[:digits]
	}
	return estate.Inner{Name: family, Version: last[digits:]}
}
