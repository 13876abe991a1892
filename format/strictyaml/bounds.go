package strictyaml

import (
	"bytes"
	"fmt"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/token"
)

// What a file may be: its bytes, the marks in it of which each may begin a value, values within values, values in all
// where its aliases are followed, and how often it may name an anchor. Files that people write come nowhere near.
const (
	maxBytes   = 4 << 20
	maxMarks   = 400_000
	maxDepth   = 32
	maxNodes   = 500_000
	maxAliases = 1_000
)

// bounded says why a text is not parsed at all: the parser's memory grows with depth and number, far beyond the text.
func bounded(text []byte) error {
	if len(text) > maxBytes {
		return fmt.Errorf("it is larger than %d MiB", maxBytes>>20)
	}
	marks := 0
	for _, c := range []string{"\n", ":", "-", ",", "[", "{", "?", "&", "*", "!"} {
		marks += bytes.Count(text, []byte(c))
	}
	if marks > maxMarks {
		return fmt.Errorf("it has more than %d values", maxMarks)
	}
	var s shape
	for _, t := range lexer.Tokenize(string(text)) {
		if s.take(t); s.depth() > maxDepth {
			return fmt.Errorf("line %d: it is nested more than %d deep", t.Position.Line, maxDepth)
		}
		if s.aliases > maxAliases {
			return fmt.Errorf("line %d: it has more than %d aliases", t.Position.Line, maxAliases)
		}
	}
	return nil
}

// shape is how deep a YAML text is at a token: blocks by the columns in which they begin, brackets, and properties that
// stand one behind the other (YAML 1.2.2, chapters 6.9, 7.4 and 8.2).
type shape struct {
	columns    []int
	brackets   int
	properties int
	aliases    int
	last       *token.Token
}

func (s *shape) depth() int { return len(s.columns) + s.brackets + s.properties }

func (s *shape) take(t *token.Token) {
	switch t.Type {
	case token.SequenceStartType, token.MappingStartType:
		s.brackets++
	case token.SequenceEndType, token.MappingEndType:
		s.brackets = max(s.brackets-1, 0)
	case token.SequenceEntryType, token.MappingKeyType:
		s.block(t.Position.Column)
	case token.MappingValueType:
		if s.last != nil && s.brackets == 0 {
			s.block(s.last.Position.Column)
		}
	case token.AliasType:
		s.aliases++
	}
	switch t.Type {
	case token.AnchorType, token.TagType:
		s.properties++
	case token.StringType: // an anchor's name is one too
		if s.last == nil || s.last.Type != token.AnchorType {
			s.properties = 0
		}
	default:
		s.properties = 0
	}
	s.last = t
}

// block opens a block at the column, and closes those that lie further in.
func (s *shape) block(column int) {
	for n := len(s.columns); n > 0 && s.columns[n-1] > column; n = len(s.columns) {
		s.columns = s.columns[:n-1]
	}
	if n := len(s.columns); n == 0 || s.columns[n-1] < column {
		s.columns = append(s.columns, column)
	}
}

// counter counts the values that a document comes to where its aliases are followed.
type counter struct{ anchors map[string]int }

// count counts a node and what is in it; beyond maxNodes it does not go on. An alias to what it is in itself counts as
// too many.
func (c *counter) count(n ast.Node) int {
	total := 1
	add := func(children ...ast.Node) {
		for _, child := range children {
			if child != nil && total <= maxNodes {
				total += c.count(child)
			}
		}
	}
	switch n := n.(type) {
	case *ast.MappingNode:
		for _, v := range n.Values {
			add(v)
		}
	case *ast.MappingValueNode:
		add(n.Key, n.Value)
	case *ast.SequenceNode:
		add(n.Values...)
	case *ast.TagNode:
		add(n.Value)
	case *ast.AnchorNode:
		name := n.Name.GetToken().Value
		c.anchors[name] = maxNodes + 1
		add(n.Value)
		c.anchors[name] = total
	case *ast.AliasNode:
		total += c.anchors[n.Value.GetToken().Value]
	}
	return total
}
