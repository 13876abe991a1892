package debindex

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"strconv"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/compressed"
)

// Key is the component of a package: the architecture is part of it only where it is foreign.
func Key(name, arch, native string) estate.Key {
	if arch == "all" || arch == native || native == "" {
		return estate.Key("deb:" + name)
	}
	return estate.Key("deb:" + name + ":" + arch)
}

// Bounds of an index: the largest archives have a tenth of these.
const (
	maxIndex   = 1 << 30 // bytes, unpacked
	maxEntries = 600_000
)

// ReadPackages reads a Packages file, uncompressed, and returns its packages as releases of the feed on the track. sum
// is the SHA-256 that the text must have, in hex; empty leaves it unverified. A file that breaks off or has another
// hash is refused whole. Of packages that keep, where it is not nil, does not want nothing is kept.
func ReadPackages(r io.Reader, native, sum string, like catalogue.Release, keep func(name []byte) bool) ([]catalogue.Release, error) {
	hash := sha256.New()
	if sum != "" {
		r = io.TeeReader(r, hash)
	}
	s := NewStanzas(&compressed.Bounded{R: r, Most: maxIndex}, "Package", "Version", "Architecture", "Filename",
		"Size", "SHA256", "Source")
	var out []catalogue.Release
	for n := 0; s.Next(); n++ {
		if n == maxEntries {
			return nil, fmt.Errorf("%w: more than %d packages", compressed.ErrTooMuch, maxEntries)
		}
		if keep != nil && len(s.Value(0)) > 0 && !keep(s.Value(0)) {
			continue
		}
		rel := like
		if err := fill(&rel, s, native); err != nil {
			return nil, fmt.Errorf("before line %d: %w", s.line, err)
		}
		out = append(out, rel)
	}
	if err := s.Err(); err != nil {
		return nil, err
	}
	if got := hex.EncodeToString(hash.Sum(nil)); sum != "" && got != sum {
		return nil, fmt.Errorf("its SHA-256 is %s and the Release file says %s: it is damaged, cut short, or not "+
			"of this Release", got, sum)
	}
	return out, nil
}

// fill makes a release of a stanza. Its strings share one allocation.
func fill(rel *catalogue.Release, s *Stanzas, native string) error {
	name, ver, arch, file := s.Value(0), s.Value(1), s.Value(2), s.Value(3)
	if len(name) == 0 || len(ver) == 0 {
		return fmt.Errorf("a stanza has no Package or no Version")
	}
	buf := make([]byte, 0, 6+len(name)+len(arch)+len(ver)+len(file)+64+len(s.Value(6)))
	buf = append(append(buf, "deb:"...), name...)
	if a := string(arch); a != "all" && a != native && native != "" {
		buf = append(append(buf, ':'), arch...)
	}
	k := len(buf)
	buf = append(buf, ver...)
	v := len(buf)
	buf = append(buf, file...)
	f := len(buf)
	buf = append(buf, s.Value(5)...)
	h := len(buf)
	source, sourceVersion, other := bytes.Cut(s.Value(6), []byte(" ("))
	buf = append(append(buf, source...), bytes.TrimSuffix(sourceVersion, []byte(")"))...)
	text := string(buf)
	rel.Component, rel.Version, rel.File, rel.SHA256 = estate.Key(text[:k]), text[k:v], text[v:f], text[f:h]
	if len(source) > 0 {
		rel.Source = text[h : h+len(source)]
	}
	if other {
		rel.SourceVersion = text[h+len(source):]
	}
	if size := s.Value(4); len(size) > 0 {
		n, err := strconv.ParseInt(string(size), 10, 64)
		if err != nil {
			return fmt.Errorf("the Size of %s is %q", name, size)
		}
		rel.Size = n
	}
	return nil
}

// Installed is a package in dpkg's database. State is empty where it is wholly installed, and else dpkg's word for how
// far it is.
type Installed struct {
	Name, Version, Arch string
	State               string
}

// ReadStatus reads dpkg's status file and returns the packages that are there, wholly installed or not, and the
// machine's own architecture as dpkg's own package tells it. The status has three words (dpkg-query(1)): what is
// wanted, whether an error is known, and how far the package is. Only what is not installed, or of which nothing but
// its configuration files is left, is not there.
func ReadStatus(r io.Reader) (installed []Installed, native string, err error) {
	s := NewStanzas(r, "Package", "Version", "Architecture", "Status")
	for s.Next() {
		p := Installed{Name: string(s.Value(0)), Version: string(s.Value(1)), Arch: string(s.Value(2))}
		if p.Name == "dpkg" {
			native = p.Arch
		}
		words := strings.Fields(string(s.Value(3)))
		if len(words) != 3 {
			if p.Name != "" && p.Version != "" { // how far it is nobody can say
				p.State = fmt.Sprintf("of the status %q, which dpkg does not know", s.Value(3))
				installed = append(installed, p)
			}
			continue
		}
		switch words[2] {
		case "not-installed", "config-files":
			continue
		case "installed":
		default:
			p.State = words[2]
		}
		if words[1] != "ok" {
			p.State = strings.TrimPrefix(p.State+", needs to be installed again", ", ")
		}
		installed = append(installed, p)
	}
	return installed, native, s.Err()
}
