package http

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// What serves an operation is found by the operation's id: a method of the server is named after it.
func TestHandlersAreNamedAfterOperations(t *testing.T) {
	names, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}

	methods := map[string]bool{}
	var ids []string
	for _, name := range names {
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.FuncDecl:
				methods[n.Name.Name] = n.Recv != nil
			case *ast.CompositeLit:
				if name, ok := n.Type.(*ast.Ident); ok && name.Name == "op" && len(n.Elts) > 3 {
					ids = append(ids, n.Elts[2].(*ast.BasicLit).Value)
				}
			}
			return true
		})
	}
	if len(ids) < 90 {
		t.Fatalf("only %d operations were seen", len(ids))
	}

	for _, quoted := range ids {
		id, err := strconv.Unquote(quoted)
		if err != nil {
			t.Fatal(err)
		}
		first, rest, _ := strings.Cut(id, "-")
		name := first
		for part := range strings.SplitSeq(rest, "-") {
			if part != "" {
				name += strings.ToUpper(part[:1]) + part[1:]
			}
		}
		if handled := "handle" + strings.ToUpper(name[:1]) + name[1:]; !methods[name] && !methods[handled] {
			t.Errorf("operation %s: the server has no method %s", id, name)
		}
	}
}
