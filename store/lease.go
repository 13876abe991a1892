package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"sync/atomic"
	"time"
)

// Lease is the right to run rounds on a cluster. One process has it at a time, across machines; its epoch rises with
// every change of hands, so that a holder who was slow can neither write over his successor nor act any more. It is
// timed by a clock that runs on in sleep and that nobody can set. It is safe for concurrent use.
type Lease interface {
	Cluster() string
	Epoch() int64
	// Stands returns nil while it is certain that nobody else can have the lease: by the clock, without asking anybody;
	// ErrLost otherwise.
	Stands() error
	// Every is how often the lease wants to be renewed.
	Every() time.Duration
	// Renew prolongs the lease; ErrLost where another has taken it.
	Renew(ctx context.Context) error
	// Release gives it back.
	Release(ctx context.Context) error
}

// lease is a lease of this store.
type lease struct {
	cluster string
	epoch   int64
	term    time.Duration
	until   atomic.Int64 // nanoseconds of the clock, up to which nobody else can have it
	store   *Store
}

// Cluster is whose rounds may be run.
func (l *lease) Cluster() string { return l.cluster }

// Epoch is the lease's.
func (l *lease) Epoch() int64 { return l.epoch }

// Term is how long a lease holds without being renewed, where nothing else is said. A holder that died on the same
// machine is noticed at once.
const Term = 60 * time.Second

// ErrLost is what a lease gives that is not held any more, or of which that is not certain.
var ErrLost = errors.New("the lease of the cluster is not held any more: another process may run its rounds")

// HeldError says who holds a lease.
type HeldError struct {
	Cluster, Machine string
	PID              int
}

func (e *HeldError) Error() string {
	return fmt.Sprintf("process %d on %s runs a round on %s; one cluster has one runner at a time. Watch it with "+
		"\"yare round watch %s\"",
		e.PID, e.Machine, e.Cluster, e.Cluster)
}

// held is a lease's row.
type held struct {
	HeldError
	epoch, beat, up int64
	boot, id, space string
	started         string
	term            time.Duration
	free            bool
}

// holding tells who holds the lease: nobody, somebody, or somebody of whom only time will tell, since he is on another
// machine.
type holding int

const (
	nobody holding = iota
	somebody
	elsewhere
)

func (s *Store) row(ctx context.Context, q querier, cluster string) (h held, err error) {
	h.Cluster = cluster
	err = q.QueryRowContext(ctx,
		"SELECT epoch, machine, machine_id, boot, space, pid, started, beat, up, term, free FROM leases "+
			"WHERE cluster = ?", cluster).
		Scan(&h.epoch, &h.Machine, &h.id, &h.boot, &h.space, &h.PID, &h.started, &h.beat, &h.up, &h.term, &h.free)
	if errors.Is(err, sql.ErrNoRows) {
		h.free, err = true, nil
	}
	return h, err
}

type querier interface {
	QueryRowContext(context.Context, string, ...any) *sql.Row
}

// who judges a row from here. A process of this machine is known to live or not; times of this boot can be compared; an
// earlier boot of this machine is over.
func (s *Store) who(h held) holding {
	boot, up := s.clock.Now()
	at, err := here()
	switch {
	case h.free:
		return nobody
	case err != nil:
		return elsewhere
	case h.boot == boot && h.space == at.space && processStart(h.PID) != h.started, h.boot == boot &&
		up >= time.Duration(h.up)+h.term:
		return nobody
	case h.boot == boot:
		return somebody
	case h.id == at.id && at.id != "":
		return nobody
	}
	return elsewhere
}

// Want is what is wanted of a lease. Its zero value is the usual one.
type Want struct {
	Term  time.Duration // 0: Term
	Above int64         // the lease's epoch is above this one, as hosts know it
}

