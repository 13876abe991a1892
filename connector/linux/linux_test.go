package linux

import (
	"errors"
	"io/fs"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"yareharbour/connector/ssh/sshtest"
	"yareharbour/core/estate"
)

func machine() fstest.MapFS {
	f := func(s string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(s)} }
	return fstest.MapFS{
		"proc/sys/kernel/osrelease":      f("6.1.0-31-amd64\n"),
		"proc/sys/vm/swappiness":         f("60\n"),
		"proc/sys/kernel/random/boot_id": f("11111111-2222-3333-4444-555555555555\n"),
		"proc/uptime":                    f("3600.25 100\n"),
		"proc/meminfo":                   f("MemTotal:       16384000 kB\nMemFree: 1 kB\n"),
		"proc/cpuinfo":                   f("processor\t: 0\nmodel name: x\n\nprocessor\t: 1\n"),
		"etc/os-release":                 f("NAME=x\nPRETTY_NAME=\"Brae Linux 4.2\"\nID=brae\nVERSION_ID=\"4.2\"\n"),
		"boot/vmlinuz-6.1.0-31-amd64":    f(""),
		"boot/vmlinuz-6.1.0-9-amd64":     f(""),
		"boot/vmlinuz-6.1.0-37-amd64":    f(""),
		"var/lib/dpkg/status": f("Package: dpkg\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1.21\n\n" +
			"Package: linux-image-6.1.0-31-amd64\nStatus: install ok installed\nArchitecture: amd64\n" +
			"Version: 6.1.128-1\n\n" +
			"Package: linux-image-6.1.0-37-amd64\nStatus: install ok installed\nArchitecture: amd64\n" +
			"Version: 6.1.140-1\n"),
		"sys/bus/pci/devices/0000:01:00.0/uevent": f("DRIVER=lorne25\nPCI_ID=F0F0:0025\n"),
		"sys/bus/pci/devices/0000:01:00.0/vendor": f("0xf0f0\n"),
		"sys/bus/pci/devices/0000:01:00.0/device": f("0x0025\n"),
		"sys/bus/pci/devices/0000:02:00.0/uevent": f("PCI_ID=1AF4:1001\n"),
		"sys/module/lorne25/version":              f("2.14.3\n"),
		"sys/class/dmi/id/bios_version":           f("2.5.0\n"),
		"sys/class/dmi/id/sys_vendor":             f("Corran\n"),
		"sys/class/dmi/id/product_name":           f("Quay 1\n"),
	}
}

func read(t *testing.T, root fstest.MapFS) *estate.Reading {
	t.Helper()
	return Machine{Source: Disk{FS: root}, Name: "here", Now: func() time.Time { return time.Unix(1e9, 0) }}.Read(t.Context())
}

func TestReadsWhatIsThere(t *testing.T) {
	r := read(t, machine())
	if r.Release != "Brae Linux 4.2" || r.System != "brae 4.2" || r.Capacity != (estate.Resources{MemoryMiB: 16000, CPU: 2000}) ||
		r.Hardware.Model != "Quay 1" {
		t.Errorf("%+v", r)
	}
	if r.Kernel != (estate.Kernel{Running: "6.1.0-31-amd64", Installed: "6.1.0-37-amd64"}) {
		t.Errorf("kernel %+v: -9 sorts before -37", r.Kernel)
	}
	k, _ := r.Component("deb:linux-image-6.1.0-37-amd64", "")
	if k.Running != "6.1.0-31-amd64" || k.Restarts != "host" {
		t.Errorf("the new kernel does not run yet: %+v", k)
	}
	d, ok := r.Component("drv:lorne25", "0000:01:00.0")
	if !ok || d.Version != "2.14.3" || d.Model != "f0f0:0025" {
		t.Errorf("driver %+v", d)
	}
	if b, _ := r.Component("fw:bios", ""); b.Version != "2.5.0" {
		t.Errorf("firmware %+v", b)
	}
}

func TestWhatCannotBeReadIsUnreadWithTheReason(t *testing.T) {
	for section, gone := range map[estate.SectionName]string{estate.Packages: "var/lib/dpkg/",
		estate.Drivers: "sys/bus/", estate.FirmwareItems: "sys/class/dmi",
		estate.Host: "proc/"} {
		root := machine()
		for name := range root {
			if strings.HasPrefix(name, gone) {
				delete(root, name)
			}
		}
		r := read(t, root)
		if why := r.Section(section).Err; why == "" {
			t.Errorf("without %s the section %s looks read", gone, section)
		}
		for _, other := range []estate.SectionName{estate.Packages, estate.FirmwareItems} {
			if other != section && r.Section(other).Err != "" {
				t.Errorf("without %s the section %s is unread too: %s", gone, other, r.Section(other).Err)
			}
		}
	}
}

