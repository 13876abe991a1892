package lab

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/estate"
	"yareharbour/e2e/drive"
	"yareharbour/sim"
)

// A whole rolling patch with real packages, from the command line: one restarts a service, one replaces the emulator,
// one needs a restart of the host. Every guest lives through it.
func TestARollingPatch(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, rolling(t), bmcs(t), 0)
	before := lives(t)
	if len(before) != 9 {
		t.Fatalf("%d guests run", len(before))
	}
	boots := map[string]string{}
	for _, h := range hosts {
		boots[h] = on(t, h, "cat /proc/sys/kernel/random/boot_id")
	}
	s.must(t, 3, "check", "piers")
	s.must(t, 4, "host", "prepare", "piers", "--json")
	s.run(t, "plan", "piers")
	s.must(t, 0, "host", "prepare", "piers", "--yes")
	s.must(t, 0, "host", "prepare", "piers", "--json")
	seen := drive.Open(t.TB.(*testing.T), yare, 160, 45, []string{bmcSecret + "=" + s.secret}, "--state", s.dir)
	seen.Wait(`piers`)
	var wait sync.WaitGroup
	wait.Go(func() { s.must(t, 0, "round", "start", "piers", "--reason", "November patches") })
	seen.Wait(`(?i)round`)
	seen.Keys("r")
	for _, what := range []string{`h1.*move`, `h1.*change`, `h2.*restart`, `finished`} {
		seen.Wait(what)
		t.Log(seen.Text())
	}
	wait.Wait()
	seen.Keys("q")
	s.must(t, 0, "check", "piers")
	if after := lives(t); !maps.Equal(before, after) {
		t.Errorf("guests did not live through it:\nbefore %v\nafter  %v", before, after)
	}
	for _, h := range hosts {
		if boot := on(t, h, "cat /proc/sys/kernel/random/boot_id"); boot == boots[h] {
			t.Errorf("%s was not restarted", h)
		}
		if got := on(t, h, "keel; tail -n 1 /usr/sbin/tide-gauged; ls /var/lib/yare"); !strings.Contains(got,
			"keel 2.0") || !strings.Contains(got, "tide-gauge 2.0") || strings.Contains(got, "mark") {
			t.Errorf("%s: %s", h, got)
		}
	}
	s.must(t, 0, "host", "remove", "piers", "--yes")
	for _, h := range hosts {
		if left := on(t, h, "ls -d /var/lib/yare /etc/libvirt/hooks/qemu.d/yare 2>/dev/null; true"); left != "" {
			t.Errorf("%s: %s is left", h, left)
		}
	}
}

// Whoever has three hosts has an estate file after a few answers; what it says is read from the hosts, and it can be
// gone on with.
func TestAnEstateFileFromAFewAnswers(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	a := bmcs(t)
	s := &site{t.TempDir(), a.Secret}
	file := filepath.Join(s.dir, "estate.yaml")
	c := s.command(t, "estate", "init", "--ssh-config", t.lab("ssh_config"), "--known-hosts",
		t.lab("known_hosts"), "--estate", file)
	c.Stdin = strings.NewReader("Merrow Sound\nh1, h2 h3\npiers\nn\n" + a.BMC["h1"] + "\ny\n" + sim.User + "\nenv:" +
		bmcSecret + "\n" + "\n" + a.BMC["h3"] + "\nn\n")
	out, err := c.CombinedOutput()
	t.Logf("%s", out)
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Merrow Sound", "[h1, h2, h3]", "qemu+ssh://root@%h/system",
		a.Fingerprint, "act: false"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("it lacks %q:\n%s", want, text)
		}
	}
	if strings.Contains(string(text), a.Secret) || strings.Contains(string(text), a.BMC["h3"]) {
		t.Errorf("it has what it should not have:\n%s", text)
	}
	s.must(t, 0, "read", "h1")
	if out, code := s.run(t, "round", "start", "piers", "--reason", "too early"); code != 1 ||
		!strings.Contains(out, "act: true") {
		t.Error("a cluster that is only looked at is acted on")
	}
	if out, _ := s.run(t, "estate", "init", "--estate", file); !strings.Contains(out, "--replace") {
		t.Error("it would replace the file")
	}
}

