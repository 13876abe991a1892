package hostcopy

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
)

type entry struct {
	name, body, link string
	mode             int64
}

func archive(t *testing.T, entries ...entry) string {
	t.Helper()
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	for _, e := range entries {
		h := &tar.Header{Name: e.name, Mode: e.mode, Size: int64(len(e.body)), Typeflag: tar.TypeReg, Uname: "root", Gname: "root"}
		if e.link != "" {
			h.Typeflag, h.Linkname = tar.TypeSymlink, e.link
		}
		if strings.HasSuffix(e.name, "/") {
			h.Typeflag = tar.TypeDir
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(e.body)); err != nil {
			t.Fatal(err)
		}
	}
	w.Close()
	z.Close()
	name := filepath.Join(t.TempDir(), "h1.tar.gz")
	if err := os.WriteFile(name, out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

// Two copies are compared file by file: what is new, gone or other, and of texts the lines.
func TestDiff(t *testing.T) {
	a, err := Read(archive(t, entry{name: "etc/", mode: 0o755}, entry{"etc/hosts", "one\ntwo\n", "", 0o644}, entry{"etc/gone", "x", "", 0o644},
		entry{"etc/bin", "\x00\x01", "", 0o644}, entry{"etc/mode", "m", "", 0o644}, entry{"etc/at", "", "UTC", 0o777}, entry{"./selections", "a\n", "", 0o600}))
	if err != nil {
		t.Fatal(err)
	}
	b, err := Read(archive(t, entry{"selections", "a\n", "", 0o600}, entry{"etc/hosts", "one\n2\n", "", 0o644}, entry{"etc/new", "x", "", 0o644},
		entry{"etc/bin", "\x00\x02", "", 0o644}, entry{"etc/mode", "m", "", 0o600}, entry{"etc/at", "", "CET", 0o777}))
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, c := range Diff(a, b) {
		got = append(got, c.Path+": "+c.What)
		switch c.Path {
		case "etc/hosts":
			if !strings.Contains(c.Diff, "\n-two\n+2\n") {
				t.Error(c.Diff)
			}
		case "etc/bin":
			if c.Diff != "" {
				t.Errorf("what is no text is shown: %q", c.Diff)
			}
		}
	}
	want := []string{"etc/at: leads elsewhere", "etc/bin: other content", "etc/gone: gone", "etc/hosts: other content", "etc/mode: other mode or owner",
		"etc/new: new"}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	if len(Diff(a, a)) > 0 {
		t.Error("a copy differs from itself")
	}
	f, err := a.File("/etc/hosts")
	if body, no := f.Body(); err != nil || no != nil || string(body) != "one\ntwo\n" {
		t.Errorf("%v, %v, %q", err, no, body)
	}
	if _, err := a.File("../hosts"); err == nil {
		t.Error("there is a file that there is not")
	}
}

// What is cut, damaged or no archive is an error, never a smaller copy.
func TestDamagedCopies(t *testing.T) {
	name := archive(t, entry{"etc/hosts", strings.Repeat("0123456789", 1000), "", 0o644}, entry{"etc/more", "x", "", 0o644})
	whole, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	for cut := 0; cut < len(whole); cut += 7 {
		if err := os.WriteFile(name, whole[:cut], 0o600); err != nil {
			t.Fatal(err)
		}
		if c, err := Read(name); err == nil {
			t.Fatalf("with %d of %d bytes it has %d files", cut, len(whole), len(c.Files))
		}
	}
	for i := range whole {
		bad := bytes.Clone(whole)
		bad[i] ^= 0x40
		if err := os.WriteFile(name, bad, 0o600); err != nil {
			t.Fatal(err)
		}
		if c, err := Read(name); err == nil {
			f, _ := c.File("etc/hosts")
			if f == nil || len(f.body) != 10000 || !bytes.Equal(f.body, bytes.Repeat([]byte("0123456789"), 1000)) {
				t.Fatalf("with byte %d damaged it is read as something else", i)
			}
		}
	}
}
