// Package harbour is the application: what commands and screens may see of an estate that is open, as use cases over
// stores, connectors and files that nobody else touches. It decides nothing that core does not.
package harbour

import (
	"context"
	"crypto/sha256"
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
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/view"
	"yareharbour/feed"
	"yareharbour/format/estatefile"
	"yareharbour/payload"
	"yareharbour/program"
	"yareharbour/store"
)

// MaxAge is how old a reading may be before it counts as unread.
const MaxAge = 24 * time.Hour

// EstateFile is the name of the estate file below a state or configuration directory.
const EstateFile = "estate.yaml"

// Kept is the directory, below the state directory, of what feeds said, bundles brought, and baselines that were made
// here.
const Kept = "kept"

// Harbour is an estate that is open, with all that can be done with it. It may be used from several goroutines.
type Harbour struct {
	*house
	Looking   // at hosts, at what is known, and back
	Preparing // of hosts for orders
	Planning  // of rounds, with their prechecks and waivers
	Rounds    // carried out here
	Launching // of rounds in processes of their own
	Supplies  // feeds, bundles and payloads
	Baselines // saved, compared, derived
}

// The use cases, each over the same estate.
type (
	Looking   struct{ *house }
	Preparing struct{ *house }
	Planning  struct{ *house }
	Rounds    struct{ *house }
	Launching struct{ *house }
	Supplies  struct{ *house }
	Baselines struct{ *house }
)

// house is what use cases stand on: the estate's files, its connector, and its stores.
type house struct {
	Options
	Estate estate.Estate
	Told   string // what opening it has put right and somebody should know; empty: nothing

	world    World
	payloads *Payloads
	feeds    []feed.Feed
	shelf    feed.Shelf   // of what feeds said
	bundles  bundle.Shelf // of what was taken in

	// What the state file keeps, each kind for itself.
	readings store.Readings
	rounds   store.Rounds
	versions store.Versions
	tallies  store.Tallies
	filters  store.Filters
	waivers  store.Waivers
	log      store.Log

	hold       io.Closer // of the state file
	own        []own     // checks of one's own
	unwritable error     // why the state can only be looked into; nil where it can be written

	dir  string // of the estate file
	file estatefile.File

	renewing sync.Mutex // of seen
	seen     seen

	looking sync.Mutex // of looks
	looks   looks

	mu        sync.RWMutex
	catalogue *catalogue.Catalogue
	baselines []view.Baseline
	// what of them could not be read
	from                          string             // the estate file
	text                          [32]byte           // the sum of what it said
	lists                         []view.ReleaseList // that it was read from, of the estate file
	catalogueFault, baselineFault error
}

func newHarbour(h *house) *Harbour {
	return &Harbour{h, Looking{h}, Preparing{h}, Planning{h}, Rounds{h}, Launching{h}, Supplies{h}, Baselines{h}}
}

// Options say what to open.
type Options struct {
	State string // the state directory
	File  string // the estate file; empty: estate.yaml in the state directory, then in the configuration directory
	By    string // who it is that opens it
	From  string // and where: his machine, and the login of SSH
	// Launch has a process of its own begin the round that the words tell, as they would stand behind "yare", and
	// returns once it has begun, or says why it has not.
	Launch func(ctx context.Context, cluster string, words ...string) error
}

// ErrNoEstate is what opening without an estate file gives.
var ErrNoEstate = errors.New("there is no estate file")

// OpenStore opens only what an estate's state directory keeps: enough to watch a round and to ask it to pause or stop,
// whatever became of the estate's other files.
func OpenStore(ctx context.Context, o Options) (*Harbour, error) {
	if _, err := os.Stat(filepath.Join(o.State, store.File)); err != nil {
		return nil, err
	}
	h := &house{Options: o, world: away{why: errors.New("the estate's files can't be read")}}
	return newHarbour(h), h.openStore(ctx)
}

