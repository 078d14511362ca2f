package internal

import (
	"go/ast"
	"go/token"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// open are what stands for something that was opened for one piece of work, behind an interface like a file's: its
// calls are many, and all of them end with the work. Everything else is given its context.
var open = []string{
	"e2e/browser/browser.go Browser", // to chromedp a context is the window
	"internal/host/fileserver/filesystem.go shareFileSystem",
	"internal/host/ntfs/ntfs_windows.go volume",
	"internal/host/smb/session.go Share",
}

// A context that lies in a struct outlives the call that it was for, and nobody sees which one counts.
func TestContextsAreParameters(t *testing.T) {
	for _, f := range goFiles(t) {
		ast.Inspect(f.File, func(n ast.Node) bool {
			spec, ok := n.(*ast.TypeSpec)
			if !ok {
				return true
			}
			body, ok := spec.Type.(*ast.StructType)
			if !ok || slices.Contains(open, f.name+" "+spec.Name.Name) {
				return true
			}

			for _, field := range body.Fields.List {
				if s, ok := field.Type.(*ast.SelectorExpr); ok && s.Sel.Name == "Context" && named(s.X, "context") {
					t.Errorf("%s: %s keeps a context: give it to the methods", f.fset.Position(field.Pos()),
						spec.Name.Name)
				}
			}
			return true
		})
	}
}

// What a line of the history says happened is kept whole: programs look for it. (The store refuses what is longer.)
func TestHistoryHasRoom(t *testing.T) {
	const room = 32 // bytes, as the column has
	found := 0
	for _, f := range goFiles(t) {
		if !strings.HasPrefix(f.name, "internal/service/") {
			continue
		}
		check := func(x ast.Expr) {
			lit, ok := x.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING {
				return
			}
			if found++; len(lit.Value)-2 > room {
				t.Errorf("%s: %s is longer than %d bytes", f.fset.Position(lit.Pos()), lit.Value, room)
			}
		}
		ast.Inspect(f.File, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.CallExpr:
				if sel, ok := n.Fun.(*ast.SelectorExpr); ok && len(n.Args) >= 4 &&
					slices.Contains([]string{"audit", "Audit"}, sel.Sel.Name) {
					check(n.Args[len(n.Args)-3])
				}
			case *ast.ValueSpec:
				for i, v := range n.Values {
					if strings.HasPrefix(n.Names[i].Name, "said") {
						check(v)
					}
				}
			}
			return true
		})
	}
	if found < 50 {
		t.Errorf("%d texts were found: the test looks at the wrong place", found)
	}
}

// A table's rows are tests of their own: each can be run alone, and one that ends early ends no other.
func TestRowsAreTests(t *testing.T) {
	for _, f := range goFiles(t) {
		if !strings.HasSuffix(f.name, "_test.go") {
			continue
		}

		tables := tablesOf(f)
		ast.Inspect(f.File, func(n ast.Node) bool {
			loop, ok := n.(*ast.RangeStmt)
			if !ok {
				return true
			}

			id, byName := loop.X.(*ast.Ident)
			if (isTable(loop.X) || byName && tables[id.Name]) && checks(loop.Body) {
				t.Errorf("%s: the rows of this table are checked without t.Run", f.fset.Position(loop.Pos()))
			}
			return true
		})
	}
}

// isTable reports whether an expression is a list of structs, written out.
func isTable(x ast.Expr) bool {
	lit, ok := x.(*ast.CompositeLit)
	if !ok || len(lit.Elts) == 0 {
		return false
	}
	list, ok := lit.Type.(*ast.ArrayType)
	if !ok {
		return false
	}
	_, ok = list.Elt.(*ast.StructType)
	return ok
}

