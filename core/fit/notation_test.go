package fit

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"

	"yareharbour/core/estate"
)

// A problem has a host a line, "name capacity offers: guests", in GiB of memory, with the cores after a comma. An offer
// is nNET, sSTORAGE, fFEATURE, cKIND=COUNT, eVERSION of the emulator, and after "then" what the host offers when it was
// visited. A closed host's name ends in "!". A guest is "name:GiB,cores" with, after slashes, what it needs of the
// same, dDEVICE, or a state ("/suspended"); "-name" is one that is off. Rules are lines as "keep apart g1 g2", "keep inside a,b: g1", "prefer apart
// g1 g2". A question and what is expected of it is the last line:
//
//	drain HOST… keep K -> fits [guest>host …] | does not fit: WHY | unproven: WHY
func parse(t *testing.T, text string) (p Problem, question, want string) {
	t.Helper()
	for _, line := range strings.Split(strings.TrimSpace(text), "\n") {
		line = strings.TrimSpace(line)
		if head, expected, ok := strings.Cut(line, " -> "); ok {
			q, keep, _ := strings.Cut(head, " keep ")
			p.Reserve, _ = strconv.Atoi(keep)
			return p, q, expected
		}
		kind, rest, _ := strings.Cut(line, " ")
		if kind == "keep" || kind == "prefer" {
			p.Rules = append(p.Rules, parseRule(rest, kind == "prefer"))
			continue
		}
		head, guests, _ := strings.Cut(line, ":")
		p.Hosts = append(p.Hosts, parseHost(head, guests))
	}
	return p, "", ""
}

func parseRule(text string, prefer bool) estate.Rule {
	keep, rest, _ := strings.Cut(text, " ")
	r := estate.Rule{Keep: estate.Keep(keep), Prefer: prefer}
	if hosts, guests, ok := strings.Cut(rest, ":"); ok {
		r.Hosts, rest = strings.Split(hosts, ","), guests
	}
	r.Guests = strings.Fields(rest)
	return r
}

func parseHost(head, guests string) Host {
	f := strings.Fields(head)
	h := Host{Name: strings.TrimSuffix(f[0], "!"), Open: !strings.HasSuffix(f[0], "!"), Capacity: parseAmount(f[1])}
	for i, w := range f[2:] {
		switch w[0] {
		case 'n':
			h.Networks = append(h.Networks, w[1:])
		case 's':
			h.Storages = append(h.Storages, w[1:])
		case 'f':
			h.Features = append(h.Features, w[1:])
		case 'e':
			h.Emulator = Emulator{"deb:emu", w[1:]}
		case 'c':
			kind, n, _ := strings.Cut(w[1:], "=")
			if h.Counts == nil {
				h.Counts = map[string]int{}
			}
			h.Counts[kind], _ = strconv.Atoi(n)
		case 't': // then
			h.After = &After{Features: h.Features, Emulator: h.Emulator}
			for _, w := range f[2+i+1:] {
				switch w[0] {
				case 'f':
					h.After.Features = append(slices.Clip(h.After.Features), w[1:])
				case 'e':
					h.After.Emulator = Emulator{"deb:emu", w[1:]}
				}
			}
			f = f[:2+i+1]
		}
		if h.After != nil {
			break
		}
	}
	for _, w := range strings.Fields(guests) {
		if off, is := strings.CutPrefix(w, "-"); is {
			h.Off = append(h.Off, estate.Guest{Name: off, ID: h.Name + off, State: estate.Off})
			continue
		}
		h.Guests = append(h.Guests, parseGuest(w))
	}
	return h
}

func parseGuest(s string) estate.Guest {
	parts := strings.Split(s, "/")
	name, size, _ := strings.Cut(parts[0], ":")
	g := estate.Guest{Name: name, Load: parseAmount(size), State: estate.Running}
	for _, w := range parts[1:] {
		switch w[0] {
		case 'n':
			g.Networks = append(g.Networks, w[1:])
		case 'f':
			g.Features = append(g.Features, w[1:])
		case 'd':
			g.Devices = append(g.Devices, w[1:])
		case 'p':
			g.Pins = append(g.Pins, strings.ReplaceAll(w[1:], "_", " "))
		case 'e':
			g.Emulator = w[1:]
		case 'c':
			if g.Takes == nil {
				g.Takes = map[string]int{}
			}
			g.Takes[w[1:]]++
		case 's':
			if w == string(estate.Suspended) {
				g.State = estate.Suspended
			} else {
				g.Storages = append(g.Storages, w[1:])
			}
		}
	}
	return g
}

