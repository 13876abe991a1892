package fwmeta

import (
	"bytes"
	"compress/flate"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/format/compressed"
)

// CabMagic is what a cabinet begins with.
const CabMagic = "MSCF"

// MaxCabinet is how many bytes of content a cabinet may have.
const MaxCabinet = 128 << 20

// ErrCabinet is what a cabinet gives that is cut short, damaged, or uses what is not read.
var ErrCabinet = errors.New("not a proper cabinet")

// CabFile is a file in a cabinet.
type CabFile struct {
	Name string
	Body []byte
}

// OpenCabinet reads the files of a cabinet (MS-CAB, 2). Checksums of data blocks are verified where there are any.
// Folders may be stored plain or compressed with MSZIP; LZX, Quantum and cabinets that go on in another file are
// refused.
func OpenCabinet(body []byte) ([]CabFile, error) {
	le := binary.LittleEndian
	if len(body) < 36 || string(body[:4]) != CabMagic {
		return nil, fmt.Errorf("%w: it does not begin as one", ErrCabinet)
	}
	size, first, folders, files, flags := le.Uint32(body[8:]), le.Uint32(body[16:]), int(le.Uint16(body[26:])),
		int(le.Uint16(body[28:])), le.Uint16(body[30:])
	if int64(size) > int64(len(body)) {
		return nil, fmt.Errorf("%w: it says that it has %d bytes, and has %d: it is cut short",
			ErrCabinet, size, len(body))
	}
	if flags&3 != 0 {
		return nil, fmt.Errorf("%w: it goes on in another file", ErrCabinet)
	}
	at, perFolder, perBlock := 36, 0, 0
	if flags&4 != 0 { // reserved areas
		if len(body) < 40 {
			return nil, ErrCabinet
		}
		at, perFolder, perBlock = 40+int(le.Uint16(body[36:])), int(body[38]), int(body[39])
	}
	var contents [][]byte
	total := 0
	for range folders {
		if at+8 > len(body) {
			return nil, fmt.Errorf("%w: its list of folders breaks off", ErrCabinet)
		}
		c, err := folder(body, int(le.Uint32(body[at:])), int(le.Uint16(body[at+4:])), le.Uint16(body[at+6:]),
			perBlock, MaxCabinet-total)
		if err != nil {
			return nil, err
		}
		total += len(c)
		contents = append(contents, c)
		at += 8 + perFolder
	}
	return entries(body, int(first), files, contents)
}