// The machine's id is kept as a hash, which tells no more than whether two are the same; what is no id is none.
func TestTheMachineIDIsNotShown(t *testing.T) {
	of := func(text string) string {
		root := machine()
		root["etc/machine-id"] = &fstest.MapFile{Data: []byte(text)}
		return read(t, root).Machine
	}
	const id = "0123456789abcdef0123456789abcdef"
	if a := of(id + "\n"); len(a) != 32 || a == id || a != of(id) || a == of("1"+id[1:]) {
		t.Errorf("%q", a)
	}
	for _, none := range []string{"", "uninitialized\n", id[1:], strings.ToUpper(id)} {
		if got := of(none); got != "" {
			t.Errorf("%q is taken for an id: %q", none, got)
		}
	}
}

// A machine started from elsewhere runs a kernel that is no package of its own: nothing awaits a restart there.
func TestAForeignKernelAwaitsNothing(t *testing.T) {
	root := machine()
	root["proc/sys/kernel/osrelease"].Data = []byte("6.18.44-elsewhere\n")
	for _, c := range read(t, root).Components {
		if c.Running != "" {
			t.Errorf("%+v", c)
		}
	}
}

// Installed is not running: a service whose program, or a library of it, was replaced on disk still runs the old one.
func TestReplacedProgramsAreToldWithWhoRunsThem(t *testing.T) {
	root := machine()
	f := func(s string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(s)} }
	link := func(s string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(s), Mode: fs.ModeSymlink} }
	root["var/lib/dpkg/status"] = f("Package: dpkg\nStatus: install ok installed\n" +
		"Architecture: amd64\nVersion: 1.21\n\n" +
		"Package: libssl3\nStatus: install ok installed\nArchitecture: amd64\nVersion: 3.0.17-1\n\n" +
		"Package: qemu-system-x86\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1:9.2\n")
	root["var/lib/dpkg/info/libssl3:amd64.list"] = f("/.\n/lib/x86_64-linux-gnu/libssl.so.3\n")
	root["var/lib/dpkg/info/qemu-system-x86.list"] = f("/usr/bin/qemu-system-x86_64\n")
	root["proc/10/exe"], root["proc/10/cgroup"] = link("/usr/sbin/sshd"), f("0::/system.slice/ssh.service\n")
	root["proc/10/maps"] = f("7f00-7f01 r-xp 00000000 08:01 99 /usr/lib/x86_64-linux-gnu/libssl.so.3 (deleted)\n" +
		"7f02-7f03 r--p 0 08:01 98 /tmp/data (deleted)\n")
	root["proc/11/exe"], root["proc/11/maps"] = link("/usr/bin/qemu-system-x86_64 (deleted)"), f("")
	root["run/libvirt/qemu/gauge-1.pid"] = f("11")
	root["run/libvirt/qemu/driver.pid"] = f("13") // libvirt's own
	root["proc/13/exe"], root["proc/13/maps"] = link("/usr/sbin/libvirtd (deleted)"), f("")
	root["var/lib/dpkg/info/libssl3:amd64.list"].Data = append(root["var/lib/dpkg/info/libssl3:amd64.list"].Data,
		"/usr/sbin/libvirtd\n"...)
	root["proc/12/exe"], root["proc/12/maps"] = link("/usr/bin/qemu-system-x86_64 (deleted)"), f("") // a person's own
	root["proc/12/cgroup"] = f("0::/user.slice/user-1000.slice/user@1000.service/app.slice/ssh.service\n")
	root["var/lib/dpkg/info/dpkg.list"] = f("/.\n/lib/systemd/system/dpkg-db-backup.service\n/etc/x.service\n/etc/init.d/dpkg\n")
	root["proc/cmdline"] = f("BOOT_IMAGE=/vmlinuz iommu=pt quiet\n")
	root["etc/resolv.conf"] = f("# none\nnameserver 10.20.0.53\n")
	root["etc/systemd/system/multi-user.target.wants/ssh.service"] = link("/lib/systemd/system/ssh.service")
	r := read(t, root)
	ssl, _ := r.Component("deb:libssl3", "")
	if ssl.Awaits() != "ssh.service" || !ssl.Waits() {
		t.Errorf("libssl3 is held by %+v", ssl.Holders)
	}
	if d, _ := r.Component("deb:dpkg", ""); !slices.Equal(d.Units, []string{"dpkg-db-backup.service", "dpkg.service"}) {
		t.Errorf("dpkg brings %v", d.Units)
	}
	q, _ := r.Component("deb:qemu-system-x86", "")
	if q.Awaits() != "the emulator of guest gauge-1" {
		t.Errorf("qemu is held by %+v", q.Holders)
	}
	for key, want := range map[estate.Key]string{"set:kernel-argument/iommu": "pt", "set:kernel-argument/quiet": "set",
		"set:name-server/1": "10.20.0.53", "set:service/ssh": "enabled, running", "set:kernel-setting/vm.swappiness": "60"} {
		if c, _ := r.Component(key, ""); c.Version != want {
			t.Errorf("%s is %q, want %q", key, c.Version, want)
		}
	}
}

