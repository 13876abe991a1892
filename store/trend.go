package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"yareharbour/core/drift"
	"yareharbour/core/logbook"
	"yareharbour/core/precheck"
)

// Tallies keeps how much drift there was, and what was last looked at.
type Tallies interface {
	KeepTally(ctx context.Context, cluster string, t drift.Tally) error
	Trend(ctx context.Context, cluster string, since time.Time) ([]drift.Tally, error)
	KeepLasting(ctx context.Context, changed []drift.Lasting) error
	Lasting(ctx context.Context, cluster string, since time.Time) ([]drift.Lasting, error)
	KeepLook(ctx context.Context, cluster string, l Look) error
	Looked(ctx context.Context, cluster string) (Look, bool, error)
}

// Filters keeps filters under names.
type Filters interface {
	Filters(ctx context.Context) (map[string]string, error)
	KeepFilter(ctx context.Context, name, text string) error
}

// Waivers keeps what was waived, on the record: nothing of it is ever taken away.
type Waivers interface {
	Waivers(ctx context.Context, cluster string) ([]precheck.Waiver, error)
	KeepWaiver(ctx context.Context, w precheck.Waiver) error
}

var (
	_ Waivers = (*Store)(nil)
	_ Tallies = (*Store)(nil)
	_ Filters = (*Store)(nil)
)

// KeepTally keeps what a check of a cluster counted. One that says the same as the newest is not kept again.
func (s *Store) KeepTally(ctx context.Context, cluster string, t drift.Tally) error {
	when := at(t.At)
	t.At = time.Time{}
	body, err := json.Marshal(t)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *sql.Tx) error {
		var had string
		err := tx.QueryRow("SELECT body FROM tallies WHERE cluster = ? ORDER BY at DESC LIMIT 1", cluster).Scan(&had)
		if err != nil && !errors.Is(err, sql.ErrNoRows) || had == string(body) {
			return ignoreNone(err)
		}
		_, err = tx.Exec("INSERT INTO tallies (cluster, at, body) VALUES (?, ?, ?) ON CONFLICT (cluster, at) DO "+
			"UPDATE SET body = excluded.body", cluster, when, string(body))
		return err
	})
}

func ignoreNone(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	return err
}

