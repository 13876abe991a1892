package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"

	"yareharbour/format/plain"
)

// Rows writes rows as CSV (RFC 4180: lines end in CRLF). A cell is one line, and never a formula to a spreadsheet.
func Rows(w io.Writer, rows [][]string) error {
	c := csv.NewWriter(w)
	c.UseCRLF = true
	for _, r := range rows {
		cells := make([]string, len(r))
		for i := range r {
			cells[i] = plain.Cell(r[i])
		}
		if err := c.Write(cells); err != nil {
			return err
		}
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
	if err := e.Encode(v); err != nil {
		return err
	}
	_, err := w.Write(plain.JSON(b.Bytes()))
	return err
}

// stamp is how a time is shown: with its zone.
const stamp = "2006-01-02 15:04:05 MST"
