package part

import (
	"strings"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
)

// Width is how many cells a text takes.
func Width(s string) int { return runewidth.StringWidth(s) }

// Wrap breaks text into lines of at most w cells, at blanks where it can; a no-break space is none.
func Wrap(text string, w int) []string {
	w = max(w, 4)
	var out []string
	line := ""
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '\n' }) {
		for Width(word) > w {
			if line != "" {
				out = append(out, line)
				line = ""
			}
			head := runewidth.Truncate(word, w, "")
			out = append(out, head)
			word = word[len(head):]
		}
		switch {
		case line == "":
			line = word
		case Width(line)+1+Width(word) <= w:
			line += " " + word
		default:
			out = append(out, line)
			line = word
		}
	}
	if line != "" {
		out = append(out, line)
	}
	return out
}

// Hang wraps a line and keeps the indent of what stands behind its first double blank.
func Hang(l string, w int) []string {
	if Width(l) <= w {
		return []string{l}
	}
	indent := 0
	if i := strings.Index(l, "  "); i >= 0 && i < 16 {
		indent = len(l[:i]) + len(l[i:]) - len(strings.TrimLeft(l[i:], " "))
	}
	lines := Wrap(l[indent:], w-indent)
	for i := range lines {
		if i == 0 {
			lines[0] = l[:indent] + lines[0]
		} else {
			lines[i] = strings.Repeat(" ", indent) + lines[i]
		}
	}
	return lines
}

// Tail is the end of a text that fits: what tells files apart stands there.
func Tail(s string, w int) string {
	if r := []rune(s); len(r) > w && w > 1 {
		return "…" + string(r[len(r)-w+1:])
	}
	return s
}

// Column writes lines of text below each other in an area, and stops at its end.
type Column struct {
	C *Canvas
	Area
	Y int // of the next line
}

// NewColumn begins at the top of the area.
func NewColumn(c *Canvas, a Area) *Column { return &Column{c, a, a.Y} }

// Full tells whether there is no row left.
func (p *Column) Full() bool { return p.Y >= p.Area.Y+p.H }

// Left is how many rows are left.
func (p *Column) Left() int { return max(0, p.Area.Y+p.H-p.Y) }

// Line writes a text, wrapped, so many cells from the left; what it is wrapped to stands two cells further in. Where it has
// no room "…" stands at the end of the last row.
func (p *Column) Line(indent int, st Style, text string) {
	for i, l := range Wrap(text, p.W-indent-3) {
		if p.Full() {
			if p.H > 0 && p.W > 0 {
				p.C.Put(p.X+p.W-1, p.Area.Y+p.H-1, Quiet, "…")
			}
			return
		}
		in := indent
		if i > 0 {
			in += 2
		}
		p.C.Within(p.X+in, p.Y, p.W-in, st, l)
		p.Y++
	}
}

// Head writes a heading.
func (p *Column) Head(text string) { p.Line(0, Water|Bold, text) }

// Gap leaves a row free, unless nothing stands above it.
func (p *Column) Gap() {
	if p.Y > p.Area.Y {
		p.Y++
	}
}

// Common is what all the words begin with; "" where there are none.
func Common(words []string) string {
	if len(words) == 0 {
		return ""
	}
	same := words[0]
	for _, w := range words[1:] {
		for !strings.HasPrefix(w, same) {
			_, n := utf8.DecodeLastRuneInString(same)
			same = same[:len(same)-n]
		}
	}
	return same
}
