// Package pldm reads the headers of PLDM firmware update packages (DMTF DSP0267, versions 1.0 to 1.3): which devices a
// package is for, and which versions of what it holds. It does not read the images themselves.
package pldm

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"strings"
	"time"
	"unicode/utf16"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// identifiers that packages of each format revision begin with (DSP0267, table "Package header").
var identifiers = map[string]int{
	"f018878ccb7d49439800a02f059aca02": 1,
	"1244d2648d7d4718a030fc8a56587d5a": 2,
	"3119ce2fe80a4a99af6d46f8b121f6bf": 3,
	"7b291c996db64208801b02026e463c78": 4,
}

// IsPackage tells whether a file that begins so is a PLDM package.
func IsPackage(head []byte) bool {
	return len(head) >= 16 && identifiers[hex.EncodeToString(head[:16])] > 0
}

// Descriptor identifies a device: the type as in DSP0267, table "Descriptor identifiers", and its data.
type Descriptor struct {
	Type uint16
	Data []byte
}

// Descriptor types that are told by name.
const (
	PCIVendor      = 0x0000
	IANAEnterprise = 0x0001
	UUID           = 0x0002
	PCIDevice      = 0x0100
	PCISubVendor   = 0x0101
	PCISubDevice   = 0x0102
)

// Device is a device that the package is for, and which of its images that device takes.
type Device struct {
	Set         string // the version of its set of images
	Descriptors []Descriptor
	Images      []int // indices into Package.Images
}

// Name is how the device is written: "f0f0:0025" for a PCI device, "enterprise 32473" for one known by its maker's
// number; "" where it can't be told.
func (d Device) Name() string {
	at := map[uint16][]byte{}
	for _, x := range d.Descriptors {
		at[x.Type] = x.Data
	}
	vendor, device := at[PCIVendor], at[PCIDevice]
	switch {
	case len(vendor) == 2 && len(device) == 2:
		return fmt.Sprintf("%04x:%04x", binary.LittleEndian.Uint16(vendor), binary.LittleEndian.Uint16(device))
	case len(at[IANAEnterprise]) == 4:
		return fmt.Sprintf("enterprise %d", binary.LittleEndian.Uint32(at[IANAEnterprise]))
	case len(at[UUID]) == 16:
		return hex.EncodeToString(at[UUID])
	}
	return ""
}

// Image is a component image: what PLDM calls a component.
type Image struct {
	Identifier uint16
	Version    string
	Size       int64 // bytes
	// Activation holds the ways in which the image can begin to run, as bits: 0 automatic, 1 self-contained, 2
	// medium-specific reset, 3 system reboot, 4 DC power cycle, 5 AC power cycle.
	Activation uint16
	// Offset is where it lies in the package, in bytes.
	Offset int64
}

// Package is a package's header.
type Package struct {
	Revision int
	Made     time.Time
	Version  string
	Devices  []Device
	Images   []Image

	header  int64  // its size in bytes
	payload uint32 // the payload's CRC-32; told since revision 4 only
}

// Check holds a whole package against what its header says: every image lies within it, and the payload has the
// checksum that is stated.
func (p Package) Check(body []byte) error {
	for n, i := range p.Images {
		if i.Offset < p.header || i.Size < 0 || i.Offset+i.Size > int64(len(body)) {
			return fmt.Errorf("%w: image %d should lie from byte %d to %d, and the package has %d: it is cut short "+
				"or damaged", ErrPackage, n+1, i.Offset, i.Offset+i.Size, len(body))
		}
	}
	if p.Revision >= 4 {
		if got := crc32.ChecksumIEEE(body[p.header:]); got != p.payload {
			return fmt.Errorf("%w: the checksum of its payload is %08x and should be %08x: it is damaged",
				ErrPackage, got, p.payload)
		}
	}
	return nil
}

// ErrPackage is what a package gives that is cut short, damaged, or of an unknown revision.
var ErrPackage = errors.New("not a proper PLDM firmware package")

