//go:build linux

package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"idletally/demo"
	"idletally/internal/core/wish"
)

// What a path was is told state by state, from its snapshots: with what it was, and that it was not there.
func tryTimes(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	api := as(t, s, "quartermaster")
	const path = "/srv/ticketing/conf/rota.conf"
	file := filepath.Join(s.Root("slip-north"), path)
	look := func() { snapshot(t, api, "ticketing", "slip-north") }
	look()
	must(t, os.WriteFile(file, nil, 0o600))
	must(t, os.Chmod(file, 0o644))
	look()
	must(t, os.WriteFile(filepath.Join(s.Root("slip-north"), "/srv/ticketing/conf/beside"), nil, 0o600))
	look()
	must(t, os.Chmod(file, 0o666))
	look()
	must(t, os.Remove(file))
	look()

	got, err := api.PathTimes(ctx, "slip-north", path, "")
	must(t, err)
	var states []string
	for i, x := range got.Items {
		is := "not there"
		if x.Access != nil {
			is = x.Access.Mode
		}
		states = append(states, is)
		if x.To.Before(x.From) || (x.After == nil) != (i == len(got.Items)-1) ||
			i > 0 && got.Items[i-1].After != nil && !got.Items[i-1].After.Equal(x.To) {
			t.Errorf("times: %+v", x)
		}
	}
	if strings.Join(states, " ") != "not there 0666 0644 not there" || got.Items[2].Snapshots != 2 {
		t.Errorf("%q: %+v", states, got)
	}

	// A run that changed a path is told of it, with what it found.
	_, p := foreseen(t, s, "ticketing", "slip-north", wish.Wish{
		Paths: []string{"/srv/ticketing/conf/service-00.conf"}, Set: wish.Basics{Files: "0600"},
	})
	run := agreed(t, s, p)
	got, err = api.PathTimes(ctx, "slip-north", "/srv/ticketing/conf/service-00.conf", "")
	must(t, err)
	if len(got.Runs) == 0 || got.Runs[0].Run != run.ID || got.Runs[0].Left.Mode != "0600" ||
		got.Runs[0].Original.Mode == "0600" {
		t.Errorf("runs: %+v", got.Runs)
	}

	for _, c := range []struct {
		argv []string
		code int
		says string
	}{
		{[]string{path, "--host", "slip-north"}, 0, "rw-rw-rw-"},
		{[]string{"/elsewhere", "--host", "slip-north"}, 0, "No snapshot looked at holds it."},
		{[]string{"conf", "--host", "slip-north"}, 2, "not absolute"},
		{[]string{path}, 2, "--host HOST"},
		{[]string{path, "--host", "nowhere"}, 1, "nowhere"},
	} {
		t.Run(strings.Join(c.argv, " "), func(t *testing.T) {
			cmd := command{t: t, s: s, person: "lookout"}
			cmd.login()
			out, errs, code := cmd.run("", append([]string{"path", "times"}, c.argv...)...)
			if code != c.code || !strings.Contains(out+errs, c.says) {
				t.Errorf("%d, not %d; %q is not in\n%s%s", code, c.code, c.says, out, errs)
			}
		})
	}
}
