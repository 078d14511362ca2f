package internal

import (
	"bufio"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode"

	"github.com/fzipp/gocyclo"
)

// The rules of the house that no tool at hand checks: how wide lines are, how long and how tangled functions, and that
// doc comments document what stands below them.

const (
	maxGoColumns    = 120 // a tab is four
	maxProseColumns = 100
	maxLines        = 60 // of a function, without blank lines and comments
	maxTestLines    = 100
	maxComplexity   = 15
)

// exceptions are functions that were longer or more tangled when these rules came. The list only shrinks: what is in
// it may not grow, and what keeps the rules has to leave it.
const exceptions = "testdata/exceptions.txt"

// tracked returns the files of ours that git knows, or would take, by their end.
func tracked(t *testing.T, end string) []string {
	t.Helper()
	c := exec.CommandContext(t.Context(), "git", "ls-files", "-co", "--exclude-standard", "--", "*"+end)
	c.Dir = ".."
	out, err := c.Output()
	if err != nil {
		t.Fatalf("git ls-files: %v", err)
	}

	var files []string
	for name := range strings.Lines(string(out)) {
		name = filepath.Join("..", strings.TrimSpace(name))
		if _, err := os.Stat(name); err == nil && !strings.HasPrefix(name, "../third_party/") {
			files = append(files, name)
		}
	}
	if len(files) == 0 {
		t.Fatalf("git knows no file that ends in %s", end)
	}
	return files
}

func columns(line string) int {
	return len([]rune(strings.ReplaceAll(strings.TrimRight(line, "\n"), "\t", "    ")))
}

// goFile is a parsed file of Go.
type goFile struct {
	name  string
	lines []string
	fset  *token.FileSet
	*ast.File
}

func goFiles(t *testing.T) (files []goFile) {
	t.Helper()
	for _, name := range tracked(t, ".go") {
		b, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		fset := token.NewFileSet()
		f, err := parser.ParseFile(fset, name, b, parser.ParseComments)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, goFile{strings.TrimPrefix(name, "../"), strings.Split(string(b), "\n"), fset, f})
	}
	return files
}

func (f goFile) line(p token.Pos) int { return f.fset.Position(p).Line }

// raw returns the numbers of the lines that hold a raw string, or a part of one: struct tags, and texts in other
// languages, which cannot be broken everywhere.
func (f goFile) raw() map[int]bool {
	raw := map[int]bool{}
	ast.Inspect(f.File, func(n ast.Node) bool {
		if lit, ok := n.(*ast.BasicLit); ok && strings.HasPrefix(lit.Value, "`") {
			for l := f.line(lit.Pos()); l <= f.line(lit.End()); l++ {
				raw[l] = true
			}
		}
		return true
	})
	return raw
}

func TestWidthOfGo(t *testing.T) {
	for _, f := range goFiles(t) {
		raw := f.raw()
		for i, line := range f.lines {
			if n := columns(line); n > maxGoColumns && !raw[i+1] {
				t.Errorf("%s:%d has %d columns: break it at %d", f.name, i+1, n, maxGoColumns)
			}
		}
	}
}

// unbreakable matches lines of Markdown that have to be whole: rows of tables, code, pictures, long links.
var unbreakable = regexp.MustCompile("^\\s*\\||^    |^\\s*!\\[|^\\s*[^ ]+$|^.{0,8}`[^`]+`[^ ]*$")

// made matches the documents that tests write of the program: what they say stands in Go.
var made = regexp.MustCompile("^../docs/(commands/.*|metrics|problems|settings)[.]md$")

func TestWidthOfProse(t *testing.T) {
	for _, name := range tracked(t, ".md") {
		if made.MatchString(name) {
			continue
		}
		file, err := os.Open(name)
		if err != nil {
			t.Fatal(err)
		}
		fenced := false
		for s, i := bufio.NewScanner(file), 1; s.Scan(); i++ {
			line := s.Text()
			if strings.HasPrefix(strings.TrimSpace(line), "```") {
				fenced = !fenced
			}
			if n := columns(line); n > maxProseColumns && !fenced && !unbreakable.MatchString(line) {
				t.Errorf("%s:%d has %d columns: fill the paragraph at %d", name, i, n, maxProseColumns)
			}
		}
		file.Close()
	}
}

// size returns the lines of a function that hold code.
func (f goFile) size(fn *ast.FuncDecl) (n int) {
	for _, line := range f.lines[f.line(fn.Pos())-1 : f.line(fn.End())] {
		if s := strings.TrimSpace(line); s != "" && !strings.HasPrefix(s, "//") {
			n++
		}
	}
	return n
}

// beyond returns the functions that break the rules, by "file function", with their lines and their complexity.
func beyond(t *testing.T) map[string][2]int {
	t.Helper()
	found := map[string][2]int{}
	for _, f := range goFiles(t) {
		most := maxLines
		if strings.HasSuffix(f.name, "_test.go") {
			most = maxTestLines
		}
		for _, d := range f.Decls {
			fn, ok := d.(*ast.FuncDecl)
			if !ok || fn.Body == nil {
				continue
			}
			lines, tangled := f.size(fn), gocyclo.Complexity(fn)
			if lines > most || tangled > maxComplexity && !strings.HasSuffix(f.name, "_test.go") {
				found[f.name+" "+full(fn)] = [2]int{lines, tangled}
			}
		}
	}
	return found
}

