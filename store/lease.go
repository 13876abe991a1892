package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"strings"
	"syscall"
	"time"
)

// Lease is the right to run rounds on a cluster. One process has it at a time, across machines; its token rises with every change of
// hands, so that a holder who was slow can't write over his successor.
type Lease struct {
	Cluster string
	token   int64
	store   *Store
}

// term is how long a lease holds without being renewed; a dead holder on the same machine is noticed at once.
const term = 60 * time.Second

// ErrLost is what writing without the lease gives.
var ErrLost = errors.New("the lease of the cluster is not held any more: another process runs its rounds")

// HeldError says who holds a lease.
type HeldError struct {
	Cluster, Machine string
	PID              int
}

func (e *HeldError) Error() string {
	return fmt.Sprintf("process %d on %s runs a round on %s; one cluster has one runner at a time. Watch it with \"yare round watch %s\"",
		e.PID, e.Machine, e.Cluster, e.Cluster)
}

// holder reads who holds the lease of a cluster, or nil where nobody does: it was never taken or given back, its time ran out, or its holder was a
// process of this machine that is gone. The token is that of the newest holder all the same.
func holder(ctx context.Context, q interface {
	QueryRowContext(context.Context, string, ...any) *sql.Row
}, cluster, machine string) (held *HeldError, token int64, err error) {
	h := HeldError{Cluster: cluster}
	var started string
	var expires int64
	err = q.QueryRowContext(ctx, "SELECT token, machine, pid, started, expires FROM leases WHERE cluster = ?", cluster).
		Scan(&token, &h.Machine, &h.PID, &started, &expires)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil, 0, nil
	case err != nil:
		return nil, 0, err
	case time.Now().UnixMilli() >= expires, h.Machine == machine && processStart(h.PID) != started:
		return nil, token, nil
	}
	return &h, token, nil
}

// Acquire takes the lease of a cluster, or returns a *HeldError.
func (s *Store) Acquire(ctx context.Context, cluster string) (*Lease, error) {
	machine, err := os.Hostname()
	if err != nil {
		return nil, err
	}
	l := &Lease{Cluster: cluster, store: s}
	err = s.tx(ctx, func(tx *sql.Tx) error {
		held, token, err := holder(ctx, tx, cluster, machine)
		if err != nil {
			return err
		}
		if held != nil {
			return held
		}
		l.token = token + 1
		_, err = tx.Exec(`INSERT INTO leases (cluster, token, machine, pid, started, expires) VALUES (?, ?, ?, ?, ?, ?)
			ON CONFLICT (cluster) DO UPDATE SET token = excluded.token, machine = excluded.machine, pid = excluded.pid,
			started = excluded.started, expires = excluded.expires`,
			cluster, l.token, machine, os.Getpid(), processStart(os.Getpid()), time.Now().Add(term).UnixMilli())
		return err
	})
	if err != nil {
		return nil, err
	}
	return l, nil
}

// Holder returns who holds the lease now, or nil.
func (s *Store) Holder(ctx context.Context, cluster string) (*HeldError, error) {
	machine, err := os.Hostname()
	if err != nil {
		return nil, err
	}
	held, _, err := holder(ctx, s.db, cluster, machine)
	return held, err
}

// processStart tells one process from a later one with the same number: the start time in /proc/PID/stat. It is empty for a process that is gone.
func processStart(pid int) string {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		if errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) {
			return ""
		}
		return "unknown" // no /proc here: a process that is there counts as the one meant
	}
	_, rest, _ := strings.Cut(string(b), ") ")
	f := strings.Fields(rest)
	if len(f) < 20 || f[0] == "Z" {
		return ""
	}
	return f[19]
}

// Renew prolongs the lease; ErrLost where another has taken it.
func (l *Lease) Renew(ctx context.Context) error {
	return l.store.tx(ctx, func(tx *sql.Tx) error {
		if err := l.check(tx); err != nil {
			return err
		}
		_, err := tx.Exec("UPDATE leases SET expires = ? WHERE cluster = ?", time.Now().Add(term).UnixMilli(), l.Cluster)
		return err
	})
}

// Release gives it back.
func (l *Lease) Release(ctx context.Context) error {
	_, err := l.store.db.ExecContext(ctx, "UPDATE leases SET expires = 0 WHERE cluster = ? AND token = ?", l.Cluster, l.token)
	return err
}

func (l *Lease) check(tx *sql.Tx) error {
	var token int64
	if err := tx.QueryRow("SELECT token FROM leases WHERE cluster = ?", l.Cluster).Scan(&token); err != nil {
		return err
	}
	if token != l.token {
		return ErrLost
	}
	return nil
}
