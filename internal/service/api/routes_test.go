package api

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"

	"idletally/internal/service/app"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// Each row of the table says what it has to, once; who serves it is a method called as the operation is.
func TestTable(t *testing.T) {
	seen := map[string]bool{}
	for _, r := range withProvider().routes() {
		o := r.describe()
		t.Run(o.ID, func(t *testing.T) {
			if seen[o.ID] || o.summary == "" || !strings.HasPrefix(o.path, "/") {
				t.Errorf("%+v", o)
			}
			seen[o.ID] = true

			if o.Role != anybody && o.Role != signedIn && !slices.Contains(wire.Roles, o.Role) {
				t.Errorf("the role %q is none", o.Role)
			}
			if o.OfOne && (o.Role == anybody || o.Role == signedIn || o.Role == wire.Viewer || o.Role == wire.Admin) {
				t.Errorf("the role %q is of no one application", o.Role)
			}

			name := runtime.FuncForPC(reflect.ValueOf(r).FieldByName("serve").Pointer()).Name()
			name = strings.TrimSuffix(name[strings.LastIndex(name, ".")+1:], "-fm")
			if want := strings.ReplaceAll(o.ID, "-", ""); !strings.EqualFold(name, want) {
				t.Errorf("it is served by %s", name)
			}
		})
	}
	if len(seen) < 100 {
		t.Errorf("%d operations", len(seen))
	}
}

// What admins change of people, keys, hooks and rules takes that they have just shown who they are: a session that
// somebody found open does nothing of this. Nothing that needs it is left to programs.
func TestFresh(t *testing.T) {
	harmless := []string{"check-storage", "tidy-storage"}
	for _, r := range withProvider().routes() {
		o := r.describe()
		if o.Role == wire.Admin && o.Changes && !o.Fresh && !slices.Contains(harmless, o.ID) {
			t.Errorf("%s is carried out for a session that somebody found open", o.ID)
		}
		if (o.Fresh || o.InPerson) && o.Role == anybody {
			t.Errorf("%s asks of nobody who they are", o.ID)
		}
	}
}

// The table of docs/roles.md is made of the routes. IDLETALLY_WRITE_DOCS=1 writes it.
func TestRolesDocument(t *testing.T) {
	const file = "../../../docs/roles.md"
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}

	const head = "| operation | call | who |\n| --- | --- | --- |\n"
	before, rest, found := bytes.Cut(text, []byte(head))
	_, after, ended := bytes.Cut(rest, []byte("\n\n"))
	if !found || !ended {
		t.Fatalf("%s has no table of operations", file)
	}

	want := fmt.Sprintf("%s%s%s\n%s", before, head, rolesTable(withProvider().routes()), after)
	if os.Getenv("IDLETALLY_WRITE_DOCS") != "" {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	if string(text) != want {
		t.Errorf("%s is not what the table of routes says: write it by IDLETALLY_WRITE_DOCS=1 go test "+
			"./internal/service/api -run TestRolesDocument", file)
	}
}

// rolesTable writes a row for each operation, from what anybody may call to what admins may.
func rolesTable(routes []route) string {
	ops := make([]op, len(routes))
	for i, r := range routes {
		ops[i] = r.describe()
	}
	order := append([]string{anybody, signedIn}, wire.Roles...)
	methods := []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodDelete}
	slices.SortFunc(ops, func(a, b op) int {
		return cmp.Or(cmp.Compare(slices.Index(order, a.Role), slices.Index(order, b.Role)),
			cmp.Compare(a.path, b.path), cmp.Compare(slices.Index(methods, a.method), slices.Index(methods, b.method)))
	})

	var b strings.Builder
	for _, o := range ops {
		who := o.Role
		switch {
		case o.Role == anybody:
			who = "nobody in particular"
		case o.Role == signedIn:
			who = "anybody signed in"
		case o.OfOne:
			who += " of the application"
		}
		fmt.Fprintf(&b, "| %s | `%s %s` | %s |\n", o.summary, o.method, o.path, who)
	}
	return b.String()
}