// entries reads the CFFILE records and cuts the folders' contents into files.
func entries(body []byte, at, files int, contents [][]byte) ([]CabFile, error) {
	le := binary.LittleEndian
	var out []CabFile
	for range files {
		if at < 0 || at+16 >= len(body) {
			return nil, fmt.Errorf("%w: its list of files breaks off", ErrCabinet)
		}
		size, offset, in := int64(le.Uint32(body[at:])), int64(le.Uint32(body[at+4:])), int(le.Uint16(body[at+8:]))
		end := bytes.IndexByte(body[at+16:], 0)
		if end < 0 {
			return nil, fmt.Errorf("%w: the name of a file breaks off", ErrCabinet)
		}
		name := strings.ReplaceAll(string(body[at+16:at+16+end]), `\`, "/")
		at += 16 + end + 1
		if in >= len(contents) {
			return nil, fmt.Errorf("%w: %s is in a folder that is not there", ErrCabinet, name)
		}
		c := contents[in]
		if offset+size > int64(len(c)) {
			return nil, fmt.Errorf("%w: %s reaches beyond its folder's data", ErrCabinet, name)
		}
		if name == "" || strings.HasPrefix(name, "/") || strings.Contains("/"+name+"/", "/../") {
			return nil, fmt.Errorf("%w: the name %q leads out of it", ErrCabinet, name)
		}
		out = append(out, CabFile{name, c[offset : offset+size]})
	}
	return out, nil
}

// folder unpacks the data blocks of a folder, at most so many bytes.
func folder(body []byte, at, blocks int, compression uint16, reserved, most int) ([]byte, error) {
	le := binary.LittleEndian
	kind := compression & 0xf
	if kind > 1 {
		return nil, fmt.Errorf("%w: its compression is of type %d; plain and MSZIP are read", ErrCabinet, kind)
	}
	var out []byte
	for range blocks {
		if at < 0 || at+8+reserved > len(body) {
			return nil, fmt.Errorf("%w: a data block breaks off", ErrCabinet)
		}
		sum, packed, plain := le.Uint32(body[at:]), int(le.Uint16(body[at+4:])), int(le.Uint16(body[at+6:]))
		begin := at + 8 + reserved
		if begin+packed > len(body) {
			return nil, fmt.Errorf("%w: a data block breaks off", ErrCabinet)
		}
		data := body[begin : begin+packed]
		if got := checksumCab(body[at+4:begin], checksumCab(data, 0)); sum != 0 && got != sum {
			return nil, fmt.Errorf("%w: the checksum of a data block is %08x and should be %08x: it is damaged",
				ErrCabinet, got, sum)
		}
		if len(out)+plain > most {
			return nil, fmt.Errorf("%w: it unpacks to more than %d MiB", ErrCabinet, most>>20)
		}
		if kind == 0 {
			out = append(out, data...)
		} else {
			block, err := inflate(data, out, plain)
			if err != nil {
				return nil, err
			}
			out = append(out, block...)
		}
		at = begin + packed
	}
	return out, nil
}

// inflate unpacks an MSZIP block: "CK", then deflated data whose dictionary is what came before.
func inflate(data, before []byte, plain int) ([]byte, error) {
	if len(data) < 2 || data[0] != 'C' || data[1] != 'K' {
		return nil, fmt.Errorf("%w: a block is not MSZIP", ErrCabinet)
	}
	r := flate.NewReaderDict(bytes.NewReader(data[2:]), before[max(0, len(before)-32768):])
	block, err := io.ReadAll(io.LimitReader(r, int64(plain)+1))
	if err != nil || len(block) != plain {
		return nil, fmt.Errorf("%w: a block unpacks to %d bytes in place of %d", ErrCabinet, len(block), plain)
	}
	return block, nil
}

// checksumCab is the checksum of MS-CAB 3.1: the exclusive or of the data in words of four bytes, and the rest in
// reverse order.
func checksumCab(b []byte, seed uint32) uint32 {
	for ; len(b) >= 4; b = b[4:] {
		seed ^= binary.LittleEndian.Uint32(b)
	}
	var rest uint32
	for _, c := range b {
		rest = rest<<8 | uint32(c)
	}
	return seed ^ rest
}

// ReadCabinet reads the metainfo files of a cabinet. A release whose firmware is in it has this very cabinet as its
// payload; one that is only told of, as earlier ones are, has none. A cabinet in which the firmware of no release is,
// or one whose hash is not the stated one, is refused.
func ReadCabinet(body []byte, file, feed string, name Naming) (catalogue.Batch, error) {
	all := catalogue.Batch{Feed: catalogue.Feed{Name: feed}}
	files, err := OpenCabinet(body)
	if err != nil {
		return all, err
	}
	sum := sha256.Sum256(body)
	held := 0
	for _, f := range files {
		if !strings.HasSuffix(f.Name, ".metainfo.xml") {
			continue
		}
		b, err := Read(&compressed.Bounded{R: bytes.NewReader(f.Body), Most: maxMetainfo, Entry: maxMetainfo}, feed,
			name, func(_ *catalogue.Batch, err error) error { return err })
		if err != nil {
			return all, fmt.Errorf("%s: %w", f.Name, err)
		}
		in, err := inside(files, f)
		if err != nil {
			return all, err
		}
		for _, r := range b.Releases {
			r.File, r.Size, r.SHA256 = "", 0, ""
			if in[r.Version] {
				r.File, r.Size, r.SHA256 = path.Base(file), int64(len(body)), hex.EncodeToString(sum[:])
				held++
			}
			all.Releases = append(all.Releases, r)
		}
		if b.Feed.Made.After(all.Feed.Made) {
			all.Feed.Made = b.Feed.Made
		}
	}
	switch {
	case len(all.Releases) == 0:
		return all, fmt.Errorf("%w: there is no firmware release described in it", ErrCabinet)
	case held == 0:
		return all, fmt.Errorf("%w: the firmware of none of the releases that it describes is in it", ErrCabinet)
	}
	return all, nil
}

// maxMetainfo is how large a metainfo file may be, in bytes.
const maxMetainfo = 4 << 20

// inside tells the firmware of which versions is in the cabinet, by what its metainfo file states. The newest must be;
// where no file is named it is in firmware.bin.
func inside(files []CabFile, metainfo CabFile) (map[string]bool, error) {
	stated, err := contents(metainfo.Body)
	if err != nil {
		return nil, err
	}
	out := map[string]bool{}
	for i, c := range stated {
		name := c.file
		if name == "" && i == 0 {
			name = defaultContent
		}
		at := slices.IndexFunc(files, func(f CabFile) bool { return path.Base(f.Name) == name && name != "" })
		switch {
		case at < 0 && i == 0:
			return nil, fmt.Errorf("%w: %s, in which the firmware %s should be, is not in it",
				ErrCabinet, name, c.version)
		case at < 0:
			continue
		}
		if got := sha256.Sum256(files[at].Body); c.sha256 != "" && hex.EncodeToString(got[:]) != c.sha256 {
			if i > 0 { // an earlier release's file of the same name
				continue
			}
			return nil, fmt.Errorf("%w: %s has the SHA-256 %x, and its metainfo says %s",
				ErrCabinet, name, got, c.sha256)
		}
		out[c.version] = c.file != "" || i == 0
	}
	return out, nil
}
