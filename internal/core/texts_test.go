package core

import (
	"encoding"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/chain"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	_ "idletally/internal/core/perm/posix" // sets are of a scheme
	"idletally/internal/core/privilege"
	"idletally/internal/core/signature"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
	"idletally/internal/testkit/seeded"
)

// texts are the values of the core that are read from text, in bodies of anybody's making.
func texts() map[string]encoding.TextUnmarshaler {
	return map[string]encoding.TextUnmarshaler{
		"access.Operation": new(access.Operation),
		"chain.Hash":       new(chain.Hash),
		"ntsd.SID":         new(ntsd.SID),
		"pathname.Path":    new(pathname.Path),
		"perm.Kind":        new(perm.Kind),
		"perm.Set":         new(perm.Set),
		"privilege.Set":    new(privilege.Set),
		"signature.Key":    new(signature.Key),
		"statement.Point":  new(statement.Point),
		"tree.Hash":        new(tree.Hash),
	}
}

// Whatever stands in a text, reading it ends: with a value that is written as it can be read again, or with an error.
// A reader that panics would end an agent, or the command line, by a body of somebody's making.
func TestReadingTextEnds(t *testing.T) {
	r := seeded.Rand(t)
	letters := []string{
		"0123456789abcdef", "ABCDEFabcdef+/=", "S-1-5-21-", " ssh-ed25519 AAAA", "\\x00\xff\x80", "rwx,SeBackup",
		"é⛵ \n",
	}
	for name, v := range texts() {
		t.Run(name, func(t *testing.T) {
			for n := range 6000 {
				var b strings.Builder
				from := letters[r.IntN(len(letters))]
				for range n % 300 {
					b.WriteByte(from[r.IntN(len(from))])
				}
				read(t, v, b.String())
			}
			for _, n := range []int{0, 1, 31, 32, 33, 63, 64, 65, 66, 128, 1000, 100_000} {
				for _, letter := range []string{"0", "f", "A", "\\", "\xff"} {
					read(t, v, strings.Repeat(letter, n))
				}
			}
		})
	}
}

func read(t *testing.T, v encoding.TextUnmarshaler, text string) {
	t.Helper()
	defer func() {
		if fault := recover(); fault != nil {
			t.Fatalf("%T panics at %d bytes, %.80q: %v", v, len(text), text, fault)
		}
	}()
	if err := v.UnmarshalText([]byte(text)); err != nil {
		return
	}

	again, err := v.(encoding.TextMarshaler).MarshalText()
	if err == nil {
		err = v.UnmarshalText(again)
	}
	if err != nil {
		t.Errorf("%T: %.80q is read, and not what it is written as: %v", v, text, err)
	}
}

// Every type of the core that is read from text is tried above.
func TestAllTextsAreTried(t *testing.T) {
	method := regexp.MustCompile(`(?m)^func \(\w+ \*(\w+)\) UnmarshalText\(`)
	var found []string
	err := filepath.WalkDir(".", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		b, err := os.ReadFile(path)
		for _, m := range method.FindAllSubmatch(b, -1) {
			found = append(found, fmt.Sprintf("%s.%s", filepath.Base(filepath.Dir(path)), m[1]))
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}

	tried := texts()
	for _, name := range found {
		if tried[name] == nil {
			t.Errorf("%s is read from text, and not tried", name)
		}
	}
	if slices.Sort(found); len(found) != len(tried) {
		t.Errorf("found %v", found)
	}
}
