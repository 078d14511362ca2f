package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// Imports point inwards. Each package of ours is listed with what it may import of ours: a
// prefix allows what lies below it.
var allowed = map[string][]string{
	"internal/core":    {"internal/core"},
	"internal/wire":    {"internal/core"},
	"internal/inquiry": {"internal/core", "internal/wire"},
	"internal/report":  {"internal/core", "internal/wire"},
	"internal/archive": {"internal/core", "internal/wire"},
	"internal/host": {"internal/core", "internal/host", "internal/tied", "internal/atomicfile",
		"internal/private"},
	"internal/client": {"internal/core", "internal/wire"},
	"internal/pen":    {"internal/core/signature"},
	"internal/carry":  {"internal/core/untrusted"},
	"internal/agent": {"internal/core", "internal/wire", "internal/inquiry", "internal/client", "internal/host",
		"internal/carry", "internal/archive", "internal/atomicfile", "internal/private"},
	"internal/testkit": {"internal/testkit", "internal/core", "internal/samba", "internal/loopback",
		"internal/tied"}, // for tests alone
	"internal/loopback":   {},
	"internal/samba":      {"internal/loopback", "internal/tied"}, // for the demo and the tests
	"internal/aclfs":      {},                                     // for the demo and the tests
	"internal/tied":       {},
	"internal/atomicfile": {"internal/private"},
	"internal/private":    {"internal/core"},
	"internal/handover":   {},
	// The service, from the outside in: interfaces ask the application, which asks the engine and the store.
	"internal/service": {"internal/service"},
	"internal/service/api": {"internal/core", "internal/wire", "internal/service/app", "internal/service/web",
		"internal/service/budget", "internal/service/fault"},
	"internal/service/agentapi": {"internal/core", "internal/wire", "internal/service/app", "internal/service/web",
		"internal/service/authority", "internal/service/budget", "internal/service/fault"},
	"internal/service/web": {"internal/wire", "internal/service/app", "internal/service/metrics",
		"internal/service/auth",
		"internal/service/budget", "internal/service/fault", "internal/service/peer"},
	"internal/service/metrics": {"internal/core", "internal/wire", "internal/service/app"},
	"internal/service/app": {"internal/core", "internal/wire", "internal/inquiry", "internal/report",
		"internal/archive",
		"internal/service/engine", "internal/service/store", "internal/service/auth", "internal/service/authority",
		"internal/service/budget", "internal/service/fault", "internal/service/passkey", "internal/service/witness"},
	"internal/service/engine":    {"internal/core", "internal/wire", "internal/archive", "internal/service/store"},
	"internal/service/store":     {"internal/core", "internal/wire", "internal/service/auth"},
	"internal/service/auth":      {"internal/core", "internal/wire"},
	"internal/service/authority": {"internal/core", "internal/atomicfile"},
	"internal/service/witness":   {"internal/core", "internal/atomicfile"},
	"internal/service/mariadb":   {"internal/loopback", "internal/tied", "internal/handover"},
	"internal/service/budget":    {},
	"internal/service/fault":     {},
	"internal/service/passkey":   {"internal/core/signature"},
	"internal/service/peer":      {},
	"internal/cli":               {"internal", "console"},
	"console":                    {},
	"cmd":                        {"internal/cli"},
	"packaging":                  {"internal/cli"},
	"demo":                       {"internal", "demo"},
	"e2e":                        {"internal", "demo", "e2e"},
	"bench":                      {"internal", "demo", "e2e/browser"},
}

// The core has no interface to the world: what it needs is handed to it.
var notInCore = []string{"os", "net", "net/http", "database/sql", "io/fs", "os/exec", "log", "log/slog", "syscall"}

// Who may know what a scheme keeps, by the package that does: everybody else has sets, aspects and effects.
// Those that read and write a scheme on hosts do, and what makes worlds for the demo and the bench.
var schemeOnly = map[string][]string{
	"internal/core/perm/posix": {
		"internal/core/perm/posix", "internal/core/schemes",
		"internal/host/identity", "internal/host/probe", // Linux's own accounts, and its answers
		"internal/agent",   // which tells of them
		"internal/inquiry", // its calculator: modes and lists are what it calculates
		"demo", "bench",
	},
	"internal/core/perm/nt": {
		"internal/core/perm/nt", "internal/core/schemes",
		"internal/host/fileserver", "internal/host/smb", "internal/agent",
	},
	"internal/core/perm/nfs4": {"internal/core/perm/nfs4", "internal/core/schemes", "demo"},
	"internal/core/posixacl":  {"internal/core/posixacl", "internal/core/perm/posix", "demo", "bench"},
	"internal/core/ntsd": {
		"internal/core/ntsd", "internal/core/perm/nt", "internal/host", "internal/agent",
		"internal/private", // of files on Windows
		"demo", "bench",
	},
}

// Who alone may use what comes from outside: the database's driver, and what knows of HTTP as an interface.
var packageOnly = map[string][]string{
	"github.com/go-sql-driver/mysql": {"internal/service/store", "internal/service/mariadb"},
	"github.com/jmoiron/sqlx":        {"internal/service/store"},
	"github.com/go-chi/chi/v5": {
		"internal/service/web", "internal/service/api", "internal/service/agentapi", "internal/service/service.go",
	},
	"github.com/danielgtaylor/huma/v2": {
		"internal/service/web", "internal/service/api", "internal/service/service.go",
	},
}

