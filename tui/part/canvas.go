// Package part is what screens are made of: a canvas of cells, styles and signs, tables, text, and the contract between
// a screen and what it stands in.
package part

import (
	"strings"

	"github.com/mattn/go-runewidth"

	"yareharbour/plain"
)

// Canvas is a grid of cells that screens paint on. Cells are painted directly, not composed from styled strings: a
// frame of a large estate must cost no more than one of a small one. Painting changes nothing but the canvas.
type Canvas struct {
	W, H  int
	cells []cell
	hits  []hit
}

type cell struct {
	r     rune // 0 is a blank; the right half of a wide rune is -1
	style Style
}

// Area is a rectangle of cells.
type Area struct{ X, Y, W, H int }

// Rect is the area of that size at that place.
func Rect(x, y, w, h int) Area { return Area{x, y, w, h} }

// hit is a place where the mouse does something.
type hit struct {
	Area
	press any              // the message of a click; nil: none
	wheel func(dy int) any // the message of the wheel, by rows; nil: none
}

// NewCanvas returns an empty one.
func NewCanvas(w, h int) *Canvas { return &Canvas{W: w, H: h, cells: make([]cell, w*h)} }

// Put writes text from x on in row y, cut at the canvas's edge, and returns where it ended.
func (c *Canvas) Put(x, y int, st Style, text string) int { return c.Within(x, y, c.W-x, st, text) }

// Within writes text into at most w cells; what is too long ends in an ellipsis. It returns where it ended.
func (c *Canvas) Within(x, y, w int, st Style, text string) int {
	if y < 0 || y >= c.H || w <= 0 {
		return x
	}
	text = plain.Line(text)
	end := min(x+w, c.W)
	if Width(text) > end-x && end-x > 1 {
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
			c.cells[y*c.W+x] = cell{r, st}
			if n == 2 {
				c.cells[y*c.W+x+1] = cell{-1, st}
			}
		}
		x += n
	}
	return x
}

// Right writes text so that it ends before x, in at most w cells, and returns where it begins.
func (c *Canvas) Right(x, y, w int, st Style, text string) int {
	n := min(Width(text), w)
	c.Within(x-n, y, n, st, text)
	return x - n
}

// Centre writes text in the middle of w cells.
func (c *Canvas) Centre(x, y, w int, st Style, text string) {
	n := min(Width(text), w)
	c.Within(x+(w-n)/2, y, n, st, text)
}

// Fill repeats a rune over a rectangle.
func (c *Canvas) Fill(a Area, st Style, r rune) {
	for j := max(a.Y, 0); j < min(a.Y+a.H, c.H); j++ {
		for i := max(a.X, 0); i < min(a.X+a.W, c.W); i++ {
			c.cells[j*c.W+i] = cell{r, st}
		}
	}
}

// Shade gives a row of cells a background, or attributes, and leaves what stands there.
func (c *Canvas) Shade(x, y, w int, bg Style) {
	for i := max(x, 0); i < min(x+w, c.W) && y >= 0 && y < c.H; i++ {
		c.cells[y*c.W+i].style |= bg
	}
}

// Choose marks a row as the one under the cursor; with focus, as the one that keys go to.
func (c *Canvas) Choose(a Area, y int, focus bool) {
	c.Shade(a.X, y, a.W, Selected)
	if focus {
		c.Put(a.X, y, Strong|Bold|Selected, "▸")
	}
}

// Press makes a rectangle send a message when it is clicked on.
func (c *Canvas) Press(a Area, does any) { c.hits = append(c.hits, hit{Area: a, press: does}) }

// Wheel makes a rectangle send a message when the wheel turns over it.
func (c *Canvas) Wheel(a Area, does func(dy int) any) {
	c.hits = append(c.hits, hit{Area: a, wheel: does})
}

// Cover lets the mouse reach nothing that was painted so far.
func (c *Canvas) Cover() { c.hits = nil }

// Clicked returns what a click on the cell sends; the last painted goes first. Nil: nothing.
func (c *Canvas) Clicked(x, y int) any {
	for i := len(c.hits) - 1; i >= 0; i-- {
		if h := c.hits[i]; h.press != nil && h.has(x, y) {
			return h.press
		}
	}
	return nil
}

// Turned returns what the wheel sends over the cell, by so many rows. Nil: nothing.
func (c *Canvas) Turned(x, y, dy int) any {
	for i := len(c.hits) - 1; i >= 0; i-- {
		if h := c.hits[i]; h.wheel != nil && h.has(x, y) {
			return h.wheel(dy)
		}
	}
	return nil
}

func (h hit) has(x, y int) bool { return x >= h.X && x < h.X+h.W && y >= h.Y && y < h.Y+h.H }

// Render is the cells in the theme's colours.
func (c *Canvas) Render(t *Theme) string {
	var b strings.Builder
	b.Grow(c.W * c.H * 2)
	for y := range c.H {
		if y > 0 {
			b.WriteByte('\n')
		}
		row := c.cells[y*c.W : (y+1)*c.W]
		last := len(row)
		for last > 0 && (row[last-1].r == 0 || row[last-1].r == ' ') && row[last-1].style&^fgMask == 0 {
			last--
		}
		current := Style(0)
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
