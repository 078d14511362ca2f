package internal

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// Every row of what docs/security.md says is held names tests, and each of these is there.
func TestSecurityNamesItsTests(t *testing.T) {
	tests := map[string]bool{}
	function := regexp.MustCompile(`(?m)^func (Test\w+)\(t \*testing\.T\)`)
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() &&
			(d.Name() == "node_modules" || d.Name() == "third_party" ||
				strings.HasPrefix(d.Name(), ".") && d.Name() != "..") {
			return fs.SkipDir
		}

		if strings.HasSuffix(path, "_test.go") {
			b, err := os.ReadFile(path)
			for _, m := range function.FindAllStringSubmatch(string(b), -1) {
				tests[m[1]] = true
			}
			return err
		}

		return nil
	})

	if err != nil {
		t.Fatal(err)
	}

	b, err := os.ReadFile("../docs/security.md")
	if err != nil {
		t.Fatal(err)
	}

	name := regexp.MustCompile("`(Test\\w+)`")
	rows, held := 0, false
	for line := range strings.Lines(string(b)) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		switch {
		case !strings.HasPrefix(line, "|"):
			held = false
		case len(cells) == 3 && strings.TrimSpace(cells[2]) == "held by":
			held = true
		case held && !strings.HasPrefix(line, "| ---"):
			rows++
			named := name.FindAllStringSubmatch(cells[2], -1)
			if len(named) == 0 {
				t.Errorf("no test holds: %s", cells[0])
			}

			for _, m := range named {
				if !tests[m[1]] {
					t.Errorf("there is no test %s, which is to hold: %s", m[1], cells[0])
				}
			}
		}
	}

	if rows < 35 {
		t.Errorf("only %d rows name tests", rows)
	}

	asvs, err := os.ReadFile("../docs/asvs.md")
	if err != nil {
		t.Fatal(err)
	}

	notMet := 0
	for line := range strings.Lines(string(asvs)) {
		if strings.Contains(line, "| no |") {
			notMet++
		}
		for _, m := range name.FindAllStringSubmatch(line, -1) {
			if !tests[m[1]] {
				t.Errorf("docs/asvs.md: there is no test %s", m[1])
			}
		}
	}

	if notMet != 5 || !strings.Contains(string(asvs), "**Five rows are not met**") {
		t.Errorf("docs/asvs.md: %d rows are not met: say so in its head", notMet)
	}
}

// What makes passwords cheap for the tests of the whole program stands where those build it, and nowhere else.
func TestPasswordsAreCheapOnTrialAlone(t *testing.T) {
	var where []string
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == "bin" || d.Name() == ".git") {
			return fs.SkipDir
		}

		if d.Type().IsRegular() && d.Name() != "security_test.go" {
			b, err := os.ReadFile(path)
			if strings.Contains(string(b), "onTrial") {
				where = append(where, filepath.ToSlash(path))
			}
			return err
		}

		return nil
	})

	if err != nil {
		t.Fatal(err)
	}

	if want := []string{"../e2e/main_test.go", "../internal/service/auth/auth.go"}; !slices.Equal(where, want) {
		t.Errorf("%v", where)
	}
}
