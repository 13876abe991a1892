// Package catalogue holds all that is known of what can be had: releases of components, the tracks they continue, and
// which of them were withdrawn. It answers one question well: what is the newest release for this component, on the
// track that it stands on, for the hardware it is. It reads no files; feeds do that and hand their releases in.
//
// A release on another track is never an answer, however new: a track is a line of versions that continue each other,
// and changing lines is a decision, not an update.
package catalogue

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Severity says how much a release matters; the zero value is unknown and sorts lowest.
type Severity uint8

// The severities, as advisories grade them.
const (
	Unknown Severity = iota
	Low
	Medium
	High
	Critical
)

var severityNames = [...]string{"unknown", "low", "medium", "high", "critical"}

// String returns the name that ParseSeverity reads.
func (s Severity) String() string { return severityNames[min(int(s), len(severityNames)-1)] }

// Severities are all, the worst first.
var Severities = []Severity{Critical, High, Medium, Low, Unknown}

// MarshalText writes the name.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads the name.
func (s *Severity) UnmarshalText(b []byte) (err error) {
	*s, err = ParseSeverity(string(b))
	return err
}

// ParseSeverity is the inverse of String; the empty string is Unknown.
func ParseSeverity(name string) (Severity, error) {
	if name == "" {
		return Unknown, nil
	}
	if i := slices.Index(severityNames[:], name); i >= 0 {
		return Severity(i), nil
	}
	return Unknown, fmt.Errorf("no severity %q: there are %s", name, strings.Join(severityNames[1:], ", "))
}

// Restart says what must restart before a release runs. The values rise with the disturbance.
type Restart string

// The restarts that a release can need.
const (
	NoRestart      Restart = "none"
	ServiceRestart Restart = "service"
	BMCRestart     Restart = "bmc"
	HostRestart    Restart = "host"
	PowerCycle     Restart = "power cycle"
)

// Restarts lists them from the least to the greatest disturbance.
var Restarts = []Restart{NoRestart, ServiceRestart, BMCRestart, HostRestart, PowerCycle}

// EmptiesHost tells whether the host's guests must leave before such a restart.
func (r Restart) EmptiesHost() bool { return r == HostRestart || r == PowerCycle }

// Requirement is another component that must stand at a version at least before the release may go in.
type Requirement struct {
	Component estate.Key `json:"component"`
	AtLeast   string     `json:"at_least"`
	// Anywhere is enough: on some host, or inside some guest, of the cluster. So a management service goes before the
	// hosts that it manages.
	Anywhere bool `json:"anywhere,omitempty"`
}

