package lab

import (
	"encoding/json"
	"os/exec"
	"testing"
	"time"

	"yareharbour/connector/conform"
	"yareharbour/core/act"
	"yareharbour/sim"
)

// Real hosts keep the rules that every connector is held to.
func TestRealHostsConform(tt *testing.T) {
	t := enlist(tt)
	fresh(t)
	w := t.reach().with(bmcs(t))
	prepared(t, w)
	image, err := json.Marshal(sim.Payload{Component: board, Version: "14.2"})
	if err != nil {
		t.Fatal(err)
	}
	body, sum := deb(t, "keel_2.0_all.deb")
	daemon := on(t, "h1", "dpkg-query -W -f '${Version}' libvirt-daemon")
	withDisk(t, "h1", "keeper")
	cut := func(word string) func(string) {
		return func(host string) { run(t, word, host) }
	}
	conform.Test(t.TB.(*testing.T),
		conform.Bench{World: w, Host: "h1", To: "h2", Guest: "g1-1", Rests: []act.Name{act.Save}, Copies: "keeper", Program: "/usr/bin/cat",
			Change: act.Change{Component: "deb:keel", From: "1.0", To: "2.0", File: "keel_2.0_all.deb", SHA256: sum,
				Pass: 1}, Payload: body,
			Refused: act.Change{Component: "deb:reef", To: "1.0", Pass: 1},
			Service: act.Change{Component: "deb:libvirt-daemon", From: daemon, To: daemon,
				Services: []string{"libvirtd.service"}, Pass: 1},
			Flash: act.Change{Component: board, From: "14.0", To: "14.2", File: "corran-bmc_3.08.payload", Pass: 1},
			Image: image,
			Abort: func(host string) { // by its administrator, who slows it down first
				on(t, host, "virsh -q migrate-setspeed g1-1 1")
				abort := exec.Command("ssh", "-F", t.lab("ssh_config"), host,
					"for i in $(seq 600); do virsh -q domjobabort g1-1 2>/dev/null && break; sleep 0.05; done; virsh "+
						"-q migrate-setspeed g1-1 1000000")
				if err := abort.Start(); err != nil {
					t.Fatal(err)
				}
				t.Cleanup(func() {
					if err := abort.Wait(); err != nil {
						t.Errorf("nothing was given up: %v", err)
					}
				})
			},
			Cut: cut("cut"), Mend: cut("uncut"), Settle: 90 * time.Second})
}
