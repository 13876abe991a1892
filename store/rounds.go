package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"yareharbour/core/act"
	"yareharbour/core/course"
	"yareharbour/core/logbook"
	"yareharbour/core/plan"
)

// Round is the head of a round's journal.
type Round struct {
	ID      string
	Cluster string
	Started time.Time
}

// Rounds is what keeps rounds: their leases, journals, requests, and what plans stand on. Package storetest holds it to
// its rules.
type Rounds interface {
	// Acquire takes the lease of a cluster, or returns a *HeldError; Holder says who has it, nil where nobody does.
	Acquire(ctx context.Context, cluster string, w Want) (Lease, error)
	Holder(ctx context.Context, cluster string) (*HeldError, error)

	Begin(ctx context.Context, l Lease, id string, first course.Event) (course.Event, error)
	Append(ctx context.Context, l Lease, id string, e course.Event) (course.Event, string, error)
	Journal(ctx context.Context, id string, c *course.Chain) ([]course.Event, error)
	Rounds(ctx context.Context, cluster string) ([]Round, error)
	Latest(ctx context.Context, cluster string) (Round, error)
	Owing(ctx context.Context) ([]Round, error)
	Settle(ctx context.Context, round string) error
	Knows(ctx context.Context, round string) (bool, error)
	TakeOver(ctx context.Context, round, by string, now time.Time) error

	Ask(ctx context.Context, round string, e course.Event) error
	Take(ctx context.Context, l Lease, round string, now time.Time) ([]course.Event, []string, error)
	SetProgress(ctx context.Context, round string, p Progress) error
	Progress(ctx context.Context, round string) (Progress, error)

	KeepPlan(ctx context.Context, p *plan.Plan) error
	Plan(ctx context.Context, cluster, digest string) (*plan.Plan, error)
	Digests(ctx context.Context, cluster string) ([]string, error)
	KeepTimes(ctx context.Context, round string, visits []course.Visit) error
	Times(ctx context.Context) (plan.Times, error)
}

var _ Rounds = (*Store)(nil)

// ErrNoRound is what asking for a round that there is not gives.
var ErrNoRound = errors.New("there is no such round")

// Begin makes a new round with its first event. The lease must be held.
func (s *Store) Begin(ctx context.Context, l Lease, id string, first course.Event) (course.Event, error) {
	var out course.Event
	err := s.tx(ctx, func(tx *sql.Tx) (err error) {
		if err := s.check(ctx, tx, l); err != nil {
			return err
		}
		if _, err := tx.Exec("INSERT INTO rounds (id, n, cluster, started, seq, sum) "+
			"SELECT ?, COALESCE(MAX(n), 0) + 1, ?, ?, 0, ? FROM rounds", id, l.Cluster(), at(first.At),
			course.NewChain(id).Head().Sum); err != nil {
			return err
		}
		out, _, err = s.write(tx, l, id, first)
		return err
	})
	return out, err
}

// Append writes the next event of a round and returns it with its number and its sum. It fails with ErrLost, and writes
// nothing, when the lease is not held any more: somebody else may be writing.
func (s *Store) Append(ctx context.Context, l Lease, id string, e course.Event) (out course.Event,
	sum string, err error) {
	err = s.tx(ctx, func(tx *sql.Tx) error {
		if err := s.check(ctx, tx, l); err != nil {
			return err
		}
		out, sum, err = s.write(tx, l, id, e)
		return err
	})
	if err != nil {
		return e, "", fmt.Errorf("writing the journal of round %s: %w", id, err)
	}
	return out, sum, nil
}

