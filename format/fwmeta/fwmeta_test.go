package fwmeta

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/compressed"
)

func bounded(r io.Reader) *compressed.Bounded {
	return &compressed.Bounded{R: r, Most: 1 << 30, Entry: 8 << 20}
}

func strict(_ *catalogue.Batch, err error) error { return err }

const metadata = `<?xml version="1.0"?><components origin="skerry">
<component type="firmware"><id>invalid.skerry.p2</id><developer_name>Skerry</developer_name><branch>stable</branch>
 <provides><firmware type="flashed">5B1C1C5E-8d0a-4c55-9a0e-0b6f8f2a7d11</firmware></provides>
 <requires><firmware compare="ge" version="1.5"/><id compare="ge" version="2">org.freedesktop.fwupd</id></requires>
 <releases><release version="1.8.2" timestamp="1790000000" urgency="critical">
<location>https://x.invalid/dir/p2.cab</location>
  <checksum type="sha1" target="container">aa</checksum>
<checksum type="sha256" target="container">` + hexSum + `</checksum>
<checksum type="sha256" target="content">` + other + `</checksum>
  <size type="download">77</size><issues><issue type="cve">BRAE-2026-0109</issue></issues><description>
<p>Fans <em>rest</em>.</p></description></release></releases></component>
<component type="desktop"><id>not.firmware</id><releases><release version="9"/></releases></component></components>`

const (
	hexSum = "bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb"
	other  = "cccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccccc"
)

func TestMetadata(t *testing.T) {
	name := func(id string, guids []string) estate.Key {
		if len(guids) == 1 && guids[0] == "5b1c1c5e-8d0a-4c55-9a0e-0b6f8f2a7d11" {
			return "fw:skerry-p2"
		}
		return ""
	}
	b, err := Read(bounded(strings.NewReader(metadata)), "", name, strict)
	if err != nil || len(b.Releases) != 1 || b.Feed.Name != "skerry" {
		t.Fatalf("%+v %v", b, err)
	}
	r := b.Releases[0]
	if r.Component != "fw:skerry-p2" || r.Version != "1.8.2" || r.Track != "stable" ||
		r.Severity != catalogue.Critical || r.Vendor != "Skerry" || r.SHA256 != hexSum || r.File != "p2.cab" ||
		r.Size != 77 || r.Notes != "Fans rest ." && r.Notes != "Fans rest." || len(r.Advisories) != 1 ||
		r.Date.Year() != 2026 {
		t.Errorf("%+v", r)
	}
	if len(r.Requires) != 1 || r.Requires[0].AtLeast != "1.5" {
		t.Errorf("what it requires of the device's own firmware: %+v", r.Requires)
	}
	if b, _ := Read(bounded(strings.NewReader(metadata)), "f", nil,
		strict); b.Releases[0].Component != "fw:invalid.skerry.p2" {
		t.Errorf("unnamed firmware is called after its id: %s", b.Releases[0].Component)
	}
	for _, bad := range []string{"", "<html/>", metadata[:len(metadata)-200],
		`<components><component type="firmware"><id>x</id><releases><release/></releases></component></components>`} {
		if _, err := Read(bounded(strings.NewReader(bad)), "f", nil, strict); err == nil {
			t.Errorf("%.40q… was read", bad)
		}
	}
}

// cabinet builds one by hand: plain storage, checksums as MS-CAB says.
func cabinet(files map[string]string, order ...string) []byte {
	le := binary.LittleEndian
	var data []byte
	var entries []byte
	for _, n := range order {
		e := make([]byte, 16)
		le.PutUint32(e, uint32(len(files[n])))
		le.PutUint32(e[4:], uint32(len(data)))
		entries = append(append(append(entries, e...), n...), 0)
		data = append(data, files[n]...)
	}
	head := make([]byte, 36)
	copy(head, CabMagic)
	at := 36 + 8 + len(entries)
	le.PutUint32(head[8:], uint32(at+8+len(data)))
	le.PutUint32(head[16:], 36+8)
	le.PutUint16(head[26:], 1)
	le.PutUint16(head[28:], uint16(len(order)))
	folder := make([]byte, 8)
	le.PutUint32(folder, uint32(at))
	le.PutUint16(folder[4:], 1)
	block := make([]byte, 8)
	le.PutUint16(block[4:], uint16(len(data)))
	le.PutUint16(block[6:], uint16(len(data)))
	le.PutUint32(block, checksumCab(block[4:], checksumCab(data, 0)))
	return bytes.Join([][]byte{head, folder, entries, block, data}, nil)
}

