package host

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"yareharbour/connector"
	"yareharbour/connector/libvirt"
	"yareharbour/connector/linux"
	"yareharbour/connector/redfish"
	"yareharbour/connector/ssh"
	"yareharbour/connector/ssh/sshtest"
	"yareharbour/core/estate"
)

// reader reads the host that a server stands for.
func reader(s *sshtest.Server, limit time.Duration) *Connector {
	return &Connector{SSH: &ssh.Dialer{Config: []string{s.Config}}, Limit: limit}
}

func TestAMachineBehindARealSSHServer(t *testing.T) {
	t.Parallel()
	s := sshtest.Start(t)
	d := reader(s, 20*time.Second)
	r, err := connector.Read(t.Context(), d, "heron")
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []estate.SectionName{estate.Host, estate.Packages} {
		if why := r.Section(name).Err; why != "" {
			t.Errorf("%s: %s", name, why)
		}
	}
	if r.Release == "" || r.Kernel.Running == "" || len(r.Components) == 0 {
		t.Errorf("%+v", r.Kernel)
	}
	if why := r.Section(estate.HealthItems).Err; !strings.Contains(why, "names no BMC") {
		t.Errorf("health without a BMC: %q", why)
	}
	// Only what is asked for is read, and told.
	r, err = connector.Read(t.Context(), d, "heron", estate.Host)
	if err != nil || len(r.Sections) != 1 || len(r.Components) > 0 || r.Kernel.Running == "" {
		t.Errorf("%+v %v", r, err)
	}
	stages := d.Connect(t.Context(), "heron")
	last := map[string]string{}
	for _, g := range stages {
		last[g.Way] = fmt.Sprint(g.Name, " ", g.OK)
	}
	if last["SSH"] != "answer true" || last["libvirt"] == "" || last["BMC"] != "configuration false" {
		t.Errorf("%+v", stages)
	}
}

// A host may answer with anything at all: what it says is unread with the reason, within the limit.
func TestAHostileHostCostsItsLimitAndNothingElse(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ script, says string }{
		"chatter":    {"echo Welcome aboard", `it says "Welcome aboard"`},
		"breaks off": {`printf '=probe\0\n/proc/cmdline\0quiet\n'`, "breaks off"},
		"endless":    {"yes '/x aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa'", "more than 24 MiB"},
		"long line":  {"head -c 6000000 /dev/zero | tr '\\0' x", "too long"},
		"hangs":      {"exec sleep 3", "does not answer in time"},
		"refuses":    {"echo no thanks >&2; exit 3", "exit status 3"},
		"lies":       {`printf '=probe\0\n/x\0\n$rpm -qa\0a\tb\n=end\0\n'`, "file does not exist"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			script := filepath.Join(dir, "answer")
			if err := os.WriteFile(script, []byte("#!/bin/sh\n"+c.script+"\n"), 0o700); err != nil {
				t.Fatal(err)
			}
			s := sshtest.Start(t, "ForceCommand "+script)
			limit := 15 * time.Second
			if name == "hangs" {
				limit = time.Second
			}
			start := time.Now()
			r, err := connector.Read(t.Context(), reader(s, limit), "heron", linux.Sections...)
			if took := time.Since(start); took > limit+3*time.Second {
				t.Errorf("it took %s", took)
			}
			if err != nil {
				t.Fatal(err)
			}
			for _, sec := range r.Sections {
				if sec.Name == estate.FirmwareItems && sec.Err == "" {
					continue
				}
				if sec.Err == "" || sec.Name == estate.Host && !strings.Contains(sec.Err, c.says) {
					t.Errorf("%s: %q, want %q", sec.Name, sec.Err, c.says)
				}
			}
		})
	}
}

