package estate

import (
	"fmt"
	"path"
	"strings"
)

// isService tells whether a name is a service's, as systemd.unit(5) allows it.
func isService(unit string) bool {
	base, ok := strings.CutSuffix(unit, ".service")
	odd := func(c rune) bool {
		return (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && !strings.ContainsRune(`:_.@\-`, c)
	}
	return ok && base != "" && len(unit) <= 255 && !strings.ContainsFunc(base, odd) && !strings.ContainsRune(`:_.@\-`, rune(base[0]))
}

// Kept are services that nobody restarts while the host runs, as patterns of path.Match: they end sessions, power,
// login or guests, or take away the network under them. The program on a host that carries orders out has the same
// list, and refuses them by itself.
var Kept = []string{"systemd-poweroff*", "systemd-reboot*", "systemd-halt*", "systemd-kexec*", "systemd-suspend*",
	"systemd-hibernate*", "systemd-hybrid-sleep*", "systemd-soft-reboot*", "systemd-exit*", "systemd-logind*",
	"systemd-user-sessions*", "systemd-networkd*", "user@*", "user-runtime-dir@*", "session*", "*getty*", "dbus*",
	"emergency*", "rescue*", "initrd*", "libvirt-guests*", "libvirt-suspendonreboot*", "networking*", "network*",
	"NetworkManager*", "openvswitch*", "ovs-*", "ovsdb-*", "wicked*", "ifup@*", "display-manager*"}

// Restartable says, by an error, why nobody restarts a service of that name while its host runs; nil: it may be.
func Restartable(unit string) error {
	if !isService(unit) {
		return fmt.Errorf("%q is no service's name", unit)
	}
	for _, k := range Kept {
		if ok, _ := path.Match(k, unit); ok { // the patterns are our own, and well formed
			return fmt.Errorf("%s is not restarted while the host runs", unit)
		}
	}
	return nil
}

// UnitOf is the system's own service that a line of /proc/PID/cgroup names, and "" where it names none. Only what
// stands directly below /system.slice is one, or below the slice that systemd itself makes there for the instances of a
// template: anything further in was named by whoever owns it, as everything below a user's slice was.
func UnitOf(line string) string {
	hierarchy, at, _ := strings.Cut(line, ":")
	controllers, at, _ := strings.Cut(at, ":")
	if controllers != "name=systemd" && (hierarchy != "0" || controllers != "") {
		return ""
	}
	rest, ok := strings.CutPrefix(at, "/system.slice/")
	if !ok {
		return ""
	}
	unit, further, _ := strings.Cut(rest, "/")
	if slice, ok := strings.CutSuffix(unit, ".slice"); ok {
		unit, _, _ = strings.Cut(further, "/")
		template, _, instance := strings.Cut(unit, "@")
		if !instance || slice != "system-"+strings.ReplaceAll(template, "-", `\x2d`) {
			return ""
		}
	}
	if !isService(unit) {
		return ""
	}
	return unit
}