func TestCabinetRefusals(t *testing.T) {
	meta := strings.Replace(metadata, "target=\"content\">"+other, "filename=\"fw.bin\" target=\"content\">"+other, 1)
	good := cabinet(map[string]string{"a.txt": "hello", "b.txt": "world"}, "a.txt", "b.txt")
	flip := bytes.Clone(good)
	flip[len(flip)-1] ^= 1
	lzx := bytes.Clone(good)
	lzx[36+6] = 3
	spans := bytes.Clone(good)
	spans[30] = 1
	far := bytes.Clone(good)
	binary.LittleEndian.PutUint32(far[44:], 1<<20)
	for name, c := range map[string]struct {
		body []byte
		want string
	}{
		"good":            {good, ""},
		"cut short":       {good[:len(good)-2], "it is cut short"},
		"damaged":         {flip, "it is damaged"},
		"unread packing":  {lzx, "plain and MSZIP are read"},
		"another volume":  {spans, "goes on in another file"},
		"beyond the data": {far, "reaches beyond"},
		"traversal":       {cabinet(map[string]string{`..\x`: "y"}, `..\x`), "leads out of it"},
		"no cabinet":      {[]byte("MSCX"), "does not begin as one"},
	} {
		files, err := OpenCabinet(c.body)
		switch {
		case c.want == "" && (err != nil || len(files) != 2 || string(files[1].Body) != "world"):
			t.Errorf("%s: %v %v", name, files, err)
		case c.want != "" && (!errors.Is(err, ErrCabinet) || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
	for name, c := range map[string]struct {
		files map[string]string
		want  string
	}{
		"wrong content": {map[string]string{"x.metainfo.xml": component1(meta), "fw.bin": "not it"},
			"its metainfo says"},
		"content missing": {map[string]string{"x.metainfo.xml": component1(meta), "fw.txt": "?"},
			"is not in it"},
		"content of a default name": {map[string]string{"x.metainfo.xml": component1(metadata), "fw.txt": "?"},
			"firmware.bin, in which the firmware"},
		"nothing describes": {map[string]string{"fw.bin": "x", "y.txt": "?"}, "no firmware release described"},
	} {
		var order []string
		for n := range c.files {
			order = append(order, n)
		}
		if _, err := ReadCabinet(cabinet(c.files, order...), "x.cab", "f", nil); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

// component1 is the first component of a metadata file by itself, as a metainfo file has it.
func component1(text string) string {
	_, rest, _ := strings.Cut(text, "<component ")
	body, _, _ := strings.Cut(rest, "</component>")
	return "<component " + body + "</component>"
}

// The real cabinets and metadata of the fwupd test data are read, and a compressed one as gcab writes it.
func TestRealFiles(t *testing.T) {
	const dir = "/usr/share/installed-tests/fwupd"
	cabs, _ := filepath.Glob(dir + "/*.cab")
	if len(cabs) == 0 {
		t.Skip("the fwupd test data is not here (Debian: fwupd-tests)")
	}
	for _, name := range cabs {
		body, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		b, err := ReadCabinet(body, name, "f", nil)
		if err != nil || len(b.Releases) == 0 || !strings.HasPrefix(b.Releases[0].Version, "1.2.") {
			t.Errorf("%s: %+v %v", name, b, err)
		}
	}
	f, err := os.Open(dir + "/fwupd-tests.xml")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if b, err := Read(bounded(f), "", nil, strict); err != nil || len(b.Releases) < 3 || b.Feed.Name != "lvfs" {
		t.Errorf("%+v %v", b, err)
	}
}

func TestMSZIPAgainstGcab(t *testing.T) {
	if _, err := exec.LookPath("gcab"); err != nil {
		t.Skip("gcab is not here")
	}
	dir := t.TempDir()
	text := strings.Repeat("a tide gauge on the north pier; ", 9000) // more than eight blocks
	if err := os.WriteFile(filepath.Join(dir, "long.txt"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("gcab", "-c", "-z", "x.cab", "long.txt")
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	body, err := os.ReadFile(filepath.Join(dir, "x.cab"))
	if err != nil {
		t.Fatal(err)
	}
	files, err := OpenCabinet(body)
	if err != nil || len(files) != 1 || string(files[0].Body) != text {
		t.Errorf("%d files, %v", len(files), err)
	}
}

func FuzzCabinet(f *testing.F) {
	f.Add(cabinet(map[string]string{"a": "b"}, "a"))
	f.Fuzz(func(t *testing.T, body []byte) {
		files, err := OpenCabinet(body)
		for _, x := range files {
			if err == nil && strings.Contains("/"+x.Name+"/", "/../") {
				t.Errorf("%q leads out", x.Name)
			}
		}
	})
}

func FuzzMetadata(f *testing.F) {
	f.Add(metadata)
	f.Fuzz(func(t *testing.T, text string) {
		b, err := Read(bounded(strings.NewReader(text)), "f", nil, strict)
		for _, r := range b.Releases {
			if _, e := estate.ParseKey(string(r.Component)); err == nil && e != nil {
				t.Errorf("%v", e)
			}
		}
	})
}
