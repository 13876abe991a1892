// Package plain is the border that texts from outside pass before they are shown: names, versions and messages of
// hosts, BMCs, feeds and files, on a terminal, in a table, a drawing or a log. What would move a cursor, break a line,
// turn the direction of a text around or hide in it becomes a mark that can be seen (U+FFFD). It knows nothing of what
// the texts mean.
//
// Which characters that are: the control characters of ECMA-48 (C0, DEL, C1), the line and paragraph separators, the
// explicit directional formatting characters of Unicode Standard Annex 9, section 2, and what has no width of its own;
// and bytes that are no UTF-8.
package plain

import (
	"bytes"
	"fmt"
	"io"
	"reflect"
	"strings"
	"unicode/utf8"
)

// Mark stands for what was taken out.
const Mark = '\uFFFD'

// hostile tells whether a rune must not reach whoever looks. Tabs and line breaks are; whoever allows them asks for
// that.
func hostile(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r < 0xa0:
		return true
	case r < 0x0600:
		return r == 0xad // soft hyphen
	case r >= 0x200b && r <= 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2060 && r <= 0x206f, r == 0x061c, r == 0xfeff,
		r == 0x180e, r >= 0xfff9 && r <= 0xfffb:
		return true
	case r >= 0xe0000 && r <= 0xe0fff: // tags and variation selectors
		return true
	}
	return r == utf8.RuneError
}

// clean tells whether nothing in s is hostile. Most texts are ASCII, and looked at byte by byte.
func clean(s string) bool {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < 0x20 || c == 0x7f {
			return false
		} else if c >= 0x80 {
			return !strings.ContainsFunc(s[i:], hostile)
		}
	}
	return true
}

// Line is s as one line that means nothing but itself: a tab or line break becomes a blank, everything else that is
// hostile a Mark.
func Line(s string) string {
	if clean(s) {
		return s
	}
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\t' || r == '\n' || r == '\r':
			return ' '
		case hostile(r):
			return Mark
		}
		return r
	}, strings.ToValidUTF8(s, string(Mark)))
}

// Text is s with its lines and tabs; everything else that is hostile becomes a Mark.
func Text(s string) string {
	if clean(s) {
		return s
	}
	return strings.Map(func(r rune) rune {
		if r != '\t' && r != '\n' && hostile(r) {
			return Mark
		}
		return r
	}, strings.ReplaceAll(strings.ToValidUTF8(s, string(Mark)), "\r\n", "\n"))
}

// Cell is s as a cell of a CSV file: a line, and never a formula to a spreadsheet.
func Cell(s string) string {
	s = Line(s)
	if t := strings.TrimLeft(s, " "); t != "" && strings.ContainsRune("=+-@\uff1d\uff0b\uff0d\uff20", firstRune(t)) {
		return "'" + s
	}
	return s
}

func firstRune(s string) rune {
	r, _ := utf8.DecodeRuneInString(s)
	return r
}

// JSON is a JSON text in which everything hostile in its strings is written as an escape (RFC 8259, section 7): the
// same text to whoever parses it, and harmless to whoever looks.
func JSON(text []byte) []byte {
	if !bytes.ContainsFunc(text, func(r rune) bool { return hostile(r) && r != '\n' && r != '\t' && r != '\r' }) {
		return text
	}
	var out bytes.Buffer
	for len(text) > 0 {
		r, n := utf8.DecodeRune(text)
		switch {
		case !hostile(r) || r == '\n' || r == '\t' || r == '\r' || r == utf8.RuneError:
			out.Write(text[:n])
		case r > 0xffff:
			fmt.Fprintf(&out, `\u%04x\u%04x`, 0xd800+(r-0x10000)>>10, 0xdc00+(r-0x10000)&0x3ff)
		default:
			fmt.Fprintf(&out, `\u%04x`, r)
		}
		text = text[n:]
	}
	return out.Bytes()
}

// Fprintf is fmt.Fprintf for lines that people look at: every argument that is a text is made a Line first.
func Fprintf(w io.Writer, format string, args ...any) (int, error) {
	out := make([]any, len(args))
	for i, a := range args {
		out[i] = arg(a)
	}
	return fmt.Fprintf(w, format, out...)
}

// Fprintln is fmt.Fprintln for what people look at: every argument that is a text is made a Text first.
func Fprintln(w io.Writer, args ...any) (int, error) {
	out := make([]any, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case string:
			out[i] = Text(v)
		case error:
			out[i] = Text(v.Error())
		default:
			out[i] = arg(a)
		}
	}
	return fmt.Fprintln(w, out...)
}

func arg(a any) any {
	switch v := a.(type) {
	case string:
		return Line(v)
	case error:
		return Text(v.Error())
	case fmt.Stringer:
		return Line(v.String())
	}
	v := reflect.ValueOf(a)
	switch {
	case v.Kind() == reflect.String:
		return Line(v.String())
	case v.Kind() == reflect.Slice && v.Type().Elem().Kind() == reflect.String:
		var out []string
		for i := range v.Len() {
			out = append(out, Line(v.Index(i).String()))
		}
		return out
	}
	return a
}

// Writer returns a writer that lets only harmless text through to w: for a terminal, whatever is printed on it.
func Writer(w io.Writer) io.Writer { return &writer{w: w} }

type writer struct {
	w    io.Writer
	rest []byte // the beginning of a rune whose end has not come yet
}

// Write implements io.Writer.
func (p *writer) Write(b []byte) (int, error) {
	all := append(p.rest, b...)
	end := len(all)
	for back := 1; back <= 3 && back <= len(all); back++ {
		if c := all[len(all)-back]; utf8.RuneStart(c) {
			if !utf8.FullRune(all[len(all)-back:]) {
				end = len(all) - back
			}
			break
		}
	}
	p.rest = bytes.Clone(all[end:])
	if _, err := io.WriteString(p.w, keep(string(all[:end]))); err != nil {
		return 0, err
	}
	return len(b), nil
}

// keep is Text, but for the carriage return and erasure with which a progress line is written over.
func keep(s string) string {
	const again = "\r\x1b[K"
	parts := strings.Split(s, again)
	for i := range parts {
		parts[i] = Text(parts[i])
	}
	return strings.Join(parts, again)
}

// Strings makes every text in v a Line, however deep it stands: v is a pointer to a value of structs, slices, maps and
// pointers. Fields that are not exported stay as they are.
func Strings(v any) { walk(reflect.ValueOf(v)) }

func walk(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			walk(v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				walk(v.Field(i))
			}
		}
	case reflect.Slice, reflect.Array:
		if k := v.Type().Elem().Kind(); k == reflect.Uint8 || k == reflect.Int64 || k == reflect.Float64 {
			return
		}
		for i := range v.Len() {
			walk(v.Index(i))
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			e := reflect.New(v.Type().Elem()).Elem()
			e.Set(v.MapIndex(k))
			walk(e)
			if k.Kind() == reflect.String && !clean(k.String()) {
				v.SetMapIndex(k, reflect.Value{})
				k = reflect.ValueOf(Line(k.String())).Convert(k.Type())
			}
			v.SetMapIndex(k, e)
		}
	case reflect.String:
		if v.CanSet() && !clean(v.String()) {
			v.SetString(Line(v.String()))
		}
	}
}
