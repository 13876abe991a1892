package feed

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/renameio/v2"
	"github.com/oklog/ulid/v2"

	"yareharbour/core/catalogue"
	"yareharbour/format/compressed"
	"yareharbour/format/debindex"
	"yareharbour/format/intake"
	"yareharbour/format/rpmrepo"
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

// Result is what a sync did.
type Result struct {
	Changed bool // a new generation is there
	Status  Status
}

// ErrBusy is what a sync gives while another one of the same feed is under way.
var ErrBusy = errors.New("it is being synced already")

// Sync brings the feed up to date. Whatever goes wrong, and when it is cancelled, the generation that was there stays, and what was fetched is gone on
// with the next time. Progress, if wanted, is told from the calling goroutine.
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

func (s Shelf) sync(ctx context.Context, f Feed, now time.Time, progress func(Progress), st *Status) (changed bool, err error) {
	dir := s.dir(f.Name)
	fe := &fetcher{feed: f, next: filepath.Join(dir, "next"), notes: map[string]note{}, had: map[string]note{}, progress: progress,
		state: Progress{Feed: f.Name, Stage: "fetching"}, wait: s.patience()}
	if fe.client, err = client(f); err != nil {
		return false, err
	}
	if cur, e := filepath.EvalSymlinks(filepath.Join(dir, "current")); e == nil {
		fe.current = cur
		if b, e := os.ReadFile(filepath.Join(cur, notesFile)); e == nil {
			_ = json.Unmarshal(b, &fe.had)
		}
	}
	if err := os.MkdirAll(fe.next, 0o755); err != nil {
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
	batches, err := read(f, os.DirFS(fe.next), now, func(name string, n int) {
		fe.state.File = name
		fe.state.Entries += n
		fe.tell()
	})
	if err != nil {
		_ = os.RemoveAll(fe.next) // what can't be read now can't be read the next time either
		return false, err
	}
	if err := ctx.Err(); err != nil {
		return false, err
	}
	count(st, batches, fe.notes)
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
		err = os.WriteFile(filepath.Join(fe.next, notesFile), b, 0o644)
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
		return f.rpm(ctx)
	case Firmware:
		return f.firmware(ctx)
	}
	return f.files(ctx)
}

func (f *fetcher) debian(ctx context.Context, now time.Time) error {
	keys, err := debindex.OpenKeyrings(f.feed.Keyrings)
	if err != nil {
		return err
	}
	for _, suite := range f.feed.Suites {
		if err := inside(suite); err != nil {
			return err
		}
		root := path.Join("dists", suite)
		release, err := f.get(ctx, want{path: root + "/InRelease", absent: true})
		if errors.Is(err, errAbsent) && keys.Empty() {
			release, err = f.get(ctx, want{path: root + "/Release"})
		}
		if err != nil {
			return err
		}
		text, err := os.ReadFile(release)
		if err != nil {
			return err
		}
		var rel debindex.Release
		if keys.Empty() {
			rel, err = debindex.ReadRelease(bytes.NewReader(text))
		} else {
			rel, err = keys.ReadSigned(bytes.NewReader(text), now)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", root, err)
		}
		if !rel.ValidUntil.IsZero() && now.After(rel.ValidUntil) {
			return fmt.Errorf("%s was good until %s only: the mirror is out of date, or somebody holds an old state of it before us", root, rel.ValidUntil.Format(time.RFC1123))
		}
		if err := f.indexes(ctx, root, rel); err != nil {
			return err
		}
	}
	return nil
}

// indexes fetches the Packages files of a suite in the best compression that there is, under their hashes where the suite offers that: then a mirror that is
// updated in the middle does no harm.
func (f *fetcher) indexes(ctx context.Context, root string, rel debindex.Release) error {
	found := 0
	for _, name := range rel.Indexes(intake.Options{Native: f.feed.Architecture}.Dpkg()) {
		if part, _, _ := strings.Cut(name, "/"); len(f.feed.Components) > 0 && !slices.Contains(f.feed.Components, part) {
			continue
		}
		err := errAbsent
		for _, ext := range append(slices.Clone(compressed.Extensions), "") {
			sum := rel.SHA256[name+ext]
			if sum == "" {
				continue
			}
			w := want{path: root + "/" + name + ext, sha256: sum, size: rel.Sizes[name+ext], absent: true}
			if rel.ByHash {
				w.from = root + "/" + path.Dir(name) + "/by-hash/SHA256/" + sum
			}
			_, err = f.get(ctx, w)
			if errors.Is(err, errAbsent) && rel.ByHash {
				w.from = ""
				_, err = f.get(ctx, w)
			}
			if !errors.Is(err, errAbsent) {
				break
			}
		}
		switch {
		case errors.Is(err, errAbsent): // a Release may vouch for more than its mirror has
		case err != nil:
			return err
		default:
			found++
		}
	}
	if found == 0 {
		return fmt.Errorf("%s has no Packages file for the architecture %s and the components %v", root, f.feed.Architecture, f.feed.Components)
	}
	return nil
}

