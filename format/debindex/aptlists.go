package debindex

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/format/compressed"
)

// Index is a Packages file in apt's lists directory with the Release file that vouches for it.
type Index struct {
	File    string
	Release Release
	SHA256  string // of the uncompressed text; empty where no Release vouches for it
}

// FindIndexes lists the Packages files of an apt lists directory, sorted by name. apt names a file by its URI with
// slashes as underscores, so that a Packages file begins with the name of its Release file's directory. Where the
// keyring holds keys, every Release must be signed by one of them at the time now, and every index vouched for. Only
// the files that used names are looked at, and those of all in the directory where it is nil: apt leaves there what
// came from a source that is no longer configured.
func FindIndexes(lists fs.FS, keys Keyring, now time.Time, used []string) ([]Index, error) {
	entries, err := fs.ReadDir(lists, ".")
	if err != nil {
		return nil, err
	}
	releases := map[string]Release{}
	var out []Index
	for _, e := range entries {
		base, ok := releaseBase(e.Name())
		if !ok || used != nil && !slices.ContainsFunc(used, func(file string) bool {
			return strings.HasPrefix(file, base)
		}) {
			continue
		}
		rel, err := readReleaseFile(lists, e.Name(), keys, now)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", e.Name(), err)
		}
		releases[base] = rel
	}
	for _, e := range entries {
		name := strings.TrimSuffix(e.Name(), compressed.Extension(e.Name()))
		if !e.IsDir() && strings.HasSuffix(name, "_Packages") && (used == nil || slices.Contains(used, e.Name())) {
			ix := vouch(e.Name(), name, releases)
			if ix.SHA256 == "" && !keys.Empty() {
				return nil, fmt.Errorf("%s: no signed Release file vouches for it", e.Name())
			}
			out = append(out, ix)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("there is no Packages file in it; \"apt-get update\" fetches them")
	}
	slices.SortFunc(out, func(a, b Index) int { return strings.Compare(a.File, b.File) })
	return out, nil
}

func releaseBase(name string) (string, bool) {
	if base, ok := strings.CutSuffix(name, "InRelease"); ok {
		return base, true
	}
	return strings.CutSuffix(name, "_Release")
}

func readReleaseFile(lists fs.FS, name string, keys Keyring, now time.Time) (Release, error) {
	f, err := lists.Open(name)
	if err != nil {
		return Release{}, err
	}
	defer f.Close()
	if keys.Empty() {
		return ReadRelease(f)
	}
	if strings.HasSuffix(name, "_Release") {
		text, err := compressed.All(f, 0, maxRelease)
		if err != nil {
			return Release{}, err
		}
		sig, err := fs.ReadFile(lists, name+".gpg")
		if err != nil {
			return Release{}, ErrUnsigned
		}
		return keys.ReadDetached(text, sig, now)
	}
	return keys.ReadSigned(f, now)
}

func vouch(file, name string, releases map[string]Release) Index {
	ix := Index{File: file}
	longest := -1
	for base, rel := range releases {
		rest, ok := strings.CutPrefix(name, base)
		if !ok || len(base) <= longest {
			continue
		}
		longest = len(base)
		ix.Release = rel
		rest = strings.TrimPrefix(rest, "_")
		for path, sum := range rel.SHA256 {
			if strings.ReplaceAll(path, "/", "_") == rest {
				ix.SHA256 = sum
			}
		}
	}
	return ix
}

// Load reads one index. Releases of an index marked NotAutomatic stand on a track of their own, named after its suite:
// they are no candidates for what did not come from there, as with apt's default priorities (apt_preferences(5));
// without ButAutomaticUpgrades they are none at all.
func (ix Index) Load(lists fs.FS, native string, keep func(name []byte) bool) (catalogue.Feed, []catalogue.Release, error) {
	suite := ix.Release.Suite
	if suite == "" {
		suite = ix.Release.Codename
	}
	feed := catalogue.Feed{Name: strings.TrimSuffix(ix.File, compressed.Extension(ix.File)), Made: ix.Release.Date}
	if suite != "" {
		feed.Name = suite
	}
	like := catalogue.Release{Feed: feed.Name, Vendor: ix.Release.Origin}
	if ix.Release.NotAutomatic {
		like.Track, like.Manual = suite, !ix.Release.ButAutomaticUpgrades
	}
	f, err := lists.Open(ix.File)
	if err != nil {
		return feed, nil, err
	}
	defer f.Close()
	r, err := compressed.Open(ix.File, f)
	if err != nil {
		return feed, nil, fmt.Errorf("%s: %w", ix.File, err)
	}
	rs, err := ReadPackages(r, native, ix.SHA256, like, keep)
	if err != nil {
		return feed, nil, fmt.Errorf("%s: %w", ix.File, err)
	}
	return feed, rs, nil
}
