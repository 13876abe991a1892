package rpmrepo

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
	"yareharbour/format/compressed"
)

func bounded(r io.Reader) *compressed.Bounded {
	return &compressed.Bounded{R: r, Most: 1 << 30, Entry: 8 << 20}
}

func strict(err error) error { return err }

const repomd = `<?xml version="1.0"?><repomd xmlns="http://linux.duke.edu/metadata/repo"><revision>7</revision>
<data type="primary"><checksum type="sha256">HASH</checksum><location href="repodata/p.xml.zst"/>
<timestamp>1790000000</timestamp><size>10</size></data>
<data type="filelists"><checksum type="sha512">x</checksum><location href="../f.xml"/></data></repomd>`

const primary = `<?xml version="1.0"?><metadata xmlns="http://linux.duke.edu/metadata/common" packages="3">
<package type="rpm"><name>crab</name><arch>x86_64</arch><version epoch="1" ver="2.0" rel="3"/>
<checksum type="sha256" pkgid="YES">` + sum + `</checksum>
 <time file="1" build="1790000000"/><size package="42" installed="9" archive="9"/><location href="Packages/crab.rpm"/>
 <format><vendor>Brae</vendor><sourcerpm>crab-src-2.0-3.src.rpm</sourcerpm><name>not this one</name></format></package>
<package type="rpm"><name>limpet</name><arch>i686</arch><version epoch="0" ver="1" rel="1"/></package>
<package type="rpm"><name>crab</name><arch>src</arch><version epoch="0" ver="1" rel="1"/></package></metadata>`

const sum = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"

func TestPrimary(t *testing.T) {
	rs, err := ReadPrimary(bounded(strings.NewReader(primary)), "x86_64", catalogue.Release{Feed: "f"})
	if err != nil || len(rs) != 2 {
		t.Fatalf("%v %v", rs, err)
	}
	r := rs[0]
	if r.Component != "rpm:crab" || r.Version != "1:2.0-3" || r.Vendor != "Brae" || r.Source != "crab-src" ||
		r.SHA256 != sum || r.Size != 42 || r.File != "Packages/crab.rpm" || r.Feed != "f" ||
		r.Date.Year() != 2026 {
		t.Errorf("%+v", r)
	}
	if rs[1].Component != "rpm:limpet:i686" || rs[1].Version != "1-1" {
		t.Errorf("a foreign architecture is part of the name: %+v", rs[1])
	}
}

// What breaks off anywhere is refused whole.
func TestPrimaryCutShort(t *testing.T) {
	for n := range len(primary) - 1 {
		if rs, err := ReadPrimary(bounded(strings.NewReader(primary[:n])), "x86_64", catalogue.Release{}); err == nil {
			t.Fatalf("cut after %d bytes it was read as %d packages: …%q", n, len(rs), primary[max(0, n-30):n])
		}
	}
}

