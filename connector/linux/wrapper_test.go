package linux

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/act"
)

// bench is a wrapper in a directory of its own, run by each shell that is here.
type bench struct {
	*testing.T
	dir, shell string
	n          int
}

func onEachShell(t *testing.T, test func(b *bench)) { onShells(t, test, "dash", "bash", "busybox") }

// onShells does so with some of them: what takes long by the tools that it calls is asked of one.
func onShells(t *testing.T, test func(b *bench), shells ...string) {
	for _, shell := range shells {
		path, err := exec.LookPath(shell)
		if err != nil {
			continue
		}
		t.Run(shell, func(t *testing.T) {
			t.Parallel()
			b := &bench{T: t, dir: t.TempDir(), shell: path}
			for _, d := range []string{"private", "private/acts", "private/staged", "run"} {
				if err := os.Mkdir(filepath.Join(b.dir, d), 0o700); err != nil {
					t.Fatal(err)
				}
			}
			b.write("private/guard", "0 - 0 -\n")
			text := strings.NewReplacer(Home, b.dir, "/run/libvirt/qemu", b.dir+"/run").Replace(Wrapper)
			if err := os.WriteFile(filepath.Join(b.dir, "wrapper"), []byte(text), 0o700); err != nil {
				t.Fatal(err)
			}
			test(b)
		})
	}
}

// call runs the wrapper, and returns its exit status and all that it says.
func (b *bench) call(in string, args ...string) (int, string) {
	b.Helper()
	words := append([]string{filepath.Join(b.dir, "wrapper")}, args...)
	if filepath.Base(b.shell) == "busybox" {
		words = append([]string{"sh"}, words...)
	}
	c := exec.CommandContext(b.Context(), b.shell, words...)
	c.Stdin = strings.NewReader(in)
	out, err := c.CombinedOutput()
	if c.ProcessState == nil {
		b.Fatal(err)
	}
	return c.ProcessState.ExitCode(), strings.TrimSpace(string(out))
}

// order gives an order of its own under the epoch and round.
func (b *bench) order(epoch int, round, verb string, args ...string) (int, string) {
	b.Helper()
	b.n++
	return b.call("", append([]string{"order", fmt.Sprintf("act%d", b.n), fmt.Sprint(epoch), round, "7", "sum7", verb},
		args...)...)
}

func (b *bench) want(status int, got int, said string) {
	b.Helper()
	if got != status {
		b.Errorf("it ends with %d, want %d: %s", got, status, said)
	}
}

