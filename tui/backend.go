package tui

import (
	"context"
	"time"

	"yareharbour/bundle"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/plan"
	"yareharbour/core/survey"
	"yareharbour/feed"
	"yareharbour/store"
)

// Snapshot is all that the screens show, as it was at one moment.
type Snapshot struct {
	Survey    survey.Survey
	Readings  map[string]*estate.Reading
	Verdicts  map[string][]drift.Verdict
	Checker   *drift.Checker
	Siblings  map[string][]drift.Siblings // by cluster
	Rounds    map[string]Round            // the newest of each cluster
	Held      *drift.Holdings             // what hosts have, turned around
	Baselines []Baseline
	Feeds     []feed.State
	Bundles   []bundle.Contents
	Payloads  Payloads
	News      map[string]News   // by cluster
	Filters   map[string]string // kept ones, by name
	Speed     float64           // of the estate's clock; 1 for real hosts
	Note      string            // what stands in the way of seeing more
}

// Baseline is a baseline with its text and the number of its newest kept version.
type Baseline struct {
	baseline.Baseline
	File, Text string
	Version    int
}

// Payloads is what the payload store holds, in numbers.
type Payloads struct {
	Count      int
	Size, Free int64 // bytes
}

// News is what is out of line in a cluster and was not when somebody last looked. The zero value is that of a cluster at which nobody looked yet.
type News struct {
	Since time.Time
	By    string
	Drift []drift.Verdict
	Trend []drift.Tally
}

// Round is a round as a watcher knows it.
type Round struct {
	ID       string
	State    *plan.State
	Events   []plan.Event
	Progress store.Progress
	Runs     bool // somebody runs it now
}

// Export is something that a view writes to a file.
type Export struct {
	View    string     // "waterline", "drift", "trend", "host", "catalogue", "ladder", "baselines", "compare", "bundle", "round", "plan"
	Subject string     // a cluster, host, component or baseline; empty for the estate
	Other   string     // the second of two, for "compare"
	Filter  string     // what the view is narrowed to
	All     bool       // of the Catalogue: what no host has, or no feed, too
	Format  string     // "text", "csv", "json", "svg", "pdf"
	Plan    *plan.Plan // as it is shown, for "plan"
	Bundle  *Opened    // as it is shown, for "bundle"
}

// WhatIf is what a person changed about a plan. Its zero value is the cluster's usual round.
type WhatIf struct {
	Without []string // hosts that are left out
	More    int      // hosts that may be out of service beyond one
}

// Backend does for the screens what takes time. Calls come from several goroutines.
type Backend interface {
	// Load returns what is known; it reads no host.
	Load(ctx context.Context) (*Snapshot, error)
	// Read reads the hosts and keeps what it found, calling progress after each.
	Read(ctx context.Context, hosts []string, progress func(host string, done int)) error
	// Plan plans a round over the cluster.
	Plan(ctx context.Context, cluster string, w WhatIf) (*plan.Plan, error)
	// Start has a round run by a process of its own, which outlives the screens; Resume goes on with the newest one.
	Start(ctx context.Context, cluster, reason string, w WhatIf) error
	Resume(ctx context.Context, cluster string) error
	// Ask asks the running round for something and says what will happen.
	Ask(ctx context.Context, cluster, what string) (string, error)
	// Past tells what is known of a host's past.
	Past(ctx context.Context, host string) (Past, error)
	// Compare says in what two readings differ, each named as HOST or HOST@TIME.
	Compare(ctx context.Context, from, to string) (Comparison, error)
	// Looked notes that the drift of a cluster was seen as it is now.
	Looked(ctx context.Context, cluster string) error
	// KeepFilter keeps a filter under a name, and forgets it where the text is empty.
	KeepFilter(ctx context.Context, name, text string) error
	// Write writes an export to the current directory and returns the file's name.
	Write(ctx context.Context, e Export) (string, error)
	Shelves
	Editing
}

// Shelves is what the screens do with feeds, bundles and payloads. Progress is told in words.
type Shelves interface {
	// Sync brings feeds up to date, those whose time has come where none is named, and says what came of it.
	Sync(ctx context.Context, feeds []string, progress func(string)) (string, error)
	Schedule(ctx context.Context, feed, schedule string) error
	// OpenBundle unpacks and reads an archive aside. It must be closed. Where a keyring file is named, a good signature is wanted.
	OpenBundle(ctx context.Context, file, keyring string, progress func(string)) (*Opened, error)
	Accept(ctx context.Context, o *Opened, progress func(string)) error
	RemoveBundle(ctx context.Context, id string) error
	// Fetch gets the payloads that hosts want; Verify reads all that are here; Kept lists them, a line each; Prune removes what nobody wants by a rule in words, as
	// "unknown older=90 most=20 damaged", or only says what that would be.
	Fetch(ctx context.Context, progress func(string)) (string, error)
	Verify(ctx context.Context, progress func(string)) (string, error)
	Kept(ctx context.Context) ([]string, error)
	Prune(ctx context.Context, rule string, really bool) ([]catalogue.Doomed, error)
}

// Editing is what the screens do with baselines.
type Editing interface {
	// Effect tells what it would do to the estate if the baseline of that name said the text.
	Effect(ctx context.Context, s *Snapshot, name, text string) (drift.Effect, []baseline.Problem, error)
	// Save keeps the text as the version after the one numbered after; 0 for a new baseline.
	Save(ctx context.Context, name, text string, after int, why string) error
	// Versions lists a baseline's versions, the newest first, each with what it changed.
	Versions(ctx context.Context, name string) ([]Version, error)
	// Remove takes a baseline away that was made here; its versions stay.
	Remove(ctx context.Context, name string) error
	// CompareVersions says in what two versions of a baseline differ.
	CompareVersions(ctx context.Context, name string, from, to int) ([]baseline.Change, error)
	// Derive makes the text of a baseline of a host, as it was last read.
	Derive(ctx context.Context, host string) (name, text string, err error)
}

// Version is a version of a baseline, and in what it differs from the one before.
type Version struct {
	store.Version
	Changes []baseline.Change
}

// Past is what is known of a host's past.
type Past struct {
	Turns []drift.Turn // what changed, the newest change first
	Spans []drift.Span // when each version was first and last seen
}

// Comparison is two readings and in what they differ.
type Comparison struct {
	From, To     string // as they were asked for
	FromAt, ToAt time.Time
	drift.Comparison
}

// Opened is a bundle that was opened and is not decided on.
type Opened struct {
	*bundle.Bundle
	NewReleases, NewAdvisories int // that the catalogue has not yet
}
