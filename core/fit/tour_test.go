package fit

import (
	"fmt"
	"math/rand"
	"slices"
	"testing"
	"time"

	"yareharbour/core/estate"
)

// cluster makes a cluster from a seed, 31 guests a host: alike hosts, or of two sizes with four networks of which one
// is missing on a sixth of the hosts, and with groups that are kept apart.
func cluster(seed int64, hosts int, load float64, mixed bool) Problem {
	r := rand.New(rand.NewSource(seed))
	p := Problem{Terms: Terms{Reserve: 1}}
	var memory, cores int64
	for i := range hosts {
		h := Host{Name: fmt.Sprintf("h%02d", i), Open: true, Networks: []string{"n0", "n1", "n2", "n3"},
			Capacity: estate.Resources{MemoryMiB: 512 << 10, CPU: 128_000}}
		if mixed && i%3 == 0 {
			h.Capacity = estate.Resources{MemoryMiB: 768 << 10, CPU: 192_000}
		}
		if mixed && i%6 == 1 {
			h.Networks = h.Networks[:3]
		}
		memory, cores = memory+h.Capacity.MemoryMiB, cores+h.Capacity.CPU
		p.Hosts = append(p.Hosts, h)
	}
	// sizes are drawn, then scaled so that the sum is the load wanted
	n := 31 * hosts
	sizes, cpus := make([]float64, n), make([]float64, n)
	var sum, sumCPU float64
	for i := range n {
		sizes[i], cpus[i] = 0.3+r.ExpFloat64(), 0.3+r.ExpFloat64()
		sum, sumCPU = sum+sizes[i], sumCPU+cpus[i]
	}
	for i := range n {
		g := estate.Guest{ID: fmt.Sprintf("id%04d", i), Name: fmt.Sprintf("g%04d", i), State: estate.Running,
			Load: estate.Resources{MemoryMiB: int64(sizes[i] / sum * load * float64(memory)),
				CPU: int64(cpus[i] / sumCPU * load * float64(cores))}}
		if mixed {
			g.Networks = []string{[]string{"n0", "n1", "n2", "n3"}[r.Intn(4)]}
			if r.Intn(12) == 0 {
				g.Name = fmt.Sprintf("x%02d-%04d", r.Intn(hosts), i)
			}
		}
		best := -1 // where there is most room, as an even cluster is
		for k := range p.Hosts {
			h := &p.Hosts[k]
			if len(g.Networks) > 0 && !slices.Contains(h.Networks, g.Networks[0]) ||
				g.Name[0] == 'x' &&
					slices.ContainsFunc(h.Guests, func(o estate.Guest) bool { return o.Name[:3] == g.Name[:3] }) {
				continue
			}
			if best < 0 || share(h) < share(&p.Hosts[best]) {
				best = k
			}
		}
		p.Hosts[best].Guests = append(p.Hosts[best].Guests, g)
	}
	if mixed {
		for i := range hosts {
			p.Rules = append(p.Rules, estate.Rule{Keep: estate.Apart, Guests: []string{fmt.Sprintf("x%02d-*", i)}})
		}
	}
	return p
}

func share(h *Host) float64 {
	f := h.free()
	return max(1-float64(f.MemoryMiB)/float64(h.Capacity.MemoryMiB), 1-float64(f.CPU)/float64(h.Capacity.CPU))
}

func everyHost(p Problem) (names []string) {
	for i := range p.Hosts {
		names = append(names, p.Hosts[i].Name)
	}
	return names
}

// replay makes the moves of a tour on paper, one by one, and holds every stage of it against the rules: a host that is
// out is emptied, its guests go to hosts that are open and not out, nobody has more than there is room for, and with
// the host empty the certificate stands.
func replay(t *testing.T, p Problem, tour Tour) {
	t.Helper()
	total := 0
	for _, stop := range tour.Stops {
		stands(t, p, []string{stop.Host}, stop.Moves)
		for _, m := range stop.Moves {
			if m.From != stop.Host || m.To == stop.Host {
				t.Fatalf("%s: %+v", stop.Host, m)
			}
		}
		p = after(t, p, stop.Moves)
		for i := range p.Hosts {
			h := &p.Hosts[i]
			if h.Name == stop.Host {
				if _, left := atRest(&p, h.Guests); len(left) > 0 {
					t.Fatalf("%s is not empty when it is visited", h.Name)
				}
				if h.After != nil {
					h.Features, h.Emulator, h.After = h.After.Features, h.After.Emulator, nil
				}
			}
		}
		stands(t, p, nil, stop.Back)
		for _, m := range stop.Back {
			if m.To != stop.Host || !slices.ContainsFunc(stop.Moves, func(o Move) bool { return o.UID() == m.UID() }) {
				t.Fatalf("back to %s: %+v", stop.Host, m)
			}
		}
		p = after(t, p, stop.Back)
		total += len(stop.Moves) + len(stop.Back)
	}
	if total != tour.Moves || tour.Moves < tour.Bound && len(tour.Stuck) == 0 || tour.Bound < tour.Floor {
		t.Fatalf("moves %d (counted %d), floor %d, bound %d", tour.Moves, total, tour.Floor, tour.Bound)
	}
}

