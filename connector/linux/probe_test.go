package linux

import (
	"context"
	"fmt"
	"os/exec"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
	"yareharbour/format/bounds/boundstest"
)

// What a probe brings and what the file system shows come to the same reading of this very machine.
func TestAProbeSeesWhatTheFileSystemShows(t *testing.T) {
	sh, err := exec.LookPath("sh")
	if err != nil {
		t.Skip("no shell here")
	}
	here, err := Here()
	if err != nil {
		t.Fatal(err)
	}
	if len(here.Glob("proc/[0-9]*")) == 0 {
		t.Skip("no proc file system here")
	}
	here.Now = func() time.Time { return time.Unix(1e9, 0) }
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	// Processes come and go between the two, and services with them: a few tries must do.
	for try := 1; ; try++ {
		c := exec.CommandContext(ctx, sh, append([]string{"-s", "--"}, ProbeWords(0, 4*time.Second)...)...)
		c.Stdin = strings.NewReader(Probe)
		out, err := c.Output()
		if err != nil {
			t.Fatal(err)
		}
		p, err := ParseProbe(ctx, strings.NewReader(string(out)))
		if err != nil {
			t.Fatal(err)
		}
		want, got := here.Read(ctx), Machine{Source: p, Name: here.Name, Now: here.Now}.Read(ctx)
		got.BootedAt = want.BootedAt // told in hundredths of a second since
		if reflect.DeepEqual(want, got) {
			return
		}
		if try == 5 {
			for _, w := range want.Components {
				if g, _ := got.Component(w.Key, w.Device); !reflect.DeepEqual(w, g) {
					t.Errorf("the file system shows %+v, the probe %+v", w, g)
				}
			}
			t.Errorf("%d and %d components\n%+v\n%+v", len(want.Components), len(got.Components),
				want.Sections, got.Sections)
			return
		}
	}
}

// say writes records as a probe prints them: "NAME text", a line each.
func say(records string) string {
	var b strings.Builder
	for l := range strings.Lines(records) {
		if l = strings.TrimSpace(l); l != "" {
			name, text, _ := strings.Cut(l, " | ")
			b.WriteString(name + "\x00" + strings.ReplaceAll(text, `\t`, "\t") + "\n")
		}
	}
	return b.String()
}

func probed(t *testing.T, records string) *estate.Reading {
	t.Helper()
	p, err := ParseProbe(t.Context(), strings.NewReader(say("=probe\n"+records+"\n=end")))
	if err != nil {
		t.Fatal(err)
	}
	return Machine{Source: p, Name: "far", From: "SSH", Now: func() time.Time { return time.Unix(1e9, 0) }}.Read(t.Context())
}

const rpmMachine = `
	/proc/sys/kernel/osrelease | 20.14.0-42.1.br9.x86_64
	/proc/sys/kernel/random/boot_id | 1111
	/proc/cmdline | quiet
	/etc/os-release | PRETTY_NAME="Brae Server 9.4"
	+/boot/vmlinuz-20.14.0-42.1.br9.x86_64
	+/boot/vmlinuz-20.14.0-42.2.br9.x86_64
	+/boot/vmlinuz-0-rescue-ffff
	$rpm -qa | kernel-core\t0\t20.14.0\t42.2.br9\tx86_64
	$rpm -qa | kernel-core\t0\t20.14.0\t42.1.br9\tx86_64
	$rpm -qa | brae-tls-libs\t1\t2.0.7\t3.br9\tx86_64
	$rpm -qa | zlib\t0\t1.4.1\t6.br9\tx86_64
	$rpm -qa | zlib\t0\t1.4.1\t6.br9\ti686
	$rpm -qa | tzdata\t0\t2024a\t1.br9\tnoarch
	$rpm -qa | gpg-pubkey\t0\t8483c65d\t5ccc5b19\t(none)`

