package estate

import (
	"strings"
	"testing"
)

// Only what stands directly below /system.slice is the system's own service. Everything else somebody named who owns
// that part of the tree.
func TestWhoseServiceAProcessIs(t *testing.T) {
	for line, want := range map[string]string{
		"0::/system.slice/ssh.service":                                              "ssh.service",
		"0::/system.slice/ssh.service/inner.service":                                "ssh.service",
		"1:name=systemd:/system.slice/cron.service":                                 "cron.service",
		"0::/system.slice/system-postgresql.slice/postgresql@15-main.service":       "postgresql@15-main.service",
		`0::/system.slice/system-serial\x2dport.slice/serial-port@a\x2db.service`:   `serial-port@a\x2db.service`,
		"0::/system.slice/system-postgresql.slice/ssh.service":                      "",
		"0::/system.slice/other.slice/systemd-poweroff.service":                     "",
		"0::/user.slice/user-1000.slice/user@1000.service/dbus.service":             "",
		"0::/user.slice/user-1000.slice/user@1000.service/systemd-poweroff.service": "",
		"0::/machine.slice/box.scope/system.slice/ssh.service":                      "",
		"0::/../system.slice/ssh.service":                                           "",
		"0::/system.slice/docker-1.scope/system.slice/ssh.service":                  "",
		"4:memory:/system.slice/ssh.service":                                        "",
		"12:pids,cpu:/system.slice/ssh.service":                                     "",
		"0::/system.slice/-rf.service":                                              "",
		"0::/system.slice/a b.service":                                              "",
		"0::/system.slice/$(id).service":                                            "",
		"0::/system.slice/" + strings.Repeat("a", 300) + ".service":                 "",
		"0::/init.scope": "", "": "", "0": "", "0:": "", "0::": "", "0::/system.slice/": "",
	} {
		if got := UnitOf(line); got != want {
			t.Errorf("%q: %q, want %q", line, got, want)
		}
	}
}

func TestWhatIsNeverRestarted(t *testing.T) {
	for unit, may := range map[string]bool{"ssh.service": true, "virtqemud.service": true, "libvirtd.service": true,
		"postgresql@15-main.service": true, `a\x2db.service`: true, "systemd-journald.service": true,
		"systemd-poweroff.service": false, "systemd-logind.service": false, "user@1000.service": false,
		"dbus.service": false, "dbus-broker.service": false, "libvirt-guests.service": false, "getty@tty1.service": false,
		"serial-getty@ttyS0.service": false, "poweroff.target": false, "session-3.scope": false, "ssh": false, "": false,
		"-x.service": false, "a;b.service": false, "a\nb.service": false, "../x.service": false, ".service": false,
		"networking.service": false, "ssh.socket": false} {
		if err := Restartable(unit); (err == nil) != may {
			t.Errorf("%q: %v", unit, err)
		}
	}
}

func FuzzUnitOf(f *testing.F) {
	f.Add("0::/system.slice/system-a.slice/a@b.service")
	f.Fuzz(func(t *testing.T, line string) {
		if u := UnitOf(line); u != "" && (!strings.Contains(line, "/system.slice/") || strings.ContainsAny(u, "/ \n'\"$`;&|") ||
			u[0] == '-') {
			t.Errorf("%q: %q", line, u)
		}
	})
}
