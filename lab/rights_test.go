package lab

import (
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// sudoers are the lines that docs/security.md publishes.
func sudoers(t *trial) string {
	t.Helper()
	text, err := os.ReadFile("../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(text), "```sudoers\n")
	lines, _, ok := strings.Cut(rest, "```")
	if !ok || !strings.Contains(lines, "NOPASSWD") {
		t.Fatal("docs/security.md publishes no lines for sudo")
	}
	return lines
}

// login makes an account on every host that the operator's key opens.
func login(t *trial, name string) {
	t.Helper()
	for _, h := range hosts {
		on(t, h, "useradd -m -s /bin/sh -p '*' "+name+" && mkdir -p ~"+name+"/.ssh && cp /root/.ssh/authorized_keys ~"+name+
			"/.ssh/ && chown -R "+name+" ~"+name+" && chmod 700 ~"+name+" ~"+name+"/.ssh")
	}
}

// as runs a command on a host as somebody, and says whether it ended well.
func as(t *trial, name, host, command string) (string, bool) {
	t.Helper()
	out, err := exec.CommandContext(t.Context(), "ssh", "-F", t.lab("ssh_config"), "-l", name, host, command).CombinedOutput()
	return strings.TrimSpace(string(out)), err == nil
}

// edit changes the site's estate file.
func (s *site) edit(t *trial, from, to string) {
	t.Helper()
	file := filepath.Join(s.dir, "estate.yaml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !regexp.MustCompile(from).Match(text) {
		t.Fatalf("%s is not in %s", from, text)
	}
	if err := os.WriteFile(file, regexp.MustCompile(from).ReplaceAll(text, []byte(to)), 0o600); err != nil {
		t.Fatal(err)
	}
}

// A whole round by a login that may run two programs and libvirt's helper as root, and nothing else. Meanwhile a local
// user does what they can.
func TestALoginThatMayDoLittle(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, rolling(t), bmcs(t), 0)
	before := lives(t)
	s.must(t, 0, "host", "prepare", "piers", "--yes")
	login(t, "watch")
	login(t, "mallory")
	lines := sudoers(t)
	for _, h := range hosts {
		on(t, h, "cat >/etc/sudoers.d/yare <<'E'\n"+lines+"E\nchmod 440 /etc/sudoers.d/yare; visudo -cq; chmod 700 "+
			"/run/libvirt/libvirt-sock")
	}
	s.edit(t, "kind: ssh\n", "kind: ssh\n  user: watch\n  sudo: true\n")
	for _, try := range []string{"sudo -n sh -c id", "sudo -n cat /var/lib/yare/private/guard", "sudo -n virt-ssh-helper lxc:///",
		"sudo -n env /var/lib/yare/wrapper ready",
		"sudo -n /var/lib/yare/wrapper trace ../../etc"} {
		if out, ok := as(t, "watch", "h1", try); ok {
			t.Errorf("watch may %s: %s", try, out)
		}
	}
	// a local user names what they can, and holds what they can
	canary := "/tmp/canary"
	for _, h := range hosts {
		if out, ok := as(t, "mallory", h, `cd /tmp && for n in "$(printf 'a\n--pipe=touch `+canary+`')" 'qemu-system-x86_64' '$(touch `+canary+`)' '-rf'; do
			cp /bin/sleep "./x"; mv ./x "./$n"; ("./$n" 900 </dev/null >/dev/null 2>&1 &); sleep 0.2; rm -f "./$n"; done
			flock -n /var/lib/yare/private/lock true; flock -n /var/lib/yare/mark sleep 900 </dev/null >/dev/null 2>&1 &
			cat /var/lib/yare/private/guard 2>/dev/null; ls /var/lib/yare/private 2>/dev/null; true`); !ok || out != "" &&
			!strings.Contains(out, "ermission denied") && !strings.Contains(out, "cannot open") {
			t.Errorf("%s: %s", h, out)
		}
		// a tree of control groups of their own, in which the units are called as the system's
		on(t, h, "g=/sys/fs/cgroup/user.slice/user-1000.slice/user@1000.service; for u in systemd-poweroff dbus tide-gauge; do "+
			"mkdir -p $g/$u.service; chown -R mallory $g; setpriv --reuid=mallory --clear-groups sleep 900 </dev/null >/dev/null 2>&1 & "+
			"echo $! >$g/$u.service/cgroup.procs; done")
	}
	s.must(t, 0, "connect", "piers")
	s.must(t, 3, "check", "piers")
	out := s.must(t, 0, "plan", "piers")
	if !strings.Contains(out, "restarts tide-gauge.service") || strings.Contains(out, "poweroff") || strings.Contains(out, "dbus") {
		t.Error("the plan does not name the one service that restarts")
	}
	s.must(t, 0, "round", "start", "piers", "--reason", "November patches")
	s.must(t, 0, "check", "piers")
	if after := lives(t); !maps.Equal(before, after) {
		t.Errorf("guests did not live through it:\nbefore %v\nafter  %v", before, after)
	}
	for _, h := range hosts {
		if got := on(t, h, "ls "+canary+" 2>/dev/null; stat -c '%U %a %n' /var/lib/yare /var/lib/yare/*"); strings.Contains(got,
			canary) || !strings.Contains(got, "root 755 /var/lib/yare\n") ||
			!strings.Contains(got, "root 700 /var/lib/yare/private") {
			t.Errorf("%s: %s", h, got)
		}
	}
	if out, ok := as(t, "watch", "h1", "sudo -n /var/lib/yare/wrapper order x 999999 R 1 s services systemd-poweroff.service"); ok ||
		!strings.Contains(out, "systemd-poweroff.service is not restarted") {
		t.Errorf("a service that ends power: %s", out)
	}
	// a program that is not the one that belongs there is not run
	on(t, "h1", "echo 'touch "+canary+"' >>/var/lib/yare/probe; echo 'touch "+canary+"' >>/var/lib/yare/wrapper")
	if out := s.must(t, 4, "read", "h1"); !strings.Contains(out, "may not be run as root by sudo") {
		t.Error("it does not say that it may not be read")
	}
	if got := on(t, "h1", "ls "+canary+" 2>/dev/null; true"); got != "" {
		t.Error("a program that was tampered with was run")
	}
}

// Guests move by keys that are made for that, on hosts whose root has no key to any other; they open nothing else.
func TestGuestsMoveByKeysOfTheirOwn(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, keel, bmcs(t), 0)
	s.edit(t, `  migration: .*\n`, "")
	for _, h := range hosts {
		on(t, h, "rm /root/.ssh/id_ed25519 /root/.ssh/config; echo 'ssh-ed25519 AAAA somebody@else' >>/root/.ssh/authorized_keys")
	}
	before := lives(t)
	s.must(t, 4, "host", "prepare", "piers", "--json")
	s.must(t, 0, "host", "prepare", "piers", "--yes")
	s.must(t, 0, "host", "prepare", "piers", "--json")
	for _, try := range []string{"id", "cat /etc/shadow", ""} {
		if out := on(t, "h1", "/var/lib/yare/hop root@h2 "+try+" </dev/null 2>&1 | head -c 2000; true"); strings.Contains(out, "uid=") ||
			strings.Contains(out, "root:") {
			t.Errorf("the key opens more than libvirt: %s", out)
		}
	}
	if out := on(t, "h1", "/var/lib/yare/hop -N -L 5900:127.0.0.1:22 -o ExitOnForwardFailure=yes root@h2 </dev/null 2>&1 & sleep 2; "+
		"timeout 3 sh -c 'exec 3<>/dev/tcp/127.0.0.1/5900; head -c 4 <&3' 2>&1; kill %1 2>/dev/null; true"); strings.Contains(out, "SSH-") {
		t.Errorf("the key forwards: %s", out)
	}
	s.must(t, 0, "round", "start", "piers", "--reason", "keels")
	if after := lives(t); !maps.Equal(before, after) {
		t.Errorf("guests did not live through it:\nbefore %v\nafter  %v", before, after)
	}
	s.must(t, 0, "host", "remove", "piers", "--yes")
	for _, h := range hosts {
		if got := on(t, h, "cat /root/.ssh/authorized_keys; ls -d /var/lib/yare 2>/dev/null; true"); strings.Contains(got, "yare") ||
			!strings.Contains(got, "somebody@else") {
			t.Errorf("%s: %s", h, got)
		}
	}
}
