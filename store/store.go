// Package store keeps what must outlive the program: readings, the journals of rounds, leases, and what people ask of
// rounds. It is an SQLite file that several processes may have open at once; a round is written by the holder of its
// cluster's lease only.
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"syscall"

	"modernc.org/sqlite"
)

// Store is an open store. It is safe for concurrent use.
type Store struct {
	// Told says what opening it has put right and somebody should know; empty: nothing.
	Told string

	db   *sql.DB
	path string
	file os.FileInfo // what stood there when it was opened; nil: nothing does
	// a connection that was made then: through it what the file held can be read even where that was removed
	held   *sql.Conn
	rescue sync.Once

	pack     *packer
	parts    *sql.Stmt // that reads a part
	mu       sync.Mutex
	decoded  map[string]decoded // by host
	beats    map[string]beat    // of leases that are held on other machines, by cluster
	clock    Clock
	by, from string // by whom, and whence, entries of the logbook are written
}

// File is the store's name below a state directory.
const File = "yare.db"

// ErrDamaged is what opening a store gives that can't be read.
var ErrDamaged = errors.New("is damaged")

// damaged says what to do about a store that can't be read; other errors are left as they are.
func (s *Store) damaged(err error) error {
	var e *sqlite.Error
	if !errors.As(err, &e) || e.Code()&0xff != 11 && e.Code()&0xff != 26 { // SQLITE_CORRUPT, SQLITE_NOTADB
		return fmt.Errorf("opening the state file %s: %w", s.path, err)
	}
	return fmt.Errorf("the state file %s %w (%w). Put a copy of it back, or start over: mv %s %s.damaged. Then \"yare round "+
		"adopt HOST\" brings each host to its end that a round had left closed, and what hosts say is read again",
		s.path, ErrDamaged, err, s.path, s.path)
}

// ErrGone is what writing gives once another file stands where the store's was, or none.
var ErrGone = errors.New("was removed or replaced while it was in use")

// there returns an ErrGone where the store's file is not where it was: what is written would be lost with it.
func (s *Store) there() error {
	if s.file == nil {
		return nil
	}
	if at, err := os.Stat(s.path); err == nil && os.SameFile(at, s.file) {
		return nil
	}
	saved := s.path + ".rescued"
	s.rescue.Do(func() {
		_ = os.Remove(saved) // of an earlier time
		_, _ = s.held.ExecContext(context.Background(), "VACUUM INTO ?", saved)
	})
	says := "what it held could not be kept; \"yare round adopt HOST\" brings each host to its end that is still closed"
	if _, err := os.Stat(saved); err == nil {
		says = fmt.Sprintf("what it held is in %s: end every yare, rm -f %s %s-wal %s-shm, mv %s %s, then \"yare round "+
			"resume\"", saved, s.path, s.path, s.path, saved, s.path)
	}
	return fmt.Errorf("the state file %s %w, and nothing is done any more that it could not keep: %s", s.path, ErrGone, says)
}

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
`), apart, statements(`
	ALTER TABLE rounds RENAME TO rounds_1;
	ALTER TABLE journal RENAME TO journal_1;
	DROP TABLE requests;
	DROP TABLE progress;
	DROP TABLE leases;
	CREATE TABLE rounds (id TEXT PRIMARY KEY, cluster TEXT NOT NULL, started TEXT NOT NULL, seq BIGINT NOT NULL, sum TEXT NOT NULL);
	CREATE INDEX rounds_by_cluster ON rounds (cluster, started);
	CREATE TABLE journal (round TEXT NOT NULL, seq BIGINT NOT NULL, sum TEXT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (round, seq));
	CREATE TABLE requests (id TEXT PRIMARY KEY, round TEXT NOT NULL, what TEXT NOT NULL, host TEXT NOT NULL, by_whom TEXT NOT NULL);
	CREATE TABLE progress (round TEXT PRIMARY KEY, text TEXT NOT NULL);
	CREATE TABLE leases (cluster TEXT PRIMARY KEY, epoch BIGINT NOT NULL, machine TEXT NOT NULL, machine_id TEXT NOT NULL, boot TEXT NOT NULL, space TEXT NOT NULL,
		pid BIGINT NOT NULL, started TEXT NOT NULL, beat BIGINT NOT NULL, up BIGINT NOT NULL, term BIGINT NOT NULL, free INTEGER NOT NULL,
		round TEXT NOT NULL, seq BIGINT NOT NULL, sum TEXT NOT NULL);
	CREATE TABLE strangers (round TEXT PRIMARY KEY, at TEXT NOT NULL, by_whom TEXT NOT NULL);
	CREATE TABLE plans (digest TEXT PRIMARY KEY, cluster TEXT NOT NULL, made TEXT NOT NULL, text TEXT NOT NULL);
	CREATE TABLE times (round TEXT NOT NULL, host TEXT NOT NULL, n INTEGER NOT NULL, step TEXT NOT NULL, model TEXT NOT NULL, took BIGINT NOT NULL, PRIMARY KEY (round, host, n));
