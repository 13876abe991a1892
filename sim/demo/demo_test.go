package demo

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/format/baselinefile"
	"yareharbour/format/estatefile"
	"yareharbour/format/releaselist"
	"yareharbour/sim"
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

// A large estate holds every situation of the small one, again and again, and no guest and no host twice.
func TestAFleetOfAnySize(t *testing.T) {
	small := World()
	for _, n := range []int{1, 16, 17, 40, 300, 1000} {
		w := Fleet(n)
		if want := max(n, len(small.Hosts)); len(w.Hosts) != want {
			t.Errorf("%d hosts, want %d", len(w.Hosts), want)
		}
		listed, guests := 0, map[string]string{}
		for _, c := range w.Estate.Clusters {
			listed += len(c.Hosts)
			for _, host := range c.Hosts {
				h := w.Hosts[host]
				if h == nil || h.Reading.Host != host || !slices.Contains(h.Reading.Networks, c.Name) {
					t.Fatalf("%s of %s: %+v", host, c.Name, h)
				}
				for _, g := range h.Reading.Guests {
					if other := guests[g.UID()]; other != "" {
						t.Fatalf("%s is on %s and on %s", g.Name, other, host)
					}
					guests[g.UID()] = host
					if !slices.Contains(h.Reading.Networks, g.Networks[0]) {
						t.Fatalf("%s on %s has the network %v", g.Name, host, g.Networks)
					}
				}
			}
		}
		if listed != len(w.Hosts) {
			t.Errorf("%d hosts are in clusters, of %d", listed, len(w.Hosts))
		}
	}
	if again := World(); !reflect.DeepEqual(again.Hosts["heron"], small.Hosts["heron"]) {
		t.Error("copying changes what is copied")
	}
	dir := t.TempDir()
	if err := WriteFleet(dir, 40); err != nil {
		t.Fatal(err)
	}
	f, err := estatefile.Parse("estate.yaml", read(t, filepath.Join(dir, EstateFile)))
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for _, c := range f.Describe().Clusters {
		n += len(c.Hosts)
		if text := string(read(t, filepath.Join(dir, "baselines", "platform.yaml"))); !strings.Contains(text, c.Name) {
			t.Errorf("no baseline binds %s", c.Name)
		}
	}
	if n != 40 {
		t.Errorf("the estate file has %d hosts", n)
	}
	world := filepath.Join(dir, SimDir, sim.WorldFile)
	before := read(t, world)
	if err := WriteFleet(dir, 60); err != nil || !bytes.Equal(before, read(t, world)) {
		t.Errorf("an estate that is there was written over: %v", err)
	}
}
