package act

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Lent is what is changed for the time of a visit: a service that is stopped or started, or a setting of the kernel.
type Lent struct {
	Unit   string `json:"unit,omitempty"`   // as "chrony.service"
	Starts bool   `json:"starts,omitempty"` // else it is stopped
	// Setting is the kernel's, by its name in sysctl.conf(5), and To what it is set to: a whole number. From is what it was
	// before, which stands in the act alone.
	Setting string `json:"setting,omitempty"`
	To      string `json:"to,omitempty"`
	From    string `json:"from,omitempty"`
}

// KernelSettings are those that are read, and that may be changed for the time of a visit: numbers that neither cut a
// host off nor take anything from its guests. The host's wrapper takes no others.
var KernelSettings = []string{"kernel.hung_task_timeout_secs", "kernel.nmi_watchdog", "kernel.numa_balancing", "kernel.panic", "kernel.panic_on_oops",
	"kernel.softlockup_panic", "kernel.watchdog_thresh", "net.core.netdev_max_backlog", "net.core.rmem_max", "net.core.somaxconn", "net.core.wmem_max",
	"vm.dirty_background_ratio", "vm.dirty_ratio", "vm.max_map_count", "vm.swappiness", "vm.zone_reclaim_mode"}

// KernelSetting is the component of a setting of the kernel.
func KernelSetting(name string) estate.Key { return estate.Key("set:kernel-setting/" + name) }

// ParseLent reads one, as "stop chrony.service", "start tftpd.service" or "set vm.swappiness=1".
func ParseLent(text string) (l Lent, err error) {
	words := strings.Fields(text)
	if len(words) != 2 || !slices.Contains([]string{"stop", "start", "set"}, words[0]) {
		return l, fmt.Errorf("%q is no temporary change: \"stop NAME.service\", \"start NAME.service\" or \"set NAME=NUMBER\" is wanted", text)
	}
	if words[0] == "set" {
		l.Setting, l.To, _ = strings.Cut(words[1], "=")
		if !slices.Contains(KernelSettings, l.Setting) {
			return Lent{}, fmt.Errorf("%q is no setting that is changed for a visit: these are: %s", l.Setting, strings.Join(KernelSettings, ", "))
		}
		if n, err := strconv.ParseUint(l.To, 10, 31); err != nil || strconv.FormatUint(n, 10) != l.To {
			return Lent{}, fmt.Errorf("%q is no number that %s is set to: one as 10 is wanted", l.To, l.Setting)
		}
		return l, nil
	}
	if name, ok := strings.CutSuffix(words[1], ".service"); !ok || name == "" || strings.ContainsAny(name, "/ \t*?") || name[0] == '-' {
		return l, fmt.Errorf("%q is no service's name: one as chrony.service is wanted", words[1])
	}
	l = Lent{Unit: words[1], Starts: words[0] == "start"}
	if !l.Starts && slices.ContainsFunc(needed, func(prefix string) bool { return strings.HasPrefix(l.Unit, prefix) }) {
		return l, fmt.Errorf("%s is not stopped for a visit: the host is reached through it, or its guests run by it", l.Unit)
	}
	return l, nil
}

// needed are how the names begin of services without which a host could not be put back as it was. The host's wrapper
// refuses them by itself.
var needed = []string{"ssh", "libvirt", "virt", "dbus", "systemd-", "network", "NetworkManager", "openvswitch", "ovs", "wicked", "user@", "getty"}

// Says returns it in the words that ParseLent reads.
func (l Lent) Says() string { return l.says(l.Wants(false)) }

func (l Lent) says(wanted string) string {
	if l.Setting != "" {
		return "set " + l.Setting + "=" + wanted
	}
	return map[bool]string{true: "start ", false: "stop "}[wanted == ServiceRuns] + l.Unit
}

// Title names the service or the setting.
func (l Lent) Title() string { return cmp.Or(l.Setting, l.Unit) }

// Component is where it is read.
func (l Lent) Component() estate.Key {
	if l.Setting != "" {
		return KernelSetting(l.Setting)
	}
	return estate.Key("set:service/" + strings.TrimSuffix(l.Unit, ".service"))
}

// How a service is.
const ServiceRuns, ServiceStopped = "running", "stopped"

// Wants is how it is to be for the time of the visit, or once it is put back: "running" or "stopped", or the setting's
// number.
func (l Lent) Wants(back bool) string {
	switch {
	case l.Setting != "" && back:
		return l.From
	case l.Setting != "":
		return l.To
	case l.Starts != back:
		return ServiceRuns
	}
	return ServiceStopped
}

// Back tells whether it is put back where it is so. A setting that is no longer what the visit made it is somebody
// else's by then, or a restart's, and stays.
func (l Lent) Back(is string) bool {
	if l.Setting != "" {
		return is != l.To
	}
	return is == l.Wants(true)
}

// Is tells how it is on a host, in the words of Wants, as far as all of its settings were read.
func (l Lent) Is(r *estate.Reading) (is string, unread error) {
	if err := unreadIn(r, estate.SettingItems); err != nil {
		return "", err
	}
	c, ok := r.Component(l.Component(), "")
	switch {
	case ok && !c.Known():
		return "", errors.New(c.Unread)
	case l.Setting != "" && !ok:
		return "", fmt.Errorf("its kernel tells of no %s", l.Setting)
	case l.Setting != "":
		return c.Version, nil
	case ok && strings.Contains(c.Version, ServiceRuns):
		return ServiceRuns, nil
	}
	return ServiceStopped, nil
}

// Lend changes a service or a setting for the time of a visit. PutBack is owed for it.
var (
	Lend    = define("temporary change", lend{})
	PutBack = define("put back", lend{back: true})
)

type lend struct{ back bool }

func (k lend) Rules() Rules {
	r := Rules{Step: HookStep, Needs: Needs{Alone: true}, Tries: 2, Repeats: true,
		Remedy: "see what stands in the way on the host, then resume the round"}
	if !k.back {
		r.Owes, r.Pays, r.Early = "is changed for the time of the visit", PutBack, true
	}
	return r
}

func (k lend) Says(a Act) string {
	says := a.Lent.says(a.Lent.Wants(k.back))
	if k.back {
		return says + " again"
	}
	return says + " for the time of the visit"
}

func (lend) Takes(Act) (middle, worst time.Duration) { return 5 * time.Second, time.Minute }

func (lend) Asks(Act) Asks { return Asks{Host: []estate.SectionName{estate.SettingItems}, Trace: true} }

func (k lend) Find(a Act, s Seen) Finding {
	switch {
	case s.Trace.Unasked != "":
		return untold(errors.New(s.Trace.Unasked))
	case s.Trace.State == Runs:
		return s.Trace.underWay("")
	}
	is, unread := a.Lent.Is(s.Host)
	switch {
	case unread != nil:
		return untold(unread)
	case k.back && a.Lent.Back(is), !k.back && is == a.Lent.Wants(false):
		return Finding{Outcome: Done}
	case a.Lent.Unit != "" && s.Accepted && s.Trace.State != Broke && s.Now.Sub(s.Since) < 30*time.Second:
		return Finding{Outcome: UnderWay, Detail: "its service manager is told"}
	}
	detail := a.Lent.Title() + " is " + is
	if s.Trace.Error != "" {
		detail += ": " + s.Trace.Error
	}
	return Finding{Outcome: NotDone, Detail: detail}
}
