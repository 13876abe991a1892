package bundle

import (
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

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/debindex"
	"yareharbour/format/intake"
	"yareharbour/payload"
)

// Shelf is the directory below which bundles that were taken in are kept, by their ids, and where their payloads go.
type Shelf struct {
	Dir      string
	Payloads payload.Store
}

// Options say how a bundle is to be read.
type Options struct {
	Native string           // architecture of the hosts
	Keys   debindex.Keyring // whose signature is wanted over every file
	// Vouched takes only the files that are vouched for, instead of refusing a bundle with others.
	Vouched bool
	Names   map[string]estate.Key
	Now     time.Time
	By      string // who takes it in
	Limits  Limits // the zero value: Usual
	// Progress, if wanted, is told from the calling goroutine.
	Progress func(Progress)
}

// Bundle is a bundle that was opened and not yet decided on. Close lets go of what was unpacked.
type Bundle struct {
	catalogue.Bundle
	Batches []catalogue.Batch

	shelf Shelf
	dir   string // unpacked
	o     Options
}

// known is the file in which a taken bundle's contents are kept.
const known = ".bundle.json"

// Open unpacks and reads an archive aside and says what is in it. Nothing is taken in yet; after an error nothing is
// left behind.
func (s Shelf) Open(ctx context.Context, file string, o Options) (*Bundle, error) {
	if o.Limits == (Limits{}) {
		o.Limits = Usual
	}
	if err := os.MkdirAll(s.Dir, 0o700); err != nil {
		return nil, err
	}
	s.sweep(o.Now)
	dir, err := os.MkdirTemp(s.Dir, ".open-*")
	if err != nil {
		return nil, err
	}
	b := &Bundle{shelf: s, dir: dir, o: o}
	if err := b.open(ctx, file); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", filepath.Base(file), err), os.RemoveAll(dir))
	}
	return b, nil
}

// sweep removes what a program that died left unpacked.
func (s Shelf) sweep(now time.Time) {
	old, _ := filepath.Glob(filepath.Join(s.Dir, ".open-*"))
	for _, o := range old {
		if st, err := os.Stat(o); err == nil && time.Since(st.ModTime()) > 24*time.Hour {
			_ = os.RemoveAll(o)
		}
	}
}

func (b *Bundle) open(ctx context.Context, file string) error {
	sum, size, err := payload.SumOf(file)
	if err != nil {
		return err
	}
	b.ID, b.Name, b.Size = sum, filepath.Base(file), size
	u := &unpacker{ctx: ctx, limits: b.o.Limits, packed: size, progress: b.o.Progress, names: map[string]string{},
		inner: map[string]string{}}
	if err := u.archive(file, b.dir, b.Name, 1); err != nil {
		return err
	}
	fsys := os.DirFS(b.dir)
	if err := b.verify(fsys, u.inner); err != nil { // before anything in it is read
		return err
	}
	read := 0
	items, err := intake.Tree(ctx, fsys, intake.Options{Feed: strings.TrimSuffix(b.Name, filepath.Ext(b.Name)),
		Native: b.o.Native, Keys: debindex.Keyring{}, Now: b.o.Now, Names: b.o.Names,
		Progress: func(name string, n int) {
			read += n
			if b.o.Progress != nil {
				b.o.Progress(Progress{"reading", name, read, u.bytes})
			}
		}})
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%w: %w", ErrRefused, err)
	}
	return b.describe(items)
}

// sumsName is a list of checksums, as sha256sum writes one. Its signature stands beside it.
const sumsName = "SHA256SUMS"

var signatures = []string{".asc", ".gpg"}

