// Package intake tells what a file is, of all the formats from which a catalogue can be filled, and reads it. Feeds and
// bundles stand on it: neither trusts a file's name alone.
package intake

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/advisory"
	"yareharbour/format/bounds"
	"yareharbour/format/compressed"
	"yareharbour/format/debindex"
	"yareharbour/format/fwmeta"
	"yareharbour/format/pldm"
	"yareharbour/format/releaselist"
	"yareharbour/plain"
)

// Kind is what a file is, in words.
type Kind string

// The kinds of files.
const (
	ReleaseList Kind = "release list"
	CSAF        Kind = "CSAF advisory"
	OSV         Kind = "OSV advisory"
	Metadata    Kind = "firmware metadata"
	Cabinet     Kind = "firmware cabinet"
	PLDM        Kind = "PLDM package"
	Debian      Kind = "Debian repository"
	RPM         Kind = "RPM repository"
	Sums        Kind = "checksums"
	Payload     Kind = "payload"
	Other       Kind = catalogue.NotRecognised
	// Part is a file that belongs to a repository, and is read with it.
	Part Kind = "part of a repository"
)

// Item is a file, or a repository by the file at its root, and what it says.
type Item struct {
	Path   string
	Kind   Kind
	Size   int64  // bytes
	SHA256 string // in hex
	Batch  catalogue.Batch
}

// Options say how files are to be understood.
type Options struct {
	Feed   string // the name of the feed for what names none itself
	Native string // architecture of the hosts, as "amd64" or "x86_64"; the two families name it differently
	Keys   debindex.Keyring
	Now    time.Time
	// Names maps what firmware metadata and PLDM packages call things (AppStream ids, GUIDs, PCI ids as "f0f0:0025") to
	// components.
	Names map[string]estate.Key
	// Progress, if there is one, is told of every file that was read.
	Progress func(path string, entries int)
	// Suites are the suites of Debian repositories that are read; none: all that are there.
	Suites []string
	// SetAside sets what can't be read aside and goes on: a feed's other entries must still come in. Without it the
	// first bad entry ends the reading.
	SetAside bool
}

// bad sets an entry aside where that is wanted; otherwise it is the error that it is.
func (o Options) bad(b *catalogue.Batch, err error) error {
	if !o.SetAside {
		return err
	}
	const most = 1000
	if len(b.Aside) < most {
		b.Aside = append(b.Aside, err.Error())
	}
	return nil
}

// natives are the architectures by the names of the other family of distributions.
var natives = map[string][2]string{ // dpkg, rpm
	"amd64": {"amd64", "x86_64"}, "x86_64": {"amd64", "x86_64"}, "arm64": {"arm64", "aarch64"},
	"aarch64": {"arm64", "aarch64"},
}

// Dpkg is the hosts' architecture as dpkg names it.
func (o Options) Dpkg() string { return cmp.Or(natives[o.Native][0], o.Native) }
func (o Options) rpm() string  { return cmp.Or(natives[o.Native][1], o.Native) }

func (o Options) naming(id string, guids []string) estate.Key {
	if k, ok := o.Names[id]; ok {
		return k
	}
	for _, g := range guids {
		if k, ok := o.Names[g]; ok {
			return k
		}
	}
	return ""
}

// How large files may be, unpacked, in bytes. Those that are read into memory are bounded closely; metadata is
// streamed, an entry at a time.
const (
	maxWords    = 64 << 20 // advisories, release lists
	maxArchive  = 96 << 20 // cabinets, PLDM packages
	maxMetadata = 1 << 30
	maxEntry    = 8 << 20 // of metadata
)

// File reads one file of its own: it is told by what it begins with, and by its name where that says nothing. An
// unknown file is no error: it is of the kind Other, or, where its releases are known elsewhere, a payload.
func File(name string, r io.Reader, size int64, o Options) (Item, error) {
	it, err := file(name, r, size, o)
	border(&it.Batch)
	return it, err
}

