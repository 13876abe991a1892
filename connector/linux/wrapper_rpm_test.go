package linux

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Where there is no apt, dnf does the same, after its own test of the transaction.
func TestTheWrapperAsksDnf(t *testing.T) {
	onEachShell(t, func(b *bench) {
		b.manager("dnf", "case \" $* \" in *tsflags=test*) [ ! -e "+b.dir+
			"/refuses ] || { echo 'Error: nothing provides buoy'; exit 1; } ;; esac\n")
		code, said := b.order(1, "R", "install", "keel=2.0-1.brae")
		b.want(0, code, said)
		if end := b.finished(); end != "done 0" {
			b.Error(end)
		}
		asked := b.file("asked")
		test, carry, _ := strings.Cut(asked, "\n")
		if !strings.Contains(test, "tsflags=test --setopt=install_weak_deps=False install -- keel-2.0-1.brae") ||
			!strings.Contains(carry, "install -- keel-2.0-1.brae") || strings.Contains(carry, "tsflags") {
			b.Errorf("it asked\n%s", asked)
		}
		if err := os.WriteFile(filepath.Join(b.dir, "refuses"), nil, 0o600); err != nil {
			b.Fatal(err)
		}
		code, said = b.order(1, "R", "install", "keel=2.0-1.brae")
		if code != 72 || !strings.Contains(said, "dnf refuses: Error: nothing provides buoy") {
			b.Errorf("it ends with %d and %q", code, said)
		}
		if n := strings.Count(b.file("asked"), "\n"); n != 3 {
			b.Errorf("it was asked %d times:\n%s", n, b.file("asked"))
		}
	})
}

// The same by dnf itself, with packages made for this, in a root of its own: what would come along, go, or go back
// unasked is refused, and nothing of it happens.
func TestTheWrapperByDnfItself(t *testing.T) {
	for _, tool := range []string{"dnf", "rpm", "rpmbuild", "createrepo_c"} {
		if _, err := exec.LookPath(tool); err != nil || os.Geteuid() != 0 {
			t.Skip("no " + tool + " on this machine, or not root")
		}
	}
	shelf := t.TempDir()
	long := "a-name-too-long-for-a-column-of-the-table-in-which-dnf-says-what-it-would-do"
	for _, p := range []struct{ name, version, more string }{{"keel", "1.0", ""}, {"keel", "2.0", ""},
		{"buoy", "1.0", "Requires: keel"}, {"mast", "1.0", "Requires: sail"},
		{"sail", "1.0", ""}, {"rope", "1.0", "Requires: nowhere"}, {long, "1.0", ""},
		{"hull", "1.0", "Obsoletes: buoy\nRequires: keel"}} {
		spec := filepath.Join(shelf, p.name+".spec")
		text := fmt.Sprintf("Name: %s\nVersion: %s\nRelease: 1\nSummary: made up\nLicense: none\nBuildArch: noarch\n"+
			"%s\n%%description\nMade up.\n%%files\n", p.name, p.version, p.more)
		if err := os.WriteFile(spec, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("rpmbuild", "-bb", "--define", "_topdir "+shelf+"/top", "--define",
			"_rpmdir "+shelf, spec).CombinedOutput(); err != nil {
			t.Fatalf("rpmbuild: %v\n%s", err, out)
		}
	}
	if out, err := exec.Command("createrepo_c", "-q", shelf+"/noarch").CombinedOutput(); err != nil {
		t.Fatalf("createrepo_c: %v\n%s", err, out)
	}
	onShells(t, func(b *bench) {
		root := filepath.Join(b.dir, "root")
		repo := fmt.Sprintf("[lab]\nname=lab\nbaseurl=file://%s/noarch\ngpgcheck=0\n", shelf)
		for dir, file := range map[string]string{"repos": repo, "log": ""} {
			if err := os.MkdirAll(filepath.Join(root, dir), 0o700); err != nil {
				b.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(root, dir, "lab.repo"), []byte(file), 0o600); err != nil {
				b.Fatal(err)
			}
		}
		b.manager("dnf", fmt.Sprintf("PATH=/usr/sbin:/usr/bin:/sbin:/bin exec dnf --installroot=%[1]s --releasever=1 "+
			"--setopt=reposdir=%[1]s/repos "+
			"--setopt=cachedir=%[1]s/cache --setopt=persistdir=%[1]s/persist --setopt=logdir=%[1]s/log \"$@\"\n", root))
		staged := func(name, version string) string {
			from := filepath.Join(shelf, "noarch", name+"-"+version+"-1.noarch.rpm")
			text, err := os.ReadFile(from)
			if err != nil {
				b.Fatal(err)
			}
			sum := sha256.Sum256(text)
			file := hex.EncodeToString(sum[:]) + ".rpm"
			if err := os.WriteFile(filepath.Join(b.dir, "private", "staged", file), text, 0o600); err != nil {
				b.Fatal(err)
			}
			return "@" + file + "/" + name + "=" + version + "-1"
		}
		here := func(want string) {
			b.Helper()
			out, err := exec.Command("rpm", "--root", root, "-qa", "--qf", "%{NAME}-%{VERSION}\n").CombinedOutput()
			got := strings.Fields(string(out))
			slices.Sort(got)
			if err != nil || strings.Join(got, " ") != want {
				b.Errorf("there is %q, want %q (%v)", got, want, err)
			}
		}
		does := func(words ...string) {
			b.Helper()
			code, said := b.order(1, "R", "install", words...)
			b.want(0, code, said)
			if end := b.finished(); code == 0 && end != "done 0" {
				b.Errorf("%v: %s", words, end)
			}
		}
		refuses := func(why string, words ...string) {
			b.Helper()
			if code, said := b.order(1, "R", "install", words...); code != 72 || !strings.Contains(said, why) {
				b.Errorf("%v: it ends with %d and %q", words, code, said)
			}
		}
		does(staged("keel", "1.0"), staged("buoy", "1.0"), staged(long, "1.0"))
		here(long + "-1.0 buoy-1.0 keel-1.0")
		does("keel=2.0-1")
		here(long + "-1.0 buoy-1.0 keel-2.0")
		refuses("it would go back to keel=1.0-1", staged("keel", "1.0"))
		refuses("it would also change sail=1.0-1, which nobody asked for", "mast=1.0-1")
		refuses("nothing provides sail", staged("mast", "1.0"))
		refuses("nothing provides nowhere", staged("rope", "1.0"), staged("sail", "1.0"))
		refuses("it would also change buoy-, which nobody asked for", staged("hull", "1.0"))
		refuses("it would also change buoy-, which nobody asked for", "keel-")
		here(long + "-1.0 buoy-1.0 keel-2.0")
		does("older", staged("keel", "1.0"))
		does(staged("sail", "1.0"), staged("mast", "1.0"), "buoy-")
		here(long + "-1.0 keel-1.0 mast-1.0 sail-1.0")
		does("mast-", "sail-")
		here(long + "-1.0 keel-1.0")
	}, "dash")
}