// Release is a version of a component that can be had.
type Release struct {
	Component  estate.Key    `json:"component"`
	Version    string        `json:"version"`
	Track      string        `json:"track,omitempty"` // empty: the component has but one line
	Severity   Severity      `json:"severity"`
	Date       time.Time     `json:"date,omitzero"`
	Restart    Restart       `json:"restart,omitempty"`
	Hardware   []string      `json:"hardware,omitempty"` // models it is for; empty: any
	Advisories []string      `json:"advisories,omitempty"`
	Requires   []Requirement `json:"requires,omitempty"`
	Withdrawn  string        `json:"withdrawn,omitempty"` // why its publisher took it back; empty: it stands
	Notes      string        `json:"notes,omitempty"`
	// why nobody goes back from it to an older one; empty: nothing is known against it
	OneWay string `json:"one_way,omitempty"`
	// Adds and Drops are features that a host has, or has no more, once it runs: types of machine among them.
	Adds   []string `json:"adds,omitempty"`
	Drops  []string `json:"drops,omitempty"`
	Link   string   `json:"link,omitempty"` // to its notes, http or https
	Feed   string   `json:"feed"`           // where it was learned from
	File   string   `json:"file,omitempty"`
	Size   int64    `json:"size,omitempty"` // bytes
	SHA256 string   `json:"sha256,omitempty"`
	// Image tells that File is an image from which the host is started once, and Takes how long that usually takes; 0
	// where nobody says.
	Image bool `json:"image,omitempty"`
	// At is where BMCs fetch the image themselves; empty: it is served from here. Nobody here holds what they get against
	// its hash.
	At    string        `json:"at,omitempty"`
	Takes time.Duration `json:"takes,omitempty"`
	// Signed tells that a repository whose signature was good vouches for it.
	Signed bool `json:"signed,omitempty"`
	// Manual releases are never proposed by a rule; only a pinned clause can ask for one.
	Manual bool `json:"manual,omitempty"`
	// Vendor is who publishes it, as its feed says.
	Vendor string `json:"vendor,omitempty"`
	// Source and SourceVersion name what a package was built from where advisories speak of that; empty: of the package
	// itself, and the same version.
	Source        string `json:"source,omitempty"`
	SourceVersion string `json:"source_version,omitempty"`
	// Replaces names the components that this one takes the place of.
	Replaces []estate.Key `json:"replaces,omitempty"`
	// Members are what a whole-host release is made of; empty for any other kind.
	Members []Requirement `json:"members,omitempty"`
	// Fixes are the advisories that this release is the first to mend; Catalogue fills them in.
	Fixes []Fix `json:"fixes,omitempty"`

	// Disputed says in what feeds disagree about this very release; empty: they don't. One whose hash is disputed is
	// not installed.
	Disputed string `json:"disputed,omitempty"`

	stated Severity // as its feed says, without advisories
	own    string   // why its own feed says that it was withdrawn
}

// Barred says why the release is not put in, as what follows its name in a sentence; "" where it may be. A nil release
// is barred.
func (r *Release) Barred() string {
	switch {
	case r == nil:
		return "is in no feed"
	case r.Withdrawn != "":
		return "was withdrawn: " + r.Withdrawn
	case (r.File == "" || r.SHA256 == "") && !r.Signed:
		return "comes in no file whose SHA-256 is stated, and no signed repository vouches for it"
	}
	return ""
}

// Fix is an advisory that a release is the first in the catalogue to mend.
type Fix struct {
	Advisory string   `json:"advisory"`
	Severity Severity `json:"severity"`
	In       string   `json:"in"` // the first version of the component, or of its source, without the flaw
}

// SeverityFrom is how much the release matters to who stands at the version: what its feed says of it, and the worst of
// the advisories that it mends and that version does not have mended yet. An empty version stands for a host without
// the component.
func (r *Release) SeverityFrom(from string) Severity {
	if len(r.Fixes) == 0 {
		return r.Severity
	}
	worst := r.stated
	for _, f := range r.Fixes {
		if from == "" || r.Component.Scheme().Compare(from, f.In) < 0 {
			worst = max(worst, f.Severity)
		}
	}
	return worst
}

// Fits tells whether the release is for that hardware model. Software has none and always fits.
func (r *Release) Fits(model string) bool {
	return len(r.Hardware) == 0 || estate.HasModel(r.Hardware, model)
}

// Track declares a line of versions of a component by the prefix they share.
type Track struct {
	Component estate.Key
	Name      string
	Prefix    string
}

// Catalogue is all releases, by component. The zero value is empty and ready. It is not safe to change it while others
// read it; many may read it at once.
type Catalogue struct {
	gaps       []Gap
	releases   map[estate.Key][]Release // rising by version
	tracks     map[estate.Key][]Track
	feeds      []Feed
	advisories map[string]*Advisory
	against    map[estate.Key][]against // what advisories say of components
	sources    map[estate.Key][]against // and of what packages are built from
	pairs      []Pairing
}

// Feed says where releases came from and how current that is.
type Feed struct {
	Name       string    `json:"name"`
	Made       time.Time `json:"made,omitzero"` // as the publisher dates it
	Releases   int       `json:"releases"`
	Advisories int       `json:"advisories,omitempty"`
}