// border makes what a file says harmless to whoever looks at it.
func border(b *catalogue.Batch) {
	for i := range b.Releases {
		r := &b.Releases[i]
		for _, s := range []*string{(*string)(&r.Component), &r.Version, &r.Track, &r.Withdrawn, &r.Notes, &r.OneWay,
			&r.Link, &r.File, &r.Vendor, &r.Source, &r.SourceVersion, &r.Feed} {
			*s = plain.Line(*s)
		}
		if len(r.Hardware)+len(r.Advisories)+len(r.Requires)+len(r.Adds)+len(r.Drops)+
			len(r.Members)+len(r.Replaces) > 0 {
			plain.Strings(r)
		}
	}
	plain.Strings(&b.Tracks)
	plain.Strings(&b.Advisories)
	plain.Strings(&b.Pairings)
	plain.Strings(&b.Aside)
}

func file(name string, r io.Reader, size int64, o Options) (Item, error) {
	it := Item{Path: name, Kind: Other, Size: size}
	hash := sha256.New()
	tee := io.TeeReader(r, hash)
	plain, _, err := compressed.Sniff(tee)
	if err != nil { // it only begins as a compressed file does
		plain, err = tee, nil
	}
	head := make([]byte, 512)
	n, _ := io.ReadFull(plain, head)
	head = head[:n]
	rest := io.MultiReader(bytes.NewReader(head), plain)
	if isMetadata(name, head) { // a remote's is large, and is streamed
		it.Kind = Metadata
		it.Batch, err = fwmeta.Read(&compressed.Bounded{R: rest, Most: maxMetadata, Entry: maxEntry}, o.Feed, o.naming,
			func(b *catalogue.Batch, err error) error {
				return o.bad(b, fmt.Errorf("%s: %w", name, err))
			})
		if err != nil {
			return it, fmt.Errorf("%s: %w", name, err)
		}
		o.tell(name, len(it.Batch.Releases))
	} else if read, most := reader(name, head); read != nil {
		body, err := compressed.All(rest, size, most)
		if err != nil {
			return it, fmt.Errorf("%s: %w", name, err)
		}
		if _, err := io.Copy(io.Discard, tee); err != nil {
			return it, fmt.Errorf("%s: %w", name, err)
		}
		it.SHA256 = hex.EncodeToString(hash.Sum(nil))
		if it.Kind, it.Batch, err = read(it, body, o); err != nil {
			return it, fmt.Errorf("%s: %w", name, err)
		}
		o.tell(name, len(it.Batch.Releases)+len(it.Batch.Advisories))
		return it, nil
	}
	if _, err := io.Copy(io.Discard, tee); err != nil {
		return it, fmt.Errorf("%s: %w", name, err)
	}
	it.SHA256 = hex.EncodeToString(hash.Sum(nil))
	return it, nil
}

type read func(it Item, body []byte, o Options) (Kind, catalogue.Batch, error)

// reader is what reads a file that begins so, and how large one may be; nil where nothing does.
func reader(name string, head []byte) (read, int64) {
	base := path.Base(strings.TrimSuffix(name, compressed.Extension(name)))
	trimmed := bytes.TrimLeft(head, " \t\r\n\ufeff")
	switch {
	case bytes.HasPrefix(head, []byte(fwmeta.CabMagic)):
		return readCabinet, maxArchive
	case pldm.IsPackage(head):
		return readPLDM, maxArchive
	case base == "SHA256SUMS" || base == "SHA256SUMS.asc" || base == "SHA256SUMS.gpg":
		return func(Item, []byte, Options) (Kind, catalogue.Batch, error) {
			return Sums, catalogue.Batch{}, nil
		}, maxWords
	case (strings.HasPrefix(string(trimmed), "{") || strings.HasPrefix(string(trimmed), "[")) &&
		strings.HasSuffix(base, ".json"):
		return readJSON, maxWords
	case strings.HasSuffix(base, ".yaml") || strings.HasSuffix(base, ".yml"):
		return readYAML, maxWords
	}
	return nil, 0
}

func readCabinet(it Item, body []byte, o Options) (Kind, catalogue.Batch, error) {
	b, err := fwmeta.ReadCabinet(body, it.Path, o.Feed, o.naming)
	return Cabinet, b, err
}

