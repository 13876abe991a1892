package feed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yareharbour/format/compressed"
	"yareharbour/format/debindex"
	"yareharbour/format/intake"
	"yareharbour/format/rpmrepo"
)

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
		if err := f.standsFor(root, suite, rel, now); err != nil {
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
				root, root, Shown(f.feed.At))
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

// ahead is how far in the future a Release may be dated: clocks differ.
const ahead = time.Hour

const stamp = "2 Jan 2006 15:04 MST"

// standsFor holds a Release to the suite that was asked for, and to the one in hand: a signature says who wrote it, not
// that it is this one, nor that it is the newest.
func (f *fetcher) standsFor(root, suite string, rel debindex.Release, now time.Time) error {
	if rel.Date.After(now.Add(ahead)) {
		return fmt.Errorf("%s is dated %s, and it is %s here: one of the two clocks is wrong, and what comes later could never "+
			"take its place", root, rel.Date.UTC().Format(stamp), now.UTC().Format(stamp))
	}
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
		what, now.UTC().Format(stamp), had.UTC().Format(stamp), Older)
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

func (f *fetcher) rpm(ctx context.Context, now time.Time) error {
	at, err := f.get(ctx, want{path: rpmrepo.RepomdPath})
	if err != nil {
		return err
	}
	text, err := os.ReadFile(at)
	if err == nil {
		err = f.signed(ctx, rpmrepo.RepomdPath, text, now)
	}
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

// signed wants a good signature beside a file, in NAME.asc, where the feed has keyrings. It is asked before the file is
// read as anything.
func (f *fetcher) signed(ctx context.Context, name string, text []byte, now time.Time) error {
	keys, err := f.feed.keyring()
	if err != nil || keys.Empty() {
		return err
	}
	at, err := f.get(ctx, want{path: name + ".asc", absent: true})
	if errors.Is(err, errAbsent) {
		return fmt.Errorf("a signature is wanted (keyrings), and %s.asc is not there", name)
	}
	if err != nil {
		return err
	}
	sig, err := os.ReadFile(at)
	if err == nil {
		err = keys.Verify(text, sig, now)
	}
	if err != nil {
		return fmt.Errorf("%s.asc: %w", name, err)
	}
	return nil
}

// firmware fetches the one file that the feed's address names.
func (f *fetcher) firmware(ctx context.Context, now time.Time) error {
	at := strings.TrimSuffix(f.feed.At, "/")
	base := path.Base(filepath.ToSlash(at))
	f.feed.At = strings.TrimSuffix(at, "/"+base)
	file, err := f.get(ctx, want{path: base, most: maxListing})
	if err != nil || len(f.feed.Keyrings) == 0 {
		return err
	}
	text, err := os.ReadFile(file)
	if err == nil {
		err = f.signed(ctx, base, text, now)
	}
	return err
}

// files fetches what an index.txt names, a path a line (as CSAF 2.0, 7.1.13 has it); of a directory without one, every
// file. Where the feed has keyrings each file has its signature beside it (7.1.19).
func (f *fetcher) files(ctx context.Context, now time.Time) error {
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
		if err := f.file(ctx, n, now); err != nil {
			return err
		}
	}
	return nil
}

// file fetches one file of a feed, with what vouches for it.
func (f *fetcher) file(ctx context.Context, name string, now time.Time) error {
	if err := inside(name); err != nil {
		return err
	}
	w := want{path: path.Clean(name), most: maxListing}
	sum, err := f.sidecar(ctx, name)
	if err != nil {
		return err
	}
	if sum != "" {
		w.sha256 = sum
	}
	at, err := f.get(ctx, w)
	if err != nil || len(f.feed.Keyrings) == 0 {
		return err
	}
	text, err := os.ReadFile(at)
	if err != nil {
		return err
	}
	return f.signed(ctx, w.path, text, now)
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
		if err != nil || !e.Type().IsRegular() || strings.HasSuffix(name, ".sha256") ||
			strings.HasSuffix(name, ".asc") {
			return err
		}
		rel, err := filepath.Rel(dir, name)
		names = append(names, filepath.ToSlash(rel))
		return err
	})
	return names, err
}