// Add takes releases in. A release that is there already (same component, track and hardware, and the same version
// however it is spelled) is not doubled: a withdrawal is taken over from either, and where two feeds say different
// things of it, that is noted in Disputed. A withdrawal that names no hardware or no track means all.
func (c *Catalogue) Add(feed Feed, releases []Release, tracks ...Track) {
	if c.releases == nil {
		c.releases = make(map[estate.Key][]Release, len(releases))
		c.tracks = make(map[estate.Key][]Track)
	}
	for i := range releases {
		c.add(&releases[i])
	}
	for _, t := range tracks {
		if !slices.Contains(c.tracks[t.Component], t) {
			c.tracks[t.Component] = append(c.tracks[t.Component], t)
		}
	}
	feed.Releases = len(releases)
	c.addFeed(feed)
	for key, rs := range c.releases {
		if len(rs) > 1 {
			sortReleases(rs)
		}
		c.place(key, rs)
	}
	c.join()
}

// place puts releases that name no track on the declared one whose prefix their versions have, and spreads withdrawals
// over every release that they mean.
func (c *Catalogue) place(key estate.Key, rs []Release) {
	for i := range rs {
		for _, t := range c.tracks[key] {
			if rs[i].Track == "" && strings.HasPrefix(rs[i].Version, t.Prefix) {
				rs[i].Track = t.Name
			}
		}
		rs[i].Withdrawn = rs[i].own
	}
	for i := range rs {
		w := &rs[i]
		if w.own == "" {
			continue
		}
		for j := range rs {
			r := &rs[j]
			if i != j && r.own == "" && key.Scheme().Compare(r.Version, w.Version) == 0 &&
				(w.Track == "" || w.Track == r.Track) && w.meansAll(r.Hardware) {
				r.Withdrawn = w.own
			}
		}
	}
}

// meansAll tells whether what is said of the release is said of all of that hardware.
func (r *Release) meansAll(hardware []string) bool {
	if len(r.Hardware) == 0 {
		return true
	}
	return len(hardware) > 0 &&
		!slices.ContainsFunc(hardware, func(h string) bool { return !estate.HasModel(r.Hardware, h) })
}

// WithdrawnFor says why a version of the component was taken back for that hardware, on that track; "" where it stands,
// or is not known. The version is known by what it is, not by how it is spelled; an empty track or model in what is
// asked or in the withdrawal means all of them.
func (c *Catalogue) WithdrawnFor(key estate.Key, ver, track, model string) string {
	rs := c.releases[key]
	scheme := key.Scheme()
	i, _ := slices.BinarySearchFunc(rs, ver, func(r Release, v string) int { return scheme.Compare(r.Version, v) })
	for ; i < len(rs) && scheme.Compare(rs[i].Version, ver) == 0; i++ {
		r := &rs[i]
		if r.Withdrawn != "" && (r.Track == "" || track == "" || r.Track == track) && (model == "" || r.Fits(model)) {
			return r.Withdrawn
		}
	}
	return ""
}

// addFeed notes the feed; what is added in parts counts as one.
func (c *Catalogue) addFeed(feed Feed) {
	for i := range c.feeds {
		if f := &c.feeds[i]; f.Name == feed.Name {
			f.Releases, f.Advisories = f.Releases+feed.Releases, f.Advisories+feed.Advisories
			if feed.Made.After(f.Made) {
				f.Made = feed.Made
			}
			return
		}
	}
	c.feeds = append(c.feeds, feed)
}

func sortReleases(rs []Release) {
	scheme := rs[0].Component.Scheme()
	slices.SortStableFunc(rs, func(a, b Release) int { return scheme.Compare(a.Version, b.Version) })
}

