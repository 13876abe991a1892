package harbour

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"yareharbour/bundle"
	"yareharbour/core/catalogue"
	"yareharbour/core/view"
	"yareharbour/feed"
	"yareharbour/format/releaselist"
)

// Catalogue returns all that is known of what can be had, as it was last loaded. It is not changed any more; a newer
// one takes its place.
func (h *house) Catalogue() *catalogue.Catalogue {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return h.catalogue
}

// Reload reads the catalogue anew: release lists, indices, feeds as they were synced, bundles as they were taken in.
// What can't be read costs nothing else; until all of it can be, what is known says so (Unreadable), and a whole catalogue
// that was there before stays.
func (h *house) Reload() error {
	cat, lists, err := h.load()
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.catalogueFault = err; err == nil || h.catalogue == nil {
		h.catalogue, h.lists = cat, lists
	}
	return err
}

// load reads all that there is; the error joins what could not be read.
func (h *house) load() (*catalogue.Catalogue, []view.ReleaseList, error) {
	cat := &catalogue.Catalogue{}
	var lists []view.ReleaseList
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
		lists = append(lists, view.ReleaseList{Name: b.Feed.Name, File: name, Made: b.Feed.Made, Releases: len(b.Releases)})
	}
	for _, x := range h.file.Indexes {
		errs = append(errs, indexes{h.path(x.Dir), x.Architecture, h.beside(x.Keyrings), nil, now}.load(cat))
	}
	for _, f := range h.feeds {
		said, err := h.shelf.Load(f, now)
		add(said, err)
		if err := h.gap(cat, f, said, now); err != nil {
			errs = append(errs, err)
		}
	}
	taken, err := h.bundles.Taken()
	errs = append(errs, err)
	for _, c := range taken {
		add(h.bundles.Load(c, h.bundleOptions(bundle.Options{Now: now})))
	}
	return cat, lists, errors.Join(errs...)
}

// gap notes in the catalogue what can't be told by a feed as it stands: of what it carries where it is too old, and of
// what nobody else describes where it was never synced, or not read whole.
func (h *house) gap(cat *catalogue.Catalogue, f feed.Feed, said []catalogue.Batch, now time.Time) error {
	st, err := h.shelf.Status(f.Name)
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

// Unreadable says what of the estate's files can't be read, and nil where all can. While it is not nil no verdict is to be
// believed, and none is given: a baseline or a feed is missing among what hosts are held against.
func (h *house) Unreadable() error {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return errors.Join(h.catalogueFault, h.baselineFault)
}

// refuses is the error of what is not done, or not known, while one of the estate's files can't be read; nil where all can.
func (h *house) refuses(what string) error {
	if err := h.Unreadable(); err != nil {
		return fmt.Errorf("%s while this can't be read: %w", what, err)
	}
	return nil
}

// UnreadBaselines says which baselines can't be read, and so are not among the Sources; nil where all can.
func (h *house) UnreadBaselines() error {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return h.baselineFault
}

// beside resolves paths that are relative to the estate file.
func (h *house) beside(names []string) (out []string) {
	for _, n := range names {
		if !filepath.IsAbs(n) {
			n = filepath.Join(h.dir, n)
		}
		out = append(out, n)
	}
	return out
}

func (h *house) describeFeeds() (out []feed.Feed, err error) {
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

// seen is what the files looked like when they were last read.
type seen struct {
	catalogue, baselines string
	at                   time.Time // when the catalogue was
}

// freshly is how long what was read is relied on where no file changed: signatures end by the clock.
const freshly = 10 * time.Minute

// refresh reads anew what others have changed since it was read: release lists, feeds, bundles and baselines.
func (h *house) refresh(ctx context.Context) {
	h.renewing.Lock()
	defer h.renewing.Unlock()
	cat := filed(h.releaseFiles()...)
	if h.seen.catalogue != cat || time.Since(h.seen.at) > freshly {
		h.seen.catalogue, h.seen.at = cat, time.Now() // before it is read: what changes meanwhile is read again
		_ = h.Reload()                                // Unreadable tells
	}
	base := filed(append(h.beside(h.file.Baselines), h.ownBaselines())...)
	if h.seen.baselines != base {
		h.seen.baselines = base
		_ = h.LoadBaselines(ctx) // Unreadable tells
	}
}

// edited tells whether the estate file says something else than when it was opened. One that can't be read, as while it is
// being written, says nothing.
func (h *house) edited() bool {
	text, err := os.ReadFile(h.from)
	return err == nil && sha256.Sum256(text) != h.text
}

// today returns everything that is known as its files have it now: a round asks before every act.
func (h *house) today() (*catalogue.Catalogue, error) {
	h.refresh(context.Background())
	h.mu.RLock()
	defer h.mu.RUnlock()
	return h.catalogue, h.catalogueFault
}

// basis tells the releases and baselines that there are apart from those of another time.
func (h *house) basis() (string, error) {
	baselines, err := json.Marshal(h.InForce())
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(append([]byte(filed(h.releaseFiles()...)), baselines...))
	return hex.EncodeToString(sum[:8]), nil
}

// releaseFiles are the files and directories from which the catalogue is read.
func (h *house) releaseFiles() []string {
	roots := []string{h.shelf.Dir, h.bundles.Dir}
	for _, name := range h.file.Releases {
		roots = append(roots, h.path(name))
	}
	for _, x := range h.file.Indexes {
		roots = append(roots, h.path(x.Dir))
	}
	return roots
}

// filed tells files apart from what they were: by name, size and time of change, or why they can't be looked at.
func filed(roots ...string) string {
	var out strings.Builder
	for _, root := range roots {
		_ = filepath.WalkDir(root, func(name string, e fs.DirEntry, err error) error { // what fails is in the answer
			switch {
			case errors.Is(err, fs.ErrNotExist): // not there yet, or gone while we look: both show
			case err != nil:
				fmt.Fprintf(&out, "%s\x00%v\n", name, err)
			case !e.IsDir():
				if info, err := e.Info(); err == nil {
					fmt.Fprintf(&out, "%s\x00%d\x00%d\n", name, info.Size(), info.ModTime().UnixNano())
				}
			}
			return nil
		})
	}
	return out.String()
}
