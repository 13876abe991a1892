// Package local reads this machine: packages from dpkg's own database, the kernel that runs and the newest one installed,
// drivers with the devices bound to them from sysfs, model and firmware from DMI, settings, and which services and emulators still run what was
// replaced under them. It changes nothing, and needs no rights
// beyond reading; what can't be read is unread with the reason.
package local

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/core/estate"
	"yareharbour/core/version"
	"yareharbour/format/debindex"
)

// Reader reads the machine whose root directory is Root. Nothing below it is written.
type Reader struct {
	Root fs.FS
	Name string // of the host
	Now  func() time.Time
}

// New reads this very machine.
func New() (*Reader, error) {
	name, err := os.Hostname()
	if err != nil {
		return nil, fmt.Errorf("this machine's name: %w", err)
	}
	return &Reader{Root: os.DirFS("/"), Name: name, Now: time.Now}, nil
}

// Read reads all sections. Guests and the BMC of a machine can't be read from inside it, and are unread.
func (l *Reader) Read(_ context.Context, host string, _ ...estate.SectionName) (*estate.Reading, error) {
	if host != "" && host != l.Name {
		return nil, fmt.Errorf("this machine is %s, not %s", l.Name, host)
	}
	r := &estate.Reading{Host: l.Name}
	all, hidden := l.processes()
	for _, s := range []struct {
		name   estate.SectionName
		source string
		read   func(*estate.Reading) error
	}{
		{estate.Host, "/proc", l.host},
		{estate.Packages, "/var/lib/dpkg/status", l.packages},
		{estate.Drivers, "/sys/bus", l.drivers},
		{estate.FirmwareItems, "/sys/class/dmi/id", l.firmware},
		{estate.GuestList, "hypervisor", func(*estate.Reading) error { return errors.New("not asked for with --local") }},
		{estate.HealthItems, "BMC", func(*estate.Reading) error { return errors.New("not asked for with --local") }},
		{estate.BMCState, "BMC", func(*estate.Reading) error { return errors.New("not asked for with --local") }},
		{estate.SettingItems, "/proc, /etc", func(r *estate.Reading) error { return l.settings(r, all) }},
	} {
		section := estate.Section{Name: s.name, At: l.Now(), Source: s.source}
		if err := s.read(r); err != nil {
			section.Err = err.Error()
		}
		if s.name == estate.Packages && hidden > 0 {
			section.Source += fmt.Sprintf(" (processes hidden from this user: %d)", hidden)
		}
		r.SetSection(section)
	}
	l.kernelPackage(r)
	l.holders(r, all)
	r.Sort()
	return r, nil
}

func (l *Reader) text(name string) (string, error) {
	b, err := fs.ReadFile(l.Root, name)
	return strings.TrimSpace(string(b)), err
}

// host reads what proc(5) tells: the kernel, the boot, memory and processors.
func (l *Reader) host(r *estate.Reading) error {
	var err error
	if r.Kernel.Running, err = l.text("proc/sys/kernel/osrelease"); err != nil {
		return err
	}
	if r.BootID, err = l.text("proc/sys/kernel/random/boot_id"); err != nil {
		return err
	}
	if up, err := l.text("proc/uptime"); err == nil {
		if s, err := strconv.ParseFloat(strings.Fields(up + " 0")[0], 64); err == nil {
			r.BootedAt = l.Now().Add(-time.Duration(s * float64(time.Second))).Truncate(time.Second)
		}
	}
	r.Release = l.osRelease()
	r.Capacity = estate.Resources{MemoryMiB: l.memory(), CPU: 1000 * l.processors()}
	r.Kernel.Installed = l.newestKernel()
	return nil
}

// osRelease is PRETTY_NAME of os-release(5).
func (l *Reader) osRelease() string {
	text, _ := l.text("etc/os-release")
	for line := range strings.Lines(text) {
		if v, ok := strings.CutPrefix(line, "PRETTY_NAME="); ok {
			return strings.Trim(strings.TrimSpace(v), `"'`)
		}
	}
	return ""
}

func (l *Reader) memory() int64 {
	text, _ := l.text("proc/meminfo")
	f := strings.Fields(text)
	if len(f) > 1 && f[0] == "MemTotal:" {
		kib, _ := strconv.ParseInt(f[1], 10, 64)
		return kib / 1024
	}
	return 0
}

