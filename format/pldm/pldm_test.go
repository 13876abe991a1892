package pldm

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"hash/crc32"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
)

// pack builds a package header by the tables of DSP0267: two devices, two images, of which the first device takes the
// second only.
func pack(t *testing.T, rev int) []byte {
	t.Helper()
	id := map[int]string{}
	for hx, n := range identifiers {
		id[n] = hx
	}
	raw, err := hex.DecodeString(id[rev])
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	u8 := func(n int) { b.WriteByte(byte(n)) }
	u16 := func(n int) { _ = binary.Write(&b, binary.LittleEndian, uint16(n)) }
	u32 := func(n int) { _ = binary.Write(&b, binary.LittleEndian, uint32(n)) }
	b.Write([]byte{60, 0, 0, 0, 0, 30, 15, 12, 3, 10, 0xea, 0x07, 0}) // 2026-10-03 12:15:30, an hour east
	u16(8)
	u8(1)
	u8(3)
	b.WriteString("2.1")
	device := func(bitmap int, set string, stamped bool, descriptors func() int) []byte {
		outer := b
		b = bytes.Buffer{}
		var inner bytes.Buffer
		n := descriptors()
		inner = b
		b = bytes.Buffer{}
		u8(n)
		if stamped {
			u32(1)
		} else {
			u32(0)
		}
		u8(1)
		u8(len(set))
		u16(2)
		if rev >= 4 {
			u32(0)
		}
		u8(bitmap)
		b.WriteString(set)
		if stamped { // a downstream device's comparison stamp
			u32(7)
		}
		b.Write(inner.Bytes())
		b.WriteString("pd")
		rec := b.Bytes()
		b = outer
		return rec
	}
	record := func(rec []byte) { u16(len(rec) + 2); b.Write(rec) }
	pci := device(0b10, "set-a", false, func() int {
		u16(PCIVendor)
		u16(2)
		u16(0xf0f0)
		u16(PCIDevice)
		u16(2)
		u16(0x0025)
		return 2
	})
	uuid := device(0b01, "set-b", true, func() int {
		u16(UUID)
		u16(16)
		b.Write(bytes.Repeat([]byte{0xab}, 16))
		return 1
	})
	u8(1)
	record(pci)
	if rev >= 2 {
		u8(1)
		record(uuid)
	}
	u16(2)
	var offsets []int
	for i, v := range []string{"1.0", "4.19.0"} {
		u16(10)
		u16(100 + i)
		u32(0)
		u16(0)
		u16(1 << 3)
		offsets = append(offsets, b.Len())
		u32(0)
		u32(77)
		if i == 1 {
			u8(4) // UTF-16, little end first
			u8(2 * len(v))
			for _, r := range v {
				u16(int(r))
			}
		} else {
			u8(1)
			u8(len(v))
			b.WriteString(v)
		}
		if rev >= 3 {
			u32(1)
			u8(9)
		}
	}
	head := append(bytes.Clone(raw), byte(rev), 0, 0)
	trailer := 4
	if rev >= 4 {
		trailer = 8
	}
	binary.LittleEndian.PutUint16(head[17:], uint16(len(head)+b.Len()+trailer))
	images := bytes.Repeat([]byte("the images"), 16)
	header := len(head) + b.Len() + trailer
	for i, at := range offsets {
		binary.LittleEndian.PutUint32(b.Bytes()[at:], uint32(header+80*i))
	}
	all := append(head, b.Bytes()...)
	all = binary.LittleEndian.AppendUint32(all, crc32.ChecksumIEEE(all))
	if rev >= 4 {
		all = binary.LittleEndian.AppendUint32(all, crc32.ChecksumIEEE(images))
	}
	return append(all, images...)
}

