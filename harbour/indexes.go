package harbour

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/format/debindex"
	"yareharbour/format/intake"
)

// errNoIndexes is what loading from a directory that is not there gives.
var errNoIndexes = errors.New("the Debian indices")

// indexes are the Debian indices of a directory, laid out as apt keeps its lists.
type indexes struct {
	dir      string
	native   string                 // the architecture whose packages are named without it
	keyrings []string               // every index must be signed by one of their keys; none: by nobody
	keep     func(name []byte) bool // of which packages releases are wanted; nil: of all
	now      time.Time
}

// index is an index that was read.
type index struct {
	file     string
	feed     catalogue.Feed
	releases []catalogue.Release
}

// load adds the indices to the catalogue; a directory of which one index is bad adds nothing. In apt's own directory only
// those of configured sources count. Which these are apt takes its time to say: meanwhile all are read.
func (l indexes) load(cat *catalogue.Catalogue) error {
	if st, err := os.Stat(l.dir); err != nil || !st.IsDir() {
		return fmt.Errorf("%w: there is no directory %s", errNoIndexes, l.dir)
	}
	keys, err := debindex.OpenKeyrings(l.keyrings)
	if err != nil {
		return err
	}
	asked := make(chan []string, 1)
	go func() { asked <- aptUses(l.dir) }()
	all, err := l.read(keys, nil)
	if used := <-asked; used != nil {
		if err != nil { // what is not used may be damaged
			all, err = l.read(keys, used)
		}
		all = slices.DeleteFunc(all, func(x index) bool { return !slices.Contains(used, x.file) })
	}
	if err == nil && len(all) == 0 {
		err = errors.New("there is no Packages file of a configured source in it; \"apt-get update\" fetches them")
	}
	if err != nil {
		return fmt.Errorf("the Debian indices of %s: %w", l.dir, err)
	}
	for _, x := range all {
		cat.Add(x.feed, x.releases)
	}
	return nil
}

// read reads the indices that used names, or all.
func (l indexes) read(keys debindex.Keyring, used []string) (out []index, err error) {
	files := os.DirFS(l.dir)
	found, err := debindex.FindIndexes(files, keys, l.now, used)
	if err != nil {
		return nil, err
	}
	for _, ix := range found {
		x := index{file: ix.File}
		if x.feed, x.releases, err = ix.Load(files, l.native, l.keep); err != nil {
			return nil, fmt.Errorf("%w; \"apt-get update\" fetches them again", err)
		}
		out = append(out, x)
	}
	return out, nil
}

// AptLists is where apt keeps its indices.
const AptLists = "/var/lib/apt/lists"

// aptUses names the files of apt's own directory that belong to sources which are configured. It is nil for any other
// directory, and where there is no apt to ask.
func aptUses(dir string) []string {
	if filepath.Clean(dir) != AptLists {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	out, err := exec.CommandContext(ctx, "apt-get", "indextargets", "--format", "$(FILENAME)",
		"Identifier: Packages").Output()
	if err != nil {
		return nil
	}
	used := []string{}
	for line := range strings.Lines(string(out)) {
		used = append(used, filepath.Base(strings.TrimSpace(line)))
	}
	return used
}

// installed are the packages that dpkg has on this machine, and its architecture as dpkg's own package tells it.
func installed() (names map[string]bool, native string, err error) {
	f, err := os.Open("/var/lib/dpkg/status")
	if err != nil {
		return nil, "", fmt.Errorf("dpkg's database: %w", err)
	}
	defer f.Close()
	all, native, err := debindex.ReadStatus(f)
	names = make(map[string]bool, len(all))
	for _, p := range all {
		names[p.Name] = true
	}
	return names, native, err
}

// loadAdvisories adds the CSAF or OSV advisories of a file to the catalogue.
func loadAdvisories(cat *catalogue.Catalogue, name string) error {
	f, err := os.Open(name)
	if err != nil {
		return fmt.Errorf("the advisories: %w", err)
	}
	defer f.Close()
	it, err := intake.File(name, f, 0, intake.Options{Feed: filepath.Base(name)})
	if err != nil {
		return err
	}
	if it.Kind != intake.CSAF && it.Kind != intake.OSV {
		return fmt.Errorf("%s holds no CSAF or OSV advisories (%s)", name, it.Kind)
	}
	cat.AddBatch(it.Batch)
	return nil
}
