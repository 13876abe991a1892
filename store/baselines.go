package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"yareharbour/core/logbook"
)

// Version is a version of a baseline: what its file said, since when, by whom and why.
type Version struct {
	Name string    `json:"name"`
	N    int       `json:"version"` // counts from 1
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	Why  string    `json:"why"`
	Text string    `json:"text,omitempty"` // YAML
}

// ItsFile is who keeps a version that was found in a baseline's file: whoever changed that is not known.
const ItsFile = "file"

// ErrNoVersion is what asking for a version gives that there is not.
var ErrNoVersion = errors.New("there is no such version")

// ErrChanged is what keeping a version gives when somebody else has kept one meanwhile.
var ErrChanged = errors.New("somebody else has changed it meanwhile")

// Versions keeps every version of a baseline.
type Versions interface {
	KeepVersion(ctx context.Context, v Version, after int) (int, error)
	Versions(ctx context.Context, name string) ([]Version, error)
	Version(ctx context.Context, name string, n int) (Version, error)
}

var _ Versions = (*Store)(nil)

// KeepVersion keeps a version of a baseline behind the one numbered after, which must be the newest; 0 where there is
// none yet. It returns the version's number. A text that is the newest version's already is not kept again.
func (s *Store) KeepVersion(ctx context.Context, v Version, after int) (int, error) {
	n := 0
	err := s.tx(ctx, func(tx *sql.Tx) error {
		var text string
		err := tx.QueryRow("SELECT n, text FROM baselines WHERE name = ? ORDER BY n DESC LIMIT 1",
			v.Name).Scan(&n, &text)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if n > 0 && text == v.Text {
			return nil
		}
		if n != after {
			return fmt.Errorf("the baseline %s: %w: version %d is there now, and this one is made from %d",
				v.Name, ErrChanged, n, after)
		}
		n++
		if _, err = tx.Exec("INSERT INTO baselines (name, n, at, by, why, text) VALUES (?, ?, ?, ?, ?, ?)", v.Name, n,
			at(v.At), v.By, v.Why, v.Text); err != nil {
			return err
		}
		by, says := v.By, fmt.Sprintf("the baseline %s, version %d", v.Name, n)
		if by == ItsFile {
			by, says = s.by, says+", found in its file"
		}
		return record(tx, logbook.Entry{At: v.At, By: by, From: s.from, Kind: logbook.Saved, Why: v.Why, Says: says, Of: &logbook.Thing{Shelf: logbook.Baselines, ID: v.Name, Seq: int64(n), Sum: sumOf(v.Text)}})
	})
	return n, err
}

// Versions returns all versions of a baseline without their texts, the newest first.
func (s *Store) Versions(ctx context.Context, name string) ([]Version, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT n, at, by, why FROM baselines WHERE name = ? ORDER BY n DESC", name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Version
	for rows.Next() {
		v := Version{Name: name}
		var when string
		if err := rows.Scan(&v.N, &when, &v.By, &v.Why); err != nil {
			return nil, err
		}
		if v.At, err = time.Parse(stamp, when); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

// Version returns a version with its text; n of 0 is the newest.
func (s *Store) Version(ctx context.Context, name string, n int) (Version, error) {
	v := Version{Name: name}
	var when string
	q, args := "SELECT n, at, by, why, text FROM baselines WHERE name = ? ORDER BY n DESC LIMIT 1", []any{name}
	if n != 0 {
		q, args = "SELECT n, at, by, why, text FROM baselines WHERE name = ? AND n = ?", []any{name, n}
	}
	err := s.db.QueryRowContext(ctx, q, args...).Scan(&v.N, &when, &v.By, &v.Why, &v.Text)
	if errors.Is(err, sql.ErrNoRows) {
		return v, fmt.Errorf("the baseline %s, version %d: %w", name, n, ErrNoVersion)
	}
	if err != nil {
		return v, err
	}
	v.At, err = time.Parse(stamp, when)
	return v, err
}
