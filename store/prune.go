package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"yareharbour/core/logbook"
)

// PruneRule says what is kept no longer; a zero time is nothing of that kind.
type PruneRule struct {
	Rounds   time.Time // journals of rounds that began before, of which nothing is owed, and that are not the newest of their cluster
	Readings time.Time // readings that held until before, and that are not the newest of their host
}

// Pruned is what is pruned.
type Pruned struct {
	Rounds   []Round
	Readings int
	Parts    int // of readings, which no other needs
}

// Prune removes what the rule says, or, dry, only counts it. Each round leaves an entry in the logbook, with the sum of its
// journal's end: it is not missed there, and what the entries before tell of it stands.
func (s *Store) Prune(ctx context.Context, rule PruneRule, now time.Time, dry bool) (out Pruned, err error) {
	err = s.tx(ctx, func(tx *sql.Tx) error {
		if !rule.Rounds.IsZero() {
			if out.Rounds, err = s.pruneRounds(tx, rule.Rounds, now); err != nil {
				return err
			}
		}
		if !rule.Readings.IsZero() {
			r, err := tx.Exec("DELETE FROM readings WHERE at < ? AND first < (SELECT MAX(first) FROM readings o WHERE o.host = readings.host)", nano(rule.Readings))
			if err != nil {
				return err
			}
			n, err := r.RowsAffected()
			if err != nil {
				return err
			}
			if out.Readings = int(n); n > 0 {
				if out.Parts, err = sweep(tx); err != nil {
					return err
				}
			}
		}
		if dry {
			return errDry
		}
		return nil
	})
	if errors.Is(err, errDry) {
		err = nil
	}
	return out, err
}

// errDry takes back what was only to be counted.
var errDry = errors.New("it was only counted")

func (s *Store) pruneRounds(tx *sql.Tx, before, now time.Time) (out []Round, err error) {
	type ended struct {
		Round
		seq int64
		sum string
	}
	var all []ended
	err = each(tx, "SELECT id, cluster, started, seq, sum FROM rounds WHERE owes = 0 AND started < '"+at(before)+"' AND "+
		"n < (SELECT MAX(n) FROM rounds o WHERE o.cluster = rounds.cluster) ORDER BY n", func(row *sql.Rows) error {
		var r ended
		var when string
		if err := row.Scan(&r.ID, &r.Cluster, &when, &r.seq, &r.sum); err != nil {
			return err
		}
		all = append(all, r)
		return moment(when, &all[len(all)-1].Started)
	})
	for _, r := range all {
		for _, from := range []string{"journal WHERE round", "requests WHERE round", "progress WHERE round", "rounds WHERE id"} {
			if _, e := tx.Exec("DELETE FROM "+from+" = ?", r.ID); e != nil {
				return out, e
			}
		}
		if err == nil {
			err = record(tx, logbook.Entry{At: now, By: s.by, From: s.from, Kind: logbook.Pruned, Cluster: r.Cluster, Round: r.ID,
				Says: fmt.Sprintf("the journal of the round over %s of %s, %d entries", r.Cluster, r.Started.Format("2006-01-02"), r.seq),
				Of:   &logbook.Thing{Shelf: logbook.Journals, ID: r.ID, Seq: r.seq, Sum: r.sum}})
		}
		out = append(out, r.Round)
	}
	return out, err
}

// sweep removes parts of readings that no reading needs any more.
func sweep(tx *sql.Tx) (n int, err error) {
	needed := map[hash]bool{}
	if err := each(tx, "SELECT parts FROM readings", func(row *sql.Rows) error {
		var parts []byte
		if err := row.Scan(&parts); err != nil {
			return err
		}
		for ; len(parts) >= hashSize; parts = parts[hashSize:] {
			needed[hash(parts[:hashSize])] = true
		}
		return nil
	}); err != nil {
		return 0, err
	}
	bases, every := map[hash]hash{}, []hash{}
	if err := each(tx, "SELECT hash, base FROM parts", func(row *sql.Rows) error {
		var h, base []byte
		if err := row.Scan(&h, &base); err != nil {
			return err
		}
		every = append(every, hash(h))
		if len(base) == hashSize {
			bases[hash(h)] = hash(base)
		}
		return nil
	}); err != nil {
		return 0, err
	}
	for h := range needed { // what they lean on, too
		if b, leans := bases[h]; leans {
			needed[b] = true
		}
	}
	for _, h := range every {
		if needed[h] {
			continue
		}
		if _, err := tx.Exec("DELETE FROM parts WHERE hash = ?", h[:]); err != nil {
			return n, err
		}
		n++
	}
	return n, nil
}
