package bounds

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"
)

func TestWhatIsRefused(t *testing.T) {
	small := Limits{Depth: 3, Values: 12, Scalar: 1 << 14}
	long := strings.Repeat("x", 1<<14+1)
	for _, c := range []struct {
		kind, text string
		refused    bool
	}{
		{"json", `{"a": [{"b": 1}]}`, false},
		{"json", `{"a": [{"b": [1]}]}`, true},
		{"json", `"[[[[[[[[{{{{"`, false},
		{"json", `"\"[[[[[[[[{{{{"`, false},
		{"json", `["\\", [[["\\"]]]]`, true},
		{"json", `[1,2,3,4,5,6,7,8,9,10]`, false},
		{"json", `[1,2,3,4,5,6,7,8,9,10,11,12]`, true},
		{"json", `["` + long + `"]`, true},
		{"json", `["` + long, true},
		{"json", "", false},
		{"xml", `<a><b c="<d><e><f>"><d/><d/></b></a>`, false},
		{"xml", `<a><b><c><d>`, true},
		{"xml", `<a><b><c><d/></c></b></a>`, false},
		{"xml", `<a><!-- <b><c><d><e> -- --><b/></a>`, false},
		{"xml", `<a><![CDATA[<b><c><d><e>]] ]]><b/></a>`, false},
		{"xml", `<a><!-- --><b><c><d></a>`, true},
		{"xml", `<?xml version="1.0"?><!DOCTYPE a><a><b><c/></b></a>`, false},
		{"xml", `<a b='>' c=">"><b><c></c></b></a>`, false},
		{"xml", strings.Repeat("<a/>", 13), true},
		{"xml", "<a>" + long + "</a>", true},
		{"xml", "<a " + strings.Repeat(`b="c" `, 2000) + "/>", true},
		{"xml", "<!-- " + long, true},
	} {
		var err error
		if c.kind == "json" {
			err = JSON([]byte(c.text), small)
		} else {
			_, err = io.Copy(io.Discard, XML(strings.NewReader(c.text), small))
		}
		if c.refused != errors.Is(err, ErrRefused) || !c.refused && err != nil {
			t.Errorf("%s %.60s: %v", c.kind, c.text, err)
		}
	}
}

// What a parser finds nested, a look before finds nested too.
func FuzzXML(f *testing.F) {
	f.Add(`<a><b c="<d>"><!-- <x> --><![CDATA[<y>]]></b></a>`)
	f.Fuzz(func(t *testing.T, text string) {
		deepest, depth := 0, 0
		d := xml.NewDecoder(strings.NewReader(text))
		var err error
		for err == nil {
			var tok xml.Token
			switch tok, err = d.Token(); tok.(type) {
			case xml.StartElement:
				depth++
			case xml.EndElement:
				depth--
			}
			deepest = max(deepest, depth)
		}
		if _, refused := io.Copy(io.Discard, XML(strings.NewReader(text), Limits{Depth: 3})); errors.Is(err, io.EOF) &&
			deepest > 4 && refused == nil {
			t.Errorf("%d deep, and let through: %q", deepest, text)
		}
	})
}

func FuzzJSON(f *testing.F) {
	f.Add(`{"a": [{"b": [1, "\"["]}]}`)
	f.Fuzz(func(t *testing.T, text string) {
		var v any
		if json.Unmarshal([]byte(text), &v) == nil && deep(v) > 3 && JSON([]byte(text), Limits{Depth: 3}) == nil {
			t.Errorf("%d deep, and let through: %q", deep(v), text)
		}
	})
}

func deep(v any) int {
	most := 0
	switch v := v.(type) {
	case []any:
		for _, x := range v {
			most = max(most, deep(x))
		}
	case map[string]any:
		for _, x := range v {
			most = max(most, deep(x))
		}
	default:
		return 0
	}
	return most + 1
}
