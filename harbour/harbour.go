// Package harbour opens an estate: the files that describe it are read, its connector dialled, its store at hand.
// Commands and screens stand on it; it decides nothing that core does not.
package harbour

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"yareharbour/bundle"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/feed"
	"yareharbour/format/baselinefile"
	"yareharbour/format/estatefile"
	"yareharbour/payload"
	"yareharbour/store"
)

// MaxAge is how old a reading may be before it counts as unread.
const MaxAge = 24 * time.Hour

// EstateFile is the name of the estate file below a state or configuration directory.
const EstateFile = "estate.yaml"

// Kept is the directory, below the state directory, of what feeds said, bundles brought, and baselines that were made
// here.
const Kept = "kept"

// Harbour is an estate that is open.
type Harbour struct {
	State    string // the state directory
	Told     string // what opening it has put right and somebody should know; empty: nothing
	Estate   estate.Estate
	Payloads *Payloads
	World    World
	Feeds    []feed.Feed
	Shelf    feed.Shelf   // of what feeds said
	Bundles  bundle.Shelf // of what was taken in

	// What the state file keeps, each kind for itself.
	Readings store.Readings
	Rounds   store.Rounds
	Versions store.Versions
	Tallies  store.Tallies
	Filters  store.Filters
	Waivers  store.Waivers

	hold       io.Closer // of the state file
	own        []own     // checks of one's own
	unwritable error     // why the state can only be looked into; nil where it can be written

	dir  string // of the estate file
	file estatefile.File

	looking sync.Mutex // of looks
	looks   looks

	mu        sync.RWMutex
	catalogue *catalogue.Catalogue
	baselines []Source
	standing  standing
	// what of them could not be read
	catalogueFault, baselineFault error
}

// Options say what to open.
type Options struct {
	State  string // the state directory
	Estate string // the estate file; empty: estate.yaml in the state directory, then in the configuration directory
}

// ErrNoEstate is what opening without an estate file gives.
var ErrNoEstate = errors.New("there is no estate file")

// OpenStore opens only what an estate's state directory keeps: enough to watch a round and to ask it to pause or stop,
// whatever became of the estate's other files.
func OpenStore(ctx context.Context, o Options) (*Harbour, error) {
	if _, err := os.Stat(filepath.Join(o.State, store.File)); err != nil {
		return nil, err
	}
	h := &Harbour{State: o.State, World: away{why: errors.New("the estate's files can't be read")}}
	return h, h.openStore(ctx)
}

// Open opens an estate. A release list, feed, bundle or baseline that can't be read costs only what stands on it: Sound
// says which. An estate whose connector can't be dialled is open too; its hosts do not answer.
func Open(ctx context.Context, o Options) (*Harbour, error) {
	file, err := find(o)
	if err != nil {
		return nil, err
	}
	h := &Harbour{State: o.State}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	f, err := estatefile.Parse(file, text)
	if err != nil {
		return nil, err
	}
	h.Estate = f.Describe()
	h.dir, h.file = filepath.Dir(file), f
	for _, b := range f.BMCs {
		b.Password.Take()
	}
	if h.own, err = compileOwn(f.Checks); err != nil {
		return nil, err
	}
	h.Payloads = &Payloads{Dir: h.path(f.Payloads), Store: payload.Store{Dir: filepath.Join(o.State, Kept, "payloads")}}
	h.Shelf = feed.Shelf{Dir: filepath.Join(o.State, Kept, "feeds")}
	h.Bundles = bundle.Shelf{Dir: filepath.Join(o.State, Kept, "bundles"), Payloads: h.Payloads.Store}
	if h.Feeds, err = h.describeFeeds(); err != nil {
		return nil, err
	}
	_ = h.Reload() // Sound tells
	if err := h.openStore(ctx); err != nil {
		return nil, err
	}
	if h.World, err = h.dial(ctx); err != nil {
		h.World = away{why: err}
	}
	_ = h.LoadBaselines(ctx) // Sound tells
	return h, nil
}

// openStore opens the state.
func (h *Harbour) openStore(ctx context.Context) error {
	s, unwritable, err := state(ctx, h.State)
	if err == nil {
		h.Told = s.Told
		h.Readings, h.Rounds, h.Versions, h.Tallies, h.Filters, h.Waivers, h.hold, h.unwritable = s, s,
			s, s, s, s, s, unwritable
	}
	return err
}