// What a package brings along is asked of the host when the round is planned, shown, and brought; what it would take
// away, and what the host holds back, is an obstacle there, and a host that answers otherwise later stops the round.
func TestWhatComesAlong(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, wants{{"deb:fender", "2.0", "fender_2.0_all.deb", "none"}}, bmcs(t), 0)
	s.must(t, 0, "host", "prepare", "piers", "--yes")
	out := s.must(t, 0, "plan", "piers", "--hosts", "h1")
	if !strings.Contains(out, "deb:buoy 1.0 comes along") {
		t.Error("the plan does not say what comes along")
	}
	on(t, "h2", "apt-mark hold fender")
	if out := s.must(t, 0, "plan", "piers", "--hosts", "h2"); !strings.Contains(out,
		"its package manager would refuse: fender is held on it") {
		t.Error("the plan does not say that it is held")
	}
	// What is brought ahead waits there, and goes once it was put in.
	if out := s.must(t, 0, "stage", "piers", "--hosts", "h1"); !strings.Contains(out, "1 payload waits there") {
		t.Error("nothing was brought ahead")
	}
	if out := s.must(t, 0, "plan", "piers", "--hosts", "h1"); !strings.Contains(out, "its payload waits there") {
		t.Error("the plan does not know what waits on h1")
	}
	f := s.begin(t, "round", "start", "piers", "--hosts", "h1", "--reason", "fenders", "--hook",
		"after change on host: /usr/bin/tee /run/told")
	f.ends(0)
	if got := on(t, "h1", "ls /var/lib/yare/private/staged; cat /run/told"); !strings.Contains(got, `"reason":"fenders"`) ||
		strings.Contains(got, ".deb\n") {
		t.Errorf("what waits there, and what the hook was told: %s", got)
	}
	if got := on(t, "h1", "dpkg-query -W -f '${Version} ' fender buoy"); got != "1.0 2.0" {
		t.Error(got)
	}
	if out := f.out.String(); strings.Contains(out, "unasked") {
		t.Error("what was planned is said to be unasked")
	}
	// Between plan and act the packages are held there: the host refuses then.
	// Its tar waits, and with it the step before.
	on(t, "h3", `touch /run/wait
printf '#!/bin/sh\nwhile [ -e /run/wait ]; do sleep 0.1; done\nexec /usr/bin/tar "$@"\n' >/usr/sbin/tar &&
chmod 755 /usr/sbin/tar`)
	f = s.begin(t, "round", "start", "piers", "--hosts", "h3", "--reason", "fenders")
	f.until(course.Intent, act.Backup)
	on(t, "h3", "apt-mark hold buoy fender && rm /usr/sbin/tar /run/wait")
	if out := f.ends(1); !strings.Contains(out, "held") {
		t.Error("it does not say why")
	}
	if got := on(t, "h3", "dpkg-query -W -f '${Version}' fender"); got != "1.0" {
		t.Error(got)
	}
}

// What a login may not do is said by name before anything is tried.
func TestRightsAreNamed(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, keel, bmcs(t), 0)
	for _, h := range hosts {
		on(t, h, "useradd -m -s /bin/sh -p '*' watch && mkdir -p ~watch/.ssh && cp /root/.ssh/authorized_keys "+
			"~watch/.ssh/ && chown -R watch ~watch && chmod 700 ~watch ~watch/.ssh && chmod 700 "+
			"/run/libvirt/libvirt-sock")
	}
	file := filepath.Join(s.dir, "estate.yaml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(strings.Replace(string(text), "kind: ssh\n", "kind: ssh\n  user: watch\n", 1)),
		0o600); err != nil {
		t.Fatal(err)
	}
	s.must(t, 0, "read", "h1") // looking takes no right but to log in
	out := s.must(t, 4, "host", "prepare", "h1", "--yes")
	for _, right := range []string{"root", "the right to move guests"} {
		if !strings.Contains(out, right) {
			t.Errorf("it does not name %q", right)
		}
	}
	if left := on(t, "h1", "ls -d /var/lib/yare /etc/libvirt/hooks 2>/dev/null; true"); left != "" {
		t.Errorf("it put %s there", left)
	}
}

