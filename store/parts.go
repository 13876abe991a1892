package store

import (
	"bytes"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode"

	"github.com/klauspost/compress/zstd"

	"yareharbour/core/estate"
)

// A reading is kept in parts, each under the hash of what it says: hosts alike share theirs, and what did not change
// from one reading to the next is not written again. A part that did change is packed against an earlier one of the
// same host, so that little more than the change is kept. A part leans on one that stands by itself, never on one that
// leans in turn: opening it takes two steps at most, however long the history.

// partNames are the parts of a reading, in the order in which their hashes are kept.
var partNames = []string{"self", "packages", "drivers", "firmware", "guests", "health", "settings"}

// partOf is the part that components of a section are in.
func partOf(s estate.SectionName) string {
	switch s {
	case estate.Packages:
		return "packages"
	case estate.Drivers:
		return "drivers"
	case estate.FirmwareItems:
		return "firmware"
	case estate.SettingItems:
		return "settings"
	}
	return "guests"
}

// whole is a part's content; each part uses some of the fields.
type whole struct {
	Self *estate.Reading `json:"self,omitempty"` // without what the other parts hold, and without times
	// components of which there is no more to say than "key version", with blanks between: most packages
	Plain      string             `json:"plain,omitempty"`
	Components []estate.Component `json:"components,omitempty"`
	Guests     []estate.Guest     `json:"guests,omitempty"`
	Health     []estate.Health    `json:"health,omitempty"`
	Board      map[string]string  `json:"board,omitempty"`
}

const hashSize = 16

type hash [hashSize]byte

// split takes a reading apart; times holds the section's times, which no part has.
func split(r *estate.Reading) (bodies [][]byte, times []byte, err error) {
	parts := map[string]*whole{}
	for _, n := range partNames {
		parts[n] = &whole{}
	}
	self := *r
	self.Components, self.Guests, self.Health, self.Board = nil, nil, nil, nil
	self.Sections = append([]estate.Section(nil), r.Sections...)
	for i := range self.Sections {
		times = binary.AppendVarint(times, nano(self.Sections[i].At))
		self.Sections[i].At = time.Time{}
	}
	parts["self"].Self = &self
	plain := map[*whole][]string{}
	for _, c := range r.Components {
		p := parts[partOf(c.Key.Section())]
		if c.Device == "" && c.Running == "" && c.Restarts == "" && c.Model == "" && c.Class == "" && c.State == "" &&
			c.Last == "" && len(c.Holders)+len(c.Units) == 0 && c.Version != "" &&
			!strings.ContainsFunc(c.Version, unicode.IsSpace) {
			plain[p] = append(plain[p], string(c.Key), c.Version)
		} else {
			p.Components = append(p.Components, c)
		}
	}
	for p, words := range plain {
		p.Plain = strings.Join(words, " ")
	}
	parts["guests"].Guests, parts["health"].Health, parts["firmware"].Board = r.Guests, r.Health, r.Board
	for _, n := range partNames {
		b, err := json.Marshal(parts[n])
		if err != nil {
			return nil, nil, err
		}
		bodies = append(bodies, b)
	}
	return bodies, times, nil
}

func nano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}

func unnano(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.Unix(0, n).UTC()
}

// join puts a reading together.
func join(bodies []*whole, times []byte) (*estate.Reading, error) {
	if len(bodies) == 0 || bodies[0].Self == nil {
		return nil, errors.New("a reading lacks its first part")
	}
	r := *bodies[0].Self
	r.Sections = append([]estate.Section(nil), r.Sections...)
	for i := range r.Sections {
		n, size := binary.Varint(times)
		if size <= 0 {
			return nil, errors.New("a reading lacks its times")
		}
		r.Sections[i].At, times = unnano(n), times[size:]
	}
	total := 0
	for _, b := range bodies {
		total += len(b.Components) + strings.Count(b.Plain, " ")/2 + 1
	}
	r.Components = make([]estate.Component, 0, total)
	for _, b := range bodies {
		for rest := b.Plain; rest != ""; {
			var key, v string
			key, rest, _ = strings.Cut(rest, " ")
			v, rest, _ = strings.Cut(rest, " ")
			r.Components = append(r.Components, estate.Component{Key: estate.Key(key), Version: v})
		}
		r.Components = append(r.Components, b.Components...)
		if b.Guests != nil {
			r.Guests = b.Guests
		}
		if b.Board != nil {
			r.Board = b.Board
		}
		if b.Health != nil {
			r.Health = b.Health
		}
	}
	r.Sort()
	return &r, nil
}

// packer packs parts. It is safe for concurrent use.
type packer struct{ alone *zstd.Encoder }

func newPacker() (*packer, error) {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedBetterCompression), zstd.WithEncoderConcurrency(1))
	return &packer{e}, err
}

