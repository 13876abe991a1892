// Package bundle takes in archives of releases: zip and tar, also one in another, with whatever the catalogue can be
// filled from inside. An archive is unpacked and read aside, shown, and taken in whole or not at all.
package bundle

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"yareharbour/format/compressed"
	"yareharbour/payload"
)

// Limits bound what an archive may unpack to. A proper bundle comes nowhere near them.
type Limits struct {
	Bytes   int64 // in all
	Entries int
	Depth   int   // of archives within archives
	Ratio   int64 // bytes unpacked for each byte packed, above the first 64 MiB
}

// Usual are the limits that hold where none are given.
var Usual = Limits{Bytes: 16 << 30, Entries: 50_000, Depth: 3, Ratio: 200}

// ErrRefused is what an archive gives that is not taken in for what it is: damaged, cut short, a bomb, or leading
// outside.
var ErrRefused = errors.New("the bundle is refused")

func refuse(format string, args ...any) error {
	return fmt.Errorf("%w: %w", ErrRefused, fmt.Errorf(format, args...))
}

// unpacker writes an archive's files below a directory.
type unpacker struct {
	ctx      context.Context
	limits   Limits
	packed   int64 // bytes of the bundle
	bytes    int64
	entries  int
	progress func(Progress)
	names    map[string]string // what was unpacked, by its name without capitals
	inner    map[string]string // archives in it that were unpacked in turn: path → SHA-256
}

// Progress is how far the opening of a bundle is.
type Progress struct {
	Stage   string // "unpacking", "reading", "taking in"
	File    string
	Entries int
	Bytes   int64
}

func (u *unpacker) tell(file string) {
	if u.progress != nil {
		u.progress(Progress{"unpacking", file, u.entries, u.bytes})
	}
}

// kindOf is what kind of archive a file is by its bytes: "zip", "tar", or "".
func kindOf(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	head := make([]byte, 4)
	if _, err := io.ReadFull(f, head); err != nil {
		return "", nil
	}
	if bytes.Equal(head, []byte("PK\x03\x04")) || bytes.Equal(head, []byte("PK\x05\x06")) {
		return "zip", nil
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return "", err
	}
	plain, _, err := compressed.Sniff(f)
	if err != nil {
		return "", nil
	}
	block := make([]byte, 512)
	if _, err := io.ReadFull(plain, block); err != nil {
		return "", nil
	}
	if string(block[257:262]) == "ustar" {
		return "tar", nil
	}
	return "", nil
}

// archives within archives are unpacked where their names say that they are ones: many other formats are zip files
// inside.
var nested = []string{".zip", ".tar", ".tgz", ".tar.gz", ".tar.xz", ".tar.zst", ".tar.bz2"}

func isNested(name string) bool {
	for _, ext := range nested {
		if strings.HasSuffix(strings.ToLower(name), ext) {
			return true
		}
	}
	return false
}

// archive unpacks the archive file below dir.
func (u *unpacker) archive(file, dir, label string, depth int) error {
	if depth > u.limits.Depth {
		return refuse("%s is an archive in an archive, more than %d deep", label, u.limits.Depth)
	}
	kind, err := kindOf(file)
	if err != nil {
		return err
	}
	switch kind {
	case "zip":
		err = u.zip(file, dir, label, depth)
	case "tar":
		err = u.tar(file, dir, label, depth)
	default:
		return refuse("%s is neither a zip nor a tar archive", label)
	}
	return err
}

func (u *unpacker) zip(file, dir, label string, depth int) error {
	z, err := zip.OpenReader(file)
	if err != nil {
		return refuse("%s can't be read as a zip archive, it may be cut short: %w", label, err)
	}
	defer z.Close()
	for _, e := range z.File {
		if e.Flags&1 != 0 {
			return refuse("%s in %s is encrypted", e.Name, label)
		}
		mode := e.Mode()
		if strings.HasSuffix(e.Name, "/") {
			if _, err := u.place(dir, e.Name, label); err != nil {
				return err
			}
			continue
		}
		if !mode.IsRegular() {
			return refuse("%s in %s is a link or a device, not a file", e.Name, label)
		}
		if int64(e.UncompressedSize64) < 0 || u.bytes+int64(e.UncompressedSize64) > u.limits.Bytes {
			return refuse("%s unpacks to more than %d MiB", label, u.limits.Bytes>>20)
		}
		r, err := e.Open()
		if err != nil {
			return refuse("%s in %s: %w", e.Name, label, err)
		}
		err = u.file(r, dir, e.Name, label, depth)
		r.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func (u *unpacker) tar(file, dir, label string, depth int) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	plain, _, err := compressed.Sniff(f)
	if err != nil {
		return refuse("%s: %w", label, err)
	}
	end := &tail{r: plain}
	t := tar.NewReader(end)
	for {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return refuse("%s can't be read as a tar archive, it may be cut short: %w", label, err)
		}
		switch h.Typeflag {
		case tar.TypeDir:
			if _, err := u.place(dir, h.Name, label); err != nil {
				return err
			}
		case tar.TypeReg:
			if err := u.file(t, dir, h.Name, label, depth); err != nil {
				return err
			}
		case tar.TypeXGlobalHeader:
		default:
			return refuse("%s in %s is a link or a device, not a file", h.Name, label)
		}
	}
	if !end.zeros() { // POSIX ends an archive with blocks of zeros
		return refuse("%s is cut short: the end of the archive is missing", label)
	}
	return nil
}

