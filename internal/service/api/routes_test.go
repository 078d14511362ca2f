package api

import (
	"bytes"
	"cmp"
	"fmt"
	"net/http"
	"os"
	"reflect"
	"runtime"
	"slices"
	"strings"
	"testing"

	"idletally/internal/service/app"
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
