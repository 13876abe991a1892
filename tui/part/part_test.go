package part

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"testing"
)

// rows are what stands on a canvas, without styles; the right half of a wide rune is nothing.
func rows(c *Canvas) (out []string) {
	for y := range c.H {
		var b strings.Builder
		for _, cell := range c.cells[y*c.W : (y+1)*c.W] {
			switch cell.r {
			case -1:
			case 0:
				b.WriteByte(' ')
			default:
				b.WriteRune(cell.r)
			}
		}
		out = append(out, strings.TrimRight(b.String(), " "))
	}
	return out
}

func TestWrap(t *testing.T) {
	for _, c := range []struct {
		text string
		w    int
		want string
	}{
		{"one two three", 20, "one two three"},
		{"one two three", 7, "one two|three"},
		{"one two three", 8, "one two|three"},
		{"one two three", 5, "one|two|three"},
		{"unbreakable", 4, "unbr|eaka|ble"},
		{"a unbreakable b", 6, "a|unbrea|kable|b"},
		{"narrower than four", 1, "narr|ower|than|four"},
		{"", 9, ""},
		{"  blanks   between\nlines ", 30, "blanks between lines"},
		{"no\u00a0break here", 8, "no\u00a0break|here"},
		{"日本語日本語", 4, "日本|語日|本語"},
		{"日本語", 5, "日本|語"},
	} {
		if got := strings.Join(Wrap(c.text, c.w), "|"); got != c.want {
			t.Errorf("%q in %d: %q, want %q", c.text, c.w, got, c.want)
		}
		for _, l := range Wrap(c.text, c.w) {
			if Width(l) > max(c.w, 4) {
				t.Errorf("%q in %d: %q is too wide", c.text, c.w, l)
			}
		}
	}
}

func TestHang(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"short", "short"},
		{"key   what it does when it is pressed", "key   what it|      does|      when it|      is|      pressed"},
		{"a line without a second column that is long", "a line without|a second|column that is|long"},
	} {
		if got := strings.Join(Hang(c.text, 14), "|"); got != c.want {
			t.Errorf("%q: %q", c.text, got)
		}
	}
}

func TestTail(t *testing.T) {
	for _, c := range []struct {
		text string
		w    int
		want string
	}{{"bundle.zip", 20, "bundle.zip"}, {"bundle.zip", 10, "bundle.zip"}, {"/srv/bundle.zip", 8, "…dle.zip"},
		{"abc", 1, "abc"}, {"äöü", 2, "…ü"}} {
		if got := Tail(c.text, c.w); got != c.want {
			t.Errorf("%q in %d: %q", c.text, c.w, got)
		}
	}
}

func TestWhatIsWrittenStaysWithin(t *testing.T) {
	for _, c := range []struct {
		name  string
		paint func(c *Canvas) int
		end   int
		want  string
	}{
		{"at a place", func(c *Canvas) int { return c.Put(2, 0, Plain, "abc") }, 5, "  abc"},
		{"cut at the edge", func(c *Canvas) int { return c.Put(5, 0, Plain, "abcdef") }, 10, "     abcd…"},
		{"in so many cells", func(c *Canvas) int { return c.Within(1, 0, 4, Plain, "abcdef") }, 5, " abc…"},
		{"in one cell", func(c *Canvas) int { return c.Within(1, 0, 1, Plain, "abcdef") }, 2, " a"},
		{"in none", func(c *Canvas) int { return c.Within(1, 0, 0, Plain, "abcdef") }, 1, ""},
		{"left of the edge", func(c *Canvas) int { return c.Put(-2, 0, Plain, "abcd") }, 2, "cd"},
		{"above", func(c *Canvas) int { return c.Put(0, -1, Plain, "abc") }, 0, ""},
		{"below", func(c *Canvas) int { return c.Put(0, 1, Plain, "abc") }, 0, ""},
		{"wide runes whole or not at all", func(c *Canvas) int { return c.Within(0, 0, 5, Plain, "日本語") }, 5, "日本…"},
		{"a wide rune at the last cell", func(c *Canvas) int { return c.Within(9, 0, 1, Plain, "日") }, 9, ""},
		{"controls are none of it", func(c *Canvas) int { return c.Put(0, 0, Plain, "a\x1b[31mb\tc") }, 0, ""},
		{"to the right", func(c *Canvas) int { return c.Right(8, 0, 5, Plain, "abc") }, 5, "     abc"},
		{"to the right, cut", func(c *Canvas) int { return c.Right(8, 0, 3, Plain, "abcdef") }, 5, "     ab…"},
		{"in the middle", func(c *Canvas) int { c.Centre(0, 0, 10, Plain, "ab"); return 0 }, 0, "    ab"},
	} {
		canvas := NewCanvas(10, 1)
		end := c.paint(canvas)
		got := rows(canvas)[0]
		if c.name == "controls are none of it" {
			if strings.ContainsAny(got, "\x1b\t") {
				t.Errorf("%s: %q", c.name, got)
			}
			continue
		}
		if got != c.want || end != c.end {
			t.Errorf("%s: %q, ends at %d; want %q, %d", c.name, got, end, c.want, c.end)
		}
	}
	c := NewCanvas(4, 3)
	c.Fill(Rect(-1, 1, 3, 9), Plain, 'x')
	if got := strings.Join(rows(c), "|"); got != "|xx|xx" {
		t.Error(got)
	}
	c.Shade(-1, 9, 9, Selected) // outside of it nothing happens
}

