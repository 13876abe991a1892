package view

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/narrow"
)

// Document is something that is shown, for every form in which it can be: JSON is its value, CSV its table, text its
// text or its table, SVG and PDF its drawing or its table. It is made once; whoever writes it computes nothing.
type Document struct {
	Name     string   // what it is, as drift or plan: names of files begin with it
	Subjects []string // what it is about: they follow in names of files
	Title    string   // of a drawing, and of a document
	Sum      string   // what it comes to in a sentence, where its text does not begin with that
	Value    any
	Table    Table
	Text     []Block  // none: the table
	Foot     []string // what stands below the table in a text
	Drawing  any      // survey.Survey, ladder.Ladder, Timeline or Trend; nil: the table
	Topics   []string // of the manual, that explain its words: a document says what they mean
	Signed   bool     // as a document it ends with a page to sign
	Paper    string   // the size of its pages; "": A4

	// Of which estate it is, and at what moment, in whose zone its times are shown.
	Estate string
	At     time.Time

	narrowed func(lets func(narrow.Subject) bool) Document // nil: it was narrowed when it was made
}

// Stamp says of which estate a document is, and of what moment; "" where that is not known.
func (d *Document) Stamp() string {
	if d.At.IsZero() {
		return d.Estate
	}
	return strings.TrimPrefix(d.Estate+", "+d.At.Local().Format("Mon 2 Jan 2006 15:04 MST (UTC-07:00)"), ", ")
}

// Block is lines of text, a table or a drawing among them, under a heading where it has one. A text leaves drawings out.
type Block struct {
	Head    string
	Lines   []string
	Table   *Table
	Drawing any
	// Explains tells that the table says what words mean: elsewhere in a document they lead here.
	Explains bool
}

// Lines is a block of lines.
func Lines(lines ...string) Block { return Block{Lines: lines} }

// Table is rows in columns. A cell is a string, an int, a bool, a time.Time, Bytes, or a []string.
type Table struct {
	Columns  []Column
	Rows     [][]any
	Empty    string // what stands in a text where there are no rows; "": the headings
	Headless bool   // without headings in a text, and set in
	Grouped  bool   // rows of a drawing stand under headings: the first cell, where it is another
}

// Column is a column of a table.
type Column struct {
	Name string // in a text in capitals, with blanks for underscores
	In   Form
}

// Form tells where a column stands.
type Form int

// A column stands in texts and in data (CSV), or in one of them.
const (
	Both Form = iota
	Text
	Data
)

// Columns are columns that stand everywhere.
func Columns(names ...string) []Column {
	out := make([]Column, len(names))
	for i, n := range names {
		out[i].Name = n
	}
	return out
}

// Bytes is a size. People read it with a unit; data has the number.
type Bytes int64

// Shown is a cell as people read it: times in their zone, a dash for nothing.
func Shown(cell any) string {
	out := ""
	switch c := cell.(type) {
	case string:
		out = c
	case []string:
		out = strings.Join(c, ", ")
	case int:
		out = strconv.Itoa(c)
	case Bytes:
		out = catalogue.Bytes(int64(c))
	case time.Time:
		if !c.IsZero() {
			out = c.Local().Format("2006-01-02 15:04:05 MST")
		}
	case bool:
		out = yes(c)
	default:
		out = fmt.Sprint(c)
	}
	return OrDash(out)
}

// Written is a cell as programs read it: times by RFC 3339, sizes in bytes, nothing for nothing.
func Written(cell any) string {
	switch c := cell.(type) {
	case []string:
		return strings.Join(c, " ")
	case Bytes:
		return strconv.FormatInt(int64(c), 10)
	case time.Time:
		if c.IsZero() {
			return ""
		}
		return c.Format(time.RFC3339)
	case string:
		return c
	case bool:
		return yes(c)
	}
	return fmt.Sprint(cell)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

// Stands tells which columns stand in a form, by their places.
func (t *Table) Stands(in Form) (out []int) {
	for i, c := range t.Columns {
		if c.In == Both || c.In == in {
			out = append(out, i)
		}
	}
	return out
}

// List makes a document of a list: its value is the items, and its table a row for each. JSON of none is an empty list.
func List[T any](name string, items []T, columns []Column, row func(*T) []any) Document {
	return listed(name, items, columns, row, func([]T) []string { return nil })
}

// listed is a List with what stands below it.
func listed[T any](name string, items []T, columns []Column, row func(*T) []any, foot func([]T) []string) Document {
	d := Document{Name: name, Title: name, Value: append([]T{}, items...), Table: Table{Columns: columns}}
	for i := range items {
		d.Table.Rows = append(d.Table.Rows, row(&items[i]))
	}
	if len(items) > 0 {
		d.Foot = foot(items)
	}
	d.narrowed = func(lets func(narrow.Subject) bool) Document {
		var some []T
		for i := range items {
			if lets(subject(columns, d.Table.Rows[i])) {
				some = append(some, items[i])
			}
		}
		out := listed(name, some, columns, row, foot)
		out.Subjects, out.Title, out.Table.Empty, out.Estate, out.At = d.Subjects, d.Title, d.Table.Empty, d.Estate, d.At
		return out
	}
	return d
}

// Narrow leaves in a list what the filter lets through, by what its columns are called. What is no list was narrowed
// when it was made.
func (d Document) Narrow(f narrow.Filter) Document {
	if f.Empty() || d.narrowed == nil {
		return d
	}
	out := d.narrowed(f.Lets)
	if hidden := len(d.Table.Rows) - len(out.Table.Rows); hidden > 0 {
		out.Text = append(out.Text, Block{Table: &out.Table}, Lines(out.Foot...),
			Lines(fmt.Sprintf("narrowed to %q, %d of %d shown", f, len(out.Table.Rows), len(d.Table.Rows))))
	}
	return out
}

// subject is what a filter looks at in a row.
func subject(columns []Column, row []any) narrow.Subject {
	s := narrow.Subject{Age: -1}
	for i, c := range columns {
		switch text := Written(row[i]); c.Name {
		case "host":
			s.Hosts = []string{text}
		case "hosts":
			s.Hosts, _ = row[i].([]string)
		case "component":
			s.Component = estate.Key(text)
		case "vendor":
			s.Vendor = text
		case "verdict":
			s.Verdicts = []string{text}
		case "severity":
			s.Severity, _ = catalogue.ParseSeverity(text)
		default:
			s.Words = append(s.Words, text)
		}
	}
	return s
}

// OrDash is the text, or a dash for none.
func OrDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// said gathers lines of a text.
type said []string

func (s *said) add(format string, args ...any) { *s = append(*s, fmt.Sprintf(format, args...)) }

// day is a date as YYYY-MM-DD; "" for none.
func day(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Format(time.DateOnly)
}

// some is a list that JSON writes as one, whatever there is of it.
func some[T any](list []T) []T { return append([]T{}, list...) }
