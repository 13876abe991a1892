// Package hostcopy reads the configuration of a host as a round kept it: a gzipped tar archive, or the JSON of a simulated
// host, which counts as one file. docs/formats.md describes both.
package hostcopy

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/aymanbagabas/go-udiff"
)

// File is one file of a copy.
type File struct {
	Path   string      `json:"path"` // without a slash before it
	Mode   fs.FileMode `json:"mode"`
	Owner  string      `json:"owner,omitempty"`
	Size   int64       `json:"size"` // in bytes
	SHA256 string      `json:"sha256,omitempty"`
	Link   string      `json:"link,omitempty"` // where it leads
	body   []byte      // nil where it is too long to be held
}

// What is read of a copy at most: files, bytes in all, and bytes of a file that are held, so that it can be shown.
const (
	maxFiles = 200_000
	maxBytes = 4 << 30
	maxHeld  = 4 << 20
	maxAll   = 256 << 20
)

// Copy is a host's configuration, its files by their paths.
type Copy struct {
	Files  []File
	SHA256 string // of the whole
}

// Read reads the copy in a file, and verifies it as it goes: what is cut or damaged is an error.
func Read(name string) (c Copy, err error) {
	f, err := os.Open(name)
	if err != nil {
		return c, err
	}
	defer f.Close()
	whole := sha256.New()
	in := io.TeeReader(f, whole)
	held := int64(0)
	if strings.HasSuffix(name, ".json") {
		err = c.take(File{Path: filepath.Base(name), Mode: 0o600}, in, &held)
	} else {
		err = c.unpack(in, &held)
	}
	if err == nil {
		_, err = io.Copy(io.Discard, in)
	}
	if err != nil {
		return c, fmt.Errorf("%s: %w", filepath.Base(name), err)
	}
	c.SHA256 = hex.EncodeToString(whole.Sum(nil))
	slices.SortFunc(c.Files, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return c, nil
}

func (c *Copy) unpack(in io.Reader, held *int64) error {
	z, err := gzip.NewReader(in)
	if err != nil {
		return err
	}
	t := tar.NewReader(io.LimitReader(z, maxBytes))
	for {
		h, err := t.Next()
		switch {
		case errors.Is(err, io.EOF):
			_, err = io.Copy(io.Discard, z) // its own sum is at its end
			return err
		case err != nil:
			return err
		case len(c.Files) == maxFiles:
			return fmt.Errorf("it holds more than %d files", maxFiles)
		case h.Typeflag == tar.TypeDir:
			continue
		}
		f := File{Path: strings.TrimPrefix(path.Clean("/"+h.Name), "/"), Mode: h.FileInfo().Mode(), Owner: h.Uname + ":" + h.Gname, Link: h.Linkname}
		if err := c.take(f, t, held); err != nil {
			return err
		}
	}
}

// take reads a file's body.
func (c *Copy) take(f File, in io.Reader, held *int64) error {
	var body bytes.Buffer
	sum := sha256.New()
	n, err := io.CopyN(io.MultiWriter(&body, sum), in, maxHeld+1)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if n > maxHeld || *held+n > maxAll {
		body.Reset()
		more, err := io.Copy(sum, in)
		if err != nil {
			return err
		}
		n += more
	} else {
		*held += n
		f.body = append([]byte{}, body.Bytes()...)
	}
	f.Size, f.SHA256 = n, hex.EncodeToString(sum.Sum(nil))
	c.Files = append(c.Files, f)
	return nil
}

// Archive writes the files of a copy with these paths, or below them, as a gzipped tar archive of their own, and returns
// the paths that there are. What leads out of /etc is no configuration, and is refused.
func Archive(w io.Writer, name string, paths []string) (out []string, err error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	z := gzip.NewWriter(w)
	t := tar.NewWriter(z)
	wanted := func(at string) bool {
		return slices.ContainsFunc(paths, func(p string) bool {
			p = strings.TrimPrefix(path.Clean("/"+p), "/")
			return at == p || strings.HasPrefix(at, p+"/")
		})
	}
	if strings.HasSuffix(name, ".json") {
		body, err := io.ReadAll(io.LimitReader(f, maxAll))
		if base := filepath.Base(name); err == nil && wanted(base) {
			out = append(out, base)
			err = errors.Join(t.WriteHeader(&tar.Header{Name: base, Mode: 0o600, Size: int64(len(body))}), last(t.Write(body)))
		}
		return out, errors.Join(err, t.Close(), z.Close())
	}
	in, err := gzip.NewReader(f)
	if err != nil {
		return nil, err
	}
	for r := tar.NewReader(io.LimitReader(in, maxBytes)); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		at := strings.TrimPrefix(path.Clean("/"+h.Name), "/")
		if !wanted(at) || h.Typeflag != tar.TypeReg && h.Typeflag != tar.TypeSymlink {
			continue
		}
		if !strings.HasPrefix(at, "etc/") {
			return nil, fmt.Errorf("%s is no file below /etc: only those are put back", at)
		}
		h.Name = at
		if err := errors.Join(t.WriteHeader(h), last(io.Copy(t, r))); err != nil {
			return nil, err
		}
		out = append(out, at)
	}
	return out, errors.Join(t.Close(), z.Close())
}

