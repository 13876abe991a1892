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
		return f.rpm(ctx)
	case Firmware:
		return f.firmware(ctx)
	}
	return f.files(ctx)
}

func (f *fetcher) debian(ctx context.Context, now time.Time) error {
	keys, err := f.feed.keyring()
	if err != nil {
		return err
	}
	for _, suite := range f.feed.Suites {
		if err := inside(suite); err != nil {
			return err
		}
		root := path.Join("dists", suite)
		rel, err := f.release(ctx, root, keys, now)
		if err != nil {
			return err
		}
		if err := f.standsFor(root, suite, rel); err != nil {
			return err
		}
		if !rel.ValidUntil.IsZero() && now.After(rel.ValidUntil) {
			return fmt.Errorf("%s was good until %s only: the mirror is out of date, or somebody holds an old state "+
				"of it before us", root, rel.ValidUntil.Format(time.RFC1123))
		}
		if err := f.indexes(ctx, root, rel); err != nil {
			return err
		}
	}
	return nil
}

// release fetches what a suite says of itself: InRelease, or Release with the signature beside it in Release.gpg.
func (f *fetcher) release(ctx context.Context, root string, keys debindex.Keyring,
	now time.Time) (rel debindex.Release, err error) {
	fail := func(err error) (debindex.Release, error) { return rel, fmt.Errorf("%s: %w", root, err) }
	at, err := f.get(ctx, want{path: root + "/InRelease", absent: true})
	switch {
	case errors.Is(err, errAbsent):
		if at, err = f.get(ctx, want{path: root + "/Release", absent: true}); errors.Is(err, errAbsent) {
			return rel, fmt.Errorf("neither %s/InRelease nor %s/Release is there: there is no such suite at %s",
				root, root, f.feed.At)
		}
		if err != nil {
			return rel, err
		}
		text, err := os.ReadFile(at)
		if err != nil {
			return rel, err
		}
		if keys.Empty() {
			if rel, err = debindex.ReadRelease(bytes.NewReader(text)); err != nil {
				return fail(err)
			}
			return rel, nil
		}
		sig, err := f.get(ctx, want{path: root + "/Release.gpg", absent: true})
		if errors.Is(err, errAbsent) {
			return fail(errors.New("a signature is wanted, and there is neither an InRelease nor a " +
				"Release.gpg beside the Release"))
		}
		if err != nil {
			return rel, err
		}
		signature, err := os.ReadFile(sig)
		if err != nil {
			return rel, err
		}
		if rel, err = keys.ReadDetached(text, signature, now); err != nil {
			return fail(err)
		}
		return rel, nil
	case err != nil:
		return rel, err
	}
	text, err := os.ReadFile(at)
	if err != nil {
		return rel, err
	}
	if keys.Empty() {
		rel, err = debindex.ReadRelease(bytes.NewReader(text))
	} else {
		rel, err = keys.ReadSigned(bytes.NewReader(text), now)
	}
	if err != nil {
		return fail(err)
	}
	return rel, nil
}

// standsFor holds a Release to the suite that was asked for, and to the one in hand: a signature says who wrote it, not
// that it is this one, nor that it is the newest.
func (f *fetcher) standsFor(root, suite string, rel debindex.Release) error {
	if !f.feed.Allows(OtherSuite) && rel.Suite != suite && rel.Codename != suite &&
		path.Base(rel.Suite) != path.Base(suite) && path.Base(rel.Codename) != path.Base(suite) {
		return fmt.Errorf("%s calls itself suite %q, codename %q, and %s was asked for; \"allow: [%s]\" for this "+
			"feed in the estate file permits that", root, rel.Suite, rel.Codename, suite, OtherSuite)
	}
	had, err := f.inHand(root)
	if err != nil || had.IsZero() || f.feed.Allows(Older) {
		return err
	}
	return older(root, had, rel.Date)
}

// inHand is how the current generation's Release of a suite is dated; the zero time where there is none.
func (f *fetcher) inHand(root string) (time.Time, error) {
	if f.current == "" {
		return time.Time{}, nil
	}
	for _, name := range []string{"InRelease", "Release"} {
		text, err := os.ReadFile(filepath.Join(f.current, filepath.FromSlash(root), name))
		if err != nil {
			continue
		}
		rel, err := debindex.ReadRelease(bytes.NewReader(text))
		return rel.Date, err
	}
	return time.Time{}, nil
}

func older(what string, had, now time.Time) error {
	if now.IsZero() || !now.Before(had) {
		return nil
	}
	return fmt.Errorf("%s is of %s, and the one in hand is of %s: the mirror has gone back, or somebody holds an old "+
		"state before us; \"allow: [%s]\" for this feed in the estate file permits that",
		what, now.UTC().Format("2 Jan 2006 15:04 MST"), had.UTC().Format("2 Jan 2006 15:04 MST"), Older)
}

// indexes fetches the Packages files of a suite in the best compression that there is, under their hashes where the
// suite offers that: then a mirror that is updated in the middle does no harm.
func (f *fetcher) indexes(ctx context.Context, root string, rel debindex.Release) error {
	found, by := 0, map[string]bool{}
	for _, name := range rel.Indexes(intake.Options{Native: f.feed.Architecture}.Dpkg()) {
		part := strings.TrimSuffix(path.Dir(path.Dir(name)), "/")
		if len(f.feed.Components) > 0 && !slices.Contains(f.feed.Components, part) {
			continue
		}
		err := errAbsent
		for _, ext := range append(slices.Clone(compressed.Extensions), "") {
			sum := rel.SHA256[name+ext]
			if sum == "" {
				continue
			}
			w := want{path: root + "/" + name + ext, sha256: sum, size: rel.Sizes[name+ext],
				most: maxListing, absent: true}
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
			by[part] = true
		}
	}
	for _, c := range f.feed.Components {
		if !by[c] {
			return fmt.Errorf("%s has no Packages file for the component %q and the architecture %s",
				root, c, f.feed.Architecture)
		}
	}
	if found == 0 {
		return fmt.Errorf("%s has no Packages file for the architecture %s and the components %v", root,
			f.feed.Architecture, f.feed.Components)
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
	if had, err := os.ReadFile(filepath.Join(f.current, filepath.FromSlash(rpmrepo.RepomdPath))); err == nil &&
		f.current != "" && !f.feed.Allows(Older) {
		if was, err := rpmrepo.ReadRepomd(bytes.NewReader(had)); err == nil {
			if err := older(rpmrepo.RepomdPath, was.Made(), md.Made()); err != nil {
				return err
			}
		}
	}
	for _, file := range md.Files {
		if _, err := f.get(ctx, want{path: file.Location, sha256: file.SHA256, sha512: file.SHA512, size: file.Size,
			most: maxListing}); err != nil {
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
	_, err := f.get(ctx, want{path: base, most: maxListing})
	return err
}

// files fetches what an index.txt names, a path a line (as CSAF 2.0, 7.1.13 has it); of a directory without one, every
// file.
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
		w := want{path: path.Clean(n), most: maxListing}
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
