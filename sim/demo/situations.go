package demo

import (
	"fmt"
	"hash/fnv"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/estate"
	"yareharbour/sim"
)

// inLine are the versions at which a host has nothing against it.
var inLine = []estate.Component{
	{Key: "deb:linux-image-brae", Version: "30.6-brae1"},
	{Key: "deb:qemu-system-x86", Version: "9.2.4-brae1"},
	{Key: "deb:libvirt-daemon", Version: "11.3-brae2", Units: []string{"virtqemud.service"}},
	{Key: "deb:brae-tls", Version: "1.9-brae1", Units: []string{"brae-tls.service"}},
	{Key: "deb:openssh-server", Version: "10.0-brae7", Units: []string{"ssh.service"}},
	{Key: "deb:chrony", Version: "4.6-brae2", Units: []string{"chrony.service"}},
	{Key: "deb:brae-guard", Version: "1.4-1", Units: []string{"brae-guard.service"}},
	{Key: "deb:brae-paths", Version: "2.3-brae2"},
	{Key: "deb:lldpd", Version: "1.1-brae1"},
	{Key: "drv:lorne25", Version: "2.14.3", Model: "Lorne L25", Class: "network"},
	{Key: "fw:corran-bmc", Version: "14.6", Model: "Corran BMC", Class: "bmc"},
	{Key: "fw:lorne-l25", Version: "7.4.2", Model: "Lorne L25", Device: "slot 2", Class: "network"},
	{Key: "fw:ulva-w31", Version: "1.9", Model: "Ulva W31", Device: "bay 1", Class: "disk"},
	{Key: "fw:ulva-w31", Version: "1.9", Model: "Ulva W31", Device: "bay 2", Class: "disk"},
	{Key: "set:service/chrony", Version: "enabled, running"},
	{Key: "set:service/ssh", Version: "enabled, running"},
	{Key: act.KernelSetting("vm.swappiness"), Version: "60"},
	{Key: "set:kernel-argument/iommu", Version: "pt"},
	{Key: "set:name-server/1", Version: "10.20.0.53"},
	{Key: "set:name-server/2", Version: "10.20.1.53"},
	{Key: "set:firewall/default", Version: "drop"},
}

// large are what only the large model has.
var large = []estate.Component{
	{Key: "drv:tarbet9", Version: "2.6.1", Model: "Tarbet S9", Class: "storage"},
	{Key: "fw:corran-bios", Version: "2.5.0", Model: "Quay 1", Class: "bios"},
	{Key: "fw:lorne-l25", Version: "7.4.2", Model: "Lorne L25", Device: "slot 4", Class: "network"},
	{Key: "fw:tarbet-s9", Version: "4.19.0", Model: "Tarbet S9", Class: "storage"},
}

func host(name, cluster string, n int) *sim.Host {
	h := &sim.Host{Name: name, Up: true, Restart: time.Duration(330+17*n) * time.Second}
	r := &h.Reading
	sum := fnv.New32a()
	sum.Write([]byte(name))
	r.Host, r.Release = name, "Brae Linux 4.2"
	r.BootID = fmt.Sprintf("%08x-0000-4000-8000-%012x", sum.Sum32(), n)
	r.BootedAt = Start.AddDate(0, 0, -40-n)
	r.Networks = []string{cluster, "storage", "migration"}
	r.Components = append(r.Components, inLine...)
	r.Board = map[string]string{"BootMode": "Uefi", "Virtualization": "Enabled", "PowerProfile": "Balanced",
		"MemoryInterleaving": "Auto", "DeviceIsolation": "Enabled"}
	r.Hardware = estate.Hardware{Maker: "Corran", Model: "Quay 1", Serial: fmt.Sprintf("Q1-%06d", sum.Sum32()%1e6)}
	r.Capacity = estate.Resources{MemoryMiB: 512 << 10, CPU: 64000}
	if cluster == "yard" {
		r.Hardware.Model = "Quay 2"
		r.Capacity = estate.Resources{MemoryMiB: 256 << 10, CPU: 32000}
		r.Components = append(r.Components,
			estate.Component{Key: "fw:corran-bios", Version: "1.9.2", Model: "Quay 2", Class: "bios"})
	} else {
		r.Components = append(r.Components, large...)
	}
	r.Health = []estate.Health{{Item: "power supply 1", OK: true}, {Item: "power supply 2", OK: true},
		{Item: "fans", OK: true}, {Item: "boot device", OK: true}}
	r.BMC.Power = "On"
	r.Condition = estate.Condition{Root: "ext4",
		Space: []estate.Space{{Path: "/", FreeMiB: 30 << 10, SizeMiB: 60 << 10},
			{Path: "/boot", FreeMiB: 512, SizeMiB: 1024}, {Path: "/var", FreeMiB: 80 << 10, SizeMiB: 120 << 10}},
		Bonds: []estate.Bond{{Name: "bond0",
			Links: []estate.Link{{Name: "slot 2 port 1", Up: true}, {Name: "slot 4 port 1", Up: true}}}},
		Arrays:       []estate.Array{{Name: "md0", Whole: true}},
		Wear:         []estate.Wear{{Name: "nvme0n1", Used: 4 + n%7}, {Name: "nvme1n1", Used: 3 + n%7}},
		Certificates: []estate.Certificate{{Name: "/etc/pki/libvirt/servercert.pem", Until: Start.AddDate(1, 0, n)}}}
	return h
}

