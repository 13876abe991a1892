package fit

import (
	"slices"
	"strings"
	"testing"
)

// The bound counts what must move twice for want of room on hosts that need not be emptied.
func TestBound(t *testing.T) {
	for _, c := range []struct {
		name, text, todo string
		floor, bound     int
	}{
		{"a spare host takes all of the first", `
			a 10: a1:2 a2:2 a3:2 a4:2
			b 10: b1:2 b2:2 b3:2 b4:2
			c 10:
			question keep 0 -> x`, "a b", 8, 8},
		{"it takes two of four", `
			a 20: a1:2 a2:2 a3:2 a4:2
			b 20: b1:2 b2:2 b3:2 b4:2
			c 5:
			question keep 0 -> x`, "a b", 8, 10},
		{"it takes one more exactly", `
			a 10: a1:2 a2:2 a3:2 a4:2
			b 10: b1:2 b2:2 b3:2 b4:2
			c 10: c1:4
			question keep 0 -> x`, "a b", 8, 9},
		{"cores are what is scarce", `
			a 10,8: a1:1,2 a2:1,2
			b 10,8: b1:1,2 b2:1,2
			c 10,2:
			question keep 0 -> x`, "a b", 4, 5},
		{"a closed one takes nobody", `
			a 10: a1:2 a2:2
			b 10: b1:2 b2:2
			c! 10:
			question keep 0 -> x`, "a b", 6, 6},
		{"one that can't go there is first for nobody", `
			a 10 nx: a1:1/nx a2:1
			b 10 nx: b1:1
			c 10:
			question keep 0 -> x`, "a b", 3, 3},
		{"nor can any of the other", `
			a 10 nx: a1:1/nx a2:1
			b 10 nx: b1:1/nx
			c 10:
			question keep 0 -> x`, "a b", 3, 4},
		{"the one with the fewest that do not fit goes first", `
			a 10: a1:3 a2:3 a3:3
			b 10: b1:4
			c 10: c1:3 c2:3 c3:3
			d 4:
			question keep 0 -> x`, "a b c", 7, 7},
		{"a single host moves each once", `
			a 10: a1:3 a2:3
			b 10: b1:5
			c 4:
			question keep 0 -> x`, "a", 2, 2},
	} {
		p, _, _ := parse(t, c.text)
		tour := Plan(p, strings.Fields(c.todo), Order{})
		if len(tour.Stuck) > 0 || tour.Floor != c.floor || tour.Bound != c.bound || tour.Moves != c.bound {
			t.Errorf("%s: %d moves, floor %d, bound %d, %d stuck; want floor %d and %d moves", c.name, tour.Moves,
				tour.Floor, tour.Bound, len(tour.Stuck), c.floor, c.bound)
		}
		replay(t, p, tour)
	}
}

// With a reserve of two a certificate speaks of every pair, and a host may be filled to the brim and no further.
func TestVerifyPairsAndBrims(t *testing.T) {
	p, _, _ := parse(t, `
		a 10: a1:2
		b 10: b1:2
		c 10: c1:2
		d 10: d1:2
		e 10: e1:2
		question keep 2 -> x`)
	good := newState(compile(&p)).certificate()
	if err := Verify(p, good); err != nil || len(good.Losses) != 10 {
		t.Errorf("%d losses: %v", len(good.Losses), err)
	}
	bad := good
	bad.Losses = append(slices.Clone(good.Losses[1:]), good.Losses[1])
	if Verify(p, bad) == nil {
		t.Error("one loss told twice stands for another")
	}
	p, _, _ = parse(t, `
		a 10,8: a1:5,4
		b 10,8: b1:5,4
		question keep 1 -> x`)
	good = newState(compile(&p)).certificate()
	if err := Verify(p, good); err != nil {
		t.Error(err)
	}
	p.Hosts[0].Guests[0].Load.MemoryMiB++
	if Verify(p, good) == nil {
		t.Error("a MiB too much is borne")
	}
	p.Hosts[0].Guests[0].Load.MemoryMiB--
	p.Hosts[1].Guests[0].Load.CPU++
	if Verify(p, good) == nil {
		t.Error("a thousandth of a core too much is borne")
	}
}

