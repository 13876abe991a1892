package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"yareharbour/core/plan"
)

// Round is the head of a round's journal.
type Round struct {
	ID      string
	Cluster string
	Started time.Time
}

// ErrNoRound is what asking for a round that there is not gives.
var ErrNoRound = errors.New("there is no such round")

// Begin makes a new round with its first event. The lease must be held.
func (s *Store) Begin(ctx context.Context, l *Lease, id string, first plan.Event) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		if err := l.check(tx); err != nil {
			return err
		}
		if _, err := tx.Exec("INSERT INTO rounds (id, cluster, started) VALUES (?, ?, ?)", id, l.Cluster, at(first.At)); err != nil {
			return err
		}
		first.Seq = 1
		return insert(tx, id, first)
	})
}

func insert(tx *sql.Tx, id string, e plan.Event) error {
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = tx.Exec("INSERT INTO journal (round, seq, at, kind, body) VALUES (?, ?, ?, ?, ?)", id, e.Seq, at(e.At), string(e.Kind), body)
	return err
}

// Append writes the next event of a round and returns it with its number. It fails with ErrLost, and writes nothing, when the lease is
// not held any more: somebody else may be writing.
func (s *Store) Append(ctx context.Context, l *Lease, id string, e plan.Event) (plan.Event, error) {
	err := s.tx(ctx, func(tx *sql.Tx) error {
		if err := l.check(tx); err != nil {
			return err
		}
		if err := tx.QueryRow("SELECT COALESCE(MAX(seq), 0) + 1 FROM journal WHERE round = ?", id).Scan(&e.Seq); err != nil {
			return err
		}
		return insert(tx, id, e)
	})
	if err != nil {
		return e, fmt.Errorf("writing the journal of round %s: %w", id, err)
	}
	return e, nil
}

// Journal returns the events of a round after the one numbered since, in order.
func (s *Store) Journal(ctx context.Context, id string, since int64) ([]plan.Event, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT body FROM journal WHERE round = ? AND seq > ? ORDER BY seq", id, since)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []plan.Event
	for rows.Next() {
		var body []byte
		var e plan.Event
		if err := rows.Scan(&body); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(body, &e); err != nil {
			return nil, fmt.Errorf("the journal of round %s: %w", id, err)
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// Rounds returns the rounds of a cluster, or of all clusters where it is empty, the newest first.
func (s *Store) Rounds(ctx context.Context, cluster string) ([]Round, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT id, cluster, started FROM rounds WHERE cluster = ? OR ? = '' ORDER BY started DESC, id DESC", cluster, cluster)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Round
	for rows.Next() {
		var r Round
		var started string
		if err := rows.Scan(&r.ID, &r.Cluster, &started); err != nil {
			return nil, err
		}
		if r.Started, err = time.Parse(stamp, started); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// Latest returns the newest round of the cluster, or ErrNoRound.
func (s *Store) Latest(ctx context.Context, cluster string) (Round, error) {
	rs, err := s.Rounds(ctx, cluster)
	if err == nil && len(rs) == 0 {
		err = fmt.Errorf("the cluster %s had no round yet: %w", cluster, ErrNoRound)
	}
	if err != nil {
		return Round{}, err
	}
	return rs[0], nil
}

// Ask leaves a request for whoever runs the round.
func (s *Store) Ask(ctx context.Context, round, what, by string) error {
	_, err := s.db.ExecContext(ctx, "INSERT INTO requests (round, what, by) VALUES (?, ?, ?)", round, what, by)
	return err
}

// Request is something that a person asks of a round.
type Request struct{ What, By string }

// Take returns the requests that nobody has taken yet and marks them taken.
func (s *Store) Take(ctx context.Context, round string) (out []Request, err error) {
	var n int
	err = s.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM requests WHERE round = ? AND taken = 0", round).Scan(&n)
	if err != nil || n == 0 {
		return nil, err
	}
	err = s.tx(ctx, func(tx *sql.Tx) error {
		rows, err := tx.Query("UPDATE requests SET taken = 1 WHERE round = ? AND taken = 0 RETURNING what, by", round)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var r Request
			if err := rows.Scan(&r.What, &r.By); err != nil {
				return err
			}
			out = append(out, r)
		}
		return rows.Err()
	})
	return out, err
}

// Progress is how far what is under way has come. It is for looking at: nothing is decided by it and nothing lost with it.
type Progress struct {
	At    time.Time `json:"at"`
	Says  string    `json:"says"` // what the round waits for
	Tasks []Tick    `json:"tasks"`
}

// Tick is how far one task is.
type Tick struct {
	Action  string        `json:"action"`
	Percent int           `json:"percent"`
	Left    time.Duration `json:"left"`
}

// SetProgress replaces what is known of the round's progress.
func (s *Store) SetProgress(ctx context.Context, round string, p Progress) error {
	body, err := json.Marshal(p)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, "INSERT INTO progress (round, body) VALUES (?, ?) ON CONFLICT (round) DO UPDATE SET body = excluded.body", round, body)
	return err
}

// Progress returns it; the zero value where nothing is known.
func (s *Store) Progress(ctx context.Context, round string) (p Progress, err error) {
	var body []byte
	err = s.db.QueryRowContext(ctx, "SELECT body FROM progress WHERE round = ?", round).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return p, nil
	}
	if err != nil {
		return p, err
	}
	return p, json.Unmarshal(body, &p)
}