func TestAnRPMMachineIsReadLikeAnyOther(t *testing.T) {
	r := probed(t, rpmMachine+`
		@/proc/10/exe | /usr/libexec/qemu-kvm (deleted)
		/run/libvirt/qemu/gauge-1.pid | 10
		@/proc/11/exe | /usr/sbin/sshd
		/proc/11/cgroup | 0::/system.slice/sshd.service
		=gone | 11 /usr/lib64/libssl.so.3
		=gone | 12 /usr/lib64/libssl.so.3
		$rpm -qa | qemu-kvm-core\t17\t8.4.0\t3.br9\tx86_64
		$rpm -q -a | qemu-kvm-core /usr/libexec/qemu-kvm
		$rpm -q -a | brae-tls-libs /usr/lib64/libssl.so.3
		$rpm -q -a | zlib /usr/lib64/libssl.so.3.0
		$rpm -q -f | brae-tls-libs /usr/lib/systemd/system/brae-tls.service
		$rpm -q -f | zlib /home/someone/other.service`)
	if s := r.Section(estate.Packages); s.Err != "" || s.Source != "SSH, rpm -qa" {
		t.Errorf("%+v", s)
	}
	var got []string
	for _, c := range r.Components {
		if c.Key.Kind() == "rpm" {
			got = append(got, strings.TrimSpace(string(c.Key)+" "+c.Version+" "+c.Awaits()))
		}
	}
	want := []string{"rpm:brae-tls-libs 1:2.0.7-3.br9 sshd.service", "rpm:kernel-core 20.14.0-42.2.br9 the host",
		"rpm:qemu-kvm-core 17:8.4.0-3.br9 the emulator of guest gauge-1",
		"rpm:tzdata 2024a-1.br9", "rpm:zlib 1.4.1-6.br9", "rpm:zlib:i686 1.4.1-6.br9"}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
	if c, _ := r.Component("rpm:brae-tls-libs", ""); !slices.Equal(c.Units, []string{"brae-tls.service"}) {
		t.Errorf("it brings %v", c.Units)
	}
	if c, _ := r.Component("rpm:zlib", ""); c.Units != nil {
		t.Errorf("it brings %v", c.Units)
	}
	if k, _ := r.Component("rpm:kernel-core", ""); k.Running != "20.14.0-42.1.br9" ||
		r.Kernel.Installed != "20.14.0-42.2.br9.x86_64" {
		t.Errorf("%+v, kernel %+v", k, r.Kernel)
	}
}

func TestTheNewestKernelThatRunsAwaitsNothing(t *testing.T) {
	r := probed(t, strings.Replace(rpmMachine, "osrelease | 20.14.0-42.1.br9", "osrelease | 20.14.0-42.2.br9", 1))
	if k, _ := r.Component("rpm:kernel-core", ""); k.Waits() || k.Restarts != "" {
		t.Errorf("%+v", k)
	}
}

func TestFirmwareOfAdaptersAndDisks(t *testing.T) {
	r := probed(t, rpmMachine+`
		/sys/class/dmi/id/bios_version | 2.5.0
		/sys/class/nvme/nvme0/model | Skerry NV 960G
		/sys/class/nvme/nvme0/firmware_rev | 1.4.2
		/sys/block/sda/device/model | Skerry HD4
		/sys/block/sda/device/rev | A7
		/sys/class/net/eno1/device/uevent | DRIVER=lorne25
		/sys/class/net/eno2/device/uevent | DRIVER=lorne25
		/sys/bus/pci/devices/0000:3b:00.0/uevent | DRIVER=lorne25
		/sys/bus/pci/devices/0000:3b:00.0/vendor | 0xf0f0
		/sys/bus/pci/devices/0000:3b:00.0/device | 0x0025
		$ethtool -i eno1 | driver: lorne25
		$ethtool -i eno1 | firmware-version: 7.4.2 0x8000abcd
		$ethtool -i eno1 | bus-info: 0000:3b:00.0
		$ethtool -i eno2 | driver: lorne25
		$ethtool -i eno2 | firmware-version: 7.4.2 0x8000abcd
		$ethtool -i eno2 | bus-info: 0000:3b:00.0`)
	var got []string
	for _, c := range r.Components {
		if c.Key.Layer() == estate.Firmware {
			got = append(got, c.Title()+" "+c.Version+" "+c.Model)
		}
	}
	want := []string{"fw:bios 2.5.0 ", "fw:lorne25 (0000:3b:00.0) 7.4.2 f0f0:0025", "fw:skerry-hd4 (sda) A7 Skerry HD4",
		"fw:skerry-nv-960g (nvme0) 1.4.2 Skerry NV 960G"}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
}

