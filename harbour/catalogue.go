package harbour

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yareharbour/bundle"
	"yareharbour/core/catalogue"
	"yareharbour/core/course"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/feed"
	"yareharbour/format/debindex"
	"yareharbour/format/releaselist"
)

// Catalogue returns all that is known of what can be had, as it was last loaded. It is not changed any more; a newer
// one takes its place.
func (h *Harbour) Catalogue() *catalogue.Catalogue {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return h.catalogue
}

// Reload reads the catalogue anew: release lists, indices, feeds as they were synced, bundles as they were taken in.
// What can't be read costs nothing else; until all of it can be, what is known says so (Sound), and a whole catalogue
// that was there before stays.
func (h *Harbour) Reload() error {
	cat, err := h.load()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.catalogueFault = err; err == nil || h.catalogue == nil {
		h.catalogue = cat
	}
	return err
}

// load reads all that there is; the error joins what could not be read.
func (h *Harbour) load() (*catalogue.Catalogue, error) {
	cat := &catalogue.Catalogue{}
	now := time.Now()
	var errs []error
	add := func(bs []catalogue.Batch, err error) {
		errs = append(errs, err)
		for _, b := range bs {
			cat.AddBatch(b)
		}
	}
	for _, name := range h.file.Releases {
		name = h.path(name)
		text, err := os.ReadFile(name)
		if err != nil {
			errs = append(errs, fmt.Errorf("a release list of the estate file: %w", err))
			continue
		}
		b, err := releaselist.Parse(name, text)
		if err != nil {
			errs = append(errs, err)
			continue
		}
		cat.AddBatch(b)
	}
	for _, x := range h.file.Indexes {
		errs = append(errs, LoadIndexes(cat, h.path(x.Dir), x.Architecture, h.beside(x.Keyrings), now))
	}
	for _, f := range h.Feeds {
		said, err := h.Shelf.Load(f, now)
		add(said, err)
		if err := h.gap(cat, f, said, now); err != nil {
			errs = append(errs, err)
		}
	}
	taken, err := h.Bundles.Taken()
	errs = append(errs, err)
	for _, c := range taken {
		add(h.Bundles.Load(c, h.bundleOptions(bundle.Options{Now: now})))
	}
	return cat, errors.Join(errs...)
}

// gap notes in the catalogue what can't be told by a feed as it stands: of what it carries where it is too old, and of
// what nobody else describes where it was never synced, or not read whole.
func (h *Harbour) gap(cat *catalogue.Catalogue, f feed.Feed, said []catalogue.Batch, now time.Time) error {
	st, err := h.Shelf.Status(f.Name)
	if err != nil {
		return err
	}
	why, told := f.Gap(st, now)
	if told != "" {
		cat.AddGap(catalogue.Gap{Feed: f.Name, Why: told, Told: true})
	}
	if why == "" {
		return nil
	}
	g := catalogue.Gap{Feed: f.Name, Why: why, Kinds: f.Kind.Describes()}
	if len(st.Aside) == 0 {
		for _, b := range said {
			for i := range b.Releases {
				g.Carried = append(g.Carried, b.Releases[i].Component)
			}
		}
	}
	cat.AddGap(g)
	return nil
}

// Sound says what of the estate's files can't be read, and nil where all can. While it is not nil no verdict is to be
// believed, and none is given: a baseline or a feed is missing among what hosts are held against.
func (h *Harbour) Sound() error {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return errors.Join(h.catalogueFault, h.baselineFault)
}

// beside resolves paths that are relative to the estate file.
func (h *Harbour) beside(names []string) (out []string) {
	for _, n := range names {
		if !filepath.IsAbs(n) {
			n = filepath.Join(h.dir, n)
		}
		out = append(out, n)
	}
	return out
}

func (h *Harbour) describeFeeds() (out []feed.Feed, err error) {
	for _, d := range h.file.Feeds {
		f, err := d.Described()
		if err != nil {
			return nil, err
		}
		f.Keyrings = h.beside(f.Keyrings)
		if !f.Remote() {
			f.At = h.beside([]string{f.At})[0]
		}
		out = append(out, f)
	}
	return out, nil
}

// standing is everything that was known when the files from which it was read stood so.
type standing struct {
	stamp     string
	at        time.Time
	catalogue *catalogue.Catalogue
	err       error
}

// freshly is how long what was read is relied on where no file changed: signatures end by the clock.
const freshly = 10 * time.Minute

// today returns everything that is known as its files have it now. They are read anew where any of them changed: a
// round asks before every act.
func (h *Harbour) today() (*catalogue.Catalogue, error) {
	stamp, err := h.stamp()
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if s := &h.standing; s.stamp != stamp || time.Since(s.at) > freshly {
		h.standing = standing{stamp: stamp, at: time.Now()}
		h.standing.catalogue, h.standing.err = h.load()
	}
	return h.standing.catalogue, h.standing.err
}

