package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/connector/ssh/sshtest"
	"yareharbour/core/estate"
	"yareharbour/sim"
	"yareharbour/sim/conn"
)

// A real host behind a real sshd, with a simulated BMC beside it: every way to it is tested, everything that it tells
// is read, and what it does not tell is unread.
func TestARealHostWithItsBMC(t *testing.T) {
	s := sshtest.Start(t)
	world := demoState(t, 30)
	a, err := sim.ReadAddress(filepath.Join(world, "sim"))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	t.Setenv("HERON_BMC", a.Secret)
	file := func(bmc string) string {
		t.Helper()
		name := filepath.Join(dir, "estate.yaml")
		text := fmt.Sprintf("estate: one\nconnector:\n  kind: ssh\n  ssh_config: [%s]\n  limit: 20s\nclusters:\n"+
			"  - name: c\n    hosts: [heron]\n%s", s.Config, bmc)
		if err := os.WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return name
	}
	good := file(fmt.Sprintf("bmcs:\n"+
		"  - {host: heron, at: %q, user: %s, password: \"env:HERON_BMC\", fingerprint: %s}\n", a.BMC["heron"],
		sim.User, a.Fingerprint))
	r := run(t, "connect", "--estate", good, "--state", dir, "--json")
	var ways []struct {
		Host   string
		Stages []struct {
			Way, Stage string
			OK         bool
			Found, Do  string
		}
	}
	if err := json.Unmarshal([]byte(r.out), &ways); err != nil || len(ways) != 1 {
		t.Fatalf("%v %s %s", err, r.out, r.err)
	}
	held := map[string]bool{}
	for _, g := range ways[0].Stages {
		held[g.Way+" "+g.Stage] = g.OK
		if !g.OK && g.Way != "libvirt" { // whether this machine has one is not ours to say
			t.Errorf("%+v", g)
		}
	}
	for _, want := range []string{"SSH configuration", "SSH port", "SSH host key", "SSH login", "SSH permission",
		"SSH answer", "BMC secret", "BMC TLS", "BMC login", "BMC permission"} {
		if !held[want] {
			t.Errorf("%s does not hold: %s", want, r.out)
		}
	}
	r = run(t, "read", "heron", "--estate", good, "--state", dir)
	for _, want := range []string{"kernel", "packages", "fw:lorne-l25 (slot 2)", "power supply 2", "fans"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("read does not show %q:\n%s%s", want, r.out, r.err)
		}
	}
	// No baseline: nothing is judged, and nothing known is never in line.
	if r := run(t, "check", "--estate", good, "--state", dir); r.code != 4 {
		t.Errorf("nothing was judged and the exit code is %d: %s", r.code, r.out)
	}
	// A wrong pin, a missing secret, and a host that is not there: each is told at its stage with what to do, and costs
	// only its own part.
	for _, c := range []struct{ bmc, says string }{
		{fmt.Sprintf("bmcs:\n  - {host: heron, at: %q, user: %s, password: \"env:HERON_BMC\", fingerprint: %s}\n",
			a.BMC["heron"], sim.User, strings.Repeat("0", 64)), "is pinned"},
		{fmt.Sprintf("bmcs:\n  - {host: heron, at: %q, user: %s, password: \"env:NOT_THERE\", fingerprint: %s}\n",
			a.BMC["heron"], sim.User, a.Fingerprint), "in the environment as NOT_THERE"},
		{fmt.Sprintf("bmcs:\n  - {host: heron, at: \"127.0.0.1:1\", user: %s, password: \"env:HERON_BMC\", "+
			"fingerprint: %s}\n", sim.User, a.Fingerprint), "connection refused"},
	} {
		r := run(t, "connect", "heron", "--estate", file(c.bmc), "--state", dir)
		if r.code != 4 || !strings.Contains(r.out, c.says) || !strings.Contains(r.out, "→") {
			t.Errorf("exit %d, want 4 and %q:\n%s%s", r.code, c.says, r.out, r.err)
		}
	}
	if r := run(t, "connect", "herno", "--estate", good, "--state", dir); r.code != 1 ||
		!strings.Contains(r.err, "did you mean heron?") {
		t.Errorf("%+v", r)
	}
}

// A host that does not answer is told as that, and what was last known of it is shown as only that.
func TestReadingAHostThatFellSilent(t *testing.T) {
	t.Parallel()
	dir := demoState(t, 30)
	if r := run(t, "read", "heron", "ruff", "--state", dir); r.code != 0 ||
		!strings.Contains(r.out, "ruff  Brae Linux") {
		t.Fatalf("%+v", r)
	}
	c := dial(t, dir)
	defer c.Hangup()
	silence(t, c, "heron")
	r := run(t, "read", "heron", "--state", dir)
	for _, want := range []string{"unread: ", "last known", "packages, as last known", "deb:brae-tls",
		"guests, as last known"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("%q is not told:\n%s", want, r.out)
		}
	}
	if r.code != 4 {
		t.Errorf("a silent host is exit code %d", r.code)
	}
	r = run(t, "read", "heron", "--json", "--state", dir)
	var rs []estate.Reading
	if err := json.Unmarshal([]byte(r.out), &rs); err != nil || len(rs) != 1 {
		t.Fatal(err, r.out)
	}
	if sec := rs[0].Section(estate.Packages); sec.Err == "" || sec.Held.IsZero() || sec.HeldFrom == "" {
		t.Errorf("%+v", sec)
	}
}

func silence(t *testing.T, c *conn.Connector, host string) {
	t.Helper()
	if err := c.Order(t.Context(), sim.Fault{Host: host, Kind: sim.Crashes}); err != nil {
		t.Fatal(err)
	}
}