func TestSettingsOfAMachine(t *testing.T) {
	const input = `
		$nft list ruleset | table inet filter {
		$nft list ruleset | chain output { type filter hook output priority filter; policy accept; }
		$nft list ruleset | chain input {
		$nft list ruleset | type filter hook input priority filter; policy drop;`
	for _, c := range []struct{ records, key, want string }{
		{input, "firewall/default", "drop"},
		{"+$nft list ruleset", "firewall/default", "accept"},
		{"$iptables -S INPUT | -P INPUT DROP", "firewall/default", "drop"},
		{"$iptables -S INPUT | -P INPUT ACCEPT", "firewall/default", "accept"},
		{"", "firewall/default", "? neither nft nor iptables is there to ask"},
		{"?nft list ruleset | Operation not permitted (you must be root)", "firewall/default",
			"? nft list: Operation not permitted (you must be root)"},
		{"@/etc/localtime | /usr/share/zoneinfo/Etc/UTC", "time-zone", "Etc/UTC"},
		{"/proc/cmdline | iommu=pt -- init=/evil", "kernel-argument/iommu", "pt"},
		{"/proc/cmdline | iommu=pt -- single=yes", "kernel-argument/single", ""},
		{"/etc/chrony.conf | pool 10.20.0.123 iburst", "time-server/1", "10.20.0.123"},
		{"/etc/systemd/timesyncd.conf | NTP=10.20.0.123 10.20.1.123", "time-server/2", "10.20.1.123"},
		{"/etc/resolv.conf | nameserver 127.0.0.53\n/run/systemd/resolve/resolv.conf | nameserver 10.20.0.53",
			"name-server/1", "10.20.0.53"},
	} {
		r := probed(t, rpmMachine+"\n"+c.records)
		got, _ := r.Component(estate.Key("set:"+c.key), "")
		if v := got.Version; v != c.want && "? "+got.Unread != c.want {
			t.Errorf("with %s, %s is %q (%s), want %q", c.records, c.key, v, got.Unread, c.want)
		}
	}
}

// Without root much may not be seen: it is counted and said. A program that is not there, as a kernel thread has none,
// is not hidden.
func TestWhatMayNotBeSeenIsNotMissing(t *testing.T) {
	r := probed(t, strings.ReplaceAll(rpmMachine, "$rpm", "$other")+"\n/proc/1/cgroup | 0::/system.slice/a.service\n"+
		"!/proc/1/exe\n/proc/2/cgroup | 0::/system.slice/b.service\n!/proc/2/exe\n"+
		"/proc/3/cgroup | 0::/system.slice/c.service\n!/var/lib/dpkg/status")
	if s := r.Section(estate.Packages); !strings.Contains(s.Err, "permission denied") ||
		s.Hidden != 2 {
		t.Errorf("%+v", s)
	}
}