// basis tells the releases and baselines that there are apart from those of another time.
func (h *Harbour) basis() (string, error) {
	stamp, err := h.stamp()
	if err != nil {
		return "", err
	}
	baselines, err := json.Marshal(h.Baselines())
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(append([]byte(stamp), baselines...))
	return hex.EncodeToString(sum[:8]), nil
}

// stamp tells the files from which the catalogue is read apart from those that they were: by name, size and time of
// change.
func (h *Harbour) stamp() (string, error) {
	var out strings.Builder
	roots := []string{h.Shelf.Dir, h.Bundles.Dir}
	for _, name := range h.file.Releases {
		roots = append(roots, h.path(name))
	}
	for _, x := range h.file.Indexes {
		roots = append(roots, h.path(x.Dir))
	}
	for _, root := range roots {
		err := filepath.WalkDir(root, func(name string, e fs.DirEntry, err error) error {
			if errors.Is(err, fs.ErrNotExist) { // not there yet, or gone while we look: both show
				return nil
			}
			if err != nil {
				return err
			}
			if info, err := e.Info(); err == nil && !e.IsDir() {
				fmt.Fprintf(&out, "%s\x00%d\x00%d\n", name, info.Size(), info.ModTime().UnixNano())
			}
			return nil
		})
		if err != nil {
			return "", err
		}
	}
	return out.String(), nil
}

// Feed returns the feed of that name.
func (h *Harbour) Feed(name string) (feed.Feed, error) {
	i := slices.IndexFunc(h.Feeds, func(f feed.Feed) bool { return f.Name == name })
	if i < 0 {
		var names []string
		for _, f := range h.Feeds {
			names = append(names, f.Name)
		}
		return feed.Feed{}, fmt.Errorf("there is no feed %q in the estate file; there are %v", name, names)
	}
	return h.Feeds[i], nil
}

// FeedStates returns every feed of the estate file.
func (h *Harbour) FeedStates() (out []feed.State, err error) {
	for _, f := range h.Feeds {
		st, err := h.Shelf.Status(f.Name)
		if err != nil {
			return nil, err
		}
		out = append(out, feed.State{Feed: f, Status: st, Schedule: h.Shelf.Scheduled(f)})
	}
	return out, nil
}

// Due returns the feeds that are to be synced now by their schedules.
func (h *Harbour) Due(now time.Time) (out []feed.Feed) {
	for _, f := range h.Feeds {
		st, err := h.Shelf.Status(f.Name)
		if s := (feed.State{Feed: f, Status: st, Schedule: h.Shelf.Scheduled(f)}); err == nil && s.Due(now) {
			out = append(out, f)
		}
	}
	return out
}

// Sync brings feeds up to date one after the other, and then the catalogue. One that fails does not keep the others;
// its error is among those joined.
func (h *Harbour) Sync(ctx context.Context, feeds []feed.Feed,
	progress func(feed.Progress)) (map[string]feed.Result, error) {
	out := map[string]feed.Result{}
	var errs []error
	changed := false
	for _, f := range feeds {
		r, err := h.Shelf.Sync(ctx, f, time.Now(), progress)
		out[f.Name] = r
		errs = append(errs, err)
		changed = changed || r.Changed
		if ctx.Err() != nil {
			break
		}
	}
	if changed {
		errs = append(errs, h.Reload())
	}
	return out, errors.Join(errs...)
}

func (h *Harbour) bundleOptions(o bundle.Options) bundle.Options {
	for _, f := range h.Feeds {
		o.Native = cmp.Or(o.Native, f.Architecture)
		for k, v := range f.Names {
			if o.Names == nil {
				o.Names = map[string]estateKey{}
			}
			o.Names[k] = v
		}
	}
	for _, x := range h.file.Indexes {
		o.Native = cmp.Or(o.Native, x.Architecture)
	}
	return o
}

// OpenBundle unpacks and reads an archive aside; nothing is taken in yet. With keyrings, a good signature is wanted over
// every file; with vouched, files without one are left out instead.
func (h *Harbour) OpenBundle(ctx context.Context, file string, keyrings []string, vouched bool, by string,
	progress func(bundle.Progress)) (*bundle.Bundle, error) {
	keys, err := debindex.OpenKeyrings(keyrings)
	if err != nil {
		return nil, err
	}
	if vouched && keys.Empty() {
		return nil, errors.New("what is vouched for can't be told without a keyring")
	}
	return h.Bundles.Open(ctx, file,
		h.bundleOptions(bundle.Options{Keys: keys, Vouched: vouched, Now: time.Now(), By: by,
			Progress: progress}))
}

// Accept takes an opened bundle in, and reads the catalogue anew.
func (h *Harbour) Accept(ctx context.Context, b *bundle.Bundle) error {
	if err := b.Accept(ctx); err != nil {
		return err
	}
	return h.Reload()
}

