package lab

import (
	"fmt"
	"maps"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/connector/linux"
	"yareharbour/core/act"
	"yareharbour/core/course"
)

// keel is a change that needs a restart of the host, and so an empty host.
var keel = wants{{"deb:keel", "2.0", "keel_2.0_all.deb", "host"}}

// alive holds the guests to what they were: each runs on exactly one host, and was never started again.
func alive(t *trial, before map[string]string, but ...string) {
	t.Helper()
	after := map[string][]string{}
	for _, h := range hosts {
		if exec.CommandContext(t.Context(), "ssh", "-F", t.lab("ssh_config"), "-o", "ConnectTimeout=5",
			h, "true").Run() != nil {
			continue // it is off
		}
		for _, g := range running(t, h) {
			after[g] = append(after[g], h)
		}
	}
	for g, nonce := range before {
		if slices.Contains(but, g) {
			continue
		}
		if at := after[g]; len(at) != 1 {
			t.Errorf("%s runs on %v", g, at)
		} else if now, _ := life(t, g); now != nonce {
			t.Errorf("%s was started again: it was %s and is %s", g, nonce, now)
		}
	}
}

// The target of a move loses its power while the guest is on its way: the guest runs on where it was, the round stops
// and says so, and when the host is back it goes on to its end.
func TestPowerLostAtTheTargetOfAMove(tt *testing.T) {
	t := enlist(tt)
	fresh(t, "fat")
	bmc := bmcs(t)
	s := settle(t, keel, bmc, 1)
	before := lives(t)
	f := s.visits(t)
	to := f.until(course.Accepted, act.Move).Act.To
	time.Sleep(3 * time.Second)
	dead := running(t, to)
	switchPower(t, bmc, to, "ForceOff")
	out := f.ends(1)
	if !strings.Contains(out, to) {
		t.Errorf("it does not say that %s is away", to)
	}
	for _, g := range running(t, "h1") {
		if now, _ := life(t, g); now != before[g] {
			t.Errorf("%s was started again", g)
		}
	}
	switchPower(t, bmc, to, "On")
	s.must(t, 0, "round", "resume", "piers")
	alive(t, before, dead...)
}

// The source loses its power in the middle of a move. Nobody acts for it while it is away; when it is back its guests
// are where they were, off, and none runs twice.
func TestPowerLostAtTheSourceOfAMove(tt *testing.T) {
	t := enlist(tt)
	fresh(t, "fat")
	bmc := bmcs(t)
	s := settle(t, keel, bmc, 1)
	before := lives(t)
	f := s.visits(t)
	f.until(course.Accepted, act.Move)
	time.Sleep(3 * time.Second)
	switchPower(t, bmc, "h1", "ForceOff")
	if out := f.ends(1); !strings.Contains(out, "not on h1, whose power is off") {
		t.Error("its power is no proof")
	}
	alive(t, before, "g1-1", "g1-2", "g1-3")
	switchPower(t, bmc, "h1", "On")
	if left := running(t, "h1"); len(left) > 0 {
		t.Errorf("%v run on it by themselves", left)
	}
	on(t, "h1", "for g in g1-1 g1-2 g1-3; do virsh -q start $g; done") // what the administrator does
	s.must(t, 0, "round", "resume", "piers")
	alive(t, before, "g1-1", "g1-2", "g1-3")
	if got := on(t, "h1", "keel"); got != "keel 2.0" {
		t.Error(got)
	}
}

// A cable that is out for a while costs time and nothing else: in a move, while a package is staged, while packages go
// in.
func TestACableThatIsOutForAWhile(tt *testing.T) {
	t := enlist(tt)
	fresh(t, "fat")
	bmc := bmcs(t)
	s := settle(t, wants{{"deb:keel", "2.0", "keel_2.0_all.deb", "host"},
		{"deb:tide-gauge", "2.0", "tide-gauge_2.0_all.deb", "service"}}, bmc, 2)
	before := lives(t)
	f := s.visits(t)
	for _, kind := range []act.Name{act.Stage, act.Move, act.Install} {
		f.until(course.Intent, kind)
		run(t, "cut", "h1")
		time.Sleep(4 * time.Second)
		run(t, "uncut", "h1")
	}
	f.ends(0)
	s.must(t, 0, "check", "h1")
	alive(t, before)
}