func (b *bench) write(name, text string) {
	b.Helper()
	if err := os.WriteFile(filepath.Join(b.dir, name), []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
}

func (b *bench) file(name string) string {
	text, _ := os.ReadFile(filepath.Join(b.dir, name))
	return string(text)
}

// Orders of older leases, of another round under the same one, and those that were had are refused, and leave nothing
// behind.
func TestTheWrapperKeepsEpochs(t *testing.T) {
	onEachShell(t, func(b *bench) {
		b.want(0, 0, "")
		code, said := b.order(5, "R1", "claim")
		b.want(0, code, said)
		if got := b.file("private/guard"); got != "5 R1 7 sum7\n" {
			b.Errorf("it keeps %q", got)
		}
		code, said = b.order(4, "R0", "close", "op", "late")
		b.want(70, code, said)
		code, said = b.order(5, "R2", "close", "op", "other")
		b.want(70, code, said)
		if b.file("mark") != "" || b.file("private/guard") != "5 R1 7 sum7\n" {
			b.Errorf("a refused order left %q, %q", b.file("mark"), b.file("private/guard"))
		}
		code, said = b.order(6, "R2", "claim")
		b.want(0, code, said)
		code, said = b.call("", "order", "act1", "7", "R3", "8", "s", "claim")
		b.want(71, code, said)
	})
}

// What is owed stands in the ledger before it is done, once for each guest, until it is paid; a name is data.
func TestTheWrapperKeepsALedger(t *testing.T) {
	onEachShell(t, func(b *bench) {
		order := func(want int, args ...string) {
			b.Helper()
			code, said := b.order(1, "R1", "guest", args...)
			b.want(want, code, said)
		}
		ledger := func(want ...string) {
			b.Helper()
			owed, err := parseOwed(b.file("private/owed"))
			var got []string
			for _, o := range owed {
				got = append(got, fmt.Sprintf("%s %s %s %q", o.Kind, o.Round, o.GuestID, o.Guest))
			}
			if err != nil || !slices.Equal(got, want) {
				b.Errorf("%q, want %q, %v", got, want, err)
			}
		}
		order(0)
		ledger()
		order(0, "owe", "down", "u-1", "a guest\nwith $(reboot)")
		order(0, "owe", "save", "u-2", "db")
		ledger(`shut down R1 u-1 "a guest with $(reboot)"`, `suspend R1 u-2 "db"`)
		order(0, "owe", "save", "u-1", "web") // it is owed once
		ledger(`suspend R1 u-2 "db"`, `suspend R1 u-1 "web"`)
		order(72, "owe", "down", "u 3", "no word")
		code, said := b.order(1, "R1", "close", "op", "patches")
		b.want(0, code, said)
		order(72, "pay", "u-2") // a closed host starts nobody
		ledger(`suspend R1 u-2 "db"`, `suspend R1 u-1 "web"`)
		code, said = b.order(1, "R1", "open")
		b.want(0, code, said)
		order(0, "pay", "u-2")
		order(0, "pay", "u-9")
		ledger(`suspend R1 u-1 "web"`)
		code, said = b.order(2, "R2", "claim")
		b.want(0, code, said)
		if got := b.file("private/owed"); got != "save R1 u-1 owed web\n" {
			b.Errorf("under a new lease it holds %q", got)
		}
	})
	for _, bad := range []string{"dance R u owed g", "down R u", "down R u perhaps g", "x"} {
		if _, err := parseOwed(bad); err == nil {
			t.Errorf("%q is read", bad)
		}
	}
}

// A mark is its round's, survives whatever comes, and never takes the place of another's.
func TestTheWrapperKeepsMarks(t *testing.T) {
	onEachShell(t, func(b *bench) {
		code, said := b.order(1, "R1", "close", "op", "patches; $(reboot) `id` 'x'")
		b.want(0, code, said)
		if mark := b.file("mark"); !strings.Contains(mark, "round R1\nby op\n") ||
			!strings.HasSuffix(mark, "reason patches; $(reboot) `id` 'x'\n") {
			b.Errorf("its mark is %q", mark)
		}
		for _, verb := range []string{"open", "remark", "close"} {
			code, said = b.order(2, "R2", verb, "op2", "mine")
			b.want(72, code, said)
		}
		code, said = b.order(2, "R2", "adopt", "op2", "mine", "R9")
		b.want(72, code, said)
		code, said = b.order(2, "R2", "adopt", "op2", "mine", "R1")
		b.want(0, code, said)
		code, said = b.order(2, "R2", "remark", "op2", "it failed")
		b.want(0, code, said)
		if mark := b.file("mark"); !strings.Contains(mark, "round R2\n") ||
			!strings.Contains(mark, "reason it failed\n") {
			b.Errorf("its mark is %q", mark)
		}
		code, said = b.order(3, "R3", "restart", "no")
		b.want(72, code, said)
		if code, said = b.call("", "trace", fmt.Sprintf("act%d", b.n)); code != 0 ||
			!strings.HasPrefix(said, "done 72\nit is not closed") {
			b.Errorf("what was refused is told as %q", said)
		}
		code, said = b.order(4, "R2", "open")
		b.want(0, code, said)
		if code, said = b.call("", "trace", fmt.Sprintf("act%d", b.n)); code != 0 || said != "taken" {
			b.Errorf("what was taken is told as %q", said)
		}
		if b.file("mark") != "" {
			b.Error("it is still closed")
		}
		code, said = b.order(4, "R2", "adopt", "op", "x", "")
		b.want(72, code, said)
	})
}

// A package arrives whole or not at all; what came in part is gone on with, and what has another hash is thrown away.
func TestTheWrapperStages(t *testing.T) {
	onEachShell(t, func(b *bench) {
		body := bytes.Repeat([]byte("keel\n"), 5000)
		hash := sha256.Sum256(body)
		sum := hex.EncodeToString(hash[:])
		stage := func(in []byte, from int, sum string) (int, string) {
			b.n++
			return b.call(string(in), "order", fmt.Sprintf("act%d", b.n), "1", "R", "1", "s", "stage", sum, "deb",
				fmt.Sprint(len(body)), fmt.Sprint(from))
		}
		code, said := stage(body[:9000], 0, sum)
		b.want(72, code, said)
		if _, said = b.call("", "part", sum, "deb"); said != "9000" {
			b.Errorf("it has %q of it", said)
		}
		if _, said = b.call("", "staged", sum, "deb"); said != "" {
			b.Errorf("a part counts as staged: %q", said)
		}
		code, said = stage(body, 0, sum) // from the beginning, although a part is there
		b.want(72, code, said)
		code, said = stage(body[9000:], 9000, sum)
		b.want(0, code, said)
		if said != sum {
			b.Errorf("it computed %q", said)
		}
		if _, said = b.call("", "staged", sum, "deb"); said != sum {
			b.Errorf("it has %q", said)
		}
		code, said = stage(nil, 0, sum) // it is there
		b.want(0, code, said)
		if _, said = b.call("", "part", sum, "deb"); said != fmt.Sprint(len(body)) {
			b.Errorf("of what is there whole it says %q", said)
		}
		file := filepath.Join(b.dir, "private/staged", sum+".deb")
		if err := os.WriteFile(file, body[1:], 0o600); err != nil {
			b.Fatal(err)
		}
		if _, said = b.call("", "part", sum, "deb"); said != "0" {
			b.Errorf("of what was damaged there it says %q", said)
		}
		code, said = stage(body, 0, sum)
		b.want(0, code, said)
		for range 2 { // what is gone already is no failure
			b.n++
			code, said = b.call("", "order", fmt.Sprintf("act%d", b.n), "1", "R", "1", "s", "unstage", sum+".deb")
			b.want(0, code, said)
		}
		if _, err := os.Stat(file); err == nil {
			b.Error("what was to be taken away is there")
		}
		code, said = stage(body, 0, sum)
		b.want(0, code, said)
		for _, w := range []string{"../guard", sum, sum + ".exe", "*.deb"} {
			b.n++
			code, said = b.call("", "order", fmt.Sprintf("act%d", b.n), "1", "R", "1", "s", "unstage", w)
			b.want(72, code, said)
		}
		wrong := strings.Repeat("0", 64)
		code, said = stage(body, 0, wrong)
		b.want(0, code, said)
		if said != sum {
			b.Errorf("of what has another hash it says %q", said)
		}
		if _, said = b.call("", "staged", wrong, "deb"); said != "" {
			b.Errorf("it keeps it under the hash that it has not: %q", said)
		}
		if _, said = b.call("", "part", wrong, "deb"); said != "0" {
			b.Errorf("it goes on with what has another hash: %q", said)
		}
	})
}

// Words that would be more than words are refused before anything is done with them, and what an order's id would lead
// to outside is not made.
func TestTheWrapperTakesOnlyWords(t *testing.T) {
	onEachShell(t, func(b *bench) {
		for _, bad := range []string{"../../etc", "a b", "a;reboot", "$(id)", "-rf", ".hidden", "", "a\nb", "ä"} {
			for _, args := range [][]string{
				{"order", bad, "1", "R", "1", "s", "claim"},
				{"order", "id", "1", bad, "1", "s", "claim"},
				{"order", "id", bad, "R", "1", "s", "claim"},
				{"order", "id", "1", "R", "1", bad, "claim"},
				{"trace", bad}, {"staged", bad, "deb"}, {"part", "x", bad},
			} {
				if code, said := b.call("", args...); code != 72 {
					b.Errorf("%q: it ends with %d: %s", args, code, said)
				}
			}
		}
		if left, _ := filepath.Glob(filepath.Join(b.dir, "private", "acts", "*")); len(left) > 0 {
			b.Errorf("%v was made", left)
		}
		for _, args := range [][]string{{"services", "a; reboot"}, {"service", "stop", "sshd.service"}, {"service", "stop", "libvirtd.service"},
			{"service", "stop", "dbus.service"}, {"service", "mask", "x.service"}, {"service", "stop", "$(id).service"},
			{"setting", "kernel.core_pattern", "1"}, {"setting", "vm.swappiness", "1;id"}, {"setting", "vm/../kernel/core_pattern", "1"}, {"setting", "", "1"},
			{"install", "x;y=1"},
			{"install", "@../../etc/passwd/x=1"}, {"install", "$(id)=1"}, {"format"},
			{"stage", "../x", "deb", "1", "0"}, {"install", "@0123.deb/x=1"}} {
			code, said := b.order(1, "R", args[0], args[1:]...)
			b.want(72, code, said)
		}
		if code, _ := b.call("", "reboot"); code != 72 {
			b.Error("it knows a word that it should not")
		}
	})
}

// Settings of the kernel are changed that yare names, and no others; one that is put back is left as it is where somebody
// else has changed it since.
func TestTheWrapperChangesSettings(t *testing.T) {
	onShells(t, func(b *bench) {
		text := strings.ReplaceAll(b.file("wrapper"), "at=/proc/sys/", "at="+b.dir+"/sys/")
		if err := os.WriteFile(filepath.Join(b.dir, "wrapper"), []byte(text), 0o700); err != nil {
			b.Fatal(err)
		}
		at := func(name string) string { return "sys/" + strings.ReplaceAll(name, ".", "/") }
		for _, name := range append(act.KernelSettings, "kernel.sysrq") {
			if err := os.MkdirAll(filepath.Dir(filepath.Join(b.dir, at(name))), 0o700); err != nil {
				b.Fatal(err)
			}
			b.write(at(name), "60\n")
			code, said := b.order(1, "R", "setting", name, "1")
			if want := map[bool]int{true: 0, false: 72}[name != "kernel.sysrq"]; code != want || b.file(at(name)) != map[int]string{0: "1\n", 72: "60\n"}[want] {
				b.Errorf("%s: it ends with %d and is %q: %s", name, code, b.file(at(name)), said)
			}
		}
		for _, c := range []struct{ is, want string }{{"1\n", "60\n"}, {"30\n", "30\n"}} {
			b.write(at("vm.swappiness"), c.is)
			if code, said := b.order(1, "R", "setting", "vm.swappiness", "60", "1"); code != 0 || b.file(at("vm.swappiness")) != c.want {
				b.Errorf("put back from %q it is %q: %d, %s", c.is, b.file(at("vm.swappiness")), code, said)
			}
		}
		if err := os.Remove(filepath.Join(b.dir, at("vm.dirty_ratio"))); err != nil {
			b.Fatal(err)
		}
		if err := os.Mkdir(filepath.Join(b.dir, at("vm.dirty_ratio")), 0o700); err != nil { // it can't be written
			b.Fatal(err)
		}
		if code, said := b.order(1, "R", "setting", "vm.dirty_ratio", "1"); code != 72 || !strings.Contains(said, "can't be set to 1") {
			b.Errorf("%d, %s", code, said)
		}
	}, "dash", "busybox", "bash")
}

// What goes on by itself is told: it runs, it is done with its status, it was ended from outside, it was lost to a
// restart. An order of which nothing is known is none.
func TestTheWrapperTellsWhatBecameOfOrders(t *testing.T) {
	onEachShell(t, func(b *bench) {
		trace := func(id string) string {
			code, said := b.call("", "trace", id)
			b.want(0, code, said)
			first, _, _ := strings.Cut(said, "\n")
			return first
		}
		if got := trace("nothing"); got != "none" {
			b.Errorf("of nothing it says %q", got)
		}
		// A service manager that takes its time, and fails where it is told to.
		bin := filepath.Join(b.dir, "bin")
		if err := os.Mkdir(bin, 0o700); err != nil {
			b.Fatal(err)
		}
		script := "#!/bin/sh\necho asked for $1\nwhile [ ! -e " + b.dir + "/go ]; do sleep 0.05; done\n[ $1 != bad ]\n"
		if err := os.WriteFile(filepath.Join(bin, "service"), []byte(script), 0o700); err != nil {
			b.Fatal(err)
		}
		own := filepath.Join(b.dir, "wrapper")
		text := strings.NewReplacer("PATH=/usr/sbin", "PATH="+bin+":/usr/sbin", "/run/systemd/system",
			b.dir+"/no-systemd").Replace(b.file("wrapper"))
		if err := os.WriteFile(own, []byte(text), 0o700); err != nil {
			b.Fatal(err)
		}
		start := time.Now()
		for _, id := range []string{"good", "bad", "killed", "lost"} {
			code, said := b.call("", "order", id, "1", "R", "1", "s", "services", id+".service")
			b.want(0, code, said)
			if got := trace(id); got != "running" {
				b.Errorf("%s: %q", id, got)
			}
		}
		if took := time.Since(start); took > 30*time.Second {
			b.Errorf("it waited for them: %s", took)
		}
		pid := strings.TrimSpace(b.file("private/acts/killed/pid"))
		if out, err := exec.Command("kill", "-9", "--", "-"+pid).CombinedOutput(); err != nil { // its own process group
			b.Fatalf("%v: %s", err, out)
		}
		if err := os.WriteFile(filepath.Join(b.dir, "private", "acts", "lost", "boot"), []byte("another\n"), 0o600); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(b.dir, "go"), nil, 0o600); err != nil {
			b.Fatal(err)
		}
		for id, want := range map[string]string{"good": "done 0", "bad": "done 1",
			"killed": "lost it was ended from outside"} {
			for start := time.Now(); trace(id) != want; time.Sleep(20 * time.Millisecond) {
				if time.Since(start) > time.Minute {
					b.Fatalf("%s: %q, want %q", id, trace(id), want)
				}
			}
		}
		if code, said := b.call("", "trace", "good"); !strings.Contains(said, "asked for good") {
			b.Errorf("its log is not told: %d %s", code, said)
		}
		os.Remove(filepath.Join(b.dir, "private", "acts", "lost", "rc"))
		if got := trace("lost"); got != "lost the host restarted while it ran" {
			b.Errorf("lost: %q", got)
		}
	})
}

