package cli

import (
	"encoding"
	"encoding/json"
	"reflect"
)

// withLists gives a value whose lists are there also where nothing is in them: in JSON they are [], through which programs go
// as through any list, and not null.
func withLists(v any) any {
	if v == nil {
		return nil
	}
	return filled(reflect.ValueOf(v)).Interface()
}

var (
	jsonMarshaler = reflect.TypeFor[json.Marshaler]()
	textMarshaler = reflect.TypeFor[encoding.TextMarshaler]()
)

func filled(v reflect.Value) reflect.Value {
	t := v.Type()
	if t.Implements(jsonMarshaler) || t.Implements(textMarshaler) { // it writes itself
		return v
	}
	out := v
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return v
		}
		out = reflect.New(t).Elem()
		if v.Kind() == reflect.Interface {
			out.Set(filled(v.Elem()))
			return out
		}
		out.Set(reflect.New(t.Elem()))
		out.Elem().Set(filled(v.Elem()))
	case reflect.Struct:
		out = reflect.New(t).Elem()
		out.Set(v)
		for i := range t.NumField() {
			if t.Field(i).IsExported() {
				out.Field(i).Set(filled(v.Field(i)))
			}
		}
	case reflect.Slice:
		if t.Elem().Kind() == reflect.Uint8 { // bytes are text in JSON
			return v
		}
		out = reflect.MakeSlice(t, v.Len(), v.Len())
		for i := range v.Len() {
			out.Index(i).Set(filled(v.Index(i)))
		}
	case reflect.Map:
		if v.IsNil() {
			return v
		}
		out = reflect.MakeMapWithSize(t, v.Len())
		for key, x := range v.Seq2() {
			out.SetMapIndex(key, filled(x))
		}
	}
	return out
}
