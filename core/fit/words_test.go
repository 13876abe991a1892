package fit

import (
	"fmt"
	"math/rand"
	"slices"
	"testing"

	"yareharbour/core/estate"
)

func amount(gib, cores int64) estate.Resources {
	return estate.Resources{MemoryMiB: gib * 1024, CPU: cores * 1000}
}

func running(name string, gib, cores int64) estate.Guest {
	return estate.Guest{ID: name, Name: name, State: estate.Running, Load: amount(gib, cores)}
}

func open(name string, gib, cores int64, guests ...estate.Guest) Host {
	return Host{Name: name, Open: true, Capacity: amount(gib, cores), Guests: guests}
}

// What stands in the way is told with its amount, and so is the smallest thing that would help.
func TestWhatIsMissingInWords(t *testing.T) {
	device := running("d", 1, 1)
	device.Device = "0000:03:00.0"
	for name, c := range map[string]struct {
		hosts        []Host
		k            int
		says, wayOut string
	}{
		"memory": {[]Host{open("a", 100, 100, running("g", 30, 1)), open("b", 100, 100, running("h", 75, 1))}, 0,
			"5 GiB of memory are missing", "shut down guests of 5 GiB"},
		"cores": {[]Host{open("a", 100, 8, running("g", 1, 4)), open("b", 100, 8, running("h", 1, 6))}, 0,
			"2.0 cores are missing", "shut down guests that use 2.0 cores"},
		"a place": {[]Host{open("a", 100, 100, running("g", 30, 1)), open("b", 20, 100), open("c", 20, 100)}, 0,
			"g (30 GiB, 1.0 cores) finds no host with room", "shut it down for the visit, or a smaller guest in its favour"},
		"the reserve's memory": {[]Host{open("a", 100, 100, running("g", 30, 1)), open("b", 100, 100, running("h", 50, 1)), open("c", 100, 100, running("i", 40, 1))}, 1,
			"if b failed meanwhile, its guests would have no place: 20 GiB of memory are missing", "shut down guests of 20 GiB"},
		"the reserve's cores": {[]Host{open("a", 100, 8, running("g", 1, 3)), open("b", 100, 8, running("h", 1, 3)), open("c", 100, 8, running("i", 1, 4))}, 1,
			"if b failed meanwhile, its guests would have no place: 2.0 cores are missing", "shut down guests that use 2.0 cores"},
		"the reserve's place": {[]Host{open("a", 100, 100), open("b", 100, 100, running("h", 60, 1)), open("c", 50, 100), open("d", 50, 100)}, 1,
			"if b failed meanwhile, h (60 GiB, 1.0 cores) finds no host with room", "shut it down for the visit, or a smaller guest in its favour"},
		"a device": {[]Host{open("a", 100, 100, device), open("b", 100, 100)}, 0,
			"d holds the device 0000:03:00.0 of its host and can't move", "shut it down for the visit, or give it a device that moves"},
		"a host that is not there": {[]Host{open("b", 100, 100)}, 0, "not all of a are hosts of the cluster", ""},
	} {
		a := Drain(c.hosts, []string{"a"}, c.k, nil, Effort)
		if a.Outcome != DoesNotFit || a.Obstacle.String() != c.says || a.Obstacle.WayOut != c.wayOut {
			t.Errorf("%s: %s, %q, way out %q", name, a.Outcome, a.Obstacle, a.Obstacle.WayOut)
		}
	}
	if (*Obstacle)(nil).String() != "" {
		t.Error("nothing in the way has words")
	}
}

// At the very edge there is room, and beyond it not.
func TestAtTheEdge(t *testing.T) {
	for gib, want := range map[int64]Outcome{50: Fits, 51: DoesNotFit} {
		hosts := []Host{open("a", 100, 100, running("g", gib, 1)), open("b", 100, 100, running("h", 50, 1))}
		if a := Drain(hosts, []string{"a"}, 0, nil, Effort); a.Outcome != want {
			t.Errorf("%d GiB beside 50 on 100: %s", gib, a.Outcome)
		}
	}
	for gib, want := range map[int64]Outcome{20: Fits, 21: DoesNotFit} { // b and c have 120 left, and a loss of one of them takes 100
		hosts := []Host{open("a", 100, 100, running("g", gib, 1)), open("b", 100, 100, running("h", 40, 1)), open("c", 100, 100, running("i", 40, 1))}
		if a := Drain(hosts, []string{"a"}, 1, nil, Effort); a.Outcome != want {
			t.Errorf("%d GiB with the reserve: %s %s", gib, a.Outcome, a.Obstacle)
		}
	}
}

func TestGiB(t *testing.T) {
	for mib, want := range map[int64]string{0: "0 GiB", 1024: "1 GiB", 1536: "1.5 GiB", 512: "0.5 GiB", 102400: "100 GiB", 102401: "100 GiB", 102399: "100.0 GiB", 103000: "101 GiB", 102912: "101 GiB"} {
		if got := GiB(mib); got != want {
			t.Errorf("%d MiB: %q, want %q", mib, got, want)
		}
	}
}

func TestChoices(t *testing.T) {
	for _, c := range []struct {
		n, k int
		want string
	}{{3, 2, "[[0 1] [0 2] [1 2]]"}, {3, 1, "[[0] [1] [2]]"}, {2, 5, "[[0 1]]"}, {3, 0, "[]"}, {0, 2, "[]"}, {3, -1, "[]"}} {
		if got := fmt.Sprint(choices(c.n, c.k)); got != c.want {
			t.Errorf("%d of %d: %s, want %s", c.k, c.n, got, c.want)
		}
	}
}