// maxHeader is far more than any header has.
const maxHeader = 1 << 20

// Read reads the header at the beginning of r, and verifies its checksum.
func Read(r io.Reader) (Package, error) {
	head := make([]byte, 19)
	if _, err := io.ReadFull(r, head); err != nil {
		return Package{}, fmt.Errorf("%w: it is too short", ErrPackage)
	}
	rev := identifiers[hex.EncodeToString(head[:16])]
	if rev == 0 {
		return Package{}, fmt.Errorf("%w: it does not begin as one of the known revisions", ErrPackage)
	}
	size := int(binary.LittleEndian.Uint16(head[17:]))
	trailer := 4
	if rev >= 4 {
		trailer = 8 // the payload has a checksum too
	}
	if size < len(head)+trailer || size > maxHeader {
		return Package{}, fmt.Errorf("%w: its header can't be %d bytes long", ErrPackage, size)
	}
	all := append(head, make([]byte, size-len(head))...)
	if _, err := io.ReadFull(r, all[len(head):]); err != nil {
		return Package{}, fmt.Errorf("%w: its header of %d bytes is cut short", ErrPackage, size)
	}
	body := all[:size-trailer]
	if got, want := crc32.ChecksumIEEE(body), binary.LittleEndian.Uint32(all[size-trailer:]); got != want {
		return Package{}, fmt.Errorf("%w: the checksum of its header is %08x and should be %08x: it is damaged",
			ErrPackage, got, want)
	}
	c := cursor{b: body[19:]}
	p := c.header(rev)
	p.header = int64(size)
	if rev >= 4 {
		p.payload = binary.LittleEndian.Uint32(all[size-4:])
	}
	if c.err != nil {
		return Package{}, fmt.Errorf("%w: %w", ErrPackage, c.err)
	}
	return p, nil
}

// cursor takes fields off the front; after its first error it returns zeros.
type cursor struct {
	b   []byte
	err error
}

func (c *cursor) take(n int) []byte {
	if c.err != nil || n < 0 || n > len(c.b) {
		if c.err == nil {
			c.err = errors.New("a field reaches beyond its header")
		}
		return make([]byte, min(max(n, 0), 1<<16))
	}
	out := c.b[:n]
	c.b = c.b[n:]
	return out
}

func (c *cursor) u8() int  { return int(c.take(1)[0]) }
func (c *cursor) u16() int { return int(binary.LittleEndian.Uint16(c.take(2))) }
func (c *cursor) u32() int { return int(binary.LittleEndian.Uint32(c.take(4))) }

// text is a string of that type (DSP0267, "String type values"): 1 ASCII, 2 UTF-8, 3 to 5 UTF-16.
func text(kind int, b []byte) string {
	if kind >= 3 && kind <= 5 {
		var units []uint16
		order := binary.ByteOrder(binary.LittleEndian)
		if kind == 5 || kind == 3 && len(b) >= 2 && b[0] == 0xfe && b[1] == 0xff {
			order = binary.BigEndian
		}
		for ; len(b) >= 2; b = b[2:] {
			if u := order.Uint16(b); u != 0xfeff {
				units = append(units, u)
			}
		}
		return strings.TrimRight(string(utf16.Decode(units)), "\x00")
	}
	return strings.TrimRight(strings.ToValidUTF8(string(b), "?"), "\x00")
}

func (c *cursor) header(rev int) Package {
	p := Package{Revision: rev, Made: timestamp(c.take(13))}
	bits := c.u16()
	kind, n := c.u8(), c.u8()
	p.Version = text(kind, c.take(n))
	for range c.u8() {
		p.Devices = append(p.Devices, c.device(bits, rev, true))
	}
	if rev >= 2 {
		for range c.u8() {
			p.Devices = append(p.Devices, c.device(bits, rev, false))
		}
	}
	for range c.u16() {
		if c.err != nil {
			break
		}
		p.Images = append(p.Images, c.image(rev))
	}
	return p
}

