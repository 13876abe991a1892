package chart

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/core/catalogue"
	"yareharbour/core/estate"
	"yareharbour/core/ladder"
	"yareharbour/core/survey"
	"yareharbour/core/view"
)

const hostileName = "av<script>\x1b[2J\u202e\u009b&\"'\nocet\x00"

// everyDrawing is one of each kind, of a host with a hostile name.
func everyDrawing() map[string]Drawing {
	return map[string]Drawing{
		"table": Table(hostileName, view.Table{Columns: view.Columns("a", hostileName), Grouped: true,
			Rows: [][]any{{hostileName, hostileName}}}),
		"ladder": Ladder(ladder.Ladder{Component: estate.Key("fw:" + hostileName),
			Tracks: []ladder.Track{{Name: hostileName, Model: hostileName,
				Rungs: []ladder.Rung{{Version: hostileName, Hosts: []string{hostileName},
					Release: &catalogue.Release{Withdrawn: hostileName}}}}}}),
		"waterline": Waterline(survey.Survey{Name: hostileName,
			Bands: []survey.Band{{Cluster: estate.Cluster{Name: hostileName},
				Berths: []survey.Berth{{Host: hostileName, Service: survey.Open}}}},
			Needs: []survey.Need{{Cluster: hostileName, Host: hostileName, Text: hostileName}}}),
		"timeline": Timeline(view.Timeline{Title: hostileName, Subtitle: hostileName, Note: hostileName,
			Lanes: view.Lanes{From: now, To: now,
				Lanes: []view.Lane{{Host: hostileName, State: hostileName},
					{Host: hostileName, Obstacle: hostileName}}}}),
		"trend": Trend(view.Trend{Cluster: hostileName, From: now, To: now}),
	}
}

// A hostile name is a text in every drawing: SVG stays well formed, with nothing in it that is not ours, and a PDF is
// one to a program that checks such.
func TestHostileNamesInDrawings(t *testing.T) {
	for name, d := range everyDrawing() {
		var svg, pdf bytes.Buffer
		if err := errors.Join(d.SVG(&svg), onPage(&pdf, d)); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		dec := xml.NewDecoder(bytes.NewReader(svg.Bytes()))
		for {
			tok, err := dec.Token()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				t.Fatalf("%s: the SVG is not well formed: %v", name, err)
			}
			if s, ok := tok.(xml.StartElement); ok && s.Name.Local == "script" {
				t.Errorf("%s: a name became an element", name)
			}
		}
		if strings.ContainsAny(svg.String(), "\x1b\x00\u202e\u009b") {
			t.Errorf("%s: the SVG holds what it should not", name)
		}
		if _, err := exec.LookPath("qpdf"); err != nil {
			continue
		}
		file := filepath.Join(t.TempDir(), name+".pdf")
		if err := os.WriteFile(file, pdf.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("qpdf", "--check", file).CombinedOutput(); err != nil {
			t.Errorf("%s: qpdf: %v\n%s", name, err, out)
		}
	}
}
