package host

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/format/rpmfile"
)

// What dnf says is taken as it is meant. An answer that is cut short says nothing.
func TestWhatDnfSays(t *testing.T) {
	t.Parallel()
	changes := []connector.Wanted{{Change: act.Change{Component: "rpm:fender", From: "1.0-1", To: "2.0-1"}},
		{Change: act.Change{Component: "rpm:old", From: "3-1"}}}
	for name, c := range map[string]struct {
		says string
		want act.Resolution
	}{
		"as asked":    {"comes fender 2.0-1\ngoes old 3-1\nexit 0\nend\n", act.Resolution{}},
		"in two goes": {"comes fender 2.0-1\nexit 0\ngoes old 3-1\nexit 0\nend\n", act.Resolution{}},
		"more comes along": {"comes fender 2.0-1\ncomes buoy 1:1.0-1\nexit 0\nend\n",
			act.Resolution{Along: []act.Along{{Component: "rpm:buoy", To: "1:1.0-1"}}}},
		"something would go": {"comes fender 2.0-1\ngoes keel 1.0-1\ngoes keel 1.0-1\nexit 0\nend\n",
			act.Resolution{Removes: []estate.Key{"rpm:keel"}}},
		"it would go itself": {"goes fender 1.0-1\nexit 0\nend\n", act.Resolution{Removes: []estate.Key{"rpm:fender"}}},
		"another version": {"comes fender 2.1-1\nexit 0\nend\n",
			act.Resolution{Refused: "it would bring fender 2.1-1 instead of 2.0-1"}},
		"asked to go back": {"back fender 2.0-1\nexit 0\nend\n", act.Resolution{}},
		"another goes back": {"back keel 0.9-1\nexit 0\nend\n",
			act.Resolution{Refused: "it would take keel back to 0.9-1"}},
		"it refuses": {"wrong Error:\nwrong   - nothing provides buoy\nexit 1\nend\n",
			act.Resolution{Refused: "Error:; - nothing provides buoy"}},
		"the second refuses": {"exit 1\nexit 0\nend\n", act.Resolution{Refused: "dnf did not say what it would do"}},
		"no dnf":             {"none this host has no dnf\nend\n", act.Resolution{Unasked: "this host has no dnf"}},
		"cut short":          {"comes fender 2.0-1\nexit 0\n", act.Resolution{Unasked: "its answer was cut short"}},
		"nothing":            {"", act.Resolution{Unasked: "its answer was cut short"}},
	} {
		if got := rpmResolved(c.says, changes); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%s: %+v, want %+v", name, got, c.want)
		}
	}
	for _, c := range []act.Change{{Component: "rpm:a'; reboot; '", To: "1"}, {Component: "rpm:a", To: "$(reboot)"},
		{Component: "rpm:-y", To: "1"}, {Component: "rpm:a b", To: "1"}} {
		if _, err := rpmResolution([]connector.Wanted{{Change: c}}); err == nil {
			t.Errorf("dnf is asked about %q %q", c.Component, c.To)
		}
	}
}

