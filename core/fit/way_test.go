package fit

import (
	"fmt"
	"math/rand"
	"slices"
	"strings"
	"testing"

	"yareharbour/core/estate"
)

// What helps is the smallest thing that does: held against every set of things, by brute force.
func TestTheSmallestWayOutIsTheSmallest(t *testing.T) {
	r := rand.New(rand.NewSource(17))
	sizes := map[int]int{}
	for n := 0; n < 1200; n++ {
		p := random(r)
		if bruteDrain(p, []string{"h0"}) {
			continue
		}
		ways, whole := WaysOut(p, []string{"h0"})
		want := 0
		for size := 1; size <= 3 && want == 0; size++ {
			if bruteWay(p, p.items([]string{"h0"}), nil, 0, size) {
				want = size
			}
		}
		got := 0
		if len(ways) > 0 {
			got = ways[0].Size()
		}
		if want > 0 && (!whole || got != want) || want == 0 && whole && got > 0 {
			t.Fatalf("case %d: %+v (whole %v), by brute force %d things\n%+v", n, ways, whole, want, p)
		}
		for _, w := range ways {
			if w.Size() != got || w.Says() == "" {
				t.Fatalf("case %d: %+v", n, w)
			}
		}
		sizes[got]++
	}
	if sizes[1] < 50 || sizes[2] < 10 {
		t.Errorf("the test proves little: %v", sizes)
	}
}

func bruteWay(p Problem, items, picked []item, from, size int) bool {
	if len(picked) == size {
		return bruteDrain(p.with(picked), []string{"h0"})
	}
	for i := from; i < len(items); i++ {
		if bruteWay(p, items, append(slices.Clip(picked), items[i]), i+1, size) {
			return true
		}
	}
	return false
}