// What is for tests alone. Nothing else knows of tests.
var onlyForTests = []string{"internal/testkit", "internal/core/perm/schemetest", "e2e"}

func TestImportsPointInwards(t *testing.T) {
	files := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}

		rel := strings.TrimPrefix(filepath.ToSlash(path), "../")
		if d.IsDir() &&
			(d.Name() == "node_modules" || d.Name() == "third_party" ||
				strings.HasPrefix(d.Name(), ".") && d.Name() != "..") {
			return fs.SkipDir
		}
		if !strings.HasSuffix(rel, ".go") || strings.HasSuffix(rel, "_test.go") {
			return nil
		}

		files++
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}

		place := filepath.ToSlash(filepath.Dir(rel))
		top := ""
		for p := range allowed {
			if (place == p || strings.HasPrefix(place, p+"/")) && len(p) > len(top) {
				top = p
			}
		}

		if top == "" {
			t.Errorf("%s lies in no package of the architecture", rel)
			return nil
		}

		for _, i := range f.Imports {
			name := strings.Trim(i.Path.Value, `"`)
			if top == "internal/core" && slices.Contains(notInCore, name) {
				t.Errorf("%s imports %s: the core does no input or output", rel, name)
			}

			if only, ok := packageOnly[name]; ok &&
				!slices.ContainsFunc(only, func(p string) bool { return rel == p || strings.HasPrefix(rel, p+"/") }) {
				t.Errorf("%s imports %s: only %v may", rel, name, only)
			}

			forTests := name == "testing" || strings.HasPrefix(name, "idletally/internal/testkit")
			if forTests && !slices.ContainsFunc(onlyForTests,
				func(p string) bool { return strings.HasPrefix(rel, p+"/") }) {
				t.Errorf("%s imports %s: what programs are made of holds nothing for tests", rel, name)
			}

			ours, ok := strings.CutPrefix(name, "idletally/")
			if !ok {
				continue
			}

			under := func(list []string) bool {
				return slices.ContainsFunc(list, func(p string) bool {
					return ours == p || strings.HasPrefix(ours, p+"/")
				})
			}
			if !under(allowed[top]) {
				t.Errorf("%s imports %s: imports point inwards, from %s to %v only", rel, ours, top, allowed[top])
			}

			if knows, ok := schemeOnly[ours]; ok &&
				!slices.ContainsFunc(knows, func(p string) bool { return strings.HasPrefix(rel, p+"/") }) {
				t.Errorf("%s imports %s: only the scheme's own packages may know it", rel, ours)
			}
		}

		return nil
	})

	if err != nil {
		t.Fatal(err)
	}

	if files < 40 {
		t.Fatalf("only %d files were looked at: the test does not see the tree", files)
	}
}

// Nor does the core have a clock.
func TestCoreHasNoClock(t *testing.T) {
	err := filepath.WalkDir("core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		b, err := os.ReadFile(path)
		if err != nil {
			return err
		}

		for _, call := range []string{"time.Now", "time.Since", "time.Sleep", "rand.Int", "rand.Uint"} {
			t.Run(call, func(t *testing.T) {
				if strings.Contains(string(b), call) {
					t.Errorf("%s uses %s", path, call)
				}
			})
		}

		return nil
	})

	if err != nil {
		t.Fatal(err)
	}
}

// Whatever is served passes the edge, which bounds it and knows who calls: no interface puts a handler on a router by
// itself.
func TestNothingIsServedPastTheEdge(t *testing.T) {
	seen := 0
	for _, pattern := range []string{"service/*.go", "service/api/*.go", "service/agentapi/*.go", "service/web/*.go"} {
		t.Run(pattern, func(t *testing.T) {
			files, err := filepath.Glob(pattern)
			if err != nil || len(files) == 0 {
				t.Fatalf("%s: %d files, %v", pattern, len(files), err)
			}
			for _, file := range files {
				if strings.HasSuffix(file, "_test.go") {
					continue
				}
				f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
				if err != nil {
					t.Fatal(err)
				}
				for _, d := range f.Decls {
					fn, ok := d.(*ast.FuncDecl)
					if !ok || fn.Name.Name == "Route" && file == "service/web/budgets.go" {
						continue
					}
					ast.Inspect(fn, func(n ast.Node) bool {
						if call, ok := n.(*ast.CallExpr); ok && routes(call) {
							t.Errorf("%s: %s serves something past the edge: use Route, or a row of the table", file,
								fn.Name.Name)
						} else if ok {
							seen++
						}
						return true
					})
				}
			}
		})
	}
	if seen < 500 {
		t.Errorf("only %d calls were looked at", seen)
	}
}

// routes reports whether a call has something served at a path, as chi's routers do.
func routes(call *ast.CallExpr) bool {
	sel, ok := call.Fun.(*ast.SelectorExpr)
	if !ok || len(call.Args) < 2 {
		return false
	}
	switch sel.Sel.Name {
	case "Get", "Post", "Put", "Delete", "Patch", "Head", "Options", "Connect", "Trace", "Handle", "HandleFunc",
		"Mount",
		"Method", "MethodFunc":
	default:
		return false
	}
	at, ok := call.Args[0].(*ast.BasicLit)
	if !ok { // a method before it
		return strings.HasPrefix(sel.Sel.Name, "Method")
	}
	return at.Kind == token.STRING && strings.HasPrefix(at.Value, `"/`) || strings.HasPrefix(sel.Sel.Name, "Method")
}