// verify holds the files against every SHA256SUMS in the bundle. Where keys are given a list counts only with a good
// signature, or where a list that has one names it, and every file must be named by a list that counts: what is used is
// vouched for, not what is listed. Where only that part is wanted, the rest is thrown away.
func (b *Bundle) verify(fsys fs.FS, inner map[string]string) error {
	var files, lists []string
	err := fs.WalkDir(fsys, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		if path.Base(name) == sumsName {
			lists = append(lists, name)
		}
		files = append(files, name)
		return nil
	})
	if err != nil {
		return err
	}
	vouched := map[string]bool{}
	slices.SortStableFunc(lists, func(x, y string) int { return strings.Count(x, "/") - strings.Count(y, "/") })
	for _, name := range lists {
		text, err := fs.ReadFile(fsys, name)
		if err != nil {
			return err
		}
		if !b.o.Keys.Empty() && !b.covered(name, vouched) {
			if err := b.signature(fsys, name, text); err != nil {
				return err
			}
			vouched[name] = true
		}
		if err := b.sums(fsys, path.Dir(name), text, inner, vouched); err != nil {
			return err
		}
	}
	if b.o.Keys.Empty() {
		return nil
	}
	if b.SignedBy == "" {
		return refuse("a signature is wanted, and there is no %s in it with one", sumsName)
	}
	for _, name := range files {
		if b.covered(name, vouched) || b.isSignature(name, vouched) {
			continue
		}
		if !b.o.Vouched {
			return refuse("%s is in no list of checksums that is signed: nobody vouches for it", name)
		}
		b.Left = append(b.Left, name)
		if err := os.Remove(filepath.Join(b.dir, filepath.FromSlash(name))); err != nil {
			return err
		}
	}
	return nil
}

// covered tells whether a list that counts names the file, or the archive that it was in.
func (b *Bundle) covered(name string, vouched map[string]bool) bool {
	for at := name; at != "."; at = path.Dir(at) {
		if vouched[at] || vouched[strings.TrimSuffix(at, unpackedAs)] && strings.HasSuffix(at, unpackedAs) {
			return true
		}
	}
	return false
}

// isSignature tells whether a file is the signature of a list that counts.
func (b *Bundle) isSignature(name string, vouched map[string]bool) bool {
	ext := path.Ext(name)
	return slices.Contains(signatures, ext) && path.Base(name) == sumsName+ext && vouched[strings.TrimSuffix(name, ext)]
}

func (b *Bundle) signature(fsys fs.FS, name string, text []byte) error {
	for _, ext := range signatures {
		sig, err := fs.ReadFile(fsys, name+ext)
		if err != nil {
			continue
		}
		if err := b.o.Keys.Verify(text, sig, b.o.Now); err != nil {
			return refuse("%s%s: %w", name, ext, err)
		}
		b.SignedBy = name + ext
		return nil
	}
	return refuse("a signature is wanted, and there is none beside %s", name)
}

// sums reads lines as sha256sum writes them: the hash, two blanks or a blank and an asterisk, and the name.
func (b *Bundle) sums(fsys fs.FS, dir string, text []byte, inner map[string]string, vouched map[string]bool) error {
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\r\n")
		if line == "" {
			continue
		}
		want, name, ok := strings.Cut(line, " ")
		name = path.Clean(strings.TrimLeft(name, " *"))
		if !ok || len(want) != 64 || !fs.ValidPath(path.Join(dir, name)) {
			return refuse("a line of %s is not of the form \"HASH  NAME\": %.80q", sumsName, line)
		}
		got, err := b.sumOf(fsys, path.Join(dir, name), inner)
		if err != nil {
			return refuse("%s is in %s and not in the bundle", name, sumsName)
		}
		if got != strings.ToLower(want) {
			return refuse("%s has the SHA-256 %s, and %s says %s: it is damaged or was changed", name, got, sumsName, want)
		}
		vouched[path.Join(dir, name)] = true
		b.Summed++
	}
	return nil
}

// sumOf is the hash of a file of the bundle, or of an archive in it as it was before it was unpacked.
func (b *Bundle) sumOf(fsys fs.FS, name string, inner map[string]string) (string, error) {
	if sum, ok := inner[filepath.Join(b.dir, filepath.FromSlash(name))]; ok {
		return sum, nil
	}
	f, err := fsys.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum, _, err := payload.Sum(f)
	return sum, err
}