// Two releases of the platform in one cluster. A guest that was started on the newer one has a machine type that the
// older does not know: its move is refused, it runs on where it is, and the round says so. One from the older goes to
// the newer, and back.
func TestTwoReleasesInOneCluster(tt *testing.T) {
	if _, err := os.Stat(filepath.Join(home(), "base-newer", "root", ".lab-ready")); err != nil {
		tt.Skip("there is no newer release here")
	}
	t := enlist(tt)
	run(t, "reset")
	run(t, "up", "2")
	c := script(t.Context(), t.n, "up", "3")
	c.Env = append(c.Env, newer()...)
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, tail(string(out)))
	}
	for _, h := range hosts {
		furnish(t, h)
	}
	old, young := on(t, "h1", "virsh -q dumpxml g1-1 | grep -o 'machine=.[^ >]*'"),
		on(t, "h3", "virsh -q dumpxml g3-1 | grep -o 'machine=.[^ >]*'")
	if old == young {
		t.Fatalf("both releases have the machine type %s", old)
	}
	s := settle(t, keel, bmcs(t), 0)
	before := lives(t)
	out := s.must(t, 1, "round", "start", "piers", "--hosts", "h3", "--prepare", "--reason", "patches")
	if machine := strings.Trim(strings.TrimPrefix(young, "machine="), "'"); !strings.Contains(out,
		"finds what it needs of processor and emulator ("+machine) {
		t.Errorf("it does not say that %s is on no other host", machine)
	}
	alive(t, before)
	for _, g := range []string{"g3-1", "g3-2", "g3-3"} {
		if !slices.Contains(running(t, "h3"), g) {
			t.Errorf("%s is not where it was", g)
		}
	}
	other := settle(t, keel, bmcs(t), 0)
	if out := other.must(t, 1, "round", "start", "piers", "--hosts", "h1", "--take-over", "--reason",
		"patches"); !strings.Contains(out, "if h3 failed meanwhile, its guests would have no place") {
		t.Error("it does not say that nobody can restart the guests of h3")
	}
	other.must(t, 0, "round", "start", "piers", "--hosts", "h1", "--reserve", "0", "--reason", "patches")
	other.must(t, 0, "round", "start", "piers", "--hosts", "h2", "--reserve", "0", "--reason", "patches")
	alive(t, before)
}