// Brings tells how many of the releases and advisories in an opened bundle the catalogue has not yet.
func (h *Harbour) Brings(b *bundle.Bundle) (releases, advisories int) {
	cat := h.Catalogue()
	for _, batch := range b.Batches {
		for i := range batch.Releases {
			r := &batch.Releases[i]
			if !slices.ContainsFunc(cat.Releases(r.Component), func(o catalogue.Release) bool {
				return o.Version == r.Version && o.Track == r.Track && estate.SameModels(o.Hardware, r.Hardware)
			}) {
				releases++
			}
		}
		for _, a := range batch.Advisories {
			if cat.Advisory(a.ID) == nil {
				advisories++
			}
		}
	}
	return releases, advisories
}

// Wanted returns the releases that verdicts of the estate want, by the hash of their payload.
func (h *Harbour) Wanted(verdicts map[string][]drift.Verdict) map[string]*catalogue.Release {
	out := map[string]*catalogue.Release{}
	for _, vs := range verdicts {
		for _, v := range vs {
			if v.Outcome.Drifts() && v.Release != nil && v.Release.SHA256 != "" {
				out[v.Release.SHA256] = v.Release
			}
		}
	}
	return out
}

// KeptVerdicts judges every host as it was last read.
func (h *Harbour) KeptVerdicts(ctx context.Context) (map[string][]drift.Verdict, error) {
	kept, err := h.newest(ctx)
	if err != nil {
		return nil, err
	}
	return h.Check(h.Checker(), kept), nil
}

// Fetch gets the payload of a release from its feed into the payload store.
func (h *Harbour) Fetch(ctx context.Context, r *catalogue.Release, progress func(feed.Progress)) error {
	if h.Payloads.Check(r.File, r.SHA256) == nil {
		return nil
	}
	f, err := h.Feed(r.Feed)
	if err != nil {
		return fmt.Errorf("the payload of %s %s: its releases come from %s, which is no feed that can be fetched "+
			"from; import a bundle that holds it", r.Component, r.Version, r.Feed)
	}
	if err := h.Shelf.Payload(ctx, f, r, h.Payloads.Store, progress); err != nil {
		return fmt.Errorf("the payload of %s %s from the feed %s: %w", r.Component, r.Version, f.Name, err)
	}
	return nil
}

// Prune says which payloads the rule lets go.
func (h *Harbour) Prune(ctx context.Context, rule catalogue.PruneRule) ([]catalogue.Doomed, error) {
	have, err := h.Payloads.Store.List()
	if err != nil {
		return nil, err
	}
	verdicts, err := h.KeptVerdicts(ctx)
	if err != nil {
		return nil, err
	}
	wanted := map[string]bool{}
	for sum := range h.Wanted(verdicts) {
		wanted[sum] = true
	}
	for _, c := range h.Estate.Clusters { // what an unfinished round is going to apply stays too
		s, _, err := h.Latest(ctx, c.Name)
		if err != nil {
			return nil, err
		}
		if s == nil || s.Status == course.Finished {
			continue
		}
		for _, v := range s.Plan.Visits {
			for _, ch := range v.Changes {
				wanted[ch.SHA256] = true
			}
		}
	}
	return catalogue.Prune(have, wanted, h.Catalogue().Payloads(), rule, time.Now()), nil
}

// Doomed says which payloads the rule lets go, and with damaged those too that are not as their hashes say, wanted or
// not.
func (h *Harbour) Doomed(ctx context.Context, rule catalogue.PruneRule, damaged bool) ([]catalogue.Doomed, error) {
	var out []catalogue.Doomed
	var err error
	if rule != (catalogue.PruneRule{}) {
		if out, err = h.Prune(ctx, rule); err != nil {
			return nil, err
		}
	}
	if !damaged {
		return out, nil
	}
	bad, err := h.Payloads.Store.Verify(ctx, nil)
	for _, b := range bad {
		out = append(out, catalogue.Doomed{Stored: catalogue.Stored{SHA256: b.SHA256}, Why: b.Why})
	}
	return out, err
}

// KeptPayload is a payload in the store, and what it is.
type KeptPayload struct {
	catalogue.Stored
	Release string `json:"release,omitempty"` // component and version; empty where no release names it
	Wanted  bool   `json:"wanted"`            // by a host, as it was last read
}

// PayloadStore is what the payload store holds.
type PayloadStore struct {
	Payloads []KeptPayload `json:"payloads"`
	Size     int64         `json:"size"` // bytes
	Free     int64         `json:"free"` // bytes
}

// KeptPayloads lists the payload store.
func (h *Harbour) KeptPayloads(ctx context.Context) (PayloadStore, error) {
	var out PayloadStore
	all, err := h.Payloads.Store.List()
	if err != nil {
		return out, err
	}
	verdicts, err := h.KeptVerdicts(ctx)
	if err != nil {
		return out, err
	}
	wanted := h.Wanted(verdicts)
	for _, s := range all {
		p := KeptPayload{Stored: s, Wanted: wanted[s.SHA256] != nil}
		if r := h.Catalogue().ByPayload(s.SHA256); r != nil {
			p.Release = string(r.Component) + " " + r.Version
		}
		out.Payloads = append(out.Payloads, p)
		out.Size += s.Size
	}
	out.Free, err = h.Payloads.Store.Free()
	return out, err
}