// Clicks go to what was painted last, the wheel to what takes it; what is covered gets neither.
func TestTheMouse(t *testing.T) {
	c := NewCanvas(10, 4)
	c.Press(Rect(0, 0, 10, 4), "below")
	c.Press(Rect(2, 1, 3, 1), "above")
	c.Wheel(Rect(0, 0, 5, 4), func(dy int) any { return dy })
	for at, want := range map[[2]int]any{{0, 0}: "below", {2, 1}: "above", {4, 1}: "above", {5, 1}: "below",
		{2, 2}: "below", {9, 3}: "below", {10, 3}: nil, {9, 4}: nil} {
		if got := c.Clicked(at[0], at[1]); got != want {
			t.Errorf("%v: %v, want %v", at, got, want)
		}
	}
	if c.Turned(4, 0, 3) != 3 || c.Turned(5, 0, 3) != nil {
		t.Error("the wheel is not where it is")
	}
	c.Cover()
	if c.Clicked(2, 1) != nil || c.Turned(4, 0, 1) != nil {
		t.Error("what is covered is clicked on")
	}
}

func TestAColumnEndsWhereItsAreaDoes(t *testing.T) {
	c := NewCanvas(20, 6)
	col := NewColumn(c, Rect(2, 1, 16, 4))
	col.Gap() // nothing stands above it
	col.Head("head")
	col.Line(2, Plain, "one two three four five")
	if got := strings.Join(rows(c), "|"); got != "|  head|    one two|      three four|      five|" {
		t.Errorf("%q", got)
	}
	if !col.Full() || col.Left() != 0 {
		t.Errorf("%d rows are left", col.Left())
	}
	col.Line(0, Plain, "more")
	if r := rows(c); r[5] != "" || r[4] != "      five       …" {
		t.Errorf("of what it has no room for it shows %q", r[4:])
	}
}

func TestWindows(t *testing.T) {
	for _, c := range []struct{ cursor, n, rows, first, shown int }{
		{0, 10, 4, 0, 4}, {1, 10, 4, 0, 4}, {2, 10, 4, 0, 4}, {3, 10, 4, 1, 4}, {9, 10, 4, 6, 4}, {5, 3, 4, 0, 3},
		{0, 0, 4, 0, 0}, {0, 5, 0, 0, 0}, {0, 5, -1, 0, 0}, {4, 5, 5, 0, 5},
	} {
		if first, shown := Window(c.cursor, c.n, c.rows); first != c.first || shown != c.shown {
			t.Errorf("%+v: %d, %d", c, first, shown)
		}
	}
	if Clamp(-1, 3) != 0 || Clamp(3, 3) != 2 || Clamp(5, 0) != 0 {
		t.Error("an index is out of its list")
	}
}

func TestATable(t *testing.T) {
	tb := Table{ID: "t", Columns: []TableColumn{{Title: "host", Width: 8}, {Title: "says", Width: 4, Grow: 1},
		{Title: "n", Width: 6, Right: true}}, Cursor: 1}
	line := func(i int) TableLine {
		if i == 2 {
			return TableLine{Head: "a heading"}
		}
		return TableLine{Sign: Sign{Glyph: "!"},
			Cells: []TableCell{Cell(fmt.Sprint("host", i), Plain), Cell("something that is long", Plain),
				Cell(fmt.Sprint(i), Plain)}}
	}
	c := NewCanvas(40, 5)
	tb.Paint(c, Rect(0, 0, 40, 5), true, 6, line, "")
	want := []string{"   host    says                      n", "▸! host1   something that is long     1", " ! host0",
		"a heading", "more ↓"}
	got := rows(c)
	if !strings.HasPrefix(got[0], "   host    says") || !strings.HasPrefix(got[1], " ! host0   something that is") ||
		!strings.HasPrefix(got[2], "▸! host1") || !strings.HasPrefix(got[3], " a heading") ||
		!strings.HasSuffix(got[4], "2 more ↓") {
		t.Errorf("%q, want like %q", got, want)
	}
	for at, want := range map[[2]int]any{{5, 0}: SortBy{"t", 0}, {12, 0}: SortBy{"t", 1}, {5, 2}: Picked{"t", 1},
		{5, 4}: Picked{"t", 3}} {
		if got := c.Clicked(at[0], at[1]); got != want {
			t.Errorf("a click on %v: %+v, want %+v", at, got, want)
		}
	}
	if c.Turned(5, 3, -2) != (Scrolled{"t", -2}) {
		t.Error("the wheel does not reach it")
	}
	empty := NewCanvas(40, 5)
	tb.Paint(empty, Rect(0, 0, 40, 5), true, 0, line, "nothing is here")
	if rows(empty)[2] != "   nothing is here" {
		t.Errorf("%q", rows(empty))
	}
	tb.Paint(NewCanvas(7, 1), Rect(0, 0, 7, 1), true, 6, line, "") // too small for anything
}

