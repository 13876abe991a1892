package demo

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
)

// writeRPM writes a small RPM repository with an updateinfo below dir. No host of the demo has RPM packages; it shows
// how such a feed looks.
func writeRPM(dir string) error {
	const primary = `<?xml version="1.0" encoding="UTF-8"?>
<metadata xmlns="http://linux.duke.edu/metadata/common" packages="2">
<package type="rpm"><name>brae-tools</name><arch>x86_64</arch><version epoch="0" ver="3.0" rel="1"/>
<location href="Packages/brae-tools-3.0-1.x86_64.rpm"/></package>
<package type="rpm"><name>brae-tools</name><arch>x86_64</arch><version epoch="0" ver="3.1" rel="1"/>
<location href="Packages/brae-tools-3.1-1.x86_64.rpm"/></package>
</metadata>
`
	const updateinfo = `<?xml version="1.0" encoding="UTF-8"?>
<updates><update from="security@brae.invalid" status="final" type="security"><id>BRAE-R-2026-0007</id>
<title>brae-tools</title><severity>Moderate</severity>
<issued date="2026-11-10 00:00:00"/><pkglist><collection>
<package name="brae-tools" epoch="0" version="3.1" release="1" arch="x86_64"/></collection></pkglist></update></updates>
`
	packed, info := gzipped([]byte(primary)), gzipped([]byte(updateinfo))
	repomd := fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?>
<repomd xmlns="http://linux.duke.edu/metadata/repo"><revision>1</revision>
<data type="primary"><checksum type="sha256">%s</checksum><location href="repodata/primary.xml.gz"/>
<timestamp>%d</timestamp><size>%d</size></data>
<data type="updateinfo"><checksum type="sha256">%s</checksum><location href="repodata/updateinfo.xml.gz"/>
<timestamp>%d</timestamp><size>%d</size></data></repomd>
`, sum(packed), Start.Unix(), len(packed), sum(info), Start.Unix(), len(info))
	for name, body := range map[string][]byte{"primary.xml.gz": packed, "updateinfo.xml.gz": info,
		"repomd.xml": []byte(repomd)} {
		if err := writeAt(filepath.Join(dir, "repodata", name), body); err != nil {
			return err
		}
	}
	return nil
}

func gzipped(b []byte) []byte {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	_, _ = z.Write(b) // to memory
	_ = z.Close()
	return out.Bytes()
}

// FirmwareBundle is a second archive, of firmware in its own packages, below the directory given to Write.
const FirmwareBundle = "bundles/skerry-firmware.tar.gz"

// writeFirmware writes an archive that holds a cabinet and a PLDM package, for devices that no host of the demo has
// yet.
func writeFirmware(name string) error {
	if _, err := os.Stat(name); err == nil {
		return nil
	}
	firmware := []byte("the firmware of a power supply that is made up")
	metainfo := fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?>
<component type="firmware"><id>invalid.skerry.p2.firmware</id><name>Skerry P2</name>
<developer_name>Skerry</developer_name>
<provides><firmware type="flashed">5b1c1c5e-8d0a-4c55-9a0e-0b6f8f2a7d11</firmware></provides>
<releases><release version="1.8.4" date="2026-11-15" urgency="high">
<checksum type="sha256" filename="p2.bin" target="content">%s</checksum>
<description><p>The second input is watched too.</p></description></release></releases></component>
`, sum(firmware))
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	t := tar.NewWriter(z)
	for _, f := range []struct {
		name string
		body []byte
	}{{"skerry-p2-1.8.4.cab", cabinet(file{"p2.metainfo.xml", []byte(metainfo)}, file{"p2.bin", firmware})},
		{"skerry-nx-2.2.pldm", pldmPackage("2.2", 0xf0f0, 0x0025)}} {
		if err := addTar(t, f.name, f.body); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	return writeAt(name, out.Bytes())
}

type file struct {
	name string
	body []byte
}

// cabinet writes a cabinet (MS-CAB, 2) of one folder and one block, stored and without checksums.
func cabinet(files ...file) []byte {
	le := binary.LittleEndian
	var entries, data []byte
	for _, f := range files {
		e := make([]byte, 16)
		le.PutUint32(e, uint32(len(f.body)))
		le.PutUint32(e[4:], uint32(len(data)))
		entries = append(append(append(entries, e...), f.name...), 0)
		data = append(data, f.body...)
	}
	const head, folder, block = 36, 8, 8
	at := head + folder + len(entries)
	out := make([]byte, head+folder)
	copy(out, "MSCF")
	le.PutUint32(out[8:], uint32(at+block+len(data)))
	le.PutUint32(out[16:], head+folder)
	copy(out[24:], []byte{3, 1, 1, 0}) // version 1.3, one folder
	le.PutUint16(out[28:], uint16(len(files)))
	le.PutUint32(out[head:], uint32(at))
	le.PutUint16(out[head+4:], 1)
	out = append(out, entries...)
	out = append(out, 0, 0, 0, 0)
	out = le.AppendUint16(out, uint16(len(data)))
	out = le.AppendUint16(out, uint16(len(data)))
	return append(out, data...)
}

// pldmPackage writes a PLDM firmware package (DSP0267 1.0) of one image for one PCI device.
func pldmPackage(version string, vendor, device uint16) []byte {
	le := binary.LittleEndian
	text := func(b []byte, s string) []byte { return append(append(b, 1, byte(len(s))), s...) }
	image := []byte("the firmware of an adapter that is made up")
	id, _ := hex.DecodeString("f018878ccb7d49439800a02f059aca02")
	b := append(id, 1, 0, 0)
	b = append(b, 0, 0, 0, 0, 0, 0, 0, 9, 15, 11, 0xea, 0x07, 0) // 15 November 2026, 09:00
	b = text(le.AppendUint16(b, 8), version)
	// descriptors, options, the set's version, no data, the images
	record := []byte{2, 0, 0, 0, 0, 1, byte(len(version)), 0, 0, 1}
	record = append(record, version...)
	for _, d := range [][2]uint16{{0x0000, vendor}, {0x0100, device}} {
		record = le.AppendUint16(le.AppendUint16(le.AppendUint16(record, d[0]), 2), d[1])
	}
	b = append(le.AppendUint16(append(b, 1), uint16(len(record)+2)), record...)
	b = le.AppendUint16(le.AppendUint16(le.AppendUint16(b, 1), 10), 1) // one image: firmware, number 1
	b = le.AppendUint32(b, 0)
	b = le.AppendUint16(le.AppendUint16(b, 0), 1<<3) // it runs after a restart
	size := len(b) + 8 + 2 + len(version) + 4
	b = text(le.AppendUint32(le.AppendUint32(b, uint32(size)), uint32(len(image))), version)
	le.PutUint16(b[17:], uint16(size))
	return append(le.AppendUint32(b, crc32.ChecksumIEEE(b)), image...)
}