// The same by dnf itself, in a root of its own: packages that the host does not have are there up to their payloads,
// and nothing is touched.
func TestDnfIsAskedWhatItWouldDo(t *testing.T) {
	t.Parallel()
	for _, tool := range []string{"dnf", "rpm", "rpmbuild", "createrepo_c"} {
		if _, err := exec.LookPath(tool); err != nil || os.Geteuid() != 0 {
			t.Skip("no " + tool + " on this machine, or not root")
		}
	}
	dir := t.TempDir()
	tool := func(name string, args ...string) string {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
		defer cancel()
		out, err := exec.CommandContext(ctx, name, args...).CombinedOutput()
		if err != nil {
			t.Fatalf("%s %v: %v\n%s", name, args, err, out)
		}
		return string(out)
	}
	for _, p := range []struct{ name, version, more string }{{"keel", "1.0", ""}, {"keel", "2.0", ""},
		{"buoy", "1.0", "Requires: keel"}, {"mast", "1.0", "Requires: sail"}, {"sail", "1.0", ""},
		{"rope", "1.0", "Requires: nowhere"}, {"hull", "1.0", "Obsoletes: buoy"}} {
		spec := filepath.Join(dir, p.name+".spec")
		text := fmt.Sprintf("Name: %s\nVersion: %s\nRelease: 1\nSummary: made up\nLicense: none\nBuildArch: noarch\n"+
			"%s\n%%description\nMade up.\n%%files\n", p.name, p.version, p.more)
		if err := os.WriteFile(spec, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		tool("rpmbuild", "-bb", "--quiet", "-D", "_topdir "+dir+"/top", "-D", "_rpmdir "+dir, spec)
	}
	tool("createrepo_c", "-q", dir+"/noarch")
	root := filepath.Join(dir, "root")
	for path, text := range map[string]string{"repos/lab.repo": "[lab]\nname=lab\nbaseurl=file://" + dir +
		"/noarch\ngpgcheck=0\n", "log/x": "",
		"bin/dnf": fmt.Sprintf("#!/bin/sh\nPATH=/usr/sbin:/usr/bin:/sbin:/bin exec dnf --installroot=%[1]s "+
			"--releasever=1 --setopt=reposdir=%[1]s/repos --setopt=cachedir=%[1]s/cache "+
			"--setopt=persistdir=%[1]s/persist --setopt=logdir=%[1]s/log \"$@\"\n", root)} {
		if err := os.MkdirAll(filepath.Join(root, filepath.Dir(path)), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(root, path), []byte(text), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	tool(filepath.Join(root, "bin/dnf"), "-y", "-q", "install", "keel-1.0-1", "buoy-1.0-1")
	file := func(name, version string) connector.Wanted {
		return connector.Wanted{Change: act.Change{Component: estate.Key("rpm:" + name), To: version},
			Control: func() ([]byte, error) {
				f, err := os.Open(filepath.Join(dir, "noarch", name+"-"+version+".noarch.rpm"))
				if err != nil {
					return nil, err
				}
				defer f.Close()
				return rpmfile.Head(f)
			}}
	}
	named := func(name, version string) connector.Wanted {
		return connector.Wanted{Change: act.Change{Component: estate.Key("rpm:" + name),
			From: map[bool]string{true: "1.0-1"}[version == ""], To: version}}
	}
	there := func() string { return tool("rpm", "--root", root, "-qa") }
	before := there()
	for name, c := range map[string]struct {
		asked         []connector.Wanted
		along, remove string
		refused       string
	}{
		"an update from a repository": {[]connector.Wanted{named("keel", "2.0-1")}, "", "", ""},
		"from a file":                 {[]connector.Wanted{file("keel", "2.0-1")}, "", "", ""},
		"something comes along": {[]connector.Wanted{named("mast", "1.0-1")},
			"[rpm:sail 1.0-1 comes along]", "", ""},
		"what a file needs is not there": {[]connector.Wanted{file("mast", "1.0-1")}, "", "", "nothing provides sail"},
		"both files": {[]connector.Wanted{file("mast", "1.0-1"), file("sail", "1.0-1")},
			"", "", ""},
		"nobody has it": {[]connector.Wanted{named("rope", "1.0-1")}, "", "",
			"nothing provides nowhere"},
		"no such version":         {[]connector.Wanted{named("keel", "9-1")}, "", "", "keel-9-1"},
		"it takes something away": {[]connector.Wanted{file("hull", "1.0-1")}, "", "[rpm:buoy]", ""},
		"which was asked for":     {[]connector.Wanted{file("hull", "1.0-1"), named("buoy", "")}, "", "", ""},
		"what goes takes another": {[]connector.Wanted{named("keel", "")}, "", "[rpm:buoy]", ""},
		"in and out at once":      {[]connector.Wanted{file("sail", "1.0-1"), named("buoy", "")}, "", "", ""},
	} {
		script, err := rpmResolution(c.asked)
		if err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command("sh")
		cmd.Stdin, cmd.Env = strings.NewReader(script),
			append(os.Environ(), "PATH="+filepath.Join(root, "bin")+":"+os.Getenv("PATH"))
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
		r := rpmResolved(string(out), c.asked)
		along, remove := "", ""
		if len(r.Along) > 0 {
			var says []string
			for _, a := range r.Along {
				says = append(says, a.Says())
			}
			along = fmt.Sprint(says)
		}
		if len(r.Removes) > 0 {
			remove = fmt.Sprint(r.Removes)
		}
		if r.Unasked != "" || along != c.along || remove != c.remove || (r.Refused == "") != (c.refused == "") ||
			!strings.Contains(r.Refused, c.refused) {
			t.Errorf("%s: %+v\n%s", name, r, out)
		}
	}
	if after := there(); after != before {
		t.Errorf("asking has changed it:\n%s", after)
	}
}
