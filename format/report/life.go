package report

import (
	"fmt"
	"io"
	"time"

	"yareharbour/core/drift"
	"yareharbour/format/plain"
)

// Life writes what changed on a host as text, csv or json. A life has no drawing.
func Life(w io.Writer, host string, turns []drift.Turn, format string) error {
	switch format {
	case "json":
		if turns == nil {
			turns = []drift.Turn{}
		}
		return JSON(w, map[string]any{"host": host, "life": turns})
	case "csv":
		rows := [][]string{{"host", "at", "component", "device", "from", "to"}}
		for _, t := range turns {
			rows = append(rows, []string{host, t.At.Format(time.RFC3339), string(t.Component), t.Device, t.From, t.To})
		}
		return Rows(w, rows)
	case "text":
	default:
		return fmt.Errorf("a life has no form %q; there are text, csv and json", format)
	}
	if len(turns) == 0 {
		_, err := plain.Fprintf(w, "nothing changed on %s since it was first read\n", host)
		return err
	}
	for _, t := range turns {
		if _, err := plain.Fprintf(w, "%s  %s  %s → %s\n", t.At.Local().Format(stamp), t.Title(), dash(t.From),
			dash(t.To)); err != nil {
			return err
		}
	}
	return nil
}
