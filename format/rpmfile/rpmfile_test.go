package rpmfile

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// made is a package file of so many bytes of signatures and of header, with a payload behind.
func made(signatures, header int) []byte {
	intro := func(entries, size int) []byte {
		return append([]byte{0x8e, 0xad, 0xe8, 1, 0, 0, 0, 0, 0, 0, 0, byte(entries), 0, 0, byte(size >> 8),
			byte(size)}, make([]byte, 16*entries+size)...)
	}
	out := append([]byte{0xed, 0xab, 0xee, 0xdb}, make([]byte, 92)...)
	out = append(out, intro(2, signatures)...)
	out = append(out, make([]byte, (8-signatures%8)%8)...)
	return append(append(out, intro(3, header)...), []byte("payload")...)
}

func TestHead(t *testing.T) {
	for _, c := range [][2]int{{0, 0}, {8, 100}, {9, 101}, {15, 1}, {16, 0}} {
		file := made(c[0], c[1])
		head, err := Head(bytes.NewReader(file))
		if err != nil || !bytes.Equal(head, file[:len(file)-len("payload")]) {
			t.Errorf("%v: %d of %d bytes, %v", c, len(head), len(file), err)
		}
		for n := range head {
			if _, err := Head(bytes.NewReader(file[:n])); err == nil {
				t.Errorf("%v: %d bytes of %d have a head", c, n, len(head))
			}
		}
	}
	huge := made(8, 8)
	copy(huge[96+8:], []byte{0xff, 0xff, 0xff, 0xff})
	for says, file := range map[string][]byte{"no RPM": make([]byte, 300), "larger than": huge,
		"does not begin": append(made(0, 0)[:96], make([]byte, 300)...)} {
		if _, err := Head(bytes.NewReader(file)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%v, want %q", err, says)
		}
	}
}

// Of a package made by rpmbuild the head is enough for rpm to read all that it says of itself.
func TestTheHeadOfARealPackage(t *testing.T) {
	if _, err := exec.LookPath("rpmbuild"); err != nil {
		t.Skip("no rpmbuild on this machine")
	}
	dir := t.TempDir()
	spec := filepath.Join(dir, "x.spec")
	if err := os.WriteFile(spec,
		[]byte("Name: keel\nVersion: 2.0\nRelease: 1\nSummary: made up\nLicense: none\nBuildArch: noarch\n"+
			"Requires: mast\n%description\nMade up.\n%files\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("rpmbuild", "-bb", "--quiet", "-D", "_topdir "+dir, "-D", "_rpmdir "+dir, spec).
		CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	f, err := os.Open(filepath.Join(dir, "noarch", "keel-2.0-1.noarch.rpm"))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	head, err := Head(f)
	if err != nil {
		t.Fatal(err)
	}
	short := filepath.Join(dir, "head.rpm")
	if err := os.WriteFile(short, head, 0o600); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("rpm", "-qp", "--nosignature", "--nodigest", "--qf",
		"%{NAME} %{VERSION}-%{RELEASE} [%{REQUIRENAME} ]", short).CombinedOutput()
	if err != nil || !strings.HasPrefix(string(out), "keel 2.0-1 ") || !strings.Contains(string(out), "mast") {
		t.Errorf("%v %s", err, out)
	}
}

func FuzzHead(f *testing.F) {
	f.Add(made(9, 30))
	f.Fuzz(func(t *testing.T, file []byte) {
		head, err := Head(bytes.NewReader(file))
		if err == nil && !bytes.HasPrefix(file, head) {
			t.Error("the head is none of the file")
		}
	})
}
