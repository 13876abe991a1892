package part

import (
	"cmp"
	"slices"
)

// Table is a list of lines in columns, of which as many are painted as there is room for, about the one under the
// cursor. It is asked only for those: a long list costs no more than a short one.
type Table struct {
	ID      string // by which its messages are known
	Columns []TableColumn
	Cursor  int
	Sorted  int // 1 + the column that it is sorted by; 0: as it comes
	Down    bool
}

// TableColumn is a column. What is left of the width after all Widths goes to those that grow, by their share.
type TableColumn struct {
	Title string
	Width int // at least, in cells, with the gap behind it
	Grow  int
	Right bool // its text ends at its right edge
}

// TableLine is a line: a heading, or a sign and a cell for each column; with Wide, the last cell goes on to the right edge.
type TableLine struct {
	Head  string
	Wide  bool
	Sign  Sign
	Cells []TableCell
}

// TableCell is what stands in a column.
type TableCell struct {
	Text  string
	Style Style
}

// Cell is a cell of a table.
func Cell(text string, st Style) TableCell { return TableCell{text, st} }

// Picked says that a line of a table was clicked on, Scrolled that the wheel was turned over it, and SortBy that a
// heading was clicked on.
type (
	Picked struct {
		ID string
		I  int
	}
	Scrolled struct {
		ID string
		By int
	}
	SortBy struct {
		ID     string
		Column int
	}
)

// Step moves the cursor within n lines.
func (t *Table) Step(dy, n int) { t.Cursor = Clamp(t.Cursor+dy, n) }

// At is the line under the cursor, as far as there are that many.
func (t *Table) At(n int) int { return Clamp(t.Cursor, n) }

// Take takes in a message about the table, of n lines. It tells whether it was about this one, and whether it is to go
// in: a click on the line under the cursor.
func (t *Table) Take(msg any, n int) (mine, in bool) {
	switch msg := msg.(type) {
	case Picked:
		if msg.ID != t.ID {
			return false, false
		}
		in = t.At(n) == msg.I
		t.Cursor = Clamp(msg.I, n)
		return true, in
	case Scrolled:
		if msg.ID == t.ID {
			t.Step(msg.By, n)
			return true, false
		}
	case SortBy:
		if msg.ID != t.ID {
			return false, false
		}
		switch {
		case t.Sorted != msg.Column+1:
			t.Sorted, t.Down = msg.Column+1, false
		case !t.Down:
			t.Down = true
		default:
			t.Sorted, t.Down = 0, false
		}
		t.Cursor = 0
		return true, false
	}
	return false, false
}

// Order is the order of n lines as the table is sorted, by the key of each in the sorted column: numbers by size, texts
// by their letters.
func (t *Table) Order(n int, key func(i, column int) any) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = i
	}
	if t.Sorted == 0 {
		return out
	}
	slices.SortStableFunc(out, func(a, b int) int {
		x, y := key(a, t.Sorted-1), key(b, t.Sorted-1)
		c := 0
		switch x := x.(type) {
		case int:
			c = cmp.Compare(x, y.(int))
		case string:
			c = cmp.Compare(x, y.(string))
		}
		if t.Down {
			return -c
		}
		return c
	})
	return out
}

// Window is the part of n lines that is shown in so many rows about a cursor: the first, and how many.
func Window(cursor, n, rows int) (first, shown int) {
	rows = max(rows, 0)
	first = max(0, min(cursor-rows/2, n-rows))
	return first, min(n-first, rows)
}

// Clamp brings an index into a list of n.
func Clamp(i, n int) int { return max(0, min(i, n-1)) }

// widths shares w cells out among the columns.
func (t *Table) widths(w int) []int {
	out := make([]int, len(t.Columns))
	grow := 0
	for i, c := range t.Columns {
		out[i] = c.Width
		w, grow = w-c.Width, grow+c.Grow
	}
	for i, c := range t.Columns {
		if c.Grow > 0 && w > 0 {
			out[i] += w * c.Grow / grow
		}
	}
	return out
}

// Paint paints the headings and the lines about the cursor; with focus, the cursor is where keys go. empty is said
// where there are none.
func (t *Table) Paint(c *Canvas, a Area, focus bool, n int, line func(i int) TableLine, empty string) {
	if a.H < 1 || a.W < 8 {
		return
	}
	widths := t.widths(a.W - 3)
	x := a.X + 3
	for i, col := range t.Columns {
		title := col.Title
		if t.Sorted == i+1 {
			title += map[bool]string{false: " ↑", true: " ↓"}[t.Down]
		}
		t.put(c, Area{x, a.Y, min(widths[i], a.X+a.W-x), 1}, col.Right, TableCell{title, Water | Bold})
		c.Press(Area{x, a.Y, widths[i], 1}, SortBy{t.ID, i})
		x += widths[i]
	}
	c.Wheel(a, func(dy int) any { return Scrolled{t.ID, dy} })
	if n == 0 {
		for i, l := range Wrap(empty, a.W-4) {
			c.Within(a.X+3, a.Y+2+i, a.W-4, Quiet, l)
		}
		return
	}
	first, shown := Window(t.At(n), n, a.H-1)
	for i := first; i < first+shown; i++ {
		y := a.Y + 1 + i - first
		t.paintLine(c, line(i), Area{a.X, y, a.W, 1}, widths)
		if i == t.At(n) {
			c.Choose(a, y, focus)
		}
		c.Press(Area{a.X, y, a.W, 1}, Picked{t.ID, i})
	}
	if rest := n - first - shown; rest > 0 && a.W > 30 {
		says := " " + Count(rest) + " more ↓"
		c.Right(a.X+a.W, a.Y+a.H-1, Width(says), Quiet, says)
	}
}

func (t *Table) paintLine(c *Canvas, l TableLine, a Area, widths []int) {
	if l.Head != "" {
		c.Within(a.X+1, a.Y, a.W-1, Water, l.Head)
		return
	}
	c.Put(a.X+1, a.Y, l.Sign.Style, l.Sign.Glyph)
	x := a.X + 3
	for j, cell := range l.Cells {
		if j >= len(widths) || x >= a.X+a.W {
			break
		}
		w := widths[j]
		if l.Wide && j == len(l.Cells)-1 {
			w = a.X + a.W - x
		}
		t.put(c, Area{x, a.Y, min(w, a.X+a.W-x), 1}, t.Columns[j].Right, cell)
		x += widths[j]
	}
}

func (t *Table) put(c *Canvas, a Area, right bool, cell TableCell) {
	if right {
		c.Right(a.X+a.W-2, a.Y, a.W-2, cell.Style, cell.Text)
		return
	}
	c.Within(a.X, a.Y, a.W-1, cell.Style, cell.Text)
}
