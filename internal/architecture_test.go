package internal

import (
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
	"internal/carry":  {"internal/core/untrusted"},
	"internal/agent": {"internal/core", "internal/wire", "internal/inquiry", "internal/client", "internal/host",
		"internal/carry", "internal/archive", "internal/atomicfile", "internal/private"},
	"internal/seeded":     {}, // for tests alone
	"internal/frugal":     {}, // for tests alone
	"internal/disk":       {}, // for tests alone
	"internal/loopback":   {},
	"internal/samba":      {"internal/loopback", "internal/tied"}, // for the demo and the tests
	"internal/aclfs":      {},                                     // for the demo and the tests
	"internal/tied":       {},
	"internal/atomicfile": {"internal/private"},
	"internal/private":    {"internal/core"},
	"internal/handover":   {},
	"internal/service": {"internal/core", "internal/wire", "internal/inquiry", "internal/report", "internal/archive",
		"internal/loopback", "internal/tied", "internal/atomicfile", "internal/handover", "internal/service"},
	"internal/cli": {"internal", "console"},
	"console":      {},
	"cmd":          {"internal/cli"},
	"packaging":    {"internal/cli"},
	"demo":         {"internal", "demo"},
	"e2e":          {"internal", "demo", "e2e"},
	"bench":        {"internal", "demo", "e2e/browser"},
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
			if strings.Contains(string(b), call) {
				t.Errorf("%s uses %s", path, call)
			}
		}

		return nil
	})

	if err != nil {
		t.Fatal(err)
	}
}