// On clusters with room for the reserve a tour takes hardly more moves than it must. The whole table stands in
// docs/performance.md; each of its kinds is looked at here.
func TestFewMoves(t *testing.T) {
	for _, hosts := range []int{8, 16, 32} {
		for _, mixed := range []bool{false, true} {
			for i := range 3 {
				load := 0.5 + 0.2*float64(i)/2
				p := cluster(int64(100*hosts+i), hosts, load, mixed)
				tour := Plan(p, everyHost(p), Order{})
				if len(tour.Stuck) > 0 {
					if a := tour.Stuck[0].Answer; compile(&p).impossible([]int32{0}) == nil {
						t.Errorf("%d hosts, mixed %v, load %.2f: %d stuck: %s", hosts, mixed, load,
							len(tour.Stuck), a.Obstacle)
					}
					continue
				}
				if hosts <= 16 {
					replay(t, p, tour)
				}
				if ratio := float64(tour.Moves) / float64(tour.Floor); ratio > 1.05 {
					t.Errorf("%d hosts, mixed %v, load %.2f: %.3f of the floor", hosts, mixed, load, ratio)
				}
			}
		}
	}
}

func BenchmarkPlan(b *testing.B) {
	for _, c := range []struct {
		hosts, reserve int
		mixed          bool
	}{{8, 1, false}, {8, 1, true}, {16, 1, false}, {32, 1, true}, {64, 1, false}, {64, 1, true}, {64, 2, false}} {
		b.Run(fmt.Sprintf("%d hosts, reserve %d, mixed %v", c.hosts, c.reserve, c.mixed), func(b *testing.B) {
			p := cluster(1, c.hosts, 0.6, c.mixed)
			p.Reserve = c.reserve
			moves, floor := 0, 0
			for b.Loop() {
				tour := Plan(p, everyHost(p), Order{})
				if len(tour.Stuck) > 0 {
					b.Fatal(tour.Stuck[0])
				}
				moves, floor = tour.Moves, tour.Floor
			}
			b.ReportMetric(float64(moves)/float64(floor), "moves/floor")
		})
	}
}

// BenchmarkExplained is what a plan asks of 64 unlike hosts with networks, rules and devices: the tour, and what of its moves
// costs what, each beside the tour alone and with two hosts in reserve.
func BenchmarkExplained(b *testing.B) {
	for _, reserve := range []int{1, 2} {
		p := cluster(1, 64, 0.6, true)
		p.Reserve = reserve
		todo := everyHost(p)
		tour := Plan(p, todo, Order{})
		b.Run(fmt.Sprintf("reserve %d, tour", reserve), func(b *testing.B) {
			for b.Loop() {
				Plan(p, todo, Order{})
			}
		})
		b.Run(fmt.Sprintf("reserve %d, excess", reserve), func(b *testing.B) {
			for b.Loop() {
				Excess(p, todo, Order{}, tour)
			}
		})
	}
}

// fewest is the least number of moves with which the hosts can be emptied one after another, each drain moving guests
// off its host alone, by trying everything; -1 where it can't be done.
func fewest(p Problem, left []string, sofar, best int) int {
	if len(left) == 0 {
		return sofar
	}
	for i, host := range left {
		rest := slices.Delete(slices.Clone(left), i, i+1)
		h := slices.IndexFunc(p.Hosts, func(h Host) bool { return h.Name == host })
		stay, guests := atRest(&p, p.Hosts[h].Guests)
		n := sofar + len(guests)
		if best >= 0 && n >= best || parted(&p, stay, guests) ||
			slices.ContainsFunc(guests, func(g estate.Guest) bool { return len(g.Devices) > 0 }) {
			continue
		}
		q := p
		q.Hosts = slices.Clone(p.Hosts)
		for k := range q.Hosts {
			q.Hosts[k].Guests = slices.Clone(q.Hosts[k].Guests)
		}
		was := q.Hosts[h].Open
		q.Hosts[h].Guests, q.Hosts[h].Open = nil, false
		brutePlace(&q, guests, true, func() bool {
			if !together(&q, guests) || !bruteReserve(q, []string{host}) {
				return false
			}
			next := q
			next.Hosts = slices.Clone(q.Hosts)
			for k := range next.Hosts {
				next.Hosts[k].Guests = slices.Clone(next.Hosts[k].Guests)
			}
			next.Hosts[h].Open, next.Hosts[h].Guests = was, slices.Clone(stay)
			if x := fewest(next, rest, n, best); x >= 0 && (best < 0 || x < best) {
				best = x
			}
			return false
		})
	}
	return best
}