func TestWaysOutInWords(t *testing.T) {
	for _, c := range []struct{ text, says string }{
		{`a 10: gauge:1/dgps0
		b 10:
		drain a keep 0 -> x`, "shut down gauge for the visit"},
		{`a 10: g:1
		b 10:
		keep inside a: g
		drain a keep 0 -> x`, "lift for the round: keep g inside a"},
		{`a 10: g:6
		b 10: h:6
		c 10: i:2
		drain a keep 1 -> x`, "keep one host less in reserve"},
		{`a 10: g:6
		b 10: h:6
		drain a keep 0 -> x`, "shut down g for the visit"},
	} {
		p, q, _ := parse(t, c.text)
		ways, whole := WaysOut(p, strings.Fields(q)[1:])
		if len(ways) == 0 || !whole || ways[0].Says() != c.says {
			t.Errorf("%+v, %v; want %q", ways, whole, c.says)
		}
	}
	two := []Way{{Guests: []string{"a", "b"}}, {Reserve: true}}
	for want, ways := range map[string][]Way{"wait": nil, "shut down a, b for the visit": two[:1],
		"shut down a, b for the visit (or one other thing)": two} {
		if got := WayOut(ways, "wait"); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// Where more than three things are needed, the largest guests are shut down until it goes.
func TestWhereMuchIsNeeded(t *testing.T) {
	p := Problem{Hosts: []Host{{Name: "a", Open: true, Capacity: parseAmount("100")},
		{Name: "b", Open: true, Capacity: parseAmount("1")}}}
	for i := range 6 {
		p.Hosts[0].Guests = append(p.Hosts[0].Guests, estate.Guest{Name: fmt.Sprint("g", i), Load: parseAmount("5")})
	}
	ways, whole := WaysOut(p, []string{"a"})
	if whole || len(ways) != 1 || len(ways[0].Off) != 6 {
		t.Errorf("%+v %v", ways, whole)
	}
}

func TestSizeOfAWay(t *testing.T) {
	for want, w := range map[int]Way{0: {}, 1: {Reserve: true}, 2: {Off: []string{"a", "b"}},
		7: {Off: []string{"a"}, Eject: []string{"b", "c"}, Lift: []int{0, 1, 2}, Reserve: true}} {
		if got := w.Size(); got != want {
			t.Errorf("%+v takes %d things, want %d", w, got, want)
		}
	}
}

// What leaves guests running stands first, then what costs the least memory; a rule before the reserve.
func TestWhatCostsLeastStandsFirst(t *testing.T) {
	for _, c := range []struct{ text, says string }{
		{`a 10: g:6
		b 10: h:6
		c 10: i:2
		drain a keep 1 -> x`,
			"keep one host less in reserve|shut down g for the visit|shut down h for the visit"},
		{`a 10: g:7
		b 10: h:6
		drain a keep 0 -> x`, "shut down h for the visit|shut down g for the visit"},
		{`a 10: g:6
		b 20: h:1
		c 10: i:2
		keep inside a: g
		drain a keep 1 -> x`, "lift for the round: keep g inside a|shut down g for the visit"},
	} {
		p, q, _ := parse(t, c.text)
		ways, _ := WaysOut(p, strings.Fields(q)[1:])
		var says []string
		for i := range ways {
			says = append(says, ways[i].Says())
		}
		if got := strings.Join(says, "|"); got != c.says {
			t.Errorf("%s\n%s, want %s", c.text, got, c.says)
		}
	}
	three := []Way{{Guests: []string{"a"}}, {Reserve: true}, {Rules: []string{"r"}}}
	if got, want := WayOut(three, "wait"), "shut down a for the visit (or one of 2 others)"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
}

// The larger the cluster, the fewer combinations are asked about, and never fewer than three.
func TestHowManyWaysAreTried(t *testing.T) {
	of := func(hosts, guests, reserve int) *Problem {
		p := &Problem{Terms: Terms{Reserve: reserve}, Hosts: make([]Host, hosts)}
		for i := range guests {
			h := &p.Hosts[i%hosts]
			h.Guests = append(h.Guests, estate.Guest{Name: fmt.Sprint("g", i)})
		}
		return p
	}
	for _, c := range []struct{ hosts, guests, reserve, want int }{
		{3, 12, 1, 800},
		{16, 160, 0, 800},
		{16, 160, 1, 1_500_000 / (161*17*16 + 1)},
		{16, 160, 2, 1_500_000 / (161*17*120 + 1)},
		{16, 160, 5, 1_500_000 / (161*17*120 + 1)},
		{64, 2000, 2, 3},
	} {
		if got := of(c.hosts, c.guests, c.reserve).most(); got != c.want {
			t.Errorf("%+v: %d", c, got)
		}
	}
}

// Where there are more combinations than may be tried, it is not said that there is nothing smaller.
func TestNotEverythingIsTried(t *testing.T) {
	p := Problem{Terms: Terms{Reserve: 2}, Hosts: make([]Host, 24)}
	for i := range p.Hosts {
		p.Hosts[i] = host(fmt.Sprintf("h%02d", i), 100, 40, 40)
	}
	p.Hosts[0].Guests[0].Load.MemoryMiB = 300 << 10
	if n := len(p.items([]string{"h00"})); n <= p.most() {
		t.Fatalf("all %d things are tried: this proves nothing", n)
	}
	ways, whole := WaysOut(p, []string{"h00"})
	if whole || len(ways) == 0 {
		t.Errorf("%+v, whole %v", ways, whole)
	}
}

// Drives are emptied only of guests that move then.
func TestWhoseDrivesAreWorthEmptying(t *testing.T) {
	iso := estate.Disk{Target: "sda", Source: "/a.iso", Local: true, Media: true}
	for _, c := range []struct {
		what  string
		guest estate.Guest
		terms Terms
		want  bool
	}{
		{"a medium of the host's own", estate.Guest{Name: "g", State: estate.Running, Disks: []estate.Disk{iso}},
			Terms{}, true},
		{"none", estate.Guest{Name: "g", State: estate.Running}, Terms{}, false},
		{"it is taken out anyway", estate.Guest{Name: "g", State: estate.Running, Disks: []estate.Disk{iso}},
			Terms{Eject: map[string]bool{"g": true}}, false},
	} {
		p := Problem{Terms: c.terms, Hosts: []Host{{Name: "a", Open: true, Guests: []estate.Guest{c.guest}}}}
		got := slices.ContainsFunc(p.items([]string{"a"}), func(x item) bool { return x.eject })
		if got != c.want {
			t.Errorf("%s: %v", c.what, got)
		}
	}
}
