package report

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"yareharbour/bundle"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/ladder"
	"yareharbour/feed"
	"yareharbour/format/plain"
)

// Feed is a feed as it is written out.
type Feed struct {
	Name       string    `json:"name"`
	Kind       string    `json:"kind"`
	At         string    `json:"at"`
	Sync       string    `json:"sync"`
	Tried      time.Time `json:"tried,omitzero"`
	Synced     time.Time `json:"synced,omitzero"`
	Made       time.Time `json:"made,omitzero"`
	Error      string    `json:"error,omitempty"`
	Releases   int       `json:"releases"`
	Advisories int       `json:"advisories"`
	Bytes      int64     `json:"bytes"`
	Aside      []string  `json:"set_aside,omitempty"` // entries that could not be read, and why
}

// Feeds writes feeds out.
func Feeds(all []feed.State) []Feed {
	out := []Feed{}
	for _, f := range all {
		out = append(out, Feed{f.Name, string(f.Kind), feed.Shown(f.At), f.Schedule.String(), f.Tried, f.Synced, f.Made, f.Error,
			f.Releases, f.Advisories, f.Bytes, f.Aside})
	}
	return out
}

// Components writes the list of components in a form of words.
func Components(w io.Writer, rows []ladder.Row, format string) error {
	switch format {
	case "json":
		if rows == nil {
			rows = []ladder.Row{}
		}
		return JSON(w, rows)
	case "csv":
		out := [][]string{{"component", "newest", "releases", "withdrawn", "severity", "vendor", "date",
			"feed", "hosts", "drift"}}
		for _, r := range rows {
			out = append(out, []string{string(r.Component), strings.Join(r.Newest, " "), fmt.Sprint(r.Releases),
				fmt.Sprint(r.Withdrawn), r.Severity.String(), r.Vendor,
				day(r.Made), r.Feed, fmt.Sprint(r.Hosts), fmt.Sprint(r.Drift)})
		}
		return Rows(w, out)
	}
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	plain.Fprintln(t, "COMPONENT\tNEWEST\tSEVERITY\tDATE\tVENDOR\tRELEASES\tHOSTS\tDRIFT")
	for _, r := range rows {
		plain.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%d\t%d\t%d\n", r.Component, dash(strings.Join(r.Newest, ", ")),
			dash(known(r.Severity)), dash(day(r.Made)), dash(r.Vendor), r.Releases, r.Hosts, r.Drift)
	}
	return t.Flush()
}

func known(s catalogue.Severity) string {
	if s == catalogue.Unknown {
		return ""
	}
	return s.String()
}

func day(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Format(time.DateOnly)
}

// Ladder writes a component's ladders in a form of words.
func Ladder(w io.Writer, l ladder.Ladder, format string) error {
	switch format {
	case "json":
		return JSON(w, l)
	case "csv":
		out := [][]string{{"component", "hardware", "track", "version", "date", "severity", "withdrawn",
			"newest", "wanted_by", "hosts"}}
		for _, t := range l.Tracks {
			for _, r := range t.Rungs {
				row := []string{string(l.Component), t.Model, t.Name, r.Version, "", "", "", yes(r.Newest),
					strings.Join(r.Wanted, " "), strings.Join(r.Hosts, " ")}
				if r.Release != nil {
					row[4], row[5], row[6] = day(r.Release.Date), known(r.Release.Severity), r.Release.Withdrawn
				}
				out = append(out, row)
			}
		}
		return Rows(w, out)
	}
	for _, t := range l.Tracks {
		plain.Fprintln(w, l.Title(t))
		tw := tabwriter.NewWriter(w, 2, 0, 2, ' ', 0)
		for _, r := range t.Rungs {
			plain.Fprintf(tw, "  %s\t%s\t%s\t%s\n", r.Version, rungDate(r), strings.Join(r.Says(), "; "),
				strings.Join(r.Hosts, ", "))
		}
		if err := tw.Flush(); err != nil {
			return err
		}
	}
	if len(l.Without) > 0 {
		_, err := plain.Fprintf(w, "absent though it is wanted: %s\n", strings.Join(l.Without, ", "))
		return err
	}
	return nil
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

func rungDate(r ladder.Rung) string {
	if r.Release == nil {
		return ""
	}
	return day(r.Release.Date)
}

// Baseline writes a baseline's clauses and exceptions as JSON or CSV.
func Baseline(w io.Writer, b baseline.Baseline, format string) error {
	if format == "json" {
		type clause struct {
			Component string `json:"component"`
			Says      string `json:"says"`
			Hardware  string `json:"hardware,omitempty"`
		}
		out := struct {
			Name    string   `json:"baseline"`
			Rank    int      `json:"rank"`
			Assign  []string `json:"assign"`
			Clauses []clause `json:"clauses"`
		}{Name: b.Name, Rank: b.Rank, Assign: b.Assign}
		for _, c := range b.Clauses {
			out.Clauses = append(out.Clauses, clause{string(c.Component), c.Says(), c.Hardware})
		}
		return JSON(w, out)
	}
	out := [][]string{{"baseline", "component", "hardware", "posture", "should_be"}}
	for _, c := range b.Clauses {
		out = append(out, []string{b.Name, string(c.Component), c.Hardware, string(c.Posture), c.Says()})
	}
	return Rows(w, out)
}

// Bundle writes what is in a bundle in a form of words.
func Bundle(w io.Writer, c bundle.Contents, format string) error {
	switch format {
	case "json":
		return JSON(w, c)
	case "csv":
		out := [][]string{{"bundle", "file", "kind", "bytes", "sha256", "brings"}}
		for _, f := range c.Files {
			out = append(out, []string{c.Name, f.Path, string(f.Kind), fmt.Sprint(f.Size), f.SHA256, f.Says})
		}
		return Rows(w, out)
	}
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	plain.Fprintln(t, "FILE\tKIND\tSIZE\tBRINGS")
	for _, f := range c.Files {
		plain.Fprintf(t, "%s\t%s\t%s\t%s\n", f.Path, f.Kind, catalogue.Bytes(f.Size), f.Says)
	}
	return t.Flush()
}