// The hook refuses while the mark is there, says why, and lets everything go on that takes no guest in.
func TestTheHook(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	hook := strings.ReplaceAll(Hook, Home, dir)
	ask := func(guest, operation, sub string) (int, string) {
		c := exec.CommandContext(t.Context(), "sh", "-c", hook, "qemu", guest, operation, sub, "-")
		out, err := c.CombinedOutput()
		if c.ProcessState == nil {
			t.Fatal(err)
		}
		return c.ProcessState.ExitCode(), string(out)
	}
	takes := [][2]string{{"prepare", "begin"}, {"migrate", "begin"}, {"restore", "begin"}}
	for _, o := range takes {
		if code, said := ask("g1", o[0], o[1]); code != 0 {
			t.Errorf("an open host refuses %v: %s", o, said)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "mark"), []byte("round R1\nby op\nreason patches\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, o := range takes {
		if code, said := ask("g1", o[0], o[1]); code == 0 || !strings.Contains(said, "round R1 by op reason patches") {
			t.Errorf("a closed host takes %v: %s", o, said)
		}
	}
	for _, o := range [][2]string{{"release", "end"}, {"stopped", "end"}, {"start", "begin"}, {"started", "begin"},
		{"reconnect", "begin"}} {
		if code, said := ask("g1", o[0], o[1]); code != 0 {
			t.Errorf("it hinders %v: %s", o, said)
		}
	}
}

// A package manager stands for the host's own, and writes down what it was asked.
func (b *bench) manager(name, script string) {
	b.Helper()
	bin := filepath.Join(b.dir, "bin")
	if err := os.MkdirAll(bin, 0o700); err != nil {
		b.Fatal(err)
	}
	text := "#!/bin/sh\necho \"" + name + " $*\" >>" + b.dir + "/asked\n" + script
	if err := os.WriteFile(filepath.Join(bin, name), []byte(text), 0o700); err != nil {
		b.Fatal(err)
	}
	own := filepath.Join(b.dir, "wrapper")
	if text := b.file("wrapper"); !strings.Contains(text, "PATH="+bin) {
		text = strings.Replace(text, "PATH=/usr/sbin:/usr/bin:/sbin:/bin", "PATH="+bin+":"+b.dir+"/tools", 1)
		if err := os.WriteFile(own, []byte(text), 0o700); err != nil {
			b.Fatal(err)
		}
		tools := filepath.Join(b.dir, "tools") // all but the machine's own package managers
		if err := os.MkdirAll(tools, 0o700); err != nil {
			b.Fatal(err)
		}
		for _, t := range []string{"sh", "cat", "cut", "sed", "grep", "tr", "tail", "head", "mkdir", "mv", "rm", "ln",
			"sync", "flock", "setsid", "sleep", "env", "sha256sum", "stat", "date", "awk", "df", "xargs",
			"find", "timeout", "touch", "basename", "readlink", "chmod", "id", "sort", "wc"} {
			if path, err := exec.LookPath(t); err == nil {
				if err := os.Symlink(path, filepath.Join(tools, t)); err != nil {
					b.Fatal(err)
				}
			}
		}
	}
}

// finished waits for the newest order's end and returns its status.
func (b *bench) finished() string {
	b.Helper()
	id := fmt.Sprintf("act%d", b.n)
	for start := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		_, said := b.call("", "trace", id)
		if first, _, _ := strings.Cut(said, "\n"); strings.HasPrefix(first, "done") ||
			strings.HasPrefix(first, "lost") {
			return first
		}
		if time.Since(start) > time.Minute {
			b.Fatalf("it never ended: %s", said)
		}
	}
}

