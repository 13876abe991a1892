package feed

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/renameio/v2"
	"github.com/oklog/ulid/v2"

	"yareharbour/core/catalogue"
	"yareharbour/format/intake"
)

// Progress is how far a sync is.
type Progress struct {
	Feed    string
	Stage   string // "fetching", "reading", "done"
	File    string
	Files   int   // fetched so far
	Bytes   int64 // so far
	Total   int64 // bytes, as far as is known
	Entries int   // releases and advisories read so far
}

// Says tells in words how far it is.
func (p Progress) Says() string {
	s := fmt.Sprintf("%s: %s %s", p.Feed, p.Stage, p.File)
	switch {
	case p.Total > p.Bytes:
		return s + fmt.Sprintf("  %s of %s", catalogue.Bytes(p.Bytes), catalogue.Bytes(p.Total))
	case p.Entries > 0:
		return s + fmt.Sprintf("  %d entries", p.Entries)
	}
	return s + "  " + catalogue.Bytes(p.Bytes)
}

// Result is what a sync did.
type Result struct {
	Changed bool // a new generation is there
	Status  Status
}

// ErrBusy is what a sync gives while another one of the same feed is under way.
var ErrBusy = errors.New("it is being synced already")

// Sync brings the feed up to date. Whatever goes wrong, and when it is cancelled, the generation that was there stays,
// and what was fetched is gone on with the next time. Progress, if wanted, is told from the calling goroutine.
func (s Shelf) Sync(ctx context.Context, f Feed, now time.Time, progress func(Progress)) (Result, error) {
	if err := f.Check(); err != nil {
		return Result{}, fmt.Errorf("the feed %s: %w", f.Name, err)
	}
	unlock, err := s.lock(f.Name)
	if err != nil {
		return Result{}, fmt.Errorf("the feed %s: %w", f.Name, err)
	}
	defer unlock()
	st, err := s.Status(f.Name)
	if err != nil {
		return Result{}, err
	}
	st.Tried = now
	changed, err := s.sync(ctx, f, now, progress, &st)
	if err != nil {
		err = fmt.Errorf("the feed %s: %w", f.Name, err)
		st.Error = err.Error()
		return Result{Status: st}, errors.Join(err, s.note(f.Name, st))
	}
	st.Error, st.Synced = "", now
	if changed {
		st.Changed = now
	}
	return Result{changed, st}, s.note(f.Name, st)
}

func (s Shelf) sync(ctx context.Context, f Feed, now time.Time, progress func(Progress),
	st *Status) (changed bool, err error) {
	dir := s.dir(f.Name)
	fe := &fetcher{feed: f, next: filepath.Join(dir, "next"), notes: map[string]note{}, had: map[string]note{},
		progress: progress, state: Progress{Feed: f.Name, Stage: "fetching"}, wait: s.patience(),
		idle: s.Idle, whole: s.Whole}
	if fe.client, err = client(f); err != nil {
		return false, err
	}
	if cur, e := filepath.EvalSymlinks(filepath.Join(dir, "current")); e == nil {
		fe.current = cur
		if b, e := os.ReadFile(filepath.Join(cur, notesFile)); e == nil {
			_ = json.Unmarshal(b, &fe.had)
		}
	}
	if err := os.MkdirAll(fe.next, 0o700); err != nil {
		return false, err
	}
	if err := fe.all(ctx, now); err != nil {
		return false, err
	}
	if fe.current != "" && same(fe.had, fe.notes) {
		return false, os.RemoveAll(fe.next)
	}
	if err := fe.tidy(); err != nil {
		return false, err
	}
	fe.state.Stage, fe.state.File = "reading", ""
	fe.tell()
	batches, aside, err := read(ctx, f, os.DirFS(fe.next), now, func(name string, n int) {
		fe.state.File = name
		fe.state.Entries += n
		fe.tell()
	})
	if err != nil && ctx.Err() == nil {
		_ = os.RemoveAll(fe.next) // what can't be read now can't be read the next time either
		return false, err
	}
	if err := ctx.Err(); err != nil {
		return false, err
	}
	if err != nil {
		return false, err
	}
	count(st, batches, fe.notes)
	st.Aside = aside
	return true, s.turn(dir, fe, now)
}

