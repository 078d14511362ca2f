package wire

import (
	"encoding"
	"encoding/json"
	"reflect"
	"sync"
)

// WithLists gives a value whose lists are there also where nothing is in them: in JSON they are [], through which programs go
// as through any list, and not null.
func WithLists(v any) any {
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
	if !mayHold(t) {
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
		if !v.IsNil() && !mayHold(t.Elem()) {
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

var holding sync.Map // whether values of a type may hold lists, by type

// mayHold says whether there may be a list in a value of some type.
func mayHold(t reflect.Type) bool {
	if known, ok := holding.Load(t); ok {
		return known.(bool)
	}
	holding.Store(t, true) // for types that hold themselves
	holds := false
	switch {
	case t.Implements(jsonMarshaler) || t.Implements(textMarshaler): // it writes itself
	case t.Kind() == reflect.Interface, t.Kind() == reflect.Slice:
		holds = true
	case t.Kind() == reflect.Pointer || t.Kind() == reflect.Map:
		holds = mayHold(t.Elem())
	case t.Kind() == reflect.Struct:
		for i := range t.NumField() {
			holds = holds || t.Field(i).IsExported() && mayHold(t.Field(i).Type)
		}
	}
	holding.Store(t, holds)
	return holds
}