// state opens the state file below dir for everything, or, where it can't be written, for looking: what is in it, or
// nothing.
func state(ctx context.Context, dir string) (st *store.Store, unwritable, err error) {
	st, err = store.Open(ctx, dir)
	if err == nil || errors.Is(err, store.ErrNewer) || errors.Is(err, store.ErrOpenToOthers) ||
		errors.Is(err, store.ErrDamaged) {
		return st, nil, err
	}
	if free, no := (payload.Store{Dir: dir}).Free(); no == nil && free < enough {
		err = fmt.Errorf("the disk of %s is full, %d bytes are free: %w", dir, free, err)
	}
	look, only := store.OpenToLook(ctx, dir)
	if errors.Is(only, fs.ErrNotExist) {
		look, only = store.Scratch(ctx)
	}
	if only != nil {
		return nil, nil, errors.Join(err, only)
	}
	slog.Warn("the state directory can't be written: this only looks, and nothing that is found is kept", "error", err)
	return look, err, nil
}

// enough is how many bytes the state file needs to be opened at all: with less a disk counts as full.
const enough = 256 << 10

// keptDir is what is kept below the state directory.
func (h *Harbour) keptDir() string { return filepath.Join(h.State, Kept) }

// Names returns the clusters of an estate file with their hosts, and opens nothing.
func Names(o Options) ([]estate.Cluster, error) {
	file, err := find(o)
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	f, err := estatefile.Parse(file, text)
	return f.Describe().Clusters, err
}

// Close closes it.
func (h *Harbour) Close() error {
	h.World.Hangup()
	return h.hold.Close()
}

// find returns the estate file that is meant.
func find(o Options) (string, error) {
	if o.Estate != "" {
		return o.Estate, nil
	}
	config, err := os.UserConfigDir()
	tried := []string{filepath.Join(o.State, EstateFile)}
	if err == nil {
		tried = append(tried, filepath.Join(config, "yare", EstateFile))
	}
	for _, t := range tried {
		if _, err := os.Stat(t); err == nil {
			return t, nil
		} else if !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
	}
	return "", fmt.Errorf("%w: neither %s is there; name one with --estate, or try the demo estate with --demo",
		ErrNoEstate, join(tried))
}

func join(paths []string) string {
	s := paths[0]
	for _, p := range paths[1:] {
		s += " nor " + p
	}
	return s
}

// LoadBaseline reads a baseline file.
func LoadBaseline(file string) (baseline.Baseline, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return baseline.Baseline{}, fmt.Errorf("a baseline: %w", err)
	}
	return baselinefile.Parse(file, text)
}

// Acts tells whether the estate file allows acting on the host.
func (h *Harbour) Acts(host string) bool {
	c, ok := h.Estate.ClusterOf(host)
	return ok && c.Act
}

// Checker judges by this estate's catalogue and baselines, now.
func (h *Harbour) Checker() *drift.Checker {
	return &drift.Checker{Catalogue: h.Catalogue(), Baselines: h.Baselines(), Now: h.World.Now(), MaxAge: MaxAge}
}

// Check judges each of the hosts that was read.
func (h *Harbour) Check(c *drift.Checker, readings map[string]*estate.Reading) map[string][]drift.Verdict {
	out := make(map[string][]drift.Verdict, len(readings))
	for _, cl := range h.Estate.Clusters {
		for _, host := range cl.Hosts {
			if r := readings[host]; r != nil {
				out[host] = c.Host(cl.Name, r)
			}
		}
	}
	return out
}

// Hosts returns the hosts that the names mean, each once: those of clusters, single hosts, and all where there is no
// name.
func (h *Harbour) Hosts(names ...string) (out []string, err error) {
	var all, known []string
	for _, c := range h.Estate.Clusters {
		all, known = append(all, c.Hosts...), append(known, c.Name)
	}
	if len(names) == 0 {
		return all, nil
	}
	for _, name := range names {
		of := []string{name}
		if c, ok := h.Estate.Cluster(name); ok {
			of = c.Hosts
		} else if !slices.Contains(all, name) {
			return nil, fmt.Errorf("there is no cluster or host %q in %s; its clusters are %s%s", name, h.Estate.Name,
				strings.Join(known, ", "), Near(name, append(known, all...)))
		}
		for _, host := range of {
			if !slices.Contains(out, host) {
				out = append(out, host)
			}
		}
	}
	return out, nil
}

// Cluster returns the cluster of that name.
func (h *Harbour) Cluster(name string) (estate.Cluster, error) {
	if c, ok := h.Estate.Cluster(name); ok {
		return c, nil
	}
	_, err := h.Hosts(name)
	if err == nil {
		err = fmt.Errorf("%s is a host, and a cluster is asked for", name)
	}
	return estate.Cluster{}, err
}
