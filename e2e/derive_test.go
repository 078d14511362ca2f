//go:build linux

package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"idletally/demo"
)

// From nothing to a published baseline without writing a rule: a first look at folders that no
// baseline names, a draft of what is there, and no findings once it counts.
func tryDeriving(t *testing.T, s *demo.Stage) {
	c := command{t: t, s: s, person: "quartermaster"}
	c.login()
	file := filepath.Join(t.TempDir(), "derived.yaml")

	for _, x := range []struct {
		argv []string
		code int
		says string
	}{
		{[]string{"snapshot", "take", "boards", "slip-north"}, 1, "name them as roots"},
		{[]string{"snapshot", "take", "boards", "--root", "/srv/tideboard"}, 2, "name the hosts"},
		{[]string{"snapshot", "take", "boards", "slip-north", "--root", "tideboard"}, 1, "is not absolute"},
		{[]string{"snapshot", "take", "boards", "slip-north", "--root", "/srv", "--root", "/srv/tideboard"}, 1,
			"lie in each other"},
		{[]string{"snapshot", "take", "Boards!", "slip-north", "--root", "/srv/tideboard"}, 1, `application "Boards!"`},
		{[]string{"snapshot", "take", "boards", "slip-north", "--root", "/etc"}, 4,
			"this host's own list of roots does not hold it"},
		{[]string{"snapshot", "take", "ticketing", "slip-north", "--root", "/srv/ticketing"}, 1, "leave the roots out"},
		{[]string{"baseline", "derive", "boards"}, 2, "name hosts that are right"},
		{[]string{"baseline", "derive", "boards", "slip-south"}, 1, "has no snapshot of boards yet"},
		{[]string{"snapshot", "take", "boards", "slip-north", "--root", "/srv/tideboard"}, 0, "ready"},
		{[]string{"baseline", "derive", "boards", "slip-north", "slip-north"}, 1, "named twice"},
		{[]string{"baseline", "derive", "boards", "--snapshot", newest(t, s)}, 1, "is no finished one of boards"},
		{[]string{"baseline", "derive", "boards", "slip-north", "--output", "csv"}, 0, "everything,1216,1.0000"},
	} {
		c.want(x.code, x.says, x.argv...)
	}

	text, errs, code := c.run("", "baseline", "derive", "boards", "slip-north")
	if code != 0 || !strings.Contains(text, "paths: /srv/tideboard/**\n    owner: harbour\n") {
		t.Fatalf("%d\n%s%s", code, text, errs)
	}

	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}

	for _, argv := range [][]string{
		{"baseline", "check", file},
		{"baseline", "upload", file},
		{"baseline", "publish", "boards", "1"},
		{"drift", "report", "boards", "--fail"},
	} {
		if out, errs, code := c.run("", argv...); code != 0 {
			t.Errorf("%v: exit code %d\n%s%s", argv, code, out, errs)
		}
	}

	// Two hosts, one of them differently kept, and every mishap of the demo world on both.
	text, errs, code = c.run("", "baseline", "derive", "ticketing", "slip-north", "slip-south")
	if code != 0 || !strings.Contains(text, "The hosts differ here") || !strings.Contains(text, `owner: "4711"`) {
		t.Fatalf("%d\n%s%s", code, text, errs)
	}

	effect, err := as(t, s, "quartermaster").PreviewBaseline(t.Context(), text)
	if err != nil || len(effect.Hosts) != 2 || effect.Hosts[0].After+effect.Hosts[1].After != 0 {
		t.Errorf("%+v, %v", effect, err)
	}
}
