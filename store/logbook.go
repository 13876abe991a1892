package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"time"

	"yareharbour/core/course"
	"yareharbour/core/logbook"
	"yareharbour/core/precheck"
)

// Log keeps the logbook. What a store itself keeps is entered in it in the very transaction that keeps it: rounds,
// requests and decisions, baselines and waivers.
type Log interface {
	// Record enters what is kept elsewhere.
	Record(ctx context.Context, e logbook.Entry) error
	// Log is what comes behind an entry, 0 for all, and how far it goes by the place that counts it.
	Log(ctx context.Context, after int64) ([]course.Entry, course.Head, error)
	// LastOf is the last entry of a kind.
	LastOf(ctx context.Context, kind logbook.Kind) (e logbook.Entry, ok bool, err error)
	// Things are all that the logbook must speak of, and Stands tells how one of them stands that is no journal.
	Things(ctx context.Context) ([]logbook.Thing, error)
	Stands(ctx context.Context, t logbook.Thing) (logbook.Stands, error)
	// Prune removes what a rule says; dry, it only counts.
	Prune(ctx context.Context, rule PruneRule, now time.Time, dry bool) (Pruned, error)
	// Writer says by whom and whence entries are written from now on that do not say it themselves.
	Writer(by, from string)
}

var _ Log = (*Store)(nil)

// beginLog makes the tables of the logbook, and enters in it what there was before it.
func beginLog(tx *sql.Tx) error {
	if _, err := tx.Exec(`
		CREATE TABLE logbook (n INTEGER PRIMARY KEY, sum TEXT NOT NULL, text TEXT NOT NULL);
		CREATE INDEX logbook_by_kind ON logbook (json_extract(text, '$.kind'), n);
		CREATE TABLE logbook_head (one INTEGER PRIMARY KEY CHECK (one = 1), n BIGINT NOT NULL, sum TEXT NOT NULL);
		INSERT INTO logbook_head VALUES (1, 0, '');`); err != nil {
		return err
	}
	var all []logbook.Entry
	err := each(tx, "SELECT id, cluster, started, seq, sum FROM rounds ORDER BY n", func(row *sql.Rows) error {
		var when string
		e := logbook.Entry{Says: "a round", Of: &logbook.Thing{Shelf: logbook.Journals}}
		if err := row.Scan(&e.Of.ID, &e.Cluster, &when, &e.Of.Seq, &e.Of.Sum); err != nil {
			return err
		}
		e.Round = e.Of.ID
		all = append(all, e)
		return moment(when, &all[len(all)-1].At)
	})
	err = errors.Join(err, each(tx, "SELECT name, n, at, by, why, text FROM baselines ORDER BY at", func(row *sql.Rows) error {
		var when, text string
		e := logbook.Entry{Of: &logbook.Thing{Shelf: logbook.Baselines}}
		if err := row.Scan(&e.Of.ID, &e.Of.Seq, &when, &e.By, &e.Why, &text); err != nil {
			return err
		}
		e.Of.Sum, e.Says = sumOf(text), e.Of.String()
		all = append(all, e)
		return moment(when, &all[len(all)-1].At)
	}))
	err = errors.Join(err, each(tx, "SELECT body FROM waivers ORDER BY at, id", func(row *sql.Rows) error {
		var body string
		var w precheck.Waiver
		if err := row.Scan(&body); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(body), &w); err != nil {
			return err
		}
		all = append(all, logbook.OfWaiver(w, sumOf(body)))
		return nil
	}))
	for _, e := range all {
		e.Kind = logbook.Found
		err = errors.Join(err, record(tx, e))
	}
	return err
}

func each(tx *sql.Tx, query string, do func(*sql.Rows) error) error {
	rows, err := tx.Query(query)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := do(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

func moment(text string, to *time.Time) (err error) {
	*to, err = time.Parse(stamp, text)
	return err
}

// sumOf is the SHA-256 of a text, in hex.
func sumOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// record writes the next entry behind the head. Nothing is written behind one that is not as it was.
func record(tx *sql.Tx, e logbook.Entry) error {
	var head course.Head
	if err := tx.QueryRow("SELECT n, sum FROM logbook_head").Scan(&head.Seq, &head.Sum); err != nil {
		return err
	}
	next, err := logbook.Next(head, e)
	if err == nil {
		_, err = tx.Exec("INSERT INTO logbook (n, sum, text) VALUES (?, ?, ?)", next.Seq, next.Sum, string(next.Text))
	}
	if err == nil {
		_, err = tx.Exec("UPDATE logbook_head SET n = ?, sum = ?", next.Seq, next.Sum)
	}
	return err
}

// Writer says by whom and whence entries are written.
func (s *Store) Writer(by, from string) { s.by, s.from = by, from }

// Record enters what is kept elsewhere.
func (s *Store) Record(ctx context.Context, e logbook.Entry) error {
	if e.From == "" {
		e.From = s.from
	}
	return s.tx(ctx, func(tx *sql.Tx) error { return record(tx, e) })
}

// Log returns the entries behind one as they are kept, in their order, and how far they go.
func (s *Store) Log(ctx context.Context, after int64) (out []course.Entry, head course.Head, err error) {
	rows, err := s.db.QueryContext(ctx,
		"SELECT h.n, h.sum, COALESCE(l.n, 0), COALESCE(l.sum, ''), COALESCE(l.text, '') FROM logbook_head h LEFT JOIN logbook l ON l.n > ? ORDER BY l.n", after)
	if err != nil {
		return nil, head, err
	}
	defer rows.Close()
	for rows.Next() {
		var n course.Entry
		var text string
		if err := rows.Scan(&head.Seq, &head.Sum, &n.Seq, &n.Sum, &text); err != nil {
			return nil, head, err
		}
		if n.Text = []byte(text); n.Seq > 0 {
			out = append(out, n)
		}
	}
	return out, head, rows.Err()
}

// LastOf returns the last entry of a kind; ok is false where there is none.
func (s *Store) LastOf(ctx context.Context, kind logbook.Kind) (e logbook.Entry, ok bool, err error) {
	var text string
	err = s.db.QueryRowContext(ctx, "SELECT text FROM logbook WHERE json_extract(text, '$.kind') = ? ORDER BY n DESC LIMIT 1", kind).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return e, false, nil
	}
	if err == nil {
		err = json.Unmarshal([]byte(text), &e)
	}
	return e, err == nil, err
}

// Things are the rounds, versions of baselines and waivers that are kept.
func (s *Store) Things(ctx context.Context) (out []logbook.Thing, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT ?, id, 0 FROM rounds UNION ALL SELECT ?, name, n FROM baselines UNION ALL SELECT ?, id, 0 FROM waivers",
		logbook.Journals, logbook.Baselines, logbook.Waivers)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var t logbook.Thing
		if err := rows.Scan(&t.Shelf, &t.ID, &t.Seq); err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

// Stands tells how a version of a baseline or a waiver stands.
func (s *Store) Stands(ctx context.Context, t logbook.Thing) (out logbook.Stands, err error) {
	var text string
	switch t.Shelf {
	case logbook.Baselines:
		err = s.db.QueryRowContext(ctx, "SELECT text FROM baselines WHERE name = ? AND n = ?", t.ID, t.Seq).Scan(&text)
	default:
		err = s.db.QueryRowContext(ctx, "SELECT body FROM waivers WHERE id = ?", t.ID).Scan(&text)
	}
	if errors.Is(err, sql.ErrNoRows) {
		return logbook.Stands{Gone: true}, nil
	}
	return logbook.Stands{Sum: sumOf(text)}, err
}
