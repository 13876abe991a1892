// Package compressed opens files in the compressions that repositories and archives use, told by their names or by
// their first bytes.
package compressed

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"
)

// kind is a compression: the extension of its files, the bytes they begin with, and its reader.
type kind struct {
	extension string
	magic     string
	open      func(io.Reader) (io.Reader, error)
}

var kinds = []kind{
	{".gz", "\x1f\x8b", func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) }},
	{".xz", "\xfd7zXZ\x00", openXZ},
	{".zst", "\x28\xb5\x2f\xfd", openZstd},
	{".bz2", "BZh", func(r io.Reader) (io.Reader, error) { return bzip2.NewReader(r), nil }},
	{".lz4", "\x04\x22\x4d\x18", func(r io.Reader) (io.Reader, error) { return lz4.NewReader(r), nil }},
}

// maxWindow is the most memory that a compressed file may ask for to be unpacked, in bytes: what the strongest usual
// settings need.
const maxWindow = 128 << 20

// openXZ bounds the memory that the first block may ask for. Its size stands in the block's header (the .xz file format
// 1.2.1, 3.1 and 5.3.1).
func openXZ(r io.Reader) (io.Reader, error) {
	b := bufio.NewReaderSize(r, 4096)
	head, err := b.Peek(12 + 6)
	if err == nil && head[12] != 0 && head[14] == 0x21 && head[15] == 1 {
		if bits := head[16] & 0x3f; bits > 30 { // (2 | bits&1) << (bits/2 + 11) bytes: 30 is 128 MiB
			return nil, fmt.Errorf("it asks for more than %d MiB of memory to be unpacked", maxWindow>>20)
		}
	}
	return xz.NewReader(b)
}

// ErrTooMuch is what reading gives of a file that unpacks to more than a proper one of its kind, or has an entry that
// is larger than any.
var ErrTooMuch = errors.New("it is larger than any proper file of its kind")

// Bounded reads at most so many bytes in all, and at most so many in one entry: whoever reads says with Next that an
// entry has ended. More is ErrTooMuch, never a cut.
type Bounded struct {
	R          io.Reader
	Most       int64 // bytes in all
	Entry      int64 // bytes in an entry; zero: any
	all, entry int64
}

// Next says that the next entry begins.
func (b *Bounded) Next() { b.entry = 0 }

// Read implements io.Reader.
func (b *Bounded) Read(p []byte) (int, error) {
	n, err := b.R.Read(p)
	b.all, b.entry = b.all+int64(n), b.entry+int64(n)
	switch {
	case b.all > b.Most:
		return n, fmt.Errorf("%w: more than %d MiB", ErrTooMuch, b.Most>>20)
	case b.Entry > 0 && b.entry > b.Entry:
		return n, fmt.Errorf("%w: an entry in it has more than %d MiB", ErrTooMuch, b.Entry>>20)
	}
	return n, err
}

// chunk is in which pieces that whose size is not known is read: a buffer that doubles takes several times what is in
// it.
const chunk = 1 << 20

// All reads all of r, which may have at most so many bytes: one more is ErrTooMuch. size is how many there are likely
// to be, or 0.
func All(r io.Reader, size, most int64) ([]byte, error) {
	first := int64(chunk)
	if size > 0 && size <= most {
		first = size + 1 // the end is seen without another piece
	}
	in := &Bounded{R: r, Most: most}
	pieces := [][]byte{make([]byte, 0, first)}
	for {
		last := &pieces[len(pieces)-1]
		n, err := in.Read((*last)[len(*last):cap(*last)])
		*last = (*last)[:len(*last)+n]
		switch {
		case err == io.EOF && len(pieces) == 1:
			return *last, nil
		case err == io.EOF:
			return bytes.Join(pieces, nil), nil
		case err != nil:
			return nil, err
		}
		if len(*last) == cap(*last) {
			pieces = append(pieces, make([]byte, 0, chunk))
		}
	}
}

// openZstd bounds the memory that a frame may ask for.
func openZstd(r io.Reader) (io.Reader, error) {
	d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxWindow),
		zstd.WithDecoderMaxWindow(maxWindow))
	if err != nil {
		return nil, err
	}
	return d.IOReadCloser(), nil
}

// Extensions lists the extensions of compressed files, the one that packs best and is read fastest first.
var Extensions = []string{".zst", ".xz", ".gz", ".bz2", ".lz4"}

// Extension is the compression of a file by its name; "" where there is none.
func Extension(name string) string {
	for _, k := range kinds {
		if strings.HasSuffix(name, k.extension) {
			return k.extension
		}
	}
	return ""
}

// Open returns the plain bytes of r, which is a file of that name. A name without one of the extensions is of a plain
// file.
func Open(name string, r io.Reader) (io.Reader, error) {
	for _, k := range kinds {
		if strings.HasSuffix(name, k.extension) {
			return opened(k, r)
		}
	}
	return r, nil
}

// Sniff returns the plain bytes of r, told by what it begins with, and the extension of its compression.
func Sniff(r io.Reader) (plain io.Reader, extension string, err error) {
	b := bufio.NewReaderSize(r, 64<<10)
	head, err := b.Peek(6)
	if err != nil && err != io.EOF {
		return nil, "", err
	}
	for _, k := range kinds {
		if bytes.HasPrefix(head, []byte(k.magic)) {
			plain, err := opened(k, b)
			return plain, k.extension, err
		}
	}
	return b, "", nil
}

func opened(k kind, r io.Reader) (io.Reader, error) {
	p, err := k.open(r)
	if err != nil {
		return nil, fmt.Errorf("not proper %s data: %w", k.extension[1:], err)
	}
	return p, nil
}
