package http

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
)

// Each property and parameter of the document is described, each example fits what it is an example of, and
// the glossary says nothing in vain.
func TestEverythingIsDescribed(t *testing.T) {
	doc := New(Config{Provider: &Provider{Issuer: "https://issuer"}}).OpenAPI()
	described, examples := 0, 0
	for name, s := range doc.Components.Schemas.Map() {
		for prop, p := range s.Properties {
			described++
			if p.Description == "" {
				t.Errorf("nothing is said of %s.%s", name, prop)
			}
			for _, x := range p.Examples {
				examples++
				result := &huma.ValidateResult{}
				huma.Validate(doc.Components.Schemas, p, huma.NewPathBuffer(nil, 0), huma.ModeReadFromServer, x, result)
				if len(result.Errors) > 0 {
					t.Errorf("%s.%s: example %v: %v", name, prop, x, result.Errors)
				}
			}
		}
	}

	for path, o := range each(doc) {
		for _, p := range o.Parameters {
			described++
			if p.Description == "" {
				t.Errorf("nothing is said of the parameter %s of %s %s", p.Name, o.Method, path)
			}
			if p.Example != nil {
				examples++
			}
		}
	}

	if described < 1000 || examples < 200 {
		t.Errorf("%d are described, with %d examples", described, examples)
	}

	// What the glossary said is taken out, and said once more.
	said := map[string]bool{}
	for _, text := range glossary {
		said[text] = true
	}

	for _, s := range doc.Components.Schemas.Map() {
		for _, p := range s.Properties {
			if said[p.Description] {
				p.Description = ""
			}
		}
	}

	for _, o := range each(doc) {
		for _, p := range o.Parameters {
			if said[p.Description] {
				p.Description = ""
			}
		}
	}

	used := complete(doc)
	for word := range glossary {
		if !used[word] {
			t.Errorf("%s stands in the glossary, and everything has words of its own", word)
		}
	}
}

// promised is what whoever was written for the API relies on, a line each. What a call needs, or lets it say,
// is told apart from what an answer has: needs may go and answers may grow, and never the other way round.
func promised(doc *huma.OpenAPI) (lines []string) {
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	asked := map[string]bool{}
	for name := range bodies(doc) {
		keepClosed(doc, name, asked)
	}

	for path, o := range each(doc) {
		call := o.Method + " " + path
		for _, p := range o.Parameters {
			add("%s takes %s %s: %s", call, p.In, p.Name, typed(p.Schema))
			if p.Required {
				add("%s needs %s %s", call, p.In, p.Name)
			}
		}

		if o.RequestBody != nil {
			for kind, m := range o.RequestBody.Content {
				add("%s takes %s: %s", call, kind, typed(m.Schema))
			}
		}

		for status, r := range o.Responses {
			for kind, m := range r.Content {
				add("%s answers %s %s: %s", call, status, kind, typed(m.Schema))
			}
			if len(r.Content) == 0 {
				add("%s answers %s", call, status)
			}
		}
	}

	for name, s := range doc.Components.Schemas.Map() {
		for prop, p := range s.Properties {
			add("%s.%s: %s", name, prop, typed(p))
			for _, word := range p.Enum {
				if asked[name] {
					add("%s.%s may be %v", name, prop, word)
				}
			}
		}
		for _, prop := range s.Required {
			if asked[name] {
				add("%s needs %s", name, prop)
			} else {
				add("%s always has %s", name, prop)
			}
		}
	}

	slices.Sort(lines)
	return slices.Compact(lines)
}

func typed(s *huma.Schema) string {
	switch {
	case s == nil:
		return "anything"
	case s.Ref != "":
		return named(s.Ref)
	case s.Items != nil:
		return "list of " + typed(s.Items)
	}
	return strings.TrimSpace(s.Type + " " + s.Format)
}