// window is how far back a packed part looks for what it repeats, in bytes: more than a part of a usual host is long.
const window = 512 << 10

// leanID marks a frame that leans on another part.
const leanID = 1

func (p *packer) lean(body, base []byte) ([]byte, error) {
	e, err := zstd.NewWriter(nil, zstd.WithEncoderDictRaw(leanID, base), zstd.WithEncoderConcurrency(1),
		zstd.WithEncoderLevel(zstd.SpeedFastest),
		zstd.WithWindowSize(window), zstd.WithLowerEncoderMem(true))
	if err != nil {
		return nil, err
	}
	return e.EncodeAll(body, nil), e.Close()
}

// standing decodes parts that stand by themselves; it is safe for concurrent use.
var standing = sync.OnceValues(func() (*zstd.Decoder, error) {
	return zstd.NewReader(nil, zstd.WithDecoderMaxMemory(maxPart))
})

const maxPart = 256 << 20 // bytes

func unpack(body, base []byte) ([]byte, error) {
	if base == nil {
		d, err := standing()
		if err != nil {
			return nil, err
		}
		return d.DecodeAll(body, nil)
	}
	d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxPart),
		zstd.WithDecoderDictRaw(leanID, base))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.DecodeAll(body, nil)
}

func hashOf(body []byte) (h hash) {
	sum := sha256.Sum256(body)
	copy(h[:], sum[:])
	return h
}

// keepParts writes what is new of the bodies and returns their hashes in a row. before are the hashes of the host's
// reading before, nil for none.
func (p *packer) keepParts(tx *sql.Tx, bodies [][]byte, before []byte) ([]byte, error) {
	var row []byte
	for i, body := range bodies {
		h := hashOf(body)
		row = append(row, h[:]...)
		if len(before) >= (i+1)*hashSize && bytes.Equal(before[i*hashSize:(i+1)*hashSize], h[:]) {
			continue
		}
		var n int
		if err := tx.QueryRow("SELECT count(*) FROM parts WHERE hash = ?", h[:]).Scan(&n); err != nil {
			return nil, err
		}
		if n > 0 {
			continue
		}
		packed, base, err := p.packed(tx, body, before, i)
		if err != nil {
			return nil, err
		}
		if _, err := tx.Exec("INSERT INTO parts (hash, base, body) VALUES (?, ?, ?)", h[:], base, packed); err != nil {
			return nil, err
		}
	}
	return row, nil
}

// packed packs a body against the part that stood in its place before, or what that one leans on, if that is worth it.
func (p *packer) packed(tx *sql.Tx, body, before []byte, i int) (packed, base []byte, err error) {
	alone := p.alone.EncodeAll(body, nil)
	if len(before) < (i+1)*hashSize || len(body) < 64 {
		return alone, nil, nil
	}
	at := before[i*hashSize : (i+1)*hashSize]
	var leans, text []byte
	if err := tx.QueryRow("SELECT base, body FROM parts WHERE hash = ?", at).Scan(&leans, &text); err != nil {
		return nil, nil, err
	}
	if leans != nil {
		at = leans
		if err := tx.QueryRow("SELECT body FROM parts WHERE hash = ?", at).Scan(&text); err != nil {
			return nil, nil, err
		}
	}
	plain, err := unpack(text, nil)
	if err != nil {
		return nil, nil, err
	}
	if len(plain) < 8 {
		return alone, nil, nil
	}
	lean, err := p.lean(body, plain)
	if err != nil {
		return nil, nil, err
	}
	if len(lean) > len(alone)/2 {
		return alone, nil, nil // from here on others lean on this one
	}
	return lean, at, nil
}

// apart is the migration that takes readings apart which an older version kept whole.
func apart(tx *sql.Tx) error {
	p, err := newPacker()
	if err != nil {
		return err
	}
	rows, err := tx.Query("SELECT host, first, at, body FROM readings_whole ORDER BY host, first")
	if err != nil {
		return err
	}
	type old struct {
		host, first, at string
		body            []byte
	}
	var all []old
	for rows.Next() {
		var o old
		if err := rows.Scan(&o.host, &o.first, &o.at, &o.body); err != nil {
			return errors.Join(err, rows.Close())
		}
		all = append(all, o)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, o := range all {
		r := &estate.Reading{}
		if err := json.Unmarshal(o.body, r); err != nil {
			return fmt.Errorf("a kept reading of %s: %w", o.host, err)
		}
		first, err1 := time.Parse(stamp, o.first)
		last, err2 := time.Parse(stamp, o.at)
		if err := errors.Join(err1, err2); err != nil {
			return err
		}
		if _, _, err := p.insert(tx, r, first, last); err != nil {
			return err
		}
	}
	_, err = tx.Exec("DROP TABLE readings_whole")
	return err
}
