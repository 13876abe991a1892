package act

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
)

// What a hook says is read as it was written; what means nothing is refused with what was wanted.
func TestParseHook(t *testing.T) {
	for text, want := range map[string]Hook{
		"before visit: /opt/x": {Before: true, Of: "visit", Program: "/opt/x", Within: time.Minute, GoOn: []int{0}},
		"after restart on host within 2m wait 75,76 repeatable: /opt/x a b:c": {Of: "restart", OnHost: true, Program: "/opt/x",
			Args: []string{"a", "b:c"}, Within: 2 * time.Minute, GoOn: []int{0}, Wait: []int{75, 76}, Repeats: true},
		"before round go-on 0,3: /opt/x": {Before: true, Of: "round", Program: "/opt/x", Within: time.Minute, GoOn: []int{0, 3}},
	} {
		h, err := ParseHook(text)
		if len(h.Args) == 0 {
			h.Args = nil
		}
		if err != nil || !reflect.DeepEqual(h, want) {
			t.Errorf("%s: %+v, %v", text, h, err)
		}
		if h.Says() != text {
			t.Errorf("%q is said as %q", text, h.Says())
		}
	}
	for text, want := range map[string]string{
		"": "is no hook", "/opt/x": "is no hook", "before visit /opt/x": "is no hook", "before visit: ": "is no hook",
		"during visit: /opt/x": "before or after", "before lunch: /opt/x": `there is nothing called "lunch"`,
		"before precheck: /opt/x": "nothing called", "before visit: x": "absolute path", "before visit: /opt/../x": "absolute path",
		"before visit on moon: /x": "not on \"moon\"", "before visit within 0s: /x": "a second to a day", "before visit within x: /x": "",
		"before visit wait 0: /x": "both go on and wait", "before visit wait 72: /x": "no exit status", "before visit go-on 124: /x": "no exit status",
		"before visit go-on: /x": "no exit status", "before visit twice: /x": `there is no "twice"`,
		"before round on host: /x": "controller", "after round wait 75: /x": "nothing is left to wait with",
	} {
		if h, err := ParseHook(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q is %+v, %v; want %q", text, h, err, want)
		}
	}
}

// A temporary change is read as it was written; what would cut the host off is refused.
func TestParseLent(t *testing.T) {
	for text, want := range map[string]Lent{"stop chrony.service": {Unit: "chrony.service"}, "start  sshd.service": {Unit: "sshd.service", Starts: true},
		"set vm.swappiness=0": {Setting: "vm.swappiness", To: "0"}} {
		if l, err := ParseLent(text); err != nil || l != want || strings.Join(strings.Fields(text), " ") != l.Says() {
			t.Errorf("%s: %+v, %v", text, l, err)
		}
	}
	for text, want := range map[string]string{
		"": "is no temporary change", "stop": "is no temporary change", "restart x.service": "is no temporary change", "stop a.service b.service": "is no temporary change",
		"stop chrony": "no service's name", "stop .service": "no service's name", "stop a/b.service": "no service's name", "stop -x.service": "no service's name",
		"stop *.service": "no service's name", "stop ssh.service": "reached through it", "stop libvirtd.service": "reached through it",
		"stop virtqemud.service": "reached through it", "stop dbus.service": "reached through it",
		"set vm.swappiness": "is no number", "set vm.swappiness=-1": "is no number", "set vm.swappiness=010": "is no number", "set vm.swappiness=1k": "is no number",
		"set kernel.core_pattern=1": "no setting that is changed", "set net.ipv6.conf.all.disable_ipv6=1": "no setting that is changed", "set =1": "no setting",
	} {
		if l, err := ParseLent(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q is %+v, %v", text, l, err)
		}
	}
}

// How a hook ended is lost, and it may be run again: that is no failure, and no person is needed.
func TestAHookThatMayBeRunAgain(t *testing.T) {
	a := anAct(RunHook)
	again := *a.Hook
	again.Repeats = true
	a.Hook = &again
	for _, tr := range []Trace{{}, {State: Lost}} {
		if f := RunHook.Of().Find(a, Seen{Accepted: true, Trace: tr}); f.Outcome != NotDone || !f.Again {
			t.Errorf("%+v: %+v", tr, f)
		}
	}
	if got := Tail(strings.Repeat("é", 500) + "\n end"); len(got) > 410 || !strings.HasSuffix(got, "é end") || !strings.HasPrefix(got, "… é") {
		t.Errorf("%q", got)
	}
}

// A setting is put back as long as it is what the visit made it; a service as long as it is not as it was. What the host's
// kernel does not tell of is nobody's to change.
func TestWhatIsPutBack(t *testing.T) {
	setting, service := Lent{Setting: "vm.swappiness", To: "1", From: "60"}, Lent{Unit: "x.service"}
	for _, c := range []struct {
		lent       Lent
		version    string
		lend, back Outcome
	}{
		{setting, "60", NotDone, Done},
		{setting, "1", Done, NotDone},
		{setting, "30", NotDone, Done}, // somebody else's
		{setting, "", Untold, Untold},
		{service, "enabled, running", NotDone, Done},
		{service, "enabled", Done, NotDone},
		{service, "", Done, NotDone},
	} {
		r := &estate.Reading{}
		r.SetSection(estate.Section{Name: estate.SettingItems, At: time.Unix(1e9, 0)})
		if c.version != "" {
			r.Components = []estate.Component{{Key: c.lent.Component(), Version: c.version}}
		}
		for kind, want := range map[Name]Outcome{Lend: c.lend, PutBack: c.back} {
			if f := kind.Of().Find(Act{Kind: kind, Lent: &c.lent}, Seen{Host: r, Now: time.Unix(2e9, 0)}); f.Outcome != want {
				t.Errorf("%s of %s at %q: %+v, want %s", kind, c.lent.Title(), c.version, f, want)
			}
		}
	}
	a := Act{Lent: &setting}
	if got := Lend.Of().Says(a) + "; " + PutBack.Of().Says(a); got != "set vm.swappiness=1 for the time of the visit; set vm.swappiness=60 again" {
		t.Error(got)
	}
}
