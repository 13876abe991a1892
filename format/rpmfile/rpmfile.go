// Package rpmfile reads what stands before the payload of an RPM package file (the "RPM V4 package format": lead,
// signature header, header).
package rpmfile

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// most is how large all that may be, in bytes: the header of a package with very many files takes some MiB.
const most = 32 << 20

var (
	leadMagic   = []byte{0xed, 0xab, 0xee, 0xdb}
	headerMagic = []byte{0x8e, 0xad, 0xe8}
)

// Head returns a package file up to its payload: all that a resolver looks at.
func Head(r io.Reader) ([]byte, error) {
	var out bytes.Buffer
	take := func(n int64, what string) ([]byte, error) {
		from := out.Len()
		if n < 0 || int64(from)+n > most {
			return nil, fmt.Errorf("its %s would be larger than %d MiB", what, most>>20)
		}
		if _, err := io.CopyN(&out, r, n); err != nil {
			return nil, fmt.Errorf("its %s is cut short: %w", what, err)
		}
		return out.Bytes()[from:], nil
	}
	lead, err := take(96, "lead")
	if err != nil {
		return nil, err
	}
	if !bytes.HasPrefix(lead, leadMagic) {
		return nil, errors.New("it is no RPM package file")
	}
	for _, h := range []struct {
		what   string
		padded bool
	}{{"signature header", true}, {"header", false}} {
		intro, err := take(16, h.what)
		if err != nil {
			return nil, err
		}
		if !bytes.HasPrefix(intro, headerMagic) {
			return nil, fmt.Errorf("its %s does not begin as one", h.what)
		}
		entries, size := int64(binary.BigEndian.Uint32(intro[8:])), int64(binary.BigEndian.Uint32(intro[12:]))
		rest := 16*entries + size
		if h.padded {
			rest += (8 - size%8) % 8
		}
		if _, err := take(rest, h.what); err != nil {
			return nil, err
		}
	}
	return out.Bytes(), nil
}
