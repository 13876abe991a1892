package plain

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"
)

// hostiles are what hosts, feeds and files may try: escapes, line breaks, C1 controls, directions turned around, what
// can't be seen, and bytes that are no text.
var hostiles = []string{"\x1b[2J", "a\nb", "a\r\nb", "a\x07b", "a\x7fb", "a\u009b31mb", "a\u202eb", "a\u2066b",
	"a\u2028b", "a\u200bb", "a\ufeffb", "a\xffb", "\x00", "a\u00adb", "a\U000e0041b", "a\tb"}

func TestNothingHostileGetsThrough(t *testing.T) {
	for _, h := range hostiles {
		for name, got := range map[string]string{"line": Line(h), "cell": Cell(h)} {
			if strings.ContainsFunc(strings.ReplaceAll(got, string(Mark), ""), hostile) || !utf8.ValidString(got) {
				t.Errorf("%s of %q is %q", name, h, got)
			}
		}
		if got := Text(h); strings.ContainsFunc(strings.NewReplacer(string(Mark), "", "\n", "", "\t", "").Replace(got),
			hostile) {
			t.Errorf("text of %q is %q", h, got)
		}
		var b bytes.Buffer
		if _, err := Fprintf(&b, "%s|%v|%v\n", h, []string{h}, strings.NewReplacer()); err != nil ||
			strings.Count(b.String(), "\n") != 1 {
			t.Errorf("%q breaks its line: %q", h, b.String())
		}
		b.Reset()
		w := Writer(&b)
		for i := range len(h) { // a byte at a time
			if _, err := w.Write([]byte{h[i]}); err != nil {
				t.Fatal(err)
			}
		}
		if strings.ContainsAny(b.String(), "\x1b\x07\x7f\u009b\u202e\u2028") {
			t.Errorf("the writer lets %q through as %q", h, b.String())
		}
	}
	for _, s := range []string{"avocet", "30.4-brae1", "größer 数 ▲", "a–b", ""} {
		if Line(s) != s || Text(s) != s || Cell(s) != s {
			t.Errorf("%q was changed", s)
		}
	}
}

func TestAFormulaIsATextToASpreadsheet(t *testing.T) {
	for in, want := range map[string]string{"=1+1": "'=1+1", "+cmd": "'+cmd", "-2": "'-2", "@sum": "'@sum",
		" =1": "' =1", "a=1": "a=1", "\t=1": "' =1"} {
		if got := Cell(in); got != want {
			t.Errorf("%q is %q, want %q", in, got, want)
		}
	}
}

// JSON stays the same to whoever parses it.
func FuzzJSON(f *testing.F) {
	for _, h := range hostiles {
		f.Add(h)
	}
	f.Fuzz(func(t *testing.T, s string) {
		text, err := json.Marshal(s)
		if err != nil {
			t.Skip()
		}
		var was, is string
		out := JSON(text)
		if json.Unmarshal(text, &was) != nil || json.Unmarshal(out, &is) != nil || was != is {
			t.Errorf("%q became %q", was, is)
		}
		if strings.ContainsFunc(strings.ReplaceAll(string(out), string(Mark), ""), hostile) {
			t.Errorf("%q holds something hostile", out)
		}
	})
}

func TestEveryTextInAValue(t *testing.T) {
	type inner struct{ S []string }
	v := struct {
		A string
		B *inner
		M map[string]inner
		n string
	}{"a\x1b", &inner{[]string{"b\n"}}, map[string]inner{"k\x07": {[]string{"c\u202e"}}}, "kept\x1b"}
	Strings(&v)
	if v.A != "a\uFFFD" || v.B.S[0] != "b " || v.M["k\uFFFD"].S[0] != "c\uFFFD" || len(v.M) != 1 || v.n != "kept\x1b" {
		t.Errorf("%+v", v)
	}
}