// set puts a component of the host at a version, on every device it is on, or adds it.
func set(w *sim.World, host string, key estate.Key, ver string) {
	r := &w.Hosts[host].Reading
	found := false
	for i := range r.Components {
		if r.Components[i].Key == key {
			r.Components[i].Version, found = ver, true
		}
	}
	if !found {
		r.Components = append(r.Components, estate.Component{Key: key, Version: ver})
	}
}

// setAt does so for one device.
func setAt(w *sim.World, host string, key estate.Key, device, ver string) {
	r := &w.Hosts[host].Reading
	for i := range r.Components {
		if r.Components[i].Key == key && r.Components[i].Device == device {
			r.Components[i].Version = ver
		}
	}
}

func without(w *sim.World, host string, key estate.Key) {
	r := &w.Hosts[host].Reading
	for i := range r.Components {
		if r.Components[i].Key == key {
			r.Components = append(r.Components[:i], r.Components[i+1:]...)
			return
		}
	}
}

func awaiting(w *sim.World, host string, key estate.Key, running string) {
	r := &w.Hosts[host].Reading
	for i := range r.Components {
		if r.Components[i].Key == key {
			r.Components[i].Running, r.Components[i].Restarts = running, "host"
		}
	}
}

// halfInstalled leaves a package as an interrupted installation does.
func halfInstalled(w *sim.World, host string, key estate.Key) {
	r := &w.Hosts[host].Reading
	for i := range r.Components {
		if r.Components[i].Key == key {
			r.Components[i].State = "half-configured"
		}
	}
}

