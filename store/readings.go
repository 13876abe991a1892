package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"yareharbour/core/estate"
)

// stamp is how times are written: they sort as text.
const stamp = "2006-01-02T15:04:05.000000000Z"

func at(t time.Time) string { return t.UTC().Format(stamp) }

// Readings keeps what was read of hosts. A reading that says the same as the one before makes that one last longer, and
// is no other.
type Readings interface {
	KeepReading(ctx context.Context, r *estate.Reading) error
	KeepReadings(ctx context.Context, rs []*estate.Reading) error
	// Newest returns the newest reading of each of the hosts that has one, and On the one that held at a time.
	Newest(ctx context.Context, hosts []string) (map[string]*estate.Reading, error)
	On(ctx context.Context, hosts []string, when time.Time) (map[string]*estate.Reading, error)
	// History returns at most so many different readings of a host, the newest ones, in the order of time; When the
	// spans in which they held, the newest first.
	History(ctx context.Context, host string, most int) ([]*estate.Reading, error)
	When(ctx context.Context, host string, most int) ([]Kept, error)
}

var _ Readings = (*Store)(nil)

// KeepReading keeps a reading. One that says the same as the newest kept of its host only moves that one's time
// forward.
func (s *Store) KeepReading(ctx context.Context, r *estate.Reading) error {
	return s.KeepReadings(ctx, []*estate.Reading{r})
}

