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

	"yareharbour/core/estate"
)

// A guard that can't be read, is no number, or is gone lets no order through.
func TestADamagedGuardRefuses(t *testing.T) {
	onEachShell(t, func(b *bench) {
		for _, guard := range []string{"", "\n", "x R 7 sum\n", "5 R\n", "5 R x sum\n", "5 R 7 sum more\n", "-1 R 7 sum\n",
			"5", "99999999999999999999 R 7 sum\n", "\x00\x00\x00\n", "gone"} {
			b.write("private/guard", guard)
			if guard == "gone" {
				os.Remove(filepath.Join(b.dir, "private", "guard"))
			}
			code, said := b.order(9, "R9", "close", "op", "why")
			if code != 72 || !strings.Contains(said, "guard") && !strings.Contains(said, "no number") {
				b.Errorf("with %q it ends with %d: %s", guard, code, said)
			}
			if b.file("mark") != "" {
				b.Fatalf("with %q it closes", guard)
			}
			if _, err := parseGuard(guard); guard != "gone" && err == nil {
				b.Errorf("%q is read as a guard", guard)
			}
		}
		b.write("private/guard", "5 R 7 sum\n")
		for _, bad := range []string{"08", "9999999999999999", "-1", "1e3", " 6", "6\n7"} {
			if code, said := b.call("", "order", "act", bad, "R9", "1", "s", "claim"); code != 72 {
				b.Errorf("the epoch %q: it ends with %d: %s", bad, code, said)
			}
		}
	})
}

// What is not root's alone is not used, whoever could have written there.
func TestWhatIsNotPrivateIsRefused(t *testing.T) {
	onEachShell(t, func(b *bench) {
		for _, mode := range []os.FileMode{0o755, 0o777, 0o750} {
			if err := os.Chmod(filepath.Join(b.dir, "private"), mode); err != nil {
				b.Fatal(err)
			}
			code, said := b.order(1, "R", "claim")
			b.want(72, code, said)
		}
		if os.Geteuid() != 0 {
			return
		}
		if err := os.Chmod(filepath.Join(b.dir, "private"), 0o700); err != nil {
			b.Fatal(err)
		}
		if err := os.Chown(filepath.Join(b.dir, "private"), nobody, nobody); err != nil {
			b.Fatal(err)
		}
		code, said := b.order(1, "R", "claim")
		b.want(72, code, said)
	})
}

// Who holds the lock is said, and nobody waits for it for ever.
func TestAHeldLockIsTold(t *testing.T) {
	onEachShell(t, func(b *bench) {
		b.write("wrapper", strings.ReplaceAll(b.file("wrapper"), "lock 20", "lock 1"))
		b.write("private/holder", "close by R7, since 22:00:00Z\n")
		c := exec.CommandContext(b.Context(), "flock", filepath.Join(b.dir, "private", "lock"), "sleep", "30")
		if err := c.Start(); err != nil {
			b.Skip(err)
		}
		defer func() { _ = c.Process.Kill(); _ = c.Wait() }()
		for start := time.Now(); ; time.Sleep(10 * time.Millisecond) {
			code, said := b.order(1, "R", "claim")
			if code == 72 && strings.Contains(said, "close by R7, since 22:00:00Z") {
				return
			}
			if time.Since(start) > 30*time.Second {
				b.Fatalf("it ends with %d: %s", code, said)
			}
		}
	})
}

// Words with line breaks in them make no line of a mark.
func TestAReasonForgesNoMark(t *testing.T) {
	onEachShell(t, func(b *bench) {
		code, said := b.order(1, "R1", "close", "op\nround R9", "late\nround R9\nreason mine\x1b[2J"+strings.Repeat("x", 9999))
		b.want(0, code, said)
		mark := b.file("mark")
		if f := fields(mark); strings.Count(mark, "\n") != 4 || f["round"] != "R1" || strings.Contains(mark, "\x1b") ||
			len(mark) > 2000 {
			b.Errorf("its mark is %q", mark)
		}
		code, said = b.order(2, "R9", "open")
		b.want(72, code, said)
		code, said = b.order(3, "R1", "open")
		b.want(0, code, said)
	})
	if f := fields("round R1\nround R9\n"); f["round"] != "R1" {
		t.Errorf("the second line counts: %v", f)
	}
}

