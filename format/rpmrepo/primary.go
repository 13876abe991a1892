package rpmrepo

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/bounds"
	"yareharbour/format/compressed"
)

// Key is the component of a package: the architecture is part of it only where it is foreign.
func Key(name, arch, native string) estate.Key {
	if arch == "noarch" || arch == native || native == "" {
		return estate.Key("rpm:" + name)
	}
	return estate.Key("rpm:" + name + ":" + arch)
}

// EVR joins an epoch, version and release the way rpm prints them; an epoch of 0 or none is left out.
func EVR(epoch, version, release string) string {
	v := version
	if release != "" {
		v += "-" + release
	}
	if epoch != "" && epoch != "0" {
		v = epoch + ":" + v
	}
	return v
}

// maxPackages is more than any repository has.
const maxPackages = 600_000

// ReadPrimary reads a primary.xml, plain, and returns its packages as releases like the one given. Source packages are
// no releases. native is the hosts' architecture. The file is streamed; one that breaks off is refused whole.
func ReadPrimary(r *compressed.Bounded, native string, like catalogue.Release) ([]catalogue.Release, error) {
	d := xml.NewDecoder(bounds.XML(r, bounds.Limits{Values: 1 << 30})) // packages are read one by one
	var out []catalogue.Release
	root, depth := false, 0 // raw tokens are fast, and not checked for their nesting by the decoder
	for {
		t, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("not a primary.xml: %w", err)
		}
		s, ok := t.(xml.StartElement)
		if _, end := t.(xml.EndElement); end {
			depth--
		} else if ok && s.Name.Local != "package" {
			depth++
		}
		switch {
		case !ok:
		case !root && s.Name.Local != "metadata":
			return nil, fmt.Errorf("not a primary.xml: it begins with <%s>", s.Name.Local)
		case !root:
			root = true
		case s.Name.Local == "package":
			rel, skip, err := readPackage(d, native, like)
			if err != nil {
				return nil, err
			}
			r.Next()
			if len(out) == maxPackages {
				return nil, fmt.Errorf("%w: more than %d packages", compressed.ErrTooMuch, maxPackages)
			}
			if !skip {
				out = append(out, rel)
			}
		}
	}
	if !root {
		return nil, errors.New("not a primary.xml: it is empty")
	}
	if depth != 0 {
		return nil, errors.New("the primary.xml breaks off")
	}
	return out, nil
}

// readPackage reads up to the end of a package element.
func readPackage(d *xml.Decoder, native string, like catalogue.Release) (rel catalogue.Release, skip bool, err error) {
	rel = like
	rel.Restart = catalogue.NoRestart
	var name, arch, epoch, ver, release string
	var field *string
	depth := 1
	for depth > 0 {
		t, err := d.RawToken()
		if err != nil {
			return rel, false, fmt.Errorf("the primary.xml breaks off in package %q: %w", name, err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			depth++
			field = nil
			switch t.Name.Local {
			case "name":
				if depth == 2 {
					field = &name
				}
			case "arch":
				field = &arch
			case "vendor":
				field = &rel.Vendor
			case "sourcerpm":
				field = &rel.Source
			case "checksum":
				if attr(t, "type") == "sha256" {
					field = &rel.SHA256
				}
			case "version":
				epoch, ver, release = attr(t, "epoch"), attr(t, "ver"), attr(t, "rel")
			case "location":
				rel.File = attr(t, "href")
			case "size":
				rel.Size, _ = strconv.ParseInt(attr(t, "package"), 10, 64)
			case "time":
				if n, err := strconv.ParseInt(attr(t, "build"), 10, 64); err == nil && n > 0 && n < 1<<40 {
					rel.Date = time.Unix(n, 0).UTC()
				}
			}
		case xml.EndElement:
			depth--
			field = nil
		case xml.CharData:
			if field != nil {
				*field += string(t)
			}
		}
	}
	rel.Version = EVR(epoch, ver, release)
	if name == "" || ver == "" {
		return rel, false, errors.New("a package of the primary.xml has no name or no version")
	}
	if rel.File != "" {
		if err := inside(rel.File); err != nil {
			return rel, false, fmt.Errorf("the location of %s: %w", name, err)
		}
	}
	rel.Component = Key(name, arch, native)
	rel.Source = sourceName(rel.Source)
	return rel, arch == "src" || arch == "nosrc", nil
}

// sourceName is the name in the file name of a source package: NAME-VERSION-RELEASE.src.rpm.
func sourceName(file string) string {
	dashes := 0
	for i := len(file) - 1; i > 0; i-- {
		if file[i] == '-' {
			if dashes++; dashes == 2 {
				return file[:i]
			}
		}
	}
	return ""
}

func attr(s xml.StartElement, name string) string {
	for _, a := range s.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}
