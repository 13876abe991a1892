package linux

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"yareharbour/core/estate"
)

// nobody is an account that owns nothing.
const nobody = 65534

// own runs a command in a mount namespace of its own, in which directories lie over others: "FROM TO" each.
func own(t *testing.T, over []string, command ...string) *exec.Cmd {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("not root: no directory can be laid over /proc for a test")
	}
	if out, err := exec.Command("unshare", "-m", "true").CombinedOutput(); err != nil {
		t.Skipf("no mount namespace can be made here: %v %s", err, out)
	}
	script := "set -e\n"
	for _, o := range over {
		script += "mount --bind " + o + "\n"
	}
	return exec.CommandContext(t.Context(), "unshare", append([]string{"-m", "sh", "-c", script + `exec "$@"`, "own"},
		command...)...)
}

// shells are those that are here, each with the words that start it.
func shells() (out [][]string) {
	for _, s := range [][]string{{"dash"}, {"bash"}, {"busybox", "sh"}} {
		if _, err := exec.LookPath(s[0]); err == nil {
			out = append(out, s)
		}
	}
	return out
}

// hostile are names that a person could give to what is theirs. Each would do something where it became a part of a
// command, or a record of its own where it was printed as it is.
func hostile(canary string) []string {
	do := "touch " + canary
	return []string{"a\n--pipe=" + do, "-rf", "--pipe=" + do, "$(" + do + ")", "`" + do + "`", "'; " + do + "; '",
		`"; ` + do + `; "`, "a b", "a\tb", "a\n/var/lib/yare/private/guard\x01", "a\n=end", "x\x1b[2Jy", "ü", "*", "a|b",
		"a\n$rpm -qa"}
}