`), statements(`CREATE TABLE waivers (id TEXT PRIMARY KEY, cluster TEXT NOT NULL, at TEXT NOT NULL, body TEXT NOT NULL);`), statements(`ALTER TABLE times ADD COLUMN stated BIGINT NOT NULL DEFAULT 0;`), statements(`
	ALTER TABLE rounds ADD COLUMN n BIGINT NOT NULL DEFAULT 0;
	UPDATE rounds SET n = (SELECT COUNT(*) FROM rounds o WHERE (o.started, o.id) <= (rounds.started, rounds.id));
	DROP INDEX rounds_by_cluster;
	CREATE UNIQUE INDEX rounds_in_order ON rounds (cluster, n);
	ALTER TABLE plans ADD COLUMN n BIGINT NOT NULL DEFAULT 0;
	UPDATE plans SET n = (SELECT COUNT(*) FROM plans o WHERE (o.made, o.digest) <= (plans.made, plans.digest));
	DROP TABLE requests;
	CREATE TABLE requests (n INTEGER PRIMARY KEY AUTOINCREMENT, round TEXT NOT NULL, text TEXT NOT NULL);
	ALTER TABLE rounds ADD COLUMN owes INTEGER NOT NULL DEFAULT 1;
	UPDATE rounds SET owes = n = (SELECT MAX(o.n) FROM rounds o WHERE o.cluster = rounds.cluster);
`), beginLog, statements(`
	CREATE TABLE lasting (cluster TEXT NOT NULL, host TEXT NOT NULL, component TEXT NOT NULL, device TEXT NOT NULL, since TEXT NOT NULL, until TEXT NOT NULL, severity INTEGER NOT NULL,
		PRIMARY KEY (host, component, device, since));
	CREATE UNIQUE INDEX lasting_still ON lasting (host, component, device) WHERE until = '';