// One command that hangs costs what needs it: the rest of the look is as good as ever, and the command is ended.
func TestACommandThatHangsCostsItsSection(t *testing.T) {
	t.Parallel()
	bin := t.TempDir()
	for _, name := range []string{"nft", "ethtool"} {
		if err := os.WriteFile(filepath.Join(bin, name), []byte("#!/bin/sh\nexec sleep 3674\n"), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	s := sshtest.Start(t, "SetEnv PATH="+bin+":"+os.Getenv("PATH"))
	r, err := connector.Read(t.Context(), reader(s, 8*time.Second), "heron", estate.Host,
		estate.Packages, estate.SettingItems)
	if err != nil {
		t.Fatal(err)
	}
	if r.Section(estate.Packages).Err != "" || r.Section(estate.Host).Err != "" {
		t.Errorf("%+v", r.Sections)
	}
	if c, _ := r.Component("set:firewall/default", ""); c.Version != "" ||
		!strings.Contains(c.Unread, "did not end within 2 s") {
		t.Errorf("%+v", c)
	}
	if err := os.WriteFile(filepath.Join(bin, "find"), []byte("#!/bin/sh\nexec sleep 3674\n"), 0o700); err != nil {
		t.Fatal(err)
	}
	if r, err = connector.Read(t.Context(), reader(s, 30*time.Second), "heron", estate.Host,
		estate.Packages); err != nil || r.Section(estate.Host).Err != "" ||
		!strings.Contains(r.Section(estate.Packages).Err, "did not end in time") {
		t.Errorf("%+v %v", r.Sections, err)
	}
	sshtest.Gone(t, "sleep", "3674")
}

// A BMC that takes a connection and says nothing costs the look its limit and no more, goodbye included, and nothing of
// what the machine told.
func TestASilentBMCCostsItsLimit(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	d := &Connector{SSH: &ssh.Dialer{}, Limit: 5 * time.Second,
		BMCs: map[string]BMC{"heron": {Target: redfish.Target{At: l.Addr().String(), User: "watch",
			Fingerprint: strings.Repeat("0", 64)}, Password: func(context.Context) (string, error) {
			return "word", nil
		}}}}
	start := time.Now()
	r, err := connector.Read(t.Context(), d, "heron", estate.HealthItems, estate.FirmwareItems, estate.BMCState)
	if err != nil || time.Since(start) > d.Limit+500*time.Millisecond {
		t.Errorf("%v after %s", err, time.Since(start))
	}
	for _, s := range []estate.SectionName{estate.HealthItems, estate.BMCState} {
		if r.Section(s).Err == "" {
			t.Errorf("%s is read from a BMC that says nothing", s)
		}
	}
}

// fakeDoor is a way to a libvirt of the test's own.
type fakeDoor struct {
	sockets map[string]func() net.Conn
	help    func() (net.Conn, error)
	there   traces
}

func (fakeDoor) from() string { return "" }

func (f fakeDoor) socket(_ context.Context, path string) (net.Conn, error) {
	if s := f.sockets[path]; s != nil {
		return s(), nil
	}
	return nil, errors.New("open failed")
}

func (f fakeDoor) helper() (net.Conn, error) {
	if f.help == nil {
		return nil, errors.New("there is none")
	}
	return f.help()
}

func (fakeDoor) mounts(context.Context) (string, error) { return "", errors.New("there is no host") }

func (f fakeDoor) look(context.Context) (traces, error) { return f.there, nil }

// silent is a connection that takes everything and says nothing.
func silentConn() net.Conn {
	near, far := net.Pipe()
	go func() { _, _ = io.Copy(io.Discard, far) }()
	return near
}

// complaint is a helper that ends with a word.
type complaint struct{ net.Conn }

func (complaint) Said() string { return "sudo: a password is required" }

func TestStatesOfLibvirtAreToldApart(t *testing.T) {
	t.Parallel()
	sock := libvirt.Sockets[0]
	closed := func() net.Conn { c := silentConn(); c.Close(); return c }
	for says, d := range map[string]fakeDoor{
		"is not installed":   {},
		"libvirt is stopped": {there: traces{daemon: "virtqemud"}},
		"closed to this user": {there: traces{daemon: "virtqemud", sockets: map[string]bool{sock: false},
			heard: map[string]bool{sock: true}}},
		"crashed or was killed": {there: traces{daemon: "virtqemud", sockets: map[string]bool{sock: true}}},
		"forwards to no sockets": {there: traces{daemon: "virtqemud", sockets: map[string]bool{sock: true},
			heard: map[string]bool{sock: true}}},
		"a password is required": {help: func() (net.Conn, error) {
			return complaint{closed()}, nil
		}, there: traces{sockets: map[string]bool{sock: true}, heard: map[string]bool{sock: true}}},
		"libvirt crashed": {help: func() (net.Conn, error) {
			return closed(), nil
		}, there: traces{daemon: "libvirtd", sockets: map[string]bool{sock: true}}},
		"libvirt hangs: it accept": {sockets: map[string]func() net.Conn{sock: silentConn}},
	} {
		r := readGuests(t.Context(), d, &libvirt.Meter{})
		if s := r.Section(estate.GuestList); !strings.Contains(s.Err, says) || len(r.Guests) > 0 {
			t.Errorf("%q, want %q", s.Err, says)
		}
	}
}

func TestWhereSomebodyListens(t *testing.T) {
	t.Parallel()
	got := listening("Num       RefCount Protocol Flags    Type St Inode Path\n" +
		"0000: 00000002 00000000 00010000 0001 01 1234 /run/libvirt/virtqemud-sock\n" +
		"0000: 00000003 00000000 00000000 0001 03 1235 /run/libvirt/libvirt-sock\n")
	if len(got) != 1 || !got["/run/libvirt/virtqemud-sock"] {
		t.Errorf("%v", got)
	}
}

// A file on a file system that other hosts can mount is a storage that the guest needs; any other is its host's alone;
// what is no file can't be told.
func TestWhichDisksAreLocal(t *testing.T) {
	t.Parallel()
	const table = `/dev/vda1 / ext4 rw 0 0
nas:/vm /srv/vm nfs4 rw 0 0
nas:/vm\\040two /srv/vm/two nfs4 rw 0 0
tmpfs /srv/vm/two/scratch tmpfs rw 0 0
/dev/mapper/quay /srv/quay gfs2 rw 0 0
nonsense
`
	r := &estate.Reading{Guests: []estate.Guest{{Disks: []estate.Disk{
		{Target: "vda", Source: "/srv/vm/a.img"},
		{Target: "vdb", Source: "/srv/vm/two/b.img"},
		{Target: "vdc", Source: "/srv/vm/two/scratch/../../c.img"},
		{Target: "vdd", Source: "/srv/quay/d.img"},
	}}, {Disks: []estate.Disk{
		{Target: "vda", Source: "/srv/vm/two/scratch/a.img"},
		{Target: "vdb", Source: "/srv/vmore.img"},
		{Target: "vdc", Source: "/dev/mapper/lun"},
		{Target: "vdd", Source: "pool/volume"},
		{Target: "sda", Source: "/var/iso/x.iso", Media: true},
	}}}}
	settle(r, strings.ReplaceAll(table, `\\`, `\`))
	if got := strings.Join(r.Offer.Storages,
		"; "); got != "gfs2 at /srv/quay; nas:/vm at /srv/vm; nas:/vm two at /srv/vm/two" {
		t.Errorf("it has %s", got)
	}
	if got := strings.Join(r.Guests[0].Storages,
		"; "); got != "gfs2 at /srv/quay; nas:/vm at /srv/vm; nas:/vm two at /srv/vm/two" {
		t.Errorf("the first needs %s", got)
	}
	var local []string
	for _, g := range r.Guests {
		for _, d := range g.Disks {
			if d.Local {
				local = append(local, d.Source)
			}
		}
	}
	if got := strings.Join(local, " "); got != "/srv/vm/two/scratch/a.img /srv/vmore.img /var/iso/x.iso" ||
		len(r.Guests[1].Storages) > 0 {
		t.Errorf("local are %s", got)
	}
	empty := &estate.Reading{Guests: []estate.Guest{{Disks: []estate.Disk{{Source: "/a"}}}}}
	if settle(empty, ""); empty.Guests[0].Disks[0].Local {
		t.Error("of a host whose mounts are not known a disk is local")
	}
}

// Firmware is told by two: where one of them fails, what the other told stands, and nothing may be taken for absent.
func TestFirmwareOfMachineAndBMC(t *testing.T) {
	t.Parallel()
	now := time.Now()
	half := func(key estate.Key, why string, at time.Time, source string) *estate.Reading {
		r := &estate.Reading{Host: "heron"}
		s := estate.Section{Name: estate.FirmwareItems, At: at, Source: source, Err: why}
		if why == "" {
			r.Components = []estate.Component{{Key: key, Version: "1"}}
		}
		r.SetSection(s)
		return r
	}
	for _, c := range []struct {
		machine, board string
		whole          bool
		err, partial   string
		has            int
	}{
		{"", "", true, "", "", 2},
		{"gone", "", false, "", "the machine: gone", 1},
		{"", "silent", false, "", "the BMC: silent", 1},
		{"gone", "silent", false, "gone; silent", "", 0},
	} {
		r := join(half("fw:nic", c.machine, now, "SSH"), half("fw:bmc", c.board, now.Add(-time.Second), "Redfish"))
		s := r.Section(estate.FirmwareItems)
		if s.Whole() != c.whole || s.Err != c.err || s.Partial != c.partial || len(r.Components) != c.has ||
			!s.At.Equal(now.Add(-time.Second)) {
			t.Errorf("machine %q, BMC %q: %+v with %d components", c.machine, c.board, s, len(r.Components))
		}
	}
}