// write writes the next event behind the head, and moves the head, here and at the lease.
func (s *Store) write(tx *sql.Tx, l Lease, id string, e course.Event) (course.Event, string, error) {
	var head course.Head
	if err := tx.QueryRow("SELECT seq, sum FROM rounds WHERE id = ?", id).Scan(&head.Seq, &head.Sum); err != nil {
		return e, "", err
	}
	if head.Seq > 0 {
		var last string
		err := tx.QueryRow("SELECT sum FROM journal WHERE round = ? AND seq = ?", id, head.Seq).Scan(&last)
		if errors.Is(err, sql.ErrNoRows) || err == nil && last != head.Sum {
			return e, "", &course.Malformed{Entry: head.Seq,
				Why: "it is missing or not as it was written: nothing is written behind it"}
		}
		if err != nil {
			return e, "", err
		}
	}
	e.V, e.Epoch, e.Seq = course.Schema, l.Epoch(), head.Seq+1
	text, err := json.Marshal(e)
	if err != nil {
		return e, "", err
	}
	sum := course.Bind(head.Sum, text)
	if _, err = tx.Exec("INSERT INTO journal (round, seq, sum, text) VALUES (?, ?, ?, ?)", id, e.Seq, sum,
		string(text)); err == nil {
		_, err = tx.Exec("UPDATE rounds SET seq = ?, sum = ? WHERE id = ?", e.Seq, sum, id)
	}
	if err == nil {
		_, err = tx.Exec("UPDATE leases SET round = ?, seq = ?, sum = ? WHERE cluster = ?", id, e.Seq, sum, l.Cluster())
	}
	if entry, decides := logbook.OfEvent(&e, l.Cluster(), id, sum); err == nil && decides {
		if entry.By == "" { // the runner's
			entry.By, entry.From = s.by, s.from
		}
		err = record(tx, entry)
	}
	return e, sum, err
}

