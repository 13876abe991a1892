package e2e

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/feed"
)

// updateinfo of the test's repository: an important one, a low one, and one that is about no security.
const updateinfo = `<?xml version="1.0" encoding="UTF-8"?>
<updates>
  <update from="t" status="final" type="security" version="1"><id>T-1</id><title>Important</title>
<severity>Important</severity><issued date="2026-11-01 00:00:00"/>
    <references><reference href="x" id="BRAE-2026-0108" type="cve"/></references>
    <pkglist><collection short="t"><package name="crab" version="2.0" release="1" epoch="0" arch="noarch">
<filename>crab-2.0-1.noarch.rpm</filename><reboot_suggested>True</reboot_suggested></package></collection></pkglist>
</update>
  <update from="t" status="final" type="security" version="1"><id>T-2</id><title>Low</title><severity>Low</severity>
<issued date="2026-11-02 00:00:00"/>
    <pkglist><collection short="t"><package name="limpet" version="1.1" release="1" epoch="0" arch="noarch">
<filename>limpet-1.1-1.noarch.rpm</filename></package></collection></pkglist></update>
  <update from="t" status="final" type="bugfix" version="1"><id>T-3</id><title>Bugs</title>
<issued date="2026-11-03 00:00:00"/>
    <pkglist><collection short="t"><package name="whelk" version="1.0" release="2" epoch="0" arch="noarch">
<filename>whelk-1.0-2.noarch.rpm</filename></package></collection></pkglist></update>
</updates>`

func tool(t *testing.T, name string, args ...string) string {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
	}
	return string(out)
}

// buildRPM builds an empty package.
func buildRPM(t *testing.T, dir, name, epoch, ver, rel string) {
	t.Helper()
	spec := filepath.Join(t.TempDir(), name+".spec")
	text := fmt.Sprintf("Name: %s\nVersion: %s\nRelease: %s\nSummary: t\nLicense: none\nBuildArch: noarch\n",
		name, ver, rel)
	if epoch != "" {
		text += "Epoch: " + epoch + "\n"
	}
	if err := os.WriteFile(spec, []byte(text+"%description\nt\n%files\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	tool(t, "rpmbuild", "-bb", "-D", "_rpmdir "+dir, "-D", "_topdir "+t.TempDir(), "-D",
		"_rpmfilename %{NAME}-%{VERSION}-%{RELEASE}.rpm", "--quiet", spec)
}

// What a feed from an RPM repository and a baseline say is out of date is what dnf says, with and without the severity
// of its advisories.
func TestRPMRepositoryAgainstDnf(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"rpmbuild", "createrepo_c", "modifyrepo_c", "dnf", "rpm"} {
		if _, err := exec.LookPath(name); err != nil {
			t.Skipf("%s is not here (Debian: rpm createrepo-c dnf)", name)
		}
	}
	repo, root := t.TempDir(), t.TempDir()
	for _, p := range [][4]string{{"crab", "", "1.9", "1"}, {"crab", "", "2.0", "1"}, {"crab", "", "2.0~rc1", "1"},
		{"limpet", "", "1.0", "1"}, {"limpet", "", "1.1", "1"},
		{"whelk", "", "1.0", "1"}, {"whelk", "", "1.0", "2"}, {"mussel", "1", "1.0", "1"}, {"mussel", "", "9.0", "1"},
		{"oyster", "", "1.0^git2", "1"}} {
		buildRPM(t, repo, p[0], p[1], p[2], p[3])
	}
	for _, f := range []string{"crab-1.9-1", "limpet-1.0-1", "whelk-1.0-1", "mussel-1.0-1", "oyster-1.0^git2-1"} {
		tool(t, "rpm", "--root", root, "--nosignature", "-i", filepath.Join(repo, f+".rpm"))
	}
	for _, squeeze := range []string{"gz", "xz", "zstd"} {
		t.Run(squeeze, func(t *testing.T) { agreesWithDnf(t, repo, root, squeeze) })
	}
}