// On small clusters the fewest moves are found, no tour is missed, and neither floor nor bound is above the optimum.
func TestToursAgainstBruteForce(t *testing.T) {
	r := rand.New(rand.NewSource(11))
	done, stuck, above := 0, 0, 0
	for n := range 500 {
		p := random(r)
		p.Reserve = min(p.Reserve, 1)
		var todo []string
		for i := range p.Hosts {
			if p.Hosts[i].Open && r.Intn(4) > 0 {
				todo = append(todo, p.Hosts[i].Name)
			}
		}
		want := fewest(p, todo, 0, -1)
		tour := Plan(p, todo, Order{})
		switch {
		case want < 0:
			stuck++
			if len(tour.Stuck) == 0 {
				t.Fatalf("case %d: a tour of %d moves where there is none: %+v\n%+v", n, tour.Moves, tour.Stops, p)
			}
		case len(tour.Stuck) > 0:
			t.Fatalf("case %d: stuck at %s (%s), and %d moves would do\n%+v", n, tour.Stuck[0].Host,
				tour.Stuck[0].Answer.Obstacle, want, p)
		case tour.Moves < want || tour.Bound > want || tour.Floor > tour.Bound:
			t.Fatalf("case %d: moves %d, bound %d, floor %d; the fewest are %d", n, tour.Moves,
				tour.Bound, tour.Floor, want)
		default:
			done++
			if tour.Moves > want {
				t.Errorf("case %d: %d moves where %d do", n, tour.Moves, want)
			}
			if want > tour.Floor {
				above++
			}
			replay(t, p, tour)
		}
	}
	if done < 100 || stuck < 50 || above < 3 {
		t.Errorf("too one-sided: %d done, %d stuck, %d above the floor", done, stuck, above)
	}
}

// BenchmarkTwoHundred is the table of docs/performance.md: on 200 clusters by their seeds how many moves are planned
// beside the floor, how many plans are not found, and the time.
func BenchmarkTwoHundred(b *testing.B) {
	for _, hosts := range []int{8, 16, 32, 64} {
		for _, mixed := range []bool{false, true} {
			b.Run(fmt.Sprintf("%d hosts, mixed %v", hosts, mixed), func(b *testing.B) {
				var ratios []float64
				var stuck, disproved int
				for b.Loop() {
					ratios, stuck, disproved = nil, 0, 0
					for i := range 25 {
						p := cluster(int64(1000*hosts+i), hosts, 0.5+0.25*float64(i)/24, mixed)
						tour := Plan(p, everyHost(p), Order{})
						if len(tour.Stuck) > 0 {
							stuck++
							if !slices.ContainsFunc(tour.Stuck, func(s Stuck) bool {
								return s.Answer.Outcome == Unproven
							}) {
								disproved++
							}
							continue
						}
						ratios = append(ratios, float64(tour.Moves)/float64(tour.Floor))
					}
				}
				slices.Sort(ratios)
				b.ReportMetric(ratios[len(ratios)/2], "median")
				b.ReportMetric(ratios[len(ratios)*95/100], "p95")
				b.ReportMetric(ratios[len(ratios)-1], "worst")
				b.ReportMetric(float64(stuck-disproved), "unproven")
				b.ReportMetric(float64(disproved), "impossible")
			})
		}
	}
}

// BenchmarkTowardsTheLimit fills clusters of 16 hosts further and further. The dearest is the longest question of a
// row, in milliseconds.
func BenchmarkTowardsTheLimit(b *testing.B) {
	for _, load := range []float64{0.5, 0.6, 0.7, 0.75, 0.8, 0.85, 0.9, 0.93, 0.96} {
		for _, mixed := range []bool{false, true} {
			b.Run(fmt.Sprintf("load %.2f, mixed %v", load, mixed), func(b *testing.B) {
				for b.Loop() {
					fill(b, load, mixed)
				}
			})
		}
	}
}

func fill(b *testing.B, load float64, mixed bool) {
	var ratios []float64
	var took []time.Duration
	unproven := 0
	for i := range 10 {
		p := cluster(int64(100_000+i), 16, load, mixed)
		began := time.Now()
		tour := Plan(p, everyHost(p), Order{})
		took = append(took, time.Since(began))
		if len(tour.Stuck) == 0 {
			ratios = append(ratios, float64(tour.Moves)/float64(tour.Floor))
		} else if slices.ContainsFunc(tour.Stuck, func(s Stuck) bool { return s.Answer.Outcome == Unproven }) {
			unproven++
		}
	}
	if len(ratios) > 0 {
		b.ReportMetric(slices.Max(ratios), "worst")
	}
	b.ReportMetric(float64(slices.Max(took).Milliseconds()), "dearest-ms")
	b.ReportMetric(float64(len(ratios)), "whole")
	b.ReportMetric(float64(unproven), "unproven")
	b.ReportMetric(float64(10-len(ratios)-unproven), "impossible")
}