func parseAmount(s string) estate.Resources {
	gib, cores, _ := strings.Cut(s, ",")
	m, _ := strconv.Atoi(gib)
	c, _ := strconv.Atoi(cores)
	return estate.Resources{MemoryMiB: int64(m) * 1024, CPU: int64(c) * 1000}
}

var scenarios = []struct{ name, text string }{
	{"room on the others", `
		a 10: g1:4 g2:4
		b 10: h1:4
		c 10: h2:4
		drain a keep 0 -> fits`},
	{"room, but not with one more lost", `
		a 10: g1:4 g2:4
		b 10: h1:4
		c 10: h2:4
		drain a keep 1 -> does not fit: if b failed meanwhile, its guests would have no place: 6 GiB of memory are missing`},
	{"the total would do but no host takes the large one", `
		a 10: big:6
		b 10: h1:5
		c 10: h2:5
		drain a keep 0 -> does not fit: big (6 GiB, 0.0 cores) finds no host with room`},
	{"a device holds the guest", `
		a 10: gauge:1/dgps0
		b 10:
		drain a keep 0 -> does not fit: gauge holds the device gps0 of its host and can't move`},
	{"three devices hold the guest", `
		a 10: gauge:1/dgps0/dmodem/dclock
		b 10:
		drain a keep 0 -> does not fit: gauge holds 3 devices of its host (gps0, modem, clock) and can't move`},
	{"what pins a guest keeps it", `
		a 10: g:1/pit_has_a_snapshot
		b 10:
		drain a keep 0 -> does not fit: g can't move: it has a snapshot`},
	{"a pinned guest restarts elsewhere after a loss", `
		a 10: g:3
		b 10: h:6/pit_has_a_snapshot
		c 10: i:2
		drain a keep 1 -> does not fit: if b failed meanwhile, its guests would have no place: 1 GiB of memory are missing`},
	{"a suspended guest can't be migrated", `
		a 10: g:1/suspended
		b 10:
		drain a keep 0 -> does not fit: g is suspended: it can't be migrated so, and what is in its memory would be lost if the host restarted`},
	{"a suspended guest elsewhere holds its memory", `
		a 10: g:4
		b 10: h:7/suspended
		drain a keep 0 -> does not fit: 1 GiB of memory are missing`},
	{"a network that is nowhere else", `
		a 10 n7: g:1/n7
		b 10 n8:
		drain a keep 0 -> does not fit: g finds its networks (7) on no other open host`},
	{"a storage that is nowhere else", `
		a 10 s7: g:1/s7
		b 10:
		drain a keep 0 -> does not fit: g finds its storages (7) on no other open host`},
	{"a feature that is nowhere else", `
		a 10 favx9: g:1/favx9
		b 10 favx8:
		drain a keep 0 -> does not fit: g finds what it needs of processor and emulator (avx9) on no other open host`},
	{"no older emulator", `
		a 10 e9.2: g:1/e9.2
		b 10 e9.1:
		c 10 e9.2: h:8
		drain a keep 0 -> fits g>c`},
	{"no older emulator, and none left", `
		a 10 e9.2: g:1/e9.2
		b 10 e9.1:
		drain a keep 0 -> does not fit: g finds no other host that has an emulator as new as the one that it runs on`},
	{"an older emulator takes a restart", `
		a 10 e9.2: g:2/e9.2
		b 10 e9.2: h:2/e9.2
		c 10 e9.1:
		drain a keep 1 -> fits g>b`},
	{"countable things are counted", `
		a 10 cvf=1: g:1/cvf
		b 10 cvf=1: h:1/cvf
		c 10 cvf=1:
		drain a keep 0 -> fits g>c`},
	{"countable things run out", `
		a 10 cvf=1: g:1/cvf
		b 10 cvf=1: h:1/cvf
		c 10:
		drain a keep 0 -> does not fit: 1 of vf are missing`},
	{"a closed host takes nothing", `
		a 10: g:4
		b! 10:
		c 10: h:8
		drain a keep 0 -> does not fit: 2 GiB of memory are missing`},
	{"kept apart", `
		a 10: db1:1
		b 10: db2:1
		c 10: h:8
		keep apart db*
		drain a keep 0 -> fits db1>c`},
	{"kept apart, with no host left for it", `
		a 10: db1:1
		b 10: db2:1
		keep apart db1 db2
		drain a keep 0 -> does not fit: 2 guests that are kept apart (db1, db2) would have 1 hosts`},
	{"kept apart, with no host left for it once one fails", `
		a 10: db1:1
		b 10: db2:1
		c 10:
		keep apart db1 db2
		drain a keep 1 -> does not fit: 2 guests that are kept apart (db1, db2) would have 1 hosts once 1 failed`},
	{"better apart, where it can be", `
		a 10: db1:1
		b 20: db2:1
		c 10: h:5
		prefer apart db1 db2
		drain a keep 0 -> fits db1>c`},
	{"better apart, where it can't", `
		a 10: db1:6
		b 20: db2:1
		c 10: h:5
		prefer apart db1 db2
		drain a keep 0 -> fits db1>b`},
	{"together", `
		a 10: web:4 cache:4
		b 10: h:3
		c 10: i:2
		keep together web cache
		drain a keep 0 -> fits web>c cache>c`},
	{"together, with no host large enough", `
		a 10: web:4 cache:4
		b 10: h:3
		c 10: i:3
		keep together web cache
		drain a keep 0 -> does not fit: web (4 GiB, 0.0 cores) finds no host with room`},
	{"together with one that is elsewhere", `
		a 10: web:4
		b 20: cache:14
		c 20:
		keep together web cache
		drain a keep 0 -> fits web>b`},
	{"inside some hosts", `
		a 10: g:1
		b 10: h:8
		c 10:
		keep inside a,b: g
		drain a keep 0 -> fits g>b`},
	{"inside no other host", `
		a 10: g:1
		b 10:
		keep inside a: g
		drain a keep 0 -> does not fit: g is kept by rules from every other open host`},
	{"outside a host", `
		a 10: g:1
		b 10:
		c 10: h:8
		keep outside b: g
		drain a keep 0 -> fits g>c`},
	{"an empty host is drained at once", `
		a 10:
		b 10: h:9
		drain a keep 0 -> fits`},
	{"a guest with a device does not weigh on the reserve", `
		a 10: g:2
		b 10: held:6/dgps0
		c 10: h:2
		drain a keep 1 -> fits g>c`},
	{"one host left can keep no reserve", `
		a 10: g:2
		b 10:
		drain a keep 1 -> does not fit: if b failed meanwhile, its guests would have no place: 2 GiB of memory are missing`},
	{"guests that few hosts take have their own sum", `
		a 100 nx: g:40/nx
		b 100 nx: h:40/nx
		c 100 nx: i:40/nx
		d 100:
		e 100:
		drain a keep 1 -> does not fit: if b failed meanwhile, its guests would have no place: 20 GiB of memory are missing on a, b, c, the only hosts for guests as g`},
	{"two at once", `
		a 10: g:2
		b 10: h:2
		c 10: i:2
		d 10:
		drain a b keep 1 -> fits`},
	{"two guests of one name never share a host", `
		a 10: g:3 i:4
		b 10: g:3
		c 10: h:1
		drain a keep 0 -> fits`},
	{"nor where one restarts", `
		a 10: g:3
		b 10: g:3
		c 10: h:1
		drain a keep 1 -> does not fit: if b failed meanwhile, g has no place, wherever the others go`},
	{"a name that is taken by a guest that is off", `
		a 10: g:3
		b 10: -g
		c 10: -g
		drain a keep 0 -> does not fit: g finds on every other open host that it may be on another guest, powered off, that is called the same`},
	{"and free elsewhere", `
		a 10: g:3
		b 20: -g
		c 10: -h
		drain a keep 0 -> fits g>c`},
}

func TestScenarios(t *testing.T) {
	for _, s := range scenarios {
		t.Run(s.name, func(t *testing.T) {
			p, q, want := parse(t, s.text)
			for i := range p.Hosts {
				for j := range p.Hosts[i].Guests {
					p.Hosts[i].Guests[j].ID = fmt.Sprint(p.Hosts[i].Name, j)
				}
			}
			out := strings.Fields(q)[1:]
			a := Drain(p, out, nil, Effort)
			got := a.Outcome.String()
			if a.Obstacle != nil {
				got += ": " + a.Obstacle.String()
			}
			if rest, ok := strings.CutPrefix(want, "fits"); ok {
				var moves []string
				for _, m := range a.Moves {
					moves = append(moves, m.Guest+">"+m.To)
				}
				if a.Outcome != Fits || rest != "" && strings.TrimSpace(rest) != strings.Join(moves, " ") {
					t.Errorf("got %s %v, want %s", got, moves, want)
				}
				stands(t, p, out, a.Moves)
			} else if got != want {
				t.Errorf("got  %s\nwant %s", got, want)
			}
		})
	}
}
