package export

import (
	"encoding"
	"encoding/json"
	"reflect"
)

// listed is the value with an empty list for each list that is none, and an empty object for each map: JSON says [] and
// {} of what there is nothing of, wherever it stands. What writes itself is left as it is.
func listed(v any) any {
	if v == nil {
		return v
	}
	return whole(reflect.ValueOf(v)).Interface()
}

var (
	writesJSON = reflect.TypeFor[json.Marshaler]()
	writesText = reflect.TypeFor[encoding.TextMarshaler]()
)

func whole(v reflect.Value) reflect.Value {
	t := v.Type()
	if t.Implements(writesJSON) || t.Implements(writesText) {
		return v
	}
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return v
		}
		out := reflect.New(t.Elem())
		out.Elem().Set(whole(v.Elem()))
		return out
	case reflect.Interface:
		if v.IsNil() {
			return v
		}
		out := reflect.New(t).Elem()
		out.Set(whole(v.Elem()))
		return out
	case reflect.Slice:
		if t.Elem().Kind() == reflect.Uint8 {
			return v
		}
		out := reflect.MakeSlice(t, v.Len(), v.Len())
		for i := range v.Len() {
			out.Index(i).Set(whole(v.Index(i)))
		}
		return out
	case reflect.Map:
		out := reflect.MakeMapWithSize(t, v.Len())
		for k, x := range v.Seq2() {
			out.SetMapIndex(k, whole(x))
		}
		return out
	case reflect.Struct:
		out := reflect.New(t).Elem()
		out.Set(v)
		for i := range t.NumField() {
			if t.Field(i).IsExported() {
				out.Field(i).Set(whole(v.Field(i)))
			}
		}
		return out
	}
	return v
}
