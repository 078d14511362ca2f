package cli

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

var returnsCommand = regexp.MustCompile(`returns the command ([a-z -]+)\.`)

// Whoever looks for a command's code finds it by its name: a constructor is called, and says of itself, what the
// command is.
func TestConstructorsAreNamed(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	named := 0
	for _, file := range files {
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			m := returnsCommand.FindStringSubmatch(fn.Doc.Text())
			if m == nil {
				continue
			}

			named++
			words := strings.Fields(m[1])
			last := words[len(words)-1]
			if use := firstUse(fn); use != last {
				t.Errorf("%s: %s says that it is %s, and its command is %s", file, fn.Name.Name, m[1], use)
			}
			if want := strings.ReplaceAll(last, "-", ""); !strings.HasSuffix(strings.ToLower(fn.Name.Name), want) {
				t.Errorf("%s: %s is the constructor of %s", file, fn.Name.Name, m[1])
			}
		}
	}
	if named < 40 {
		t.Errorf("%d constructors say what they return", named)
	}
}

// firstUse returns the name of the first command that a function makes.
func firstUse(fn *ast.FuncDecl) (name string) {
	ast.Inspect(fn, func(n ast.Node) bool {
		kv, ok := n.(*ast.KeyValueExpr)
		if !ok || name != "" {
			return name == ""
		}
		key, ok := kv.Key.(*ast.Ident)
		text, isText := kv.Value.(*ast.BasicLit)
		if ok && isText && key.Name == "Use" {
			if s, err := strconv.Unquote(text.Value); err == nil {
				name, _, _ = strings.Cut(s, " ")
			}
		}
		return true
	})
	return name
}
