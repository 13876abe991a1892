package export

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"codeberg.org/go-pdf/fpdf"

	"yareharbour/chart"
	"yareharbour/core/view"
	"yareharbour/docs"
	"yareharbour/plain"
)

// Papers are the sizes of a page.
var Papers = []string{"a4", "letter"}

// sides of the pages, in points.
var sheets = map[string]fpdf.SizeType{"a4": {Wd: 595.28, Ht: 841.89}, "letter": {Wd: 612, Ht: 792}}

const (
	edge   = 42.0 // of a page, left free
	body   = 8.5  // size of the text
	height = 11.5 // of a line of it
	cell   = 5.0  // between two columns
)

// page sets a document on pages.
type page struct {
	f     *fpdf.Fpdf
	d     *view.Document
	w, h  float64 // of what may be written on
	sheet fpdf.SizeType

	style   string // of the font that is set, and its size
	size    float64
	letters map[string]map[rune]float64 // how wide each is at the size 1, by style

	links    map[string]int // to the explanations of words
	explains bool           // what is set now are those
}

// PDF writes a document on pages: a title, what it is of, and its blocks one below the other. Fonts are embedded, and text
// is text.
func PDF(w io.Writer, d view.Document) error {
	sheet, ok := sheets[d.Paper]
	if !ok {
		sheet = sheets["a4"]
	}
	all := blocks(&d)
	p := newPage(&d, sheet)
	if p.wide(all) {
		p = newPage(&d, fpdf.SizeType{Wd: sheet.Ht, Ht: sheet.Wd})
	}
	f := p.f
	f.SetCatalogSort(true)
	if !d.At.IsZero() {
		f.SetCreationDate(d.At)
		f.SetModificationDate(d.At)
	} else {
		f.SetCreationDate(time.Unix(0, 0))
		f.SetModificationDate(time.Unix(0, 0))
	}
	f.SetTitle(plain.Line(title(&d)), true)
	f.SetAuthor(plain.Line(d.Estate), true)
	f.SetSubject(plain.Line(strings.Join(d.Subjects, ", ")), true)
	f.SetCreator("yare", true)
	f.SetLang("en")
	f.SetMargins(edge, edge, edge)
	f.SetAutoPageBreak(false, 0)
	f.SetFooterFunc(p.foot)
	f.AliasNbPages("{n}")
	f.AddPage()
	for _, word := range explained(all) {
		p.links[word] = f.AddLink()
	}
	p.head()
	for _, b := range all {
		if err := p.block(b); err != nil {
			return err
		}
	}
	if d.Signed {
		p.sign()
	}
	return f.Output(w)
}

func newPage(d *view.Document, sheet fpdf.SizeType) *page {
	f := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: sheet})
	chart.Fonts(f)
	return &page{f: f, d: d, letters: map[string]map[rune]float64{}, links: map[string]int{}, sheet: sheet, w: sheet.Wd - 2*edge, h: sheet.Ht - 2*edge - 14}
}

// wide tells whether a table of the document has columns for which an upright page is too narrow: their headings and what is
// short in them alone.
func (p *page) wide(all []view.Block) bool {
	for _, b := range all {
		if b.Table == nil || len(b.Table.Rows) == 0 {
			continue
		}
		heads, rows := cells(b.Table, shown(b.Table))
		sum := 0.0
		for i, w := range p.natural(heads, rows) {
			sum += max(min(w, 110), p.floor(heads, i)) + cell
		}
		if sum > p.w*1.1 {
			return true
		}
	}
	return false
}

// title is what a document is called.
func title(d *view.Document) string {
	if d.Title != "" {
		return d.Title
	}
	return strings.TrimSpace(strings.ToUpper(d.Name[:1]) + d.Name[1:] + " " + strings.Join(d.Subjects, ", "))
}

// blocks are what a document is made of when it is set on pages: a drawing of it comes first, where its text does not say
// where it belongs.
func blocks(d *view.Document) []view.Block {
	out := d.Text
	if out == nil {
		out = []view.Block{{Table: &d.Table}, {Lines: d.Foot}}
	}
	tabled := func(b view.Block) bool { return b.Table != nil }
	if t, is := d.Drawing.(view.Table); is && !slices.ContainsFunc(out, tabled) { // what is set in columns by blanks is for a terminal
		out = []view.Block{{Table: &t}, {Lines: d.Foot}}
	}
	out = append(slices.Clone(out), meanings(d)...)
	for _, b := range out {
		if b.Drawing != nil {
			return out
		}
	}
	if _, is := chart.Picture(*d, d.Drawing); is {
		out = append([]view.Block{{Drawing: d.Drawing}}, out...)
	}
	return out
}

