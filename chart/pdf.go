package chart

import (
	"image"
	"image/color"
	"math"

	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
	stdfont "golang.org/x/image/font"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/vg"

	"yareharbour/plain"
)

// Face is the family in which texts of a PDF are set, in "" and "B"; both are embedded, as far as they are used.
const Face = "sans"

// Fonts embeds the family in a PDF.
func Fonts(f *fpdf.Fpdf) {
	f.AddUTF8FontFromBytes(Face, "", liberationsansregular.TTF)
	f.AddUTF8FontFromBytes(Face, "B", liberationsansbold.TTF)
}

// canvas paints on a page of a PDF whose unit is the point. It is what drawings need of vg.Canvas, with the place and the
// size at which they are to stand.
type canvas struct {
	f     *fpdf.Fpdf
	width vg.Length // of the drawing
	tall  vg.Length
	at    affine
	kept  []affine
	ink   color.Color
	thick vg.Length
	dash  []vg.Length
	off   vg.Length
}

// affine maps a point of the drawing to one of the page, from the page's upper left corner.
type affine struct{ a, b, c, d, e, f float64 }

func (m affine) of(p vg.Point) (x, y float64) {
	return m.a*float64(p.X) + m.c*float64(p.Y) + m.e, m.b*float64(p.X) + m.d*float64(p.Y) + m.f
}

// times is m after n.
func (m affine) times(n affine) affine {
	return affine{m.a*n.a + m.c*n.b, m.b*n.a + m.d*n.b, m.a*n.c + m.c*n.d, m.b*n.c + m.d*n.d, m.a*n.e + m.c*n.f + m.e, m.b*n.e + m.d*n.f + m.f}
}

func (m affine) scale() float64 { return math.Sqrt(math.Abs(m.a*m.d - m.b*m.c)) }

// Draw paints the drawing on the current page with its upper left corner at x and y, in points, at a scale.
func (d Drawing) Draw(f *fpdf.Fpdf, x, y, scale float64) error {
	return d.on(&canvas{f: f, width: d.Width, tall: d.Height, ink: color.Black, thick: 1,
		at: affine{a: scale, d: -scale, e: x, f: y + scale*float64(d.Height)}})
}

func (c *canvas) Size() (w, h vg.Length)                   { return c.width, c.tall }
func (c *canvas) SetLineWidth(w vg.Length)                 { c.thick = w }
func (c *canvas) SetLineDash(d []vg.Length, off vg.Length) { c.dash, c.off = d, off }
func (c *canvas) SetColor(k color.Color)                   { c.ink = k }
func (c *canvas) Push()                                    { c.kept = append(c.kept, c.at) }
func (c *canvas) Pop()                                     { c.at, c.kept = c.kept[len(c.kept)-1], c.kept[:len(c.kept)-1] }
func (c *canvas) Translate(p vg.Point) {
	c.at = c.at.times(affine{1, 0, 0, 1, float64(p.X), float64(p.Y)})
}
func (c *canvas) Scale(x, y float64)                  { c.at = c.at.times(affine{x, 0, 0, y, 0, 0}) }
func (c *canvas) DrawImage(vg.Rectangle, image.Image) {} // no drawing has one
func (c *canvas) Rotate(rad float64) {
	sin, cos := math.Sincos(rad)
	c.at = c.at.times(affine{cos, sin, -sin, cos, 0, 0})
}

func rgb(k color.Color) (r, g, b int) {
	x := color.NRGBAModel.Convert(k).(color.NRGBA) //nolint:errcheck // it is what the model makes
	return int(x.R), int(x.G), int(x.B)
}

func (c *canvas) Stroke(p vg.Path) {
	if c.thick <= 0 {
		return
	}
	s := c.at.scale()
	dash := make([]float64, len(c.dash))
	for i, d := range c.dash {
		dash[i] = float64(d) * s
	}
	c.f.SetDashPattern(dash, float64(c.off)*s)
	c.f.SetLineWidth(float64(c.thick) * s)
	c.f.SetDrawColor(rgb(c.ink))
	c.trace(p)
	c.f.DrawPath("D")
}

func (c *canvas) Fill(p vg.Path) {
	c.f.SetFillColor(rgb(c.ink))
	c.trace(p)
	c.f.DrawPath("F")
}

func (c *canvas) trace(p vg.Path) {
	for _, s := range p {
		x, y := c.at.of(s.Pos)
		switch s.Type {
		case vg.MoveComp:
			c.f.MoveTo(x, y)
		case vg.LineComp:
			c.f.LineTo(x, y)
		case vg.ArcComp: // by short lines
			const steps = 24
			for i := range steps + 1 {
				a := s.Start + s.Angle*float64(i)/steps
				x, y := c.at.of(vg.Point{X: s.Pos.X + s.Radius*vg.Length(math.Cos(a)), Y: s.Pos.Y + s.Radius*vg.Length(math.Sin(a))})
				c.f.LineTo(x, y)
			}
		case vg.CurveComp:
			if len(s.Control) == 2 {
				ax, ay := c.at.of(s.Control[0])
				bx, by := c.at.of(s.Control[1])
				c.f.CurveBezierCubicTo(ax, ay, bx, by, x, y)
			}
		case vg.CloseComp:
			c.f.ClosePath()
		}
	}
}

func (c *canvas) FillString(f font.Face, at vg.Point, s string) {
	style := ""
	if f.Font.Weight == stdfont.WeightBold {
		style = "B"
	}
	s = plain.Line(s)
	c.f.SetFont(Face, style, float64(f.Font.Size)*c.at.scale())
	c.f.SetTextColor(rgb(c.ink))
	x, y := c.at.of(at)
	turned := math.Atan2(-c.at.b, c.at.a) * 180 / math.Pi
	if math.Abs(turned) > 0.01 {
		c.f.TransformBegin()
		c.f.TransformRotate(turned, x, y)
		defer c.f.TransformEnd()
	}
	c.f.Text(x, y, s)
}
