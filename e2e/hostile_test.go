package e2e

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode"

	"yareharbour/e2e/drive"
)

// What is hostile in a terminal, a spreadsheet, a drawing or a log: an escape sequence that clears the screen and sets
// its title, a C1 control, a mark that turns the direction of writing, line breaks, a formula.
const hostile = "\x1b[2J\x1b]0;owned\x07\u009b31m\u202egnp.exe\r\nroot:x\u2028=HYPERLINK(\"http://x.invalid\")"

// hostileWorld is the demo with hostile words where hosts, publishers and files speak.
func hostileWorld(t *testing.T) string {
	t.Helper()
	dir := demoState(t, 30)
	if r := run(t, "sim", "stop", "--state", dir); r.code != 0 {
		t.Fatal(r.err)
	}
	quoted, err := json.Marshal(hostile)
	if err != nil {
		t.Fatal(err)
	}
	inner := string(quoted[1 : len(quoted)-1])
	replace := func(name string, pairs ...string) {
		t.Helper()
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for i := 0; i < len(pairs); i += 2 {
			if !bytes.Contains(text, []byte(pairs[i])) {
				t.Fatalf("%s has no %s", name, pairs[i])
			}
		}
		if err := os.WriteFile(name, []byte(strings.NewReplacer(pairs...).Replace(string(text))), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	replace(filepath.Join(dir, "sim", "world.json"), `"met-feed"`, `"met`+inner+`feed"`,
		`"no input voltage since 19 Nov"`, `"volts`+inner+`"`, `"Brae Linux 4.2"`, `"Brae Linux 4`+inner+`"`,
		`"the inventory is being rebuilt"`, `"rebuilt`+inner+`"`)
	lists, err := filepath.Glob(filepath.Join(dir, "releases", "*.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range lists {
		text, err := os.ReadFile(l)
		if err != nil {
			t.Fatal(err)
		}
		if bytes.Contains(text, []byte("vendor: Corran")) {
			replace(l, "vendor: Corran", `vendor: "Corran`+strings.ReplaceAll(inner, `\u001b`, `\e`)+`"`)
		}
	}
	startSim(t, dir, 30)
	return dir
}

// harmless fails where text holds what is hostile; a line break may only stand where the program puts one.
func harmless(t *testing.T, what string, text []byte) {
	t.Helper()
	for _, r := range string(text) {
		if unicode.IsControl(r) && r != '\n' && r != '\t' && r != '\r' || r >= 0x80 && r <= 0x9f ||
			r == '\u202e' || r == '\u2028' {
			t.Errorf("%s lets %U through: %.300q", what, r, text)
			return
		}
	}
	for line := range strings.Lines(string(text)) {
		if strings.HasPrefix(line, "root:x") {
			t.Errorf("%s lets a line break through: %.300q", what, text)
		}
	}
}

func TestHostileWordsAreHarmlessInEveryOutput(t *testing.T) {
	t.Parallel()
	dir := hostileWorld(t)
	for _, args := range []string{
		"connect heron", "read heron", "read fulmar", "read godwit --json", "check", "check tides --all",
		"check --json", "explain godwit fw:lorne-l25", "explain heron fw:tarbet-s9",
		"explain heron fw:tarbet-s9 --json",
		"plan vts", "plan vts --json", "catalogue list", "catalogue show fw:tarbet-s9",
		"catalogue show fw:tarbet-s9 --json", "catalogue show fw:tarbet-s9 --format svg", "compare heron lapwing",
		"compare heron lapwing --json",
		"report drift --format svg", "report drift tides", "report life heron", "trend tides", "news tides",
		"feed list", "baseline list", "check --narrow met",
	} {
		r := run(t, append(strings.Fields(args), "--state", dir)...)
		if len(r.out) == 0 {
			t.Errorf("%s says nothing: %s", args, r.err)
		}
		harmless(t, args, []byte(r.out))
		harmless(t, args+" (stderr)", []byte(r.err))
	}
	r := run(t, "check", "--format", "csv", "--all", "--state", dir)
	rows, err := csv.NewReader(strings.NewReader(r.out)).ReadAll()
	if err != nil || len(rows) < 50 {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	if n := strings.Count(r.out, "\n"); n != strings.Count(r.out, "\r\n") || n != len(rows) {
		t.Errorf("%d lines, %d of them end as RFC 4180 says, %d rows", n, strings.Count(r.out, "\r\n"), len(rows))
	}
	for _, row := range rows {
		for _, cell := range row {
			harmless(t, "CSV", []byte(cell))
			if strings.ContainsAny(cell[:min(1, len(cell))], "=+@") {
				t.Errorf("a spreadsheet takes %q for a formula", cell)
			}
		}
	}
	// On the screens the terminal itself shows what it was given.
	s := drive.Open(t, yare, 160, 45, nil, "--state", dir)
	s.Wait(`needs you`)
	s.Keys("Enter")
	s.Wait(`Host › vts › heron`)
	s.Wait(`met�\[2J`)
	if text := s.Text(); strings.Contains(text, "\u202e") || !strings.Contains(text, "Yare Harbour") {
		t.Errorf("the screen:\n%s", text)
	}
	s.Keys("q")
	s.Ends("0")
}