// Open opens an estate. A release list, feed, bundle or baseline that can't be read costs only what rests on it: Unreadable
// says which. An estate whose connector can't be dialled is open too; its hosts do not answer.
func Open(ctx context.Context, o Options) (*Harbour, error) {
	file, err := find(o)
	if err != nil {
		return nil, err
	}
	h := &house{Options: o}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	f, err := estatefile.Parse(file, text)
	if err != nil {
		return nil, err
	}
	h.Estate = f.Describe()
	h.dir, h.file, h.text = filepath.Dir(file), f, sha256.Sum256(text)
	h.from = file
	for _, b := range f.BMCs {
		b.Password.Take()
	}
	if h.own, err = compileOwn(f.Checks); err != nil {
		return nil, err
	}
	h.payloads = &Payloads{Dir: h.path(f.Payloads), Store: payload.Store{Dir: filepath.Join(o.State, Kept, "payloads")}}
	h.shelf = feed.Shelf{Dir: filepath.Join(o.State, Kept, "feeds")}
	h.bundles = bundle.Shelf{Dir: filepath.Join(o.State, Kept, "bundles"), Payloads: h.payloads.Store}
	if h.feeds, err = h.describeFeeds(); err != nil {
		return nil, err
	}
	if err := h.openStore(ctx); err != nil {
		return nil, err
	}
	if h.world, err = h.dial(ctx); err != nil {
		h.world = away{why: err}
	}
	h.refresh(ctx)
	if err := h.noteActing(ctx); err != nil {
		slog.Warn("where acting is allowed could not be entered in the logbook", "error", err)
	}
	return newHarbour(h), nil
}

// openStore opens the state.
func (h *house) openStore(ctx context.Context) error {
	s, unwritable, err := state(ctx, h.State)
	if err == nil {
		h.Told = s.Told
		h.readings, h.rounds, h.versions, h.tallies, h.filters, h.waivers, h.log, h.hold, h.unwritable = s, s,
			s, s, s, s, s, s, unwritable
		s.Writer(h.By, h.From)
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

// programs are those that rounds run on this machine.
func (h *house) programs() program.Programs {
	return program.Programs{Dir: filepath.Join(h.State, Kept, "programs")}
}

// keptDir is what is kept below the state directory.
func (h *house) keptDir() string { return filepath.Join(h.State, Kept) }

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
func (h *house) Close() error {
	h.world.Hangup()
	return h.hold.Close()
}

// find returns the estate file that is meant.
func find(o Options) (string, error) {
	if o.File != "" {
		return o.File, nil
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
		ErrNoEstate, strings.Join(tried, " nor "))
}

// Acts tells whether the estate file allows acting on the host.
func (h *house) Acts(host string) bool {
	c, ok := h.Estate.ClusterOf(host)
	return ok && c.Act
}

// Checker judges by this estate's catalogue and baselines, now.
func (h *house) Checker() *drift.Checker {
	return &drift.Checker{Catalogue: h.Catalogue(), Baselines: h.InForce(), Now: h.Now(), MaxAge: MaxAge}
}

// Check judges each of the hosts that was read.
func (h *house) Check(c *drift.Checker, readings map[string]*estate.Reading) map[string][]drift.Verdict {
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
func (h *house) Hosts(names ...string) (out []string, err error) {
	if len(names) == 0 {
		for _, c := range h.Estate.Clusters {
			out = append(out, c.Hosts...)
		}
		return out, nil
	}
	for _, name := range names {
		var of []string
		if c, ok := h.Estate.Cluster(name); ok {
			of = c.Hosts
		} else if host, _, err := h.Host(name); err == nil {
			of = []string{host}
		} else {
			return nil, err
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
func (h *house) Cluster(name string) (estate.Cluster, error) {
	if c, ok := h.Estate.Cluster(name); ok {
		return c, nil
	}
	if _, ok := h.Estate.ClusterOf(name); ok {
		return estate.Cluster{}, fmt.Errorf("%s is a host, and a cluster is asked for", name)
	}
	return estate.Cluster{}, h.unknown(name)
}

// Host is the host that a name means, heron or vts/heron, and its cluster; the error names what may be meant.
func (h *house) Host(name string) (string, estate.Cluster, error) {
	cluster, host, both := strings.Cut(name, "/")
	if !both {
		host = name
	}
	switch c, ok := h.Estate.ClusterOf(host); {
	case ok && (!both || c.Name == cluster):
		return host, c, nil
	case ok:
		return "", estate.Cluster{}, fmt.Errorf("%s is a host of %s, and not of %s", host, c.Name, cluster)
	}
	if _, err := h.Cluster(host); err == nil {
		return "", estate.Cluster{}, fmt.Errorf("%s is a cluster, and a host is asked for", host)
	}
	return "", estate.Cluster{}, h.unknown(host)
}

// unknown says that nothing is called so.
func (h *house) unknown(name string) error {
	var all, known []string
	for _, c := range h.Estate.Clusters {
		all, known = append(all, c.Hosts...), append(known, c.Name)
	}
	return fmt.Errorf("there is no cluster or host %q in %s; its clusters are %s%s", name, h.Estate.Name,
		strings.Join(known, ", "), Near(name, append(known, all...)))
}

// clusterOf is the cluster of a host.
func (h *house) clusterOf(host string) (estate.Cluster, error) {
	_, c, err := h.Host(host)
	return c, err
}
