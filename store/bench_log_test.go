package store

import (
	"fmt"
	"testing"
	"time"

	"yareharbour/core/logbook"
)

// BenchmarkLogbook reads a logbook of 100,000 entries from its first, and looks for the last of a rare kind as each opening
// of an estate does.
func BenchmarkLogbook(b *testing.B) {
	s, err := Open(b.Context(), b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	defer s.Close()
	at := time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
	tx, err := s.db.Begin()
	if err != nil {
		b.Fatal(err)
	}
	for i := range 100_000 {
		kind := logbook.Synced
		if i == 0 {
			kind = logbook.Acting
		}
		if err := record(tx, logbook.Entry{At: at, By: "ana", From: "quay", Kind: kind, Says: fmt.Sprint("a feed ", i)}); err != nil {
			b.Fatal(err)
		}
	}
	if err := tx.Commit(); err != nil {
		b.Fatal(err)
	}
	b.Run("read", func(b *testing.B) {
		for b.Loop() {
			kept, head, err := s.Log(b.Context(), 0)
			if err != nil {
				b.Fatal(err)
			}
			if book := logbook.Read(kept, head); book.Fault != nil || len(book.Entries) != 100_000 {
				b.Fatal(book.Fault)
			}
		}
	})
	b.Run("last of a kind", func(b *testing.B) {
		for b.Loop() {
			if _, ok, err := s.LastOf(b.Context(), logbook.Acting); err != nil || !ok {
				b.Fatal(ok, err)
			}
		}
	})
}