// device reads a firmware device identification record or, where it is not one's own, a downstream device
// identification record (DSP0267, tables "Firmware device identification area" and "Downstream device identification
// area"). In the second the version is the least one for a self-contained activation, and a comparison stamp of four
// bytes follows it where bit 0 of the options is set.
func (c *cursor) device(bits, rev int, own bool) Device {
	length := c.u16()
	rec := cursor{b: c.take(length - 2)}
	if c.err != nil {
		return Device{}
	}
	count := rec.u8()
	options := rec.u32()
	kind, n, data := rec.u8(), rec.u8(), rec.u16()
	if rev >= 4 {
		rec.take(4) // length of the reference manifest
	}
	var d Device
	bitmap := rec.take((bits + 7) / 8)
	for i := range bits {
		if bitmap[i/8]&(1<<(i%8)) != 0 {
			d.Images = append(d.Images, i)
		}
	}
	set := text(kind, rec.take(n))
	if own {
		d.Set = set
	} else if options&1 != 0 {
		rec.take(4)
	}
	for range count {
		t, n := rec.u16(), rec.u16()
		d.Descriptors = append(d.Descriptors, Descriptor{uint16(t), bytes.Clone(rec.take(n))})
	}
	rec.take(data)
	if rec.err != nil && c.err == nil {
		c.err = fmt.Errorf("a device's record: %w", rec.err)
	}
	return d
}

func (c *cursor) image(rev int) Image {
	c.take(2) // classification
	i := Image{Identifier: uint16(c.u16())}
	c.take(4 + 2) // comparison stamp, options
	i.Activation = uint16(c.u16())
	i.Offset = int64(c.u32())
	i.Size = int64(c.u32())
	kind, n := c.u8(), c.u8()
	i.Version = text(kind, c.take(n))
	if rev >= 3 {
		c.take(c.u32()) // opaque data
	}
	return i
}

// timestamp reads a timestamp104 (DSP0240); the zero time where it is not set.
func timestamp(b []byte) time.Time {
	le := binary.LittleEndian
	year, month, day := int(le.Uint16(b[10:])), int(b[9]), int(b[8])
	if year == 0 || month == 0 || day == 0 {
		return time.Time{}
	}
	offset := time.Duration(int16(le.Uint16(b))) * time.Minute
	return time.Date(year, time.Month(month), day, int(b[7]), int(b[6]), int(b[5]), 0, time.UTC).Add(-offset)
}

// Naming says which component of the estate a device's firmware is; "" where it is not named.
type Naming func(device string) estate.Key

// Batch makes a release of each image for each device. The package is their payload.
func (p Package) Batch(file, feed, sum string, size int64, name Naming) catalogue.Batch {
	b := catalogue.Batch{Feed: catalogue.Feed{Name: feed, Made: p.Made}}
	for n, d := range p.Devices {
		device := d.Name()
		for _, i := range d.Images {
			if i >= len(p.Images) {
				continue
			}
			key := estate.Key("")
			if name != nil {
				key = name(device)
			}
			if key == "" {
				key = estate.NewKey("fw", "pldm-"+strings.ReplaceAll(device, ":", "-"))
				if device == "" {
					key = estate.Key(fmt.Sprintf("fw:pldm-device-%d", n+1))
				}
			}
			if len(d.Images) > 1 {
				key += estate.Key(fmt.Sprintf("-%d", p.Images[i].Identifier))
			}
			b.Releases = append(b.Releases,
				catalogue.Release{Component: key, Version: p.Images[i].Version, Date: p.Made,
					Restart: p.Images[i].restart(), Feed: feed, File: file, Size: size, SHA256: sum})
		}
	}
	return b
}

// restart is the least that brings the image to run.
func (i Image) restart() catalogue.Restart {
	switch {
	case i.Activation&3 != 0:
		return catalogue.NoRestart
	case i.Activation&(1<<2|1<<3) != 0 || i.Activation == 0:
		return catalogue.HostRestart
	}
	return catalogue.PowerCycle
}
