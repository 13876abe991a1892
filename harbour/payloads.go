package harbour

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/renameio/v2"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/view"
	"yareharbour/format/estatefile"
	"yareharbour/payload"
)

// Payloads are the payload store, and beside it the estate's own directory of payload files. What was verified is
// remembered for as long as the file stays as it is.
type Payloads struct {
	Store payload.Store
	Dir   string

	mu       sync.Mutex
	verified map[string]verified // by the file's path
}

// verified is what a file was when it had its hash.
type verified struct {
	sum  string
	size int64
	at   time.Time
	err  error
}

// Check returns why the file can't be used, and nil where it is here and has that SHA-256, in hex. A file that did not
// change since is not read again.
func (p *Payloads) Check(file, sum string) error {
	_, err := p.find(file, sum)
	return err
}

// find returns the path of a payload that was verified.
func (p *Payloads) find(file, sum string) (string, error) {
	name, err := p.Store.Path(sum)
	if errors.Is(err, payload.ErrNone) {
		name, err = filepath.Join(p.Dir, filepath.Base(file)), nil
	}
	if err != nil {
		return "", err
	}
	is, err := os.Stat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("the payload %s is neither in the payload store nor in %s; \"yare payload fetch\" gets "+
			"what hosts want", file, p.Dir)
	}
	if err != nil {
		return "", err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if v, ok := p.verified[name]; ok && v.sum == sum && v.size == is.Size() && v.at.Equal(is.ModTime()) {
		return name, v.err
	}
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	err = payload.Check(f, sum)
	if err != nil {
		err = fmt.Errorf("the payload %s: %w", file, err)
	}
	if p.verified == nil {
		p.verified = map[string]verified{}
	}
	p.verified[name] = verified{sum, is.Size(), is.ModTime(), err}
	return name, err
}

// own counts what the estate's own directory holds; where there is none, that is nothing.
func (p *Payloads) own() (view.Own, error) {
	out := view.Own{Dir: p.Dir}
	entries, err := os.ReadDir(p.Dir)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	for _, e := range entries {
		if is, e := e.Info(); e == nil && is.Mode().IsRegular() {
			out.Count, out.Size = out.Count+1, out.Size+is.Size()
		}
	}
	return out, err
}

// VerifyPayloads reads every payload in the store, and every file of the estate's own directory in which a release comes, and
// says what that came to; of those that are damaged, which and why. Progress is told after each.
func (h Supplies) VerifyPayloads(ctx context.Context, progress func(string)) (says string, damaged []string, err error) {
	n, bad, err := h.verify(ctx, func(n int) { progress(fmt.Sprintf("verified %d", n)) })
	for _, b := range bad {
		damaged = append(damaged, b.SHA256+": "+b.Why)
	}
	if err != nil || len(bad) == 0 {
		return catalogue.Some(n, "payload") + ", all as their hashes say", damaged, err
	}
	return fmt.Sprintf("%d of %d payloads are damaged; \"yare payload prune --damaged\" removes those of the store, \"yare "+
		"payload fetch\" fetches what hosts want again, and files of the estate's own directory are yours to replace", len(bad),
		n), damaged, nil
}

// verify returns how many there are too.
func (h *house) verify(ctx context.Context, progress func(done int)) (n int, bad []payload.Bad, err error) {
	bad, err = h.payloads.Store.Verify(ctx, func(done, _ int) {
		n = done
		progress(n)
	})
	if err != nil {
		return n, bad, err
	}
	sums := map[string][]string{} // what releases say of a file
	cat := h.Catalogue()
	for _, k := range cat.Components() {
		for _, r := range cat.Releases(k) {
			if name := filepath.Base(r.File); r.File != "" && r.SHA256 != "" && !slices.Contains(sums[name], r.SHA256) {
				sums[name] = append(sums[name], r.SHA256)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		if err := ctx.Err(); err != nil {
			return n, bad, err
		}
		at := filepath.Join(h.payloads.Dir, name)
		got, _, err := payload.SumOf(at)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		n++
		progress(n)
		switch {
		case err != nil:
			bad = append(bad, payload.Bad{SHA256: at, Why: err.Error()})
		case !slices.Contains(sums[name], got):
			bad = append(bad, payload.Bad{SHA256: at, Why: "its SHA-256 is " + got + ", and its release says " +
				strings.Join(sums[name], " or ")})
		}
	}
	return n, bad, nil
}

// Open returns the bytes of the file as a stream, with their number. The stream ends in an error instead of its end if
// what came out of it does not have the hash.
func (p *Payloads) Open(file, sum string) (io.ReadCloser, int64, error) {
	name, err := p.find(file, sum)
	if err != nil {
		return nil, 0, err
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, 0, err
	}
	is, err := f.Stat()
	if err != nil {
		return nil, 0, errors.Join(err, f.Close())
	}
	return &stream{file: f, hash: sha256.New(), sum: sum}, is.Size(), nil
}

// stream is a payload on its way out. It shows nothing of its file but its bytes, so that they can't be copied past the
// hash.
type stream struct {
	file *os.File
	hash hash.Hash
	sum  string
}

// Read implements io.Reader.
func (s *stream) Read(b []byte) (int, error) {
	n, err := s.file.Read(b)
	s.hash.Write(b[:n])
	if got := hex.EncodeToString(s.hash.Sum(nil)); err == io.EOF && got != s.sum {
		return n, fmt.Errorf("%s changed while it was read: its SHA-256 is %s and should be %s",
			s.file.Name(), got, s.sum)
	}
	return n, err
}

// Close closes the file.
func (s *stream) Close() error { return s.file.Close() }

// Configurations is where the configurations of hosts are kept, below the state directory.
const Configurations = "configurations"

// keeper keeps what hosts give back in files that only their owner may read: there are secrets in a configuration.
type keeper struct {
	dir    string
	ending func(host string) string // of the file's name, by what the host gives
}

// keptAs is how the file of a host's configuration ends: a Linux host gives an archive, a simulated one JSON.
func (h *house) keptAs(host string) string {
	if c, _ := h.file.ConnectorOf(host); c.Kind == estatefile.Sim {
		return ".json"
	}
	return ".tar.gz"
}

// file is where the configuration of a host is, as a round kept it.
func (k keeper) file(round, host string) string {
	return filepath.Join(k.dir, Configurations, filepath.Base(round),
		strings.ReplaceAll(host, string(filepath.Separator), "_")+k.ending(host))
}

// Keep implements round.Keeper. Either all of it is there afterwards, safely on disk, or nothing.
func (k keeper) Keep(a act.Act, write func(io.Writer) error) (string, error) {
	name := k.file(a.Round, a.Host)
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return "", fmt.Errorf("keeping the configuration of %s: %w", a.Host, err)
	}
	f, err := renameio.NewPendingFile(name, renameio.WithPermissions(0o600))
	if err != nil {
		return "", fmt.Errorf("keeping the configuration of %s: %w", a.Host, err)
	}
	h := sha256.New()
	err = write(io.MultiWriter(f, h))
	if err == nil {
		err = f.CloseAtomicallyReplace()
	}
	return hex.EncodeToString(h.Sum(nil)), errors.Join(err, f.Cleanup())
}