// Everything in the table has a budget.
func TestEverythingHasABudget(t *testing.T) {
	s := withProvider()
	for _, r := range s.routes() {
		o := r.describe()
		_, leave, err := s.Enter(t.Context(), o.class, "bosun")
		if err != nil {
			t.Fatalf("%s: %v", o.ID, err)
		}
		leave()
	}
}

// Whoever changes how somebody signs in tells them: each operation on people says by which line, or that it
// changes nothing of that.
func TestNewsOf(t *testing.T) {
	for _, r := range withProvider().routes() {
		o := r.describe()
		about := strings.HasPrefix(o.path, "/me") || strings.HasPrefix(o.path, "/people/{name}")
		if _, known := app.NewsOf[o.ID]; about && o.Changes && !known {
			t.Errorf("%s: say in app.NewsOf by which line of the history somebody is told of it", o.ID)
		}
	}
}

// What is all of a call or an answer, and not its body, is served so: a parameter or a header that was taken for a
// member of the body would be believed from there, or never sent; and a body that was taken for parameters is lost.
func TestRowsSayWhatIsTheBody(t *testing.T) {
	s := withProvider()
	for _, r := range s.routes() {
		o := r.describe()
		item := s.OpenAPI().Paths["/api/v1"+o.path]
		def := map[string]*huma.Operation{
			"GET": item.Get, "POST": item.Post, "PUT": item.Put, "DELETE": item.Delete,
		}[o.method]
		serve := reflect.ValueOf(r).FieldByName("serve").Type()
		takes, answers := serve.In(1).Elem(), serve.Out(0).Elem()

		told := map[string]bool{}
		for _, p := range def.Parameters {
			told[p.Name] = true
		}
		parameters := tagged(takes, "path", "query", "header", "cookie")
		for _, name := range parameters {
			if !told[name] {
				t.Errorf("%s: the parameter %s is none of the call", o.ID, name)
			}
		}
		streams := reflect.PointerTo(takes).Implements(reflect.TypeFor[huma.Resolver]())
		if len(parameters) == 0 && !empty(takes) && !streams && def.RequestBody == nil {
			t.Errorf("%s: the call has no body", o.ID)
		}

		for status, response := range def.Responses {
			if status[0] != '2' {
				continue
			}
			headers := tagged(answers, "header")
			for _, name := range headers {
				if response.Headers[name] == nil && name != "Content-Type" {
					t.Errorf("%s: the answer has no header %s", o.ID, name)
				}
			}
			whole := answers == reflect.TypeFor[huma.StreamResponse]() || answers == reflect.TypeFor[app.Download]()
			if len(headers) == 0 && !empty(answers) && !whole && response.Content["application/json"] == nil {
				t.Errorf("%s: the answer has no body", o.ID)
			}
		}
	}
}

func empty(t reflect.Type) bool { return t.Kind() == reflect.Struct && t.NumField() == 0 }

// tagged returns what some tags say of the fields of a struct, and of those that are embedded in it.
func tagged(t reflect.Type, tags ...string) (names []string) {
	if t.Kind() != reflect.Struct {
		return nil
	}
	for i := range t.NumField() {
		f := t.Field(i)
		for _, tag := range tags {
			if text, ok := f.Tag.Lookup(tag); ok {
				name, _, _ := strings.Cut(text, ",")
				names = append(names, name)
			}
		}
		if f.Anonymous {
			names = append(names, tagged(f.Type, tags...)...)
		}
	}
	return names
}

// A file that is larger than is taken is refused for that, however it is read.
func TestUploadsAreBounded(t *testing.T) {
	r := httptest.NewRequest("POST", "/", strings.NewReader(strings.Repeat("x", 3<<20)))
	n, err := io.Copy(io.Discard, upload{http.MaxBytesReader(httptest.NewRecorder(), r.Body, 2<<20)})
	if n != 2<<20 || !fault.Is(err, fault.KindTooLarge) {
		t.Errorf("%d bytes were taken, %v", n, err)
	}
}