// On real hosts too: what they need to take orders is shown and put there from the screens; a guest that is off is
// carried away, media that only its host has are taken out of a guest's drive before it moves, a label names guests,
// what hosts can run is read of their libvirts; with --home everybody who left comes back alive, and a guest that
// starts with its host does not while that is closed.
func TestGuestsOfAllKinds(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, wants{{"deb:keel", "2.0", "keel_2.0_all.deb", "host"}}, bmcs(t), 0)
	screens := drive.Open(t.TB.(*testing.T), yare, 160, 45, []string{bmcSecret + "=" + s.secret}, "--state", s.dir)
	screens.Wait(`piers`)
	screens.Keys("p")
	screens.Wait(`takes no orders`)
	screens.Keys("f")
	screens.Wait(`Put this on h1, h2, h3\?`)
	screens.Wait(`the script that libvirt asks`)
	screens.Keys("y")
	screens.Wait(`visits 3`)
	screens.Keys("q")
	s.must(t, 0, "host", "prepare", "piers", "--json")
	cd := "<disk type='file' device='cdrom'><driver name='qemu' type='raw'/><source file='/root/chart.iso'/><target " +
		"dev='hdc' bus='ide'/><readonly/></disk></devices>"
	for _, g := range []string{"reader", "idle", "early"} {
		xml := run(t, "xml", g)
		if g == "reader" {
			xml = strings.Replace(xml, "</devices>", cd, 1)
		}
		if err := os.WriteFile(t.lab("shared/"+g+".xml"), []byte(xml), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	on(t, "h1", `head -c 65536 /dev/zero >/root/chart.iso; virsh -q define /shared/reader.xml; virsh -q start reader
virsh -q define /shared/idle.xml; virsh -q define /shared/early.xml; virsh -q autostart early
virsh -q metadata g1-3 urn:yareharbour:guest --key yare --set '<labels>batch night</labels>' --config --live`)
	session, err := t.reach().Open(t.Context(), "h1")
	if err != nil {
		t.Fatal(err)
	}
	r, err := session.Read(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, g := range r.Guests {
		if len(g.Features) == 0 || !slices.Contains(r.Offers().Features, g.Features[0]) {
			t.Errorf("%s needs %v, and its host has %v", g.Name, g.Features, r.Offers().Features)
		}
		if tied := strings.Join(g.Ties(estate.Loosed{}), ""); (g.Name == "reader") != strings.Contains(tied,
			"/root/chart.iso, which only its host has") {
			t.Errorf("%s: %q", g.Name, tied)
		}
	}
	if out := s.must(t, 0, "plan", "piers", "--hosts", "h1"); !strings.Contains(out,
		"take out what is in the drives of reader") {
		t.Error("the way out is not the smallest")
	}
	if out, _ := s.run(t, "plan", "piers", "--hosts", "h1", "--guest", "#batch=suspend"); !strings.Contains(out,
		"g1-3 is suspended to disk") {
		t.Error("the label names nobody")
	}
	before := lives(t)
	s.must(t, 0, "round", "start", "piers", "--hosts", "h1", "--home", "--guest", "idle=cold", "--guest",
		"reader=eject", "--reason", "keels")
	if after := lives(t); !maps.Equal(before, after) || len(after) != 10 {
		t.Errorf("guests did not live through it:\nbefore %v\nafter  %v", before, after)
	}
	if got := running(t, "h1"); len(got) != 4 {
		t.Errorf("on h1 run %v", got)
	}
	if got := on(t, "h1", "virsh metadata reader urn:yareharbour:done --config"); !strings.Contains(got, `what="insert"`) ||
		!strings.Contains(got, "keels") {
		t.Errorf("its definition says %s", got)
	}
	if got := on(t, "h1", "virsh metadata g1-3 urn:yareharbour:guest --config"); !strings.Contains(got, "batch night") {
		t.Errorf("its labels are %s", got)
	}
	if got := on(t, "h1", "virsh -q domblklist reader; virsh -q domblklist reader --inactive"); strings.Count(got,
		"chart") != 2 {
		t.Errorf("in its drive is %s", got)
	}
	if got := strings.TrimSpace(on(t, "h1", "virsh -q domstate early")); got != "shut off" {
		t.Errorf("a guest that starts with its host started while that was closed: it is %s", got)
	}
	if got := on(t, "h1", "virsh -q list --all --name"); strings.Contains(got, "idle") {
		t.Errorf("it is on h1 still: %s", got)
	}
	if got := on(t, "h2", "virsh -q list --inactive --name") +
		on(t, "h3", "virsh -q list --inactive --name"); strings.Count(got, "idle") != 1 {
		t.Errorf("elsewhere are %q", got)
	}
	run(t, "cycle", "h1") // in service it starts with its host, so that the mark was what kept it
	waitUntil(t, "the guest starts with its host", func() bool { return slices.Contains(running(t, "h1"), "early") })
}

// A snapshot that a round makes has a day of its own: until then its guest does not move, and the next round after it
// removes it, before anything else.
func TestASnapshotHasADayOfItsOwn(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	s := settle(t, wants{{"deb:tide-gauge", "2.0", "tide-gauge_2.0_all.deb", "service"}}, bmcs(t), 0)
	s.must(t, 0, "host", "prepare", "piers", "--yes")
	withDisk(t, "h1", "keeper")
	before := lives(t)
	s.must(t, 0, "round", "start", "piers", "--hosts", "h1", "--snapshot", "keeper=1m", "--reason", "gauges")
	snapshots := func() string {
		return on(t, "h1", "virsh -q snapshot-list keeper --name; virsh -q dumpxml keeper | grep yareharbour:snapshot || true")
	}
	if got := snapshots(); !strings.HasPrefix(got, "yare-") || !strings.Contains(got, "until=") {
		t.Errorf("its snapshots are %s", got)
	}
	if out := s.must(t, 3, "owed"); !strings.Contains(out, "keeper: has a snapshot") {
		t.Error("nobody is told of the snapshot")
	}
	s.must(t, 0, "host", "restart", "h2", "--drain", "--guest", "*=suspend", "--reason", "it stalls") // which has nothing to do with it
	if got := snapshots(); !strings.HasPrefix(got, "yare-") {
		t.Errorf("its snapshots are %s", got)
	}
	waitUntil(t, "its day has come", func() bool {
		out, _ := s.run(t, "plan", "piers", "--hosts", "h1")
		return strings.Contains(out, "the snapshot of keeper is removed")
	})
	s.must(t, 0, "round", "start", "piers", "--hosts", "h1", "--reason", "what is due")
	if got := strings.TrimSpace(snapshots()); got != "" {
		t.Errorf("its snapshots are %s", got)
	}
	s.must(t, 0, "owed")
	// a file of the configuration that was kept goes back by a person, on a host that is closed
	hosts := on(t, "h1", "cat /etc/hosts")
	on(t, "h1", "echo 192.0.2.7 astray >>/etc/hosts; chmod 600 /etc/hosts")
	restore := []string{"backup", "restore", "h1", "--file", "etc/hosts"}
	if out := s.must(t, 0, restore...); !strings.Contains(out, "etc/hosts: Mode differs") || !strings.Contains(out, "nothing was touched") {
		t.Error("it does not say what would change")
	}
	restore = append(restore, "--yes", "--reason", "it was changed by mistake")
	if out := s.must(t, 1, restore...); !strings.Contains(out, "it is open") {
		t.Error("it is put back on an open host")
	}
	s.must(t, 0, "host", "close", "h1", "--drain", "--guest", "*=suspend", "--reason", "its configuration")
	s.must(t, 0, restore...)
	if got := on(t, "h1", "cat /etc/hosts; stat -c %a /etc/hosts"); got != strings.TrimSpace(hosts)+"\n644" {
		t.Errorf("it is %q, and was %q", got, hosts)
	}
	s.must(t, 0, "host", "open", "h1", "--reason", "done")
	if after := lives(t); !maps.Equal(before, after) {
		t.Errorf("guests did not live through it:\nbefore %v\nafter  %v", before, after)
	}
}
