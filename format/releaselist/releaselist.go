// Package releaselist reads our own list of releases in YAML, for what no open index describes: drivers, firmware, and
// platforms whose maker publishes no repository. docs/formats.md describes it.
package releaselist

import (
	"cmp"
	_ "embed" // the schema
	"encoding/hex"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/span"
	"yareharbour/format/strictyaml"
)

// list is the file.
type list struct {
	Feed          string          `yaml:"feed"`
	Made          string          `yaml:"made"`
	Vendor        string          `yaml:"vendor"`
	Components    []component     `yaml:"components"`
	Images        []image         `yaml:"images"`
	Compatibility []compatibility `yaml:"compatibility"`
}

// compatibility is a list of combinations that are known to be good for a model of hardware.
type compatibility struct {
	List     string `yaml:"list"`
	Hardware string `yaml:"hardware"`
	Outside  string `yaml:"outside"` // what a combination outside it is: "caution" or "blocker"
	Lines    []struct {
		Platform string   `yaml:"platform"`
		With     []within `yaml:"with"`
	} `yaml:"lines"`
}

type within struct {
	Component string `yaml:"component"`
	From      string `yaml:"from"`
	To        string `yaml:"to"`
	Version   string `yaml:"version"` // from and to at once
}

type component struct {
	Component string    `yaml:"component"`
	Vendor    string    `yaml:"vendor"`
	Replaces  []string  `yaml:"replaces"`
	Hardware  []string  `yaml:"hardware"`
	Tracks    []track   `yaml:"tracks"`
	Releases  []release `yaml:"releases"`
}

// image is a release of several components in one file, from which a host is started once.
type image struct {
	Brings     []brought `yaml:"brings"`
	Hardware   []string  `yaml:"hardware"`
	Takes      string    `yaml:"takes"` // usually, as "25m"
	Date       string    `yaml:"date"`
	Severity   string    `yaml:"severity"`
	Advisories []string  `yaml:"advisories"`
	Withdrawn  string    `yaml:"withdrawn"`
	Notes      string    `yaml:"notes"`
	OneWay     string    `yaml:"one_way"`
	Link       string    `yaml:"link"`
	File       string    `yaml:"file"`
	Size       int64     `yaml:"size"`
	SHA256     string    `yaml:"sha256"`
	At         string    `yaml:"at"` // where BMCs fetch it themselves
}

type brought struct {
	Component string `yaml:"component"`
	Version   string `yaml:"version"`
	Track     string `yaml:"track"`
}

type track struct {
	Name     string `yaml:"name"`
	Versions string `yaml:"versions"` // the prefix its versions share
}

type release struct {
	Version    string        `yaml:"version"`
	Track      string        `yaml:"track"`
	Date       string        `yaml:"date"`
	Severity   string        `yaml:"severity"`
	Restart    string        `yaml:"restart"`
	Advisories []string      `yaml:"advisories"`
	Requires   []requirement `yaml:"requires"`
	Withdrawn  string        `yaml:"withdrawn"`
	Notes      string        `yaml:"notes"`
	OneWay     string        `yaml:"one_way"`
	Adds       []string      `yaml:"adds"`
	Drops      []string      `yaml:"drops"`
	Link       string        `yaml:"link"`
	File       string        `yaml:"file"`
	Size       int64         `yaml:"size"`
	SHA256     string        `yaml:"sha256"`
	Members    []member      `yaml:"members"`
}

type member struct {
	Component string `yaml:"component"`
	Version   string `yaml:"version"`
}

type requirement struct {
	Component string `yaml:"component"`
	AtLeast   string `yaml:"at_least"`
	Anywhere  bool   `yaml:"anywhere"`
}

// Schema is the JSON Schema (draft 2020-12) of a release list.
//
//go:embed schema.json
var Schema []byte

// Parse reads a release list. The error is a *strictyaml.Error with the place.
func Parse(name string, text []byte) (catalogue.Batch, error) {
	return ParseSome(name, text, func(_ *catalogue.Batch, err error) error { return err })
}

// ParseSome reads a release list whose bad entries are given to bad, which says whether to go on without them. A list
// that is no proper YAML, or has names that no list has, is an error as a whole.
func ParseSome(name string, text []byte, bad func(*catalogue.Batch, error) error) (catalogue.Batch, error) {
	var l list
	var b catalogue.Batch
	f, err := strictyaml.Decode(name, text, &l)
	if err != nil {
		return b, err
	}
	if l.Feed == "" {
		return b, f.Errorf("$", "the list does not say which feed it is: expected \"feed: NAME\"")
	}
	b.Feed.Name = l.Feed
	if b.Feed.Made, err = date(l.Made); err != nil {
		return b, f.Errorf("$.made", "%v", err)
	}
	for i, c := range l.Components {
		if err := c.read(f, fmt.Sprintf("$.components[%d]", i), l, &b, bad); err != nil {
			if err := bad(&b, err); err != nil {
				return b, err
			}
		}
	}
	for i, x := range l.Images {
		if err := x.read(f, fmt.Sprintf("$.images[%d]", i), l, &b); err != nil {
			if err := bad(&b, err); err != nil {
				return b, err
			}
		}
	}
	for i, c := range l.Compatibility {
		if err := c.read(f, fmt.Sprintf("$.compatibility[%d]", i), &b); err != nil {
			if err := bad(&b, err); err != nil {
				return b, err
			}
		}
	}
	return b, nil
}