// libvirt's daemon crashes in a drain and is started again, and later it hangs for a while: what can't be read is
// waited for, and never taken for empty.
func TestLibvirtCrashesAndHangs(tt *testing.T) {
	t := enlist(tt)
	fresh(t, "fat")
	s := settle(t, keel, bmcs(t), 2)
	before := lives(t)
	f := s.visits(t)
	f.until(course.Accepted, act.Move)
	on(t, "h1", "lab-svc crash libvirtd")
	time.Sleep(5 * time.Second)
	on(t, "h1", "lab-svc start libvirtd")
	f.until(course.Done, act.Move)
	on(t, "h1", "kill -STOP $(cat /run/libvirtd.pid)")
	time.Sleep(8 * time.Second)
	on(t, "h1", "kill -CONT $(cat /run/libvirtd.pid)")
	f.ends(0)
	s.must(t, 0, "check", "h1")
	alive(t, before)
}

// dpkg is held by somebody else for a while: it is waited for.
func TestDpkgIsLockedByAnother(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, wants{{"deb:tide-gauge", "2.0", "tide-gauge_2.0_all.deb", "service"}}, bmcs(t), 0)
	before := lives(t)
	on(t, "h1", `setsid perl -e 'use Fcntl; open F, ">>", "/var/lib/dpkg/lock-frontend";
$l = pack("s s x4 q q i x4", F_WRLCK, 0, 0, 0, 0); fcntl(F, F_SETLK, $l) or die; sleep 25' >/dev/null 2>&1 </dev/null &`)
	s.must(t, 0, "round", "start", "piers", "--hosts", "h1", "--prepare", "--reason", "patches")
	if got := on(t, "h1", "cat /var/lib/yare/private/acts/*/log"); !strings.Contains(got, "lock") {
		t.Errorf("nobody waited for the lock:\n%s", got)
	}
	alive(t, before)
	if got := on(t, "h1", "tail -c 23 /proc/$(cat /run/tide-gauge.pid)/exe"); got != "This is tide-gauge 2.0" {
		t.Errorf("its service runs %q", got)
	}
	for _, g := range []string{"g1-1", "g1-2", "g1-3"} {
		if !slices.Contains(running(t, "h1"), g) {
			t.Errorf("%s was moved for a package that needs no empty host", g)
		}
	}
}

// A package whose own script fails stops the round with what a person must do; the host stays closed for that, and when
// it is mended the round goes on.
func TestAPackageLeftHalfConfigured(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, wants{{"deb:reef", "1.0", "reef_1.0_all.deb", "none"},
		{"deb:keel", "2.0", "keel_2.0_all.deb", "host"}}, bmcs(t), 0)
	before := lives(t)
	out := s.must(t, 1, "round", "start", "piers", "--hosts", "h1", "--prepare", "--reason", "patches")
	if !strings.Contains(out, "deb:reef 1.0 is half-configured: the reef is hit; dpkg: error") {
		t.Error("it does not say what is wrong")
	}
	if mark := on(t, "h1", "cat /var/lib/yare/mark"); !strings.Contains(mark, "reason") {
		t.Errorf("it is open: %s", mark)
	}
	s.must(t, 1, "round", "resume", "piers") // nothing was mended, and nothing is done again on hope
	on(t, "h1", "rm -f /var/lib/dpkg/info/reef.postinst && dpkg --configure -a")
	s.must(t, 0, "round", "resume", "piers")
	s.must(t, 0, "check", "h1")
	alive(t, before)
}

// A host that has no room for a package says so, and nothing is left behind; when there is room the round goes on.
func TestADiskThatIsFull(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, keel, bmcs(t), 0)
	s.must(t, 0, "host", "prepare", "h1", "h2", "h3", "--yes")
	on(t, "h1", "mount -t tmpfs -o size=64k tmpfs /var/lib/yare/private/staged && head -c 60000 /dev/zero "+
		">/var/lib/yare/private/staged/full || true")
	out := s.must(t, 1, "round", "start", "piers", "--hosts", "h1", "--reason", "patches")
	if !strings.Contains(out, "no room") {
		t.Error("it does not say that there is no room")
	}
	on(t, "h1", "umount /var/lib/yare/private/staged")
	s.must(t, 0, "round", "resume", "piers")
	s.must(t, 0, "check", "h1")
}