// apt is asked first what it would do, and is not let begin where that is anything else than what was asked for.
func TestTheWrapperAsksApt(t *testing.T) {
	onEachShell(t, func(b *bench) {
		b.manager("dpkg", "")
		b.manager("apt-mark", "cat "+b.dir+"/holds 2>/dev/null\n")
		b.manager("apt-get", "case \" $* \" in *' -s '*) cat "+b.dir+"/would; [ ! -e "+b.dir+"/refuses ] ;; esac\n")
		would := func(text string) {
			if err := os.WriteFile(filepath.Join(b.dir, "would"), []byte(text), 0o600); err != nil {
				b.Fatal(err)
			}
		}
		refusal := func(says string, words ...string) {
			b.Helper()
			before := b.file("asked")
			code, said := b.order(1, "R", "install", words...)
			if code != 72 || !strings.Contains(said, says) {
				b.Errorf("%v: it ends with %d and %q, want %q", words, code, said, says)
			}
			if now := strings.TrimPrefix(b.file("asked"), before); strings.Contains(now, "apt-get -y") {
				b.Errorf("%v: it began all the same:\n%s", words, now)
			}
		}
		would("Inst keel [1.0] (2.0 Lab [all])\nConf keel (2.0 Lab [all])\n")
		code, said := b.order(1, "R", "install", "keel=2.0")
		b.want(0, code, said)
		if end := b.finished(); end != "done 0" {
			b.Error(end)
		}
		if asked := b.file("asked"); !strings.Contains(asked, "apt-get -y -q --no-install-recommends --no-remove") ||
			!strings.Contains(asked, "--force-confold install -- keel=2.0") ||
			strings.Contains(asked, "--allow-downgrades") {
			b.Errorf("it asked\n%s", asked)
		}
		would("Inst buoy (1.0 Lab [all])\nInst keel [1.0] (2.0 Lab [all])\n")
		refusal("it would also change buoy=1.0", "keel=2.0")
		code, said = b.order(1, "R", "install", "keel=2.0", "buoy=1.0")
		b.want(0, code, said)
		b.finished()
		would("Inst keel [1.0] (2.1 Lab [all])\n")
		refusal("it would also change keel=2.1", "keel=2.0")
		would("Remv fender [1.0]\nInst keel [1.0] (2.0 Lab [all])\n")
		refusal("it would also change fender-", "keel=2.0")
		code, said = b.order(1, "R", "install", "keel=2.0", "fender-")
		b.want(0, code, said)
		b.finished()
		would("E: Unable to locate package keel\n")
		if err := os.WriteFile(filepath.Join(b.dir, "refuses"), nil, 0o600); err != nil {
			b.Fatal(err)
		}
		refusal("apt refuses: Unable to locate package keel", "keel=2.0")
		os.Remove(filepath.Join(b.dir, "refuses"))
		would("Inst keel [3.0] (2.0 Lab [all])\n")
		code, said = b.order(1, "R", "install", "older", "keel=2.0")
		b.want(0, code, said)
		b.finished()
		if !strings.Contains(b.file("asked"), "--allow-downgrades") {
			b.Error("an older version is not allowed, though it was asked for")
		}
		refusal("keel=2.0 is not staged here", "@"+strings.Repeat("01", 32)+".deb/keel=2.0")
		if err := os.WriteFile(filepath.Join(b.dir, "holds"), []byte("keel\n"), 0o600); err != nil {
			b.Fatal(err)
		}
		refusal("keel is held", "keel=2.0")
		os.Remove(filepath.Join(b.dir, "holds"))
		b.manager("dpkg", "echo 'The following packages are only half configured'\necho ' reef            it fails'\n")
		refusal("not wholly installed: reef", "keel=2.0")
	})
}

