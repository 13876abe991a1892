// Package feed fetches what can be had: from a mirror over HTTP or HTTPS, or from a directory, into generations. A
// generation is a directory that holds everything a feed says at one moment, whole and verified; until the next one is,
// the old one stays what the feed says.
//
// Below the directory of a feed lie "current", a link to its generation; "next", what an interrupted sync fetched so
// far, which the next sync goes on from; and "status.json".
package feed

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/google/renameio/v2"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/span"
	"yareharbour/format/debindex"
)

// Kind says how a feed is laid out at its source.
type Kind string

// The kinds of feeds.
const (
	Debian   Kind = "debian"   // a Debian repository, with suites below dists
	RPM      Kind = "rpm"      // an RPM repository, with its repodata
	Firmware Kind = "firmware" // firmware metadata in AppStream XML: one file
	// release lists, CSAF and OSV advisories, cabinets, PLDM packages: files named by an index.txt, or a directory of
	// them
	Files Kind = "files"
)

// Describes are the kinds of components of which a source of this kind can have releases; none: any.
func (k Kind) Describes() []string {
	switch k {
	case Debian:
		return []string{"deb"}
	case RPM:
		return []string{"rpm"}
	case Firmware:
		return []string{"fw"}
	}
	return nil
}

// Kinds lists them.
var Kinds = []Kind{Debian, RPM, Firmware, Files}

// Feed is where releases come from.
type Feed struct {
	Name         string
	Kind         Kind
	At           string   // an http or https URL, or a directory's path
	Suites       []string // Debian: suites to read
	Components   []string // Debian: parts of a suite; none: all
	Architecture string   // of the hosts
	Keyrings     []string // files of OpenPGP keys; with any, a good signature is wanted
	Schedule     Schedule
	Proxy        string // URL of a proxy; empty: as the environment says (HTTPS_PROXY, NO_PROXY)
	Names        map[string]estate.Key
	MaxAge       time.Duration // how old what it said may be before nobody can tell by it what is wanted; 0: MaxAge
	Allow        []Permission  // what a site may need and what is refused otherwise
}

// MaxAge is how old a feed may be where nothing else is said.
const MaxAge = 30 * 24 * time.Hour

// Permission lets a feed do what is refused otherwise.
type Permission string

// The permissions.
const (
	Older          Permission = "older"           // a state that its publisher dates before the one in hand
	OtherSuite     Permission = "other-suite"     // a Release that calls itself another suite than the one asked for
	WeakSignatures Permission = "weak-signatures" // signatures over SHA-1
	PlainRedirects Permission = "plain-redirects" // redirects from https to http
)

// Permissions lists them.
var Permissions = []Permission{Older, OtherSuite, WeakSignatures, PlainRedirects}

// Allows tells whether the feed may do that.
func (f Feed) Allows(p Permission) bool { return slices.Contains(f.Allow, p) }

// keyring opens the feed's keyrings.
func (f Feed) keyring() (debindex.Keyring, error) {
	keys, err := debindex.OpenKeyrings(f.Keyrings)
	if f.Allows(WeakSignatures) {
		keys = keys.Weak()
	}
	return keys, err
}

// Remote tells whether the feed is fetched over a network.
func (f Feed) Remote() bool {
	u, err := url.Parse(f.At)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https")
}

// Schedule says when a feed is synced by itself.
type Schedule struct {
	Off   bool          // nothing is fetched unless this very feed is asked for
	Every time.Duration // zero: only on demand
	Daily string        // "03:30", local time; empty: not daily
}