// last is the error of what returns something beside.
func last[T any](_ T, err error) error { return err }

// File is the file of that path, with or without a slash before it.
func (c *Copy) File(name string) (*File, error) {
	name = strings.TrimPrefix(path.Clean("/"+name), "/")
	i := slices.IndexFunc(c.Files, func(f File) bool { return f.Path == name })
	if i < 0 {
		return nil, fmt.Errorf("there is no %s in it", name)
	}
	return &c.Files[i], nil
}

// Body is what is in the file.
func (f *File) Body() ([]byte, error) {
	switch {
	case f.Link != "":
		return []byte("-> " + f.Link + "\n"), nil
	case f.body == nil && f.Size > 0:
		return nil, fmt.Errorf("%s is longer than is held here: %d bytes", f.Path, f.Size)
	}
	return f.body, nil
}

// text tells whether the file can be shown line by line.
func (f *File) text() bool {
	return (f.body != nil || f.Size == 0) && utf8.Valid(f.body) && !bytes.ContainsRune(f.body, 0)
}

// Change is a file that differs between two copies.
type Change struct {
	Path string `json:"path"`
	What string `json:"change"` // "new", "gone", "other content", "other mode or owner", "leads elsewhere"
	// Diff are the lines that differ, in the unified form, where both are texts.
	Diff string `json:"diff,omitempty"`
}

// Diff says in what the second copy differs from the first.
func Diff(a, b Copy) (out []Change) {
	i, j := 0, 0
	for i < len(a.Files) || j < len(b.Files) {
		switch {
		case j == len(b.Files) || i < len(a.Files) && a.Files[i].Path < b.Files[j].Path:
			out = append(out, Change{Path: a.Files[i].Path, What: "gone"})
			i++
		case i == len(a.Files) || b.Files[j].Path < a.Files[i].Path:
			out = append(out, Change{Path: b.Files[j].Path, What: "new"})
			j++
		default:
			if c, is := differ(&a.Files[i], &b.Files[j]); is {
				out = append(out, c)
			}
			i, j = i+1, j+1
		}
	}
	return out
}

func differ(a, b *File) (c Change, is bool) {
	c.Path = a.Path
	switch {
	case a.Link != b.Link:
		c.What = "leads elsewhere"
		c.Diff = fmt.Sprintf("-%s\n+%s\n", a.Link, b.Link)
	case a.SHA256 != b.SHA256:
		c.What = "other content"
		if a.text() && b.text() {
			c.Diff = udiff.Unified(a.Path, b.Path, string(a.body), string(b.body))
		}
	case a.Mode != b.Mode || a.Owner != b.Owner:
		c.What = "other mode or owner"
		c.Diff = fmt.Sprintf("-%s %s\n+%s %s\n", a.Mode, a.Owner, b.Mode, b.Owner)
	default:
		return c, false
	}
	return c, true
}