func (l *Reader) processors() int64 {
	text, _ := l.text("proc/cpuinfo")
	return int64(strings.Count("\n"+text, "\nprocessor"))
}

// newestKernel is the newest kernel image below /boot, and "" where there is none: a container, or a machine started from elsewhere.
func (l *Reader) newestKernel() string {
	names, _ := fs.Glob(l.Root, "boot/vmlinuz-*")
	newest := ""
	for _, n := range names {
		if v := strings.TrimPrefix(path.Base(n), "vmlinuz-"); newest == "" || version.Dotted.Compare(v, newest) > 0 {
			newest = v
		}
	}
	return newest
}

func (l *Reader) packages(r *estate.Reading) error {
	f, err := l.Root.Open("var/lib/dpkg/status")
	if err != nil {
		return err
	}
	defer f.Close()
	installed, native, err := debindex.ReadStatus(f)
	if err != nil {
		return err
	}
	for _, p := range installed {
		r.Components = append(r.Components, estate.Component{Key: debindex.Key(p.Name, p.Arch, native), Version: p.Version})
	}
	return nil
}

// kernelPackage notes on the package of the newest installed kernel that another one runs, as long as both are of this distribution.
func (l *Reader) kernelPackage(r *estate.Reading) {
	k := r.Kernel
	if k.Installed == "" || k.Installed == k.Running || !slices.ContainsFunc(r.Components, func(c estate.Component) bool {
		return c.Key == estate.Key("deb:linux-image-"+k.Running)
	}) {
		return
	}
	for i := range r.Components {
		if c := &r.Components[i]; c.Key == estate.Key("deb:linux-image-"+k.Installed) {
			c.Running, c.Restarts = k.Running, "host"
		}
	}
}

// drivers reads the devices of the PCI bus with the drivers bound to them, and the drivers' own versions where they have one: a driver that
// belongs to the kernel has the kernel's.
func (l *Reader) drivers(r *estate.Reading) error {
	devices, err := fs.ReadDir(l.Root, "sys/bus/pci/devices")
	if err != nil {
		return err
	}
	kernel, err := l.text("proc/sys/kernel/osrelease")
	if err != nil {
		return err
	}
	for _, d := range devices {
		at := path.Join("sys/bus/pci/devices", d.Name())
		driver := l.boundDriver(at)
		if driver == "" {
			continue
		}
		v, err := l.text(path.Join("sys/module", strings.ReplaceAll(driver, "-", "_"), "version"))
		if err != nil || v == "" {
			v = kernel
		}
		vendor, _ := l.text(path.Join(at, "vendor"))
		device, _ := l.text(path.Join(at, "device"))
		r.Components = append(r.Components, estate.Component{Key: estate.Key("drv:" + driver), Device: d.Name(), Version: v,
			Model: strings.TrimPrefix(vendor, "0x") + ":" + strings.TrimPrefix(device, "0x")})
	}
	return nil
}

// boundDriver is the DRIVER line of the device's uevent file.
func (l *Reader) boundDriver(at string) string {
	f, err := l.Root.Open(path.Join(at, "uevent"))
	if err != nil {
		return ""
	}
	defer f.Close()
	for sc := bufio.NewScanner(f); sc.Scan(); {
		if v, ok := strings.CutPrefix(sc.Text(), "DRIVER="); ok {
			return v
		}
	}
	return ""
}

// firmware reads the DMI table as the kernel exports it. The serial number is readable by root only, and left out without a word.
func (l *Reader) firmware(r *estate.Reading) error {
	const dmi = "sys/class/dmi/id/"
	v, err := l.text(dmi + "bios_version")
	if err != nil {
		if _, gone := fs.Stat(l.Root, "sys/class/dmi"); gone != nil {
			return errors.New("this machine has no DMI table")
		}
		return err
	}
	r.Hardware.Maker, _ = l.text(dmi + "sys_vendor")
	r.Hardware.Model, _ = l.text(dmi + "product_name")
	r.Hardware.Serial, _ = l.text(dmi + "product_serial")
	r.Components = append(r.Components, estate.Component{Key: "fw:bios", Version: v, Model: r.Hardware.Model})
	if v, err := l.text(dmi + "ec_firmware_release"); err == nil && v != "" {
		r.Components = append(r.Components, estate.Component{Key: "fw:ec", Version: v, Model: r.Hardware.Model})
	}
	return nil
}
