package bundle

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"

	"yareharbour/format/debindex"
	"yareharbour/payload"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func sum(s string) string {
	h := sha256.Sum256([]byte(s))
	return hex.EncodeToString(h[:])
}

type file struct{ name, body string }

func zipped(t testing.TB, files ...file) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range files {
		w, err := z.Create(f.name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(f.body)); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func tarred(t testing.TB, squeeze bool, headers ...tar.Header) []byte {
	t.Helper()
	var b bytes.Buffer
	var w interface {
		Write([]byte) (int, error)
		Close() error
	} = nopCloser{&b}
	if squeeze {
		w = gzip.NewWriter(&b)
	}
	x := tar.NewWriter(w)
	for _, h := range headers {
		body := h.Uname // carries the body, to keep the cases short
		h.Uname, h.Size, h.Mode = "", int64(len(body)), 0o644
		if h.Typeflag != 0 && h.Typeflag != tar.TypeReg {
			h.Size = 0
		}
		if err := x.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		if h.Size > 0 {
			if _, err := x.Write([]byte(body)); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := errors.Join(x.Close(), w.Close()); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

type nopCloser struct{ *bytes.Buffer }

func (nopCloser) Close() error { return nil }

const body = "the payload"

func list(sha string) string {
	return fmt.Sprintf("feed: ulva\ncomponents:\n  - component: fw:ulva\n    releases:\n      - version: 1.10\n"+
		"        file: ulva.bin\n        size: 11\n        sha256: %s\n      - version: 1.11\n"+
		"        file: later.bin\n        sha256: %s\n", sha, sum("later"))
}

func shelf(t testing.TB) Shelf {
	dir := t.TempDir()
	return Shelf{Dir: filepath.Join(dir, "bundles"), Payloads: payload.Store{Dir: filepath.Join(dir, "payloads")}}
}

func write(t testing.TB, body []byte) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "ulva-q4.zip")
	if err := os.WriteFile(name, body, 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

// tree is everything below a directory, with sizes: what must not change when something is refused.
func tree(t testing.TB, dir string) (out []string) {
	t.Helper()
	_ = filepath.WalkDir(dir, func(name string, e fs.DirEntry, err error) error {
		if err == nil {
			rel, _ := filepath.Rel(dir, name)
			out = append(out, rel)
		}
		return nil
	})
	return out
}

func open(t testing.TB, s Shelf, body []byte, o Options) (*Bundle, error) {
	t.Helper()
	o.Now = now
	return s.Open(t.Context(), write(t, body), o)
}

func TestABundleInABundleIsShownAndTakenInOnce(t *testing.T) {
	inner := tarred(t, true, tar.Header{Name: "payloads/ulva.bin", Uname: body},
		tar.Header{Name: "releases.yaml", Uname: list(sum(body))})
	outer := zipped(t, file{"README", "hello"},
		file{"SHA256SUMS", sum(string(inner)) + "  fw.tar.gz\n" + sum("hello") + " *README\n"},
		file{"fw.tar.gz", string(inner)})
	s := shelf(t)
	b, err := open(t, s, outer, Options{By: "op"})
	if err != nil {
		t.Fatal(err)
	}
	if b.Releases != 2 || b.Payloads != 1 || b.Summed != 2 || !slices.Equal(b.Missing, []string{"later.bin"}) ||
		len(b.Files) != 4 {
		t.Errorf("%+v", b.Bundle)
	}
	if taken, _ := s.Taken(); len(taken) != 0 || s.Payloads.Has(sum(body)) {
		t.Error("something was taken in by looking")
	}
	if err := b.Accept(t.Context()); err != nil {
		t.Fatal(err)
	}
	before := tree(t, filepath.Dir(s.Dir))
	if !s.Payloads.Has(sum(body)) {
		t.Error("the payload is not in the store")
	}
	again, err := open(t, s, outer, Options{By: "other"})
	if err != nil {
		t.Fatal(err)
	}
	if err := again.Accept(t.Context()); !errors.Is(err, ErrKnown) {
		t.Errorf("taken in twice: %v", err)
	}
	if err := again.Close(); err != nil {
		t.Fatal(err)
	}
	if after := tree(t, filepath.Dir(s.Dir)); !slices.Equal(before, after) {
		t.Errorf("twice changes nothing:\n%v\n%v", before, after)
	}
	taken, err := s.Taken()
	if err != nil || len(taken) != 1 || taken[0].By != "op" || !taken[0].Taken.Equal(now) {
		t.Fatalf("%+v %v", taken, err)
	}
	bs, err := s.Load(taken[0], Options{Now: now})
	if err != nil || len(bs) != 1 || len(bs[0].Releases) != 2 {
		t.Errorf("%+v %v", bs, err)
	}
	if _, err := s.Remove("nothing"); err == nil {
		t.Error("removed what is not there")
	}
	if c, err := s.Remove(taken[0].ID[:8]); err != nil || c.Name != "ulva-q4.zip" {
		t.Error(err)
	}
	if taken, _ := s.Taken(); len(taken) != 0 {
		t.Error("it is still there")
	}
}

// Every bad archive is refused with a sentence, and leaves nothing.
func TestRefusals(t *testing.T) {
	good := zipped(t, file{"releases.yaml", list(sum(body))}, file{"ulva.bin", body})
	plain := tarred(t, false, tar.Header{Name: "releases.yaml", Uname: list(sum(body))})
	bomb := zipped(t, file{"releases.yaml", list(sum(body))}, file{"zeros", strings.Repeat("\x00", 80<<20)})
	deep := zipped(t, file{"releases.yaml", list(sum(body))})
	for range 4 {
		deep = zipped(t, file{"inner.zip", string(deep)})
	}
	damaged := bytes.Clone(good)
	i := bytes.Index(damaged, []byte("ulva.bin")) + len("ulva.bin") + 4
	damaged[i] ^= 0xff
	for name, c := range map[string]struct {
		body []byte
		o    Options
		want string
	}{
		"no archive": {[]byte("hello, this is a text and no archive at all"), Options{},
			"neither a zip nor a tar archive"},
		"cut short":             {good[:len(good)-9], Options{}, "may be cut short"},
		"damaged":               {damaged, Options{}, "damaged"},
		"tar cut at a boundary": {plain[:len(plain)-1024], Options{}, "cut short"},
		"tar cut inside":        {plain[:700], Options{}, "cut short"},
		"traversal in zip":      {zipped(t, file{"../../evil", "x"}), Options{}, "leads out of it"},
		"traversal in tar": {tarred(t, false, tar.Header{Name: "a/../../evil", Uname: "x"}),
			Options{}, "leads out of it"},
		"absolute": {tarred(t, false, tar.Header{Name: "/etc/evil", Uname: "x"}),
			Options{}, "leads out of it"},
		"backslash": {zipped(t, file{`..\evil`, "x"}), Options{}, "leads out of it"},
		"symbolic link": {tarred(t, false,
			tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "/etc"}), Options{}, "is a link or a device"},
		"hard link": {tarred(t, false, tar.Header{Name: "l", Typeflag: tar.TypeLink, Linkname: "x"}),
			Options{}, "is a link or a device"},
		"device": {tarred(t, true, tar.Header{Name: "d", Typeflag: tar.TypeChar}), Options{},
			"is a link or a device"},
		"same name twice": {tarred(t, false, tar.Header{Name: "a", Uname: "x"},
			tar.Header{Name: "./a", Uname: "y"}), Options{}, "two files named"},
		"names that differ in capitals": {zipped(t, file{"fw/a.bin", "x"}, file{"fw/A.bin", "y"}), Options{},
			`holds "fw/A.bin" beside "fw/a.bin": names that differ in nothing but capitals`},
		"directories that do": {tarred(t, false, tar.Header{Name: "fw/a", Uname: "x"}, tar.Header{Name: "Fw/b", Uname: "y"}), Options{},
			`holds "Fw/b" beside "fw": names that differ`},
		"names with accents that do": {zipped(t, file{"É", "x"}, file{"é", "y"}), Options{},
			`holds "é" beside "É"`},
		"bomb by ratio": {bomb, Options{}, "no bundle but a bomb"},
		"bomb by size": {good, Options{Limits: Limits{Bytes: 20, Entries: 9, Depth: 1, Ratio: 9}},
			"unpacks to more than"},
		"too many files": {good, Options{Limits: Limits{Bytes: 1 << 20, Entries: 1, Depth: 1, Ratio: 9}},
			"more than 1 files"},
		"archives without end":    {deep, Options{}, "more than 3 deep"},
		"nothing known":           {zipped(t, file{"a.txt", "x"}), Options{}, "nothing in it says anything"},
		"list that can't be read": {zipped(t, file{"r.yaml", "feed: x\ncomponents: 7\n"}), Options{}, "r.yaml:2"},
		"payload of another hash": {zipped(t, file{"releases.yaml", list(sum("other"))}, file{"ulva.bin", body}),
			Options{}, "it is damaged or not the one"},
		"checksum that is wrong": {zipped(t, file{"releases.yaml", list(sum(body))},
			file{"SHA256SUMS", sum("x") + "  releases.yaml\n"}), Options{}, "SHA256SUMS says"},
		"checksum of nothing": {zipped(t, file{"releases.yaml", list(sum(body))},
			file{"SHA256SUMS", sum("x") + "  gone\n"}), Options{}, "not in the bundle"},
		"checksums that are none": {zipped(t, file{"releases.yaml", list(sum(body))}, file{"SHA256SUMS", "hello\n"}),
			Options{}, "not of the form"},
		"unsigned, keys wanted":  {good, Options{Keys: keyring(t)}, "a signature is wanted"},
		"an advisory gone wrong": {zipped(t, file{"a.json", `{"document":{}}`}), Options{}, "by its schema"},
	} {
		t.Run(name, func(t *testing.T) {
			s := shelf(t)
			if err := os.MkdirAll(s.Dir, 0o755); err != nil {
				t.Fatal(err)
			}
			before := tree(t, filepath.Dir(s.Dir))
			b, err := open(t, s, c.body, c.o)
			if err == nil {
				b.Close()
				t.Fatalf("it was opened: %+v", b.Bundle)
			}
			if !errors.Is(err, ErrRefused) || !strings.Contains(err.Error(), c.want) ||
				!strings.HasPrefix(err.Error(), "ulva-q4.zip: ") {
				t.Errorf("%v, want %q", err, c.want)
			}
			if after := tree(t, filepath.Dir(s.Dir)); !slices.Equal(before, after) {
				t.Errorf("it leaves behind %v", after)
			}
		})
	}
}

// A changed archive inside a signed one must not slip through because it is unpacked before it is looked at.
func TestAnInnerArchiveIsHeldAgainstItsChecksum(t *testing.T) {
	inner := zipped(t, file{"releases.yaml", list(sum(body))})
	outer := zipped(t, file{"SHA256SUMS", sum("another archive") + "  fw.zip\n"}, file{"fw.zip", string(inner)})
	if _, err := open(t, shelf(t), outer, Options{}); !errors.Is(err, ErrRefused) ||
		!strings.Contains(err.Error(), "fw.zip has the SHA-256") {
		t.Errorf("%v", err)
	}
}

var entity *openpgp.Entity

func keyring(t testing.TB) debindex.Keyring {
	t.Helper()
	if entity == nil {
		var err error
		if entity, err = openpgp.NewEntity("Ulva", "", "ulva@ulva.invalid", nil); err != nil {
			t.Fatal(err)
		}
	}
	var pub bytes.Buffer
	if err := entity.Serialize(&pub); err != nil {
		t.Fatal(err)
	}
	k, err := debindex.Keyring{}.ReadKeyring(&pub)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func TestSignedChecksums(t *testing.T) {
	keys := keyring(t)
	sums := sum(list(sum(body))) + "  releases.yaml\n"
	var sig bytes.Buffer
	if err := openpgp.ArmoredDetachSign(&sig, entity, strings.NewReader(sums), nil); err != nil {
		t.Fatal(err)
	}
	s := shelf(t)
	archive := zipped(t, file{"releases.yaml", list(sum(body))}, file{"SHA256SUMS", sums},
		file{"SHA256SUMS.asc", sig.String()})
	b, err := s.Open(t.Context(), write(t, archive), Options{Keys: keys, Now: time.Now().Add(time.Minute)})
	if err != nil || b.SignedBy != "SHA256SUMS.asc" || b.Summed != 1 {
		t.Fatalf("%v %+v", err, b)
	}
	b.Close()
	archive = zipped(t, file{"releases.yaml", list(sum(body))},
		file{"SHA256SUMS", sums + sum("x") + "  SHA256SUMS.asc\n"}, file{"SHA256SUMS.asc", sig.String()})
	if _, err := s.Open(t.Context(), write(t, archive),
		Options{Keys: keys, Now: time.Now().Add(time.Minute)}); !errors.Is(err, ErrRefused) ||
		!strings.Contains(err.Error(), "signature is not good") {
		t.Errorf("checksums that were changed after they were signed: %v", err)
	}
}

// What is used is vouched for: a file beside those that a signed list names is refused, wherever it hides, or left out
// where only the vouched part is wanted. Nothing is parsed before.
func TestFilesThatNobodySigned(t *testing.T) {
	keys := keyring(t)
	signed := func(sums string) []file {
		var sig bytes.Buffer
		if err := openpgp.ArmoredDetachSign(&sig, entity, strings.NewReader(sums), nil); err != nil {
			t.Fatal(err)
		}
		return []file{{"SHA256SUMS", sums}, {"SHA256SUMS.asc", sig.String()}}
	}
	good := file{"releases.yaml", list(sum(body))}
	sums := sum(good.body) + "  ./releases.yaml\n"
	inner := string(zipped(t, file{"more.yaml", list(sum(body))}, file{"SHA256SUMS", sum(list(sum(body))) + "  more.yaml\n"}))
	evil := "feed: evil\nmade: 2026-11-01\nvendor: X\ncomponents: [[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[[["
	open := func(o Options, files ...file) (*Bundle, error) {
		o.Keys, o.Now = keys, time.Now().Add(time.Minute)
		return shelf(t).Open(t.Context(), write(t, zipped(t, files...)), o)
	}
	for name, extra := range map[string][]file{
		"beside":                 {{"evil.yaml", evil}},
		"in a directory":         {{"x/evil.yaml", evil}},
		"as a signature":         {{"x/SHA256SUMS.asc", evil}},
		"as another signature":   {{"SHA256SUMS.gpg.yaml", evil}},
		"with a list of its own": {{"x/evil.yaml", evil}, {"x/SHA256SUMS", sum(evil) + "  evil.yaml\n"}},
		"in an archive":          {{"x.zip", string(zipped(t, file{"evil.yaml", evil}))}},
	} {
		_, err := open(Options{}, append(append(signed(sums), good), extra...)...)
		if !errors.Is(err, ErrRefused) || !strings.Contains(err.Error(), "vouches") &&
			!strings.Contains(err.Error(), "a signature is wanted") {
			t.Errorf("%s: %v", name, err)
		}
	}
	b, err := open(Options{Vouched: true}, append(append(signed(sums), good), file{"evil.yaml", evil})...)
	if err != nil || len(b.Batches) != 1 || !slices.Equal(b.Left, []string{"evil.yaml"}) {
		t.Errorf("%v %+v", err, b)
	} else {
		b.Close()
	}
	all := append(signed(sums+sum(inner)+"  fw.zip\n"), good, file{"fw.zip", inner})
	if b, err := open(Options{}, all...); err != nil || b.Summed != 3 || len(b.Batches) != 2 {
		t.Errorf("an archive that is vouched for: %v %+v", err, b)
	}
	if _, err := open(Options{}, append(all, file{"fw.zip.d/evil.yaml", evil})...); !errors.Is(err, ErrRefused) ||
		!strings.Contains(err.Error(), "among the files of an archive") {
		t.Errorf("a file that hides among those of an archive: %v", err)
	}
	if _, err := open(Options{}, append([]file{{"fw.zip.d/evil.yaml", evil}}, all...)...); !errors.Is(err, ErrRefused) {
		t.Errorf("a file that hides there before: %v", err)
	}
}

// Who takes a bundle in again has back what went missing of its payloads, and what was damaged.
func TestABundleTakenInAgainRestoresItsPayloads(t *testing.T) {
	s := shelf(t)
	archive := zipped(t, file{"releases.yaml", list(sum(body))}, file{"ulva.bin", body})
	accept := func() error {
		b, err := open(t, s, archive, Options{Now: now})
		if err != nil {
			t.Fatal(err)
		}
		defer b.Close()
		return b.Accept(t.Context())
	}
	if err := accept(); err != nil {
		t.Fatal(err)
	}
	if err := accept(); !errors.Is(err, ErrKnown) || !strings.Contains(err.Error(), "nothing has changed") {
		t.Errorf("%v", err)
	}
	name, err := s.Payloads.Path(sum(body))
	if err != nil {
		t.Fatal(err)
	}
	for how, harm := range map[string]func() error{
		"gone":    func() error { return os.Remove(name) },
		"damaged": func() error { return errors.Join(os.Chmod(name, 0o600), os.WriteFile(name, []byte("rotten"), 0o600)) },
	} {
		if err := harm(); err != nil {
			t.Fatal(err)
		}
		if err := accept(); !errors.Is(err, ErrKnown) || !strings.Contains(err.Error(), "1 payload that went missing") ||
			!s.Payloads.Whole(sum(body)) {
			t.Errorf("%s: %v", how, err)
		}
	}
}

func TestACancelledOpeningLeavesNothing(t *testing.T) {
	s := shelf(t)
	ctx, cancel := context.WithCancel(t.Context())
	name := write(t, zipped(t, file{"releases.yaml", list(sum(body))}, file{"ulva.bin", body}))
	_, err := s.Open(ctx, name, Options{Now: now, Progress: func(Progress) { cancel() }})
	if !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if left := tree(t, s.Dir); len(left) > 1 {
		t.Errorf("%v", left)
	}
}

func FuzzArchive(f *testing.F) {
	f.Add(zipped(f, file{"releases.yaml", list(sum(body))}))
	f.Add(tarred(f, false, tar.Header{Name: "releases.yaml", Uname: list(sum(body))}))
	f.Fuzz(func(t *testing.T, text []byte) {
		s := shelf(t)
		b, err := s.Open(t.Context(), write(t, text),
			Options{Now: now, Limits: Limits{Bytes: 1 << 20, Entries: 50, Depth: 2, Ratio: 100}})
		if err == nil {
			b.Close()
		}
		if left := tree(t, s.Dir); len(left) > 1 {
			t.Errorf("it leaves behind %v", left)
		}
	})
}
