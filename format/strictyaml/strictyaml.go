// Package strictyaml reads YAML that people write: unknown fields are errors, and every error says where it stands and
// what was expected there.
package strictyaml

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
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
	if err := bounded(text); err != nil {
		return nil, &Error{File: name, Message: err.Error()}
	}
	tree, err := parser.ParseBytes(text, 0)
	if err != nil {
		return nil, located(name, err)
	}
	if len(bytes.TrimSpace(text)) == 0 || len(tree.Docs) == 0 || tree.Docs[0].Body == nil {
		return nil, &Error{File: name, Message: "the file is empty"}
	}
	if len(tree.Docs) > 1 {
		return nil, &Error{File: name, Line: tree.Docs[1].Start.Position.Line, Column: 1,
			Message: "a second document begins here; one file holds one"}
	}
	if n := (&counter{anchors: map[string]int{}}).count(tree.Docs[0].Body); n > maxNodes {
		return nil, &Error{File: name, Message: fmt.Sprintf("its aliases make more than %d values of it", maxNodes)}
	}
	if n := nothing(tree.Docs[0].Body); n != nil {
		t := n.GetToken()
		return nil, &Error{name, t.Position.Line, t.Position.Column,
			"nothing stands here: write a value, or leave the name out"}
	}
	ast.Walk(asWritten{}, tree.Docs[0].Body)
	if err := yaml.NewDecoder(bytes.NewReader(nil), yaml.Strict()).DecodeFromNode(tree.Docs[0].Body, v); err != nil {
		return nil, located(name, err)
	}
	if n := notWhole(tree.Docs[0].Body, reflect.TypeOf(v)); n != nil {
		t := n.GetToken()
		return nil, &Error{name, t.Position.Line, t.Position.Column,
			fmt.Sprintf("a whole number is expected here, and this is %q", t.Value)}
	}
	return &File{Name: name, tree: tree}, nil
}

// nothing finds the first value that is null or an empty text: nobody can say what was meant.
func nothing(n ast.Node) ast.Node {
	empty := func(v ast.Node) bool {
		s, text := v.(*ast.StringNode)
		return v == nil || v.Type() == ast.NullType || text && strings.TrimSpace(s.Value) == ""
	}
	found := finder{is: empty}
	ast.Walk(&found, n)
	return found.at
}

// finder walks to the first value of a mapping or sequence that is what is looked for.
type finder struct {
	is func(ast.Node) bool
	at ast.Node
}

// Visit implements ast.Visitor.
func (f *finder) Visit(n ast.Node) ast.Visitor {
	look := func(at, v ast.Node) {
		if f.at == nil && f.is(v) {
			f.at = at
		}
	}
	switch n := n.(type) {
	case *ast.MappingValueNode:
		look(n.Key, n.Value)
	case *ast.SequenceNode:
		for _, v := range n.Values {
			look(n, v)
		}
	}
	return f
}

// notWhole finds the first value that is no whole number where one is wanted: the YAML package would cut it down to
// one.
func notWhole(n ast.Node, t reflect.Type) ast.Node {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch v := n.(type) {
	case *ast.AnchorNode:
		return notWhole(v.Value, t)
	case *ast.MappingNode:
		for _, pair := range v.Values {
			if bad := notWhole(pair, t); bad != nil {
				return bad
			}
		}
	case *ast.MappingValueNode:
		if to := under(t, v.Key.GetToken().Value); to != nil {
			return notWhole(v.Value, to)
		}
	case *ast.SequenceNode:
		for _, item := range v.Values {
			if t.Kind() != reflect.Slice {
				break
			}
			if bad := notWhole(item, t.Elem()); bad != nil {
				return bad
			}
		}
	case *ast.StringNode:
		if k := t.Kind(); k == reflect.Int || k == reflect.Int64 {
			return v
		}
	}
	return nil
}

// under is the type of what stands under a name in a mapping that is decoded into t, and nil where that is nothing of
// ours.
func under(t reflect.Type, name string) reflect.Type {
	switch t.Kind() {
	case reflect.Map:
		return t.Elem()
	case reflect.Struct:
		for f := range t.Fields() {
			if tag, _, _ := strings.Cut(f.Tag.Get("yaml"), ","); tag == name {
				return f.Type
			}
		}
	}
	return nil
}