// KeepReadings keeps several readings at once: all of them, or after an error none. Whoever asks for the newest of a
// host is given the reading itself: it must not be changed any more.
func (s *Store) KeepReadings(ctx context.Context, rs []*estate.Reading) error {
	fresh := make(map[string]decoded, len(rs))
	err := s.tx(ctx, func(tx *sql.Tx) error {
		for _, r := range rs {
			first, last, err := s.pack.insert(tx, r, r.Tried(), r.Tried())
			if err != nil {
				return fmt.Errorf("keeping the reading of %s: %w", r.Host, err)
			}
			fresh[r.Host] = decoded{first, last, r}
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	maps.Copy(s.decoded, fresh)
	return nil
}

// late is how much older than the newest a reading may be that is still on its way while others are kept. Where the
// newest seems to be from later than that, the time of day was set back, and it is the older one: what is kept now
// comes behind it, with its own times in it.
const late = 10 * time.Minute

// insert keeps a reading that held from first to last, and returns the times of its row.
func (p *packer) insert(tx *sql.Tx, r *estate.Reading, first, last time.Time) (from, to int64, err error) {
	bodies, times, err := split(r)
	if err != nil {
		return 0, 0, err
	}
	var before []byte
	var began int64
	err = tx.QueryRow("SELECT first, parts FROM readings WHERE host = ? ORDER BY first DESC LIMIT 1",
		r.Host).Scan(&began, &before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return 0, 0, err
	}
	if began > nano(first.Add(late)) {
		first = time.Unix(0, began+1)
	}
	parts, err := p.keepParts(tx, bodies, before)
	if err != nil {
		return 0, 0, err
	}
	if last.Before(first) {
		last = first
	}
	if bytes.Equal(parts, before) || began == nano(first) && before != nil {
		_, err = tx.Exec("UPDATE readings SET at = ?, parts = ?, times = ? WHERE host = ? AND first = ?", nano(last),
			parts, times, r.Host, began)
		return began, nano(last), err
	}
	_, err = tx.Exec("INSERT INTO readings (host, first, at, parts, times) VALUES (?, ?, ?, ?, ?) ON CONFLICT (host, "+
		"first) DO UPDATE SET at = excluded.at, parts = excluded.parts, times = excluded.times", r.Host, nano(first),
		nano(last), parts, times)
	return nano(first), nano(last), err
}

// row is a reading as it is kept.
type row struct {
	host         string
	first, at    int64
	parts, times []byte
}

// opener puts readings together, and opens each part once. It is safe for concurrent use.
type opener struct {
	db    *sql.DB
	parts *sql.Stmt
	ahead map[hash]packed // parts that were fetched many at a time
	mu    sync.Mutex
	seen  map[hash]*whole
	bases map[hash][]byte
}

func (s *Store) opener() *opener {
	return &opener{db: s.db, parts: s.parts, ahead: map[hash]packed{}, seen: map[hash]*whole{},
		bases: map[hash][]byte{}}
}

func (o *opener) open(ctx context.Context, r row) (*estate.Reading, error) {
	bodies := make([]*whole, 0, len(partNames))
	for p := r.parts; len(p) >= hashSize; p = p[hashSize:] {
		w, err := o.part(ctx, hash(p[:hashSize]))
		if err != nil {
			return nil, fmt.Errorf("a kept reading of %s: %w", r.host, err)
		}
		bodies = append(bodies, w)
	}
	return join(bodies, r.times)
}

// packed is a part as it is kept.
type packed struct{ base, body []byte }

// fetch reads all the parts of the rows, and what they lean on, many at a time: asking for each by itself takes longer
// than opening it.
func (o *opener) fetch(ctx context.Context, rows []row) error {
	wanted := map[hash]bool{}
	for _, r := range rows {
		for p := r.parts; len(p) >= hashSize; p = p[hashSize:] {
			wanted[hash(p[:hashSize])] = true
		}
	}
	for len(wanted) > 0 {
		bases := map[hash]bool{}
		for chunk := range slices.Chunk(slices.Collect(maps.Keys(wanted)), 500) {
			if err := o.fetchSome(ctx, chunk, bases); err != nil {
				return err
			}
		}
		maps.DeleteFunc(bases, func(h hash, _ bool) bool { _, have := o.ahead[h]; return have })
		wanted = bases
	}
	return nil
}

func (o *opener) fetchSome(ctx context.Context, chunk []hash, bases map[hash]bool) error {
	args := make([]any, len(chunk))
	for i := range chunk {
		args[i] = chunk[i][:]
	}
	rows, err := o.db.QueryContext(ctx, "SELECT hash, base, body FROM parts WHERE hash IN (?"+
		strings.Repeat(", ?", len(chunk)-1)+")", args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var h []byte
		var p packed
		if err := rows.Scan(&h, &p.base, &p.body); err != nil {
			return err
		}
		if len(h) != hashSize {
			return errors.New("a part of a reading has no proper hash")
		}
		o.ahead[hash(h)] = p
		if len(p.base) == hashSize {
			bases[hash(p.base)] = true
		}
	}
	return rows.Err()
}

// row reads a part as it is kept.
func (o *opener) row(ctx context.Context, h hash) (base, body []byte, err error) {
	if p, ok := o.ahead[h]; ok {
		return p.base, p.body, nil
	}
	err = o.parts.QueryRowContext(ctx, h[:]).Scan(&base, &body)
	return base, body, err
}

func (o *opener) part(ctx context.Context, h hash) (*whole, error) {
	o.mu.Lock()
	w := o.seen[h]
	o.mu.Unlock()
	if w != nil {
		return w, nil
	}
	base, body, err := o.row(ctx, h)
	if err != nil {
		return nil, err
	}
	var on []byte
	if base != nil {
		if on, err = o.base(ctx, hash(base)); err != nil {
			return nil, err
		}
	}
	plain, err := unpack(body, on)
	if err != nil {
		return nil, err
	}
	if hashOf(plain) != h {
		return nil, errors.New("a part of it is damaged")
	}
	w = &whole{}
	if err := json.Unmarshal(plain, w); err != nil {
		return nil, err
	}
	o.mu.Lock()
	o.seen[h] = w
	o.mu.Unlock()
	return w, nil
}

func (o *opener) base(ctx context.Context, h hash) ([]byte, error) {
	o.mu.Lock()
	b := o.bases[h]
	o.mu.Unlock()
	if b != nil {
		return b, nil
	}
	_, body, err := o.row(ctx, h)
	if err != nil {
		return nil, err
	}
	plain, err := unpack(body, nil)
	o.mu.Lock()
	o.bases[h] = plain
	o.mu.Unlock()
	return plain, err
}

// Newest returns the newest kept reading of each of the hosts that has one. The readings are shared with other callers
// and must not be changed.
func (s *Store) Newest(ctx context.Context, hosts []string) (map[string]*estate.Reading, error) {
	out := map[string]*estate.Reading{}
	o := s.opener()
	for _, h := range hosts {
		r, err := s.newest(ctx, o, h)
		if err != nil {
			return nil, fmt.Errorf("the kept reading of %s: %w", h, err)
		}
		if r != nil {
			out[h] = r
		}
	}
	return out, nil
}

// decoded is a reading as it was last decoded, with the times that its row then had.
type decoded struct {
	first, at int64
	reading   *estate.Reading
}

// newest opens a host's newest reading only where it is another than the last time: screens ask for all of them again
// and again.
func (s *Store) newest(ctx context.Context, o *opener, host string) (*estate.Reading, error) {
	r := row{host: host}
	err := s.db.QueryRowContext(ctx,
		"SELECT first, at, parts, times FROM readings WHERE host = ? ORDER BY first DESC LIMIT 1", host).Scan(&r.first,
		&r.at, &r.parts, &r.times)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	d, ok := s.decoded[host]
	s.mu.Unlock()
	if ok && d.first == r.first && d.at == r.at {
		return d.reading, nil
	}
	reading, err := o.open(ctx, r)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	s.decoded[host] = decoded{r.first, r.at, reading}
	s.mu.Unlock()
	return reading, nil
}

// On returns the readings of the hosts as they were known at that time: of each the newest that was kept by then. Hosts
// that had none are not in it.
func (s *Store) On(ctx context.Context, hosts []string, when time.Time) (map[string]*estate.Reading, error) {
	var rows []row
	for _, h := range hosts {
		r := row{host: h}
		err := s.db.QueryRowContext(ctx,
			"SELECT first, at, parts, times FROM readings WHERE host = ? AND first <= ? ORDER BY first DESC LIMIT 1",
			h, nano(when)).
			Scan(&r.first, &r.at, &r.parts, &r.times)
		if errors.Is(err, sql.ErrNoRows) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("the readings of %s: %w", h, err)
		}
		rows = append(rows, r)
	}
	out := make(map[string]*estate.Reading, len(rows))
	var mu sync.Mutex
	o := s.opener()
	if err := o.fetch(ctx, rows); err != nil {
		return nil, fmt.Errorf("the kept readings: %w", err)
	}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0) + 1)
	for _, r := range rows {
		g.Go(func() error {
			reading, err := o.open(ctx, r)
			mu.Lock()
			defer mu.Unlock()
			out[r.host] = reading
			return err
		})
	}
	return out, g.Wait()
}

