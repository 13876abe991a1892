package chart

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"codeberg.org/go-pdf/fpdf"

	"yareharbour/core/act"
	"yareharbour/core/catalogue"
	"yareharbour/core/drift"
	"yareharbour/core/estate"
	"yareharbour/core/ladder"
	"yareharbour/core/survey"
	"yareharbour/core/view"
)

var now = time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)

func aSurvey() survey.Survey {
	return survey.Survey{Name: "Merrow Sound", At: now,
		Bands: []survey.Band{{Cluster: estate.Cluster{Name: "vts", Reserve: 1}, Limit: 0.5, ReadAt: now,
			Berths: []survey.Berth{
				{Host: "heron", Service: survey.Open, Memory: 0.41,
					Depth: map[estate.Layer]survey.Depth{estate.Platform: {Drift: 7, Worst: catalogue.Critical}}},
				{Host: "ibis", Service: survey.Closed,
					Depth: map[estate.Layer]survey.Depth{estate.Firmware: {Unread: true}}}}}},
		Needs: []survey.Need{{Urgency: survey.Now, Cluster: "vts", Host: "heron", Text: "critical release missing"}}}
}

func aRound() view.Lanes {
	at := func(m int) time.Time { return now.Add(time.Duration(m) * time.Minute) }
	return view.Lanes{From: now, To: at(50), Now: at(50),
		Lanes: []view.Lane{{Host: "heron",
			Spans: []view.Span{{Step: act.DrainStep, From: now, To: at(10)},
				{Step: act.RestartStep, From: at(10), To: at(40), Failed: true},
				{From: at(40), To: at(50)}}}, {Host: "ibis", State: "in line"}},
		Tide: []view.Level{{From: now, To: at(40), Load: 0.45, Limit: 0.6, Out: "heron"},
			{From: at(40), To: at(50), Load: 0.3}}}
}

func words(t *testing.T, svg []byte) string {
	t.Helper()
	var out []string
	for d := xml.NewDecoder(bytes.NewReader(svg)); ; {
		tok, err := d.Token()
		if err == io.EOF {
			return strings.Join(out, " ")
		}
		if err != nil {
			t.Fatalf("the SVG is no XML: %v", err)
		}
		if c, ok := tok.(xml.CharData); ok {
			out = append(out, strings.TrimSpace(string(c)))
		}
	}
}

func TestDrawingsSayWhatTheyShow(t *testing.T) {
	for name, c := range map[string]struct {
		d    Drawing
		want []string
	}{
		"waterline": {Waterline(aSurvey()), []string{"Merrow Sound", "vts", "heron", "out of service", "limit up to which the reserve is kept", "41%", "7", "closed", "unread",
			"limit 50%", "critical release missing"}},
		"ladder": {Ladder(ladder.Ladder{Component: "fw:nic", Without: []string{"egret"}, Tracks: []ladder.Track{
			{Name: "5", Model: "S9",
				Rungs: []ladder.Rung{{Version: "5.1", Release: &catalogue.Release{Version: "5.1", Date: now},
					Newest: true}}},
			{Name: "4", Model: "S9",
				Rungs: []ladder.Rung{{Version: "4.2",
					Release: &catalogue.Release{Version: "4.2", Withdrawn: "it drops the link"},
					Hosts:   []string{"heron", "ibis"}}, {Version: "4.1", Hosts: []string{"knot"}}}}}}),
			[]string{"fw:nic", "track 5, for S9", "track 4, for S9", "5.1", "4.2", "withdrawn: it drops the link",
				"heron, ibis", "in no feed", "absent though it is wanted: egret"}},
		"trend": {Trend(view.Trend{Cluster: "tides", Tallies: []drift.Tally{{At: now.AddDate(0, 0, -20),
			Drift: map[estate.Layer]int{estate.Firmware: 8, estate.Platform: 4}},
			{At: now.AddDate(0, 0, -5), Drift: map[estate.Layer]int{estate.Driver: 2}, Unread: 3}},
			From: now.AddDate(0, 0, -30), To: now}),
			[]string{"Drift of tides", "places out of line", "time, UTC", "22 Oct 2026", "firmware", "guest", "settings", "unread", "12", "21 Nov", "a round began", "a feed or bundle"}},
		"no trend": {Trend(view.Trend{Cluster: "tides", From: now.AddDate(0, 0, -30), To: now}), []string{"nothing was counted in this time"}},
		"table": {Table("heron", view.Table{Columns: view.Columns("host", "component", "has"), Grouped: true,
			Rows: [][]any{{"vts", "deb:ssl", strings.Repeat("long ", 30)}}}),
			[]string{"heron", "component", "vts", "deb:ssl", "long long"}},
		"no table": {Table("heron", view.Table{Columns: view.Columns("component")}), []string{"nothing to show"}},
		"timeline": {Timeline(view.Timeline{Title: "Round over vts", Subtitle: "by me: November", Note: "took 40 min", Lanes: aRound()}),
			[]string{"Round over vts", "heron", "drain", "restart", "failed", "20:10", "November", "needs you", "stands still and needs a person", "time, UTC",
				"tightest 45% of 60% at 20:00, while heron is out", "30%", "in line"}},
	} {
		var svg, pdf bytes.Buffer
		c.d.Foot = "Merrow Sound, Sat 21 Nov 2026"
		if err := errors.Join(c.d.SVG(&svg), onPage(&pdf, c.d)); err != nil {
			t.Fatal(err)
		}
		said := words(t, svg.Bytes())
		for _, w := range c.want {
			if !strings.Contains(said, w) {
				t.Errorf("the %s does not say %q: %s", name, w, said)
			}
		}
		if !strings.Contains(said, "Merrow Sound, Sat 21 Nov 2026") || bytes.Contains(svg.Bytes(), []byte("<!--")) {
			t.Errorf("the %s does not say of what it is, or what made it", name)
		}
		if !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF")) || !bytes.Contains(pdf.Bytes(), []byte("%%EOF")) {
			t.Errorf("the %s is no PDF", name)
		}
	}
}

// onPage sets a drawing on a page of its own.
func onPage(w io.Writer, d Drawing) error {
	f := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: float64(d.Width), Ht: float64(d.Height)}})
	Fonts(f)
	f.AddPage()
	return errors.Join(d.Draw(f, 0, 0, 1), f.Output(w))
}