// describe says what every file is. A file in which a release of the bundle comes is a payload; one that has its name
// and another hash is refused.
func (b *Bundle) describe(items []intake.Item) error {
	type named struct {
		sum string
		rel *catalogue.Release
	}
	byName := map[string][]named{}
	for _, it := range items {
		for i := range it.Batch.Releases {
			r := &it.Batch.Releases[i]
			if r.File != "" && r.SHA256 != "" {
				byName[path.Base(r.File)] = append(byName[path.Base(r.File)], named{r.SHA256, r})
			}
		}
	}
	found := map[string]bool{}
	for _, it := range items {
		f := catalogue.BundleFile{Path: it.Path, Kind: string(it.Kind), Size: it.Size, SHA256: it.SHA256, Releases: len(it.Batch.Releases),
			Advisories: len(it.Batch.Advisories), Says: says(it.Batch)}
		wants := byName[path.Base(it.Path)]
		i := slices.IndexFunc(wants, func(n named) bool { return n.sum == it.SHA256 })
		switch {
		case i >= 0:
			found[it.SHA256] = true
			b.Payloads++
			if it.Kind == intake.Other {
				f.Kind, f.Says = string(intake.Payload), fmt.Sprintf("%s %s", wants[i].rel.Component, wants[i].rel.Version)
			}
		case len(wants) > 0 && it.Kind == intake.Other:
			return refuse("%s has the SHA-256 %s, and the release %s %s says %s: it is damaged or not the one", it.Path,
				it.SHA256, wants[0].rel.Component, wants[0].rel.Version, wants[0].sum)
		}
		if !it.Batch.Empty() {
			b.Batches = append(b.Batches, it.Batch)
		}
		b.Releases += f.Releases
		b.Advisories += f.Advisories
		b.Files = append(b.Files, f)
	}
	if len(b.Batches) == 0 {
		return refuse("nothing in it says anything of any release or advisory; it holds %d files of unknown kinds",
			len(b.Files))
	}
	for name, wants := range byName {
		if !slices.ContainsFunc(wants, func(n named) bool { return found[n.sum] }) {
			b.Missing = append(b.Missing, name)
		}
	}
	slices.Sort(b.Missing)
	return nil
}

// says sums a file up: the components it is about.
func says(b catalogue.Batch) string {
	var parts []string
	for _, r := range b.Releases {
		if s := string(r.Component) + " " + r.Version; !slices.Contains(parts, s) {
			parts = append(parts, s)
		}
	}
	for _, a := range b.Advisories {
		parts = append(parts, a.ID)
	}
	const most = 4
	if rest := len(parts) - most; rest > 0 {
		parts = append(parts[:most], fmt.Sprintf("and %d more", rest))
	}
	return strings.Join(parts, ", ")
}

// Close lets go of what was unpacked. It is harmless after Accept.
func (b *Bundle) Close() error { return os.RemoveAll(b.dir) }

// ErrKnown is what accepting a bundle gives that was taken in before: what it says is known, and nothing of that changes.
// Payloads of it that went missing or were damaged since are back.
var ErrKnown = errors.New("this very bundle was taken in before")

// Accept takes the bundle in: its payloads into the store, what it says onto the shelf. It is there afterwards wholly
// or not at all.
func (b *Bundle) Accept(ctx context.Context) error {
	to := filepath.Join(b.shelf.Dir, b.ID)
	if _, err := os.Stat(to); err == nil {
		return b.restore(ctx)
	}
	var keep []string
	for i, f := range b.Files {
		if err := ctx.Err(); err != nil {
			return err
		}
		if b.o.Progress != nil {
			b.o.Progress(Progress{"taking in", f.Path, i + 1, f.Size})
		}
		name := filepath.Join(b.dir, filepath.FromSlash(f.Path))
		if b.holds(f) {
			if err := b.put(name, f.SHA256); err != nil {
				return fmt.Errorf("%s: %w", f.Path, err)
			}
		}
		if f.Kind == string(intake.Payload) || f.Kind == catalogue.NotRecognised {
			keep = append(keep, name)
		}
	}
	for _, name := range keep { // payloads are in the store now, and the rest says nothing
		if err := os.Remove(name); err != nil {
			return err
		}
	}
	b.Taken, b.By = b.o.Now, b.o.By
	text, err := json.MarshalIndent(b.Bundle, "", "  ")
	if err == nil {
		err = os.WriteFile(filepath.Join(b.dir, known), text, 0o600)
	}
	if err != nil {
		return err
	}
	if err := os.Chmod(b.dir, 0o700); err != nil {
		return err
	}
	return os.Rename(b.dir, to)
}

