package export

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"yareharbour/chart"
	"yareharbour/core/view"
)

// A PDF says what its document says, in text that can be found, in fonts that it carries, with a title, and nothing leaves
// its pages; long tables have their headings on each. Where no tool to look at it is here, its structure alone is.
func TestPagesOfADocument(t *testing.T) {
	for name, c := range pagedDocuments() {
		for _, paper := range Papers {
			c.Paper = paper
			var b bytes.Buffer
			if err := PDF(&b, c); err != nil {
				t.Fatal(name, err)
			}
			var again bytes.Buffer
			if err := PDF(&again, c); err != nil || !bytes.Equal(b.Bytes(), again.Bytes()) {
				t.Errorf("%s: two of it are not the same bytes (%v)", name, err)
			}
			for _, want := range []string{"/FontFile2", "/ToUnicode", "/Lang", "/Title"} {
				if !bytes.Contains(b.Bytes(), []byte(want)) {
					t.Errorf("%s: it has no %s", name, want)
				}
			}
			if _, err := exec.LookPath("pdftotext"); err != nil {
				continue
			}
			file := filepath.Join(t.TempDir(), "d.pdf")
			if err := os.WriteFile(file, b.Bytes(), 0o600); err != nil {
				t.Fatal(err)
			}
			text := said(t, "pdftotext", "-layout", file, "-")
			for _, want := range []string{title(&c), c.Stamp(), "page 1 of "} {
				if !strings.Contains(text, want) {
					t.Errorf("%s on %s does not say %q", name, paper, want)
				}
			}
			if name == "long" {
				pages := strings.Split(strings.TrimSuffix(text, "\f"), "\f")
				for i, p := range pages[:len(pages)-1] { // the last is to be signed
					if !strings.Contains(p, "component") {
						t.Errorf("page %d of %d has no headings", i+1, len(pages))
					}
				}
				if n := strings.Count(text, "row-"); n != 200 || len(pages) < 4 || !strings.Contains(pages[len(pages)-1], "Accepted by") {
					t.Errorf("%d rows on %d pages", n, len(pages))
				}
			}
			within(t, name+" on "+paper, file)
		}
	}
}

// pagedDocuments are documents that fill pages: a long table, a drawing that is taller than a page, and long words.
func pagedDocuments() map[string]view.Document {
	at := time.Date(2026, 11, 21, 20, 0, 0, 0, time.UTC)
	long := view.Document{Name: "drift", Title: "Drift of tides", Estate: "Merrow Sound", At: at, Signed: true, Topics: []string{"behind"},
		Table: view.Table{Columns: view.Columns("host", "component", "has", "why")}}
	for i := range 200 {
		long.Table.Rows = append(long.Table.Rows, []any{"heron", fmt.Sprintf("row-%d", i), "1", strings.Repeat("because ", i%30)})
	}
	e := anEstate()
	for range 6 {
		e.Survey.Bands = append(e.Survey.Bands, e.Survey.Bands...)
		if len(e.Survey.Bands) > 12 {
			break
		}
	}
	words := view.Document{Name: "log", Title: "Logbook", Estate: "Merrow Sound – Hafen «Süd» → Ω", At: at, Text: []view.Block{{Head: strings.Repeat("heading ", 30),
		Lines: []string{strings.Repeat("x", 4000), "  " + strings.Repeat("word ", 400)}}, {Table: &view.Table{Columns: view.Columns("a", "b"),
		Rows: [][]any{{strings.Repeat("y", 9000), "b"}, {"", strings.Repeat("z z ", 3000)}}}}}}
	out := map[string]view.Document{"long": long, "words": words,
		"waterline": {Name: "waterline", Title: "The estate", Estate: "Merrow Sound", At: at, Drawing: e.Survey, Table: long.Table},
		"round":     view.OfRound(view.Round{ID: "R", State: aRound()})}
	if os.Getenv("YARE_DOCUMENTS") != "" { // all kinds that there are
		for name, c := range documents() {
			c.d.Estate, c.d.At = "Merrow Sound", at
			out["kind "+name] = c.d
		}
	}
	return out
}

func said(t *testing.T, command string, args ...string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, command, args...).Output()
	if err != nil {
		t.Fatalf("%s: %v", command, err)
	}
	return string(out)
}

var pagePicture = regexp.MustCompile(`p-\d+\.png$`)

// within looks at the pages of a PDF as pictures: what comes within 18 points of an edge is not where it belongs, and a page on
// which nothing is is none. Only make documents looks.
func within(t *testing.T, name, file string) {
	t.Helper()
	if os.Getenv("YARE_DOCUMENTS") == "" {
		return
	}
	dir := t.TempDir()
	said(t, "pdftoppm", "-r", "72", "-png", file, filepath.Join(dir, "p"))
	pages, err := filepath.Glob(filepath.Join(dir, "*.png"))
	if err != nil || len(pages) == 0 {
		t.Fatal(name, err)
	}
	for _, p := range pages {
		if pagePicture.MatchString(p) {
			edges(t, name+", "+filepath.Base(p), p, 18)
		}
	}
}

