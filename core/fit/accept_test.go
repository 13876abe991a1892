package fit

import (
	"cmp"
	"testing"

	"yareharbour/core/estate"
)

// Where a running guest may be sent: to the brim of what the limit leaves, to an emulator as new as the one that it
// runs on, as the host has it now or after its visit; what is not known stands against nobody, and who is shut down for
// the move goes anywhere.
func TestWhereAGuestMayBeSent(t *testing.T) {
	for _, c := range []struct {
		what          string
		runs, has     string // versions of the emulator
		after         string
		visited, cold bool
		limit         float64
		gib           int64
		want          bool
	}{
		{what: "as new", runs: "2", has: "2", gib: 5, want: true},
		{what: "newer", runs: "1", has: "2", gib: 5, want: true},
		{what: "older", runs: "2", has: "1", gib: 5},
		{what: "older, and it is shut down", runs: "2", has: "1", cold: true, gib: 5, want: true},
		{what: "nobody knows on what it runs", has: "1", gib: 5, want: true},
		{what: "nobody knows what the host has", runs: "2", gib: 5, want: true},
		{what: "older, and will be as new", runs: "2", has: "1", after: "2", gib: 5},
		{what: "older, and is as new since its visit", runs: "2", has: "1", after: "2",
			visited: true, gib: 5, want: true},
		{what: "to the brim", runs: "1", has: "1", gib: 100, want: true},
		{what: "over the brim", runs: "1", has: "1", gib: 101},
		{what: "to the limit", runs: "1", has: "1", limit: 0.5, gib: 50, want: true},
		{what: "over the limit", runs: "1", has: "1", limit: 0.5, gib: 51},
	} {
		p := Problem{Terms: Terms{Limit: c.limit, Cold: map[string]bool{"a0": c.cold}},
			Hosts: []Host{host("a", 200, 10, c.gib), host("b", 100, 10)}}
		p.Hosts[0].Guests[0].Emulator = c.runs
		p.Hosts[0].Emulator, p.Hosts[1].Emulator = Emulator{"deb:q", "1"}, Emulator{"deb:q", c.has}
		if c.after != "" {
			p.Hosts[1].After = &After{Emulator: Emulator{"deb:q", c.after}}
		}
		s := newState(compile(&p))
		s.done[1] = c.visited
		if got := s.accepts(0, 1); got != c.want {
			t.Errorf("%s: %v", c.what, got)
		}
		if !c.want || !s.place(0, 1) {
			continue
		}
		want := cmp.Or(c.has, c.runs)
		if c.visited {
			want = c.after
		}
		if now := s.problem().Hosts[1].Guests[0].Emulator; now != want {
			t.Errorf("%s: it runs on %q, want %q", c.what, now, want)
		}
	}
}

// A host on which a loss would take more than is free gives restarts up, the largest first, and no more than it must;
// what takes all that is there stays.
func TestRestartsMakeRoom(t *testing.T) {
	p := Problem{Terms: Terms{Reserve: 1}, Hosts: []Host{host("a", 100, 10, 10, 20, 30), host("b", 60, 10),
		host("c", 100, 10, 40)}}
	s := newState(compile(&p))
	if _, why := s.emptyAll(nil, nil); why != nil {
		t.Fatal(why)
	}
	l := int32(0)
	for i := range s.losses {
		if s.losses[i][0] == 0 {
			l = int32(i)
		}
	}
	to := func(gib int64) (h int32) {
		for g := range int32(s.ng) {
			if s.guests[g].Load == (estate.Resources{MemoryMiB: gib << 10, CPU: 1000}) && s.at[g] == 0 {
				h = int32(s.target[int(l)*s.ng+int(g)])
			}
		}
		return h
	}
	for g := range int32(s.ng) {
		if s.at[g] == 0 {
			s.aim(l, g, -1)
		}
	}
	for g := range int32(s.ng) {
		if s.at[g] == 0 {
			s.aim(l, g, 1)
		}
	}
	if !s.makeRoom(1) || to(10) != 1 || to(20) != 1 || to(30) != 1 {
		t.Errorf("what fits to the brim does not stay: %d %d %d", to(10), to(20), to(30))
	}
	s.free[1*s.nd] -= 1 << 10 // 59 GiB are free, and the loss takes 60
	if !s.makeRoom(1) || to(30) != 2 || to(20) != 1 || to(10) != 1 {
		t.Errorf("not the largest alone gives way: %d %d %d", to(10), to(20), to(30))
	}
	s.free[1*s.nd] -= 40 << 10
	if !s.makeRoom(1) || to(20) != 2 || to(10) != 1 {
		t.Errorf("%d %d %d", to(10), to(20), to(30))
	}
}