// notesFile holds what is known of a generation's files.
const notesFile = ".files.json"

func same(a, b map[string]note) bool {
	if len(a) != len(b) {
		return false
	}
	for name, n := range a {
		if b[name].SHA256 != n.SHA256 {
			return false
		}
	}
	return true
}

func count(st *Status, batches []catalogue.Batch, notes map[string]note) {
	st.Bytes, st.Files, st.Releases, st.Advisories, st.Made = 0, len(notes), 0, 0, time.Time{}
	for _, n := range notes {
		st.Bytes += n.Size
	}
	for _, b := range batches {
		st.Releases += len(b.Releases)
		st.Advisories += len(b.Advisories)
		if b.Feed.Made.After(st.Made) {
			st.Made = b.Feed.Made
		}
	}
}

// turn makes the next generation the current one, at once, and removes the others.
func (s Shelf) turn(dir string, fe *fetcher, now time.Time) error {
	b, err := json.Marshal(fe.notes)
	if err == nil {
		err = os.WriteFile(filepath.Join(fe.next, notesFile), b, 0o600)
	}
	if err != nil {
		return err
	}
	name := "g" + now.UTC().Format("20060102T150405-") + ulid.Make().String()
	if err := os.Rename(fe.next, filepath.Join(dir, name)); err != nil {
		return err
	}
	if err := renameio.Symlink(name, filepath.Join(dir, "current")); err != nil {
		return err
	}
	old, err := filepath.Glob(filepath.Join(dir, "g*"))
	for _, o := range old {
		if filepath.Base(o) != name {
			err = errors.Join(err, os.RemoveAll(o))
		}
	}
	return err
}

// tidy removes from the next generation what does not belong to it: leavings of an earlier, interrupted sync.
func (f *fetcher) tidy() error {
	return filepath.WalkDir(f.next, func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		rel, err := filepath.Rel(f.next, name)
		if err != nil {
			return err
		}
		if _, ok := f.notes[filepath.ToSlash(rel)]; !ok {
			return os.Remove(name)
		}
		return nil
	})
}

// all fetches everything that the feed is made of.
func (f *fetcher) all(ctx context.Context, now time.Time) error {
	switch f.feed.Kind {
	case Debian:
		return f.debian(ctx, now)
	case RPM:
		return f.rpm(ctx, now)
	case Firmware:
		return f.firmware(ctx, now)
	}
	return f.files(ctx, now)
}

// read reads a generation. aside are the entries in it that could not be read.
func read(ctx context.Context, f Feed, fsys fs.FS, now time.Time, progress func(string, int)) (out []catalogue.Batch,
	aside []string, err error) {
	keys, err := f.keyring()
	if err != nil {
		return nil, nil, err
	}
	items, err := intake.Tree(ctx, fsys, intake.Options{Feed: f.Name, Native: f.Architecture, Keys: keys, Now: now,
		Names: f.Names, Progress: progress, SetAside: true})
	if err != nil {
		return nil, nil, err
	}
	for _, it := range items {
		aside = append(aside, it.Batch.Aside...)
		if !it.Batch.Empty() {
			it.Batch.Feed.Name = f.Name
			out = append(out, it.Batch)
		}
	}
	if len(out) == 0 && len(aside) > 0 {
		return nil, nil, fmt.Errorf("nothing in it could be read: %s", strings.Join(aside[:min(3, len(aside))], "; "))
	}
	if len(out) == 0 {
		return nil, nil, errors.New("nothing in it says anything of any release or advisory")
	}
	return out, aside, nil
}
