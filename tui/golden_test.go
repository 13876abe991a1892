package tui

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"yareharbour/core/course"
	"yareharbour/tui/part/parttest"
)

var renew = flag.Bool("renew", false, "write the golden texts anew; read the difference before it is committed")

// golden holds what is shown to a text that a person has read. It is the screen without its colours, and without the
// blanks at the ends of its lines.
func golden(t *testing.T, m *Model, name string) {
	t.Helper()
	var lines []string
	for _, l := range strings.Split(text(m), "\n") {
		lines = append(lines, strings.TrimRight(l, " "))
	}
	got := strings.Join(lines, "\n") + "\n"
	file := filepath.Join("testdata", name+".txt")
	if *renew {
		if err := os.MkdirAll("testdata", 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if string(want) != got {
		t.Errorf("%s is another than it was; if that is meant, -renew writes it anew. Now it is\n%s\nand it was\n%s",
			name, got, want)
	}
}

// Each screen as a text, in the sizes it is made for.
func TestTheScreensAsTheyWereRead(t *testing.T) {
	for name, c := range map[string]struct {
		w, h  int
		keys  []string
		round func(*fake)
	}{
		"waterline":       {160, 40, nil, nil},
		"waterline-small": {80, 24, nil, nil},
		"needs":           {160, 40, []string{"tab", "down"}, nil},
		"needs-small":     {80, 24, []string{"tab", "down"}, nil},
		"host":            {160, 40, []string{"enter"}, nil},
		"host-small":      {80, 24, []string{"enter"}, nil},
		"drift":           {160, 40, []string{"d", "down"}, nil},
		"drift-small":     {80, 24, []string{"d"}, nil},
		"trend":           {120, 36, []string{"d", "tab"}, nil},
		"catalogue":       {160, 40, []string{"c", "down"}, nil},
		"feeds":           {120, 36, []string{"c", "tab"}, nil},
		"baselines":       {160, 40, []string{"b"}, nil},
		"plan":            {160, 40, []string{"p", "down"}, nil},
		"prechecks":       {160, 40, []string{"p", "a", "down"}, nil},
		"prechecks-small": {80, 24, []string{"p", "a"}, nil},
		"plan-small":      {80, 24, []string{"p"}, nil},
		"round-failed":    {160, 40, []string{"r"}, func(f *fake) { f.snap.Rounds["c0"] = aRound() }},
		"round-running": {120, 36, []string{"r"}, func(f *fake) {
			r := aRound()
			r.State.Status, r.Runs = course.Running, true
			f.snap.Rounds["c0"] = r
		}},
		"help":   {100, 40, []string{"c", "?"}, nil},
		"finder": {100, 40, []string{":", "d", "r", "i"}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			f := &fake{snap: parttest.Estate(2, 5), plan: aPlan()}
			if c.round != nil {
				c.round(f)
			}
			m := model(t, f, c.w, c.h)
			press(m, c.keys...)
			golden(t, m, name)
		})
	}
}