func readPLDM(it Item, body []byte, o Options) (Kind, catalogue.Batch, error) {
	p, err := pldm.Read(bytes.NewReader(body))
	if err == nil {
		err = p.Check(body)
	}
	if err != nil {
		return PLDM, catalogue.Batch{}, err
	}
	return PLDM, p.Batch(path.Base(it.Path), o.Feed, it.SHA256, it.Size, func(device string) estate.Key {
		return o.Names[device]
	}), nil
}

// isMetadata tells firmware metadata from other XML.
func isMetadata(name string, head []byte) bool {
	return strings.HasSuffix(strings.TrimSuffix(name, compressed.Extension(name)), ".xml") &&
		bytes.Contains(head, []byte("<component"))
}

// readJSON tells CSAF from OSV by the fields at the top.
func readJSON(it Item, body []byte, o Options) (Kind, catalogue.Batch, error) {
	b := catalogue.Batch{Feed: catalogue.Feed{Name: o.Feed}}
	var top struct {
		Document json.RawMessage `json:"document"`
		ID       json.RawMessage `json:"id"`
		Modified json.RawMessage `json:"modified"`
	}
	var err error
	if t := bytes.TrimSpace(body); len(t) > 0 && t[0] == '[' {
		var all []json.RawMessage
		if err = bounds.Unmarshal(body, &all, bounds.Usual); err == nil && len(all) > 0 {
			err = json.Unmarshal(all[0], &top)
		}
	} else {
		err = bounds.Unmarshal(body, &top, bounds.Usual)
	}
	switch {
	case err != nil:
		return Other, b, fmt.Errorf("it should be JSON and is not: %w", err)
	case top.Document != nil:
		b.Advisories, err = advisory.ReadCSAF(body)
		return CSAF, dated(b), err
	case top.ID != nil && top.Modified != nil:
		b.Advisories, err = advisory.ReadOSV(body, func(err error) error {
			return o.bad(&b, fmt.Errorf("%s: %w", it.Path, err))
		})
		return OSV, dated(b), err
	}
	return Other, b, nil
}

// dated gives a batch of advisories the date of the newest.
func dated(b catalogue.Batch) catalogue.Batch {
	for _, a := range b.Advisories {
		if a.Published.After(b.Feed.Made) {
			b.Feed.Made = a.Published
		}
	}
	return b
}

func readYAML(it Item, body []byte, o Options) (Kind, catalogue.Batch, error) {
	if !bytes.HasPrefix(body, []byte("feed:")) && !bytes.Contains(body, []byte("\nfeed:")) {
		return Other, catalogue.Batch{}, nil
	}
	b, err := releaselist.ParseSome(path.Base(it.Path), body, o.bad)
	return ReleaseList, b, err
}

// Tree reads all files below a directory, repositories as wholes, in the order of their paths. The first bad file ends
// it: what is not whole is not taken in at all; with SetAside, files that belong to no repository are set aside by
// themselves. It ends when the context does, also in the middle of a file.
func Tree(ctx context.Context, fsys fs.FS, o Options) ([]Item, error) {
	fsys = cancellable{fsys, ctx}
	var out []Item
	parts := map[string]bool{} // directories that belong to a repository
	err := fs.WalkDir(fsys, ".", func(name string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		case !e.IsDir():
			return nil
		}
		its, err := repository(fsys, name, o)
		for _, it := range its {
			out = append(out, it)
			parts[path.Dir(it.Path)] = true
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	err = fs.WalkDir(fsys, ".", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || ctx.Err() != nil {
			return errors.Join(err, ctx.Err())
		}
		for dir := range parts {
			if strings.HasPrefix(name, dir+"/") {
				return nil
			}
		}
		it, err := open(fsys, name, o)
		if err != nil && ctx.Err() == nil {
			it.Batch.Releases, it.Batch.Advisories = nil, nil // of a file that can't be read as a whole nothing counts
			err = o.bad(&it.Batch, err)
		}
		if err == nil && it.Kind != Part {
			out = append(out, it)
		}
		return err
	})
	return out, err
}

func open(fsys fs.FS, name string, o Options) (Item, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return Item{}, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return Item{}, err
	}
	if !st.Mode().IsRegular() {
		return Item{Kind: Part}, nil
	}
	return File(name, f, st.Size(), o)
}
