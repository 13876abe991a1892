// Package releaselist reads our own list of releases in YAML, for what no open index describes: drivers, firmware, and
// platforms whose maker publishes no repository. docs/formats.md describes it.
package releaselist

import (
	"encoding/hex"
	"fmt"
	"slices"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/strictyaml"
)

// list is the file.
type list struct {
	Feed       string      `yaml:"feed"`
	Made       string      `yaml:"made"`
	Components []component `yaml:"components"`
}

type component struct {
	Component string    `yaml:"component"`
	Hardware  []string  `yaml:"hardware"`
	Tracks    []track   `yaml:"tracks"`
	Releases  []release `yaml:"releases"`
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
	File       string        `yaml:"file"`
	Size       int64         `yaml:"size"`
	SHA256     string        `yaml:"sha256"`
}

type requirement struct {
	Component string `yaml:"component"`
	AtLeast   string `yaml:"at_least"`
}

// Parse reads a release list. The error is a *strictyaml.Error with the place.
func Parse(name string, text []byte) (catalogue.Feed, []catalogue.Release, []catalogue.Track, error) {
	var l list
	f, err := strictyaml.Decode(name, text, &l)
	if err != nil {
		return catalogue.Feed{}, nil, nil, err
	}
	if l.Feed == "" {
		return catalogue.Feed{}, nil, nil, f.Errorf("$", "the list does not say which feed it is: expected \"feed: NAME\"")
	}
	feed := catalogue.Feed{Name: l.Feed}
	if feed.Made, err = date(l.Made); err != nil {
		return feed, nil, nil, f.Errorf("$.made", "%v", err)
	}
	var releases []catalogue.Release
	var tracks []catalogue.Track
	for i, c := range l.Components {
		at := fmt.Sprintf("$.components[%d]", i)
		rs, ts, err := c.read(f, at, l.Feed)
		if err != nil {
			return feed, nil, nil, err
		}
		releases, tracks = append(releases, rs...), append(tracks, ts...)
	}
	return feed, releases, tracks, nil
}

func (c component) read(f *strictyaml.File, at, feed string) ([]catalogue.Release, []catalogue.Track, error) {
	key, err := estate.ParseKey(c.Component)
	if err != nil {
		return nil, nil, f.Errorf(at+".component", "%v", err)
	}
	var tracks []catalogue.Track
	var names []string
	for i, t := range c.Tracks {
		if t.Name == "" || t.Versions == "" {
			return nil, nil, f.Errorf(fmt.Sprintf("%s.tracks[%d]", at, i), "a track needs its name and the prefix of its versions")
		}
		tracks = append(tracks, catalogue.Track{Component: key, Name: t.Name, Prefix: t.Versions})
		names = append(names, t.Name)
	}
	var out []catalogue.Release
	for i, r := range c.Releases {
		rel, err := r.read(f, fmt.Sprintf("%s.releases[%d]", at, i), key, names)
		if err != nil {
			return nil, nil, err
		}
		rel.Hardware, rel.Feed = c.Hardware, feed
		out = append(out, rel)
	}
	return out, tracks, nil
}

func (r release) read(f *strictyaml.File, at string, key estate.Key, tracks []string) (catalogue.Release, error) {
	out := catalogue.Release{Component: key, Version: r.Version, Track: r.Track, Advisories: r.Advisories, Withdrawn: r.Withdrawn,
		Notes: r.Notes, File: r.File, Size: r.Size, SHA256: r.SHA256, Restart: catalogue.Restart(r.Restart)}
	if r.Version == "" {
		return out, f.Errorf(at, "the release has no version")
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
	if r.File != "" && r.SHA256 == "" {
		return out, f.Errorf(at+".file", "a release with a file needs its sha256: nothing unverified is applied")
	}
	for i, q := range r.Requires {
		k, err := estate.ParseKey(q.Component)
		if err != nil {
			return out, f.Errorf(fmt.Sprintf("%s.requires[%d].component", at, i), "%v", err)
		}
		out.Requires = append(out.Requires, catalogue.Requirement{Component: k, AtLeast: q.AtLeast})
	}
	return out, nil
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
