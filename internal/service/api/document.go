package api

import (
	"io"
	"iter"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"idletally/internal/wire"
)

// complete adds to the document what stands in the glossary, shows examples, and leaves answers open: they may have
// more in a later version, and readers have to ignore what they do not know. Bodies of calls stay closed. It returns
// the words of the glossary that were used.
func complete(doc *huma.OpenAPI) (used map[string]bool) {
	used = map[string]bool{}

	// say takes the first of some names that the glossary has, if nothing is said yet.
	say := func(text *string, names ...string) {
		for _, name := range names {
			if *text == "" && glossary[name] != "" {
				*text, used[name] = glossary[name], true
			}
		}
	}

	closed := map[string]bool{}
	for name := range bodies(doc) {
		keepClosed(doc, name, closed)
	}

	for name, s := range doc.Components.Schemas.Map() {
		if !closed[name] && s.AdditionalProperties == false {
			s.AdditionalProperties = nil
		}
		for prop, p := range s.Properties {
			say(&p.Description, name+"."+prop, prop)
			if example, ok := examples[prop]; ok && p.Examples == nil && fits(p, example) {
				p.Examples = []any{example}
			}
		}
	}

	for path, o := range each(doc) {
		of, _, _ := strings.Cut(strings.TrimPrefix(path, "/api/v1/"), "/")
		for _, p := range o.Parameters {
			name := strings.ToLower(p.Name)
			say(&p.Description, of+"."+name, name)
			if example, ok := examples[name]; ok && p.Example == nil && fits(p.Schema, example) {
				p.Example = example
			}
		}
	}

	return used
}

// fits reports whether an example can stand for a schema.
func fits(s *huma.Schema, example any) bool {
	if len(s.Enum) > 0 {
		return false
	}
	switch example.(type) {
	case string:
		return s.Type == huma.TypeString && s.Format == ""
	case int:
		return s.Type == huma.TypeInteger
	}
	return s.Type == huma.TypeArray && s.Items.Type == huma.TypeString
}

// each returns the operations with their paths.
func each(doc *huma.OpenAPI) iter.Seq2[string, *huma.Operation] {
	return func(yield func(string, *huma.Operation) bool) {
		for path, item := range doc.Paths {
			for _, o := range []*huma.Operation{item.Get, item.Post, item.Put, item.Patch, item.Delete} {
				if o != nil && !yield(path, o) {
					return
				}
			}
		}
	}
}

// bodies returns the names of the schemas that calls have as their bodies.
func bodies(doc *huma.OpenAPI) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, o := range each(doc) {
			if o.RequestBody == nil {
				continue
			}
			for _, m := range o.RequestBody.Content {
				if m.Schema != nil && m.Schema.Ref != "" && !yield(named(m.Schema.Ref)) {
					return
				}
			}
		}
	}
}

func named(ref string) string { return ref[strings.LastIndexByte(ref, '/')+1:] }

// keepClosed marks a schema, and those that it refers to.
func keepClosed(doc *huma.OpenAPI, name string, closed map[string]bool) {
	if closed[name] {
		return
	}
	closed[name] = true
	for ref := range references(doc.Components.Schemas.Map()[name]) {
		keepClosed(doc, ref, closed)
	}
}

// references returns the names that a schema refers to by itself.
func references(s *huma.Schema) iter.Seq[string] {
	return func(yield func(string) bool) {
		for todo := []*huma.Schema{s}; len(todo) > 0; {
			x := todo[0]
			todo = todo[1:]
			if x == nil {
				continue
			}
			if x.Ref != "" && !yield(named(x.Ref)) {
				return
			}

			todo = append(todo, x.Items)
			for _, p := range x.Properties {
				todo = append(todo, p)
			}

			if more, ok := x.AdditionalProperties.(*huma.Schema); ok {
				todo = append(todo, more)
			}
		}
	}
}

// writeLists writes an answer as the document has it.
func writeLists(w io.Writer, v any) error {
	return huma.DefaultJSONFormat.Marshal(w, wire.WithLists(v))
}

func init() { huma.DefaultArrayNullable = false } // lists are there also where nothing is in them: see wire.WithLists