// full returns a function's name, with its receiver's type before it.
func full(fn *ast.FuncDecl) string {
	if fn.Recv == nil {
		return fn.Name.Name
	}
	of := fn.Recv.List[0].Type
	for {
		switch x := of.(type) {
		case *ast.StarExpr:
			of = x.X
		case *ast.IndexExpr:
			of = x.X
		case *ast.Ident:
			return x.Name + "." + fn.Name.Name
		default:
			return fn.Name.Name
		}
	}
}

// To write the list anew after functions became smaller: IDLETALLY_WRITE_EXCEPTIONS=1 go test ./internal -run TestSize
func TestSizeOfFunctions(t *testing.T) {
	found := beyond(t)
	if os.Getenv("IDLETALLY_WRITE_EXCEPTIONS") != "" {
		var b strings.Builder
		b.WriteString("# Functions that are longer or more tangled than house_test.go allows: lines, complexity.\n")
		for _, name := range slices.Sorted(maps.Keys(found)) {
			fmt.Fprintf(&b, "%s %d %d\n", name, found[name][0], found[name][1])
		}
		if err := os.WriteFile(exceptions, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}

	b, err := os.ReadFile(exceptions)
	if err != nil {
		t.Fatal(err)
	}
	allowed := map[string][2]int{}
	for line := range strings.Lines(string(b)) {
		if strings.HasPrefix(line, "#") {
			continue
		}
		var file, name string
		var most [2]int
		if _, err := fmt.Sscan(line, &file, &name, &most[0], &most[1]); err != nil {
			t.Fatalf("%s: %q: %v", exceptions, line, err)
		}
		allowed[file+" "+name] = most
	}

	for name, is := range found {
		most, ok := allowed[name]
		switch {
		case !ok:
			t.Errorf("%s has %d lines and complexity %d; %d (in tests %d) and %d are allowed: part it", name, is[0],
				is[1], maxLines, maxTestLines, maxComplexity)
		case is[0] > most[0] || is[1] > most[1]:
			t.Errorf("%s grew from %v to %v lines and complexity: part it", name, most, is)
		}
	}
	for name := range allowed {
		if _, ok := found[name]; !ok {
			t.Errorf("%s keeps the rules by now: take it out of %s", name, exceptions)
		}
	}
}

// Doc comments name what they document, and nothing else of the package.
func TestDocComments(t *testing.T) {
	byPackage := map[string]map[string]bool{}
	files := goFiles(t)
	for _, f := range files {
		dir := filepath.Dir(f.name)
		if byPackage[dir] == nil {
			byPackage[dir] = map[string]bool{}
		}
		for _, d := range documented(f) {
			byPackage[dir][d.name] = true
		}
	}

	for _, f := range files {
		for _, d := range documented(f) {
			first := subject(d)
			if first != d.name && byPackage[filepath.Dir(f.name)][first] && !strings.HasPrefix(d.name, "Test") {
				t.Errorf("%s:%d: the comment above %s documents %s", f.name, f.line(d.pos), d.name, first)
			}
		}
	}
}

// What docs/words.md says is not to be used is no name of a type, a function or a method.
func TestWordsNotToBeUsed(t *testing.T) {
	text, err := os.ReadFile("../docs/words.md")
	if err != nil {
		t.Fatal(err)
	}
	_, table, ok := strings.Cut(string(text), "## Not to be used for identifiers")
	if !ok {
		t.Fatal("docs/words.md has no such table")
	}
	words := map[string]bool{}
	for line := range strings.Lines(table) {
		if cells := strings.Split(line, "|"); len(cells) > 3 && !strings.Contains(cells[1], "---") {
			for word := range strings.SplitSeq(cells[1], ",") {
				words[strings.TrimSpace(word)] = true
			}
		}
	}
	delete(words, "word") // the head of the table
	if len(words) < 15 {
		t.Fatalf("only %d words are in the table", len(words))
	}

	for _, f := range goFiles(t) {
		// The names of the API's types stand in its document, and are promised.
		if strings.HasSuffix(f.name, "_test.go") || strings.HasPrefix(f.name, "internal/wire/") {
			continue
		}
		for _, d := range documented(f) {
			if words[strings.ToLower(d.name)] {
				t.Errorf("%s:%d: %s is a word that docs/words.md has another one for", f.name, f.line(d.pos), d.name)
			}
		}
	}
}

type doc struct {
	name, doc string
	pos       token.Pos
	function  bool
}

// subject returns what a comment says that it documents, if it begins with an identifier; a type's may stand behind an
// article, as in "A Set is".
func subject(d doc) string {
	words := strings.Fields(d.doc)
	if len(words) > 1 && !d.function && slices.Contains([]string{"A", "An", "The"}, words[0]) &&
		unicode.IsUpper([]rune(words[1])[0]) {
		words = words[1:]
	}
	if len(words) < 2 || words[0] == "A" {
		return ""
	}
	return words[0]
}

func documented(f goFile) (out []doc) {
	for _, d := range f.Decls {
		switch d := d.(type) {
		case *ast.FuncDecl:
			out = append(out, doc{d.Name.Name, d.Doc.Text(), d.Pos(), true})
		case *ast.GenDecl:
			for _, s := range d.Specs {
				switch s := s.(type) {
				case *ast.TypeSpec:
					text := s.Doc.Text()
					if text == "" && !d.Lparen.IsValid() {
						text = d.Doc.Text()
					}
					out = append(out, doc{s.Name.Name, text, s.Pos(), false})
				case *ast.ValueSpec:
					out = append(out, doc{s.Names[0].Name, s.Doc.Text(), s.Pos(), false})
				}
			}
		}
	}
	return out
}
