// Package store keeps what must outlive the program: readings, the journals of rounds, leases, and what people ask of
// rounds. It is an SQLite file that several processes may have open at once; a round is written by the holder of its cluster's lease only.
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"

	_ "modernc.org/sqlite" // the driver
)

// Store is an open store. It is safe for concurrent use.
type Store struct {
	db   *sql.DB
	path string

	pack    *packer
	parts   *sql.Stmt // that reads a part
	mu      sync.Mutex
	decoded map[string]decoded // by host
}

// File is the store's name below a state directory.
const File = "yare.db"

// ErrNewer is what opening a store of a newer version gives.
var ErrNewer = errors.New("it was written by a newer version of yare")

// migration brings a store from one version to the next.
type migration func(*sql.Tx) error

func statements(text string) migration {
	return func(tx *sql.Tx) error {
		_, err := tx.Exec(text)
		return err
	}
}

// migrations are all that there ever were, in order. A published one is never edited.
var migrations = []migration{statements(`
	CREATE TABLE readings (host TEXT NOT NULL, first TEXT NOT NULL, at TEXT NOT NULL, print TEXT NOT NULL, body BLOB NOT NULL,
		PRIMARY KEY (host, first));
	CREATE TABLE rounds (id TEXT PRIMARY KEY, cluster TEXT NOT NULL, started TEXT NOT NULL);
	CREATE TABLE journal (round TEXT NOT NULL REFERENCES rounds(id), seq INTEGER NOT NULL, at TEXT NOT NULL, kind TEXT NOT NULL,
		body BLOB NOT NULL, PRIMARY KEY (round, seq));
	CREATE TABLE requests (id INTEGER PRIMARY KEY AUTOINCREMENT, round TEXT NOT NULL, what TEXT NOT NULL, by TEXT NOT NULL,
		taken INTEGER NOT NULL DEFAULT 0);
	CREATE TABLE progress (round TEXT PRIMARY KEY, body BLOB NOT NULL);
	CREATE TABLE leases (cluster TEXT PRIMARY KEY, token INTEGER NOT NULL, machine TEXT NOT NULL, pid INTEGER NOT NULL,
		started TEXT NOT NULL, expires INTEGER NOT NULL);
`), statements(`
	ALTER TABLE readings RENAME TO readings_whole;
	CREATE TABLE parts (hash BLOB PRIMARY KEY, base BLOB, body BLOB NOT NULL) WITHOUT ROWID;
	CREATE TABLE readings (host TEXT NOT NULL, first INTEGER NOT NULL, at INTEGER NOT NULL, parts BLOB NOT NULL, times BLOB NOT NULL,
		PRIMARY KEY (host, first)) WITHOUT ROWID;
	CREATE TABLE baselines (name TEXT NOT NULL, n INTEGER NOT NULL, at TEXT NOT NULL, by TEXT NOT NULL, why TEXT NOT NULL, text TEXT NOT NULL,
		PRIMARY KEY (name, n));
	CREATE TABLE tallies (cluster TEXT NOT NULL, at TEXT NOT NULL, body TEXT NOT NULL, PRIMARY KEY (cluster, at));
	CREATE TABLE looks (cluster TEXT PRIMARY KEY, at TEXT NOT NULL, by TEXT NOT NULL, body BLOB NOT NULL);
	CREATE TABLE filters (name TEXT PRIMARY KEY, text TEXT NOT NULL);
`), apart}

// Open opens the store below dir, and makes it where there is none.
func Open(ctx context.Context, dir string) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the state directory: %w", err)
	}
	path := filepath.Join(dir, File)
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(10000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=foreign_keys(1)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	s := &Store{db: db, path: path, decoded: map[string]decoded{}}
	if s.pack, err = newPacker(); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	if err := s.migrate(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("opening the state file %s: %w", path, err)
	}
	if s.parts, err = db.PrepareContext(ctx, "SELECT base, body FROM parts WHERE hash = ?"); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return s, nil
}

// Close closes it.
func (s *Store) Close() error { return s.db.Close() }

func (s *Store) migrate(ctx context.Context) error {
	var have int
	if err := s.db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&have); err != nil {
		return err
	}
	switch {
	case have == len(migrations):
		return nil
	case have > len(migrations):
		return fmt.Errorf("%w (its schema is %d, this version knows %d): use that version, or another --state directory", ErrNewer, have, len(migrations))
	}
	return s.tx(ctx, func(tx *sql.Tx) error {
		if err := tx.QueryRow("PRAGMA user_version").Scan(&have); err != nil { // another process may have been faster
			return err
		}
		for ; have < len(migrations); have++ {
			if err := migrations[have](tx); err != nil {
				return err
			}
		}
		_, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", len(migrations)))
		return err
	})
}

func (s *Store) tx(ctx context.Context, do func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}
