package export

import (
	"bytes"
	_ "embed"
	"html/template"
	"io"
	"slices"
	"strings"

	"yareharbour/chart"
	"yareharbour/core/view"
	"yareharbour/plain"
)

//go:embed document.html
var documentHTML string

var documentTemplate = template.Must(template.New("document").Funcs(template.FuncMap{"line": plain.Line}).Parse(documentHTML))

// part is a block as the template takes it.
type part struct {
	Head  string
	Lines []indented
	Heads []string
	Rows  [][]entry
	Empty string
	SVG   template.HTML
}

// entry is a cell, with what it links to in the document, and by what it is found itself.
type entry struct{ Text, To, ID string }

// anchor is by what the explanation of a word is found in a document.
func anchor(word string) string { return "word-" + strings.ReplaceAll(word, " ", "-") }

type indented struct {
	In   int
	Text string
}

// HTML writes a document as one file that needs nothing from outside: its drawings are in it, as SVG.
func HTML(w io.Writer, d view.Document) error {
	var parts []part
	all := blocks(&d)
	words := explained(all)
	for _, b := range all {
		x := part{Head: b.Head}
		for _, l := range b.Lines {
			text := strings.TrimLeft(l, " ")
			x.Lines = append(x.Lines, indented{(len(l) - len(text)) / 2, plain.Line(text)})
		}
		if t := b.Table; t != nil && len(t.Rows) > 0 {
			heads, rows := cells(t, shown(t))
			x.Heads = heads
			for _, r := range rows {
				var row []entry
				for i, text := range r {
					e := entry{Text: text}
					switch known := slices.Contains(words, text); {
					case known && b.Explains && i == 0:
						e.ID = anchor(text)
					case known && !b.Explains:
						e.To = "#" + anchor(text)
					}
					row = append(row, e)
				}
				x.Rows = append(x.Rows, row)
			}
		} else if t != nil && !t.Headless {
			x.Empty = orElse(t.Empty, "nothing to show")
		}
		if p, is := chart.Picture(d, b.Drawing); is {
			var svg bytes.Buffer
			if err := p.SVG(&svg); err != nil {
				return err
			}
			text := svg.String()
			if i := strings.Index(text, "<svg"); i > 0 {
				text = text[i:]
			}
			x.SVG = template.HTML(text) //nolint:gosec // what is in a drawing was escaped by who writes SVG, and is tested with hostile names
		}
		parts = append(parts, x)
	}
	return documentTemplate.Execute(w, struct {
		Title, Stamp, Sum string
		Parts             []part
		Signed            bool
	}{plain.Line(title(&d)), plain.Line(d.Stamp()), plain.Line(d.Sum), parts, d.Signed})
}