func agreesWithDnf(t *testing.T, repo, root, squeeze string) {
	info := filepath.Join(t.TempDir(), "updateinfo.xml")
	if err := os.WriteFile(info, []byte(updateinfo), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("createrepo_c", "-q", "--general-compress-type="+squeeze, repo).
		CombinedOutput(); err != nil {
		t.Skipf("createrepo_c can't write %s here: %s", squeeze, out)
	}
	tool(t, "modifyrepo_c", "--mdtype=updateinfo",
		"--compress-type="+map[string]string{"gz": "gz", "xz": "xz", "zstd": "zstd"}[squeeze], info,
		filepath.Join(repo, "repodata"))

	f := feed.Feed{Name: "t", Kind: feed.RPM, At: repo, Architecture: "x86_64"}
	shelf := feed.Shelf{Dir: t.TempDir()}
	if r, err := shelf.Sync(t.Context(), f, time.Now(), nil); err != nil || !r.Changed || r.Status.Advisories != 3 {
		t.Fatalf("%+v %v", r, err)
	}
	batches, err := shelf.Load(f, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	c := &drift.Checker{Catalogue: &catalogue.Catalogue{}}
	for _, b := range batches {
		c.Catalogue.AddBatch(b)
	}
	r := &estate.Reading{Host: "h"}
	for _, s := range estate.SectionNames {
		r.SetSection(estate.Section{Name: s})
	}
	for line := range strings.Lines(tool(t, "rpm", "--root", root, "-qa", "--qf",
		"%{NAME} %|EPOCH?{%{EPOCH}:}|%{VERSION}-%{RELEASE}\n")) {
		name, ver, _ := strings.Cut(strings.TrimSpace(line), " ")
		r.Components = append(r.Components, estate.Component{Key: estate.Key("rpm:" + name), Version: ver})
	}
	r.Sort()
	for what, want := range map[string]struct {
		severity catalogue.Severity
		args     []string
	}{
		"all updates":       {catalogue.Unknown, nil},
		"high and above":    {catalogue.High, []string{"--sec-severity=Important", "--sec-severity=Critical"}},
		"any with severity": {catalogue.Low, []string{"--security"}},
	} {
		c := &drift.Checker{Catalogue: c.Catalogue,
			Baselines: []baseline.Baseline{{Name: "b", Assign: []string{"c"}, Clauses: []baseline.Clause{
				{Component: "rpm:*", Posture: baseline.IfPresent, Follow: true, Severity: want.severity}}}}}
		ours := map[string]string{}
		for _, v := range c.Host("c", r) {
			if v.Outcome == drift.Behind {
				ours[v.Component.Name()] = v.Wants
			}
		}
		theirs := dnfUpdates(t, repo, root, want.args...)
		if !maps.Equal(ours, theirs) {
			t.Errorf("%s: yare says %v, dnf %v", what, ours, theirs)
		}
		if len(ours) == 0 {
			t.Errorf("%s: nothing is out of date; the test proves nothing", what)
		}
	}
	if x := c.Catalogue.Release("rpm:crab", "2.0-1", "", ""); x == nil || x.Restart != catalogue.HostRestart ||
		!slices.Contains(x.Advisories, "T-1") {
		t.Errorf("crab 2.0-1 wants a restart of the host and mends T-1: %+v", x)
	}
}

// dnfUpdates asks dnf for what it would update: by name, to which version.
func dnfUpdates(t *testing.T, repo, root string, more ...string) map[string]string {
	t.Helper()
	args := append([]string{"-q", "--installroot=" + root, "--releasever=1", "--disableplugin=*", "--disablerepo=*",
		"--repofrompath=t,file://" + repo, "--enablerepo=t",
		"--setopt=cachedir=" + t.TempDir(), "--setopt=metadata_expire=0", "--nogpgcheck", "check-update"}, more...)
	cmd := exec.Command("dnf", args...)
	out, err := cmd.CombinedOutput()
	if code := cmd.ProcessState.ExitCode(); err != nil && code != 100 {
		t.Fatalf("dnf: %v\n%s", err, out)
	}
	found := map[string]string{}
	for line := range strings.Lines(string(out)) {
		f := strings.Fields(line)
		if len(f) == 3 && strings.HasSuffix(f[0], ".noarch") {
			found[strings.TrimSuffix(f[0], ".noarch")] = strings.TrimPrefix(f[1], "0:")
		}
	}
	return found
}
