package harbour

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/format/debindex"
	"yareharbour/format/intake"
)

// errNoIndexes is what loading from a directory that is not there gives.
var errNoIndexes = errors.New("the Debian indices")

// loadIndexes adds the Debian indices of a directory, laid out as apt keeps its lists, to the catalogue. native is the
// architecture whose packages are named without it. Where keyrings are named, every index must be signed by one of
// their keys at the time now; a directory of which one index is bad adds nothing.
func loadIndexes(cat *catalogue.Catalogue, dir, native string, keyrings []string, now time.Time) error {
	if st, err := os.Stat(dir); err != nil || !st.IsDir() {
		return fmt.Errorf("%w: there is no directory %s", errNoIndexes, dir)
	}
	keys, err := debindex.OpenKeyrings(keyrings)
	if err != nil {
		return err
	}
	lists := os.DirFS(dir)
	found, err := debindex.FindIndexes(lists, keys, now, aptUses(dir))
	if err != nil {
		return fmt.Errorf("the Debian indices of %s: %w", dir, err)
	}
	type loaded struct {
		feed     catalogue.Feed
		releases []catalogue.Release
	}
	var all []loaded
	for _, ix := range found {
		feed, rs, err := ix.Load(lists, native)
		if err != nil {
			return fmt.Errorf("the Debian indices of %s: %w; \"apt-get update\" fetches them anew", dir, err)
		}
		all = append(all, loaded{feed, rs})
	}
	for _, l := range all {
		cat.Add(l.feed, l.releases)
	}
	return nil
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

// nativeArch is this machine's architecture as dpkg's own package tells it.
func nativeArch() (string, error) {
	f, err := os.Open("/var/lib/dpkg/status")
	if err != nil {
		return "", fmt.Errorf("dpkg's database: %w", err)
	}
	defer f.Close()
	_, native, err := debindex.ReadStatus(f)
	return native, err
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
