package plan

import (
	"slices"
	"strings"
	"testing"
	"time"

	"yareharbour/core/estate"
	"yareharbour/core/fit"
)

func TestTheUsualRound(t *testing.T) {
	if b := DefaultBrief(estate.Cluster{Name: "c", Reserve: 1}); b.Out != 1 || b.Moves != 2 ||
		b.Patience != 20*time.Minute || b.Reserve != 1 {
		t.Errorf("%+v", b)
	}
	if b := DefaultBrief(estate.Cluster{Moves: 5, Patience: time.Hour, Bandwidth: 100}); b.Moves != 5 ||
		b.Patience != time.Hour || b.Bandwidth != 100 {
		t.Errorf("%+v", b)
	}
}

func scenario(t *testing.T) Input {
	t.Helper()
	return parse(t, `
		a 10 | deb:k=1 deb:s=1
		b 20 | deb:k=1
		c 30 | deb:k=1`, `
		deb:k 2 host
		deb:k 3 host
		deb:s 2 service`)
}

// What a brief names and the cluster has not is an error that says where and what, and so is what contradicts itself.
func TestWhatABriefMayNotSay(t *testing.T) {
	for want, spoil := range map[string]func(*Brief){
		`hosts: c has no host "z"`:    func(b *Brief) { b.Hosts = []string{"z"} },
		`sequence: c has no host "z"`: func(b *Brief) { b.Sequence = []string{"a", "z"} },
		"sequence: a is there twice":  func(b *Brief) { b.Sequence = []string{"a", "a"} },
		`trial: c has no host "z"`:    func(b *Brief) { b.Trial = "z" },
		"sequence names b, and its hosts leave that out": func(b *Brief) {
			b.Hosts, b.Sequence = []string{"a"}, []string{"b"}
		},
		`except: c has no host "z"`:                   func(b *Brief) { b.Except = []string{"z"} },
		`send none: c has no host "z"`:                func(b *Brief) { b.SendNone = []string{"z"} },
		"has a on trial, and sends it no guests":      func(b *Brief) { b.Trial, b.SendNone = "a", []string{"a"} },
		"sequence names b, and excepts it":            func(b *Brief) { b.Sequence, b.Except = []string{"b"}, []string{"b"} },
		"except names b, and its hosts leave that":    func(b *Brief) { b.Hosts, b.Except = []string{"a"}, []string{"b"} },
		"lets 0 hosts be out":                         func(b *Brief) { b.Out = 0 },
		"so it must be 3 at least":                    func(b *Brief) { b.Leaves, b.Out = 2, 2 },
		"leaves -1 hosts behind":                      func(b *Brief) { b.Leaves = -1 },
		"keeps 3 hosts in reserve, and c has 3":       func(b *Brief) { b.Reserve = 3 },
		"keeps -1 hosts in reserve":                   func(b *Brief) { b.Reserve = -1 },
		"makes 0 migrations at once":                  func(b *Brief) { b.Moves = 0 },
		"fills hosts up to 0.8 %: 1 to 100 is wanted": func(b *Brief) { b.Limit = 0.008 },
		"fills hosts up to 120 %":                     func(b *Brief) { b.Limit = 1.2 },
		`there is none called "heaviest"`:             func(b *Brief) { b.Order = "heaviest" },
		"names none":                                  func(b *Brief) { b.Soak = time.Minute },
		"puts b first by hand, and has a on trial": func(b *Brief) {
			b.Trial, b.Sequence = "a", []string{"b", "a"}
		},
		"ends before it begins": func(b *Brief) { b.Windows = []Window{{now, now}} },
		"before the one that it follows": func(b *Brief) {
			b.Windows = []Window{{now, now.Add(time.Hour)}, {now, now.Add(2 * time.Hour)}}
		},
		`lifts "keep x apart", and c has no such rule`: func(b *Brief) { b.Lift = []string{"keep x apart"} },
		"changes deb:z alone":                          func(b *Brief) { b.Only = []Scope{"deb:z"} },
		"puts in deb:z 1, and no clause": func(b *Brief) {
			b.Releases = map[estate.Key]string{"deb:z": "1"}
		},
		"puts in deb:k 9, and that is in no feed": func(b *Brief) {
			b.Releases = map[estate.Key]string{"deb:k": "9"}
		},
	} {
		in := scenario(t)
		in.Brief.Moves = 2
		if err := in.Wrong(); err != nil {
			t.Fatal(err)
		}
		spoil(&in.Brief)
		if err := in.Wrong(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
	in := scenario(t)
	in.Brief.Moves = 1
	in.Cluster.Rules = []estate.Rule{{Keep: estate.Apart, Guests: []string{"x"}}}
	in.Brief.Lift = []string{"keep x apart"}
	if err := in.Wrong(); err != nil {
		t.Error(err)
	}
	if p := Make(in); len(p.Rules) != 0 {
		t.Errorf("the lifted rule is kept: %v", p.Rules)
	}
}

// That no host has a guest is said only where all guests were read.
func TestAGuestThatIsNotFound(t *testing.T) {
	in := scenario(t)
	in.Brief.Moves = 1
	in.Brief.Guests = []Policy{{Guests: []string{"nobody"}, Do: DoLeave}}
	host := in.Cluster.Hosts[0]
	in.Cluster.Hosts = in.Cluster.Hosts[:1]
	for says, wrong := range map[string]string{
		`has a guest "nobody"`: "",
		`has a guest "nobody", as far as they could be read: the guests of ` + host + " could not be": "libvirt hangs",
	} {
		in.Readings[host].SetSection(estate.Section{Name: estate.GuestList, Err: wrong})
		if err := in.Wrong(); err == nil || !strings.HasSuffix(err.Error(), says) {
			t.Errorf("%v, want %q", err, says)
		}
	}
}

// Part of it: some components, and an earlier release than the newest.
func TestPartOfIt(t *testing.T) {
	in := scenario(t)
	in.Brief.Only = []Scope{"deb:s"}
	p := Make(in)
	if len(p.Visits) != 1 || p.Visits[0].Host != "a" || len(p.Visits[0].Changes) != 1 ||
		p.Visits[0].Changes[0].Component != "deb:s" ||
		!strings.Contains(p.Visits[0].Left[0], "the brief names other components") {
		t.Errorf("%+v", p.Visits)
	}
	if p.InLine() {
		t.Error("what the brief leaves out is said to be in line")
	}
	in.Brief.Only, in.Brief.Releases = nil, map[estate.Key]string{"deb:k": "2"}
	p = Make(in)
	for _, v := range p.Visits {
		for _, c := range v.Changes {
			if c.Component == "deb:k" && (c.To != "2" || !strings.Contains(c.Why, "by the brief")) {
				t.Errorf("%s: %+v", v.Host, c)
			}
		}
	}
	in.Brief.Releases["deb:k"] = "1"
	for _, v := range Make(in).Visits {
		if len(v.Restarts) > 0 {
			t.Errorf("%s has what the brief wants, and is visited for it: %+v", v.Host, v.Changes)
		}
	}
}

// Hosts that the brief excepts are not visited, and stay as they are; hosts that are sent no guests get none, neither by
// migration nor carried there cold, and are visited all the same.
func TestHostsThatAreLeftInPeace(t *testing.T) {
	in := parse(t, `
		a 10 10 | deb:k=1
		b 10 | deb:k=1
		c 10 | deb:k=1
		d | deb:k=1`, `deb:k 2 host`)
	in.Brief.Except = []string{"c"}
	in.Brief.SendNone = []string{"d"}
	p := Make(in)
	var visited []string
	for _, v := range p.Visits {
		if v.Obstacle != "" {
			t.Errorf("%s can't be visited: %s", v.Host, v.Obstacle)
		}
		visited = append(visited, v.Host)
		for _, m := range v.Moves {
			if m.To == "d" {
				t.Errorf("%s goes to d", m.Guest)
			}
		}
	}
	slices.Sort(visited)
	if got := strings.Join(visited, " "); got != "a b d" || len(p.Aside) != 1 || p.Aside[0].Why != "left out: the brief excepts it" {
		t.Errorf("%s; %+v", got, p.Aside)
	}
	v, r := Visit{Host: "a", Colds: []Cold{{ID: "x", Guest: "x"}}}, &estate.Reading{Host: "a", Guests: []estate.Guest{{ID: "x", Name: "x"}}}
	problem := fit.Problem{Hosts: []fit.Host{{Name: "d", Open: true, Capacity: estate.Resources{MemoryMiB: 9}}, {Name: "b", Open: true}}}
	for none, want := range map[string]string{"": "d", "d": "b"} {
		problem.SendNone = []string{none}
		carries(&v, r, problem, nil)
		if got := v.Colds[0].To; got != want {
			t.Errorf("with none sent to %q it is carried to %q", none, got)
		}
	}
}