// ParseSchedule reads "on demand", "off", "every 6h" and "daily 03:30". The empty string is "on demand".
func ParseSchedule(s string) (Schedule, error) {
	switch rest, every := strings.CutPrefix(s, "every "); {
	case s == "" || s == "on demand":
		return Schedule{}, nil
	case s == "off":
		return Schedule{Off: true}, nil
	case every:
		d, err := span.Parse(rest)
		if err != nil || d < time.Minute {
			return Schedule{}, fmt.Errorf(
				"%q is no time to sync: \"every\" wants a duration of a minute or more, as 6h", s)
		}
		return Schedule{Every: d}, nil
	}
	at, ok := strings.CutPrefix(s, "daily ")
	if _, err := time.Parse("15:04", at); !ok || err != nil {
		return Schedule{}, fmt.Errorf(
			"%q is no time to sync: expected \"on demand\", \"off\", \"every 6h\" or \"daily 03:30\"", s)
	}
	return Schedule{Daily: at}, nil
}

// String is the inverse of ParseSchedule.
func (s Schedule) String() string {
	switch {
	case s.Off:
		return "off"
	case s.Every > 0:
		return "every " + strings.TrimSuffix(strings.TrimSuffix(s.Every.String(), "0s"), "0m")
	case s.Daily != "":
		return "daily " + s.Daily
	}
	return "on demand"
}

// Due tells whether a feed that was last synced at that time is to be synced at the time now.
func (s Schedule) Due(last, now time.Time) bool {
	switch {
	case s.Off:
		return false
	case s.Every > 0:
		return now.Sub(last) >= s.Every
	case s.Daily != "":
		at, _ := time.Parse("15:04", s.Daily)
		today := time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
		if now.Before(today) {
			today = today.AddDate(0, 0, -1)
		}
		return last.Before(today)
	}
	return false
}

// Status is what became of a feed's syncs.
type Status struct {
	Tried   time.Time `json:"tried,omitzero"`
	Synced  time.Time `json:"synced,omitzero"` // the last time all was well, changed or not
	Changed time.Time `json:"changed,omitzero"`
	Error   string    `json:"error,omitempty"` // of the last try; empty where it was well
	// entries of the current generation that could not be read, and why; the rest came in
	Aside      []string  `json:"aside,omitempty"`
	Bytes      int64     `json:"bytes"` // of the current generation
	Files      int       `json:"files"`
	Releases   int       `json:"releases"`
	Advisories int       `json:"advisories"`
	Made       time.Time `json:"made,omitzero"`      // as its publisher dates it
	Schedule   *string   `json:"schedule,omitempty"` // in place of the estate file's, as somebody set it
}

// Retry is how long a feed whose last sync failed is let be before its next.
const Retry = 10 * time.Minute

// Due tells whether the feed is to be synced at the time now: its time has come since all was well last, and where a try
// failed since, Retry has passed.
func (s State) Due(now time.Time) bool {
	return s.Schedule.Due(s.Synced, now) && (!s.Tried.After(s.Synced) || now.Sub(s.Tried) >= Retry)
}

// State is a feed with what became of its syncs.
type State struct {
	Feed
	Status
	Schedule Schedule // that holds
}

// Gap says why nobody can rely on what the feed says at the time now, and empty where it can be relied on. told is what
// should be known of it all the same.
func (f Feed) Gap(st Status, now time.Time) (gap, told string) {
	failed := ""
	if st.Error != "" {
		failed = "; the last try failed: " + st.Error
	}
	switch age := now.Sub(st.Synced); {
	case st.Synced.IsZero():
		return "was never synced" + failed, ""
	case age > cmp.Or(f.MaxAge, MaxAge):
		return fmt.Sprintf("was synced %d days ago%s", int(age.Hours()/24), failed), ""
	case len(st.Aside) > 0:
		return fmt.Sprintf("has %d entries that can't be read, the first: %s", len(st.Aside), st.Aside[0]), ""
	case failed != "":
		return "", fmt.Sprintf("is as it was synced %s ago%s", age.Round(time.Minute), failed)
	}
	return "", ""
}

// Shelf is the directory below which feeds are kept.
type Shelf struct {
	Dir string

	// Idle is how long an answer may stay away before it counts as stalled, and Whole how long one file may take, all
	// tries together. Zero: the usual.
	Idle, Whole time.Duration

	first time.Duration // between the first two tries; zero: 300 ms
}