// A program of the site's own runs by itself, with the facts on its input and its words as they are; one that others could
// write is refused.
func TestTheWrapperRunsHooks(t *testing.T) {
	onEachShell(t, func(b *bench) {
		file, out := filepath.Join(b.dir, "hook"), filepath.Join(b.dir, "out")
		run := func(args ...string) (int, string) {
			b.n++
			return b.call("{\"host\":\"h1\"}\n", append([]string{"order", fmt.Sprintf("act%d", b.n), "1", "R", "1", "s", "hook"}, args...)...)
		}
		if err := os.WriteFile(file, []byte("#!/bin/sh\ncat >\"$1\"; printf '%s|' \"$@\" >>\"$1\"; echo said; exit 75\n"), 0o700); err != nil {
			b.Fatal(err)
		}
		code, said := run("5", file, out, "$(id)", "; rm x", "*")
		b.want(0, code, said)
		if got := b.finished(); got != "done 75" {
			b.Errorf("it ended as %q", got)
		}
		if _, said := b.call("", "trace", fmt.Sprintf("act%d", b.n)); !strings.HasSuffix(said, "\nsaid") {
			b.Errorf("it is told as %q", said)
		}
		if text := b.file("out"); text != "{\"host\":\"h1\"}\n"+out+"|$(id)|; rm x|*|" {
			b.Errorf("it was told %q", text)
		}
		slow := filepath.Join(b.dir, "slow")
		if err := os.WriteFile(slow, []byte("#!/bin/sh\nexec sleep 60\n"), 0o700); err != nil {
			b.Fatal(err)
		}
		code, said = run("1", slow)
		b.want(0, code, said)
		if got := b.finished(); got != "done 124" && got != "done 143" { // busybox's timeout says what ended it
			b.Errorf("after its time it ended as %q", got)
		}
		for want, spoil := range map[string]func() string{
			"is not named by its absolute path": func() string { return "hook" },
			"there is no program":               func() string { return file + "x" },
			"there is no program " + b.dir:      func() string { return b.dir },
			"others may write to " + file:       func() string { os.Chmod(file, 0o722); return file },
			"others may write to " + b.dir:      func() string { os.Chmod(file, 0o700); os.Chmod(b.dir, 0o777); return file },
		} {
			what := spoil()
			code, said := run("5", what)
			b.want(72, code, said)
			if !strings.Contains(said, want) {
				b.Errorf("%q, want %q", said, want)
			}
			os.Chmod(b.dir, 0o700)
			os.Chmod(file, 0o700)
		}
	})
}