// broken says what of a promise is not kept any more.
func broken(was, is []string) (out []string) {
	subject := func(line string) string { return line[:strings.Index(line, " needs ")] }
	known := map[string]bool{} // what needs were told of
	for _, line := range was {
		if strings.Contains(line, " needs ") {
			continue
		}

		call, _, _ := strings.Cut(line, " takes ")
		call, _, _ = strings.Cut(call, " answers ")
		body, _, _ := strings.Cut(line, ".")
		known[call], known[body] = true, true
		if _, ok := slices.BinarySearch(is, line); !ok {
			out = append(out, "no more: "+line)
		}
	}

	for _, line := range is {
		_, told := slices.BinarySearch(was, line)
		if !told && strings.Contains(line, " needs ") && known[subject(line)] {
			out = append(out, "not before: "+line)
		}
	}

	return out
}

// What the API promised in docs/api-1.txt it keeps. IDLETALLY_WRITE_DOCS=1 adds what is new to the promise,
// and takes nothing out.
func TestPromisesAreKept(t *testing.T) {
	const file = "../../../docs/api-1.txt"
	const head = "# What programs can rely on as long as addresses begin with /api/v1, made of the program. A test " +
		"of ours keeps it:\n" +
		"# nothing of it goes or becomes something else, and no call needs what it did not need.\n"
	is := promised(New(Config{Provider: &Provider{Issuer: "https://issuer"}}).OpenAPI())
	b, err := os.ReadFile(file)
	write := os.Getenv("IDLETALLY_WRITE_DOCS") != ""
	if err != nil && !write {
		t.Fatal(err)
	}

	was := slices.DeleteFunc(strings.Split(string(b), "\n"), func(line string) bool {
		return line == "" || line[0] == '#'
	})
	for _, line := range broken(was, is) {
		t.Error(line)
	}

	if write && !t.Failed() {
		if err := os.WriteFile(file, []byte(head+strings.Join(is, "\n")+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}

	for _, line := range is {
		if _, ok := slices.BinarySearch(was, line); !ok {
			t.Errorf("docs/api-1.txt does not have: %s", line)
		}
	}

	if len(is) < 3000 {
		t.Errorf("%d lines", len(is))
	}
}

// Each way to break a promise is found, and what only adds is none.
func TestBroken(t *testing.T) {
	was := []string{
		"GET /hosts answers 200 application/json: PageHost", "GET /hosts takes query after: string",
		"Host always has name", "Host.name: string", "NewHost needs name",
		"NewHost.kind may be file", "NewHost.name: string", "NewHost.tags: list of string",
	}
	change := func(drop string, add ...string) []string {
		is := slices.DeleteFunc(slices.Clone(was), func(line string) bool { return line == drop })
		is = append(is, add...)
		slices.Sort(is)
		return is
	}

	for _, c := range []struct {
		what  string
		is    []string
		holds bool
	}{
		{"nothing", change(""), true},
		{"an answer has more", change("", "Host.system: string"), true},
		{"a call takes more", change("", "GET /hosts takes query tag: string"), true},
		{"a need goes", change("NewHost needs name"), true},
		{"another body needs something", change("", "NewThing needs name", "NewThing.name: string"), true},
		{"an answer has less", change("Host.name: string"), false},
		{"an answer may lack it", change("Host always has name"), false},
		{"another type", change("Host.name: string", "Host.name: integer"), false},
		{"a parameter goes", change("GET /hosts takes query after: string"), false},
		{"a new need", change("", "NewHost needs tags"), false},
		{"a parameter is needed", change("", "GET /hosts needs query after"), false},
		{"a word goes", change("NewHost.kind may be file"), false},
		{"another answer",
			change("GET /hosts answers 200 application/json: PageHost",
				"GET /hosts answers 200 application/json: Hosts"),
			false},
	} {
		if got := broken(was, c.is); (len(got) == 0) != c.holds {
			t.Errorf("%s: %v", c.what, got)
		}
	}
}
