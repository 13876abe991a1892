// Package debindex reads Debian's package data: the control-file syntax of Debian Policy chapter 5, the Packages and
// Release files of a repository (the Debian wiki's RepositoryFormat), the lists directory in which apt keeps them, and
// dpkg's status file. Everything is streamed: a whole archive's index never stands in memory as text.
package debindex

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
)

// Stanzas iterates over the stanzas of a control file. Only the fields asked for are kept, and only their first line.
type Stanzas struct {
	r      *bufio.Reader
	names  [][]byte // with the colon
	values [][]byte
	line   int
	err    error
}

// NewStanzas reads from r. The fields are named as they are written in the file; case matters, as it does in every
// index that a machine writes.
func NewStanzas(r io.Reader, fields ...string) *Stanzas {
	s := &Stanzas{r: bufio.NewReaderSize(r, 256<<10), values: make([][]byte, len(fields))}
	for _, f := range fields {
		s.names = append(s.names, []byte(f+":"))
	}
	return s
}

// Next goes to the next stanza and tells whether there is one. After false, Err says why.
func (s *Stanzas) Next() bool {
	for i := range s.values {
		s.values[i] = s.values[i][:0]
	}
	any := false
	for s.err == nil {
		line, err := s.r.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			line = bytes.Clone(line)
			err = s.skipLine()
		}
		s.line++
		if err != nil {
			s.err = err
		}
		line = bytes.TrimRight(line, "\r\n")
		switch {
		case len(line) == 0:
			if any {
				return true
			}
			continue
		case line[0] == ' ' || line[0] == '\t' || line[0] == '#':
			continue
		}
		if bytes.IndexByte(line, ':') < 0 {
			s.err = fmt.Errorf("line %d is not of the form \"Field: value\": %.40q", s.line, line)
			return false
		}
		any = true
		s.take(line)
	}
	if !errors.Is(s.err, io.EOF) {
		return false
	}
	return any
}

func (s *Stanzas) skipLine() error {
	for {
		_, err := s.r.ReadSlice('\n')
		if !errors.Is(err, bufio.ErrBufferFull) {
			return err
		}
	}
}

func (s *Stanzas) take(line []byte) {
	for i, n := range s.names {
		if line[0] == n[0] && bytes.HasPrefix(line, n) {
			s.values[i] = append(s.values[i], bytes.TrimSpace(line[len(n):])...)
			return
		}
	}
}

// Value returns the field with the index it was asked for with; it is good until Next. Empty where the stanza lacks it.
func (s *Stanzas) Value(i int) []byte { return s.values[i] }

// Err returns what ended the iteration, and nil at the proper end of the file.
func (s *Stanzas) Err() error {
	if errors.Is(s.err, io.EOF) {
		return nil
	}
	return s.err
}
