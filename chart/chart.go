// Package chart draws what the screens show, as SVG and on the pages of a PDF: one drawing, any output. It draws from the same values as
// the screens and computes nothing but places.
package chart

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
	"regexp"
	"sort"

	stdfont "golang.org/x/image/font"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"

	"yareharbour/core/catalogue"
	"yareharbour/plain"
)

// Drawing is a picture with its size in points.
type Drawing struct {
	Width, Height vg.Length
	Foot          string      // of which estate it is, and of when
	Cuts          []vg.Length // where it may be cut across, from its top, where it is taller than a page
	paint         func(*pen) error
}

// drawn is for what can't fail.
func drawn(paint func(*pen)) func(*pen) error {
	return func(p *pen) error { paint(p); return nil }
}

// SVG writes the drawing as SVG.
func (d Drawing) SVG(w io.Writer) error {
	c := vgsvg.New(d.Width, d.Height)
	if err := d.on(c); err != nil {
		return err
	}
	var b bytes.Buffer
	if _, err := c.WriteTo(&b); err != nil {
		return err
	}
	_, err := w.Write(comment.ReplaceAll(b.Bytes(), nil))
	return err
}

// comment is what the library says of itself.
var comment = regexp.MustCompile(`(?s)<!--.*?-->\n?`)

// on paints the drawing.
func (d Drawing) on(c vg.CanvasSizer) error {
	p := &pen{Canvas: draw.New(c), height: d.Height}
	p.box(0, 0, d.Width, d.Height, white)
	if err := d.paint(p); err != nil {
		return err
	}
	p.text(margin, d.Height-14, 7.5, left, grey, "%s", d.Foot)
	return nil
}

var (
	white  = color.RGBA{255, 255, 255, 255}
	ink    = color.RGBA{28, 38, 48, 255}
	grey   = color.RGBA{92, 102, 112, 255}
	faint  = color.RGBA{222, 228, 232, 255}
	water  = color.RGBA{36, 98, 128, 255}
	load   = color.RGBA{92, 132, 150, 255}
	alarm  = color.RGBA{172, 40, 56, 255}
	amber  = color.RGBA{188, 118, 20, 255}
	hollow = color.RGBA{200, 200, 192, 255}
)

// depthInk colours drift by the severity of what is missing. The drawing says it in numbers too.
func depthInk(s catalogue.Severity) color.RGBA {
	switch s {
	case catalogue.Critical:
		return alarm
	case catalogue.High:
		return amber
	}
	return color.RGBA{150, 148, 96, 255}
}

// pen draws with the origin at the top left, as one reads.
type pen struct {
	draw.Canvas
	height vg.Length
}

func (p *pen) box(x, y, w, h vg.Length, fill color.Color) { p.block(x, p.height-y-h, w, h, fill) }

func (p *pen) frame(x, y, w, h vg.Length, c color.Color) {
	p.line(x, y, x+w, y, 0.7, c)
	p.line(x, y+h, x+w, y+h, 0.7, c)
	p.line(x, y, x, y+h, 0.7, c)
	p.line(x+w, y, x+w, y+h, 0.7, c)
}

// hatch fills a box with slanting lines, for what colour alone would not tell apart.
func (p *pen) hatch(x, y, w, h vg.Length, c color.Color) {
	const every = 6
	for at := -h; at < w; at += every {
		x1, y1, x2, y2 := x+at, y+h, x+at+h, y
		if x1 < x {
			x1, y1 = x, y+h-(x-x1)
		}
		if x2 > x+w {
			x2, y2 = x+w, y+(x2-x-w)
		}
		if x1 < x2 {
			p.line(x1, y1, x2, y2, 0.5, c)
		}
	}
}

func (p *pen) line(x1, y1, x2, y2, width vg.Length, c color.Color, dashes ...vg.Length) {
	p.StrokeLine2(draw.LineStyle{Color: c, Width: width, Dashes: dashes}, x1, p.height-y1, x2, p.height-y2)
}

// align says where a text stands to its point.
type align = draw.XAlignment

const (
	left   = draw.XLeft
	centre = draw.XCenter
	right  = draw.XRight
)

// text writes a line of text whose middle is at height y.
func (p *pen) text(x, y, size vg.Length, a align, c color.Color, format string, args ...any) {
	p.write(x, y, size, a, c, 0, fmt.Sprintf(format, args...))
}

func (p *pen) bold(x, y, size vg.Length, a align, c color.Color, s string) {
	p.write(x, y, size, a, c, 3, s)
}

func (p *pen) write(x, y, size vg.Length, a align, c color.Color, weight int, s string) {
	p.fillText(x, p.height-y, size, a, c, weight, s)
}

// label and block draw at the canvas's own places, as plotters do: y rises.
func (p *pen) label(x, y, size vg.Length, a align, c color.Color, s string) {
	p.fillText(x, y, size, a, c, 0, s)
}

func (p *pen) block(x, y, w, h vg.Length, fill color.Color) {
	p.SetColor(fill)
	p.Fill(vg.Path{{Type: vg.MoveComp, Pos: vg.Point{X: x, Y: y}}, {Type: vg.LineComp, Pos: vg.Point{X: x + w, Y: y}},
		{Type: vg.LineComp, Pos: vg.Point{X: x + w, Y: y + h}}, {Type: vg.LineComp, Pos: vg.Point{X: x, Y: y + h}},
		{Type: vg.CloseComp}})
}

// fit shortens a text to a width at a size, where it is wider.
func (p *pen) fit(s string, size, w vg.Length) string {
	f := font.From(plot.DefaultFont, size)
	f.Variant = "Sans"
	st := text.Style{Font: f, Handler: plot.DefaultTextHandler}
	if s = plain.Line(s); st.Width(s) <= w {
		return s
	}
	r := []rune(s)
	n := sort.Search(len(r), func(n int) bool { return st.Width(string(r[:n])+"…") > w })
	return string(r[:max(0, n-1)]) + "…"
}

func (p *pen) fillText(x, y, size vg.Length, a align, c color.Color, weight int, s string) {
	f := font.From(plot.DefaultFont, size)
	f.Variant = "Sans"
	if weight > 0 {
		f.Weight = stdfont.WeightBold
	}
	st := text.Style{Color: c, Font: f, XAlign: a, YAlign: draw.YCenter, Handler: plot.DefaultTextHandler}
	p.FillText(st, vg.Point{X: x, Y: y}, plain.Line(s))
}