// A guest that writes faster than it can be sent is given up where it is, and the round says so.
func TestAGuestThatNeverConverges(tt *testing.T) {
	t := enlist(tt)
	fresh(t, "busy")
	s := settle(t, keel, bmcs(t), 0)
	before := lives(t)
	for _, h := range hosts { // a network that carries 4 MiB a second
		if out, err := exec.CommandContext(t.Context(), "tc", "qdisc", "add", "dev", fmt.Sprintf("yare%d-%s", t.n, h),
			"root", "tbf", "rate", "32mbit", "burst", "64kb", "latency", "400ms").CombinedOutput(); err != nil {
			t.Fatalf("tc: %v %s", err, out)
		}
		on(t, h, "tc qdisc add dev eth0 root tbf rate 32mbit burst 64kb latency 400ms")
	}
	out := s.must(t, 1, "round", "start", "piers", "--hosts", "h1", "--prepare", "--reason", "patches")
	if !strings.Contains(out, "writes its memory as fast") {
		t.Error("it does not say why the guest stays")
	}
	alive(t, before)
}

// A host that comes back without a network that its guests are on is not reopened.
func TestAHostComesBackWithoutANetwork(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, keel, bmcs(t), 0)
	for _, h := range hosts {
		on(t, h, "ip link add brg type bridge && ip link set brg up")
	}
	f := s.visits(t)
	f.until(course.Intent, act.Restart)
	waitUntil(t, "the bridge can be taken away while it restarts", func() bool { return link(t, "h1", "del", "brg") })
	if out := f.ends(1); !strings.Contains(out, "the network brg is gone") {
		t.Error("it does not say what is missing")
	}
	if mark := on(t, "h1", "cat /var/lib/yare/mark"); !strings.Contains(mark, "brg") {
		t.Errorf("its mark does not say why: %s", mark)
	}
	on(t, "h1", "ip link add brg type bridge && ip link set brg up")
	s.must(t, 0, "round", "resume", "piers")
}

// Another state directory on the same hosts: whoever comes second is told, and does nothing.
func TestASecondRunner(tt *testing.T) {
	t := enlist(tt)
	fresh(t, "fat")
	bmc := bmcs(t)
	first, second := settle(t, keel, bmc, 2), settle(t, keel, bmc, 2)
	before := lives(t)
	f := first.begin(t, "round", "start", "piers", "--hosts", "h1", "--prepare", "--reason", "first")
	f.until(course.Accepted, act.Move)
	if out := second.must(t, 1, "round", "start", "piers", "--reason", "second"); !strings.Contains(out,
		"--take-over") {
		t.Error("the second is not told what to do")
	}
	f.ends(0)
	alive(t, before)
}

// The runner is killed at each entry of the journal, started again and resumed: in the end all is as if nothing had
// happened, and nothing was begun twice.
func TestTheRunnerIsKilledAtEachEntry(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, wants{{"deb:keel", "2.0", "keel_2.0_all.deb", "host"},
		{"deb:tide-gauge", "2.0", "tide-gauge_2.0_all.deb", "service"}}, bmcs(t), 0)
	before := lives(t)
	s.must(t, 0, "host", "prepare", "piers", "--yes")
	killed := map[string]bool{} // at which entries, each once: what a kill makes necessary is not killed again
	fresh := func(since int64) string {
		for _, e := range s.journal(t) {
			key := string(e.Kind)
			if e.Act != nil {
				key += " " + string(e.Act.Kind) + " " + e.Act.Guest
			}
			if e.Seq > since && !killed[key] {
				return key
			}
		}
		return ""
	}
	for args := []string{"round", "start", "piers", "--hosts", "h1", "--reason", "killed"}; ; args = []string{"round",
		"resume", "piers"} {
		f := s.begin(t, args...)
		key := ""
		for ended := false; key == "" && !ended; time.Sleep(20 * time.Millisecond) {
			select {
			case <-f.done:
				ended = true
			default:
				key = fresh(f.seen)
			}
		}
		if key == "" {
			// the last kill may have come when all was written
			if code := f.cmd.ProcessState.ExitCode(); code != 0 && !strings.Contains(f.out.String(), "is finished") {
				t.Fatalf("exit status %d:\n%s", code, f.out)
			}
			break
		}
		f.kill()
		killed[key] = true
	}
	if t.Logf("killed at %d entries: %v", len(killed), slices.Sorted(maps.Keys(killed))); len(killed) < 20 {
		t.Error("it was hardly killed")
	}
	s.must(t, 0, "check", "h1")
	alive(t, before)
	if n := on(t, "h1", "grep -c ' upgrade keel' /var/log/dpkg.log"); n != "1" {
		t.Errorf("keel was put in %s times", n)
	}
	if log := supervised(t, "h1"); strings.Count(log, "rc=42") != 1 {
		t.Errorf("it was not restarted once:\n%s", log)
	}
}

