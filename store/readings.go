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

// Newest returns the newest kept reading of each of the hosts that has one. The readings are shared with other callers and must not be
// changed.
func (s *Store) Newest(ctx context.Context, hosts []string) (map[string]*estate.Reading, error) {
	out := map[string]*estate.Reading{}
	for _, h := range hosts {
		r, err := s.newest(ctx, h)
		if err != nil {
			return nil, fmt.Errorf("the kept reading of %s: %w", h, err)
		}
		if r != nil {
			out[h] = r
		}
	}
	return out, nil
}

// decoded is a reading as it was last decoded, with the time that its row then had.
type decoded struct {
	at      string
	reading *estate.Reading
}

// newest decodes a host's newest reading only where it is another than the last time: screens ask for all of them again and again.
func (s *Store) newest(ctx context.Context, host string) (*estate.Reading, error) {
	var first, at string
	err := s.db.QueryRowContext(ctx, "SELECT first, at FROM readings WHERE host = ? ORDER BY first DESC LIMIT 1", host).Scan(&first, &at)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if d, ok := s.decoded[host]; ok && d.at == first+at {
		return d.reading, nil
	}
	var body []byte
	if err := s.db.QueryRowContext(ctx, "SELECT body FROM readings WHERE host = ? AND first = ?", host, first).Scan(&body); err != nil {
		return nil, err
	}
	r := &estate.Reading{}
	if err := json.Unmarshal(body, r); err != nil {
		return nil, err
	}
	s.decoded[host] = decoded{first + at, r}
	return r, nil
}

// History returns the newest kept readings of the host, at most so many, in the order of time. Readings that said the same are one, with the
// time of the first of them.
func (s *Store) History(ctx context.Context, host string, most int) (out []*estate.Reading, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT first, body FROM (SELECT first, body FROM readings WHERE host = ? ORDER BY first DESC LIMIT ?) ORDER BY first", host, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var first string
		var body []byte
		r := &estate.Reading{}
		if err := rows.Scan(&first, &body); err != nil {
			return nil, err
		}
		when, err := time.Parse(stamp, first)
		if err != nil {
			return nil, err
		}
		if err := json.Unmarshal(body, r); err != nil {
			return nil, fmt.Errorf("the kept readings of %s: %w", host, err)
		}
		for i := range r.Sections {
			r.Sections[i].At = when
		}
		out = append(out, r)
	}
	return out, rows.Err()
}