func (c *Catalogue) add(r *Release) {
	have := c.releases[r.Component]
	scheme := r.Component.Scheme()
	for i := range have {
		h := &have[i]
		if (h.Version == r.Version || scheme.Compare(h.Version, r.Version) == 0) &&
			(h.Track == r.Track || r.Track == "") && estate.SameModels(h.Hardware, r.Hardware) {
			h.dispute(r)
			if h.own == "" {
				h.own = r.Withdrawn
			}
			if h.File == "" || h.SHA256 == "" {
				h.File, h.Size, h.SHA256, h.At = r.File, r.Size, r.SHA256, r.At
			}
			h.Signed = h.Signed || r.Signed
			h.OneWay = cmp.Or(h.OneWay, r.OneWay)
			h.Adds, h.Drops = union(h.Adds, r.Adds), union(h.Drops, r.Drops)
			h.Link = cmp.Or(h.Link, r.Link)
			h.stated, h.Severity = max(h.stated, r.Severity), max(h.Severity, r.Severity)
			return
		}
	}
	if have == nil {
		have = make([]Release, 0, 1)
	}
	n := *r
	n.stated, n.Fixes, n.own = r.Severity, nil, r.Withdrawn
	c.releases[r.Component] = append(have, n)
}

func union(a, b []string) []string {
	for _, x := range b {
		if !slices.Contains(a, x) {
			a = append(a[:len(a):len(a)], x)
		}
	}
	return a
}

// dispute notes in what another feed says otherwise of the same release. What only one of them says is no dispute.
func (h *Release) dispute(o *Release) {
	if h.Feed == o.Feed {
		return
	}
	differ := func(what, a, b string) {
		if a != "" && b != "" && a != b {
			h.Disputed = strings.TrimPrefix(fmt.Sprintf("%s; its %s is %s in %s and %s in %s", h.Disputed, what, a,
				h.Feed, b, o.Feed), "; ")
		}
	}
	differ("SHA-256", h.SHA256, o.SHA256)
	differ("address", h.At, o.At)
	differ("restart", string(h.Restart), string(o.Restart))
	if !h.Date.IsZero() && !o.Date.IsZero() {
		differ("date", h.Date.Format(time.DateOnly), o.Date.Format(time.DateOnly))
	}
}

// Ambiguous tells whether feeds disagree on the very file in which the release comes.
func (r *Release) Ambiguous() bool { return strings.Contains(r.Disputed, "SHA-256") }

// Feeds returns the feeds that were taken in, in that order.
func (c *Catalogue) Feeds() []Feed { return c.feeds }

// Len is the number of components with at least one release.
func (c *Catalogue) Len() int { return len(c.releases) }

// Components returns the components that have a release, sorted.
func (c *Catalogue) Components() []estate.Key { return slices.Sorted(maps.Keys(c.releases)) }

// Releases returns all releases of the component in rising order. The slice belongs to the catalogue.
func (c *Catalogue) Releases(key estate.Key) []Release { return c.releases[key] }

// Release returns the release of that version for that model, preferring one on the track given.
func (c *Catalogue) Release(key estate.Key, ver, track, model string) *Release {
	scheme := key.Scheme()
	var found *Release
	rs := c.releases[key]
	for i := range rs {
		if scheme.Compare(rs[i].Version, ver) != 0 || !rs[i].Fits(model) {
			continue
		}
		if rs[i].Track == track {
			return &rs[i]
		}
		if found == nil {
			found = &rs[i]
		}
	}
	return found
}

// TrackOf tells on which track a version stands: by the release if the catalogue has it, otherwise by the prefixes
// declared for the component. A version that is on the unnamed track and on another stands on the unnamed one. It
// returns false where the component has tracks but none of them holds the version.
func (c *Catalogue) TrackOf(key estate.Key, ver, model string) (string, bool) {
	if r := c.Release(key, ver, "", model); r != nil {
		return r.Track, true
	}
	for _, t := range c.tracks[key] {
		if strings.HasPrefix(ver, t.Prefix) {
			return t.Name, true
		}
	}
	return "", len(c.tracks[key]) == 0
}

// Tracks returns the names of the component's tracks in the order in which they were declared.
func (c *Catalogue) Tracks(key estate.Key) []string {
	var names []string
	for _, t := range c.tracks[key] {
		names = append(names, t.Name)
	}
	return names
}
