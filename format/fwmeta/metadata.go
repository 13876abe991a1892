// Package fwmeta reads firmware metadata: AppStream XML with components of the type
// "firmware" (the AppStream specification, with the extensions for firmware), and cabinet archives
// (MS-CAB) that hold a metainfo file beside the firmware.
package fwmeta

import (
	"cmp"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/bounds"
	"yareharbour/format/compressed"
)

// Naming says which component of the estate a firmware is, by its AppStream id and the GUIDs of the devices that it is
// for; "" where it is not named. Firmware that nobody names is a component of its own, called after its id.
type Naming func(id string, guids []string) estate.Key

type component struct {
	Type      string `xml:"type,attr"`
	ID        string `xml:"id"`
	Name      string `xml:"name"`
	Developer string `xml:"developer_name"`
	NewDev    struct {
		Name string `xml:"name"`
	} `xml:"developer"`
	Branch   string `xml:"branch"`
	Provides []struct {
		Type string `xml:"type,attr"`
		GUID string `xml:",chardata"`
	} `xml:"provides>firmware"`
	Requires struct {
		Firmware []struct {
			Compare string `xml:"compare,attr"`
			Version string `xml:"version,attr"`
			Of      string `xml:",chardata"`
		} `xml:"firmware"`
	} `xml:"requires"`
	Releases []release `xml:"releases>release"`
}

type release struct {
	Version   string `xml:"version,attr"`
	Timestamp int64  `xml:"timestamp,attr"`
	Date      string `xml:"date,attr"`
	Urgency   string `xml:"urgency,attr"`
	Location  string `xml:"location"`
	URLs      []struct {
		Type string `xml:"type,attr"`
		At   string `xml:",chardata"`
	} `xml:"url"`
	Checksums []checksum `xml:"checksum"`
	Sizes     []size     `xml:"size"`
	Artifacts []struct {
		Type      string     `xml:"type,attr"`
		Location  string     `xml:"location"`
		Checksums []checksum `xml:"checksum"`
		Sizes     []size     `xml:"size"`
	} `xml:"artifacts>artifact"`
	Issues []struct {
		Type string `xml:"type,attr"`
		ID   string `xml:",chardata"`
	} `xml:"issues>issue"`
	Description struct {
		Inner string `xml:",innerxml"`
	} `xml:"description"`
}

type checksum struct {
	Type   string `xml:"type,attr"`
	Target string `xml:"target,attr"`
	Value  string `xml:",chardata"`
}

type size struct {
	Type  string `xml:"type,attr"`
	Bytes int64  `xml:",chardata"`
}

// Read reads metadata, plain: a whole remote's catalogue or one archive's metainfo file. The feed is named after the
// metadata's origin where it has one. Components are streamed. A component that can't be understood is given to bad,
// which says whether to go on without it.
func Read(r *compressed.Bounded, feed string, name Naming,
	bad func(*catalogue.Batch, error) error) (catalogue.Batch, error) {
	b := catalogue.Batch{Feed: catalogue.Feed{Name: feed}}
	d := xml.NewDecoder(bounds.XML(r, bounds.Limits{Values: 1 << 30})) // components are read one by one
	d.Strict = true
	root := false
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return b, fmt.Errorf("not firmware metadata: %w", err)
		}
		s, ok := t.(xml.StartElement)
		if !ok {
			continue
		}
		switch {
		case s.Name.Local == "component":
			root = true
			var c component
			if err := d.DecodeElement(&c, &s); err != nil {
				return b, fmt.Errorf("a component of the firmware metadata: %w", err)
			}
			r.Next()
			if c.Type != "firmware" {
				continue
			}
			had := len(b.Releases)
			if err := c.read(&b, name); err != nil {
				b.Releases = b.Releases[:had]
				if err := bad(&b, err); err != nil {
					return b, err
				}
			}
		case !root && s.Name.Local != "components":
			return b, fmt.Errorf("not firmware metadata: it begins with <%s>", s.Name.Local)
		default:
			root = true
			for _, a := range s.Attr {
				if a.Name.Local == "origin" && feed == "" {
					b.Feed.Name = a.Value
				}
			}
		}
	}
	if !root {
		return b, errors.New("not firmware metadata: it is empty")
	}
	for i := range b.Releases {
		if b.Releases[i].Date.After(b.Feed.Made) {
			b.Feed.Made = b.Releases[i].Date
		}
	}
	return b, nil
}

// urgencies are AppStream's words.
var urgencies = map[string]catalogue.Severity{"low": catalogue.Low, "medium": catalogue.Medium, "high": catalogue.High,
	"critical": catalogue.Critical}