// What is preferred decides between hosts that would do, and the host with the fewest objections is taken before the
// one with most room.
func TestPreferences(t *testing.T) {
	const hosts = `
		a 40: g:2
		b 20: h:2
		c 80: i:2
		`
	for rules, want := range map[string]string{
		"prefer apart g i": "b", "prefer together g h": "b", "prefer inside b: g": "b", "prefer outside c: g": "b",
		"prefer outside b: g": "c",
		"prefer together g i": "c", "prefer apart g h": "c",
		"prefer apart g i\nprefer outside b: g\nprefer together g i": "c",
		"prefer apart g h\nprefer outside c: g\nprefer together g h": "b",
		"prefer apart g i\nprefer outside b: g\nprefer inside c: g":  "c", "prefer apart h i": "c",
	} {
		p, q, _ := parse(t, hosts+rules+"\ndrain a keep 0 -> x")
		if a := Drain(p, strings.Fields(q)[1:], nil, Effort); a.Outcome != Fits || a.Moves[0].To != want {
			t.Errorf("%q: %+v, want %s", rules, a, want)
		}
	}
}

// What is said of a guest that finds no place is what most hosts lack.
func TestWhatMostHostsLack(t *testing.T) {
	for text, want := range map[string]string{
		`a 10 nx: g:6/nx
		b 10: h:1
		c 10: i:1
		f 10:
		d 10 nx: j:6
		e 10 nx: k:6
		drain a keep 0 -> x`: "of those left, most fail this: one that has the network x",
		`a 10 nx: g:6/nx
		b 10: h:1
		d 10 nx: j:6
		e 10 nx: k:6
		drain a keep 0 -> x`: "finds no host with room",
		`a 10: g:6
		b! 10:
		c! 10:
		f! 10:
		d 10: j:6
		e 10: k:6
		drain a keep 0 -> x`: "of those left, most fail this: one that takes guests",
		`a 10: g:6
		b 10:
		c 10:
		f 10:
		d 10: j:6
		e 10: k:6
		keep inside a,d,e: g
		drain a keep 0 -> x`: "of those left, most fail this: one that is allowed by its rules",
		`a 10: g:6
		b 10: h:1
		c 10: i:1
		d 10: j:6
		keep apart g h
		keep apart g i
		drain a keep 0 -> x`: "of those left, most fail this: one that is free of those that it is kept apart from",
		`a 10 e2: g:6/e2
		b 10 e1:
		c 10 e1:
		d 10 e2: j:6
		drain a keep 0 -> x`: "of those left, most fail this: one that has an emulator as new " +
			"as the one that it runs on",
		`a 10: g:4 h:5
		b 10: i:6
		c 10: j:6
		d 10: k:6
		drain keep 1 -> x`: "if a failed meanwhile, h has no place, wherever the others go",
		`a 10 cvf=2: g:6/cvf
		d 10 cvf=2: j:6
		e 10 cvf=2: k:6
		drain a keep 0 -> x`: "g (6 GiB, 0.0 cores, 1 of vf) finds no host with room",
		`a 10,8: g:6,3
		d 10,8: j:6,1
		e 10,8: k:6,1
		drain a keep 0 -> x`: "g (6 GiB, 3.0 cores) finds no host with room",
		`a 10 cvf=2: g:6
		d 10 cvf=2: j:6
		e 10 cvf=2: k:6
		drain a keep 0 -> x`: "g (6 GiB, 0.0 cores) finds no host with room",
	} {
		p, q, _ := parse(t, text)
		a := Drain(p, strings.Fields(q)[1:], nil, Effort)
		if a.Outcome == Fits || !strings.Contains(a.Obstacle.String(), want) {
			t.Errorf("%s\n%v: want %q", text, a.Obstacle, want)
		}
	}
}

// The limit on load is one on memory and CPU: what is counted may be used to the last.
func TestTheLimitIsNotOnWhatIsCounted(t *testing.T) {
	p, _, _ := parse(t, `
		a 10,8 cvf=2: g:2,1/cvf h:2,1/cvf
		b 10,8 cvf=2:
		question keep 0 -> x`)
	p.Limit = 0.5
	if a := Drain(p, []string{"a"}, nil, Effort); a.Outcome != Fits {
		t.Errorf("%v", a.Obstacle)
	}
	p.Limit = 0.39
	if a := Drain(p, []string{"a"}, nil, Effort); a.Outcome == Fits {
		t.Errorf("4 GiB go to a host of 10 that is filled up to 39 %%: %+v", a.Moves)
	}
}
