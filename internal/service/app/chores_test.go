package app

import (
	"context"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"log/slog"
	"path/filepath"
	"testing"

	"idletally/internal/service/engine"
)

// methodsOf returns the methods of some packages' files, by name.
func methodsOf(t *testing.T, patterns ...string) map[string][]*ast.FuncDecl {
	t.Helper()
	out := map[string][]*ast.FuncDecl{}
	for _, pattern := range patterns {
		files, err := filepath.Glob(pattern)
		if err != nil || len(files) == 0 {
			t.Fatalf("%s: %d files, %v", pattern, len(files), err)
		}
		for _, file := range files {
			f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
			if err != nil {
				t.Fatal(err)
			}
			for _, d := range f.Decls {
				if fn, ok := d.(*ast.FuncDecl); ok && fn.Recv != nil {
					out[fn.Name.Name] = append(out[fn.Name.Name], fn)
				}
			}
		}
	}

	return out
}

// calls are the methods that something calls, by name.
func calls(n ast.Node) (names []string) {
	ast.Inspect(n, func(n ast.Node) bool {
		if call, ok := n.(*ast.CallExpr); ok {
			if sel, ok := call.Fun.(*ast.SelectorExpr); ok {
				names = append(names, sel.Sel.Name)
			}
		}
		return true
	})
	return names
}

// Whatever the service does by itself it does in rounds, for which there has to be room.
func TestChoresHaveABudget(t *testing.T) {
	methods := methodsOf(t, "*.go", "../engine/*.go")
	started := 0
	for _, tend := range methods["Tend"] {
		ast.Inspect(tend, func(n ast.Node) bool {
			lit, ok := n.(*ast.FuncLit)
			if !ok || tend.Recv.List[0].Type.(*ast.StarExpr).X.(*ast.Ident).Name != "App" {
				return true
			}

			for _, name := range calls(lit) {
				started++
				bounded := false
				for _, fn := range methods[name] {
					for _, c := range calls(fn) {
						bounded = bounded || c == "Round" || c == "place"
					}
				}

				if !bounded {
					t.Errorf("%s goes on without a budget", name)
				}
			}

			return true
		})
	}

	if started < 6 {
		t.Errorf("Tend starts %d chores", started)
	}

	s := New(Config{Log: slog.New(slog.DiscardHandler)})
	for class, names := range chores {
		for _, name := range names {
			within, leave, err := s.room(t.Context(), name)
			if err != nil || !s.budgets.Has(class) {
				t.Fatalf("%s: %v", name, err)
			}

			if class == tending { // a second one waits for the first
				short, cancel := context.WithCancel(t.Context())
				cancel()
				if _, _, err := s.room(short, name); err == nil {
					t.Errorf("%s goes on twice at once", name)
				}
			}

			if _, ends := within.Deadline(); ends != (class == tending) {
				t.Errorf("%s may last: %t", name, !ends)
			}

			leave()
		}
	}

	if _, _, err := s.room(t.Context(), "dance"); err == nil {
		t.Error("a chore that nobody knows has room")
	}
}

// What goes wrong in a chore, a panic included, ends that round and nothing else; and its room is free again.
func TestChoresThatFail(t *testing.T) {
	s := New(Config{Log: slog.New(slog.DiscardHandler)})
	rounds := 0
	for range 3 {
		s.engine.Round(t.Context(), engine.Schedules, func(context.Context) error { rounds++; panic("a fault") })
		s.engine.Round(t.Context(), engine.Schedules,
			func(context.Context) error { rounds++; return errors.New("none") })
	}
	if rounds != 6 {
		t.Errorf("%d rounds", rounds)
	}
}