func (f *fetcher) rpm(ctx context.Context) error {
	at, err := f.get(ctx, want{path: rpmrepo.RepomdPath})
	if err != nil {
		return err
	}
	if len(f.feed.Keyrings) > 0 {
		if _, err := f.get(ctx, want{path: rpmrepo.RepomdPath + ".asc"}); err != nil {
			return err
		}
	}
	text, err := os.ReadFile(at)
	if err != nil {
		return err
	}
	md, err := rpmrepo.ReadRepomd(bytes.NewReader(text))
	if err != nil {
		return err
	}
	for _, file := range md.Files {
		if _, err := f.get(ctx, want{path: file.Location, sha256: file.SHA256, size: file.Size}); err != nil {
			return err
		}
	}
	return nil
}

// firmware fetches the one file that the feed's address names.
func (f *fetcher) firmware(ctx context.Context) error {
	at := strings.TrimSuffix(f.feed.At, "/")
	base := path.Base(filepath.ToSlash(at))
	f.feed.At = strings.TrimSuffix(at, "/"+base)
	_, err := f.get(ctx, want{path: base})
	return err
}

// files fetches what an index.txt names, a path a line (as CSAF 2.0, 7.1.13 has it); of a directory without one, every file.
func (f *fetcher) files(ctx context.Context) error {
	at, err := f.get(ctx, want{path: "index.txt", absent: !f.feed.Remote()})
	var names []string
	switch {
	case errors.Is(err, errAbsent):
		if names, err = list(f.feed.At); err != nil {
			return err
		}
	case err != nil:
		return err
	default:
		text, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		for line := range strings.Lines(string(text)) {
			if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
				names = append(names, line)
			}
		}
	}
	const mostFiles = 100_000
	if len(names) > mostFiles {
		return fmt.Errorf("it names %d files; more than %d are no feed", len(names), mostFiles)
	}
	for _, n := range names {
		if err := inside(n); err != nil {
			return err
		}
		w := want{path: path.Clean(n)}
		if sum, err := f.sidecar(ctx, n); err != nil {
			return err
		} else if sum != "" {
			w.sha256 = sum
		}
		if _, err := f.get(ctx, w); err != nil {
			return err
		}
	}
	return nil
}

// sidecar is the hash in the file NAME.sha256 beside an advisory (CSAF 2.0, 7.1.18), and "" where there is none.
func (f *fetcher) sidecar(ctx context.Context, name string) (string, error) {
	if !strings.HasSuffix(name, ".json") {
		return "", nil
	}
	at, err := f.get(ctx, want{path: path.Clean(name) + ".sha256", absent: true})
	if errors.Is(err, errAbsent) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	text, err := os.ReadFile(at)
	if err != nil {
		return "", err
	}
	if fields := strings.Fields(string(text)); len(fields) > 0 && len(fields[0]) == 64 {
		return strings.ToLower(fields[0]), nil
	}
	return "", fmt.Errorf("%s.sha256 holds no SHA-256", name)
}

func list(dir string) (names []string, err error) {
	err = filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		if err != nil || !e.Type().IsRegular() || strings.HasSuffix(name, ".sha256") {
			return err
		}
		rel, err := filepath.Rel(dir, name)
		names = append(names, filepath.ToSlash(rel))
		return err
	})
	return names, err
}

// read reads a generation.
func read(f Feed, fsys fs.FS, now time.Time, progress func(string, int)) ([]catalogue.Batch, error) {
	keys, err := debindex.OpenKeyrings(f.Keyrings)
	if err != nil {
		return nil, err
	}
	items, err := intake.Tree(context.Background(), fsys, intake.Options{Feed: f.Name, Native: f.Architecture, Keys: keys, Now: now, Names: f.Names, Progress: progress})
	if err != nil {
		return nil, err
	}
	var out []catalogue.Batch
	for _, it := range items {
		if !it.Batch.Empty() {
			it.Batch.Feed.Name = f.Name
			out = append(out, it.Batch)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("nothing in it says anything of any release or advisory")
	}
	return out, nil
}
