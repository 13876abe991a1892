package linux

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// archived is a gzipped tar archive of entries, each "path=content", or "path>target" for a link.
func archived(t *testing.T, entries ...string) string {
	t.Helper()
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	for _, e := range entries {
		name, body, file := strings.Cut(e, "=")
		h := &tar.Header{Name: name, Mode: 0o640, Size: int64(len(body))}
		if at, to, link := strings.Cut(e, ">"); link {
			h, file = &tar.Header{Name: at, Linkname: to, Typeflag: tar.TypeSymlink}, true
			body = ""
		}
		if !file {
			h.Typeflag = tar.TypeChar
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(body)); err != nil {
			t.Fatal(err)
		}
	}
	w.Close()
	z.Close()
	return out.String()
}

// Files of a kept configuration go back below /etc and nowhere else, on a host that is closed for the round, and what they
// replace stays; what would change is told before, and nothing is touched for that.
func TestTheWrapperPutsFilesBack(t *testing.T) {
	onShells(t, func(b *bench) {
		root := filepath.Join(b.dir, "root")
		if err := os.MkdirAll(filepath.Join(root, "etc", "x"), 0o700); err != nil {
			b.Fatal(err)
		}
		text := strings.ReplaceAll(b.file("wrapper"), "tar -C /", "tar -C "+root)
		if err := os.WriteFile(filepath.Join(b.dir, "wrapper"), []byte(text), 0o700); err != nil {
			b.Fatal(err)
		}
		b.write("root/etc/hosts", "new\n")
		good := archived(b.T, "etc/hosts=old\n", "etc/x/y=there\n", "etc/z>hosts")
		order := func(body, sum string) (int, string) {
			b.n++
			return b.call(body, "order", fmt.Sprint("act", b.n), "1", "R", "1", "s", "restore", sum, fmt.Sprint(len(body)))
		}
		code, said := b.call(good, "differs", fmt.Sprint(len(good)))
		b.want(0, code, said)
		if !strings.Contains(said, "etc/hosts: Contents differ") && !strings.Contains(said, "etc/hosts: Size differs") || !strings.Contains(said, "etc/x/y") ||
			b.file("root/etc/hosts") != "new\n" {
			b.Errorf("what would change: %q", said)
		}
		code, said = order(good, Sum(good))
		b.want(72, code, said) // it is open
		code, said = b.order(1, "R", "close", "op", "files")
		b.want(0, code, said)
		for _, bad := range []string{archived(b.T, "etc/../root/x=1"), archived(b.T, "root/x=1"), archived(b.T, "/etc/x=1"), archived(b.T, "etc/dev"), "no archive"} {
			code, said = order(bad, Sum(bad))
			b.want(72, code, said)
		}
		code, said = order(good, Sum("other"))
		b.want(72, code, said)
		if b.file("root/etc/hosts") != "new\n" {
			b.Fatal("a refused order has changed a file")
		}
		code, said = order(good, Sum(good))
		b.want(0, code, said)
		id := fmt.Sprint("act", b.n)
		for start := time.Now(); !strings.HasPrefix(said, "done 0"); time.Sleep(20 * time.Millisecond) {
			if _, said = b.call("", "trace", id); time.Since(start) > time.Minute {
				b.Fatalf("%q", said)
			}
		}
		if b.file("root/etc/hosts") != "old\n" || b.file("root/etc/x/y") != "there\n" {
			b.Errorf("there are %q and %q", b.file("root/etc/hosts"), b.file("root/etc/x/y"))
		}
		if to, err := os.Readlink(filepath.Join(root, "etc", "z")); err != nil || to != "hosts" {
			b.Errorf("the link leads to %q: %v", to, err)
		}
		if len(b.file("private/acts/"+id+"/before")) == 0 {
			b.Error("what was there before is not kept")
		}
		if code, said = b.call(good, "differs", fmt.Sprint(len(good))); code != 0 || strings.Contains(said, "hosts") {
			b.Errorf("afterwards: %d %q", code, said)
		}
	}, "dash", "bash")
}

// The host tells where its own firmware says that it reaches its BMC, and nothing else of what that says.
func TestTheWrapperTellsOfItsBMC(t *testing.T) {
	onEachShell(t, func(b *bench) {
		bin := filepath.Join(b.dir, "bin")
		if err := os.Mkdir(bin, 0o700); err != nil {
			b.Fatal(err)
		}
		script := "#!/bin/sh\ncat <<'E'\nManagement Controller Host Interface\n\tHost Interface Type: Network\n\tProtocol ID: 04 (Redfish over IP)\n" +
			"\t\tRedfish Service IP Address Format: IPv4\n\t\tIPv4 Redfish Service Address: 169.254.3.1\n\t\tIPv4 Redfish Service Mask: 255.255.255.0\n" +
			"\t\tRedfish Service Port: 443\n\t\tRedfish Service Hostname: bmc; reboot\nE\n"
		if err := os.WriteFile(filepath.Join(bin, "dmidecode"), []byte(script), 0o700); err != nil {
			b.Fatal(err)
		}
		text := strings.Replace(b.file("wrapper"), "PATH=/usr/sbin", "PATH="+bin+":/usr/sbin", 1)
		if err := os.WriteFile(filepath.Join(b.dir, "wrapper"), []byte(text), 0o700); err != nil {
			b.Fatal(err)
		}
		code, said := b.call("", "boards")
		if b.want(0, code, said); said != "169.254.3.1\n443" {
			b.Errorf("it says %q", said)
		}
	})
}
