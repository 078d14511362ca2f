package wire

import (
	"encoding"
	"encoding/json"
	"reflect"
	"strings"
	"sync"
)

// WithLists returns a value whose lists are there also where nothing is in them: in JSON they are [], through
// which programs go as through any list, and not null. What lacks none is the value itself, and what of it
// lacks none is shared.
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

// filled copies what lacks a list, down to those.
func filled(v reflect.Value) reflect.Value {
	if !lacks(v) {
		return v
	}

	t := v.Type()
	out := reflect.New(t).Elem()
	switch v.Kind() {
	case reflect.Interface:
		out.Set(filled(v.Elem()))
	case reflect.Pointer:
		out.Set(reflect.New(t.Elem()))
		out.Elem().Set(filled(v.Elem()))
	case reflect.Struct:
		out.Set(v)
		for _, i := range fieldsOf(t).list {
			out.Field(i.at).Set(filled(v.Field(i.at)))
		}
	case reflect.Slice:
		out = reflect.MakeSlice(t, v.Len(), v.Len())
		for i := range v.Len() {
			out.Index(i).Set(filled(v.Index(i)))
		}
	case reflect.Map:
		out = reflect.MakeMapWithSize(t, v.Len())
		for key, x := range v.Seq2() {
			out.SetMapIndex(key, filled(x))
		}
	}

	return out
}

// lacks reports whether some list in a value would be null in JSON.
func lacks(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.Interface:
		return !v.IsNil() && lacks(v.Elem())
	case reflect.Pointer:
		return !v.IsNil() && fieldsOf(v.Type()).may && lacks(v.Elem())
	case reflect.Struct:
		for _, i := range fieldsOf(v.Type()).list {
			if f := v.Field(i.at); !(i.omitted && f.IsZero()) && lacks(f) {
				return true
			}
		}

	case reflect.Slice:
		of := fieldsOf(v.Type())
		if !of.may || v.IsNil() {
			return of.may
		}
		for i := 0; of.within && i < v.Len(); i++ {
			if lacks(v.Index(i)) {
				return true
			}
		}

	case reflect.Map:
		if !fieldsOf(v.Type()).may {
			return false
		}
		for _, x := range v.Seq2() {
			if lacks(x) {
				return true
			}
		}
	}

	return false
}

// shape is what is known of a type: whether a list may be in values of it, whether one may be in what a list
// of it holds, and the fields of a struct in which one may be.
type shape struct {
	may, within bool
	list        []fieldAt
}

type fieldAt struct {
	at      int
	omitted bool // where it is empty
}

var shapes sync.Map // by type

func fieldsOf(t reflect.Type) shape {
	if known, ok := shapes.Load(t); ok {
		return known.(shape)
	}
	// Nobody else sees what is known of a type while those in it are looked at: it may hold itself.
	made := map[reflect.Type]shape{}
	out := shapeOf(t, made)
	for t, s := range made {
		shapes.Store(t, s)
	}
	return out
}

func shapeOf(t reflect.Type, made map[reflect.Type]shape) shape {
	if s, ok := made[t]; ok {
		return s
	}

	made[t] = shape{may: true, within: true}
	var s shape
	switch {
	case t.Implements(jsonMarshaler) || t.Implements(textMarshaler): // it writes itself
	case t.Kind() == reflect.Interface:
		s.may = true
	case t.Kind() == reflect.Slice:
		s.may = t.Elem().Kind() != reflect.Uint8 // bytes are text in JSON
		s.within = s.may && shapeOf(t.Elem(), made).may
	case t.Kind() == reflect.Pointer || t.Kind() == reflect.Map:
		s.may = shapeOf(t.Elem(), made).may
	case t.Kind() == reflect.Struct:
		for i := range t.NumField() {
			if f := t.Field(i); f.IsExported() && shapeOf(f.Type, made).may {
				_, options, _ := strings.Cut(f.Tag.Get("json"), ",")
				s.list = append(s.list, fieldAt{i, strings.Contains(options, "omitempty")})
			}
		}
		s.may = len(s.list) > 0
	}

	made[t] = s
	return s
}
