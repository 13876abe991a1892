package debindex

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"

	"yareharbour/core/catalogue"
)

const packages = `Package: zlib1g
Architecture: amd64
Version: 1:1.2.13.dfsg-1
Filename: pool/z/zlib1g.deb
Size: 86690
SHA256: 0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef
Description: compression library
 A long text that has Version: 9 in it.

Package: libfoo
Architecture: i386
Version: 2.0~rc1-1+b2

Package: docs
Architecture: all
Version: 3
`

func squeezed(t *testing.T, ext, text string) []byte {
	t.Helper()
	var b bytes.Buffer
	var w io.WriteCloser
	var err error
	switch ext {
	case "":
		return []byte(text)
	case ".gz":
		w = gzip.NewWriter(&b)
	case ".xz":
		w, err = xz.NewWriter(&b)
	case ".lz4":
		w = lz4.NewWriter(&b)
	case ".zst":
		w, err = zstd.NewWriter(&b)
	default:
		t.Fatalf("no writer for %s", ext)
	}
	if err == nil {
		_, err = io.WriteString(w, text)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func lists(t *testing.T, ext, release string) fstest.MapFS {
	t.Helper()
	return fstest.MapFS{
		"mirror_dists_stable_InRelease":                          {Data: []byte(release)},
		"mirror_dists_stable_main_binary-amd64_Packages" + ext:   {Data: squeezed(t, ext, packages)},
		"mirror_dists_stable_main_dep11_Components-amd64.yml.gz": {Data: []byte("not ours")},
		"lock": {},
	}
}

func releaseFile(fields string) string {
	sum := sha256.Sum256([]byte(packages))
	text := fmt.Sprintf("Suite: stable\nDate: Sat, 15 Nov 2026 09:00:00 UTC\n%sMD5Sum:\n"+
		" 00 1 main/binary-amd64/Packages\nSHA256:\n %s %d main/binary-amd64/Packages\n",
		fields, hex.EncodeToString(sum[:]), len(packages))
	return "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\n" + text + "-----BEGIN PGP SIGNATURE-----\n\nabc\n" +
		"-----END PGP SIGNATURE-----\n"
}

// What apt keeps of a source that is no longer configured is none of its indices.
func TestOnlyIndexesInUseAreFound(t *testing.T) {
	fsys := lists(t, ".gz", releaseFile(""))
	all, err := FindIndexes(fsys, Keyring{}, time.Time{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if found, err := FindIndexes(fsys, Keyring{}, time.Time{}, []string{all[0].File}); err != nil || len(found) != 1 {
		t.Error(found, err)
	}
	if found, err := FindIndexes(fsys, Keyring{}, time.Time{}, []string{"of another source_Packages.gz"}); err == nil {
		t.Error(found)
	}
}

func TestEveryCompressionThatAptKeeps(t *testing.T) {
	for _, ext := range []string{"", ".gz", ".xz", ".lz4", ".zst"} {
		fsys := lists(t, ext, releaseFile(""))
		found, err := FindIndexes(fsys, Keyring{}, time.Time{}, nil)
		if err != nil || len(found) != 1 || found[0].SHA256 == "" {
			t.Fatalf("%q: %v %v", ext, found, err)
		}
		feed, rs, err := found[0].Load(fsys, "amd64", nil)
		if err != nil || len(rs) != 3 {
			t.Fatalf("%q: %d releases, %v", ext, len(rs), err)
		}
		if feed.Name != "stable" || feed.Made.Day() != 15 {
			t.Errorf("feed %+v", feed)
		}
		z := rs[0]
		if z.Component != "deb:zlib1g" || z.Version != "1:1.2.13.dfsg-1" || z.File != "pool/z/zlib1g.deb" ||
			z.Size != 86690 || len(z.SHA256) != 64 {
			t.Errorf("%+v", z)
		}
		if rs[1].Component != "deb:libfoo:i386" || rs[2].Component != "deb:docs" {
			t.Errorf("%s, %s: the architecture belongs to the key only where it is foreign",
				rs[1].Component, rs[2].Component)
		}
	}
}

func TestDamagedIndexesAreRefusedWhole(t *testing.T) {
	for name, spoil := range map[string]func(fstest.MapFS){
		"another hash": func(f fstest.MapFS) {
			f["mirror_dists_stable_main_binary-amd64_Packages"].Data = []byte(packages + "\nPackage: x\nVersion: 1\n")
		},
		"cut short": func(f fstest.MapFS) {
			f["mirror_dists_stable_main_binary-amd64_Packages"].Data = []byte(packages[:200])
		},
		"no control file": func(f fstest.MapFS) {
			f["mirror_dists_stable_main_binary-amd64_Packages"].Data = []byte("<html>proxy</html>\n")
		},
	} {
		fsys := lists(t, "", releaseFile(""))
		spoil(fsys)
		found, err := FindIndexes(fsys, Keyring{}, time.Time{}, nil)
		if err != nil {
			t.Fatal(err)
		}
		if _, rs, err := found[0].Load(fsys, "amd64", nil); err == nil || rs != nil {
			t.Errorf("%s: %d releases, error %v", name, len(rs), err)
		}
	}
	for _, ext := range []string{".gz", ".xz", ".lz4", ".zst"} {
		fsys := lists(t, ext, releaseFile(""))
		f := fsys["mirror_dists_stable_main_binary-amd64_Packages"+ext]
		f.Data = f.Data[:len(f.Data)/2]
		found, _ := FindIndexes(fsys, Keyring{}, time.Time{}, nil)
		if _, rs, err := found[0].Load(fsys, "amd64", nil); err == nil || rs != nil {
			t.Errorf("half of a %s file: %d releases, error %v", ext, len(rs), err)
		}
	}
}

// apt_preferences(5): an index marked NotAutomatic has priority 1, with ButAutomaticUpgrades 100.
func TestNotAutomaticIsNoCandidate(t *testing.T) {
	for fields, want := range map[string]struct {
		track  string
		manual bool
	}{
		"":                    {"", false},
		"NotAutomatic: yes\n": {"stable", true},
		"NotAutomatic: yes\nButAutomaticUpgrades: yes\n": {"stable", false},
	} {
		fsys := lists(t, "", releaseFile(fields))
		found, _ := FindIndexes(fsys, Keyring{}, time.Time{}, nil)
		_, rs, err := found[0].Load(fsys, "amd64", nil)
		if err != nil || rs[0].Track != want.track || rs[0].Manual != want.manual {
			t.Errorf("%q: track %q, manual %v, %v", fields, rs[0].Track, rs[0].Manual, err)
		}
	}
}

func TestReleaseFilesThatAreNone(t *testing.T) {
	for _, text := range []string{"", "<html>", "-----BEGIN PGP SIGNED MESSAGE-----\n",
		"-----BEGIN PGP SIGNED MESSAGE-----\n\nSuite: x\n", "Suite: x\nDate: yesterday\n"} {
		if _, err := ReadRelease(strings.NewReader(text)); err == nil {
			t.Errorf("%q was taken for a Release file", text)
		}
	}
}

// signed is the text as an InRelease file, signed by the entity.
func signed(t *testing.T, by *openpgp.Entity, text string) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := clearsign.Encode(&b, by.PrivateKey, nil)
	if err == nil {
		_, err = io.WriteString(w, text)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func keyring(t *testing.T, of *openpgp.Entity) Keyring {
	t.Helper()
	var b bytes.Buffer
	if err := of.Serialize(&b); err != nil {
		t.Fatal(err)
	}
	k, err := Keyring{}.ReadKeyring(&b)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func TestASignatureIsBelievedOnlyWhereItIsGood(t *testing.T) {
	mirror, err := openpgp.NewEntity("mirror", "", "mirror@example.invalid", nil)
	if err != nil {
		t.Fatal(err)
	}
	stranger, err := openpgp.NewEntity("stranger", "", "stranger@example.invalid", nil)
	if err != nil {
		t.Fatal(err)
	}
	_, plain, _ := strings.Cut(releaseFile(""), "\n\n")
	plain, _, _ = strings.Cut(plain, "-----BEGIN PGP SIGNATURE")
	good := signed(t, mirror, plain)
	for _, c := range []struct {
		name, says string
		text       []byte
		keys       Keyring
	}{
		{"signed by the mirror", "", good, keyring(t, mirror)},
		{"signed by somebody else", "signature is not good", good, keyring(t, stranger)},
		{"changed after it was signed", "signature is not good",
			bytes.Replace(good, []byte("Suite: stable"), []byte("Suite: stabel"), 1), keyring(t, mirror)},
		{"not signed at all", "carries no signature", []byte(plain), keyring(t, mirror)},
	} {
		fsys := lists(t, "", string(c.text))
		found, err := FindIndexes(fsys, c.keys, time.Now(), nil)
		if c.says == "" && (err != nil || len(found) != 1 || found[0].SHA256 == "") ||
			c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %v %v", c.name, found, err)
		}
	}
	unvouched := lists(t, "", string(good))
	unvouched["other_dists_x_main_binary-amd64_Packages"] = unvouched["mirror_dists_stable_main_binary-amd64_Packages"]
	if _, err := FindIndexes(unvouched, keyring(t, mirror), time.Now(), nil); err == nil ||
		!strings.Contains(err.Error(), "no signed Release file vouches for it") {
		t.Errorf("an index that nobody signed: %v", err)
	}
	if _, err := (Keyring{}).ReadKeyring(strings.NewReader("no keys")); err == nil {
		t.Error("a file without keys was taken for a keyring")
	}
}

// The real thing: this machine's own archive, signed by its distribution.
func TestDebiansOwnSignatures(t *testing.T) {
	files, _ := filepath.Glob("/var/lib/apt/lists/*debian*_InRelease")
	ring, err := os.Open("/usr/share/keyrings/debian-archive-keyring.gpg")
	if err != nil || len(files) == 0 {
		t.Skip("this machine has no Debian archive's InRelease, or not its keys")
	}
	defer ring.Close()
	keys, err := Keyring{}.ReadKeyring(ring)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range files {
		f, err := os.Open(name)
		if err != nil {
			t.Fatal(err)
		}
		rel, err := keys.ReadSigned(f, time.Now())
		f.Close()
		if err != nil || len(rel.SHA256) == 0 {
			t.Errorf("%s: %d hashes, %v", filepath.Base(name), len(rel.SHA256), err)
		}
	}
}

func TestStatus(t *testing.T) {
	const status = `Package: dpkg
Status: install ok installed
Architecture: arm64
Version: 1.21

Package: gone
Status: deinstall ok config-files
Architecture: arm64
Version: 1

Package: held
Status: hold ok installed
Architecture: all
Version: 2

Package: broken
Status: install ok half-configured
Architecture: arm64
Version: 3

Package: torn
Status: install reinstreq half-installed
Architecture: arm64
Version: 4

Package: leaving
Status: deinstall ok installed
Architecture: arm64
Version: 5

Package: waiting
Status: install ok triggers-pending
Architecture: arm64
Version: 6

Package: never
Status: unknown ok not-installed
Architecture: arm64
`
	states := map[string]string{"dpkg": "", "held": "", "broken": "half-configured",
		"torn": "half-installed, needs to be installed again", "leaving": "", "waiting": "triggers-pending"}
	got, native, err := ReadStatus(strings.NewReader(status))
	if err != nil || native != "arm64" || len(got) != len(states) {
		t.Errorf("%v %q %v", got, native, err)
	}
	for _, p := range got {
		if want, ok := states[p.Name]; !ok || p.State != want {
			t.Errorf("%s is %q, want %q", p.Name, p.State, want)
		}
	}
}

func FuzzPackages(f *testing.F) {
	f.Add([]byte(packages))
	f.Add([]byte("Package: a\nVersion: 1\n\n\n\nPackage:b\r\nVersion:2"))
	f.Add([]byte(strings.Repeat("x", 300<<10) + ": y\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		rs, err := ReadPackages(bytes.NewReader(text), "amd64", "", catalogue.Release{}, nil)
		if err != nil && rs != nil {
			t.Error("releases and an error")
		}
		for _, r := range rs {
			if r.Component.Name() == "" || r.Version == "" {
				t.Errorf("%+v", r)
			}
		}
	})
}

func FuzzRelease(f *testing.F) {
	f.Add([]byte(releaseFile("NotAutomatic: yes\n")))
	f.Fuzz(func(_ *testing.T, text []byte) { _, _ = ReadRelease(bytes.NewReader(text)) })
}

// aptLists is the machine's own lists directory, if it holds a whole archive.
func aptLists(b *testing.B) string {
	b.Helper()
	const dir = "/var/lib/apt/lists"
	if m, _ := filepath.Glob(dir + "/*_main_binary-*_Packages*"); len(m) == 0 {
		b.Skip("apt has no indices here")
	}
	return dir
}

// BenchmarkReadIndexes reads all of apt's indices on this machine; its ratio to BenchmarkAptDumpavail is what counts.
func BenchmarkReadIndexes(b *testing.B) {
	dir := aptLists(b)
	n := 0
	for b.Loop() {
		n = 0
		fsys := os.DirFS(dir)
		found, err := FindIndexes(fsys, Keyring{}, time.Time{}, nil)
		if err != nil {
			b.Fatal(err)
		}
		c := catalogue.Catalogue{}
		for _, ix := range found {
			feed, rs, err := ix.Load(fsys, "amd64", nil)
			if err != nil {
				b.Fatal(err)
			}
			c.Add(feed, rs)
			n += len(rs)
		}
	}
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	b.ReportMetric(float64(n), "packages")
	b.ReportMetric(float64(m.Sys)/(1<<20), "MiB-from-system")
}

func BenchmarkAptDumpavail(b *testing.B) {
	aptLists(b)
	for b.Loop() {
		cmd := exec.Command("apt-cache", "dumpavail")
		cmd.Stdout = io.Discard
		if err := cmd.Run(); err != nil {
			b.Skip(err)
		}
	}
}