// Journal reads on in the journal of a round from where the chain stands, in order, and takes it on to the journal's
// end. Where an entry is missing, altered or not to be read, or the journal is shorter than it was, it returns what
// comes before and a *course.Malformed.
func (s *Store) Journal(ctx context.Context, id string, c *course.Chain) ([]course.Event, error) {
	// One statement sees one state: the entries and both places that know how many there are.
	rows, err := s.db.QueryContext(ctx,
		`SELECT COALESCE(j.seq, 0), COALESCE(j.sum, ''), COALESCE(j.text, ''), r.seq, r.sum,
			COALESCE(l.seq, 0), COALESCE(l.sum, '')
		FROM rounds r LEFT JOIN journal j ON j.round = r.id AND j.seq > ? LEFT JOIN leases l ON l.round = r.id
		WHERE r.id = ? ORDER BY j.seq`, c.Head().Seq, id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []course.Event
	var own, lease course.Head
	found := false
	for rows.Next() {
		var n course.Entry
		var text string
		if err := rows.Scan(&n.Seq, &n.Sum, &text, &own.Seq, &own.Sum, &lease.Seq, &lease.Sum); err != nil {
			return out, err
		}
		if found = true; n.Seq == 0 {
			continue // nothing new
		}
		n.Text = []byte(text)
		e, err := c.Next(n)
		if err != nil {
			return out, fmt.Errorf("round %s: %w", id, err)
		}
		out = append(out, e)
	}
	if err := rows.Err(); err != nil {
		return out, err
	}
	if !found {
		return nil, fmt.Errorf("round %s: %w", id, ErrNoRound)
	}
	if err := errors.Join(c.Reaches(own), c.Reaches(lease)); err != nil {
		return out, fmt.Errorf("round %s: %w", id, err)
	}
	return out, nil
}

// Rounds returns the rounds of a cluster, or of all clusters where it is empty, the last that was begun first: by the
// store's own count, for a time of day can be set.
func (s *Store) Rounds(ctx context.Context, cluster string) ([]Round, error) {
	return s.rounds(ctx, "SELECT id, cluster, started FROM rounds WHERE cluster = ? OR ? = '' ORDER BY n DESC",
		cluster, cluster)
}

func (s *Store) rounds(ctx context.Context, query string, args ...any) ([]Round, error) {
	rows, err := s.db.QueryContext(ctx, query, args...)
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

// Owing returns the rounds of which something may still be owed, the last first: all that were not settled.
func (s *Store) Owing(ctx context.Context) ([]Round, error) {
	return s.rounds(ctx, "SELECT id, cluster, started FROM rounds WHERE owes ORDER BY n DESC")
}

// Settle notes that nothing of a round is owed any more.
func (s *Store) Settle(ctx context.Context, round string) error {
	_, err := s.db.ExecContext(ctx, "UPDATE rounds SET owes = 0 WHERE id = ?", round)
	return err
}

// Latest returns the round of the cluster that was begun last, or ErrNoRound.
func (s *Store) Latest(ctx context.Context, cluster string) (Round, error) {
	r := Round{Cluster: cluster}
	var started string
	err := s.db.QueryRowContext(ctx,
		"SELECT id, started FROM rounds WHERE cluster = ? ORDER BY n DESC LIMIT 1",
		cluster).Scan(&r.ID, &started)
	if errors.Is(err, sql.ErrNoRows) {
		return Round{}, fmt.Errorf("the cluster %s had no round yet: %w", cluster, ErrNoRound)
	}
	if err == nil {
		r.Started, err = time.Parse(stamp, started)
	}
	return r, err
}

// Knows tells whether the round is one of this store's, or one of another's that somebody has taken over.
func (s *Store) Knows(ctx context.Context, round string) (bool, error) {
	var n int
	err := s.db.QueryRowContext(ctx,
		"SELECT (SELECT COUNT(*) FROM rounds WHERE id = ?) + (SELECT COUNT(*) FROM rounds_1 WHERE id = ?) + (SELECT "+
			"COUNT(*) FROM strangers WHERE round = ?)",
		round, round, round).Scan(&n)
	return n > 0, err
}

// TakeOver notes that a round of another store is over as far as this one goes.
func (s *Store) TakeOver(ctx context.Context, round, by string, now time.Time) error {
	_, err := s.db.ExecContext(ctx,
		"INSERT INTO strangers (round, at, by_whom) VALUES (?, ?, ?) ON CONFLICT (round) DO NOTHING",
		round, at(now), by)
	return err
}

// Ask leaves a request for whoever runs the round: the event that he is to write, but for what only he knows.
func (s *Store) Ask(ctx context.Context, round string, e course.Event) error {
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, "INSERT INTO requests (round, text) VALUES (?, ?)", round, string(text))
	return err
}

// Take writes the requests that nobody has taken yet into the round's journal, in their order, and returns what it
// wrote, with the entries' sums. Only the lease's holder can.
func (s *Store) Take(ctx context.Context, l Lease, round string, now time.Time) (out []course.Event,
	sums []string, err error) {
	var n int
	err = s.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM requests WHERE round = ?", round).Scan(&n)
	if err != nil || n == 0 {
		return nil, nil, err
	}
	err = s.tx(ctx, func(tx *sql.Tx) error {
		if err := s.check(ctx, tx, l); err != nil {
			return err
		}
		asked, err := requests(tx, round)
		if err != nil {
			return err
		}
		for _, e := range asked {
			e.At = now
			e, sum, err := s.write(tx, l, round, e)
			if err != nil {
				return err
			}
			out, sums = append(out, e), append(sums, sum)
		}
		_, err = tx.Exec("DELETE FROM requests WHERE round = ?", round)
		return err
	})
	if err != nil {
		return nil, nil, fmt.Errorf("taking requests for round %s: %w", round, err)
	}
	return out, sums, nil
}

func requests(tx *sql.Tx, round string) (out []course.Event, err error) {
	rows, err := tx.Query("SELECT text FROM requests WHERE round = ? ORDER BY n", round)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		e := course.Event{}
		if err := json.Unmarshal([]byte(text), &e); err != nil {
			return nil, err
		}
		e.Kind = course.Asked
		out = append(out, e)
	}
	return out, rows.Err()
}

// Progress is how far what is under way has come. It is for looking at: nothing is decided by it and nothing lost with
// it.
type Progress struct {
	At   time.Time     `json:"at"`
	Says []course.Said `json:"says"`
}

// SetProgress replaces what is known of the round's progress.
func (s *Store) SetProgress(ctx context.Context, round string, p Progress) error {
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx,
		"INSERT INTO progress (round, text) VALUES (?, ?) ON CONFLICT (round) DO UPDATE SET text = excluded.text",
		round, string(text))
	return err
}

// Progress returns it; the zero value where nothing is known.
func (s *Store) Progress(ctx context.Context, round string) (p Progress, err error) {
	var text string
	err = s.db.QueryRowContext(ctx, "SELECT text FROM progress WHERE round = ?", round).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return p, nil
	}
	if err != nil {
		return p, err
	}
	return p, json.Unmarshal([]byte(text), &p)
}