// A package that was damaged after it was staged is not put in, and is taken anew.
func TestWhatIsDamagedAfterwardsIsNotPutIn(t *testing.T) {
	onEachShell(t, func(b *bench) {
		b.manager("dpkg", "")
		b.manager("apt-mark", "")
		b.manager("apt-get", "case \" $* \" in *' -s '*) echo 'Inst keel [1.0] (2.0 Lab [all])' ;; esac\n")
		body := []byte("keel 2.0\n")
		hash := sha256.Sum256(body)
		sum := hex.EncodeToString(hash[:])
		stage := func() {
			b.Helper()
			b.n++
			code, said := b.call(string(body), "order", fmt.Sprintf("act%d", b.n), "1", "R", "1", "s", "stage", sum, "deb",
				fmt.Sprint(len(body)), "0")
			if b.want(0, code, said); said != sum {
				b.Errorf("it says %q", said)
			}
		}
		at := "private/staged/" + sum + ".deb"
		stage()
		b.write(at, "keel 6.6\n")
		code, said := b.order(1, "R", "install", "@"+sum+".deb/keel=2.0")
		if code != 72 || !strings.Contains(said, "was damaged on this host") || strings.Contains(b.file("asked"), "apt-get -y") {
			b.Errorf("it ends with %d: %s", code, said)
		}
		if b.file(at) != "" {
			b.Error("it keeps it")
		}
		stage()
		b.write(at, "keel 6.6\n")
		stage() // it is not enough that a file of that name is there
		if b.file(at) != string(body) {
			b.Errorf("it keeps %q", b.file(at))
		}
		// and between the question to the package manager and the deed
		b.manager("apt-get", "case \" $* \" in *' -s '*) echo bad >"+b.dir+"/"+at+
			"; echo 'Inst keel [1.0] (2.0 Lab [all])' ;; esac\n")
		before := b.file("asked")
		code, said = b.order(1, "R", "install", "@"+sum+".deb/keel=2.0")
		b.want(0, code, said)
		if end := b.finished(); end != "done 74" || strings.Contains(strings.TrimPrefix(b.file("asked"), before), "apt-get -y") {
			b.Errorf("%s; it asked %s", end, b.file("asked"))
		}
	})
}

// Only services are restarted, and none that ends power, sessions, guests or the network. The core has the same list.
func TestWhatTheWrapperNeverRestarts(t *testing.T) {
	onEachShell(t, func(b *bench) {
		b.manager("service", "")
		b.manager("systemctl", "")
		never := []string{"poweroff.target", "session-3.scope", "user.slice", "ssh", "ssh.socket", "-H.service", "a b.service",
			"a\nb.service", "$(id).service", "", ".service", strings.Repeat("a", 300) + ".service", "ssh.service.service"}
		for _, k := range estate.Kept {
			never = append(never, strings.ReplaceAll(k, "*", "x")+".service", strings.ReplaceAll(k, "*", "")+".service")
		}
		for _, unit := range never {
			if code, said := b.order(1, "R", "services", "ssh.service", unit); code != 72 {
				b.Errorf("%q: it ends with %d: %s", unit, code, said)
			}
			if estate.Restartable(unit) == nil && unit != "ssh.service.service" {
				b.Errorf("%q: the core lets it be restarted", unit)
			}
		}
		if b.file("asked") != "" {
			b.Errorf("it asked %s", b.file("asked"))
		}
		for _, unit := range []string{"ssh.service", `a\x2db@c:d_e.f.service`} {
			code, said := b.order(1, "R", "services", unit)
			b.want(0, code, said)
			b.finished()
		}
		if got := b.file("asked"); !strings.Contains(got, "service ssh restart") || !strings.Contains(got, `a\x2db@c:d_e.f`) {
			b.Errorf("it asked %s", got)
		}
	})
}

// A host is restarted only where no emulator of libvirt's or the system's runs, whatever it is called; and what anybody
// else calls an emulator keeps no host from it.
func TestTheGuardOfARestart(t *testing.T) {
	onEachShell(t, func(b *bench) {
		b.manager("reboot", "")
		b.manager("logger", "")
		// emulators of this very machine, and of this test on another shell, are none of its own
		mine := "qemu-system-" + filepath.Base(b.Name())
		b.write("wrapper", strings.NewReplacer("/run/systemd/system", b.dir+"/no-systemd", "qemu-system-*", mine+"*").
			Replace(b.file("wrapper")))
		b.write("mark", "round R\nby op\nat now\nreason x\n")
		listed := ""
		refused := func(what string) {
			b.Helper()
			code, said := b.order(1, "R", "restart", "why", listed)
			if code != 72 || !strings.Contains(said, "not empty") {
				b.Errorf("%s: it ends with %d: %s", what, code, said)
			}
		}
		program := func(name string, uid int, place string) (pid int, stop func()) {
			b.Helper()
			text, err := os.ReadFile("/bin/sleep")
			if err != nil {
				b.Skip(err)
			}
			dir, err := os.MkdirTemp("", "emulator")
			if err != nil {
				b.Fatal(err)
			}
			if err := os.Chmod(dir, 0o755); err != nil {
				b.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(dir, name), text, 0o755); err != nil {
				b.Fatal(err)
			}
			c := own(b.T, []string{dir + " " + place}, "setpriv", fmt.Sprint("--reuid=", uid), "--clear-groups", place+"/"+name, "60")
			if err := c.Start(); err != nil {
				b.Fatal(err)
			}
			for start := time.Now(); ; time.Sleep(10 * time.Millisecond) {
				if exe, _ := os.Readlink(fmt.Sprintf("/proc/%d/exe", c.Process.Pid)); filepath.Base(exe) == name {
					break
				}
				if time.Since(start) > 20*time.Second {
					b.Fatal("it does not start")
				}
			}
			return c.Process.Pid, func() { _ = c.Process.Kill(); _ = c.Wait(); os.RemoveAll(dir) }
		}
		driver, end := program("libvirtd", 0, "/usr/local/lib")
		b.write("run/driver.pid", fmt.Sprint(driver)) // libvirt's own, which is no guest's
		b.write("run/web.pid", fmt.Sprint(os.Getpid()))
		refused("a guest that libvirt has written down")
		os.Remove(filepath.Join(b.dir, "run", "web.pid"))
		_, end2 := program(mine, 0, "/usr/local/lib")
		refused("an emulator of root's that libvirt knows nothing of")
		end2()
		b.manager("virsh", "echo 5e1f\n")
		refused("a guest that libvirt lists")
		b.manager("virsh", "echo 'error: failed to connect' >&2; exit 1\n")
		refused("a libvirt that can't be asked")
		b.manager("virsh", "")
		b.write("run/old.pid", "999999999")
		listed = "web"
		refused("a guest that libvirt listed to whoever orders it")
		if code, said := b.order(1, "R", "restart", "why"); code != 72 {
			b.Errorf("without what libvirt listed it ends with %d: %s", code, said)
		}
		listed = ""
		_, end2 = program(mine, nobody, "/usr/local/lib")
		code, said := b.order(1, "R", "restart", "why\nnot", "")
		b.want(0, code, said)
		end2()
		end()
		if got := b.finished(); got != "done 0" || !strings.Contains(b.file("asked"), "logger -t yare -- restarts: why not\n") {
			b.Errorf("%s: %s", got, b.file("asked"))
		}
	})
}