func TestRepomdRefusals(t *testing.T) {
	for name, c := range map[string]struct{ from, to, want string }{
		"as it is":         {"HASH", sum, ""},
		"weak checksum":    {`"sha256">HASH`, `"sha1">abcd`, "a SHA-256 or SHA-512 is wanted"},
		"short checksum":   {"HASH", "abcd", "a SHA-256 or SHA-512 is wanted"},
		"leads out":        {"repodata/p.xml.zst", "../../p.xml", "leads out of the repository"},
		"another address":  {"repodata/p.xml.zst", "https://x/p.xml", "leads out of the repository"},
		"without packages": {`type="primary"`, `type="other"`, "names no primary metadata"},
		"no repomd":        {"<repomd", "<html", "not a repomd.xml"},
	} {
		text := strings.Replace(repomd, c.from, c.to, 1)
		md, err := ReadRepomd(strings.NewReader(strings.Replace(text, "HASH", sum, 1)))
		switch {
		case c.want == "" && (err != nil || md.Made().Year() != 2026 || len(md.Files) != 1):
			t.Errorf("%s: %+v %v", name, md, err)
		case c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

func TestUpdateinfo(t *testing.T) {
	const text = `<updates><update type="security" status="final"><id>A</id><title> One </title>
<severity>Important</severity><issued date="2026-11-01 10:00:00"/><updated date="2026-11-02"/>
<references><reference type="cve" id="CVE-1"/><reference type="self" href="https://brae.invalid/A"/></references>
<pkglist><collection><package name="crab" epoch="0" version="2" release="1" arch="x86_64">
<reboot_suggested>True</reboot_suggested></package>
<package name="crab" epoch="0" version="2" release="1" arch="src"/></collection></pkglist></update>
<update type="bugfix" status="retracted"><id>B</id><description>It loses files.
More.</description><pkglist><collection><package name="crab" version="3" release="1" arch="x86_64"/></collection>
</pkglist></update></updates>`
	as, restarts, err := ReadUpdateinfo(bounded(strings.NewReader(text)), "x86_64", strict)
	if err != nil || len(as) != 2 {
		t.Fatal(as, err)
	}
	a := as[0]
	if a.Severity != catalogue.High || a.Title != "One" || a.Published.Day() != 2 || a.Aliases[0] != "CVE-1" ||
		a.Link != "https://brae.invalid/A" || len(a.Affects) != 1 || a.Affects[0].Fixed != "2-1" {
		t.Errorf("%+v", a)
	}
	if w := as[1].Affects[0].Withdrawn; w != "its update B was retracted: It loses files." {
		t.Errorf("a retracted update withdraws its versions: %q", w)
	}
	rs := []catalogue.Release{{Component: "rpm:crab", Version: "2-1"}, {Component: "rpm:crab", Version: "3-1"}}
	restarts.Apply(rs)
	var c catalogue.Catalogue
	c.Add(catalogue.Feed{}, rs)
	c.AddAdvisories(catalogue.Feed{}, as)
	if n := c.Newest("rpm:crab", "", catalogue.Rule{}); n == nil || n.Version != "2-1" ||
		n.Restart != catalogue.HostRestart {
		t.Errorf("the newest that was not retracted, with its restart: %+v", n)
	}
	for _, bad := range []string{"", "<updates>", "<html/>", "<updates><update><id>",
		"<updates><update></update></updates>"} {
		if _, _, err := ReadUpdateinfo(bounded(strings.NewReader(bad)), "", strict); err == nil {
			t.Errorf("%q was read", bad)
		}
	}
}

func FuzzPrimary(f *testing.F) {
	f.Add(primary)
	f.Add("<metadata><package><version/></package></metadata>")
	f.Fuzz(func(t *testing.T, text string) {
		rs, err := ReadPrimary(bounded(strings.NewReader(text)), "x86_64", catalogue.Release{})
		for _, r := range rs {
			if err == nil && (r.Version == "" || r.Component.Name() == "") {
				t.Errorf("a release without a name or version: %+v", r)
			}
		}
	})
}

func FuzzUpdateinfo(f *testing.F) {
	f.Add("<updates><update><id>A</id></update></updates>")
	f.Fuzz(func(t *testing.T, text string) {
		as, _, err := ReadUpdateinfo(bounded(strings.NewReader(text)), "", strict)
		for _, a := range as {
			if err == nil && a.ID == "" {
				t.Errorf("an advisory without an id: %+v", a)
			}
		}
	})
}

// manyPackages writes a primary.xml of a large repository, as createrepo_c would.
func manyPackages(n int) string {
	var b strings.Builder
	fmt.Fprintf(&b, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"+
		"<metadata xmlns=\"http://linux.duke.edu/metadata/common\" xmlns:rpm=\"http://linux.duke.edu/metadata/rpm\" "+
		"packages=\"%d\">\n", n)
	for i := range n {
		fmt.Fprintf(&b, `<package type="rpm">
  <name>lib%05d-common</name>
  <arch>x86_64</arch>
  <version epoch="0" ver="%d.%d" rel="3.br4"/>
  <checksum type="sha256" pkgid="YES">%064x</checksum>
  <summary>A library of the demo</summary>
  <description>It does what libraries do, and says so in more than one line.
It goes on here.</description>
  <packager></packager>
  <url>https://brae.invalid/</url>
  <time file="1790000000" build="1790000000"/>
  <size package="%d" installed="99" archive="99"/>
  <location href="Packages/lib%05d.rpm"/>
  <format>
    <rpm:license>none</rpm:license>
    <rpm:vendor>Brae</rpm:vendor>
    <rpm:group>Libraries</rpm:group>
    <rpm:buildhost>build.brae.invalid</rpm:buildhost>
    <rpm:sourcerpm>lib%05d-1-1.src.rpm</rpm:sourcerpm>
    <rpm:header-range start="4504" end="9608"/>
    <rpm:provides><rpm:entry name="lib%05d-common" flags="EQ" epoch="0" ver="1" rel="1"/>
<rpm:entry name="lib%05d.so.1()(64bit)"/></rpm:provides>
    <rpm:requires><rpm:entry name="libc.so.6(GLIBC_2.34)(64bit)"/><rpm:entry name="rtld(GNU_HASH)"/></rpm:requires>
  </format>
</package>
`, i, i%9, i%17, i, 1000+i, i, i, i, i)
	}
	return b.String() + "</metadata>\n"
}

const large = 30000

// BenchmarkReadPrimary30000 stands beside BenchmarkDnf30000, which reads the same repository anew.
func BenchmarkReadPrimary30000(b *testing.B) {
	text := manyPackages(large)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		rs, err := ReadPrimary(bounded(strings.NewReader(text)), "x86_64", catalogue.Release{})
		if err != nil || len(rs) != large {
			b.Fatal(len(rs), err)
		}
	}
}

func BenchmarkDnf30000(b *testing.B) {
	if _, err := exec.LookPath("dnf"); err != nil {
		b.Skip("no dnf here")
	}
	dir, root := b.TempDir(), b.TempDir()
	text := manyPackages(large)
	sum := sha256.Sum256([]byte(text))
	md := fmt.Sprintf(`<repomd xmlns="http://linux.duke.edu/metadata/repo"><revision>1</revision><data type="primary">
<checksum type="sha256">%x</checksum><open-checksum type="sha256">%x</open-checksum>
<location href="repodata/primary.xml"/><timestamp>1790000000</timestamp><size>%d</size><open-size>%d</open-size>
</data></repomd>`,
		sum, sum, len(text), len(text))
	if err := errors.Join(os.MkdirAll(filepath.Join(dir, "repodata"), 0o700),
		os.WriteFile(filepath.Join(dir, "repodata", "primary.xml"), []byte(text), 0o600),
		os.WriteFile(filepath.Join(dir, "repodata", "repomd.xml"), []byte(md), 0o600)); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		cmd := exec.Command("dnf", "-q", "--installroot="+root, "--releasever=1", "--disableplugin=*",
			"--disablerepo=*", "--repofrompath=t,file://"+dir, "--enablerepo=t", "--setopt=cachedir="+b.TempDir(),
			"--setopt=gpgcheck=0", "repoquery", "--available", "lib00007-common")
		if out, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(out), "lib00007-common") {
			b.Fatalf("%v %s", err, out)
		}
	}
}