// History returns the newest kept readings of the host, at most so many, in the order of time. Readings that said the
// same are one, with the time of the first of them.
func (s *Store) History(ctx context.Context, host string, most int) ([]*estate.Reading, error) {
	rows, err := s.rows(ctx, host, most)
	if err != nil {
		return nil, err
	}
	o := s.opener()
	if err := o.fetch(ctx, rows); err != nil {
		return nil, fmt.Errorf("the kept readings of %s: %w", host, err)
	}
	var out []*estate.Reading
	for _, r := range rows {
		reading, err := o.open(ctx, r)
		if err != nil {
			return nil, err
		}
		for i := range reading.Sections {
			reading.Sections[i].At = unnano(r.first)
		}
		out = append(out, reading)
	}
	return out, nil
}

func (s *Store) rows(ctx context.Context, host string, most int) (out []row, err error) {
	rows, err := s.db.QueryContext(ctx,
		"SELECT first, at, parts, times FROM readings WHERE host = ? ORDER BY first DESC LIMIT ?", host, most)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		r := row{host: host}
		if err := rows.Scan(&r.first, &r.at, &r.parts, &r.times); err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	slices.Reverse(out)
	return out, rows.Err()
}

// Kept is a span of time during which a host was read and said the same.
type Kept struct{ From, To time.Time }

// When returns the spans of the host's kept readings, at most so many, the newest first.
func (s *Store) When(ctx context.Context, host string, most int) ([]Kept, error) {
	rows, err := s.rows(ctx, host, most)
	var out []Kept
	for _, r := range rows {
		out = append(out, Kept{unnano(r.first), unnano(r.at)})
	}
	slices.Reverse(out)
	return out, err
}