// patience is how long is waited between tries: twice as long each time, and not quite regularly, so that many who were
// turned away do not come back at once.
func (s Shelf) patience() backoff.BackOff {
	return &backoff.ExponentialBackOff{InitialInterval: cmp.Or(s.first, 300*time.Millisecond), Multiplier: 2,
		RandomizationFactor: .3, MaxInterval: 20 * time.Second}
}

func (s Shelf) dir(name string) string { return filepath.Join(s.Dir, name) }

// Status returns what is known of a feed; the zero value where it was never synced.
func (s Shelf) Status(name string) (Status, error) {
	var st Status
	b, err := os.ReadFile(filepath.Join(s.dir(name), "status.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return st, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &st)
	}
	if err != nil {
		return st, fmt.Errorf("the status of the feed %s: %w", name, err)
	}
	return st, nil
}

func (s Shelf) note(name string, st Status) error {
	b, err := json.MarshalIndent(st, "", "  ")
	if err == nil {
		err = os.MkdirAll(s.dir(name), 0o700)
	}
	if err == nil {
		err = renameio.WriteFile(filepath.Join(s.dir(name), "status.json"), b, 0o600)
	}
	if err != nil {
		return fmt.Errorf("noting the status of the feed %s: %w", name, err)
	}
	return nil
}

// Set has the feed synced by that schedule from now on, whatever the estate file says.
func (s Shelf) Set(name string, schedule Schedule) error {
	st, err := s.Status(name)
	if err != nil {
		return err
	}
	text := schedule.String()
	st.Schedule = &text
	return s.note(name, st)
}

// Scheduled returns the schedule that holds: the one that was set, or the feed's own.
func (s Shelf) Scheduled(f Feed) Schedule {
	st, err := s.Status(f.Name)
	if err == nil && st.Schedule != nil {
		if set, err := ParseSchedule(*st.Schedule); err == nil {
			return set
		}
	}
	return f.Schedule
}

// Current returns the files of the feed's generation, and false where it was never synced.
func (s Shelf) Current(name string) (fs.FS, bool) {
	dir, err := filepath.EvalSymlinks(filepath.Join(s.dir(name), "current"))
	if err != nil {
		return nil, false
	}
	return os.DirFS(dir), true
}

// Load reads the feed's generation; nothing where it was never synced.
func (s Shelf) Load(f Feed, now time.Time) ([]catalogue.Batch, error) {
	fsys, ok := s.Current(f.Name)
	if !ok {
		return nil, nil
	}
	batches, _, err := read(context.Background(), f, fsys, now, nil)
	if err != nil {
		return nil, fmt.Errorf("the feed %s as it was synced: %w; sync it again", f.Name, err)
	}
	return batches, nil
}

// valid says what is wrong with a feed's name.
func valid(name string) error {
	if name == "" || strings.ContainsAny(name, "/\\ \t\n") || strings.HasPrefix(name, ".") {
		return fmt.Errorf("%q can't be a feed's name: it is a directory's name too, without blanks and slashes", name)
	}
	return nil
}

// Check says what is wrong with a feed as it is described, and nil where it is well.
func (f Feed) Check() error {
	if err := valid(f.Name); err != nil {
		return err
	}
	switch {
	case !slices.Contains(Kinds, f.Kind):
		return fmt.Errorf("there is no kind of feed %q: expected one of %v", f.Kind, Kinds)
	case f.At == "":
		return errors.New("it does not say where it is: a URL or a directory (at)")
	case strings.Contains(f.At, "://") && !f.Remote():
		return fmt.Errorf("%q is no http or https URL, and no directory", Shown(f.At))
	case f.Kind == Debian && len(f.Suites) == 0:
		return errors.New("a Debian repository is read by its suites: name them (suites)")
	case (f.Kind == Debian || f.Kind == RPM) && f.Architecture == "":
		return errors.New("a repository is read for an architecture: name the hosts' (architecture)")
	}
	for _, p := range f.Allow {
		if !slices.Contains(Permissions, p) {
			return fmt.Errorf("there is nothing %q to allow: expected some of %v", p, Permissions)
		}
	}
	return nil
}
