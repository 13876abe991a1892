package linux

import (
	"cmp"
	"errors"
	"path"
	"regexp"
	"strings"

	"yareharbour/core/estate"
)

const pciDevices = "sys/bus/pci/devices"

// drivers reads the devices of the PCI bus with the drivers bound to them, and the drivers' own versions where they
// have one: a driver that belongs to the kernel has the kernel's.
func (m Machine) drivers(r *estate.Reading) error {
	devices := m.Glob(pciDevices + "/*")
	if len(devices) == 0 {
		return errors.New("no PCI device is shown below /sys/bus/pci/devices")
	}
	kernel, err := m.text("proc/sys/kernel/osrelease")
	if err != nil {
		return err
	}
	for _, at := range devices {
		driver := m.boundDriver(at)
		if driver == "" {
			continue
		}
		v, err := m.text(path.Join("sys/module", strings.ReplaceAll(driver, "-", "_"), "version"))
		if err != nil || v == "" {
			v = kernel
		}
		r.Components = append(r.Components, estate.Component{Key: estate.NewKey("drv", driver), Device: path.Base(at),
			Version: v, Model: m.pciModel(at), Class: m.pciClass(at)})
	}
	return nil
}

// boundDriver is the DRIVER line of the device's uevent file.
func (m Machine) boundDriver(at string) string {
	b, _ := m.ReadFile(path.Join(at, "uevent"))
	for _, l := range lines(b) {
		if v, ok := strings.CutPrefix(l, "DRIVER="); ok {
			return v
		}
	}
	return ""
}

// pciClass is the kind of device that the class code of its PCI configuration says (PCI Code and ID Assignment
// Specification: the first byte).
func (m Machine) pciClass(at string) string {
	code, _ := m.text(path.Join(at, "class"))
	switch code = strings.TrimPrefix(code, "0x"); {
	case strings.HasPrefix(code, "01"):
		return "storage"
	case strings.HasPrefix(code, "02"), strings.HasPrefix(code, "0c06"): // InfiniBand is a serial bus
		return "network"
	case strings.HasPrefix(code, "03"):
		return "graphics"
	}
	return "other"
}

// pciModel is what a PCI device calls itself: its vendor's and its own number.
func (m Machine) pciModel(at string) string {
	vendor, _ := m.text(path.Join(at, "vendor"))
	device, _ := m.text(path.Join(at, "device"))
	return strings.TrimPrefix(vendor, "0x") + ":" + strings.TrimPrefix(device, "0x")
}

// firmware reads the DMI table as the kernel exports it, and what adapters and disks tell through their drivers. The
// serial number is readable by root only, and left out without a word.
func (m Machine) firmware(r *estate.Reading) error {
	const dmi = "sys/class/dmi/id/"
	bios, err := m.text(dmi + "bios_version")
	if err == nil {
		r.Hardware.Maker, _ = m.text(dmi + "sys_vendor")
		r.Hardware.Model, _ = m.text(dmi + "product_name")
		r.Hardware.Serial, _ = m.text(dmi + "product_serial")
		r.Components = append(r.Components,
			estate.Component{Key: "fw:bios", Version: bios, Model: r.Hardware.Model, Class: "bios"})
		if v, err := m.text(dmi + "ec_firmware_release"); err == nil && v != "" {
			r.Components = append(r.Components,
				estate.Component{Key: "fw:ec", Version: v, Model: r.Hardware.Model, Class: "other"})
		}
	} else if missing(err) {
		err = errors.New("this machine has no DMI table")
	}
	var some partly
	m.diskFirmware(r, &some)
	m.adapterFirmware(r, &some)
	return some.or(err)
}

// diskFirmware reads NVMe and SCSI disks, each as the model that it is.
func (m Machine) diskFirmware(r *estate.Reading, some *partly) {
	for _, d := range []struct{ glob, model, version string }{
		{"sys/class/nvme/*", "model", "firmware_rev"},
		{"sys/block/sd*", "device/model", "device/rev"},
	} {
		for _, at := range m.Glob(d.glob) {
			model, noModel := m.text(path.Join(at, d.model))
			v, err := m.text(path.Join(at, d.version))
			some.note("the firmware of "+path.Base(at), cmp.Or(noModel, err))
			if err == nil && model != "" {
				r.Components = append(r.Components, item(model, "disk", path.Base(at), v))
			}
		}
	}
}

// adapterFirmware asks ethtool for the firmware of each network adapter that is a device, and the file system for that
// of InfiniBand adapters. Of an adapter that tells no version nothing is said, and of one that is no PCI device, as in
// a virtual machine, where nobody can be asked.
func (m Machine) adapterFirmware(r *estate.Reading, some *partly) {
	seen := map[string]bool{}
	for _, at := range m.Glob("sys/class/net/*/device/uevent") {
		name := strings.Split(at, "/")[3]
		out, err := m.Output("ethtool", "-i", name)
		if err != nil {
			if text, _ := m.text(at); strings.Contains(text, "PCI_SLOT_NAME=") {
				*some = append(*some, "the firmware of "+name+": "+err.Error())
			}
			continue
		}
		told := map[string]string{}
		for _, l := range lines(out) {
			k, v, _ := strings.Cut(l, ":")
			told[k] = strings.TrimSpace(v)
		}
		bus, v := told["bus-info"], told["firmware-version"]
		if v == "" || v == "N/A" || told["driver"] == "" || bus == "" || seen[bus] { // several ports may share a device
			continue
		}
		seen[bus] = true
		r.Components = append(r.Components,
			estate.Component{Key: estate.NewKey("fw", told["driver"]), Device: bus, Version: firstWord(v),
				Model: m.pciModel(path.Join(pciDevices, bus)), Class: "network"})
	}
	for _, at := range m.Glob("sys/class/infiniband/*") {
		model, noModel := m.text(path.Join(at, "board_id"))
		v, err := m.text(path.Join(at, "fw_ver"))
		some.note("the firmware of "+path.Base(at), cmp.Or(noModel, err))
		if err == nil && model != "" {
			r.Components = append(r.Components, item(model, "network", path.Base(at), v))
		}
	}
}

// item is the firmware of a device that is named by its model.
func item(model, class, device, v string) estate.Component {
	c := estate.Component{Key: estate.Key("fw:" + slug(model)), Device: device, Version: firstWord(v),
		Model: model, Class: class}
	if c.Version == "" {
		c.Unread = "the device names no version"
	}
	return c
}

// firstWord leaves out what makers append to a version in words.
func firstWord(v string) string {
	f := strings.Fields(v)
	if len(f) == 0 {
		return ""
	}
	return f[0]
}

var notInSlug = regexp.MustCompile(`[^a-z0-9.]+`)

// slug makes a component's name of a model's: small letters, digits and dots, with hyphens between.
func slug(model string) string {
	return strings.Trim(notInSlug.ReplaceAllString(strings.ToLower(model), "-"), "-")
}