// A tree in which everything that somebody may name is named as badly as can be is read like one without all that:
// nothing is run, no record is forged, and nobody else's things change.
func TestNamesThatSomebodyChose(t *testing.T) {
	for _, shell := range shells() {
		t.Run(shell[0], func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			canary := filepath.Join(dir, "canary")
			read := func(bad []string) *estate.Reading {
				root := filepath.Join(dir, fmt.Sprint(len(bad)))
				files := map[string]string{"proc/sys/kernel/osrelease": "6.1\n", "proc/sys/kernel/random/boot_id": "1111\n",
					"proc/cmdline": "quiet\n", "proc/mounts": "/dev/sda2 / ext4 rw 0 0\n", "proc/meminfo": "MemTotal: 2048 kB\n",
					"proc/10/cgroup": "0::/system.slice/ssh.service\n", "proc/10/comm": "sshd\n",
					"proc/10/maps":         "7f00-7f01 r-xp 0 08:01 99 /usr/lib/libtide.so.3 (deleted)\n",
					"dpkg/status":          "Package: tide\nStatus: install ok installed\nArchitecture: all\nVersion: 1\n",
					"dpkg/info/tide.list":  "/usr/lib/libtide.so.3\n/usr/lib/systemd/system/ssh.service\n",
					"run/libvirt/qemu/x":   "",
					"system/a.wants/empty": "", "net/eth9/device/uevent": "DRIVER=virtio_net\n"}
				links := map[string]string{"proc/10/exe": "/usr/sbin/sshd"}
				for i, name := range bad {
					pid := fmt.Sprintf("proc/%d/", 100+i)
					files[pid+"cgroup"] = "0::/user.slice/" + strings.ReplaceAll(name, "\n", "") + "/ssh.service\n"
					files[pid+"maps"] = "7f00-7f01 r-xp 0 08:01 99 /usr/lib/libtide.so.3 (deleted)\n"
					links[pid+"exe"] = "/usr/bin/" + name + " (deleted)"
					pid = fmt.Sprintf("proc/%d/", 200+i) // a service whose account may name files
					files[pid+"cgroup"] = "0::/system.slice/chat.service/" + strings.ReplaceAll(name, "\n", "") + "\n"
					files[pid+"maps"] = "7f00-7f01 r-xp 0 08:01 99 /usr/lib/" + name + " (deleted)\n"
					links[pid+"exe"] = "/usr/bin/" + name + " (deleted)"
					files[fmt.Sprintf("run/libvirt/qemu/%s.pid", strings.ReplaceAll(name, "/", ""))] = "not a number\n"
					flat := strings.ReplaceAll(name, "/", "")
					files["system/a.wants/"+flat+".service"] = ""
					files["net/"+flat+"/device/uevent"] = "PCI_SLOT_NAME=0000:00:1f.0\n"
					files["dpkg/info/"+flat+".list"] = "/usr/lib/" + name + "\n/usr/lib/libtide.so.3.9\n"
					// the kernel writes blanks and line breaks of a mount's names as numbers
					files["proc/mounts"] += "x /mnt/" + strings.NewReplacer("\n", `\012`, " ", `\040`, "\t", `\011`).Replace(flat) +
						" fuse rw,addr=" + strings.NewReplacer("\n", `\012`, " ", `\040`, "\t", `\011`).Replace(name) + " 0 0\n"
				}
				if len(bad) > 0 { // its first line would be the name of a library of another's
					files["proc/300/cgroup"] = "0::/system.slice/chat.service\n"
					links["proc/300/exe"] = "/usr/lib/libtide.so.3 (deleted)\nx (deleted)"
				}
				for name, text := range files {
					to := filepath.Join(root, name)
					if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
						t.Fatal(err)
					}
					if err := os.WriteFile(to, []byte(text), 0o600); err != nil {
						t.Fatal(err)
					}
				}
				for name, to := range links {
					if err := os.Symlink(to, filepath.Join(root, name)); err != nil {
						t.Fatal(err)
					}
				}
				for _, d := range []string{"/run/libvirt/qemu"} {
					if err := os.MkdirAll(d, 0o755); err != nil {
						t.Skip(err)
					}
				}
				c := own(t, []string{root + "/dpkg /var/lib/dpkg", root + "/run/libvirt/qemu /run/libvirt/qemu",
					root + "/system /etc/systemd/system", root + "/net /sys/class/net",
					root + "/proc /proc"},
					append(append(slices.Clone(shell), "-s", "--"), ProbeWords(0, 4*time.Second)...)...)
				c.Stdin = strings.NewReader(Probe)
				out, err := c.Output()
				if err != nil {
					t.Fatal(err)
				}
				for l := range bytes.Lines(out) { // what a file holds is as it is, and made harmless with all else that is read
					if bytes.ContainsAny(l, "\x1b\x01") && !bytes.HasPrefix(l, []byte("/proc/mounts\x00")) &&
						!bytes.HasPrefix(l, []byte("/var/lib/dpkg/info/")) {
						t.Errorf("control characters come through: %q", l)
					}
				}
				p, err := ParseProbe(t.Context(), strings.NewReader(string(out)))
				if err != nil {
					t.Fatal(err)
				}
				return Machine{Source: p, Name: "far", Now: func() time.Time { return time.Unix(1e9, 0) }}.Read(t.Context())
			}
			good, bad := read(nil), read(hostile(canary))
			if _, err := os.Stat(canary); err == nil {
				t.Error("a name was run")
			}
			for _, r := range []*estate.Reading{good, bad} {
				tide, _ := r.Component("deb:tide", "")
				if tide.Version != "1" || tide.Awaits() != "ssh.service" || !slices.Equal(tide.Units, []string{"ssh.service"}) {
					t.Errorf("%+v", tide)
				}
			}
			if bad.BootID != "1111" || bad.Guard != good.Guard || !reflect.DeepEqual(bad.Kernel, good.Kernel) {
				t.Errorf("%+v", bad)
			}
			for _, c := range bad.Components {
				if _, was := good.Component(c.Key, c.Device); !was && c.Key.Kind() != "set" {
					t.Errorf("%+v has come", c)
				}
			}
			for _, s := range bad.Sections {
				if was := good.Section(s.Name); (s.Err == "") != (was.Err == "") {
					t.Errorf("%s: %q, and without bad names %q", s.Name, s.Err, was.Err)
				}
			}
		})
	}
}

// Processes of somebody who is nobody, with names of all kinds, do nothing to a look at this very machine.
func TestProcessesOfNobody(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("not root: nobody's processes can't be started")
	}
	sleep, err := exec.LookPath("sleep")
	if err != nil {
		t.Skip(err)
	}
	text, err := os.ReadFile(sleep)
	if err != nil {
		t.Fatal(err)
	}
	dir, err := os.MkdirTemp("", "nobody")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o777); err != nil {
		t.Fatal(err)
	}
	canary := filepath.Join(dir, "canary")
	for _, name := range hostile(canary) {
		program := filepath.Join(dir, strings.ReplaceAll(name, "/", "_"))
		if err := os.WriteFile(program, text, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(program, 0o755); err != nil {
			t.Fatal(err)
		}
		c := exec.CommandContext(t.Context(), program, "60")
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
		if err := os.Remove(program); err != nil {
			t.Fatal(err)
		}
	}
	for _, shell := range shells() {
		words := append(append(slices.Clone(shell), "-s", "--"), ProbeWords(0, 4*time.Second)...)
		c := exec.CommandContext(t.Context(), words[0], words[1:]...)
		c.Stdin = strings.NewReader(Probe)
		out, err := c.Output()
		if err != nil {
			t.Fatal(err)
		}
		p, err := ParseProbe(t.Context(), strings.NewReader(string(out)))
		if err != nil {
			t.Fatalf("%s: %v", shell, err)
		}
		for at := range p.links {
			if to, _ := p.ReadLink(at); strings.Contains(to, dir) {
				t.Errorf("%s: %s of nobody's is looked at: %q", shell, at, to)
			}
		}
		if _, err := os.Stat(canary); err == nil {
			t.Errorf("%s: a name was run", shell)
		}
	}
}