// keptPlans is how many plans of a cluster are kept that were shown.
const keptPlans = 50

// KeepPlan keeps a plan that was shown, under its digest.
func (s *Store) KeepPlan(ctx context.Context, p *plan.Plan) error {
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return s.tx(ctx, func(tx *sql.Tx) error {
		_, err := tx.Exec("INSERT INTO plans (digest, n, cluster, made, text) "+
			"SELECT ?, COALESCE(MAX(n), 0) + 1, ?, ?, ? FROM plans WHERE true ON CONFLICT (digest) DO UPDATE SET n = "+
			"excluded.n", p.Digest(), p.Brief.Cluster, at(p.Made), string(text))
		if err != nil {
			return err
		}
		_, err = tx.Exec("DELETE FROM plans WHERE cluster = ? AND digest NOT IN (SELECT digest FROM plans WHERE "+
			"cluster = ? ORDER BY n DESC LIMIT ?)",
			p.Brief.Cluster, p.Brief.Cluster, keptPlans)
		return err
	})
}

// ErrNoPlan is what asking for a plan that is not kept gives.
var ErrNoPlan = errors.New("no plan with that digest is kept")

// Plan returns the kept plan of the cluster whose digest begins so. Its text must still have that digest.
func (s *Store) Plan(ctx context.Context, cluster, digest string) (*plan.Plan, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT digest, text FROM plans WHERE cluster = ?", cluster)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var found *plan.Plan
	for rows.Next() {
		var d, text string
		if err := rows.Scan(&d, &text); err != nil {
			return nil, err
		}
		if len(digest) < 6 || len(d) < len(digest) || d[:len(digest)] != digest {
			continue
		}
		if found != nil {
			return nil, fmt.Errorf("the plan %s of %s: several begin so: give more of it", digest, cluster)
		}
		found = &plan.Plan{}
		if err := json.Unmarshal([]byte(text), found); err != nil || found.Digest() != d {
			return nil, fmt.Errorf("the plan %s of %s is not as it was kept: plan again (%w)", digest, cluster,
				errors.Join(err, errors.New("its digest is another")))
		}
	}
	if found == nil {
		return nil, fmt.Errorf("the plan %s of %s: %w; \"yare plan %s\" makes one", digest, cluster, ErrNoPlan, cluster)
	}
	return found, rows.Err()
}

// Digests are those of the cluster's kept plans.
func (s *Store) Digests(ctx context.Context, cluster string) (out []string, err error) {
	rows, err := s.db.QueryContext(ctx, "SELECT digest FROM plans WHERE cluster = ? ORDER BY rowid DESC", cluster)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var d string
		if err := rows.Scan(&d); err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, rows.Err()
}

// KeepTimes keeps how long the steps of a round's visits took. Those of a visit that are kept already are not kept
// again.
func (s *Store) KeepTimes(ctx context.Context, round string, visits []course.Visit) error {
	return s.tx(ctx, func(tx *sql.Tx) error {
		for i := range visits {
			v := &visits[i]
			for n, span := range v.Spans {
				if v.Phase != course.Over || span.Failed || span.To.IsZero() {
					continue
				}
				_, err := tx.Exec("INSERT INTO times (round, host, n, step, model, took, stated) VALUES (?, ?, ?, ?, ?, ?, ?) "+
					"ON CONFLICT (round, host, n) DO NOTHING",
					round, v.Host, n, string(span.Step), v.Model, int64(span.To.Sub(span.From)), int64(v.Stated(span)))
				if err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Times returns how long steps took, of all rounds, as shares of what was stated for each.
func (s *Store) Times(ctx context.Context) (plan.Times, error) {
	rows, err := s.db.QueryContext(ctx, "SELECT step, model, took, stated FROM times t "+
		"WHERE took > 0 AND stated > 0 ORDER BY (SELECT n FROM rounds r WHERE r.id = t.round), host, t.n")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	t := plan.Times{}
	for rows.Next() {
		var step, model string
		var took, stated int64
		if err := rows.Scan(&step, &model, &took, &stated); err != nil {
			return nil, err
		}
		t.Learn(act.Step(step), model, float64(took)/float64(stated))
	}
	return t, rows.Err()
}