// meanings say what the words of a document mean, as the manual has it.
func meanings(d *view.Document) (out []view.Block) {
	t := view.Table{Columns: view.Columns("word", "it means"), Headless: true}
	for _, topic := range d.Topics {
		found := docs.Find(topic)
		if d.Name != "prechecks" { // a verdict may be called as a check is
			found = slices.DeleteFunc(found, func(f docs.Found) bool { return !strings.HasPrefix(f.Text, "|") })
		}
		for _, f := range found {
			if says, is := docs.Means(f); is {
				t.Rows = append(t.Rows, []any{topic, says})
				break
			}
		}
	}
	if len(t.Rows) == 0 {
		return nil
	}
	return []view.Block{{Head: "What the words mean", Explains: true, Table: &t, Lines: []string{"The manual tells more: yare help WORD."}}}
}

// explained are the words whose meanings blocks say.
func explained(all []view.Block) (out []string) {
	for _, b := range all {
		if b.Explains {
			for _, row := range b.Table.Rows {
				out = append(out, view.Shown(row[0]))
			}
		}
	}
	return out
}

func (p *page) font(style string, size float64, ink int) {
	p.style, p.size = style, size
	p.f.SetFont(chart.Face, style, size)
	p.f.SetTextColor(ink, ink+6, ink+12)
}

const (
	black = 28
	soft  = 92
)

func (p *page) head() {
	p.font("B", 17, black)
	p.lines(title(p.d), 0, 20)
	p.font("", 9, soft)
	if s := p.d.Stamp(); s != "" {
		p.lines(s, 0, 13)
	}
	if p.d.Sum != "" {
		p.font("", 9, black)
		p.lines(p.d.Sum, 0, 13)
	}
	p.f.SetY(p.f.GetY() + 6)
}

func (p *page) foot() {
	p.f.SetY(p.sheet.Ht - edge + 4)
	p.font("", 7.5, soft)
	left := strings.TrimPrefix(p.d.Stamp()+" – "+title(p.d), " – ")
	p.f.SetX(edge)
	p.f.CellFormat(p.w-90, 10, p.fit(left, p.w-90), "", 0, "L", false, 0, "")
	p.f.CellFormat(90, 10, fmt.Sprintf("page %d of {n}", p.f.PageNo()), "", 0, "R", false, 0, "")
}