`)}

// Open opens the store below dir, and makes it where there is none: readable by its owner only, whatever the umask
// says.
func Open(ctx context.Context, dir string) (*Store, error) {
	path := filepath.Join(dir, File)
	told, err := private(dir, path)
	if err != nil {
		return nil, fmt.Errorf("the state directory: %w", err)
	}
	s, err := connect(path, "_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	s.Told = told
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(s.damaged(err), s.db.Close())
	}
	if s.file, err = os.Stat(path); err == nil {
		if s.held, err = s.db.Conn(ctx); err == nil {
			err = s.held.PingContext(ctx)
		}
	}
	if err != nil {
		return nil, errors.Join(err, s.db.Close())
	}
	return s.prepared(ctx)
}

// OpenToLook opens the store below dir for looking only: nothing is written, not even beside it, so that a read-only or
// full disk does not keep anybody from looking. The store must be there, and of this version.
func OpenToLook(ctx context.Context, dir string) (*Store, error) {
	path := filepath.Join(dir, File)
	if _, err := os.Stat(path); err != nil {
		return nil, err
	}
	var errs []error
	// without a directory that can be written, what is in the WAL can't be read
	for _, mode := range []string{"mode=ro", "mode=ro&immutable=1"} {
		s, err := connect(path, mode)
		if err != nil {
			return nil, err
		}
		var have int
		err = s.db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&have)
		if err == nil && have != len(migrations) {
			err = fmt.Errorf("its schema is %d, and this version looks at %d: open it once where it can be written",
				have, len(migrations))
		}
		if err == nil {
			if s, err = s.prepared(ctx); err == nil {
				return s, nil
			}
		}
		errs = append(errs, err, s.db.Close())
	}
	return nil, fmt.Errorf("looking into the state file %s: %w", path, errors.Join(errs...))
}

// Scratch opens a store in memory, which ends with it: for looking where nothing can be kept.
func Scratch(ctx context.Context) (*Store, error) {
	s, err := connect("memory", "mode=memory&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	s.db.SetMaxOpenConns(1) // each connection would have a memory of its own
	if err := s.migrate(ctx); err != nil {
		return nil, errors.Join(err, s.db.Close())
	}
	return s.prepared(ctx)
}

// private makes the directory and the file where they are not. A directory that others may write to, or that is
// somebody else's, is refused: what is in it may be anybody's, and so may what comes. One that others could look into is
// closed, and that is told where there was anything in it.
func private(dir, path string) (told string, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	at, err := os.Stat(dir)
	if err != nil {
		return "", err
	}
	if st, ok := at.Sys().(*syscall.Stat_t); ok && int(st.Uid) != os.Geteuid() && st.Uid != 0 {
		return "", fmt.Errorf("%w: %s is somebody else's (user %d)", ErrOpenToOthers, dir, st.Uid)
	}
	if at.Mode().Perm()&0o022 != 0 {
		return "", fmt.Errorf("%w: others may write to %s (mode %04o); name a directory of your own with --state, or see "+
			"that everything in it is yours and close it: chmod go= %s", ErrOpenToOthers, dir, at.Mode().Perm(), dir)
	}
	had, err := os.ReadDir(dir)
	if err != nil {
		return "", err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return "", err
	}
	if err := errors.Join(f.Chmod(0o600), f.Close()); err != nil || at.Mode().Perm()&0o077 == 0 {
		return "", err
	}
	if len(had) > 0 {
		told = fmt.Sprintf("others could look into %s (mode %04o); it is closed to them now", dir, at.Mode().Perm())
	}
	return told, os.Chmod(dir, 0o700)
}

// ErrOpenToOthers is what opening a store gives whose directory is not its user's alone.
var ErrOpenToOthers = errors.New("the state directory is refused")

func connect(path, options string) (*Store, error) {
	db, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)&"+options)
	if err != nil {
		return nil, err
	}
	s := &Store{db: db, path: path, decoded: map[string]decoded{}, beats: map[string]beat{}, clock: thisBoot()}
	if s.pack, err = newPacker(); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return s, nil
}

func (s *Store) prepared(ctx context.Context) (*Store, error) {
	var err error
	if s.parts, err = s.db.PrepareContext(ctx, "SELECT base, body FROM parts WHERE hash = ?"); err != nil {
		return nil, errors.Join(err, s.db.Close())
	}
	return s, nil
}

// GoBy lets leases go by another clock than this machine's.
func (s *Store) GoBy(c Clock) { s.clock = c }

// Close closes it.
func (s *Store) Close() error {
	if s.held != nil {
		_ = s.held.Close() // the pool closes it
	}
	return s.db.Close()
}

func (s *Store) migrate(ctx context.Context) error {
	var have int
	if err := s.db.QueryRowContext(ctx, "PRAGMA user_version").Scan(&have); err != nil {
		return err
	}
	switch {
	case have == len(migrations):
		return nil
	case have > len(migrations):
		return fmt.Errorf("%w (its schema is %d, this version knows %d): use that version, or another --state "+
			"directory", ErrNewer, have, len(migrations))
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

// ErrBusy is what writing gives while another process holds the state file: one that was stopped or hangs holds it for
// as long as it does.
var ErrBusy = errors.New("another process has held the state file for more than 10 s: if one of yare's is " +
	"stopped or hangs, end it")

// busy tells whether the file is held by another process (SQLITE_BUSY, https://sqlite.org/rescode.html#busy).
func busy(err error) bool {
	var e *sqlite.Error
	return errors.As(err, &e) && e.Code()&0xff == 5
}

func (s *Store) tx(ctx context.Context, do func(*sql.Tx) error) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if busy(err) {
		return fmt.Errorf("%s: %w (%w)", s.path, ErrBusy, err)
	}
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}
