package cli

import (
	"context"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"yareharbour/bundle"
	"yareharbour/chart"
	"yareharbour/core/baseline"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/format/report"
	"yareharbour/tui"
)

// notInName is what has no place in the name of a file, whatever a host or a component calls itself.
var notInName = regexp.MustCompile(`[^A-Za-z0-9.-]+`)

// Write writes what a view shows to a file in the current directory, named after what it is and the estate's time.
func (b *backend) Write(ctx context.Context, e tui.Export) (string, error) {
	name := "yare-" + e.View
	for _, s := range []string{e.Subject, e.Other} {
		if s != "" {
			name += "-" + notInName.ReplaceAllString(s, "_")
		}
	}
	t := target{form: form{format: e.Format}, file: fmt.Sprintf("%s-%s.%s", name, b.h.World.Now().Format("20060102-1504"), extensions[e.Format])}
	return t.file, t.write(nil, func(w io.Writer) error {
		switch e.View {
		case "plan":
			return planAs(w, e.Plan, e.Format)
		case "round":
			return b.writeRound(ctx, w, e)
		case "trend":
			return b.writeTrend(ctx, w, e)
		case "catalogue", "ladder":
			return b.writeCatalogue(ctx, w, e)
		case "baselines":
			return b.writeBaseline(ctx, w, e)
		case "compare":
			return b.writeComparison(ctx, w, e)
		case "bundle":
			return bundleAs(w, e.Bundle.Contents, e.Format)
		}
		return b.writeDrift(ctx, w, e)
	})
}

func (b *backend) writeRound(ctx context.Context, w io.Writer, e tui.Export) error {
	s, head, err := b.h.Latest(ctx, e.Subject)
	if err != nil {
		return err
	}
	if s == nil {
		return fmt.Errorf("%s had no round yet; there is nothing to export", e.Subject)
	}
	return roundAs(w, head.ID, s, e.Format)
}

func (b *backend) writeTrend(ctx context.Context, w io.Writer, e tui.Export) error {
	from := b.h.World.Now().Add(-trendFor)
	all, err := b.h.Store.Trend(ctx, e.Subject, from)
	if err != nil {
		return err
	}
	return trendAs(w, e.Subject, all, from, b.h.World.Now(), e.Format)
}

func (b *backend) writeCatalogue(ctx context.Context, w io.Writer, e tui.Export) error {
	if e.View == "ladder" {
		l, err := b.h.Ladder(ctx, estate.Key(e.Subject))
		if err != nil {
			return err
		}
		return ladderAs(w, l, e.Format)
	}
	f, err := b.h.Narrow(ctx, e.Filter)
	if err != nil {
		return err
	}
	rows, err := b.h.Components(ctx, f, e.All)
	if err != nil {
		return err
	}
	return report.Components(w, rows, e.Format)
}

// writeBaseline writes the clauses of a baseline; as text, its file.
func (b *backend) writeBaseline(ctx context.Context, w io.Writer, e tui.Export) error {
	s, err := b.h.Source(e.Subject)
	if err != nil {
		return err
	}
	f, err := b.h.Narrow(ctx, e.Filter)
	if err != nil {
		return err
	}
	s.Clauses = slices.DeleteFunc(slices.Clone(s.Clauses), func(c baseline.Clause) bool { return !f.Lets(c.Subject()) })
	if e.Format == "text" {
		_, err := io.WriteString(w, s.Text)
		return err
	}
	if slices.Contains(chart.Formats, e.Format) {
		var rows [][]string
		for _, c := range s.Clauses {
			rows = append(rows, []string{string(c.Component), c.Says()})
		}
		for _, x := range s.Exceptions {
			rows = append(rows, []string{string(x.Component), fmt.Sprintf("excepted on %s by %s: %s", strings.Join(x.Hosts, ", "), x.By, x.Reason)})
		}
		return chart.Table(fmt.Sprintf("%s, version %d, binds %s", s.Name, s.Version, strings.Join(s.Assign, ", ")), []string{"component", "should be"}, rows).Write(w, e.Format)
	}
	return report.Baseline(w, s.Baseline, e.Format)
}

func (b *backend) writeComparison(ctx context.Context, w io.Writer, e tui.Export) error {
	from, err := b.h.ReadingAt(ctx, e.Subject)
	if err != nil {
		return err
	}
	to, err := b.h.ReadingAt(ctx, e.Other)
	if err != nil {
		return err
	}
	if !slices.Contains(chart.Formats, e.Format) {
		return report.Comparison(w, from, to, e.Format)
	}
	d := drift.Compare(from, to)
	var rows [][]string
	for _, f := range d.Facts {
		rows = append(rows, []string{f.What, f.From, f.To})
	}
	for _, t := range d.Turns {
		rows = append(rows, []string{t.Title(), t.From, t.To})
	}
	return chart.Table(e.Subject+" and "+e.Other, []string{"what", e.Subject, e.Other}, rows).Write(w, e.Format)
}

// bundleAs writes what is in a bundle.
func bundleAs(w io.Writer, c bundle.Contents, format string) error {
	rows := [][]string{}
	for _, f := range c.Files {
		rows = append(rows, []string{f.Path, string(f.Kind), catalogue.Bytes(f.Size), f.Says})
	}
	if slices.Contains(chart.Formats, format) {
		return chart.Table(fmt.Sprintf("%s, %.12s", c.Name, c.ID), []string{"file", "is a", "size", "brings"}, rows).Write(w, format)
	}
	return report.Bundle(w, c, format)
}

// writeDrift writes verdicts: of the estate (there, as a drawing, the Waterline), of a cluster or of a host.
func (b *backend) writeDrift(ctx context.Context, w io.Writer, e tui.Export) error {
	drawing := slices.Contains(chart.Formats, e.Format)
	if drawing && e.View == "waterline" {
		return b.app.drawWaterline(ctx, b.h, w, e.Format)
	}
	hosts, err := b.h.Hosts(named(e.Subject)...)
	if err != nil {
		return err
	}
	kept, err := b.h.Store.Newest(ctx, hosts)
	if err != nil {
		return err
	}
	f, err := b.h.Narrow(ctx, e.Filter)
	if err != nil {
		return err
	}
	d := driftOf(b.h, b.h.Checker(), kept, hosts, f)
	if !drawing {
		return writeDrift(w, d, e.Format)
	}
	return driftTable(e.Subject, d, e.View == "host").Write(w, e.Format)
}

// driftTable draws verdicts as a table: on a host all of them, elsewhere what is out of line.
func driftTable(title string, d report.Drift, all bool) chart.Drawing {
	var rows [][]string
	host := ""
	for _, v := range d.Verdicts {
		if !all && (v.Verdict == drift.InLine.String() || v.Verdict == drift.NotApplying.String()) {
			continue
		}
		if v.Host != host {
			host = v.Host
			rows = append(rows, []string{host})
		}
		name := estate.Component{Key: estate.Key(v.Component), Device: v.Device}.Title()
		rows = append(rows, []string{name, v.Has, v.Wants, v.Verdict, v.Severity})
	}
	return chart.Table(fmt.Sprintf("%s on %s: %d in line, %d adrift, %d unread", title, d.At.Local().Format("2 Jan 2006 15:04 MST"), d.Summary.InLine, d.Summary.Drift, d.Summary.Unread),
		[]string{"component", "has", "wants", "verdict", "severity"}, rows)
}