// What some of a section's sources hide, or nobody is there to ask about, makes the section one that was not all read:
// nothing of it is taken for absent. A certificate says so by itself, and keys are nobody's to read.
func TestWhatCouldNotBeReadOfASection(t *testing.T) {
	const readable = rpmMachine + `
		/proc/mounts | /dev/sda2 / ext4 rw 0 0
		$date +%s | 1000000000
		/sys/class/dmi/id/bios_version | 2.5.0
		`
	for _, c := range []struct {
		records string
		section estate.SectionName
		partial string
		err     string
	}{
		{"/etc/resolv.conf | nameserver 10.0.0.1", estate.SettingItems, "", ""},
		{"!/etc/chrony.conf", estate.SettingItems, "time servers: open /etc/chrony.conf: permission denied", ""},
		{"!/etc/resolv.conf", estate.SettingItems, "name servers: open /etc/resolv.conf: permission denied", ""},
		{"/sys/class/net/eno1/device/uevent | PCI_SLOT_NAME=0000:3b:00.0", estate.FirmwareItems,
			"the firmware of eno1: ethtool", ""},
		{"/sys/class/net/eth0/device/uevent | DRIVER=virtio_net", estate.FirmwareItems, "", ""},
		{"/sys/class/nvme/nvme0/model | NV\n!/sys/class/nvme/nvme0/firmware_rev", estate.FirmwareItems,
			"the firmware of nvme0: open /sys/class/nvme/nvme0/firmware_rev: permission denied", ""},
		{"/sys/class/infiniband/ib0/board_id | X\n!/sys/class/infiniband/ib0/fw_ver", estate.FirmwareItems,
			"the firmware of ib0", ""},
		{"!/proc/mdstat", estate.ConditionItems, "", "its arrays: open /proc/mdstat: permission denied"},
		{"!/proc/net/bonding/bond0", estate.ConditionItems, "", "its bonded links: "},
		{"$date +%s | noon", estate.ConditionItems, "", `its clock: date says "1000000000\nnoon\n"`},
	} {
		s := probed(t, readable+c.records).Section(c.section)
		if c.partial == "" && s.Partial != "" || !strings.Contains(s.Partial, c.partial) ||
			c.err == "" && s.Err != "" || !strings.Contains(s.Err, c.err) {
			t.Errorf("with %s: %+v", c.records, s)
		}
	}
	r := probed(t, readable+"!/etc/pki/libvirt/servercert.pem\n!/etc/pki/qemu/server-key.pem")
	if got := fmt.Sprint(r.Condition.Certificates); !strings.HasPrefix(got, "[{/etc/pki/libvirt/servercert.pem ") ||
		!strings.HasSuffix(got, " permission denied}]") {
		t.Error(got)
	}
}

func TestAnAnswerThatIsNoProbesIsRefused(t *testing.T) {
	for want, answer := range map[string]string{
		"breaks off":               say("=probe\n/proc/cmdline | quiet"),
		"shows no file":            say("=probe\n=end"),
		`it says "Welcome aboard"`: "Welcome aboard\n",
		"did not answer as":        "",
	} {
		if _, err := ParseProbe(t.Context(), strings.NewReader(answer)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", answer, err, want)
		}
	}
}

// Whatever a host answers, reading it ends soon and in little memory, and every section says how it stands.
func FuzzParseProbe(f *testing.F) {
	f.Add(say("=probe\n" + rpmMachine + "\n=end"))
	f.Add(say("=probe\n" + rpmMachine + "\n=gone | 10 /usr/lib/x\n=late | packages grep\n=cut | host x\n" +
		"/proc/10/cgroup | 0::/system.slice/a.service\n/run/libvirt/qemu/g.pid | 10\n@/proc/10/exe | /usr/bin/q (deleted)\n" +
		"/var/lib/yare/private/guard | 5 R 7 s\n/var/lib/yare/mark | round R\n/proc/mounts | a / ext4 rw 0 0\n$df -Plm | x\n" +
		"/proc/net/bonding/b | Slave Interface: x\n/proc/mdstat | md0 : active raid1\n=end"))
	f.Fuzz(func(t *testing.T, answer string) {
		boundstest.Within(t, len(answer), func() {
			if p, err := ParseProbe(t.Context(), strings.NewReader(answer)); err == nil {
				r := Machine{Source: p, Name: "x", Now: time.Now}.Read(t.Context())
				if len(r.Sections) != len(Sections) {
					t.Errorf("%+v", r.Sections)
				}
			}
		})
	})
}
