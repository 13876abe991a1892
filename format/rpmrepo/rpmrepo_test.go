package rpmrepo

import (
	"strings"
	"testing"

	"yareharbour/core/catalogue"
)

const repomd = `<?xml version="1.0"?><repomd xmlns="http://linux.duke.edu/metadata/repo"><revision>7</revision>
<data type="primary"><checksum type="sha256">HASH</checksum><location href="repodata/p.xml.zst"/><timestamp>1790000000</timestamp><size>10</size></data>
<data type="filelists"><checksum type="sha512">x</checksum><location href="../f.xml"/></data></repomd>`

const primary = `<?xml version="1.0"?><metadata xmlns="http://linux.duke.edu/metadata/common" packages="3">
<package type="rpm"><name>crab</name><arch>x86_64</arch><version epoch="1" ver="2.0" rel="3"/><checksum type="sha256" pkgid="YES">` + sum + `</checksum>
 <time file="1" build="1790000000"/><size package="42" installed="9" archive="9"/><location href="Packages/crab.rpm"/>
 <format><vendor>Brae</vendor><sourcerpm>crab-src-2.0-3.src.rpm</sourcerpm><name>not this one</name></format></package>
<package type="rpm"><name>limpet</name><arch>i686</arch><version epoch="0" ver="1" rel="1"/></package>
<package type="rpm"><name>crab</name><arch>src</arch><version epoch="0" ver="1" rel="1"/></package></metadata>`

const sum = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"

func TestPrimary(t *testing.T) {
	rs, err := ReadPrimary(strings.NewReader(primary), "x86_64", catalogue.Release{Feed: "f"})
	if err != nil || len(rs) != 2 {
		t.Fatalf("%v %v", rs, err)
	}
	r := rs[0]
	if r.Component != "rpm:crab" || r.Version != "1:2.0-3" || r.Vendor != "Brae" || r.Source != "crab-src" || r.SHA256 != sum || r.Size != 42 || r.File != "Packages/crab.rpm" || r.Feed != "f" ||
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
		if rs, err := ReadPrimary(strings.NewReader(primary[:n]), "x86_64", catalogue.Release{}); err == nil {
			t.Fatalf("cut after %d bytes it was read as %d packages: …%q", n, len(rs), primary[max(0, n-30):n])
		}
	}
}

func TestRepomdRefusals(t *testing.T) {
	for name, c := range map[string]struct{ from, to, want string }{
		"as it is":         {"HASH", sum, ""},
		"weak checksum":    {`"sha256">HASH`, `"sha1">abcd`, "a SHA-256 is wanted"},
		"short checksum":   {"HASH", "abcd", "a SHA-256 is wanted"},
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
	const text = `<updates><update type="security" status="final"><id>A</id><title> One </title><severity>Important</severity><issued date="2026-11-01 10:00:00"/><updated date="2026-11-02"/>
<references><reference type="cve" id="CVE-1"/><reference type="self" href="https://brae.invalid/A"/></references>
<pkglist><collection><package name="crab" epoch="0" version="2" release="1" arch="x86_64"><reboot_suggested>True</reboot_suggested></package>
<package name="crab" epoch="0" version="2" release="1" arch="src"/></collection></pkglist></update>
<update type="bugfix" status="retracted"><id>B</id><description>It loses files.
More.</description><pkglist><collection><package name="crab" version="3" release="1" arch="x86_64"/></collection></pkglist></update></updates>`
	as, restarts, err := ReadUpdateinfo(strings.NewReader(text), "x86_64")
	if err != nil || len(as) != 2 {
		t.Fatal(as, err)
	}
	a := as[0]
	if a.Severity != catalogue.High || a.Title != "One" || a.Published.Day() != 2 || a.Aliases[0] != "CVE-1" || a.Link != "https://brae.invalid/A" || len(a.Affects) != 1 || a.Affects[0].Fixed != "2-1" {
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
	if n := c.Newest("rpm:crab", "", catalogue.Rule{}); n == nil || n.Version != "2-1" || n.Restart != catalogue.HostRestart {
		t.Errorf("the newest that was not retracted, with its restart: %+v", n)
	}
	for _, bad := range []string{"", "<updates>", "<html/>", "<updates><update><id>", "<updates><update></update></updates>"} {
		if _, _, err := ReadUpdateinfo(strings.NewReader(bad), ""); err == nil {
			t.Errorf("%q was read", bad)
		}
	}
}

func FuzzPrimary(f *testing.F) {
	f.Add(primary)
	f.Add("<metadata><package><version/></package></metadata>")
	f.Fuzz(func(t *testing.T, text string) {
		rs, err := ReadPrimary(strings.NewReader(text), "x86_64", catalogue.Release{})
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
		as, _, err := ReadUpdateinfo(strings.NewReader(text), "")
		for _, a := range as {
			if err == nil && a.ID == "" {
				t.Errorf("an advisory without an id: %+v", a)
			}
		}
	})
}