func TestATableTakesItsMessages(t *testing.T) {
	tb := Table{ID: "t"}
	for _, c := range []struct {
		msg      any
		mine, in bool
		cursor   int
		sorted   int
		down     bool
	}{
		{Picked{"t", 3}, true, false, 3, 0, false},
		{Picked{"t", 3}, true, true, 3, 0, false},
		{Picked{"other", 1}, false, false, 3, 0, false},
		{Picked{"t", 99}, true, false, 4, 0, false},
		{Scrolled{"t", -2}, true, false, 2, 0, false},
		{Scrolled{"other", -2}, false, false, 2, 0, false},
		{SortBy{"t", 1}, true, false, 0, 2, false},
		{SortBy{"t", 1}, true, false, 0, 2, true},
		{SortBy{"other", 1}, false, false, 0, 2, true},
		{SortBy{"t", 1}, true, false, 0, 0, false},
		{"nothing", false, false, 0, 0, false},
	} {
		mine, in := tb.Take(c.msg, 5)
		if mine != c.mine || in != c.in || tb.Cursor != c.cursor || tb.Sorted != c.sorted || tb.Down != c.down {
			t.Errorf("%+v: mine %v, in %v, %+v", c.msg, mine, in, tb)
		}
	}
	numbers, texts := []int{10, 9, 100}, []string{"10", "9", "100"}
	key := func(i, column int) any {
		if column == 0 {
			return numbers[i]
		}
		return texts[i]
	}
	for _, c := range []struct {
		sorted int
		down   bool
		want   string
	}{{0, false, "[0 1 2]"}, {1, false, "[1 0 2]"}, {1, true, "[2 0 1]"}, {2, false, "[0 2 1]"}} {
		tb.Sorted, tb.Down = c.sorted, c.down
		if got := fmt.Sprint(tb.Order(3, key)); got != c.want {
			t.Errorf("%+v: %s", c, got)
		}
	}
}

// A row's colours end with it, and blanks at its end are not written.
func TestRender(t *testing.T) {
	c := NewCanvas(6, 2)
	c.Put(0, 0, Plain, "ab")
	c.Put(1, 1, Alarm|Bold, "x")
	c.Put(3, 1, Plain, "日")
	theme := NewTheme(true)
	if got, want := c.Render(theme), "ab\n "+theme.sgr(Alarm|Bold)+"x"+theme.sgr(Plain)+" 日"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
	c.Put(5, 1, Good, "y")
	if got := c.Render(theme); !strings.HasSuffix(got, "y\x1b[m") {
		t.Errorf("%q", got)
	}
}

// Every role can be read on either background, by the contrast that WCAG 2.2 asks of text (1.4.3), and on the row under
// the cursor by that of large text.
func TestContrast(t *testing.T) {
	luminance := func(rgb string) float64 {
		var c [3]float64
		for i, part := range strings.Split(rgb, ";") {
			n, err := strconv.Atoi(part)
			if err != nil {
				t.Fatal(rgb)
			}
			if c[i] = float64(n) / 255; c[i] <= 0.04045 {
				c[i] /= 12.92
			} else {
				c[i] = math.Pow((c[i]+0.055)/1.055, 2.4)
			}
		}
		return 0.2126*c[0] + 0.7152*c[1] + 0.0722*c[2]
	}
	contrast := func(a, b string) float64 {
		x, y := luminance(a), luminance(b)
		return (max(x, y) + 0.05) / (min(x, y) + 0.05)
	}
	for dark, background := range map[bool]string{true: "13;17;23", false: "255;255;255"} {
		theme := NewTheme(dark)
		for role, colour := range theme.fg {
			if colour == "" {
				continue
			}
			if got := contrast(colour, background); got < 4.5 {
				t.Errorf("dark %v, role %d: %.2f", dark, role, got)
			}
			for bg, behind := range theme.bg {
				if got := contrast(colour, behind); got < 3 {
					t.Errorf("dark %v, role %d on %d: %.2f", dark, role, bg, got)
				}
			}
		}
	}
}