func TestEveryRevision(t *testing.T) {
	for rev := 1; rev <= 4; rev++ {
		p, err := Read(bytes.NewReader(pack(t, rev)))
		if err != nil {
			t.Errorf("revision %d: %v", rev, err)
			continue
		}
		if p.Version != "2.1" || len(p.Images) != 2 || p.Images[1].Version != "4.19.0" || p.Images[1].Size != 77 ||
			p.Devices[0].Name() != "f0f0:0025" || p.Devices[0].Set != "set-a" {
			t.Errorf("revision %d: %+v", rev, p)
		}
		if got := p.Made.Format("2006-01-02 15:04:05"); got != "2026-10-03 11:15:30" {
			t.Errorf("revision %d: made %s, in UTC", rev, got)
		}
		if rev >= 2 && (len(p.Devices) != 2 || p.Devices[1].Name() != strings.Repeat("ab", 16)) {
			t.Errorf("revision %d: devices %+v", rev, p.Devices)
		}
	}
}

// A package that is cut short behind its header, or whose images are not what its header says, is refused.
func TestThePayloadIsHeldAgainstTheHeader(t *testing.T) {
	for rev := 1; rev <= 4; rev++ {
		good := pack(t, rev)
		p, err := Read(bytes.NewReader(good))
		if err != nil {
			t.Fatal(err)
		}
		if err := p.Check(good); err != nil {
			t.Errorf("revision %d: %v", rev, err)
		}
		if err := p.Check(good[:len(good)-10]); err == nil || !errors.Is(err, ErrPackage) {
			t.Errorf("revision %d, cut short: %v", rev, err)
		}
		flip := bytes.Clone(good)
		flip[len(flip)-1] ^= 1
		if err := p.Check(flip); (err == nil) != (rev < 4) {
			t.Errorf("revision %d, damaged: %v", rev, err)
		}
	}
}

func TestBatchMakesAReleaseOfWhatADeviceTakes(t *testing.T) {
	p, err := Read(bytes.NewReader(pack(t, 1)))
	if err != nil {
		t.Fatal(err)
	}
	b := p.Batch("x.pldm", "f", "sum", 9, func(device string) estate.Key {
		if device == "f0f0:0025" {
			return "fw:tarbet-s9"
		}
		return ""
	})
	if len(b.Releases) != 1 || b.Releases[0].Component != "fw:tarbet-s9" || b.Releases[0].Version != "4.19.0" ||
		b.Releases[0].Restart != catalogue.HostRestart || b.Releases[0].SHA256 != "sum" {
		t.Errorf("%+v", b.Releases)
	}
	if b := p.Batch("x", "f", "s", 1, nil); b.Releases[0].Component != "fw:pldm-f0f0-0025" {
		t.Errorf("an unnamed device: %s", b.Releases[0].Component)
	}
}

func TestRefusals(t *testing.T) {
	good := pack(t, 2)
	flip := bytes.Clone(good)
	flip[60] ^= 1
	short := bytes.Clone(good)
	binary.LittleEndian.PutUint16(short[17:], 20)
	for name, c := range map[string]struct {
		body []byte
		want string
	}{
		"empty": {nil, "too short"}, "another file": {bytes.Repeat([]byte("x"), 99), "does not begin as one"},
		"damaged":           {flip, "it is damaged"},
		"cut in the header": {good[:80], "is cut short"}, "impossible size": {short, "can't be 20 bytes long"},
	} {
		if _, err := Read(bytes.NewReader(c.body)); !errors.Is(err, ErrPackage) ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

// A header whose checksum is right may still lie in every field.
func FuzzHeader(f *testing.F) {
	f.Add([]byte{1, 2, 3}, byte(1))
	f.Fuzz(func(t *testing.T, fields []byte, rev byte) {
		if len(fields) > 60000 {
			return
		}
		for hx, n := range identifiers {
			if n != int(rev%4)+1 {
				continue
			}
			raw, _ := hex.DecodeString(hx)
			trailer := 4
			if n == 4 {
				trailer = 8
			}
			all := append(raw, byte(n), 0, 0)
			binary.LittleEndian.PutUint16(all[17:], uint16(19+len(fields)+trailer))
			all = append(all, fields...)
			all = binary.LittleEndian.AppendUint32(all, crc32.ChecksumIEEE(all))
			p, err := Read(bytes.NewReader(append(all, 0, 0, 0, 0)))
			if err == nil {
				p.Batch("f", "f", "s", 1, nil)
			}
		}
	})
}