// Who takes a host's configuration slowly, or goes away, keeps no order waiting and leaves no copy of it there.
func TestABackupIsTakenSlowly(t *testing.T) {
	onEachShell(t, func(b *bench) {
		etc := filepath.Join(b.dir, "etc")
		if err := os.Mkdir(etc, 0o700); err != nil {
			b.Fatal(err)
		}
		secret := bytes.Repeat([]byte("0123456789abcdef"), 1<<16)
		for i := range secret {
			secret[i] = byte(i*i>>3 ^ i*2654435761>>13)
		}
		if err := os.WriteFile(filepath.Join(etc, "shadow"), secret, 0o600); err != nil {
			b.Fatal(err)
		}
		b.write("wrapper", strings.ReplaceAll(b.file("wrapper"), "tar -C /", "tar -C "+b.dir))
		words := []string{filepath.Join(b.dir, "wrapper"), "order", "keep", "1", "R", "1", "s", "backup"}
		if filepath.Base(b.shell) == "busybox" {
			words = append([]string{"sh"}, words...)
		}
		c := exec.CommandContext(b.Context(), b.shell, words...)
		out, err := c.StdoutPipe()
		if err == nil {
			err = c.Start()
		}
		if err != nil {
			b.Fatal(err)
		}
		first := make([]byte, 65)
		for n := 0; n < len(first); {
			m, err := out.Read(first[n:])
			if n += m; err != nil {
				b.Fatal(err)
			}
		}
		start := time.Now()
		code, said := b.order(1, "R", "claim")
		if b.want(0, code, said); time.Since(start) > 10*time.Second {
			b.Errorf("it waited for %s", time.Since(start))
		}
		if err := c.Process.Kill(); err != nil {
			b.Fatal(err)
		}
		_ = c.Wait()
		left, _ := filepath.Glob(filepath.Join(b.dir, "private", "acts", "keep", "*"))
		for _, f := range left {
			if st, err := os.Stat(f); err == nil && st.Size() > 1<<19 {
				b.Errorf("%s is left, of %d bytes", f, st.Size())
			}
		}
	})
}

// A person who may log in, and is nobody else, can neither hold the lock nor read or change what is private.
func TestNobodyTouchesWhatIsPrivate(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("not root: there is nobody else here")
	}
	onEachShell(t, func(b *bench) {
		for d := b.dir; d != "/tmp" && d != "/"; d = filepath.Dir(d) {
			if err := os.Chmod(d, 0o755); err != nil {
				b.Fatal(err)
			}
		}
		code, said := b.order(1, "R", "close", "op", "patches")
		b.want(0, code, said)
		for _, try := range []string{"flock -n private/lock true", "cat private/guard", "ls private/acts", "echo x >private/guard",
			"echo x >mark", "rm -f mark", "mv wrapper w", "mkdir private/staged/x"} {
			c := exec.CommandContext(b.Context(), "setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "sh", "-c", try)
			if c.Dir = b.dir; c.Run() == nil {
				b.Errorf("nobody may: %s", try)
			}
		}
		c := exec.CommandContext(b.Context(), "setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "cat", "mark")
		c.Dir = b.dir
		if out, err := c.Output(); err != nil || !slices.Contains(strings.Split(string(out), "\n"), "round R") {
			b.Errorf("nobody may see that it is closed: %v %s", err, out)
		}
	})
}