func (c component) read(f *strictyaml.File, at string, l list, b *catalogue.Batch,
	bad func(*catalogue.Batch, error) error) error {
	key, err := estate.ParseKey(c.Component)
	if err != nil {
		return f.Errorf(at+".component", "%v", err)
	}
	var names []string
	for i, t := range c.Tracks {
		if t.Name == "" || t.Versions == "" {
			return f.Errorf(fmt.Sprintf("%s.tracks[%d]", at, i),
				"a track needs its name and the prefix of its versions")
		}
		b.Tracks = append(b.Tracks, catalogue.Track{Component: key, Name: t.Name, Prefix: t.Versions})
		names = append(names, t.Name)
	}
	var replaces []estate.Key
	for i, r := range c.Replaces {
		k, err := estate.ParseKey(r)
		if err != nil {
			return f.Errorf(fmt.Sprintf("%s.replaces[%d]", at, i), "%v", err)
		}
		replaces = append(replaces, k)
	}
	for i, r := range c.Releases {
		rel, err := r.read(f, fmt.Sprintf("%s.releases[%d]", at, i), key, names)
		if err != nil {
			if err := bad(b, err); err != nil {
				return err
			}
			continue
		}
		rel.Hardware, rel.Feed, rel.Vendor, rel.Replaces = c.Hardware, l.Feed, cmp.Or(c.Vendor, l.Vendor), replaces
		b.Releases = append(b.Releases, rel)
	}
	return nil
}

// read makes a release of each component that the image brings: all come in one file.
func (x image) read(f *strictyaml.File, at string, l list, b *catalogue.Batch) error {
	takes, err := span.Parse(cmp.Or(x.Takes, "0s"))
	switch {
	case len(x.Brings) == 0:
		return f.Errorf(at, "an image brings components, each to a version: brings")
	case x.File == "":
		return f.Errorf(at, "an image is a file")
	case err != nil || takes < 0 || takes > 12*time.Hour:
		return f.Errorf(at+".takes", "an image takes a time as \"25m\", up to 12h, not %q", x.Takes)
	}
	if u, err := url.Parse(x.At); x.At != "" && (err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil || strings.ContainsAny(x.At, "# \t\n")) {
		return f.Errorf(at+".at", "BMCs fetch an image at an http or https URL without a password in it")
	}
	var out []catalogue.Release
	for i, m := range x.Brings {
		here := fmt.Sprintf("%s.brings[%d]", at, i)
		key, err := estate.ParseKey(m.Component)
		if err != nil {
			return f.Errorf(here+".component", "%v", err)
		}
		if key.Layer() != estate.Firmware {
			return f.Errorf(here+".component", "an image brings firmware, and %s is none", key)
		}
		rel, err := release{Version: m.Version, Track: m.Track, Date: x.Date, Severity: x.Severity, Restart: string(catalogue.HostRestart),
			Advisories: x.Advisories, Withdrawn: x.Withdrawn, Notes: x.Notes, OneWay: x.OneWay, Link: x.Link, File: x.File,
			Size: x.Size, SHA256: x.SHA256}.read(f, at, key, nil)
		if err != nil {
			return err
		}
		rel.Image, rel.At, rel.Takes, rel.Hardware, rel.Feed, rel.Vendor = true, x.At, takes, x.Hardware, l.Feed, l.Vendor
		out = append(out, rel)
	}
	b.Releases = append(b.Releases, out...)
	return nil
}

func (c compatibility) read(f *strictyaml.File, at string, b *catalogue.Batch) error {
	if c.List == "" {
		return f.Errorf(at, "a compatibility list needs its name (list)")
	}
	if !slices.Contains([]string{"", "caution", "blocker"}, c.Outside) {
		return f.Errorf(at+".outside", "what is outside the list is a \"caution\" or a \"blocker\", not %q", c.Outside)
	}
	if c.Lines == nil {
		return f.Errorf(at, "a compatibility list has lines")
	}
	for i, line := range c.Lines {
		p := catalogue.Pairing{List: c.List, Hardware: c.Hardware, Platform: line.Platform,
			Blocks: c.Outside == "blocker"}
		for j, w := range line.With {
			here := fmt.Sprintf("%s.lines[%d].with[%d]", at, i, j)
			k, err := estate.ParseKey(w.Component)
			if err != nil {
				return f.Errorf(here+".component", "%v", err)
			}
			if w.Version != "" && (w.From != "" || w.To != "") || w.Version+w.From+w.To == "" {
				return f.Errorf(here, "say the version, or from and to")
			}
			p.With = append(p.With, catalogue.Within{Component: k, From: cmp.Or(w.Version, w.From),
				To: cmp.Or(w.Version, w.To)})
		}
		if c.Hardware == "" && len(p.With) < 2 {
			return f.Errorf(fmt.Sprintf("%s.lines[%d]", at, i),
				"a list that names no hardware is about programs that must go together: each line names two at least")
		}
		if len(p.With) == 0 {
			return f.Errorf(fmt.Sprintf("%s.lines[%d]", at, i), "the line names no versions")
		}
		b.Pairings = append(b.Pairings, p)
	}
	return nil
}