// Acquire takes the lease of a cluster, or returns a *HeldError. Whether a holder on another machine is still there
// shows only in time: it is watched for as long as his lease holds without being renewed.
func (s *Store) Acquire(ctx context.Context, cluster string, w Want) (Lease, error) {
	h, err := s.row(ctx, s.db, cluster)
	if err != nil {
		return nil, err
	}
	beat := int64(-1)
	if s.who(h) == elsewhere {
		if beat, err = s.watch(ctx, h); err != nil {
			return nil, err
		}
	}
	if w.Term == 0 {
		w.Term = Term
	}
	l := &lease{cluster: cluster, term: w.Term, store: s}
	at, err := here()
	if err != nil {
		return nil, err
	}
	boot, up := s.clock.Now()
	err = s.tx(ctx, func(tx *sql.Tx) error {
		h, err := s.row(ctx, tx, cluster)
		if err != nil {
			return err
		}
		if who := s.who(h); who == somebody || who == elsewhere && h.beat != beat {
			return &h.HeldError
		}
		l.epoch = max(h.epoch, w.Above) + 1
		_, err = tx.Exec(`INSERT INTO leases
			(cluster, epoch, machine, machine_id, boot, space, pid, started, beat, up, term, free, round, seq, sum)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 0, '', 0, '')
			ON CONFLICT (cluster) DO UPDATE SET epoch = excluded.epoch, machine = excluded.machine,
			machine_id = excluded.machine_id, boot = excluded.boot, space = excluded.space, pid = excluded.pid,
			started = excluded.started, beat = excluded.beat, up = excluded.up, term = excluded.term, free = 0`,
			cluster, l.epoch, at.machine, at.id, boot, at.space, os.Getpid(), processStart(os.Getpid()), h.beat+1,
			int64(up), int64(w.Term))
		return err
	})
	if err != nil {
		return nil, err
	}
	l.holdsFrom(up)
	return l, nil
}

// watch waits until a lease was not renewed for as long as it holds, and returns its beat; a *HeldError where it was
// renewed.
func (s *Store) watch(ctx context.Context, h held) (int64, error) {
	_, from := s.clock.Now()
	for {
		select {
		case <-ctx.Done():
			return 0, ctx.Err()
		case <-time.After(min(h.term/20, time.Second)):
		}
		now, err := s.row(ctx, s.db, h.Cluster)
		if err != nil {
			return 0, err
		}
		if now.beat != h.beat && !now.free {
			return 0, &now.HeldError
		}
		if _, up := s.clock.Now(); up-from >= h.term {
			return now.beat, nil
		}
	}
}

// Holder returns who holds the lease now, or nil. A holder on another machine counts as one until this store has seen
// his lease not renewed for as long as it holds.
func (s *Store) Holder(ctx context.Context, cluster string) (*HeldError, error) {
	h, err := s.row(ctx, s.db, cluster)
	if err != nil {
		return nil, err
	}
	switch s.who(h) {
	case nobody:
		return nil, nil
	case elsewhere:
		_, up := s.clock.Now()
		s.mu.Lock()
		defer s.mu.Unlock()
		if b := s.beats[cluster]; b.beat != h.beat || b.since == 0 {
			s.beats[cluster] = beat{h.beat, up}
		} else if up-b.since >= h.term {
			return nil, nil
		}
	}
	return &h.HeldError, nil
}

// beat is a lease's beat with when it was first seen, by the clock.
type beat struct {
	beat  int64
	since time.Duration
}

// margin of its term is left at the end, in which the holder does nothing any more: clocks of one machine agree, but a
// call takes its time.
func (l *lease) margin() time.Duration { return l.term / 6 }

// holdsFrom notes that the lease was taken or renewed at that time of the clock.
func (l *lease) holdsFrom(up time.Duration) {
	l.until.Store(int64(up + l.term - l.margin()))
}

// Stands returns nil while it is certain that nobody else can have the lease: by the clock, without asking anybody.
func (l *lease) Stands() error {
	if _, up := l.store.clock.Now(); int64(up) >= l.until.Load() {
		return ErrLost
	}
	return nil
}

// Every is how often the lease wants to be renewed.
func (l *lease) Every() time.Duration { return l.term / 4 }

// Renew prolongs the lease; ErrLost where another has taken it.
func (l *lease) Renew(ctx context.Context) error {
	_, up := l.store.clock.Now()
	err := l.store.tx(ctx, func(tx *sql.Tx) error {
		if err := l.store.check(ctx, tx, l); err != nil {
			return err
		}
		_, err := tx.Exec("UPDATE leases SET up = ?, beat = beat + 1 WHERE cluster = ?", int64(up), l.cluster)
		return err
	})
	if err == nil {
		l.holdsFrom(up)
	}
	return err
}

// Release gives it back.
func (l *lease) Release(ctx context.Context) error {
	l.until.Store(0)
	_, err := l.store.db.ExecContext(ctx, "UPDATE leases SET free = 1 WHERE cluster = ? AND epoch = ?",
		l.cluster, l.epoch)
	return err
}

// check returns ErrLost where the lease is not held any more.
func (s *Store) check(ctx context.Context, tx *sql.Tx, l Lease) error {
	if err := s.there(); err != nil {
		return err
	}
	h, err := s.row(ctx, tx, l.Cluster())
	if err != nil {
		return err
	}
	if h.epoch != l.Epoch() || h.free {
		return ErrLost
	}
	return nil
}