// A service with more replaced files than there are libraries costs its host nothing but that it is said.
func TestMoreReplacedFilesThanThereAre(t *testing.T) {
	for _, shell := range shells() {
		t.Run(shell[0], func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			var maps strings.Builder
			for i := range 15_000 {
				fmt.Fprintf(&maps, "7f00-7f01 r-xp 0 08:01 99 /usr/lib/%d/%s (deleted)\n", i, strings.Repeat("x", 900))
			}
			for name, text := range map[string]string{"sys/kernel/osrelease": "6.1\n", "sys/kernel/random/boot_id": "1\n",
				"10/cgroup": "0::/system.slice/chat.service\n", "10/maps": maps.String(),
				"11/cgroup": "0::/system.slice/ssh.service\n",
				"11/maps":   "7f00-7f01 r-xp 0 08:01 99 /usr/lib/libtide.so.3 (deleted)\n"} {
				if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
					t.Fatal(err)
				}
				if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
					t.Fatal(err)
				}
			}
			words := append(append(slices.Clone(shell), "-s", "--"), ProbeWords(0, 9*time.Second, estate.Packages)...)
			c := own(t, []string{dir + " /proc"}, words...)
			c.Stdin = strings.NewReader(Probe)
			out, err := c.Output()
			if err != nil {
				t.Fatal(err)
			}
			if len(out) > 3<<20 {
				t.Errorf("it prints %d bytes", len(out))
			}
			p, err := ParseProbe(t.Context(), strings.NewReader(string(out)))
			if err != nil {
				t.Fatal(err)
			}
			m := Machine{Source: p, Name: "far", Now: time.Now}
			all, hidden := m.processes(t.Context())
			of := map[string]int{}
			for _, p := range all {
				of[p.service] = len(p.gone)
			}
			if hidden != 1 || of["chat.service"] != maxGone || of["ssh.service"] != 1 {
				t.Errorf("%d hidden, %v", hidden, of)
			}
		})
	}
}

// What no probe gives is refused, in a time that does not depend on how odd it is.
func TestAnAnswerIsBounded(t *testing.T) {
	deep := "/" + strings.Repeat("a/", 1<<20)
	for name, answer := range map[string]string{
		"a path of many directories": "+" + deep[:200<<10] + "\x00",
		"a path longer than a line":  "+" + deep,
		"a long name":                "+/" + strings.Repeat("a", 100<<10) + "\x00",
		"a long line":                "/proc/cmdline\x00" + strings.Repeat("a", 2<<20),
		"a deep path":                "+/" + strings.Repeat("a/", 100) + "\x00",
		"a name with a line's end":   "+/a\rb\x00",
		"a name with an escape":      "@/a\x1b[2J\x00/b",
	} {
		start := time.Now()
		_, err := ParseProbe(t.Context(), strings.NewReader("=probe\x00\n/proc/cmdline\x00quiet\n"+answer+"\n=end\x00\n"))
		if err == nil || time.Since(start) > 5*time.Second {
			t.Errorf("%s: %v after %s", name, err, time.Since(start))
		}
	}
	var many strings.Builder
	many.WriteString("=probe\x00\n/proc/cmdline\x00quiet\n")
	for i := range maxNames + 1 {
		fmt.Fprintf(&many, "+/sys/%d\x00\n", i)
	}
	if _, err := ParseProbe(t.Context(), strings.NewReader(many.String()+"=end\x00\n")); err == nil {
		t.Error("it names as many files as it likes")
	}
	for _, what := range []string{"/f\x00\n", "=gone\x00%d /x\n", "?%d\x00no\n", "@/proc/%d/exe\x00/x\n", "!/%d\x00\n", "\n"} {
		endless(t, what)
	}
}

// endless reads an answer that says the same without an end.
func endless(t *testing.T, what string) {
	answer, feed := io.Pipe()
	go func() {
		b := bufio.NewWriter(feed)
		_, err := b.WriteString("=probe\x00\n")
		for n := 0; err == nil; n++ {
			_, err = b.WriteString(strings.Replace(what, "%d", strconv.Itoa(n), 1))
		}
	}()
	defer answer.Close()
	ended := make(chan error, 1)
	go func() {
		_, err := ParseProbe(t.Context(), answer)
		ended <- err
	}()
	select {
	case err := <-ended:
		if err == nil {
			t.Errorf("an answer without an end is one: %q", what)
		}
	case <-time.After(time.Minute):
		t.Errorf("an answer without an end is read without an end: %q", what)
	}
}