func (c component) read(b *catalogue.Batch, name Naming) error {
	var guids []string
	for _, p := range c.Provides {
		if p.Type == "flashed" {
			guids = append(guids, strings.ToLower(strings.TrimSpace(p.GUID)))
		}
	}
	id := strings.TrimSpace(c.ID)
	key := estate.Key("")
	if name != nil {
		key = name(id, guids)
	}
	if key == "" {
		key = estate.NewKey("fw", id)
	}
	if _, err := estate.ParseKey(string(key)); err != nil {
		return fmt.Errorf("the firmware %q: %w", id, err)
	}
	for _, r := range c.Releases {
		rel := catalogue.Release{Component: key, Version: r.Version, Track: strings.TrimSpace(c.Branch),
			Severity: urgencies[r.Urgency], Date: r.date(), Restart: catalogue.HostRestart,
			Vendor: cmp.Or(strings.TrimSpace(c.NewDev.Name), strings.TrimSpace(c.Developer)),
			Notes:  words(r.Description.Inner), Feed: b.Feed.Name}
		if r.Version == "" {
			return fmt.Errorf("the firmware %s has a release without a version", id)
		}
		for _, u := range r.URLs {
			if at := strings.TrimSpace(u.At); rel.Link == "" &&
				(strings.HasPrefix(at, "https://") || strings.HasPrefix(at, "http://")) {
				rel.Link = at
			}
		}
		r.payload(&rel)
		for _, i := range r.Issues {
			rel.Advisories = append(rel.Advisories, strings.TrimSpace(i.ID))
		}
		for _, q := range c.Requires.Firmware {
			if q.Compare == "ge" && strings.TrimSpace(q.Of) == "" { // of the device's own firmware
				rel.Requires = append(rel.Requires, catalogue.Requirement{Component: key, AtLeast: q.Version})
			}
		}
		b.Releases = append(b.Releases, rel)
	}
	return nil
}

func (r release) date() time.Time {
	if r.Timestamp > 0 && r.Timestamp < 1<<40 {
		return time.Unix(r.Timestamp, 0).UTC()
	}
	t, _ := time.Parse(time.DateOnly, r.Date)
	return t
}

// payload takes over the file that the release comes in. Its SHA-256 is what counts: an archive that is vouched for by
// a weaker hash only has none.
func (r release) payload(rel *catalogue.Release) {
	at, sums, sizes := r.Location, r.Checksums, r.Sizes
	for _, a := range r.Artifacts {
		if a.Type == "binary" || at == "" {
			at, sums, sizes = a.Location, a.Checksums, a.Sizes
		}
	}
	for _, c := range sums {
		v := strings.ToLower(strings.TrimSpace(c.Value))
		if raw, err := hex.DecodeString(v); c.Type == "sha256" && c.Target != "content" &&
			err == nil && len(raw) == 32 {
			rel.SHA256 = v
		}
	}
	for _, s := range sizes {
		if s.Type == "download" {
			rel.Size = s.Bytes
		}
	}
	if at != "" && rel.SHA256 != "" {
		rel.File = path.Base(at)
	}
}

// words is the text of a description, without its markup.
func words(inner string) string {
	d := xml.NewDecoder(strings.NewReader(inner))
	var out []string
	for {
		t, err := d.Token()
		if err != nil {
			return strings.Join(out, " ")
		}
		if c, ok := t.(xml.CharData); ok {
			out = append(out, strings.Fields(string(c))...)
		}
	}
}

// defaultContent is the file that a release's firmware is in where its metainfo names none (AppStream's extensions for
// firmware).
const defaultContent = "firmware.bin"

// content is what a metainfo file states of the firmware of one release: the file's name, and its SHA-256 where it
// states that.
type content struct{ version, file, sha256 string }

// contents are those of the releases of a metainfo file, in its order.
func contents(metainfo []byte) ([]content, error) {
	var c struct {
		Releases []struct {
			Version string `xml:"version,attr"`
			Sums    []struct {
				Type     string `xml:"type,attr"`
				Target   string `xml:"target,attr"`
				Filename string `xml:"filename,attr"`
				Value    string `xml:",chardata"`
			} `xml:"checksum"`
		} `xml:"releases>release"`
	}
	if err := xml.NewDecoder(bounds.XML(strings.NewReader(string(metainfo)), bounds.Usual)).Decode(&c); err != nil {
		return nil, fmt.Errorf("a metainfo file: %w", err)
	}
	var out []content
	for _, r := range c.Releases {
		x := content{version: r.Version}
		for _, s := range r.Sums {
			if s.Target == "content" && s.Filename != "" {
				x.file = path.Base(s.Filename)
				if s.Type == "sha256" {
					x.sha256 = strings.ToLower(strings.TrimSpace(s.Value))
				}
			}
		}
		out = append(out, x)
	}
	return out, nil
}
