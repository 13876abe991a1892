// Package strictyaml reads YAML that people write: unknown fields are errors, and every error says where it stands and what
// was expected there.
package strictyaml

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Error is something wrong at one place of a file. Line and Column count from 1; 0 means the file as a whole.
type Error struct {
	File         string
	Line, Column int
	Message      string
}

// Error says where and what: "vts.yaml:12:7: no posture "atleast": …".
func (e *Error) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.File, e.Message)
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.File, e.Line, e.Column, e.Message)
}

// File is a YAML file that was read, for asking where things stand in it.
type File struct {
	Name string
	tree *ast.File
}

// Decode reads the one document in text into v. A file that is empty or has a second document is refused.
func Decode(name string, text []byte, v any) (*File, error) {
	tree, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, located(name, err)
	}
	if len(bytes.TrimSpace(text)) == 0 || len(tree.Docs) == 0 || tree.Docs[0].Body == nil {
		return nil, &Error{File: name, Message: "the file is empty"}
	}
	if len(tree.Docs) > 1 {
		return nil, &Error{File: name, Line: tree.Docs[1].Start.Position.Line, Column: 1, Message: "a second document begins here; one file holds one"}
	}
	if err := yaml.NewDecoder(bytes.NewReader(text), yaml.Strict()).Decode(v); err != nil && !errors.Is(err, io.EOF) {
		return nil, located(name, err)
	}
	return &File{Name: name, tree: tree}, nil
}

// located turns an error of the YAML package into one of ours.
func located(name string, err error) error {
	e := &Error{File: name, Message: firstLine(err.Error())}
	var y yaml.Error
	if errors.As(err, &y) {
		e.Message = y.GetMessage()
		if t := y.GetToken(); t != nil {
			e.Line, e.Column = t.Position.Line, t.Position.Column
		}
	}
	return e
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

// Line returns the line on which the node at path begins, and 0 if there is none.
func (f *File) Line(path string) int {
	line, _ := f.position(path)
	return line
}

// Errorf returns an error at the node at path, in goccy's YAML path syntax: "$.clauses[2].posture". Where there is no
// such node, the nearest one above it is meant.
func (f *File) Errorf(path, format string, args ...any) error {
	e := &Error{File: f.Name, Message: fmt.Sprintf(format, args...)}
	for e.Line, e.Column = f.position(path); e.Line == 0 && strings.ContainsAny(path, ".["); e.Line, e.Column = f.position(path) {
		path = path[:strings.LastIndexAny(path, ".[")]
	}
	return e
}

func (f *File) position(path string) (line, column int) {
	p, err := yaml.PathString(path)
	if err != nil {
		return 0, 0
	}
	n, err := p.FilterFile(f.tree)
	if err != nil || n == nil {
		return 0, 0
	}
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 {
		n = m.Values[0].Key
	}
	if m, ok := n.(*ast.MappingValueNode); ok {
		n = m.Key
	}
	t := n.GetToken()
	return t.Position.Line, t.Position.Column
}
