package store_test

import (
	"testing"
	"time"

	"yareharbour/store"
	"yareharbour/store/storetest"
)

// The SQLite store keeps the rules that every store of rounds is held to.
func TestTheStoreKeepsItsRules(t *testing.T) {
	storetest.Test(t, func(t *testing.T) storetest.Bench {
		dir := t.TempDir()
		clock := &hand{}
		open := func() *store.Store {
			s, err := store.Open(t.Context(), dir)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { s.Close() })
			s.GoBy(clock)
			return s
		}
		return storetest.Bench{A: open(), B: open(), Pass: func(d time.Duration) { clock.up += d }}
	})
}

// hand is a clock that is set by hand.
type hand struct{ up time.Duration }

func (h *hand) Now() (string, time.Duration) { return "this boot", time.Hour + h.up }
