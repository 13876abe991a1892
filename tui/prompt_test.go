package tui

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"yareharbour/tui/part"
	"yareharbour/tui/part/parttest"
)

// asked is a model in which something is asked, and what was taken of it.
func asked(t *testing.T, a part.Ask) (m *Model, again func(), taken *[]string) {
	t.Helper()
	m, taken = model(t, &fake{snap: parttest.Estate(1, 3)}, 100, 30), new([]string)
	a.Then = func(text string) tea.Msg {
		switch {
		case text == "bad":
			return part.Refuse("no %s here", text)
		case strings.HasPrefix(text, "late"):
			return func() tea.Msg { return part.Failed{Err: errors.New("it came too late")} }
		}
		return func() tea.Msg { *taken = append(*taken, text); return nil }
	}
	again = func() { settle(m, m.heard(a)) }
	again()
	return m, again, taken
}

// What could not be taken stays to be mended, whether that shows at once or later; what was typed once comes back.
func TestNothingTypedIsLost(t *testing.T) {
	m, again, taken := asked(t, part.Ask{Label: "colour", Hint: "any"})
	enter(m, "bad")
	press(m, "enter")
	shows(t, m, "colour: bad", "! no bad here")
	press(m, "backspace", "backspace", "backspace")
	hides(t, m, "no bad here")
	enter(m, "later")
	press(m, "enter")
	shows(t, m, "colour: later", "! it came too late")
	press(m, "backspace", "backspace")
	press(m, "esc")
	again()
	shows(t, m, "any; ↑ earlier ones")
	press(m, "up")
	shows(t, m, "colour: lat▏")
	press(m, "up", "up")
	shows(t, m, "colour: bad")
	press(m, "down", "down", "down")
	hides(t, m, "colour: lat")
	enter(m, "red")
	press(m, "enter")
	if m.over != nil || strings.Join(*taken, " ") != "red" {
		t.Errorf("%v %v", m.over, *taken)
	}
	again()
	enter(m, "green")
	click(t, m, "Waterline") // beside it
	shows(t, m, "colour: green")
	press(m, "esc", "/")
	enter(m, "c0h001")
	press(m, "esc")
	hides(t, m, "narrowed to")
	press(m, "/", "up", "enter")
	shows(t, m, "narrowed to “c0h001”")
}

// While what was typed is being done it waits, and a key does not do it twice; whoever leaves is told in the end.
func TestAPromptWaits(t *testing.T) {
	m, _, taken := asked(t, part.Ask{Label: "colour"})
	enter(m, "red")
	_, cmd := m.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	press(m, "enter", "x")
	shows(t, m, "colour: red", "…")
	settle(m, cmd)
	if m.over != nil || len(*taken) != 1 {
		t.Errorf("%v %v", m.over, *taken)
	}
	m, _, _ = asked(t, part.Ask{Label: "colour"})
	enter(m, "late")
	_, cmd = m.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	press(m, "esc")
	settle(m, cmd)
	shows(t, m, "failed: it came too late")
	if m.over != nil {
		t.Error("it asks again though it was left")
	}
}

func TestPathsAreCompleted(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"bay-1.zip", "bay-é.zip", "bay-è.zip", ".bay", "cove/x"} {
		if err := errors.Join(os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700),
			os.WriteFile(filepath.Join(dir, name), nil, 0o600)); err != nil {
			t.Fatal(err)
		}
	}
	t.Chdir(dir)
	for typed, want := range map[string][]string{
		"b":         {"bay-", "3 begin so: bay-1.zip  bay-è.zip  bay-é.zip"},
		"bay-1":     {"bay-1.zip"},
		"c":         {"cove/"},
		"cove/":     {"cove/x"},
		".b":        {".bay"},
		"x":         {"x", "! no file begins so"},
		"y k=bay-1": {"y k=bay-1.zip"},
		"":          {"", "bay-1.zip", "cove/"},
	} {
		m, _, _ := asked(t, part.Ask{Label: "file", File: true})
		enter(m, typed)
		press(m, "tab")
		shows(t, m, append([]string{"file: " + want[0]}, want[1:]...)...)
	}
	m, _, _ := asked(t, part.Ask{Label: "file", Hint: "any", File: true})
	enter(m, "bay-1.zip")
	press(m, "tab") // it is whole
	shows(t, m, "file: bay-1.zip", "any; Tab completes")
	t.Setenv("HOME", dir)
	m, _, taken := asked(t, part.Ask{Label: "file", File: true})
	enter(m, "~/cove/")
	press(m, "tab")
	shows(t, m, "file: ~/cove/x")
	press(m, "enter")
	if want := filepath.Join(dir, "cove", "x"); strings.Join(*taken, " ") != want {
		t.Errorf("%v, want %s", *taken, want)
	}
	m, _, _ = asked(t, part.Ask{Label: "name"})
	enter(m, "b")
	press(m, "tab")
	shows(t, m, "name: b▏")
}

// A file is written, and over another only after a yes; where it can't be, that is told.
func TestAFileIsWritten(t *testing.T) {
	m := model(t, &fake{snap: parttest.Estate(1, 3)}, 100, 30)
	file := filepath.Join(t.TempDir(), "x.yaml")
	holds := func(want string) {
		t.Helper()
		if text, _ := os.ReadFile(file); string(text) != want {
			t.Errorf("%q, want %q", text, want)
		}
	}
	settle(m, m.heard(part.Write{File: file, Text: []byte("1"), Says: "it is there"}))
	shows(t, m, "it is there")
	holds("1")
	for key, want := range map[string]string{"n": "1", "y": "2"} {
		settle(m, m.heard(part.Write{File: file, Text: []byte("1"), Says: "again"}))
		press(m, "y")
		settle(m, m.heard(part.Write{File: file, Text: []byte("2"), Says: "again"}))
		shows(t, m, "x.yaml is there already")
		press(m, key)
		holds(want)
	}
	settle(m, m.heard(part.Write{File: filepath.Join(file, "y"), Text: nil, Says: "again"}))
	shows(t, m, "failed: writing "+filepath.Join(file, "y"))
}