// tail remembers the last 512 bytes that were read.
type tail struct {
	r    io.Reader
	last []byte
}

func (t *tail) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	t.last = append(t.last, p[:n]...)
	if len(t.last) > 512 {
		t.last = append(t.last[:0], t.last[len(t.last)-512:]...)
	}
	return n, err
}

func (t *tail) zeros() bool {
	return len(t.last) == 512 && len(bytes.Trim(t.last, "\x00")) == 0
}

// place is where an entry of that name goes; a name that leads outside is refused.
func (u *unpacker) place(dir, name, label string) (string, error) {
	clean := path.Clean(strings.TrimSuffix(name, "/"))
	if name == "" || path.IsAbs(name) || strings.ContainsAny(name, "\\\x00") || clean == ".." ||
		strings.HasPrefix(clean, "../") ||
		strings.Contains("/"+name+"/", "/../") || !filepath.IsLocal(clean) {
		return "", refuse("%s holds a file named %q, which leads out of it", label, name)
	}
	if u.entries++; u.entries > u.limits.Entries {
		return "", refuse("%s holds more than %d files", label, u.limits.Entries)
	}
	to := filepath.Join(dir, filepath.FromSlash(clean))
	for at := to; at != dir; at = filepath.Dir(at) { // only what was in an archive goes where its files are
		if archive, ok := strings.CutSuffix(at, unpackedAs); ok && u.inner[archive] != "" {
			return "", refuse("%s holds %q, which would lie among the files of an archive in it", label, name)
		}
		// a file system that does not tell them apart would keep but one, and nobody could say which
		folded := strings.ToLower(strings.ToUpper(at))
		if other := u.names[folded]; other != "" && other != at {
			return "", refuse("%s holds %q beside %q: names that differ in nothing but capitals", label, name,
				filepath.ToSlash(strings.TrimPrefix(other, dir+string(filepath.Separator))))
		}
		u.names[folded] = at
	}
	return to, u.ctx.Err()
}

// unpackedAs is what the directory of an inner archive's files is called, behind the archive's name.
const unpackedAs = ".d"

// file writes one entry, and unpacks it in turn where it is an archive.
func (u *unpacker) file(r io.Reader, dir, name, label string, depth int) error {
	to, err := u.place(dir, name, label)
	if err != nil {
		return err
	}
	u.tell(name)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return refuse("%s in %s: %w", name, label, err)
	}
	out, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, os.ErrExist) {
		return refuse("%s holds two files named %q", label, name)
	}
	if err != nil {
		return err
	}
	_, err = io.Copy(out, &bounded{u, r, label})
	if e := out.Close(); err == nil {
		err = e
	}
	if errors.Is(err, ErrRefused) || errors.Is(err, context.Canceled) {
		return err
	}
	if err != nil {
		return refuse("%s in %s can't be unpacked, it may be cut short or damaged: %w", name, label, err)
	}
	if !isNested(name) {
		return nil
	}
	if kind, err := kindOf(to); err != nil || kind == "" {
		return err
	}
	sum, _, err := payload.SumOf(to)
	if err != nil {
		return err
	}
	u.inner[to] = sum
	// The inner archive's files go into a directory of its name, the archive itself goes.
	inner := to + unpackedAs
	if err := os.Mkdir(inner, 0o700); err != nil {
		return refuse("%s in %s: %w", name, label, err)
	}
	if err := u.archive(to, inner, name, depth+1); err != nil {
		return err
	}
	return os.Remove(to)
}

// bounded counts what is unpacked against the limits.
type bounded struct {
	u     *unpacker
	r     io.Reader
	label string
}

func (b *bounded) Read(p []byte) (int, error) {
	if err := b.u.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := b.r.Read(p)
	u := b.u
	u.bytes += int64(n)
	const free = 64 << 20
	switch {
	case u.bytes > u.limits.Bytes:
		return n, refuse("%s unpacks to more than %d MiB", b.label, u.limits.Bytes>>20)
	case u.bytes > free && u.bytes/max(u.packed, 1) > u.limits.Ratio:
		return n, refuse("%s unpacks to more than %d times its size: that is no bundle but a bomb",
			b.label, u.limits.Ratio)
	}
	return n, err
}