// fit shortens a text to a width.
func (p *page) fit(s string, w float64) string {
	if s = plain.Line(s); p.width(s) <= w {
		return s
	}
	r := []rune(s)
	for len(r) > 0 && p.width(string(r)+"…") > w {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}

// room begins a new page where less than that is left on this one.
func (p *page) room(needs float64) {
	if p.f.GetY()+needs > edge+p.h {
		p.f.AddPage()
	}
}

// lines writes a text within the page, set in by so much, over as many lines as it takes.
func (p *page) lines(s string, in, height float64) {
	for _, l := range p.broken(s, p.w-in) {
		p.room(height)
		p.f.SetX(edge + in)
		p.f.CellFormat(p.w-in, height, l, "", 1, "L", false, 0, "")
	}
}

// width is how wide a text is in the font that is set. Letters are measured once.
func (p *page) width(s string) (sum float64) {
	for _, r := range s {
		sum += p.letter(r)
	}
	return sum
}

func (p *page) letter(r rune) float64 {
	w, known := p.letters[p.style][r]
	if !known {
		w = p.f.GetStringWidth(string(r)) / p.size
		if p.letters[p.style] == nil {
			p.letters[p.style] = map[rune]float64{}
		}
		p.letters[p.style][r] = w
	}
	return w * p.size
}

// broken breaks a text into lines of a width: between words, and within one that is longer than a line.
func (p *page) broken(s string, w float64) (out []string) {
	line, wide, blank := "", 0.0, p.letter(' ')
	for word := range strings.FieldsSeq(plain.Line(s)) {
		n := p.width(word)
		if line != "" && wide+blank+n <= w {
			line, wide = line+" "+word, wide+blank+n
			continue
		}
		if line != "" {
			out = append(out, line)
		}
		line, wide = word, n
		if n <= w {
			continue
		}
		from, sum := 0, 0.0
		for i, r := range word {
			if l := p.letter(r); sum+l > w && i > from {
				out = append(out, word[from:i])
				from, sum = i, l
			} else {
				sum += l
			}
		}
		line, wide = word[from:], sum
	}
	return append(out, line)
}

func (p *page) block(b view.Block) error {
	if b.Head != "" {
		p.room(64) // and something below it
		p.f.SetY(p.f.GetY() + 8)
		p.font("B", 11, black)
		p.lines(b.Head, 0, 15)
	}
	p.font("", body, black)
	for _, l := range b.Lines {
		text := strings.TrimLeft(l, " ")
		if text == "" {
			p.f.SetY(p.f.GetY() + height/2)
			continue
		}
		p.lines(text, float64(len(l)-len(text))*4, height)
	}
	if b.Table != nil {
		p.explains = b.Explains
		p.table(b.Table)
		p.explains = false
	}
	if d, is := chart.Picture(*p.d, b.Drawing); is {
		return p.drawing(d)
	}
	return nil
}

// drawing sets a drawing on the page, smaller where it is wider than that, and cut over several pages where it is taller.
func (p *page) drawing(d chart.Drawing) error {
	w, h := float64(d.Width), float64(d.Height)
	scale := min(1, p.w/w)
	left := edge + p.h - p.f.GetY()
	cuttable := len(d.Cuts) > 0 && float64(d.Cuts[0])*scale < left
	switch {
	case h*scale <= left:
	case h*scale <= p.h && !cuttable:
		p.f.AddPage()
	case left < 120:
		p.f.AddPage()
	}
	for top := 0.0; top < h; {
		most := (edge + p.h - p.f.GetY()) / scale
		end := h
		if h-top > most {
			end = top + most
			for _, c := range d.Cuts { // between two of its parts
				if at := float64(c); at > top && at <= top+most {
					end = at
				}
			}
		}
		y := p.f.GetY()
		p.f.ClipRect(edge, y, p.w, (end-top)*scale, false)
		if err := d.Draw(p.f, edge, y-top*scale, scale); err != nil {
			return err
		}
		p.f.ClipEnd()
		p.f.SetXY(edge, y+(end-top)*scale+6)
		if top = end; top < h {
			p.f.AddPage()
		}
	}
	return nil
}

// table sets a table in columns as wide as they need, as far as there is room: the widest give way first, and their cells
// are broken into lines. The headings stand on each page.
func (p *page) table(t *view.Table) {
	if len(t.Rows) == 0 {
		if t.Empty != "" || !t.Headless {
			p.lines(orElse(t.Empty, "nothing to show"), 0, height)
		}
		return
	}
	heads, rows := cells(t, shown(t))
	widths := p.widths(heads, rows)
	if !t.Headless {
		p.row(heads, widths, "B", nil)
	}
	for _, r := range rows {
		p.row(r, widths, "", func() {
			if !t.Headless {
				p.row(heads, widths, "B", nil)
			}
		})
	}
	p.f.SetY(p.f.GetY() + 4)
}

func orElse(s, other string) string {
	if s == "" {
		return other
	}
	return s
}

// cells are the headings and rows of a table, as people read them.
func cells(t *view.Table, columns []int) (heads []string, rows [][]string) {
	for _, i := range columns {
		if !t.Headless {
			heads = append(heads, strings.ReplaceAll(t.Columns[i].Name, "_", " "))
		}
	}
	for _, r := range t.Rows {
		var row []string
		for _, i := range columns {
			text := plain.Line(view.Shown(r[i]))
			if t.Headless && r[i] == "" {
				text = ""
			}
			row = append(row, text)
		}
		rows = append(rows, row)
	}
	return heads, rows
}

// shown are the columns of a table that has rows, by their places.
func shown(t *view.Table) []int {
	if !t.Headless {
		return t.Stands(view.Text)
	}
	var out []int
	for i := range t.Rows[0] {
		out = append(out, i)
	}
	return out
}

// natural is how wide columns would be with each cell on one line.
func (p *page) natural(heads []string, rows [][]string) []float64 {
	out := make([]float64, len(rows[0]))
	p.font("B", body, black)
	for i, h := range heads {
		out[i] = p.width(h) + 2
	}
	p.font("", body, black)
	for _, r := range rows {
		for i, c := range r {
			out[i] = max(out[i], p.width(c)+2)
		}
	}
	return out
}

// floor is how narrow a column may be made: no word of its heading is broken.
func (p *page) floor(heads []string, i int) float64 {
	least := 14.0
	if i < len(heads) {
		p.font("B", body, black)
		for w := range strings.FieldsSeq(heads[i]) {
			least = max(least, p.width(w)+2)
		}
		p.font("", body, black)
	}
	return least
}

// widths are those of the columns, as wide as they need as far as there is room: the widest give way first.
func (p *page) widths(heads []string, rows [][]string) []float64 {
	out := p.natural(heads, rows)
	room := p.w - cell*float64(len(out)-1)
	for {
		sum, widest := 0.0, -1
		for i, w := range out {
			if sum += w; w > p.floor(heads, i)+0.5 && (widest < 0 || w > out[widest]) {
				widest = i
			}
		}
		if sum <= room+0.01 || widest < 0 {
			return out
		}
		second := p.floor(heads, widest)
		for i, w := range out {
			if i != widest && w < out[widest] {
				second = max(second, w)
			}
		}
		out[widest] = max(out[widest]-max(min(sum-room, out[widest]-second), 1), p.floor(heads, widest))
	}
}

// row writes a row; again is what stands at the top of the next page, where it begins there.
func (p *page) row(texts []string, widths []float64, style string, again func()) {
	p.font(style, body, black)
	broken, most := make([][]string, len(texts)), 1
	for i, c := range texts {
		broken[i] = p.broken(c, widths[i])
		most = max(most, len(broken[i]))
	}
	for from := 0; from < most; {
		left := int((edge + p.h - p.f.GetY()) / height)
		if left < min(most-from, 40) && again != nil && left < 40 {
			p.f.AddPage()
			again()
			p.font(style, body, black)
			left = int((edge + p.h - p.f.GetY()) / height)
		}
		n := min(most-from, max(left, 1))
		y := p.f.GetY()
		x := edge
		for i := range texts {
			for j := from; j < min(from+n, len(broken[i])); j++ {
				p.f.SetXY(x, y+float64(j-from)*height)
				link, known := p.links[texts[i]]
				if known && p.explains {
					if i == 0 {
						p.f.SetLink(link, y, p.f.PageNo())
					}
					link = 0
				}
				p.f.CellFormat(widths[i], height, broken[i][j], "", 0, "L", false, link, "")
			}
			x += widths[i] + cell
		}
		from += n
		p.f.SetXY(edge, y+float64(n)*height)
		p.f.SetDashPattern(nil, 0)
		p.f.SetLineWidth(0.3)
		p.f.SetDrawColor(222, 228, 232)
		p.f.Line(edge, p.f.GetY(), edge+p.w, p.f.GetY())
	}
}

// sign is the last page: who has done it, seen it and accepts it.
func (p *page) sign() {
	p.f.AddPage()
	p.font("B", 14, black)
	p.lines("To be signed", 0, 20)
	p.font("", 9, black)
	p.lines(title(p.d)+". "+p.d.Stamp(), 0, 13)
	for _, who := range []string{"Carried out by", "Checked by", "Accepted by"} {
		p.f.SetY(p.f.GetY() + 46)
		y := p.f.GetY()
		p.f.SetDashPattern(nil, 0)
		p.f.SetLineWidth(0.6)
		p.f.SetDrawColor(92, 98, 104)
		for i, x := range []float64{edge, edge + p.w*0.42, edge + p.w*0.78} {
			w := []float64{p.w * 0.38, p.w * 0.32, p.w * 0.22}[i]
			p.f.Line(x, y, x+w, y)
			p.font("", 7.5, soft)
			p.f.SetXY(x, y+2)
			p.f.CellFormat(w, 10, []string{who + ": name", "signature", "date"}[i], "", 0, "L", false, 0, "")
		}
	}
}