// Only hosts that are alike in everything that matters are tried once.
func TestAlike(t *testing.T) {
	pair := func(change func(*search)) bool {
		s := newSearch([]Host{open("a", 10, 10), open("b", 10, 10)}, nil, new(int))
		change(s)
		return s.alike(0, 1)
	}
	if !pair(func(*search) {}) {
		t.Error("two alike are not")
	}
	for name, change := range map[string]func(*search){
		"room":          func(s *search) { s.room[1].MemoryMiB-- },
		"rank":          func(s *search) { s.rank[1]++ },
		"guests":        func(s *search) { s.hosts[1].Guests = []estate.Guest{{}} },
		"its guests":    func(s *search) { s.hosts[0].Guests = []estate.Guest{{}} },
		"capacity":      func(s *search) { s.hosts[1].Capacity.CPU++ },
		"networks":      func(s *search) { s.hosts[1].Networks = []string{"n"} },
		"other network": func(s *search) { s.hosts[0].Networks, s.hosts[1].Networks = []string{"m"}, []string{"n"} },
	} {
		if pair(change) {
			t.Errorf("with another %s they are alike", name)
		}
	}
}

// The largest guest goes first, by the larger share of what it takes of all; equal ones stay in their order.
func TestTheLargestGoesFirst(t *testing.T) {
	guests := []estate.Guest{running("small", 1, 1), running("memory", 50, 1), running("same", 1, 1), running("cores", 1, 60)}
	var got []string
	for _, g := range bySize(guests, amount(100, 100)) {
		got = append(got, g.Name)
	}
	if fmt.Sprint(got) != "[cores memory small same]" {
		t.Error(got)
	}
	if s := share(amount(50, 20), amount(100, 100)); s != 0.5 {
		t.Error(s)
	}
	if s := share(amount(10, 20), amount(100, 100)); s != 0.2 {
		t.Error(s)
	}
}

// A guest goes where there is most room, and to hosts that are to be avoided only when there is no other, the later ones last.
func TestWhereAGuestGoes(t *testing.T) {
	hosts := []Host{open("a", 100, 100, running("g", 10, 1)), open("b", 60, 100), open("c", 90, 100), open("d", 80, 100)}
	for want, avoid := range map[string][]string{"c": nil, "d": {"c"}, "b": {"c", "d"}} {
		if a := Drain(hosts, []string{"a"}, 0, avoid, Effort); a.Moves[0].To != want || a.Moves[0].From != "a" || a.Moves[0].ID != "g" {
			t.Errorf("avoiding %v: %+v", avoid, a.Moves)
		}
	}
	if a := Drain(hosts, []string{"a"}, 0, []string{"d", "b", "c"}, Effort); a.Moves[0].To != "d" {
		t.Errorf("all are avoided: %+v", a.Moves)
	}
}

// Without effort nothing is proven, and nothing permitted; what sums disprove needs none.
func TestEffort(t *testing.T) {
	hosts := []Host{open("a", 100, 100, running("g", 10, 1)), open("b", 100, 100)}
	for effort, want := range map[int]Outcome{0: Unproven, 1: Unproven, Glance: Fits} {
		if a := Drain(hosts, []string{"a"}, 0, nil, effort); a.Outcome != want {
			t.Errorf("with an effort of %d: %s", effort, a.Outcome)
		}
	}
	hosts[0].Guests[0].Load.MemoryMiB = 200 << 10
	if a := Drain(hosts, []string{"a"}, 0, nil, 0); a.Outcome != DoesNotFit {
		t.Error(a.Outcome)
	}
}

func TestHeadroomOfEqualHosts(t *testing.T) {
	s := Headroom([]Host{open("a", 10, 10, running("g", 4, 1)), open("b", 10, 10, running("h", 4, 1))}, 1)
	if fmt.Sprint(s.Lost) != "[a]" || s.Room.MemoryMiB != 2<<10 {
		t.Errorf("%+v", s)
	}
}

// Several hosts are drained at once: what is found stands, and where nothing is found a search of everything finds nothing either.
func TestDrainOfSeveralAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewSource(5))
	outcomes := map[Outcome]int{}
	for n := range 400 {
		var hosts []Host
		for h := range 4 {
			x := open(fmt.Sprint("h", h), int64(8+r.Intn(6)), int64(6+r.Intn(4)))
			for g := range r.Intn(3) {
				x.Guests = append(x.Guests, running(fmt.Sprintf("g%d-%d", h, g), int64(1+r.Intn(5)), int64(r.Intn(3))))
			}
			x.Open = h < 2 || r.Intn(8) > 0
			hosts = append(hosts, x)
		}
		k := r.Intn(2)
		a := Drain(hosts, []string{"h0", "h1"}, k, nil, Effort)
		outcomes[a.Outcome]++
		both := slices.Concat(hosts[0].Guests, hosts[1].Guests)
		rest := cloneHosts(hosts[2:])
		want := brutePlace(rest, both, func() bool { return bruteReserve(rest, k) })
		if (a.Outcome == Fits) != want {
			t.Fatalf("case %d: %s (%s), by brute force %v\n%+v", n, a.Outcome, a.Obstacle, want, hosts)
		}
		for _, m := range a.Moves {
			from := slices.IndexFunc(hosts, func(h Host) bool { return h.Name == m.From })
			if from > 1 || !slices.ContainsFunc(hosts[from].Guests, func(g estate.Guest) bool { return g.Name == m.Guest }) {
				t.Fatalf("case %d: %+v", n, m)
			}
		}
		if o := overfull(hosts[2:], both, k); o != nil && want {
			t.Fatalf("case %d: by its sums it can't be, and it can: %s", n, o)
		}
	}
	if outcomes[Fits] < 30 || outcomes[DoesNotFit] < 30 {
		t.Errorf("the test proves little: %v", outcomes)
	}
}
