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
