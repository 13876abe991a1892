package brieffile

import (
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"yareharbour/core/brief"
)

// policy is what is done with guests that do not move, in a file.
type policy struct {
	Guests []string `yaml:"guests"`
	Do     string   `yaml:"do"`
}

// types are those of the kinds in a file.
var types = map[brief.Kind]reflect.Type{brief.Names: reflect.TypeFor[[]string](), brief.Lines: reflect.TypeFor[[]string](),
	brief.Windows: reflect.TypeFor[[]string](),
	brief.Pairs:   reflect.TypeFor[map[string]string](), brief.Policies: reflect.TypeFor[[]policy](), brief.Word: reflect.TypeFor[string](),
	brief.Whole: reflect.TypeFor[*int64](), brief.Percent: reflect.TypeFor[*float64](), brief.Span: reflect.TypeFor[string](),
	brief.Yes: reflect.TypeFor[bool]()}

// inFile is the value in a file that says these words.
func inFile(s *brief.Setting, words []string) reflect.Value {
	switch s.Kind {
	case brief.Names, brief.Lines, brief.Windows:
		return reflect.ValueOf(words)
	case brief.Pairs:
		out := map[string]string{}
		for _, w := range words {
			k, v, _ := strings.Cut(w, "=")
			out[k] = v
		}
		return reflect.ValueOf(out)
	case brief.Policies:
		var out []policy
		for _, w := range words {
			names, do, _ := strings.Cut(w, "=")
			out = append(out, policy{strings.Split(names, ","), do})
		}
		return reflect.ValueOf(out)
	case brief.Whole:
		n, _ := strconv.ParseInt(words[0], 10, 64) // it was written here
		return reflect.ValueOf(&n)
	case brief.Percent:
		n, _ := strconv.ParseFloat(words[0], 64) // it was written here
		return reflect.ValueOf(&n)
	case brief.Yes:
		return reflect.ValueOf(true)
	}
	return reflect.ValueOf(words[0])
}

// ofFile are the words that a value in a file says; said tells whether it stands there.
func ofFile(v reflect.Value) (words []string, said bool) {
	if v.IsZero() {
		return nil, false
	}
	switch x := v.Interface().(type) {
	case []string:
		return x, true
	case map[string]string:
		for _, k := range slices.Sorted(maps.Keys(x)) {
			words = append(words, k+"="+x[k])
		}
		return words, true
	case []policy:
		for _, p := range x {
			words = append(words, strings.Join(p.Guests, ",")+"="+p.Do)
		}
		return words, true
	case *int64:
		return []string{strconv.FormatInt(*x, 10)}, true
	case *float64:
		return []string{strconv.FormatFloat(*x, 'f', -1, 64)}, true
	case bool:
		return []string{"true"}, true
	}
	return []string{v.String()}, true
}

// form is a file: a struct with the cluster, the reason, and a field for each setting.
var form = func() reflect.Type {
	field := func(n int, name string, t reflect.Type) reflect.StructField {
		return reflect.StructField{Name: "F" + strconv.Itoa(n), Type: t, Tag: reflect.StructTag(`yaml:"` + name + `,omitempty"`)}
	}
	fields := []reflect.StructField{field(0, "brief", reflect.TypeFor[string]()), field(1, "reason", reflect.TypeFor[string]())}
	for i, s := range brief.Settings {
		fields = append(fields, field(i+2, s.Key(), types[s.Kind]))
	}
	return reflect.StructOf(fields)
}()

// schema is what a schema says of the setting.
func schema(s *brief.Setting) map[string]any {
	out := map[string]any{"description": strings.ToUpper(s.Help[:1]) + s.Help[1:] + "."}
	switch s.Kind {
	case brief.Names, brief.Lines:
		out["$ref"] = "#/$defs/names"
	case brief.Windows:
		out["type"], out["items"] = "array", map[string]any{"type": "string", "pattern": "^[^/]+/[^/]+$"}
	case brief.Pairs:
		out["type"], out["additionalProperties"] = "object", map[string]any{"type": "string", "minLength": 1}
	case brief.Policies:
		out["type"] = "array"
		out["items"] = map[string]any{"type": "object", "required": []string{"guests", "do"}, "additionalProperties": false,
			"properties": map[string]any{"guests": map[string]any{"$ref": "#/$defs/names"},
				"do": map[string]any{"enum": brief.Dos()}}}
	case brief.Whole:
		out["type"], out["minimum"] = "integer", s.Least
	case brief.Percent:
		out["type"], out["minimum"], out["maximum"] = "number", 1, 100
	case brief.Span:
		out["$ref"] = "#/$defs/duration"
	case brief.Yes:
		out["type"] = "boolean"
	default:
		if out["type"] = "string"; len(s.Choice) > 0 {
			out["enum"] = s.Choice
		}
	}
	return out
}
