package intake

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"yareharbour/core/catalogue"
	"yareharbour/format/compressed"
	"yareharbour/format/debindex"
	"yareharbour/format/rpmrepo"
)

// repository reads the repository whose metadata lies in the directory, if there is one: repodata with a repomd.xml, or
// a suite with a Release file.
func repository(fsys fs.FS, dir string, o Options) ([]Item, error) {
	if path.Base(dir) == "repodata" {
		if _, err := fs.Stat(fsys, path.Join(dir, "repomd.xml")); err == nil {
			it, err := RPMRepository(fsys, path.Dir(dir), o)
			border(&it.Batch)
			return []Item{it}, err
		}
	}
	for _, name := range []string{"InRelease", "Release"} {
		if _, err := fs.Stat(fsys, path.Join(dir, name)); err == nil {
			if len(o.Suites) > 0 && !slices.Contains(o.Suites, path.Base(dir)) {
				return nil, nil
			}
			it, err := DebianSuite(fsys, path.Join(dir, name), o)
			border(&it.Batch)
			return []Item{it}, err
		}
	}
	return nil, nil
}

// RPMRepository reads the repository at root: its packages, and its advisories where it has any. Each file must have
// the hash that repomd.xml states. With keys, repomd.xml must carry a good signature beside it (repomd.xml.asc).
func RPMRepository(fsys fs.FS, root string, o Options) (Item, error) {
	at := path.Join(root, rpmrepo.RepomdPath)
	it := Item{Path: at, Kind: RPM}
	fail := func(err error) (Item, error) { return it, fmt.Errorf("%s: %w", at, err) }
	text, err := fs.ReadFile(fsys, at)
	if err != nil {
		return fail(err)
	}
	if !o.Keys.Empty() {
		sig, err := fs.ReadFile(fsys, at+".asc")
		if err != nil {
			return fail(errors.New("a signature is wanted, and there is no repomd.xml.asc beside it"))
		}
		if err := o.Keys.Verify(text, sig, o.Now); err != nil {
			return fail(err)
		}
	}
	md, err := rpmrepo.ReadRepomd(strings.NewReader(string(text)))
	if err != nil {
		return fail(err)
	}
	it.Batch.Feed = catalogue.Feed{Name: o.Feed, Made: md.Made()}
	primary, _ := md.File("primary")
	err = verified(fsys, root, primary, func(r io.Reader) (err error) {
		it.Batch.Releases, err = rpmrepo.ReadPrimary(&compressed.Bounded{R: r, Most: maxMetadata, Entry: maxEntry},
			o.rpm(), catalogue.Release{Feed: o.Feed, Signed: !o.Keys.Empty()})
		return err
	})
	if err != nil {
		return it, err
	}
	o.tell(primary.Location, len(it.Batch.Releases))
	if info, ok := md.File("updateinfo"); ok {
		var restarts rpmrepo.Restarts
		err = verified(fsys, root, info, func(r io.Reader) (err error) {
			it.Batch.Advisories, restarts,
				err = rpmrepo.ReadUpdateinfo(&compressed.Bounded{R: r, Most: maxMetadata, Entry: maxEntry}, o.rpm(),
				func(err error) error {
					return o.bad(&it.Batch, fmt.Errorf("%s: %w", info.Location, err))
				})
			return err
		})
		if err != nil {
			return it, err
		}
		restarts.Apply(it.Batch.Releases)
		o.tell(info.Location, len(it.Batch.Advisories))
	}
	return it, nil
}

func (o Options) tell(name string, entries int) {
	if o.Progress != nil {
		o.Progress(name, entries)
	}
}

// verified reads a file of a repository while its hash is taken, and believes what was read only where the hash is the
// stated one.
func verified(fsys fs.FS, root string, f rpmrepo.File, read func(io.Reader) error) error {
	name := path.Join(root, f.Location)
	file, err := fsys.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s, which repomd.xml names, is missing from the repository", name)
	}
	if err != nil {
		return err
	}
	defer file.Close()
	hash, want, what := sha256.New(), f.SHA256, "SHA-256"
	if f.SHA512 != "" {
		hash, want, what = sha512.New(), f.SHA512, "SHA-512"
	}
	tee := io.TeeReader(file, hash)
	plain, err := compressed.Open(name, tee)
	if err == nil {
		err = read(plain)
	}
	if _, e := io.Copy(io.Discard, tee); err == nil {
		err = e
	}
	if got := hex.EncodeToString(hash.Sum(nil)); got != want {
		return fmt.Errorf("%s: its %s is %s and repomd.xml says %s: it is damaged, cut short, or of another state of "+
			"the repository", name, what, got, want)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// DebianSuite reads the Packages files that a suite's Release or InRelease file vouches for and that are there. With
// keys, an InRelease file with a good signature is wanted.
func DebianSuite(fsys fs.FS, release string, o Options) (Item, error) {
	it := Item{Path: release, Kind: Debian}
	fail := func(err error) (Item, error) { return it, fmt.Errorf("%s: %w", release, err) }
	f, err := fsys.Open(release)
	if err != nil {
		return fail(err)
	}
	defer f.Close()
	var rel debindex.Release
	switch {
	case o.Keys.Empty():
		rel, err = debindex.ReadRelease(f)
	case path.Base(release) == "Release":
		var text, sig []byte
		if text, err = fs.ReadFile(fsys, release); err == nil {
			if sig, err = fs.ReadFile(fsys, release+".gpg"); err != nil {
				err = errors.New("a signature is wanted, and there is neither an InRelease nor a Release.gpg beside it")
			} else {
				rel, err = o.Keys.ReadDetached(text, sig, o.Now)
			}
		}
	default:
		rel, err = o.Keys.ReadSigned(f, o.Now)
	}
	if err != nil {
		return fail(err)
	}
	root := path.Dir(release)
	it.Batch.Feed = catalogue.Feed{Name: o.Feed, Made: rel.Date}
	for _, name := range rel.Indexes(o.Dpkg()) {
		file, ok := present(fsys, root, name)
		if !ok {
			continue
		}
		if rel.SHA256[name] == "" { // then the hash of the file as it is must do
			if err := sameHash(fsys, file, rel.SHA256[strings.TrimPrefix(file, root+"/")]); err != nil {
				return it, err
			}
		}
		ix := debindex.Index{File: file, Release: rel, SHA256: rel.SHA256[name]}
		feed, rs, err := ix.Load(fsys, o.Dpkg(), nil)
		if err != nil {
			return it, err
		}
		if o.Feed == "" {
			it.Batch.Feed.Name = feed.Name
		}
		for i := range rs {
			rs[i].Feed, rs[i].Signed = it.Batch.Feed.Name, !o.Keys.Empty()
		}
		o.tell(file, len(rs))
		it.Batch.Releases = append(it.Batch.Releases, rs...)
	}
	if len(it.Batch.Releases) == 0 {
		return fail(errors.New("none of the Packages files that it vouches for is there, or all are empty"))
	}
	return it, nil
}

// present finds an index in any compression.
func present(fsys fs.FS, root, name string) (string, bool) {
	for _, ext := range append([]string{""}, compressed.Extensions...) {
		if _, err := fs.Stat(fsys, path.Join(root, name+ext)); err == nil {
			return path.Join(root, name+ext), true
		}
	}
	return "", false
}

func sameHash(fsys fs.FS, name, want string) error {
	f, err := fsys.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, f); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if got := hex.EncodeToString(hash.Sum(nil)); got != want {
		return fmt.Errorf("%s: its SHA-256 is %s and its Release file says %s", name, got, want)
	}
	return nil
}
