package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"yareharbour/core/estate"
)

// stamp is how times are written: they sort as text.
const stamp = "2006-01-02T15:04:05.000000000Z"

func at(t time.Time) string { return t.UTC().Format(stamp) }

// KeepReading keeps a reading. One that says the same as the newest kept of its host only moves that one's time forward.
func (s *Store) KeepReading(ctx context.Context, r *estate.Reading) error {
	body, err := json.Marshal(r)
	if err != nil {
		return err
	}
	when := at(r.Tried())
	print, err := fingerprint(r)
	if err != nil {
		return err
	}
	err = s.tx(ctx, func(tx *sql.Tx) error {
		var first, had string
		err := tx.QueryRow("SELECT first, print FROM readings WHERE host = ? ORDER BY first DESC LIMIT 1", r.Host).Scan(&first, &had)
		if err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		}
		if had == print || first == when {
			_, err = tx.Exec("UPDATE readings SET at = ?, print = ?, body = ? WHERE host = ? AND first = ?", when, print, body, r.Host, first)
			return err
		}
		_, err = tx.Exec("INSERT OR REPLACE INTO readings (host, first, at, print, body) VALUES (?, ?, ?, ?, ?)", r.Host, when, when, print, body)
		return err
	})
	if err != nil {
		return fmt.Errorf("keeping the reading of %s: %w", r.Host, err)
	}
	return nil
}

// fingerprint is a hash of all that a reading says but when.
func fingerprint(r *estate.Reading) (string, error) {
	c := *r
	c.Sections = append([]estate.Section(nil), r.Sections...)
	for i := range c.Sections {
		c.Sections[i].At = time.Time{}
	}
	b, err := json.Marshal(c)
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:8]), err
}

// Newest returns the newest kept reading of each of the hosts that has one.
func (s *Store) Newest(ctx context.Context, hosts []string) (map[string]*estate.Reading, error) {
	out := map[string]*estate.Reading{}
	for _, h := range hosts {
		var body []byte
		err := s.db.QueryRowContext(ctx, "SELECT body FROM readings WHERE host = ? ORDER BY first DESC LIMIT 1", h).Scan(&body)
		if errors.Is(err, sql.ErrNoRows) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("the kept reading of %s: %w", h, err)
		}
		r := &estate.Reading{}
		if err := json.Unmarshal(body, r); err != nil {
			return nil, fmt.Errorf("the kept reading of %s: %w", h, err)
		}
		out[h] = r
	}
	return out, nil
}
