package deb

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

const text = "Package: keel\nVersion: 2.0\nArchitecture: all\nMaintainer: Lab <lab@example.invalid>\n" +
	"Depends: buoy (>= 1)\nDescription: made here\n"

// What is written is read again, and dpkg reads it too; what dpkg writes is read, however it is compressed.
func TestPackages(t *testing.T) {
	hollow := Hollow([]byte(text))
	if got, err := Control(bytes.NewReader(hollow)); err != nil || string(got) != text {
		t.Errorf("%q %v", got, err)
	}
	tool, err := exec.LookPath("dpkg-deb")
	if err != nil {
		t.Skip("no dpkg-deb on this machine")
	}
	dir := t.TempDir()
	file := filepath.Join(dir, "hollow.deb")
	if err := os.WriteFile(file, hollow, 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(tool, "-f", file, "Depends").CombinedOutput(); err != nil ||
		strings.TrimSpace(string(out)) != "buoy (>= 1)" {
		t.Errorf("dpkg-deb reads %q: %v", out, err)
	}
	tree := filepath.Join(dir, "tree", "DEBIAN")
	if err := os.MkdirAll(tree, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(tree, "control"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, kind := range []string{"none", "gzip", "xz", "zstd"} {
		if out, err := exec.Command(tool, "--root-owner-group", "-Z"+kind, "-b", filepath.Dir(tree), file).
			CombinedOutput(); err != nil {
			t.Logf("no packages in %s: %s", kind, out)
			continue
		}
		body, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := Control(bytes.NewReader(body)); err != nil || string(got) != text {
			t.Errorf("%s: %q %v", kind, got, err)
		}
	}
}

// What is no package, or is cut short anywhere, is an error and nothing worse.
func TestBrokenPackages(t *testing.T) {
	whole := Hollow([]byte(text))
	end := bytes.Index(whole, []byte("data.tar"))
	for n := range end - 1536 { // behind the control file is only padding
		if got, err := Control(bytes.NewReader(whole[:n])); err == nil && string(got) != text {
			t.Fatalf("cut at %d it says %q", n, got)
		}
	}
	for _, bad := range []string{"", "!<arch>\n", "PK\x03\x04",
		string(bytes.Replace(whole, []byte("control.tar"), []byte("kontrol.tar"), 1)),
		string(bytes.Replace(whole, []byte("`\n"), []byte("x\n"), 1))} {
		if got, err := Control(strings.NewReader(bad)); err == nil {
			t.Errorf("%.20q says %q", bad, got)
		}
	}
}
