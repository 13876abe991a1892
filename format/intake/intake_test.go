package intake

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/format/debindex"
)

func sum(b []byte) string {
	h := sha256.Sum256(b)
	return hex.EncodeToString(h[:])
}

func gz(t testing.TB, text string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	if _, err := w.Write([]byte(text)); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func zst(t testing.TB, text string) []byte {
	t.Helper()
	w, err := zstd.NewWriter(nil)
	if err != nil {
		t.Fatal(err)
	}
	return w.EncodeAll([]byte(text), nil)
}

func xzed(t testing.TB, text string) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := xz.NewWriter(&b)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Write([]byte(text)); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

const (
	osv = `{"id":"A-1","modified":"2026-11-01T00:00:00Z","affected":[{"package":{"ecosystem":"Debian",
"name":"crab"},"ranges":[{"type":"ECOSYSTEM","events":[{"introduced":"0"},{"fixed":"2-1"}]}]}]}`
	firmware = `<components origin="o"><component type="firmware"><id>x.y</id><releases><release version="1.2"/>
</releases></component></components>`
	releases = "feed: f\ncomponents:\n  - component: fw:n\n    releases: [{version: \"1\"}]\n"
)

// A file is told by what is in it; compression makes no difference, and a name alone convinces nobody.
func TestAFileIsToldByItsContent(t *testing.T) {
	for _, c := range []struct {
		name string
		body []byte
		kind Kind
		n    int // releases and advisories
	}{
		{"a/list.yaml", []byte(releases), ReleaseList, 1},
		{"list.yaml.gz", gz(t, releases), ReleaseList, 1},
		{"adv.json", []byte(osv), OSV, 1},
		{"all.json.xz", xzed(t, "["+osv+"]"), OSV, 1},
		{"firmware.xml.zst", zst(t, firmware), Metadata, 1},
		{"x.metainfo.xml", []byte(firmware), Metadata, 1},
		{"notes.yaml", []byte("a: b\n"), Other, 0},
		{"config.json", []byte(`{"a": 1}`), Other, 0},
		{"page.xml", []byte("<html/>"), Other, 0},
		{"adv.txt", []byte(osv), Other, 0},
		{"SHA256SUMS", []byte("x"), Sums, 0},
		{"empty", nil, Other, 0},
		{"fake.gz", []byte("\x1f\x8bnot really"), Other, 0},
	} {
		it, err := File(c.name, bytes.NewReader(c.body), int64(len(c.body)), Options{Feed: "f"})
		if err != nil || it.Kind != c.kind || len(it.Batch.Releases)+len(it.Batch.Advisories) != c.n {
			t.Errorf("%s is a %s with %d (%v), want a %s with %d", c.name, it.Kind,
				len(it.Batch.Releases)+len(it.Batch.Advisories), err, c.kind, c.n)
		}
		if c.name != "fake.gz" && it.SHA256 != sum(c.body) {
			t.Errorf("%s has the hash %s, want that of the file as it is", c.name, it.SHA256)
		}
	}
	for name, body := range map[string]string{"list.yaml": "feed: x\nnonsense: 1\n", "adv.json": `{"document": 1}`,
		"x.json": "{", "firmware.xml": "<components><component type=\"firmware\"><id>"} {
		if _, err := File(name, strings.NewReader(body), 1, Options{}); err == nil ||
			!strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// repositories are a Debian suite and an RPM repository in one tree.
func repositories(t testing.TB) fstest.MapFS {
	packages := "Package: crab\nVersion: 2-1\nArchitecture: amd64\nSource: crab-src (3-1)\n\n"
	primary := gz(t, `<metadata><package><name>crab</name><arch>x86_64</arch><version epoch="0" ver="2" rel="1"/>
</package></metadata>`)
	info := zst(t, `<updates><update type="security"><id>U</id><severity>Critical</severity><pkglist><collection>
<package name="crab" version="2" release="1" arch="x86_64"/></collection></pkglist></update></updates>`)
	repomd := fmt.Sprintf(`<repomd><data type="primary"><checksum type="sha256">%s</checksum>
<location href="repodata/p.xml.gz"/></data><data type="updateinfo"><checksum type="sha256">%s</checksum>
<location href="repodata/u.xml.zst"/></data></repomd>`,
		sum(primary), sum(info))
	f := func(b []byte) *fstest.MapFile { return &fstest.MapFile{Data: b} }
	return fstest.MapFS{
		"deb/dists/s/Release": f(fmt.Appendf(nil,
			"Suite: s\nOrigin: Brae\nSHA256:\n %s %d main/binary-amd64/Packages\n",
			sum([]byte(packages)), len(packages))),
		"deb/dists/s/main/binary-amd64/Packages.xz": f(xzed(t, packages)),
		"rpm/repodata/repomd.xml":                   f([]byte(repomd)),
		"rpm/repodata/p.xml.gz":                     f(primary),
		"rpm/repodata/u.xml.zst":                    f(info),
		"extra/list.yaml":                           f([]byte(releases)),
		"extra/link":                                {Data: []byte("list.yaml"), Mode: fs.ModeSymlink},
	}
}

func TestATreeOfRepositories(t *testing.T) {
	items, err := Tree(t.Context(), repositories(t), Options{Native: "amd64", Feed: "f"})
	if err != nil {
		t.Fatal(err)
	}
	var c catalogue.Catalogue
	kinds := map[Kind]int{}
	for _, it := range items {
		kinds[it.Kind]++
		c.AddBatch(it.Batch)
	}
	if kinds[Debian] != 1 || kinds[RPM] != 1 || kinds[ReleaseList] != 1 || len(items) > 4 {
		t.Errorf("%v", kinds)
	}
	if r := c.Release("deb:crab", "2-1", "", ""); r == nil || r.Vendor != "Brae" || r.Source != "crab-src" ||
		r.SourceVersion != "3-1" {
		t.Errorf("%+v", r)
	}
	if r := c.Release("rpm:crab", "2-1", "", ""); r == nil || r.Severity != catalogue.Critical {
		t.Errorf("the one architecture has two names: %+v", r)
	}
}

// What is damaged, missing or of another state of the repository spoils the whole of it, with a sentence that names the
// file.
func TestRepositoryRefusals(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(fstest.MapFS)
		want  string
	}{
		"damaged primary": {func(m fstest.MapFS) {
			m["rpm/repodata/p.xml.gz"].Data = gz(t, "<metadata/>")
		}, "p.xml.gz: its SHA-256 is"},
		"damaged updateinfo": {func(m fstest.MapFS) {
			m["rpm/repodata/u.xml.zst"].Data[9] ^= 1
		}, "u.xml.zst: its SHA-256 is"},
		"missing primary": {func(m fstest.MapFS) { delete(m, "rpm/repodata/p.xml.gz") }, "p.xml.gz"},
		"other Packages": {func(m fstest.MapFS) {
			m["deb/dists/s/main/binary-amd64/Packages.xz"].Data = xzed(t, "Package: x\nVersion: 1\n")
		}, "the Release file says"},
		"no Packages": {func(m fstest.MapFS) {
			delete(m, "deb/dists/s/main/binary-amd64/Packages.xz")
		}, "none of the Packages files"},
		"no Release": {func(m fstest.MapFS) {
			m["deb/dists/s/Release"].Data = []byte("<html>")
		}, "not a Release file"},
	} {
		m := repositories(t)
		c.spoil(m)
		if items, err := Tree(t.Context(), m, Options{Native: "x86_64", Feed: "f"}); err == nil ||
			!strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %d items, %v, want %q", name, len(items), err, c.want)
		}
	}
	if _, err := Tree(t.Context(), repositories(t),
		Options{Native: "amd64", Keys: keyring(t), Now: time.Now()}); err == nil ||
		!strings.Contains(err.Error(), "signature") {
		t.Errorf("unsigned repositories where signatures are wanted: %v", err)
	}
}

func TestNamesOfFirmware(t *testing.T) {
	it, err := File("firmware.xml", strings.NewReader(firmware), 1,
		Options{Feed: "f", Names: map[string]estate.Key{"x.y": "fw:nic"}})
	if err != nil || it.Batch.Releases[0].Component != "fw:nic" {
		t.Errorf("%+v %v", it, err)
	}
}

func FuzzFile(f *testing.F) {
	f.Add("a.yaml", []byte(releases))
	f.Add("a.json", []byte(osv))
	f.Add("a.xml.gz", gz(f, firmware))
	f.Add("a.cab", []byte("MSCF"))
	f.Fuzz(func(t *testing.T, name string, body []byte) {
		it, err := File(name, bytes.NewReader(body), int64(len(body)), Options{Feed: "f"})
		for _, r := range it.Batch.Releases {
			if _, e := estate.ParseKey(string(r.Component)); err == nil && e != nil {
				t.Errorf("%v", e)
			}
		}
	})
}

// keyring holds a key that has signed nothing here.
func keyring(t testing.TB) debindex.Keyring {
	t.Helper()
	e, err := openpgp.NewEntity("Nobody", "", "nobody@brae.invalid", nil)
	if err != nil {
		t.Fatal(err)
	}
	var pub bytes.Buffer
	if err := e.Serialize(&pub); err != nil {
		t.Fatal(err)
	}
	k, err := debindex.Keyring{}.ReadKeyring(&pub)
	if err != nil {
		t.Fatal(err)
	}
	return k
}
