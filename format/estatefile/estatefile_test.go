package estatefile

import (
	"strings"
	"testing"
	"time"
)

const two = `estate: x
connector: {kind: sim, dir: sim}
connectors:
  - {hosts: [yard, heron], kind: ssh, user: watch, limit: 20s}
clusters:
  - {name: vts, act: true, hosts: [ibis, knot]}
  - {name: tides, hosts: [heron, egret]}
  - {name: yard, hosts: [ruff, stint]}
lease: 45s
`

// A kind of connector is chosen per host: by its own name, or by its cluster's.
func TestTheConnectorOfAHost(t *testing.T) {
	f, err := Parse("x", []byte(two))
	if err != nil {
		t.Fatal(err)
	}
	for host, want := range map[string]string{"ibis": Sim, "heron": SSH, "egret": Sim, "ruff": SSH, "stint": SSH} {
		if c, i := f.ConnectorOf(host); c.Kind != want || (i == 0) != (want == SSH) ||
			want == SSH && c.User != "watch" {
			t.Errorf("%s: %+v, %d", host, c, i)
		}
	}
	if d, err := f.LeaseTerm(); err != nil || d != 45*time.Second {
		t.Errorf("%v %v", d, err)
	}
}

// What a cluster says of rounds over it is what they go by; what it does not say is left to them.
func TestWhatAClusterSaysOfItsRounds(t *testing.T) {
	f, err := Parse("x", []byte(strings.Replace(two, "act: true,",
		"act: true, reserve: 0, moves: 5, patience: 90s,", 1)))
	if err != nil {
		t.Fatal(err)
	}
	e := f.Describe()
	if c := e.Clusters[0]; !c.Act || c.Reserve != 0 || c.Moves != 5 || c.Patience != 90*time.Second {
		t.Errorf("%+v", c)
	}
	if c := e.Clusters[1]; c.Act || c.Reserve != 1 || c.Moves != 0 || c.Patience != 0 {
		t.Errorf("%+v", c)
	}
}

func TestWhatIsWrongWithConnectorsAndLeases(t *testing.T) {
	for says, change := range map[string][2]string{
		`no cluster or host "yord"`:         {"[yard, heron]", "[yord]"},
		"two connectors name stint":         {"clusters:", "  - {hosts: [stint], kind: ssh}\nclusters:"},
		"needs hosts":                       {"hosts: [yard, heron], ", ""},
		`no connector "telnet"`:             {"kind: ssh", "kind: telnet"},
		"leads to one host only":            {"kind: ssh", "kind: ssh, migration: {uri: \"qemu+tcp://heron/system\"}"},
		"a limit of":                        {"limit: 20s", "limit: soon"},
		"a patience of":                     {"act: true,", "act: true, patience: long,"},
		"from 1s to 24h":                    {"act: true,", "act: true, patience: 25h,"},
		"65 migrations at once":             {"act: true,", "act: true, moves: 65,"},
		"-1 migrations at once":             {"act: true,", "act: true, moves: -1,"},
		"257 hosts at the same time":        {"lease: 45s", "at_once: 257"},
		"a lease of":                        {"lease: 45s", "lease: 1s"},
		"a time as":                         {"lease: 45s", "lease: never"},
		"from 2s to 1h":                     {"lease: 45s", "lease: 2h"},
		"a simulated estate knows its BMCs": {"lease: 45s", "bmcs: [{host: ibis, at: b, user: u, password: env:X}]"},
		"hosts reached over SSH have none":  {"user: watch", "dir: sim"},
		"and no user, sudo, ssh_config":     {"dir: sim}", "dir: sim, user: me}"},
	} {
		text := strings.Replace(two, change[0], change[1], 1)
		if _, err := Parse("x", []byte(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", says, err)
		}
	}
}

// Who is started after whom is a rule of its own: what it needs, and what no other rule may say.
func TestRulesAboutOrder(t *testing.T) {
	text := func(rule string) []byte {
		return []byte(strings.Replace(two, "hosts: [ibis, knot]}", "hosts: [ibis, knot], rules: [{"+rule+"}]}", 1))
	}
	f, err := Parse("x", text("keep: after, guests: ['#web'], of: [db-1], wait: 30s"))
	if err != nil {
		t.Fatal(err)
	}
	r := f.Describe().Clusters[0].Rules[0]
	if r.Says() != "keep #web after db-1" || r.Wait != 30*time.Second {
		t.Errorf("%+v", r)
	}
	for rule, want := range map[string]string{
		"keep: after, guests: [a]":                           `needs "of"`,
		"keep: after, guests: [a], of: ['[']":                "no name of a guest",
		"keep: after, guests: [a], of: [b], wait: soon":      "a time as",
		"keep: after, guests: [a], of: [b], wait: 2h":        "up to 1h",
		"keep: after, guests: [a], of: [b], hosts: [ibis]":   "speaks of no hosts",
		"keep: apart, guests: [a], of: [b]":                  "speaks of no others",
		"keep: inside, guests: [a], hosts: [ibis], wait: 1m": "waits for nothing",
		"keep: beside, guests: [a]":                          "or after others",
	} {
		if _, err := Parse("x", text(rule)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", rule, err, want)
		}
	}
}