// tablesOf returns the names of a file that stand for tables.
func tablesOf(f goFile) map[string]bool {
	tables := map[string]bool{}
	ast.Inspect(f.File, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.ValueSpec:
			for i, x := range n.Values {
				tables[n.Names[i].Name] = isTable(x)
			}
		case *ast.AssignStmt:
			if id, ok := n.Lhs[0].(*ast.Ident); ok && n.Tok == token.DEFINE {
				tables[id.Name] = isTable(n.Rhs[0])
			}
		}
		return true
	})
	return tables
}

// checks reports whether a loop says that something is wrong, and has no test of its own for each time.
func checks(body *ast.BlockStmt) bool {
	says, runs := false, false
	ast.Inspect(body, func(n ast.Node) bool {
		s, ok := n.(*ast.SelectorExpr)
		if !ok || !named(s.X, "t") {
			return true
		}
		says = says || slices.Contains([]string{"Error", "Errorf", "Fatal", "Fatalf"}, s.Sel.Name)
		runs = runs || s.Sel.Name == "Run"
		return true
	})
	return says && !runs
}

func named(x ast.Expr, name string) bool {
	id, ok := x.(*ast.Ident)
	return ok && id.Name == name
}

// What goes more rounds to prove something is run by "make prove", and nothing else is.
func TestProofsAreProved(t *testing.T) {
	var proofs []string
	for _, f := range goFiles(t) {
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || !strings.HasPrefix(fn.Name.Name, "Test") {
				continue
			}
			ast.Inspect(fn, func(n ast.Node) bool {
				if s, ok := n.(*ast.SelectorExpr); ok && named(s.X, "testkit") && s.Sel.Name == "Rounds" {
					proofs = append(proofs, fn.Name.Name)
				}
				return true
			})
		}
	}

	b, err := os.ReadFile("../Makefile")
	if err != nil {
		t.Fatal(err)
	}
	list := regexp.MustCompile(`(?m)^PROOFS := \^\((.*)\)\$\$$`).FindSubmatch(b)
	if list == nil {
		t.Fatal("the Makefile has no list of proofs")
	}

	named := strings.Split(string(list[1]), "|")
	slices.Sort(proofs)
	slices.Sort(named)
	if !slices.Equal(named, slices.Compact(proofs)) {
		t.Errorf("make prove runs %v; these ask testkit how many rounds to go: %v", named, proofs)
	}
}

// moves are what puts one file in place of another by itself: everybody else has internal/atomicfile do it.
var moves = []string{
	"internal/atomicfile/atomicfile.go",
	"internal/service/authority/keys.go", // of two files, either both or none
	"internal/host/scan/cache.go",        // a cache: one that is lost is made again
}

func TestFilesArePutInPlaceByOne(t *testing.T) {
	for _, f := range goFiles(t) {
		if strings.HasSuffix(f.name, "_test.go") || strings.HasPrefix(f.name, "e2e/") ||
			slices.Contains(moves, f.name) {
			continue
		}
		ast.Inspect(f.File, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok && s.Sel.Name == "Rename" && named(s.X, "os") {
				t.Errorf("%s: os.Rename: have internal/atomicfile put the file in place", f.fset.Position(n.Pos()))
			}
			return true
		})
	}
}

// Imports stand in three groups: the standard library's, others', ours.
func TestImportsAreGrouped(t *testing.T) {
	for _, f := range goFiles(t) {
		group := func(path string) int {
			first, _, _ := strings.Cut(strings.Trim(path, `"`), "/")
			switch {
			case first == "idletally":
				return 2
			case strings.Contains(first, "."):
				return 1
			}
			return 0
		}

		for i, s := range f.Imports {
			if i == 0 {
				continue
			}
			before := f.Imports[i-1]
			apart := f.line(s.Pos())-f.line(before.End()) > 1
			if was, is := group(before.Path.Value), group(s.Path.Value); is < was || is > was && !apart {
				t.Errorf("%s: %s stands in a group with %s", f.fset.Position(s.Pos()), s.Path.Value, before.Path.Value)
			}
		}
	}
}