func (r release) read(f *strictyaml.File, at string, key estate.Key, tracks []string) (catalogue.Release, error) {
	out := catalogue.Release{Component: key, Version: r.Version, Track: r.Track, Advisories: r.Advisories,
		Withdrawn: r.Withdrawn, Notes: r.Notes, OneWay: r.OneWay, Adds: r.Adds, Drops: r.Drops, Link: r.Link,
		File: r.File, Size: r.Size,
		SHA256: r.SHA256, Restart: catalogue.Restart(r.Restart)}
	if r.Version == "" {
		return out, f.Errorf(at, "the release has no version")
	}
	if r.Size < 0 {
		return out, f.Errorf(at+".size", "a size can't be negative")
	}
	if err := key.Scheme().Valid(r.Version); err != nil {
		return out, f.Errorf(at+".version", "%v", err)
	}
	if len(tracks) > 0 && !slices.Contains(tracks, r.Track) {
		return out, f.Errorf(at+".track", "the release must name one of the tracks %v", tracks)
	}
	if out.Restart == "" {
		out.Restart = catalogue.NoRestart
	}
	if !slices.Contains(catalogue.Restarts, out.Restart) {
		return out, f.Errorf(at+".restart", "no restart %q: expected one of %v", r.Restart, catalogue.Restarts)
	}
	var err error
	if out.Severity, err = catalogue.ParseSeverity(r.Severity); err != nil {
		return out, f.Errorf(at+".severity", "%v", err)
	}
	if out.Date, err = date(r.Date); err != nil {
		return out, f.Errorf(at+".date", "%v", err)
	}
	if b, err := hex.DecodeString(r.SHA256); err != nil || r.SHA256 != "" && len(b) != 32 {
		return out, f.Errorf(at+".sha256", "a SHA-256 has 64 hexadecimal digits")
	}
	if u, err := url.Parse(r.Link); r.Link != "" &&
		(err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
		return out, f.Errorf(at+".link", "a link is an http or https URL, not %q", r.Link)
	}
	if r.File != "" && r.SHA256 == "" {
		return out, f.Errorf(at+".file", "a release with a file needs its sha256: nothing unverified is applied")
	}
	for i, q := range r.Requires {
		k, err := estate.ParseKey(q.Component)
		if err != nil {
			return out, f.Errorf(fmt.Sprintf("%s.requires[%d].component", at, i), "%v", err)
		}
		if q.AtLeast == "" {
			return out, f.Errorf(fmt.Sprintf("%s.requires[%d]", at, i),
				"what is required has a version that it must be at least at: at_least")
		}
		out.Requires = append(out.Requires,
			catalogue.Requirement{Component: k, AtLeast: q.AtLeast, Anywhere: q.Anywhere})
	}
	return out, r.members(f, at, &out)
}

// members are what a whole-host release is made of; no other kind has any.
func (r release) members(f *strictyaml.File, at string, out *catalogue.Release) error {
	whole := out.Component.Kind() == estate.WholeHost
	if whole != (len(r.Members) > 0) {
		return f.Errorf(at, "a release of a whole-host target (host:NAME) has members, and no other has any")
	}
	if whole && r.File != "" {
		return f.Errorf(at+".file", "a whole-host target has no file of its own; its members have")
	}
	for i, m := range r.Members {
		here := fmt.Sprintf("%s.members[%d]", at, i)
		k, err := estate.ParseKey(m.Component)
		if err != nil {
			return f.Errorf(here+".component", "%v", err)
		}
		if k.Kind() == estate.WholeHost || m.Version == "" {
			return f.Errorf(here, "a member is a component with its version, and no target itself")
		}
		out.Members = append(out.Members, catalogue.Requirement{Component: k, AtLeast: m.Version})
	}
	return nil
}

func date(s string) (time.Time, error) {
	if s == "" {
		return time.Time{}, nil
	}
	t, err := time.Parse(time.DateOnly, s)
	if err != nil {
		return t, fmt.Errorf("the date %q is not of the form 2026-11-21", s)
	}
	return t, nil
}
