package act

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yareharbour/core/estate"
)

// Lent is a service that is stopped, or started, for the time of a visit.
type Lent struct {
	Unit   string `json:"unit"`             // as "chrony.service"
	Starts bool   `json:"starts,omitempty"` // else it is stopped
}

// ParseLent reads one, as "stop chrony.service" or "start tftpd.service".
func ParseLent(text string) (l Lent, err error) {
	words := strings.Fields(text)
	if len(words) != 2 || words[0] != "stop" && words[0] != "start" {
		return l, fmt.Errorf("%q is no temporary change: \"stop NAME.service\" or \"start NAME.service\" is wanted", text)
	}
	if name, ok := strings.CutSuffix(words[1], ".service"); !ok || name == "" || strings.ContainsAny(name, "/ \t*?") || name[0] == '-' {
		return l, fmt.Errorf("%q is no service's name: one as chrony.service is wanted", words[1])
	}
	l = Lent{words[1], words[0] == "start"}
	if !l.Starts && slices.ContainsFunc(needed, func(prefix string) bool { return strings.HasPrefix(l.Unit, prefix) }) {
		return l, fmt.Errorf("%s is not stopped for a visit: the host is reached through it, or its guests run by it", l.Unit)
	}
	return l, nil
}

// needed are how the names begin of services without which a host could not be put back as it was. The host's wrapper
// refuses them by itself.
var needed = []string{"ssh", "libvirt", "virt", "dbus", "systemd-", "network", "NetworkManager", "openvswitch", "ovs", "wicked", "user@", "getty"}

// Says returns it in the words that ParseLent reads.
func (l Lent) Says() string {
	return map[bool]string{true: "start ", false: "stop "}[l.Starts] + l.Unit
}

// Setting is the component by which the service is read.
func (l Lent) Setting() estate.Key {
	return estate.Key("set:service/" + strings.TrimSuffix(l.Unit, ".service"))
}

// Runs tells whether the service runs on a host, as far as all of its settings were read.
func (l Lent) Runs(r *estate.Reading) (runs bool, unread error) {
	if err := unreadIn(r, estate.SettingItems); err != nil {
		return false, err
	}
	c, ok := r.Component(l.Setting(), "")
	if ok && !c.Known() {
		return false, errors.New(c.Unread)
	}
	return ok && strings.Contains(c.Version, "running"), nil
}

// Lend changes a service for the time of a visit. PutBack is owed for it.
var (
	Lend    = define("temporary change", lend{})
	PutBack = define("put back", lend{back: true})
)

type lend struct{ back bool }

func (k lend) Rules() Rules {
	r := Rules{Step: HookStep, Needs: Needs{Alone: true}, Tries: 2, Repeats: true,
		Remedy: "see the service's own log on the host, then resume the round"}
	if !k.back {
		r.Owes, r.Pays, r.Early = "is changed for the time of the visit", PutBack, true
	}
	return r
}

// wants tells whether the service is to run in the end.
func (k lend) wants(a Act) bool { return a.Lent.Starts != k.back }

func (k lend) Says(a Act) string {
	says := Lent{a.Lent.Unit, k.wants(a)}.Says()
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
	runs, unread := a.Lent.Runs(s.Host)
	switch {
	case unread != nil:
		return untold(unread)
	case runs == k.wants(a):
		return Finding{Outcome: Done}
	case s.Accepted && s.Trace.State != Broke && s.Now.Sub(s.Since) < 30*time.Second:
		return Finding{Outcome: UnderWay, Detail: "its service manager is told"}
	}
	is := map[bool]string{true: "runs", false: "does not run"}[runs]
	if s.Trace.Error != "" {
		is += ": " + s.Trace.Error
	}
	return Finding{Outcome: NotDone, Detail: a.Lent.Unit + " " + is}
}