// restore puts back payloads that went missing or were damaged since the bundle was taken in.
func (b *Bundle) restore(ctx context.Context) error {
	back := 0
	for _, f := range b.Files {
		if err := ctx.Err(); err != nil {
			return err
		}
		if !b.holds(f) || b.shelf.Payloads.Whole(f.SHA256) {
			continue
		}
		if err := b.put(filepath.Join(b.dir, filepath.FromSlash(f.Path)), f.SHA256); err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
		back++
	}
	if back > 0 {
		return fmt.Errorf("%w; %s that went missing or were damaged since are back", ErrKnown, catalogue.Some(back, "payload"))
	}
	return fmt.Errorf("%w; nothing has changed", ErrKnown)
}

// Tell has the progress of what follows told to somebody else than whom it was opened for.
func (b *Bundle) Tell(progress func(Progress)) { b.o.Progress = progress }

// holds tells whether a release of the bundle comes in the file.
func (b *Bundle) holds(f catalogue.BundleFile) bool {
	for _, batch := range b.Batches {
		for i := range batch.Releases {
			if r := &batch.Releases[i]; r.SHA256 == f.SHA256 && f.SHA256 != "" {
				return true
			}
		}
	}
	return false
}

func (b *Bundle) put(name, sum string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return b.shelf.Payloads.Put(f, sum)
}

// Taken returns the bundles that were taken in, the newest first.
func (s Shelf) Taken() ([]catalogue.Bundle, error) {
	names, err := filepath.Glob(filepath.Join(s.Dir, "*", known))
	if err != nil {
		return nil, err
	}
	var out []catalogue.Bundle
	for _, n := range names {
		if strings.HasPrefix(filepath.Base(filepath.Dir(n)), ".") {
			continue
		}
		var c catalogue.Bundle
		text, err := os.ReadFile(n)
		if err == nil {
			err = json.Unmarshal(text, &c)
		}
		if err != nil {
			return nil, fmt.Errorf("the bundle %s: %w", filepath.Dir(n), err)
		}
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b catalogue.Bundle) int { return b.Taken.Compare(a.Taken) })
	return out, nil
}

// Load reads what a bundle that was taken in says.
func (s Shelf) Load(c catalogue.Bundle, o Options) ([]catalogue.Batch, error) {
	items, err := intake.Tree(context.Background(), os.DirFS(filepath.Join(s.Dir, c.ID)),
		intake.Options{Feed: strings.TrimSuffix(c.Name, filepath.Ext(c.Name)), Native: o.Native,
			Now: o.Now, Names: o.Names})
	if err != nil {
		return nil, fmt.Errorf("the bundle %s as it was taken in: %w", c.Name, err)
	}
	var out []catalogue.Batch
	for _, it := range items {
		if !it.Batch.Empty() {
			out = append(out, it.Batch)
		}
	}
	return out, nil
}

// Remove takes a bundle out of the catalogue again; its payloads stay until they are pruned. The id may be its
// beginning.
func (s Shelf) Remove(id string) (catalogue.Bundle, error) {
	all, err := s.Taken()
	if err != nil {
		return catalogue.Bundle{}, err
	}
	var found []catalogue.Bundle
	for _, c := range all {
		if id != "" && (strings.HasPrefix(c.ID, id) || c.Name == id) {
			found = append(found, c)
		}
	}
	switch len(found) {
	case 0:
		return catalogue.Bundle{}, fmt.Errorf("no bundle %q was taken in; \"yare bundle list\" shows those that were", id)
	case 1:
		return found[0], os.RemoveAll(filepath.Join(s.Dir, found[0].ID))
	}
	return catalogue.Bundle{}, fmt.Errorf("%q means %d bundles; say more of the id", id, len(found))
}
