package api

import (
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"idletally/internal/service/app"
	"idletally/internal/service/web"
)

// Each property and parameter of the document is described, each example fits what it is an example of, and
// the glossary says nothing in vain.
func TestEverythingIsDescribed(t *testing.T) {
	doc := withProvider().OpenAPI()
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
	is := promised(withProvider().OpenAPI())
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
		t.Run(c.what, func(t *testing.T) {
			if got := broken(was, c.is); (len(got) == 0) != c.holds {
				t.Errorf("%s: %v", c.what, got)
			}
		})
	}
}

// The document of the API says of each operation how it is asked a second time, and with what it is refused.
func TestDocumentPromises(t *testing.T) {
	s := withProvider()
	n := 0
	for path, item := range s.OpenAPI().Paths {
		for method, op := range map[string]*huma.Operation{
			"GET":    item.Get,
			"POST":   item.Post,
			"PUT":    item.Put,
			"DELETE": item.Delete,
		} {
			t.Run(method, func(t *testing.T) {
				if op == nil {
					return
				}

				n++
				params := map[string]bool{}
				for _, p := range op.Parameters {
					params[p.Name] = true
				}

				signedIn := len(op.Security) > 0
				if len(op.Tags) != 1 {
					t.Errorf("%s %s is of %v", method, path, op.Tags)
				}

				if params["Idempotency-Key"] != (signedIn && method != "GET") {
					t.Errorf("%s %s: %v", method, path, params)
				}

				wants := []string{"422", "429", "503"}
				if signedIn {
					wants = append(wants, "401", "403")
				}

				if method != "GET" {
					wants = append(wants, "413", "507", "409")
				}

				if params["If-Match"] {
					wants = append(wants, "412")
				}

				for _, status := range wants {
					t.Run(status, func(t *testing.T) {
						r := op.Responses[status]
						if r == nil || r.Content["application/problem+json"] == nil {
							t.Errorf("%s %s says nothing of %s", method, path, status)
							return
						}
						for has, header := range map[string]string{
							"401": "WWW-Authenticate",
							"429": "Retry-After",
							"503": "Retry-After",
						} {
							t.Run(has, func(t *testing.T) {
								if status == has && r.Headers[header] == nil {
									t.Errorf("%s %s, %s: no %s", method, path, status, header)
								}
							})
						}
					})
				}
			})
		}
	}

	if n < 100 {
		t.Errorf("%d operations", n)
	}
}

// wholes are lists that have no pages, and why: what is added to them is bounded where it is added, or a call names it.
var wholes = map[string]string{
	"list-applications": "bounded where one is added", "list-hooks": "bounded where one is added",
	"list-people": "bounded where one is added", "list-schedules": "bounded where one is added",
	"list-tokens": "bounded where one is added", "list-passkeys": "bounded where one is added",
	"list-sessions": "the oldest end", "list-signing-keys": "bounded where one is added",
	"list-requests":  "bounded where one is added",
	"take-snapshots": "one for each host that was asked", "get-trend": "one for each host",
	"list-equal": "says how many there are in all: list-findings has them", "list-steps": "chunk by chunk",
}

// Every list of the API can be read to its end.
func TestListsHaveAnEnd(t *testing.T) {
	lists := 0
	for route, op := range operations() {
		for _, m := range contents(op) {
			if m.Schema == nil || !strings.HasPrefix(named(m.Schema.Ref), "Page") {
				continue
			}

			lists++
			after := slices.ContainsFunc(op.Parameters, func(p *huma.Param) bool { return p.Name == "after" })
			if whole := wholes[op.OperationID] != ""; after == whole {
				t.Errorf("%s: after %t, whole %t", route, after, whole)
			}
		}
	}

	if lists < 20 {
		t.Errorf("%d lists", lists)
	}
}

func contents(op *huma.Operation) map[string]*huma.MediaType {
	if r := op.Responses["200"]; r != nil {
		return r.Content
	}
	return nil
}

func withProvider() *API {
	s, _ := serving()
	return s
}

// serving returns the API of a service that has a provider and nothing else, and what serves it.
func serving(open ...string) (*API, http.Handler) {
	log := slog.New(slog.DiscardHandler)
	a := app.New(app.Config{Log: log, Provider: &app.Provider{Issuer: "https://issuer"}})
	mux := chi.NewMux()
	return New(web.New(a, web.Config{Log: log, Open: open}), mux), mux
}

// operations lists every operation of the API as the document has it.
func operations() map[string]*huma.Operation {
	out := map[string]*huma.Operation{}
	for path, op := range each(withProvider().OpenAPI()) {
		out[op.Method+" "+path] = op
	}
	return out
}

// The reference shows each operation, in the order of work.
func TestReferencePage(t *testing.T) {
	s, h := serving("documents")
	w := httptest.NewRecorder()
	h.ServeHTTP(w, httptest.NewRequest("GET", "/api/reference", nil))
	page := w.Body.String()
	if w.Code != 200 || strings.Contains(page, "ZgotmplZ") {
		t.Fatalf("%d %s", w.Code, page)
	}

	for path, item := range s.OpenAPI().Paths {
		for _, op := range []*huma.Operation{item.Get, item.Post, item.Put, item.Delete} {
			if op != nil && strings.Count(page, `<h3 id="`+op.OperationID+`">`) != 1 {
				t.Errorf("%s of %s is not there once", op.OperationID, path)
			}
		}
	}

	for _, want := range []string{
		`<h3 id="body-Group"><code>Group</code></h3>`, `<a href="#body-PageHost"><code>PageHost</code></a>`,
		`How grave it is. One of: minor, serious, grave`,
	} {
		t.Run(want, func(t *testing.T) {
			if !strings.Contains(page, want) {
				t.Errorf("the page lacks %s", want)
			}
		})
	}

	at := 0
	for _, tag := range tags {
		i := strings.Index(page, `<h2 id="`+tag.name+`">`)
		if i < at {
			t.Errorf("%s comes in another place", tag.name)
		}
		at = i
	}

	closed := httptest.NewRecorder()
	_, h = serving()
	h.ServeHTTP(closed, httptest.NewRequest("GET", "/api/reference", nil))
	if closed.Code != 401 {
		t.Errorf("nobody in particular is answered %d", closed.Code)
	}
}
