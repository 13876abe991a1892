package demo

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/format/baselinefile"
	"yareharbour/format/releaselist"
)

// The demo must show every verdict that there is, and vts must have only what a round can mend.
func TestEverySituationIsThere(t *testing.T) {
	dir := t.TempDir()
	if err := Write(dir); err != nil {
		t.Fatal(err)
	}
	c := &drift.Checker{Catalogue: &catalogue.Catalogue{}, Now: Start}
	for _, f := range glob(t, dir, "releases") {
		batch, err := releaselist.Parse(f, read(t, f))
		if err != nil {
			t.Fatal(err)
		}
		c.Catalogue.AddBatch(batch)
		checkPayloads(t, dir, batch.Releases)
	}
	for _, f := range glob(t, dir, "baselines") {
		b, err := baselinefile.Parse(f, read(t, f))
		if err != nil {
			t.Fatal(err)
		}
		c.Baselines = append(c.Baselines, b)
	}
	seen := map[drift.Outcome][]string{}
	w := World()
	for _, cl := range w.Estate.Clusters {
		for _, h := range cl.Hosts {
			r := w.Hosts[h].Reading
			for _, s := range estate.SectionNames {
				r.SetSection(estate.Section{Name: s, At: Start, Err: w.Hosts[h].Unread[s]})
			}
			for _, v := range c.Host(cl.Name, &r) {
				seen[v.Outcome] = append(seen[v.Outcome], cl.Name+"/"+h+" "+v.Title())
			}
		}
	}
	for _, o := range drift.Outcomes {
		if len(seen[o]) == 0 {
			t.Errorf("no host of the demo is %v anywhere", o)
		}
	}
	for _, o := range []drift.Outcome{drift.Unread, drift.Disputed, drift.OffTrack, drift.Ahead} {
		for _, where := range seen[o] {
			if strings.HasPrefix(where, "vts/") {
				t.Errorf("%s is %v: no round can mend that, and vts must be mendable", where, o)
			}
		}
	}
}

func checkPayloads(t *testing.T, dir string, rs []catalogue.Release) {
	t.Helper()
	for _, r := range rs {
		if r.Component.Kind() == estate.WholeHost {
			continue
		}
		sum := sha256.Sum256(read(t, filepath.Join(dir, "payloads", r.File)))
		if got := hex.EncodeToString(sum[:]); got != r.SHA256 {
			t.Errorf("%s %s: payload has %s, list says %s", r.Component, r.Version, got, r.SHA256)
		}
	}
}

func glob(t *testing.T, dir, sub string) []string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(dir, sub, "*.yaml"))
	if err != nil || len(files) == 0 {
		t.Fatalf("no files in %s: %v", sub, err)
	}
	return files
}

func read(t *testing.T, file string) []byte {
	t.Helper()
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func TestWriteLeavesEditedFilesAlone(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "baselines", "fulmar.yaml")
	if err := Write(dir); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Write(dir); err != nil {
		t.Fatal(err)
	}
	if got := string(read(t, file)); got != "mine" {
		t.Errorf("Write put %q over an edited file", got)
	}
}

func TestGenerateIsDeterministic(t *testing.T) {
	a, b := Generate(5, 2, 4, 10), Generate(5, 2, 4, 10)
	if !reflect.DeepEqual(a, b) {
		t.Error("one seed made two estates")
	}
	if reflect.DeepEqual(a, Generate(6, 2, 4, 10)) {
		t.Error("two seeds made one estate")
	}
}
