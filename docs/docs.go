// Package docs is the manual, as pages of Markdown that the program carries with it.
package docs

import (
	"embed"
	"io/fs"
	"path"
	"slices"
	"strings"
)

//go:embed *.md prechecks/*.md
var pages embed.FS

// Topics are the names of the pages: of files of docs/, and of checks.
func Topics() (out []string) {
	_ = fs.WalkDir(pages, ".", func(name string, d fs.DirEntry, err error) error { // what is embedded can be read
		if err == nil && !d.IsDir() {
			out = append(out, topic(name))
		}
		return err
	})
	slices.Sort(out)
	return out
}

func topic(file string) string {
	if file == "prechecks/README.md" {
		return "prechecks"
	}
	return strings.TrimSuffix(path.Base(file), ".md")
}

// Found is what the manual says somewhere: a whole page, a part of one, or a row of a table.
type Found struct{ Page, Text string }

// Find returns what the manual says of a topic: the page of that name, parts of pages under that heading, and rows of
// tables that are about it. Of parts and rows the first page that has one is taken.
func Find(of string) (out []Found) {
	of = strings.ToLower(strings.TrimSpace(of))
	if of == "" {
		return nil
	}
	var files []string
	_ = fs.WalkDir(pages, ".", func(name string, d fs.DirEntry, err error) error { // what is embedded can be read
		if err == nil && !d.IsDir() {
			files = append(files, name)
		}
		return err
	})
	for _, find := range []func(name, text string) (string, bool){
		func(name, text string) (string, bool) { return text, topic(name) == of },
		func(_, text string) (string, bool) { return section(text, of) },
		func(_, text string) (string, bool) { return row(text, of) },
	} {
		for _, name := range files {
			all, err := pages.ReadFile(name)
			if err != nil {
				continue
			}
			got, found := find(name, string(all))
			if !found || strings.Contains(told(out), got) {
				continue
			}
			out = append(out, Found{topic(name), got})
			break
		}
	}
	return out
}

func told(all []Found) (out string) {
	for _, f := range all {
		out += f.Text
	}
	return out
}

// section is the part of a page under a heading.
func section(text, heading string) (string, bool) {
	var out []string
	depth := 0
	for line := range strings.Lines(text) {
		title := strings.TrimLeft(line, "#")
		n := len(line) - len(title)
		switch {
		case depth > 0 && n > 0 && n <= depth:
			return strings.Join(out, ""), true
		case depth == 0 && n > 0 && strings.ToLower(strings.TrimSpace(title)) == heading:
			depth = n
		}
		if depth > 0 {
			out = append(out, line)
		}
	}
	return strings.Join(out, ""), depth > 0
}

// row is the row of a table whose first cell, or the one behind a sign, is the word, with the headings.
func row(text, word string) (string, bool) {
	head, rule := "", ""
	for line := range strings.Lines(text) {
		cells := strings.Split(line, "|")
		switch {
		case len(cells) < 3 || strings.TrimSpace(cells[0]) != "":
			head, rule = "", ""
		case head == "":
			head = line
		case rule == "":
			rule = line
		case is(cells[1], word), len(strings.TrimSpace(cells[1])) <= len("▾") && is(cells[2], word):
			return head + rule + line, true
		}
	}
	return "", false
}

func is(cell, word string) bool {
	return strings.ToLower(strings.Trim(strings.TrimSpace(cell), "*`")) == word
}

// Means is what a page of a check, or a row about a word, says in a sentence; ok is false for what is neither.
func Means(f Found) (says string, ok bool) {
	switch lines := strings.Split(strings.TrimSpace(f.Text), "\n"); {
	case strings.HasPrefix(f.Text, "|") && len(lines) == 3:
		cells := strings.Split(strings.Trim(lines[2], "|"), " | ")
		return strings.TrimSpace(cells[min(len(cells)-1, len(cells)/2)]), true
	case strings.HasPrefix(f.Text, "# ") && len(lines) > 2:
		return lines[2], true
	}
	return "", false
}
