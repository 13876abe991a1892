package report

import (
	"io"
	"time"
	"unicode/utf8"

	"yareharbour/core/precheck"
	"yareharbour/format/plain"
)

// Prechecks writes answers as text, CSV or JSON: what blocks first.
func Prechecks(w io.Writer, answers []precheck.Answer, format string) error {
	switch format {
	case "json":
		return JSON(w, answers)
	case "csv":
		rows := [][]string{{"host", "check", "answer", "unknown", "evidence", "remedy", "read", "holds_until",
			"waived_by", "waived_until", "waived_for"}}
		for _, a := range answers {
			row := []string{a.Host, a.Check, string(a.Level), yes(a.Unknown), a.Evidence, a.Advice(), moment(a.At),
				moment(a.Until), "", "", ""}
			if x := a.Waived; x != nil {
				row[8], row[9], row[10] = x.By, moment(x.Until), x.Reason
			}
			rows = append(rows, row)
		}
		return Rows(w, rows)
	}
	host, check := 0, 0
	for _, a := range answers {
		host, check = max(host, utf8.RuneCountInString(a.Host)), max(check, utf8.RuneCountInString(a.Check))
	}
	line := func(word, of, asked, says string) {
		plain.Fprintf(w, "%-19s %-*s %-*s %s\n", word, host, of, check, asked, says)
	}
	for _, level := range []precheck.Level{precheck.Blocker, precheck.Caution, precheck.Clear} {
		for _, a := range answers {
			if a.Level != level {
				continue
			}
			word := string(a.Level)
			if a.Unknown {
				word += ", not known"
			}
			line(word, a.Host, a.Check, a.Evidence)
			if a.Level != precheck.Clear && a.Waived == nil {
				line("", "", "", "→ "+a.Advice())
			}
			if a.Waived != nil {
				line("", "", "", a.Waived.Says())
			}
		}
	}
	return nil
}

// Waivers writes waivers as text, CSV or JSON, in the order in which they were given.
func Waivers(w io.Writer, all []precheck.Waiver, now time.Time, format string) error {
	if format == "json" {
		return JSON(w, all)
	}
	state := func(x *precheck.Waiver) string {
		switch {
		case x.Stands(now):
			return "stands"
		case !x.Ended.IsZero():
			return "taken back by " + x.EndedBy
		}
		return "over"
	}
	if format == "csv" {
		rows := [][]string{{"id", "host", "check", "evidence", "reason", "by", "given", "until", "state"}}
		for i := range all {
			x := &all[i]
			rows = append(rows, []string{x.ID, x.Host, x.Check, x.Evidence, x.Reason, x.By, moment(x.At),
				moment(x.Until), state(x)})
		}
		return Rows(w, rows)
	}
	for i := range all {
		x := &all[i]
		plain.Fprintf(w, "%s  %s of %s, %s: %s\n    %s\n", x.ID[max(0, len(x.ID)-6):], x.Check, x.Host,
			state(x), x.Says(), x.Evidence)
	}
	return nil
}

// moment writes a time by RFC 3339; the zero time is empty.
func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Format(time.RFC3339)
}