// edges holds a picture to have something on it, and nothing within so many points of its edge.
func edges(t *testing.T, name, file string, free int) {
	t.Helper()
	f, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	m, err := png.Decode(f)
	if err != nil {
		t.Fatal(err)
	}
	r := m.Bounds()
	inner := image.Rect(r.Min.X+free, r.Min.Y+free, r.Max.X-free, r.Max.Y-free)
	n := 0
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			red, green, blue, _ := m.At(x, y).RGBA()
			if red+green+blue > 3*0xe000 {
				continue
			}
			if n++; !image.Pt(x, y).In(inner) {
				t.Errorf("%s: something stands at %d, %d", name, x, y)
				return
			}
		}
	}
	if n == 0 {
		t.Errorf("%s is empty", name)
	}
}

// An HTML document needs nothing from outside, says what it is of, and a browser shows all of its text within its width, on
// a screen and on a phone. Only make documents asks a browser.
func TestAPageOfADocument(t *testing.T) {
	outside := regexp.MustCompile(`(?i)<(script|link|img|iframe|object|embed)\b|\bsrc\s*=|\bhref\s*=\s*"[^#]|url\(|@import`)
	for name, c := range pagedDocuments() {
		var b bytes.Buffer
		if err := HTML(&b, c); err != nil {
			t.Fatal(name, err)
		}
		text := b.String()
		if at := outside.FindString(text); at != "" {
			t.Errorf("%s needs something from outside: %q", name, at)
		}
		if !strings.Contains(text, `name="viewport"`) || !strings.Contains(text, "default-src 'none'") || !strings.Contains(text, "<title>"+title(&c)) {
			t.Errorf("%s: %.600s", name, text)
		}
		if _, drawn := chart.Picture(c, c.Drawing); drawn && !strings.Contains(text, "<svg") {
			t.Errorf("%s has no drawing in it", name)
		}
		if os.Getenv("YARE_DOCUMENTS") == "" {
			continue
		}
		dir := t.TempDir()
		file := filepath.Join(dir, "d.html")
		// the page tells in its title whether anything is wider than the window
		probe := strings.Replace(strings.Replace(text, "default-src 'none'", "default-src 'none'; script-src 'unsafe-inline'", 1), "</body>",
			"<script>document.title = 'wide ' + (document.documentElement.scrollWidth > window.innerWidth)</script></body>", 1)
		if err := os.WriteFile(file, []byte(probe), 0o600); err != nil {
			t.Fatal(err)
		}
		for _, size := range []string{"1280,900", "500,900"} {
			dom := said(t, "chromium", "--headless", "--no-sandbox", "--disable-gpu", "--window-size="+size, "--dump-dom", "file://"+file)
			if !strings.Contains(dom, "<title>wide false</title>") {
				t.Errorf("%s is wider than %s: %s", name, size, regexp.MustCompile("<title>.*</title>").FindString(dom))
			}
		}
	}
}

// A word that the manual explains leads to what it means, at the end of the document; one that it does not leads nowhere.
func TestWordsLeadToWhatTheyMean(t *testing.T) {
	d := view.Document{Name: "drift", Title: "Drift", Topics: []string{"behind", "awaiting restart", "no such word"},
		Table: view.Table{Columns: view.Columns("host", "verdict"), Rows: [][]any{{"heron", "behind"}, {"ibis", "awaiting restart"}, {"knot", "no such word"}}}}
	var html, pdf bytes.Buffer
	if err := errors.Join(HTML(&html, d), PDF(&pdf, d)); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`<a href="#word-behind">behind</a>`, `id="word-behind"`, `<a href="#word-awaiting-restart">`, `id="word-awaiting-restart"`, "<td>no such word</td>", "an earlier version than wanted"} {
		if !strings.Contains(html.String(), want) {
			t.Errorf("the page lacks %s", want)
		}
	}
	if n := bytes.Count(pdf.Bytes(), []byte("/Subtype /Link")); n != 2 {
		t.Errorf("the PDF has %d links", n)
	}
}

// A reader's hostile names become text in either form.
func TestHostileNamesInDocuments(t *testing.T) {
	d := view.Document{Name: "x", Title: "a<script>alert(1)</script>\x1b[2J", Estate: "\u202e\"><img src=x>", Text: []view.Block{{Head: "<b>&", Lines: []string{"</p><script>"},
		Table: &view.Table{Columns: view.Columns("<i>"), Rows: [][]any{{"<svg onload=x>\x00"}}}}}}
	var html, pdf bytes.Buffer
	if err := errors.Join(HTML(&html, d), PDF(&pdf, d)); err != nil {
		t.Fatal(err)
	}
	for _, bad := range []string{"<script>", "<img", "<svg", "\x1b", "\x00", "\u202e"} {
		if strings.Contains(html.String(), bad) {
			t.Errorf("the page has %q", bad)
		}
	}
}