// situations puts hosts out of line, each in its own way. All of vts can be mended by a round; tides needs people
// first; yard has no room.
func situations(w *sim.World) {
	// vts: much to do on heron, in two passes, since the adapter's firmware wants the new driver to run first.
	set(w, "heron", "deb:linux-image-brae", "30.4-brae1")
	set(w, "heron", "deb:brae-tls", "1.8-brae1")
	set(w, "heron", "fw:lorne-l25", "7.3.1")
	set(w, "heron", "fw:corran-bmc", "14.2")
	set(w, "heron", "drv:tarbet9", "2.5.0")
	set(w, "heron", "fw:tarbet-s9", "4.12.1")
	awaiting(w, "ibis", "deb:linux-image-brae", "30.4-brae1")
	set(w, "ibis", "deb:brae-tls", "1.8-brae1")
	setAt(w, "jacana", "fw:lorne-l25", "slot 2", "7.4.0")
	without(w, "jacana", "deb:brae-guard")
	set(w, "jacana", "deb:telnetd", "0.9-brae4")
	set(w, "knot", "deb:brae-tls", "1.8-brae1")

	// tides: nearly everything that can stand in the way.
	set(w, "avocet", "deb:linux-image-brae", "30.4-brae1")
	set(w, "avocet", "fw:corran-bios", "2.4.1")
	set(w, "bittern", "deb:qemu-system-x86", "9.2.3-brae1")
	set(w, "bittern", "drv:lorne25", "2.14.1")
	set(w, "curlew", "fw:lorne-l25", "7.4.0")
	w.Hosts["curlew"].Waiting = []string{"waiting-1", "waiting-2"}
	w.Hosts["curlew"].Since = map[string]time.Time{"waiting-1": Start.AddDate(0, -11, 0), "waiting-2": Start.AddDate(0, -11, 0)}
	set(w, "dunlin", "fw:tarbet-s9", "5.2.0")
	setAt(w, "dunlin", "fw:lorne-l25", "slot 4", "7.4.0")
	chassis := &w.Hosts["avocet"].Reading // what comes by an image alone
	chassis.Components = append(chassis.Components,
		estate.Component{Key: "fw:corran-hub", Version: "2.1", Model: "Corran Hub 3", Class: "storage"},
		estate.Component{Key: "fw:corran-panel", Version: "1.2", Model: "Corran Panel 3", Class: "system"})
	set(w, "egret", "fw:corran-bios", "2.4.1")
	set(w, "fulmar", "deb:chrony", "4.7-brae1")
	setAt(w, "fulmar", "fw:ulva-w31", "bay 2", "1.7")
	w.Hosts["fulmar"].Reading.Health[1] = estate.Health{Item: "power supply 2", Detail: "no input voltage since 19 Nov"}
	w.Hosts["fulmar"].Reading.Condition.Bonds[0].Links[1].Up = false
	w.Hosts["curlew"].Reading.Condition.Arrays[0] = estate.Array{Name: "md0", Detail: "recovery at 41 %"}
	w.Hosts["avocet"].Reading.Condition.Certificates[0].Until = Start.AddDate(0, 0, 12)
	closed := &w.Hosts["godwit"].Reading
	closed.Closed = &estate.Mark{By: "night shift", Reason: "memory errors in bank B, waiting for parts",
		At: time.Date(2026, 11, 15, 3, 40, 0, 0, time.UTC)}
	set(w, "godwit", "deb:linux-image-brae", "30.4-brae1")
	w.Hosts["godwit"].Unread = map[estate.SectionName]string{estate.FirmwareItems: "the inventory is being rebuilt"}

	// yard: behind, and so full that the reserve can't be kept while one host is away.
	for _, h := range []string{"ruff", "stint", "whimbrel"} {
		set(w, h, "deb:linux-image-brae", "30.4-brae1")
	}
	set(w, "turnstone", "deb:brae-tls", "1.8-brae1")
	halfInstalled(w, "whimbrel", "deb:openssh-server")
	insides(w)
}

// insides are situations in settings, inside guests, and of programs that were replaced under those who run them. None
// is in vts: no round mends them.
func insides(w *sim.World) {
	set(w, "bittern", "set:kernel-argument/iommu", "off")
	set(w, "egret", "set:name-server/1", "10.20.0.54")
	set(w, "stint", "set:service/telnet", "enabled, running")
	without(w, "ruff", "set:firewall/default")
	guest := func(host, name string, change func(*estate.Guest)) {
		gs := w.Hosts[host].Reading.Guests
		for i := range gs {
			if gs[i].Name == name {
				change(&gs[i])
			}
		}
	}
	guest("curlew", "sms-out", func(g *estate.Guest) { g.Agent.Version = "2.1" })
	guest("dunlin", "ensemble-2", func(g *estate.Guest) { g.Agent = estate.Inner{} })
	guest("avocet", "datum-check", func(g *estate.Guest) { g.Machine = estate.Inner{Name: "i440fx", Version: "6.2"} })
	guest("egret", "obs-cache", func(g *estate.Guest) { g.Machine.Version = "8.1" })
	guest("turnstone", "yard-plan", func(g *estate.Guest) { g.Emulator = "9.2.3-brae1" })
	guest("turnstone", "badge-office", func(g *estate.Guest) { g.Emulator = "9.2.3-brae1" })
	cs := w.Hosts["stint"].Reading.Components
	for i := range cs {
		if cs[i].Key == "deb:libvirt-daemon" {
			cs[i].Holders = []estate.Holder{{Service: "virtqemud.service", Runs: "11.3-brae1"}}
		}
	}
	gs := w.Hosts["bittern"].Reading.Guests // its emulator is the older one
	for i := range gs {
		gs[i].Emulator = "9.2.3-brae1"
	}
}
