package private

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/ntsd"
)

// A descriptor by which others can write or, of a secret, read, is told from one by which they cannot.
func TestOther(t *testing.T) {
	self := ntsd.NewSID(5, 21, 1, 2, 3, 1001)
	for _, c := range []struct {
		sddl    string
		secret  bool
		want    ntsd.SID
		nobody  bool
		because string
	}{
		{"O:S-1-5-21-1-2-3-1001D:P(A;OICI;FA;;;SY)(A;OICI;FA;;;BA)(A;OICI;FA;;;S-1-5-21-1-2-3-1001)", true, ntsd.SID{},
			true, "what is made here"},
		{"O:BAD:P(A;;FA;;;SY)(A;;FA;;;OW)", true, ntsd.SID{}, true, "the administrators' own, and its owner's"},
		{"O:WDD:P(A;;FA;;;SY)", false, ntsd.Everyone, false, "an owner can always change the list"},
		{"O:OWD:P(A;;FA;;;SY)", false, ntsd.OwnerRights, false, "an owner that is nobody"},
		{"O:SYD:NO_ACCESS_CONTROL", false, ntsd.Everyone, false, "no list"},
		{"O:SYD:P", true, ntsd.SID{}, true, "an empty list"},
		{"O:SYD:AI(A;OICIID;0x1200a9;;;BU)(A;ID;FA;;;SY)", false, ntsd.SID{}, true, "users may read a folder"},
		{"O:SYD:AI(A;OICIID;0x1200a9;;;BU)(A;ID;FA;;;SY)", true, ntsd.NewSID(5, 32, 545), false, "and no secret"},
		{"O:SYD:AI(A;CIID;LC;;;AU)", false, ntsd.Authenticated, false, "folders can be added"},
		{"O:SYD:AI(A;OICIIOID;FA;;;CO)(A;;GR;;;WD)", false, ntsd.SID{}, true, "what it hands on is not for itself"},
		{"O:SYD:(A;;GA;;;WD)", false, ntsd.Everyone, false, "a generic right"},
		{"O:SYD:(A;;WD;;;BU)", false, ntsd.NewSID(5, 32, 545), false, "who changes the list gets the rest"},
		{"O:SYD:(D;;FA;;;WD)(A;;FA;;;BU)", false, ntsd.NewSID(5, 32, 545), false, "what denies is not counted on"},
	} {
		t.Run(c.sddl, func(t *testing.T) {
			d, err := ntsd.ParseSDDL(c.sddl)
			if err != nil {
				t.Fatal(err)
			}
			if who, found := other(d, self, c.secret); found == c.nobody || who != c.want {
				t.Errorf("%s (%s): %s, %t", c.sddl, c.because, who, found)
			}
		})
	}
}

// What an agent keeps is made by this package alone: the standard library's ways mean nothing by their modes
// on Windows.
func TestTheOnlyDoor(t *testing.T) {
	made := map[string]bool{
		"Create":     true,
		"CreateTemp": true,
		"WriteFile":  true,
		"Mkdir":      true,
		"MkdirAll":   true,
		"MkdirTemp":  true,
	}

	files := 0
	for _, pattern := range []string{
		"../agent/*.go", "../atomicfile/*.go", "../host/change/*.go", "../host/spool/*.go", "../cli/session.go",
	} {
		t.Run(pattern, func(t *testing.T) {
			names, err := filepath.Glob(pattern)
			if err != nil {
				t.Fatal(err)
			}
			for _, name := range names {
				if strings.HasSuffix(name, "_test.go") {
					continue
				}

				files++
				set := token.NewFileSet()
				f, err := parser.ParseFile(set, name, nil, 0)
				if err != nil {
					t.Fatal(err)
				}

				ast.Inspect(f, func(n ast.Node) bool {
					call, ok := n.(*ast.CallExpr)
					if !ok {
						return true
					}
					fun, ok := call.Fun.(*ast.SelectorExpr)
					if !ok {
						return true
					}

					pkg, ok := fun.X.(*ast.Ident)
					if ok && pkg.Name == "os" && (made[fun.Sel.Name] || fun.Sel.Name == "OpenFile" && creates(call)) {
						t.Errorf("%s: os.%s: use package private", set.Position(call.Pos()), fun.Sel.Name)
					}

					return true
				})
			}
		})
	}

	if files < 20 {
		t.Errorf("only %d files were looked at", files)
	}
}

func creates(call *ast.CallExpr) (found bool) {
	ast.Inspect(call.Args[1], func(n ast.Node) bool {
		id, ok := n.(*ast.Ident)
		found = found || ok && id.Name == "O_CREATE"
		return true
	})
	return found
}

// scratch is t.TempDir for where os.RemoveAll is not to be had: Wine 8 does not know the call.
func scratch(t *testing.T) string {
	dir, err := os.MkdirTemp("", "private-")
	if err != nil {
		t.Fatal(err)
	}

	t.Cleanup(func() {
		var all []string
		err := filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
			all = append(all, path)
			return err
		})
		for _, path := range slices.Backward(all) {
			err = errors.Join(err, os.Remove(path))
		}

		if err != nil {
			t.Error(err)
		}
	})

	return dir
}

// Files are made, added to, and written anew, and nobody else has a part in them.
func TestFiles(t *testing.T) {
	dir := filepath.Join(scratch(t), "a", "b")
	if err := errors.Join(MkdirAll(dir), MkdirAll(dir)); err != nil {
		t.Fatal(err)
	}

	name := filepath.Join(dir, "key")
	for _, text := range []string{"a longer one", "short"} {
		t.Run(text, func(t *testing.T) {
			if err := WriteFile(name, []byte(text)); err != nil {
				t.Fatal(err)
			}
		})
	}

	f, err := Open(name, os.O_WRONLY|os.O_APPEND)
	if err != nil {
		t.Fatal(err)
	}

	if _, err := f.WriteString("er"); err != nil {
		t.Fatal(err)
	}

	if err := f.Close(); err != nil {
		t.Fatal(err)
	}

	if _, err := Open(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL); !errors.Is(err, os.ErrExist) {
		t.Errorf("what is there: %v", err)
	}

	temp, err := CreateTemp(dir, "x-*.new")
	if err != nil {
		t.Fatal(err)
	}

	if err := temp.Close(); err != nil {
		t.Fatal(err)
	}

	if base := filepath.Base(temp.Name()); !strings.HasPrefix(base, "x-") || !strings.HasSuffix(base, ".new") {
		t.Errorf("named %s", base)
	}

	open := filepath.Join(dir, "open")
	if err := os.WriteFile(open, nil, 0o644); err != nil {
		t.Fatal(err)
	}

	if err := Check(open, true); err == nil || !strings.Contains(err.Error(), "read") {
		t.Errorf("what others can read: %v", err)
	}

	if b, err := os.ReadFile(name); err != nil || string(b) != "shorter" {
		t.Errorf("%q, %v", b, err)
	}

	for at, secret := range map[string]bool{
		dir:                           false,
		name:                          true,
		temp.Name():                   true,
		filepath.Join(dir, "nothing"): true,
	} {
		t.Run(at, func(t *testing.T) {
			if err := Check(at, secret); err != nil {
				t.Error(err)
			}
		})
	}
}
