package report

import (
	"fmt"
	"io"
	"strings"
	"text/tabwriter"
	"time"

	"yareharbour/core/baseline"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/view"
	"yareharbour/format/plain"
)

// Comparison writes in what the reading to differs from the reading from.
func Comparison(w io.Writer, c view.Comparison, format string) error {
	from, to := c.From, c.To
	switch format {
	case "json":
		type end struct {
			Host string    `json:"host"`
			At   time.Time `json:"at"`
		}
		return JSON(w, struct {
			From end `json:"from"`
			To   end `json:"to"`
			drift.Comparison
		}{end{from.Host, from.Tried()}, end{to.Host, to.Tried()}, c.Comparison})
	case "csv":
		out := [][]string{{"what", "device", "from", "to"}}
		for _, f := range c.Facts {
			out = append(out, []string{f.What, "", f.From, f.To})
		}
		for _, t := range c.Turns {
			out = append(out, []string{string(t.Component), t.Device, t.From, t.To})
		}
		return Rows(w, out)
	}
	plain.Fprintf(w, "%s of %s → %s of %s\n", from.Host, from.Tried().Local().Format("2 Jan 2006 15:04 MST"), to.Host,
		to.Tried().Local().Format("2 Jan 2006 15:04 MST"))
	t := tabwriter.NewWriter(w, 2, 0, 2, ' ', 0)
	for _, f := range c.Facts {
		plain.Fprintf(t, "  %s\t%s\t→ %s\n", f.What, dash(f.From), dash(f.To))
	}
	for _, x := range c.Turns {
		plain.Fprintf(t, "  %s\t%s\t→ %s\n", x.Title(), dash(x.From), dash(x.To))
	}
	if err := t.Flush(); err != nil {
		return err
	}
	if len(c.Facts)+len(c.Turns) == 0 {
		plain.Fprintln(w, "  nothing differs in what both hold")
	}
	for _, s := range c.Unread {
		plain.Fprintf(w, "not compared: %s, which %s\n", s, whichLacks(from, to, s))
	}
	return nil
}

func whichLacks(from, to *estate.Reading, s estate.SectionName) string {
	if from.Section(s).Err != "" && to.Section(s).Err != "" {
		return "neither holds"
	}
	return "one of the two lacks"
}

// Trend writes what a cluster's checks counted.
func Trend(w io.Writer, cluster string, all []drift.Tally, format string) error {
	switch format {
	case "json":
		if all == nil {
			all = []drift.Tally{}
		}
		return JSON(w, map[string]any{"cluster": cluster, "trend": all})
	case "csv":
		head := []string{"cluster", "at"}
		for _, l := range estate.Layers {
			head = append(head, string(l))
		}
		out := [][]string{append(head, "unread", "undecided", "hosts", "adrift", "not_covered", "never_read")}
		for _, t := range all {
			row := []string{cluster, t.At.Format(time.RFC3339)}
			for _, l := range estate.Layers {
				row = append(row, fmt.Sprint(t.Drift[l]))
			}
			for _, n := range []int{t.Unread, t.Undecided, t.Hosts, t.Adrift, t.Unasked, t.Unseen} {
				row = append(row, fmt.Sprint(n))
			}
			out = append(out, row)
		}
		return Rows(w, out)
	}
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	head := []string{"AT"}
	for _, l := range estate.Layers {
		head = append(head, strings.ToUpper(string(l)))
	}
	plain.Fprintln(t, strings.Join(append(head, "HOSTS ADRIFT", "NOT KNOWN"), "\t"))
	for _, x := range all {
		row := []string{x.At.Local().Format("2006-01-02 15:04 MST")}
		for _, l := range estate.Layers {
			row = append(row, fmt.Sprint(x.Drift[l]))
		}
		plain.Fprintln(t, strings.Join(append(row, fmt.Sprintf("%d of %d", x.Adrift, x.Hosts), dash(x.Open())), "\t"))
	}
	return t.Flush()
}

// News is new drift as it is written out.
type News struct {
	Cluster string    `json:"cluster"`
	Since   time.Time `json:"since,omitzero"`
	News    []Verdict `json:"news"`
	// Now is how the cluster stands; its time is left out.
	Now drift.Tally `json:"now"`
}

// NewNews writes out what is new in a cluster since a look.
func NewNews(cluster string, of drift.News) News {
	n := News{cluster, of.Since, []Verdict{}, of.Now}
	n.Now.At = time.Time{}
	for _, v := range of.Drift {
		n.News = append(n.News, Verdict{Host: v.Host, Component: string(v.Component), Device: v.Device,
			Layer: string(v.Layer()), Verdict: v.Outcome.String(), Has: v.Has, Wants: v.Wants, Severity: severity(v)})
	}
	return n
}

// Effect is the effect of an edit as it is written out.
type Effect struct {
	Worse  int     `json:"hosts_worse"`
	Better int     `json:"hosts_better"`
	Unread int     `json:"hosts_unread"`
	Shifts []Shift `json:"verdicts"`
	// Problems are what the baseline names and is not there.
	Problems []baseline.Problem `json:"problems,omitempty"`
}

// Shift is a verdict that an edit changes.
type Shift struct {
	Host      string `json:"host"`
	Component string `json:"component"`
	Device    string `json:"device,omitempty"`
	Has       string `json:"has"`
	Wants     string `json:"wants"`
	Before    string `json:"before"`
	After     string `json:"after"`
}

// NewEffect writes an effect out.
func NewEffect(e drift.Effect, ps []baseline.Problem) Effect {
	out := Effect{e.Worse, e.Better, e.Unread, []Shift{}, ps}
	for _, s := range e.Shifts {
		out.Shifts = append(out.Shifts,
			Shift{s.Host, string(s.Component), s.Device, s.Has, s.Wants, s.Before.Word(), s.After.Word()})
	}
	return out
}
