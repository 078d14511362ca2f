package change

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// Each invariant of the package comment names tests that are there, and that say which one they hold.
func TestInvariantsAreTested(t *testing.T) {
	doc, err := os.ReadFile("doc.go")
	if err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob("*_test.go")
	if err != nil {
		t.Fatal(err)
	}
	var tests strings.Builder
	for _, f := range files {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		tests.Write(b)
	}

	found := 0
	for _, part := range regexp.MustCompile(`//   - I`).Split(string(doc), -1)[1:] {
		number := "I" + part[:strings.IndexByte(part, ':')]
		for _, name := range regexp.MustCompile(`Test\w+`).FindAllString(part, -1) {
			found++
			holds := regexp.MustCompile(`(?m)^// ` + number + `: .*\n(//.*\n)*func ` + name + `\(`)
			if !holds.MatchString(tests.String()) {
				t.Errorf("%s is said to hold %s, and does not say so: begin its comment with \"%s:\"", name, number,
					number)
			}
		}
	}
	if found < 12 {
		t.Errorf("the package comment names only %d tests", found)
	}
}
