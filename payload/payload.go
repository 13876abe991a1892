// Package payload keeps the files in which releases come, each under its own SHA-256: what is taken in has the hash
// that its release states, and what is given out has it still.
package payload

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"yareharbour/core/catalogue"
)

// Store is a directory of payloads. Several processes may use it at once.
type Store struct{ Dir string }

// ErrWrong is what a payload gives that is not what its hash says.
var ErrWrong = errors.New("it is damaged, or not the one")

// ErrNone is what asking for a payload gives that is not there.
var ErrNone = errors.New("it is not in the payload store")

func (s Store) path(sum string) (string, error) {
	if b, err := hex.DecodeString(sum); err != nil || len(b) != sha256.Size || strings.ToLower(sum) != sum {
		return "", fmt.Errorf("%q is no SHA-256", sum)
	}
	return filepath.Join(s.Dir, sum[:2], sum), nil
}

// Put takes a payload in whose SHA-256 must be sum. One that is there already is not written again. Either the whole is
// there afterwards or nothing.
func (s Store) Put(r io.Reader, sum string) error {
	to, err := s.path(sum)
	if err != nil {
		return err
	}
	if _, err := os.Stat(to); err == nil {
		if s.check(sum) == nil {
			return nil
		}
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return err
	}
	tmp, err := os.CreateTemp(s.Dir, ".in-*")
	if err != nil {
		return err
	}
	defer os.Remove(tmp.Name())
	h := sha256.New()
	_, err = io.Copy(io.MultiWriter(tmp, h), r)
	if err == nil {
		err = tmp.Sync()
	}
	if err = errors.Join(err, tmp.Close()); err != nil {
		return err
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != sum {
		return fmt.Errorf("the payload has the SHA-256 %s and should have %s: %w", got, sum, ErrWrong)
	}
	if err := os.Chmod(tmp.Name(), 0o400); err != nil {
		return err
	}
	return os.Rename(tmp.Name(), to)
}

// Path is the file that holds a payload, or ErrNone. Its bytes are not looked at.
func (s Store) Path(sum string) (string, error) {
	name, err := s.path(sum)
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) {
		return "", ErrNone
	}
	return name, nil
}

// Has tells whether the payload is there; its bytes are not looked at.
func (s Store) Has(sum string) bool {
	name, err := s.path(sum)
	if err != nil {
		return false
	}
	_, err = os.Stat(name)
	return err == nil
}

// Whole tells whether the payload is there and has its hash.
func (s Store) Whole(sum string) bool { return s.check(sum) == nil }

// List returns what is there, in the order of the hashes.
func (s Store) List() ([]catalogue.Stored, error) {
	var out []catalogue.Stored
	err := filepath.WalkDir(s.Dir, func(name string, e fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) && name == s.Dir {
			return fs.SkipAll
		}
		if err != nil || e.IsDir() || len(e.Name()) != 2*sha256.Size {
			return err
		}
		st, err := e.Info()
		if err != nil {
			return err
		}
		out = append(out, catalogue.Stored{SHA256: e.Name(), Size: st.Size(), At: st.ModTime()})
		return nil
	})
	return out, err
}

// Bad is a payload that is not what its name says.
type Bad struct {
	SHA256 string
	Why    string
}

// Verify reads every payload and returns those that are damaged. Progress, if wanted, is told after each.
func (s Store) Verify(ctx context.Context, progress func(done, of int)) ([]Bad, error) {
	all, err := s.List()
	if err != nil {
		return nil, err
	}
	var bad []Bad
	for i, p := range all {
		if err := ctx.Err(); err != nil {
			return bad, err
		}
		if err := s.check(p.SHA256); err != nil {
			bad = append(bad, Bad{p.SHA256, err.Error()})
		}
		if progress != nil {
			progress(i+1, len(all))
		}
	}
	return bad, nil
}

func (s Store) check(sum string) error {
	name, err := s.path(sum)
	if err != nil {
		return err
	}
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return Check(f, sum)
}

// Sum reads to the end and returns the SHA-256 of what came, in hex, with its size in bytes.
func Sum(r io.Reader) (string, int64, error) {
	h := sha256.New()
	n, err := io.Copy(h, r)
	return hex.EncodeToString(h.Sum(nil)), n, err
}

// SumOf is Sum of a file.
func SumOf(name string) (string, int64, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	return Sum(f)
}

// Check reads to the end and returns ErrWrong unless what came has that SHA-256, in hex.
func Check(r io.Reader, sum string) error {
	got, _, err := Sum(r)
	if err != nil {
		return err
	}
	if got != sum {
		return fmt.Errorf("its SHA-256 is %s and should be %s: %w", got, sum, ErrWrong)
	}
	return nil
}

// Remove lets a payload go.
func (s Store) Remove(sum string) error {
	name, err := s.path(sum)
	if err != nil {
		return err
	}
	if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Free is how many bytes are free where the payloads lie.
func (s Store) Free() (int64, error) {
	dir := s.Dir
	for {
		var st syscall.Statfs_t
		err := syscall.Statfs(dir, &st)
		if err == nil {
			return int64(st.Bavail) * st.Bsize, nil
		}
		if !errors.Is(err, fs.ErrNotExist) || filepath.Dir(dir) == dir {
			return 0, err
		}
		dir = filepath.Dir(dir)
	}
}
