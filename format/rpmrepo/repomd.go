// Package rpmrepo reads RPM repositories: repomd.xml, which names and vouches for the others, primary.xml with the
// packages, and updateinfo.xml with the advisories. The format is the one that createrepo_c writes and libsolv and dnf
// read; there is no other description of it.
package rpmrepo

import (
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"yareharbour/format/bounds"
	"yareharbour/format/compressed"
)

// File is a metadata file of a repository.
type File struct {
	Type     string // "primary", "updateinfo", …
	Location string // below the repository's root
	SHA256   string // of the file as it is, in hex; one of this and the next is there
	SHA512   string
	Size     int64 // bytes, as it is
	Made     time.Time
}

// Repomd is what a repomd.xml says.
type Repomd struct {
	Revision string
	Files    []File
}

// Made is the time of the newest of its files.
func (r Repomd) Made() time.Time {
	var newest time.Time
	for _, f := range r.Files {
		if f.Made.After(newest) {
			newest = f.Made
		}
	}
	return newest
}

// File returns the file of that type, and false where the repository has none.
func (r Repomd) File(kind string) (File, bool) {
	for _, f := range r.Files {
		if f.Type == kind {
			return f, true
		}
	}
	return File{}, false
}

// RepomdPath is where repomd.xml lies below a repository's root.
const RepomdPath = "repodata/repomd.xml"

// ReadRepomd reads a repomd.xml. A file that is vouched for by a weaker hash than SHA-256 is refused: nothing
// unverified is believed.
func ReadRepomd(r io.Reader) (Repomd, error) {
	var doc struct {
		XMLName  xml.Name `xml:"repomd"`
		Revision string   `xml:"revision"`
		Data     []struct {
			Type     string `xml:"type,attr"`
			Checksum struct {
				Type  string `xml:"type,attr"`
				Value string `xml:",chardata"`
			} `xml:"checksum"`
			Location struct {
				Href string `xml:"href,attr"`
			} `xml:"location"`
			Timestamp string `xml:"timestamp"`
			Size      int64  `xml:"size"`
		} `xml:"data"`
	}
	if err := xml.NewDecoder(bounds.XML(&compressed.Bounded{R: r, Most: 16 << 20}, bounds.Usual)).Decode(&doc); err != nil {
		return Repomd{}, fmt.Errorf("not a repomd.xml: %w", err)
	}
	out := Repomd{Revision: doc.Revision}
	for _, d := range doc.Data {
		f := File{Type: d.Type, Location: d.Location.Href, Size: d.Size}
		sum := strings.ToLower(strings.TrimSpace(d.Checksum.Value))
		if s, err := strconv.ParseFloat(d.Timestamp, 64); err == nil && s > 0 && s < 1<<40 {
			f.Made = time.Unix(int64(s), 0).UTC()
		}
		if d.Type != "primary" && d.Type != "updateinfo" {
			continue
		}
		if err := inside(f.Location); err != nil {
			return out, fmt.Errorf("the location of %s: %w", d.Type, err)
		}
		raw, err := hex.DecodeString(sum)
		switch {
		case err == nil && d.Checksum.Type == "sha256" && len(raw) == 32:
			f.SHA256 = sum
		case err == nil && d.Checksum.Type == "sha512" && len(raw) == 64:
			f.SHA512 = sum
		default:
			return out, fmt.Errorf("%s is vouched for by a checksum of type %q; a SHA-256 or SHA-512 is wanted",
				d.Type, d.Checksum.Type)
		}
		out.Files = append(out.Files, f)
	}
	if _, ok := out.File("primary"); !ok {
		return out, errors.New("the repomd.xml names no primary metadata: there are no packages in it")
	}
	return out, nil
}

// inside refuses a path that leads out of the repository.
func inside(path string) error {
	if path == "" || strings.HasPrefix(path, "/") || strings.Contains(path, "://") ||
		strings.Contains("/"+path+"/", "/../") {
		return fmt.Errorf("%q leads out of the repository", path)
	}
	return nil
}