// asWritten makes texts of the scalars that YAML takes for numbers and does not write back as they stand: a version
// 2.30 is not 2.3, 010 is not 8, and 2.5 is no whole number. Where a number is wanted such a text is an error.
type asWritten struct{}

// Visit implements ast.Visitor.
func (v asWritten) Visit(n ast.Node) ast.Visitor {
	switch n := n.(type) {
	case *ast.MappingValueNode:
		n.Value = written(n.Value)
	case *ast.SequenceNode:
		for i := range n.Values {
			n.Values[i] = written(n.Values[i])
		}
	case *ast.AnchorNode:
		n.Value = written(n.Value)
	case *ast.TagNode: // what is said to be a text is one, as it stands
		if value, ok := n.Value.(ast.ScalarNode); ok && n.Start.Value == "!!str" {
			n.Value = ast.String(value.GetToken())
		}
	}
	return v
}

func written(n ast.Node) ast.Node {
	switch n := n.(type) {
	case *ast.IntegerNode:
		if fmt.Sprint(n.Value) == n.Token.Value {
			return n
		}
	case *ast.FloatNode, *ast.InfinityNode, *ast.NanNode:
	default:
		return n
	}
	return ast.String(n.GetToken())
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
	var kind *yaml.TypeError
	var node *yaml.UnexpectedNodeTypeError
	var over *yaml.OverflowError
	switch {
	case errors.As(err, &kind):
		e.Message = fmt.Sprintf("%s is expected here, and this is %s", noun(kind.DstType), nounOr(kind, kind.SrcType))
	case errors.As(err, &node):
		e.Message = fmt.Sprintf("%s is expected here, and this is %s", nodeNoun(node.Expected), nodeNoun(node.Actual))
	case errors.As(err, &over):
		e.Message = over.SrcNum + " is too large a number"
	}
	return e
}

// nounOr is the noun for what stands there; a text is quoted.
func nounOr(e *yaml.TypeError, t reflect.Type) string {
	if t != nil && t.Kind() == reflect.String && e.Token != nil {
		return fmt.Sprintf("%q", e.Token.Value)
	}
	return noun(t)
}

// noun says in plain words what a Go type holds.
func noun(t reflect.Type) string {
	for t != nil && t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t == nil {
		return "nothing"
	}
	switch t.Kind() {
	case reflect.String:
		return "a text"
	case reflect.Bool:
		return "true or false"
	case reflect.Slice, reflect.Array:
		return "a list"
	case reflect.Map, reflect.Struct:
		return "a mapping of names to values"
	}
	return "a whole number"
}

func nodeNoun(t ast.NodeType) string {
	switch t {
	case ast.SequenceType:
		return "a list"
	case ast.MappingType, ast.MappingValueType:
		return "a mapping of names to values"
	case ast.NullType:
		return "nothing"
	}
	return "a single value"
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

// Lines are those, from 1, on which each entry of the list at path begins and ends, and the column, from 1, in which its
// "-" stands. ok is false where there is no such list, or it is written between brackets.
func (f *File) Lines(path string) (entries [][2]int, column int, ok bool) {
	p, err := yaml.PathString(path)
	if err != nil {
		return nil, 0, false
	}
	n, err := p.FilterFile(f.tree)
	list, is := n.(*ast.SequenceNode)
	if err != nil || !is || list.IsFlowStyle {
		return nil, 0, false
	}
	for _, e := range list.Values {
		s := extent{}
		ast.Walk(&s, e)
		entries = append(entries, s)
	}
	return entries, list.Start.Position.Column, true
}

// extent is the first and the last line of a node.
type extent [2]int

// Visit implements ast.Visitor.
func (e *extent) Visit(n ast.Node) ast.Visitor {
	t := n.GetToken()
	first := t.Position.Line
	if e[0] == 0 || first < e[0] {
		e[0] = first
	}
	e[1] = max(e[1], first+strings.Count(strings.TrimSpace(t.Origin), "\n"))
	return e
}

// Errorf returns an error at the node at path, in goccy's YAML path syntax: "$.clauses[2].posture". Where there is no
// such node, the nearest one above it is meant.
func (f *File) Errorf(path, format string, args ...any) error {
	e := &Error{File: f.Name, Message: fmt.Sprintf(format, args...)}
	for e.Line, e.Column = f.position(path); e.Line == 0 && strings.ContainsAny(path, ".["); e.Line,
		e.Column = f.position(path) {
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
