// Package compressed opens files in the compressions that repositories and archives use, told by their names or by their first bytes.
package compressed

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"compress/gzip"
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
	{".xz", "\xfd7zXZ\x00", func(r io.Reader) (io.Reader, error) { return xz.NewReader(r) }},
	{".zst", "\x28\xb5\x2f\xfd", openZstd},
	{".bz2", "BZh", func(r io.Reader) (io.Reader, error) { return bzip2.NewReader(r), nil }},
	{".lz4", "\x04\x22\x4d\x18", func(r io.Reader) (io.Reader, error) { return lz4.NewReader(r), nil }},
}

// openZstd bounds the memory that a frame may ask for.
func openZstd(r io.Reader) (io.Reader, error) {
	d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(256<<20))
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

// Open returns the plain bytes of r, which is a file of that name. A name without one of the extensions is of a plain file.
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