// Power is lost while a package's own script runs. The host stays closed, its guests are elsewhere and live; what was
// left half done is told, and when it is mended the round goes on.
func TestPowerLostInAnInstall(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	bmc := bmcs(t)
	s := settle(t, wants{{"deb:anchor", "1.0", "anchor_1.0_all.deb", "host"}}, bmc, 0)
	before := lives(t)
	f := s.visits(t)
	f.until(course.Accepted, act.Install)
	waitUntil(t, "the package is being configured", func() bool {
		return strings.Contains(on(t, "h1", "cat /var/lib/yare/private/acts/*/log"), "Setting up anchor")
	})
	switchPower(t, bmc, "h1", "ForceOff")
	f.ends(1)
	alive(t, before)
	switchPower(t, bmc, "h1", "On")
	if mark := on(t, "h1", "cat /var/lib/yare/mark"); !strings.Contains(mark, "round ") {
		t.Errorf("it is open: %s", mark)
	}
	// as far as it had come to disk
	if out := s.must(t, 1, "round", "resume", "piers"); !strings.Contains(out,
		"deb:anchor 1.0 is unpacked: the host restarted while it ran") &&
		!strings.Contains(out, "deb:anchor 1.0 is half-configured: the host restarted while it ran") {
		t.Error("it does not say what was left")
	}
	on(t, "h1", "dpkg --configure -a")
	s.must(t, 0, "round", "resume", "piers")
	s.must(t, 0, "check", "h1")
	alive(t, before)
}

// A host whose program was replaced by something hostile costs its limit and no more: nothing that it says is run,
// shown as it is, or believed.
func TestAHostileHost(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	bmc := bmcs(t)
	settle(t, keel, bmc, 0).must(t, 0, "host", "prepare", "piers", "--yes")
	// whoever owns the host makes its hashes lie, too
	program := linux.WrapperPath
	on(t, "h1", "both=$(sha256sum /var/lib/yare/probe "+program+") one=$(sha256sum <"+program+") && rm /usr/bin/sha256sum && "+
		"printf '#!/bin/sh\\n[ $# -ge 2 ] && echo \"%s\" || echo \"%s\"\\n' \"$both\" \"$one\" >/usr/bin/sha256sum && "+
		"chmod 755 /usr/bin/sha256sum")
	for name, c := range map[string]struct{ script, says string }{
		"it answers with control characters": {"printf '\\033[2J\\033]0;gotcha\\007\\033[31mred\\n' >&2; exit 72",
			"h1 refuses"},
		"it answers without end":            {"yes 'done 0'", "h1"},
		"it complains without end":          {"yes no >&2", "h1"},
		"it ends with a status of its own":  {"exit 99", "the wrapper ended with 99"},
		"it takes all orders and does none": {"exit 0", "✗"},
	} {
		on(t, "h1", fmt.Sprintf("printf '#!/bin/sh\\n%%s\\n' %s >%s && chmod 755 %s",
			quoted(c.script), program, program))
		start := time.Now()
		out, code := settle(t, keel, bmc, 0).run(t, "round", "start", "piers", "--hosts", "h1", "--take-over",
			"--reason", "hostile")
		if code != 1 || !strings.Contains(out, c.says) {
			t.Errorf("%s: exit status %d, and it does not say %q", name, code, c.says)
		}
		if strings.ContainsAny(out, "\x1b\x07") {
			t.Errorf("%s: control characters came through: %q", name, out)
		}
		if took := time.Since(start); took > 4*time.Minute {
			t.Errorf("%s: it took %s", name, took)
		}
		if got := on(t, "h1", "keel"); got != "keel 1.0" {
			t.Errorf("%s: %s", name, got)
		}
	}
}

// quoted makes one word for a shell.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
