// Package export writes documents in each of their forms: as text, CSV and JSON, on pages as HTML and PDF, and as a drawing. It writes
// what a document holds, and reads and computes nothing. docs/formats.md describes the fields.
package export

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/google/renameio/v2"

	"yareharbour/chart"
	"yareharbour/core/view"
	"yareharbour/plain"
)

// Formats are the forms of a document.
var Formats = []string{"text", "csv", "json", "svg", "pdf", "html"}

// Format is the form of a file, one of several, by the ending of its name; "" where that says nothing.
func Format(file string, forms []string) string {
	for _, f := range forms {
		if strings.HasSuffix(file, "."+f) || strings.HasSuffix(file, "."+Extension(f)) {
			return f
		}
	}
	return ""
}

// Extension is the ending of a file of that format, without the dot.
func Extension(format string) string {
	if format == "text" {
		return "txt"
	}
	return format
}

// notInName is what has no place in the name of a file, whatever a host or a component calls itself.
var notInName = regexp.MustCompile(`[^A-Za-z0-9.-]+`)

// FileName names a file after the document, what it is about, and the estate's time.
func FileName(d view.Document, at time.Time, format string) string {
	name := d.Name
	for _, s := range d.Subjects {
		if s != "" {
			name += "-" + notInName.ReplaceAllString(s, "_")
		}
	}
	return fmt.Sprintf("yare-%s-%s.%s", name, at.Format("20060102-1504"), Extension(format))
}

// WriteFile writes a file, whole or not at all. What a link points to is written; what is there and is no file, as a device or
// a pipe, is written into, and never replaced.
func WriteFile(file string, b []byte) error {
	if to, err := filepath.EvalSymlinks(file); err == nil {
		file = to
	}
	is, err := os.Stat(file)
	if err == nil && !is.Mode().IsRegular() {
		var f *os.File
		if f, err = os.OpenFile(file, os.O_WRONLY, 0); err == nil {
			_, err = f.Write(b)
			err = errors.Join(err, f.Close())
		}
	} else {
		err = renameio.WriteFile(file, b, 0o644)
	}
	if at := (*fs.PathError)(nil); errors.As(err, &at) {
		err = at.Err // the path is of a file beside it
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", file, err)
	}
	return nil
}

// Write writes a document in one of Formats.
func Write(w io.Writer, d view.Document, format string) error {
	switch format {
	case "json":
		return JSON(w, d.Value)
	case "csv":
		return table(w, &d.Table)
	case "pdf":
		return PDF(w, d)
	case "html":
		return HTML(w, d)
	case "text":
		if d.Text == nil {
			if err := text(w, &d.Table); err != nil {
				return err
			}
			return lines(w, d.Foot)
		}
		for _, b := range d.Text {
			if b.Head != "" {
				if _, err := fmt.Fprintln(w, "\n"+plain.Line(b.Head)); err != nil {
					return err
				}
			}
			if err := lines(w, b.Lines); err != nil {
				return err
			}
			if b.Table == nil {
				continue
			}
			if err := text(w, b.Table); err != nil {
				return err
			}
		}
		return nil
	}
	return chart.Of(d).SVG(w)
}

func lines(w io.Writer, all []string) error {
	for _, l := range all {
		if _, err := fmt.Fprintln(w, plain.Line(l)); err != nil {
			return err
		}
	}
	return nil
}

// text writes a table for reading, in columns.
func text(w io.Writer, t *view.Table) error {
	if len(t.Rows) == 0 && (t.Headless || t.Empty != "") {
		if t.Empty == "" {
			return nil
		}
		_, err := fmt.Fprintln(w, t.Empty)
		return err
	}
	var out bytes.Buffer
	tw := tabwriter.NewWriter(&out, 0, 0, 2, ' ', 0)
	columns := t.Stands(view.Text)
	if !t.Headless {
		var heads []string
		for _, i := range columns {
			heads = append(heads, strings.ToUpper(strings.ReplaceAll(t.Columns[i].Name, "_", " ")))
		}
		fmt.Fprintln(tw, strings.Join(heads, "\t"))
	}
	for _, row := range t.Rows {
		var cells []string
		if t.Headless {
			for _, c := range row {
				cells = append(cells, plain.Line(view.Shown(c)))
				if c == "" {
					cells[len(cells)-1] = ""
				}
			}
			cells[0] = "  " + cells[0]
		} else {
			for _, i := range columns {
				cells = append(cells, plain.Line(view.Shown(row[i])))
			}
		}
		fmt.Fprintln(tw, strings.Join(cells, "\t"))
	}
	if err := tw.Flush(); err != nil {
		return err
	}
	for line := range strings.Lines(out.String()) {
		if _, err := fmt.Fprintln(w, strings.TrimRight(line, " \n")); err != nil {
			return err
		}
	}
	return nil
}

// table writes rows as CSV (RFC 4180: lines end in CRLF), with a header. A cell is one line, and never a formula to a
// spreadsheet.
func table(w io.Writer, t *view.Table) error {
	c := csv.NewWriter(w)
	c.UseCRLF = true
	columns := t.Stands(view.Data)
	cells := make([]string, len(columns))
	for n, i := range columns {
		cells[n] = t.Columns[i].Name
	}
	_ = c.Write(cells) // its error is kept
	for _, row := range t.Rows {
		for n, i := range columns {
			cells[n] = plain.Cell(view.Written(row[i]))
		}
		_ = c.Write(cells)
	}
	c.Flush()
	return c.Error()
}

// JSON writes a value as indented JSON. What is hostile in its texts stands there as escapes.
func JSON(w io.Writer, v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(listed(v)); err != nil {
		return err
	}
	_, err := w.Write(plain.JSON(b.Bytes()))
	return err
}
