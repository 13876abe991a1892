// Package tui is the screens. A screen is a pure function from what is known to cells: it computes nothing that the core
// could, waits for nothing, and leaves behind which cells a mouse can press. All that takes time is a command whose result comes as a
// message.
package tui

import (
	"strings"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"

	border "yareharbour/format/plain"
)

// canvas is a grid of cells that screens paint on. Cells are painted directly, not composed from styled strings: a frame of a large
// estate must cost no more than one of a small one.
type canvas struct {
	w, h  int
	cells []cell
	hits  []hit
}

type cell struct {
	r     rune // 0 is a blank; the right half of a wide rune is -1
	style style
}

// hit is a place where a mouse press does something.
type hit struct {
	x, y, w, h int
	does       any // the message
}

func newCanvas(w, h int) *canvas { return &canvas{w: w, h: h, cells: make([]cell, w*h)} }

// put writes text from x on in row y, cut at the canvas's edge, and returns where it ended.
func (c *canvas) put(x, y int, st style, text string) int { return c.within(x, y, c.w-x, st, text) }

// within writes text into at most w cells; what is too long ends in an ellipsis. It returns where it ended.
func (c *canvas) within(x, y, w int, st style, text string) int {
	if y < 0 || y >= c.h || w <= 0 {
		return x
	}
	text = border.Line(text)
	end := min(x+w, c.w)
	if runewidth.StringWidth(text) > end-x && end-x > 1 {
		text = runewidth.Truncate(text, end-x, "…")
	}
	for _, r := range text {
		n := 1
		if r >= 0x1100 {
			n = runewidth.RuneWidth(r)
		}
		if n == 0 || r < ' ' {
			continue
		}
		if x+n > end {
			break
		}
		if x >= 0 {
			c.cells[y*c.w+x] = cell{r, st}
			if n == 2 {
				c.cells[y*c.w+x+1] = cell{-1, st}
			}
		}
		x += n
	}
	return x
}

// right writes text so that it ends before x, in at most w cells.
func (c *canvas) right(x, y, w int, st style, text string) {
	n := min(runewidth.StringWidth(text), w)
	c.within(x-n, y, n, st, text)
}

// centre writes text in the middle of w cells.
func (c *canvas) centre(x, y, w int, st style, text string) {
	n := min(runewidth.StringWidth(text), w)
	c.within(x+(w-n)/2, y, n, st, text)
}

// fill repeats a rune over a rectangle.
func (c *canvas) fill(x, y, w, h int, st style, r rune) {
	for j := max(y, 0); j < min(y+h, c.h); j++ {
		for i := max(x, 0); i < min(x+w, c.w); i++ {
			c.cells[j*c.w+i] = cell{r, st}
		}
	}
}

// shade gives a row of cells a background and leaves what stands there.
func (c *canvas) shade(x, y, w int, bg style) {
	for i := max(x, 0); i < min(x+w, c.w) && y >= 0 && y < c.h; i++ {
		c.cells[y*c.w+i].style |= bg
	}
}

// press makes a rectangle do something when it is pressed.
func (c *canvas) press(x, y, w, h int, does any) { c.hits = append(c.hits, hit{x, y, w, h, does}) }

// at returns what a press on the cell does; the last painted goes first.
func (c *canvas) at(x, y int) any {
	for i := len(c.hits) - 1; i >= 0; i-- {
		if h := c.hits[i]; x >= h.x && x < h.x+h.w && y >= h.y && y < h.y+h.h {
			return h.does
		}
	}
	return nil
}

// String renders the cells with the theme's colours.
func (c *canvas) render(t *theme) string {
	var b strings.Builder
	b.Grow(c.w * c.h * 2)
	for y := range c.h {
		if y > 0 {
			b.WriteByte('\n')
		}
		row := c.cells[y*c.w : (y+1)*c.w]
		last := len(row)
		for last > 0 && (row[last-1].r == 0 || row[last-1].r == ' ') && row[last-1].style&^fgMask == 0 {
			last--
		}
		current := style(0)
		for _, cell := range row[:last] {
			if cell.r == -1 {
				continue
			}
			if cell.style != current {
				b.WriteString(t.sgr(cell.style))
				current = cell.style
			}
			if cell.r == 0 {
				b.WriteByte(' ')
			} else {
				b.WriteRune(cell.r)
			}
		}
		if current != 0 {
			b.WriteString("\x1b[m")
		}
	}
	return b.String()
}

// wrap breaks text into lines of at most w cells, at blanks where it can.
func wrap(text string, w int) []string {
	if w < 4 {
		w = 4
	}
	var out []string
	line := ""
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '\n' }) { // not at no-break spaces
		for runewidth.StringWidth(word) > w {
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
		case utf8.RuneCountInString(line)+1+utf8.RuneCountInString(word) <= w:
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
