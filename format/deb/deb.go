// Package deb reads and writes Debian binary packages (deb(5)) as far as their control data goes.
package deb

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"yareharbour/format/compressed"
)

const magic = "!<arch>\n"

// maxControl is the most control data that is read, in bytes.
const maxControl = 8 << 20

// Control returns the control file of a package.
func Control(r io.Reader) ([]byte, error) {
	head := make([]byte, len(magic))
	if _, err := io.ReadFull(r, head); err != nil || string(head) != magic {
		return nil, errors.New("it is no Debian package")
	}
	for {
		var h [60]byte // name 16, time 12, owner 6, group 6, mode 8, size 10, and two that end it
		if _, err := io.ReadFull(r, h[:]); err != nil {
			return nil, errors.New("it is a Debian package without control data")
		}
		size, err := strconv.ParseInt(strings.TrimSpace(string(h[48:58])), 10, 64)
		if err != nil || size < 0 || string(h[58:]) != "`\n" {
			return nil, errors.New("it is a Debian package that is broken")
		}
		name := strings.TrimRight(strings.TrimSpace(string(h[:16])), "/")
		member := io.LimitReader(r, size)
		if strings.HasPrefix(name, "control.tar") {
			return control(member)
		}
		if _, err := io.CopyN(io.Discard, r, size+size%2); err != nil {
			return nil, errors.New("it is a Debian package that is cut short")
		}
	}
}

func control(member io.Reader) ([]byte, error) {
	plain, _, err := compressed.Sniff(member)
	if err != nil {
		return nil, err
	}
	t := tar.NewReader(&compressed.Bounded{R: plain, Most: maxControl, Entry: maxControl})
	for {
		e, err := t.Next()
		if err != nil {
			return nil, fmt.Errorf("its control data: %w", err)
		}
		if strings.TrimPrefix(e.Name, "./") == "control" {
			return io.ReadAll(t)
		}
	}
}

// Hollow returns a package of the control file that has nothing in it. A package manager can tell from it what putting
// the whole one in would do.
func Hollow(control []byte) []byte {
	pack := func(files map[string][]byte) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for name, body := range files {
			_ = w.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(body)),
				Format: tar.FormatGNU}) // to memory, as all below
			_, _ = w.Write(body)
		}
		_ = w.Close()
		return b.Bytes()
	}
	var out bytes.Buffer
	out.WriteString(magic)
	for _, m := range []struct {
		name string
		body []byte
	}{{"debian-binary", []byte("2.0\n")}, {"control.tar", pack(map[string][]byte{"./control": control})},
		{"data.tar", pack(nil)}} {
		fmt.Fprintf(&out, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", m.name, 0, 0, 0, "100644", len(m.body))
		out.Write(m.body)
		if len(m.body)%2 == 1 {
			out.WriteByte('\n')
		}
	}
	return out.Bytes()
}
