package main

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"
)

// The number of the version stands in one place: what is built takes it from there, and the list of changes begins with
// it. What is built before its tag comes before it.
func TestVersion(t *testing.T) {
	b, err := os.ReadFile("../VERSION")
	if err != nil {
		t.Fatal(err)
	}
	number := strings.TrimSpace(string(b))
	if !regexp.MustCompile(`^(0|[1-9][0-9]*)(\.(0|[1-9][0-9]*)){2}$`).MatchString(number) {
		t.Errorf("VERSION is %q", number)
	}

	changes, err := os.ReadFile("../CHANGELOG.md")
	if err != nil {
		t.Fatal(err)
	}
	first := regexp.MustCompile(`(?m)^## ([^ ,\n]+)`).FindSubmatch(changes)
	if first == nil || string(first[1]) != number {
		t.Errorf("the newest changes are of %q, the version is %s", first, number)
	}

	out, err := exec.CommandContext(t.Context(), "../scripts/version.sh").Output()
	if err != nil {
		t.Fatal(err)
	}
	version := strings.TrimSpace(string(out))
	if version != number && !strings.HasPrefix(version, number+"~") {
		t.Errorf("scripts/version.sh says %s", version)
	}
	if got := debianVersion(version); got != strings.ReplaceAll(version, "-", ".") {
		t.Errorf("Debian's form of it is %s", got)
	}
}
