package host

import (
	"testing"
	"time"
)

// A migration that has less to send each time is left alone, however long it takes; one that has as much again each
// time is given all the bandwidth, and then given up; and neither is judged in a few seconds.
func TestWhenAMigrationIsGivenUp(t *testing.T) {
	const mib = 1 << 20
	type step struct {
		top   uint64 // to send at its beginning
		takes time.Duration
	}
	same := func(n int, top uint64, takes time.Duration) (out []step) {
		for range n {
			out = append(out, step{top, takes})
		}
		return out
	}
	shrinking := func(n int, top uint64, takes time.Duration) (out []step) {
		for range n {
			out, top = append(out, step{top, takes}), top*9/10
		}
		return out
	}
	for name, c := range map[string]struct {
		steps  []step
		letGo  int // the time through the memory in which it is let go, and given up; 0: never
		giveUp int
	}{
		"it shrinks slowly":      {shrinking(30, 1000*mib, time.Minute), 0, 0},
		"it stays":               {same(12, 100*mib, 10*time.Second), 5, 9},
		"it stays, and is quick": {same(60, 100*mib, time.Second), 22, 42},
		"it shrinks after it was let go": {append(same(5, 100*mib, 10*time.Second),
			shrinking(20, 90*mib, 10*time.Second)...), 5, 0},
		"it grows": {append(shrinking(4, 100*mib, 10*time.Second),
			same(10, 90*mib, 10*time.Second)...), 8, 12},
		"a little less is no progress": {[]step{{100 * mib, 9e9}, {98 * mib, 9e9}, {97 * mib, 9e9}, {96 * mib, 9e9},
			{96 * mib, 9e9}, {96 * mib, 9e9}}, 5, 0},
		"it is over in its third time": {same(3, 100*mib, time.Hour), 0, 0},
	} {
		var p progress
		at := time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
		letGoAt, giveUpAt := 0, 0
		for i, s := range c.steps {
			for part := range 4 { // it is looked at four times in each, and there is less each time
				switch p.see(s.top-s.top/4*uint64(part), uint64(i+1), at) {
				case letGo:
					letGoAt = i + 1
				case giveUp:
					if giveUpAt == 0 {
						giveUpAt = i + 1
					}
				}
				at = at.Add(s.takes / 4)
			}
		}
		if letGoAt != c.letGo || giveUpAt != c.giveUp {
			t.Errorf("%s: let go at %d and given up at %d, want %d and %d", name, letGoAt, giveUpAt, c.letGo, c.giveUp)
		}
	}
}