// Trend returns the tallies of a cluster since that time, in the order of time, and before them the one that held then.
// A tally holds until the next.
func (s *Store) Trend(ctx context.Context, cluster string, since time.Time) ([]drift.Tally, error) {
	rows, err := s.db.QueryContext(ctx,
		`SELECT at, body FROM tallies WHERE cluster = ?1
			AND at >= coalesce((SELECT max(at) FROM tallies WHERE cluster = ?1 AND at <= ?2), '')
		ORDER BY at`, cluster, at(since))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []drift.Tally
	for rows.Next() {
		var when, body string
		var t drift.Tally
		if err := rows.Scan(&when, &body); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(body), &t); err != nil {
			return nil, err
		}
		if t.At, err = time.Parse(stamp, when); err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

// KeepLasting keeps what of lasting drift has changed. A place that another process has found meanwhile is not kept twice.
func (s *Store) KeepLasting(ctx context.Context, changed []drift.Lasting) error {
	if len(changed) == 0 {
		return nil
	}
	return s.tx(ctx, func(tx *sql.Tx) error {
		for i := range changed {
			l := &changed[i]
			until := ""
			if !l.Until.IsZero() {
				until = at(l.Until)
			}
			r, err := tx.Exec("UPDATE lasting SET until = ?, severity = ? WHERE host = ? AND component = ? AND device = ? AND since = ?",
				until, int(l.Severity), l.Host, string(l.Component), l.Device, at(l.Since))
			if err != nil {
				return err
			}
			if n, err := r.RowsAffected(); err != nil || n > 0 {
				if err != nil {
					return err
				}
				continue
			}
			if _, err := tx.Exec("INSERT INTO lasting (cluster, host, component, device, since, until, severity) VALUES (?, ?, ?, ?, ?, ?, ?) ON CONFLICT DO NOTHING",
				l.Cluster, l.Host, string(l.Component), l.Device, at(l.Since), until, int(l.Severity)); err != nil {
				return err
			}
		}
		return nil
	})
}

// Lasting returns what is out of line in a cluster, or in all where it is empty, and what was since a moment; a zero moment
// is now.
func (s *Store) Lasting(ctx context.Context, cluster string, since time.Time) (out []drift.Lasting, err error) {
	ended := "z" // after every time
	if !since.IsZero() {
		ended = at(since)
	}
	rows, err := s.db.QueryContext(ctx, "SELECT cluster, host, component, device, since, until, severity FROM lasting WHERE (cluster = ? OR ? = '') "+
		"AND (until = '' OR until >= ?) ORDER BY host, component, device, since", cluster, cluster, ended)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var l drift.Lasting
		var from, until string
		if err := rows.Scan(&l.Cluster, &l.Host, &l.Component, &l.Device, &from, &until, &l.Severity); err != nil {
			return nil, err
		}
		if l.Since, err = time.Parse(stamp, from); err == nil && until != "" {
			l.Until, err = time.Parse(stamp, until)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, rows.Err()
}

// Look is what somebody saw of a cluster's drift when they last looked.
type Look struct {
	At   time.Time
	By   string
	Seen drift.Seen
}

// KeepLook keeps a look; the one before is let go.
func (s *Store) KeepLook(ctx context.Context, cluster string, l Look) error {
	body, err := json.Marshal(l.Seen)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx,
		"INSERT INTO looks (cluster, at, by, body) VALUES (?, ?, ?, ?) ON CONFLICT (cluster) DO UPDATE SET at = "+
			"excluded.at, by = excluded.by, body = excluded.body", cluster, at(l.At), l.By, body)
	return err
}

// Looked returns the last look at a cluster, and false where nobody looked yet.
func (s *Store) Looked(ctx context.Context, cluster string) (l Look, ok bool, err error) {
	var when string
	var body []byte
	err = s.db.QueryRowContext(ctx, "SELECT at, by, body FROM looks WHERE cluster = ?", cluster).
		Scan(&when, &l.By, &body)
	if errors.Is(err, sql.ErrNoRows) {
		return l, false, nil
	}
	if err == nil {
		l.At, err = time.Parse(stamp, when)
	}
	if err == nil {
		err = json.Unmarshal(body, &l.Seen)
	}
	if err != nil {
		return l, false, fmt.Errorf("the last look at %s: %w", cluster, err)
	}
	return l, true, nil
}

// Filters returns the filters that were kept, by name.
func (s *Store) Filters(ctx context.Context) (map[string]string, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT name, text FROM filters")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]string{}
	for rows.Next() {
		var name, text string
		if err := rows.Scan(&name, &text); err != nil {
			return nil, err
		}
		out[name] = text
	}
	return out, rows.Err()
}

// KeepFilter keeps a filter under a name; an empty text forgets it.
func (s *Store) KeepFilter(ctx context.Context, name, text string) error {
	if text == "" {
		_, err := s.db.ExecContext(ctx, "DELETE FROM filters WHERE name = ?", name)
		return err
	}
	_, err := s.db.ExecContext(ctx,
		"INSERT INTO filters (name, text) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET text = excluded.text",
		name, text)
	return err
}

// Waivers returns every waiver of the cluster, in the order in which they were given, those that are over or were taken
// back included.
func (s *Store) Waivers(ctx context.Context, cluster string) ([]precheck.Waiver, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT body FROM waivers WHERE cluster = ? ORDER BY at, id", cluster)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []precheck.Waiver
	for rows.Next() {
		var body string
		var w precheck.Waiver
		if err := rows.Scan(&body); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(body), &w); err != nil {
			return nil, fmt.Errorf("a waiver of %s: %w", cluster, err)
		}
		out = append(out, w)
	}
	return out, rows.Err()
}

// KeepWaiver keeps a waiver, or that it was taken back.
func (s *Store) KeepWaiver(ctx context.Context, w precheck.Waiver) error {
	body, err := json.Marshal(w)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *sql.Tx) error {
		if _, err := tx.Exec("INSERT INTO waivers (id, cluster, at, body) VALUES (?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET body = "+
			"excluded.body", w.ID, w.Cluster, at(w.At), string(body)); err != nil {
			return err
		}
		e := logbook.OfWaiver(w, sumOf(string(body)))
		e.From = s.from
		return record(tx, e)
	})
}
