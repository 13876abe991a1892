// Package bounds looks at a text before it is parsed, and refuses one that is built to exhaust whoever parses it: nested
// deeper, of more values, or with longer ones than any that is meant to be read. It goes through the text once, keeps
// next to nothing, and does not say whether the text is well formed.
package bounds

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// ErrRefused is what such a text gives.
var ErrRefused = errors.New("it is refused: no file that is meant to be read is like that")

func refuse(format string, args ...any) error {
	return fmt.Errorf("%w (%s)", ErrRefused, fmt.Sprintf(format, args...))
}

// Limits bound a text. Zero means Usual's.
type Limits struct {
	Depth  int // of values within values
	Values int
	Scalar int // bytes of one text or number, or of one tag with its attributes
}

// Usual are limits that nothing comes near which people or their tools write.
var Usual = Limits{Depth: 64, Values: 4 << 20, Scalar: 8 << 20}

func (l Limits) or(u Limits) Limits {
	for _, p := range []struct{ at, usual *int }{{&l.Depth, &u.Depth}, {&l.Values, &u.Values}, {&l.Scalar, &u.Scalar}} {
		if *p.at == 0 {
			*p.at = *p.usual
		}
	}
	return l
}

// Unmarshal is encoding/json's, of a text within the limits.
func Unmarshal(text []byte, v any, l Limits) error {
	if err := JSON(text, l); err != nil {
		return err
	}
	return json.Unmarshal(text, v)
}

// JSON holds a JSON text (RFC 8259) to the limits.
func JSON(text []byte, l Limits) error {
	l = l.or(Usual)
	depth, values := 0, 1
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '"':
			end := closing(text[i+1:])
			if end > l.Scalar {
				return refuse("a text of more than %d bytes", l.Scalar)
			}
			i += end + 1
		case '[', '{':
			if depth++; depth > l.Depth {
				return refuse("nested more than %d deep", l.Depth)
			}
			values++
		case ']', '}':
			depth--
		case ',', ':':
			values++
		}
		if values > l.Values {
			return refuse("more than %d values", l.Values)
		}
	}
	return nil
}

// closing is where the quote is that ends a text, and the length where there is none.
func closing(text []byte) int {
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
		case '"':
			return i
		}
	}
	return len(text)
}

// XML reads on from r, and fails as soon as the XML that goes through (XML 1.0, fifth edition) is beyond the limits. A
// tag counts as a value, and its length as a scalar's, of which a thousandth is allowed.
func XML(r io.Reader, l Limits) io.Reader {
	return &markup{r: r, l: l.or(Usual)}
}

// markup is where the reading of an XML text is.
type markup struct {
	r      io.Reader
	l      Limits
	state  state
	quote  byte // in an attribute's value
	last   byte // before this byte
	first  byte // of a tag
	marks  int  // bytes of "-->" or "]]>" that were seen
	length int  // of the tag or the text
	depth  int
	values int
	failed error
}

type state int

const (
	text state = iota
	tag
	comment
	section // a CDATA section
)

// Read implements io.Reader.
func (x *markup) Read(p []byte) (int, error) {
	if x.failed != nil {
		return 0, x.failed
	}
	n, err := x.r.Read(p)
	for rest := p[:n]; len(rest) > 0; {
		skipped := 0
		if x.state == text { // most of a file
			if skipped = bytes.IndexByte(rest, '<'); skipped < 0 {
				skipped = len(rest)
			}
			x.length += skipped
		}
		if x.length > x.l.Scalar || x.state == tag && x.length > max(x.l.Scalar>>10, 1<<12) {
			x.failed = refuse("a text or a tag that is too long")
		} else if rest = rest[skipped:]; len(rest) > 0 {
			x.take(rest[0])
			rest = rest[1:]
		}
		if x.failed != nil {
			return 0, x.failed
		}
	}
	return n, err
}

// take takes in a byte. The text is not held to be well formed: what is not is for the parser to say.
func (x *markup) take(c byte) {
	x.length++
	switch x.state {
	case text: // it is <
		x.state, x.first, x.last, x.quote, x.length, x.marks = tag, 0, 0, 0, 0, 0
		if x.values++; x.values > x.l.Values {
			x.failed = refuse("more than %d tags", x.l.Values)
		}
		return
	case comment, section:
		want := byte('-')
		if x.state == section {
			want = ']'
		}
		switch {
		case c == want:
			x.marks++
		case c == '>' && x.marks >= 2:
			x.state, x.length = text, 0
		default:
			x.marks = 0
		}
		return
	}
	switch {
	case x.length == 1:
		x.first = c
	case x.length == 2 && x.first == '!' && c == '-':
		x.state, x.marks = comment, 0
		return
	case x.length == 2 && x.first == '!' && c == '[':
		x.state, x.marks = section, 0
		return
	}
	switch {
	case x.quote != 0:
		if c == x.quote {
			x.quote = 0
		}
	case (c == '"' || c == '\'') && x.first != '!' && x.first != '?':
		x.quote = c
	case c == '>':
		switch {
		case x.first == '/':
			x.depth--
		case x.first != '!' && x.first != '?' && x.last != '/':
			if x.depth++; x.depth > x.l.Depth {
				x.failed = refuse("nested more than %d deep", x.l.Depth)
			}
		}
		x.state, x.length = text, 0
	}
	x.last = c
}