// A command of this very machine that hangs is ended, and all that it started.
func TestALocalCommandThatHangsIsEnded(t *testing.T) {
	t.Parallel()
	start := time.Now()
	_, err := run("sh", "-c", "sleep 3073 & sleep 3073")
	if err == nil || !strings.Contains(err.Error(), "did not end within") ||
		time.Since(start) > patience+3*time.Second {
		t.Errorf("%v after %s", err, time.Since(start))
	}
	sshtest.Gone(t, "sleep", "3073")
}

// A closed host whose hook is gone, or is another one, takes guests all the same, and that is told.
func TestAHostThatIsClosedWithoutItsHook(t *testing.T) {
	for name, c := range map[string]struct {
		hook  string
		loose bool
	}{"as it belongs": {Hook, false}, "gone": {"", true}, "another": {"#!/bin/sh\nexit 0\n", true}} {
		root := machine()
		root["var/lib/yare/mark"] = &fstest.MapFile{Data: []byte("round R\nat 2026-11-21T20:00:00Z\nby op\nreason a fan\n")}
		if c.hook != "" {
			root[strings.TrimPrefix(HookPath, "/")] = &fstest.MapFile{Data: []byte(c.hook)}
		}
		m := read(t, root).Closed
		if m == nil || m.Round != "R" || (m.Loose != "") != c.loose {
			t.Errorf("%s: %+v", name, m)
		}
	}
}

// What waits on a host is told by the names that the wrapper gives; whatever else lies there is not.
func TestWhatWaitsOnAHost(t *testing.T) {
	sum := strings.Repeat("0a", 32)
	got := parseStaged([]string{sum + ".deb 12", sum + ".rpm 0", sum + ".deb.part 3", sum + ".deb -1", sum + ".deb", sum[1:] + ".deb 1",
		sum + ".exe 1", "../x.deb 1", ".deb 1", "", strings.Repeat("zz", 32) + ".deb 4"})
	want := []estate.Staged{{SHA256: sum, Kind: "deb", Size: 12}, {SHA256: sum, Kind: "rpm"}}
	if !slices.Equal(got, want) {
		t.Errorf("%+v, want %+v", got, want)
	}
}

// A host that takes orders and whose list of what waits there can't be had is read in part: nothing of it is gone.
func TestAListOfWhatWaitsThatCantBeHad(t *testing.T) {
	sum := strings.Repeat("0a", 32)
	for name, c := range map[string]struct {
		list   string
		err    error
		staged int
		whole  bool
	}{"a list": {sum + ".deb 12\n", nil, 1, true}, "no such directory": {"", fs.ErrNotExist, 0, true}, "it fails": {"", errors.New("it did not end within 3 s"), 0, false}} {
		root := machine()
		root[strings.TrimPrefix(HookPath, "/")] = &fstest.MapFile{Data: []byte(Hook)}
		root["var/lib/yare/private/guard"] = &fstest.MapFile{Data: []byte("1 R 1 s\n")}
		r := Machine{Name: "here", Now: time.Now, Source: Disk{FS: root, Run: func(command ...string) ([]byte, error) {
			switch command[0] {
			case "sha256sum":
				return []byte(programSums()), nil
			case "find":
				return []byte(c.list), c.err
			}
			return nil, fs.ErrNotExist
		}}}.Read(t.Context(), estate.Host)
		s := r.Section(estate.Host)
		if r.Unready != "" || len(r.Staged) != c.staged || s.Whole() != c.whole || s.Err != "" {
			t.Errorf("%s: %+v, %v, %q", name, s, r.Staged, r.Unready)
		}
	}
}
