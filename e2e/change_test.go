package e2e

import (
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"idletally/demo"
	"idletally/internal/core/wish"
	"idletally/internal/wire"
)

// foreseen wants what is foreseen of a wish to be what its plan then says, and returns both.
func foreseen(t *testing.T, s *demo.Stage, application, host string, w wish.Wish) (wire.Foreseen, wire.Plan) {
	t.Helper()
	api := as(t, s, "quartermaster")
	f, err := api.Foresee(t.Context(), wire.Foresee{
		Application: application,
		Hosts:       []string{host},
		Wishes:      []wish.Wish{w},
	})
	must(t, err)
	p, err := api.DraftPlan(t.Context(), wire.Draft{
		Application: application,
		Hosts:       []string{host},
		Changes:     f.Text,
	})
	must(t, err)

	if f.Steps != p.Steps || len(f.Groups) != len(p.Groups) || len(f.Left) != len(p.Left) {
		t.Errorf("%+v: foreseen are %d steps, %d groups and %d left; the plan has %d, %d and %d", w, f.Steps,
			len(f.Groups), len(f.Left), p.Steps, len(p.Groups), len(p.Left))
	}
	for _, g := range p.Groups {
		found := false
		for _, x := range f.Groups {
			found = found || reflect.DeepEqual(x, g)
		}
		if !found {
			t.Errorf("%+v: the plan has %+v, which was not foreseen", w, g)
		}
	}
	for _, c := range p.Cautions {
		found := false
		for _, x := range f.Cautions {
			found = found || x.Kind == c.Kind && x.Grave == c.Grave && x.Count == c.Count && x.Text == c.Text
		}
		if !found {
			t.Errorf("%+v: the plan warns of %+v, which was not foreseen", w, c)
		}
	}
	return f, p
}

// Paths are changed as somebody foresees it, and put back, on real hosts.
func tryChange(t *testing.T, s *demo.Stage) {
	const keys = "/srv/ticketing/keys"
	one := func(path string, w wish.Wish) wish.Wish {
		w.Paths = []string{path}
		return w
	}
	for _, w := range []wish.Wish{
		one(keys, wish.Wish{Depth: wish.All, Form: "private-key"}),
		one("/srv/ticketing/logs", wish.Wish{Depth: wish.Content, Only: []string{"file"},
			Set: wish.Basics{Files: "0640"}}),
		one("/srv/ticketing/shared", wish.Wish{Depth: wish.All, Set: wish.Basics{Owner: "purser"}}),
		one("/srv/ticketing/shared", wish.Wish{Depth: wish.All, Where: wish.Basics{Owner: "clerk-east"},
			Set: wish.Basics{Owner: "purser"}}),
		one("/srv/ticketing/site", wish.Wish{Depth: wish.All, Form: "web-content", For: []string{"www-tickets"}}),
		one("/srv/ticketing/drop", wish.Wish{Form: "drop"}),
		one("/srv/ticketing", wish.Wish{Set: wish.Basics{Folders: "0700"}}),
		one("/srv/ticketing/releases", wish.Wish{Depth: wish.All, Set: wish.Basics{Owner: "clerk-east"}}),
	} {
		t.Run(w.Paths[0]+" "+w.Form, func(t *testing.T) { foreseen(t, s, "ticketing", "slip-north", w) })
	}

	f, p := foreseen(t, s, "ticketing", "slip-north", one(keys+"/gate.key", wish.Wish{Form: "private-key"}))
	if f.Steps != 1 || len(f.Losses) != 1 || f.Losses[0].Who != "crew" || len(f.Gains) != 0 || f.Hosts[0].Mended != 1 {
		t.Errorf("%+v", f)
	}
	if f, _ := foreseen(t, s, "ticketing", "slip-north", one(keys+"/gate.key", wish.Wish{
		Set: wish.Basics{Files: "0666"},
	})); f.Hosts[0].Undeclared != 1 || len(f.Gains) != 1 || f.Gains[0].Who != "everyone" || len(f.Cautions) == 0 {
		t.Errorf("%+v", f)
	}
	if r := agreed(t, s, p); r.State != "finished" {
		t.Fatalf("%+v", r)
	}
	st, err := os.Stat(filepath.Join(s.Root("slip-north"), keys, "gate.key"))
	must(t, err)
	if st.Mode().Perm() != 0o600 {
		t.Errorf("a private key has %s", st.Mode())
	}
	back, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{Run: runOf(t, s, p.ID)})
	must(t, err)
	agreed(t, s, back)
	changeByCommand(t, s)
	changeAtTerminal(t, s)
}

// changeByCommand composes changes in one line: of paths that are given, or that another program writes.
func changeByCommand(t *testing.T, s *demo.Stage) {
	t.Helper()
	on := command{t: t, s: s, person: "quartermaster"}
	on.login()
	change := func(more ...string) []string {
		return append([]string{"change", "--application", "ticketing", "--host", "slip-north"}, more...)
	}
	const log = "/srv/ticketing/logs/sales-000.log"
	on.want(0, "everyone                  write, with 1 path", change(log, "--mode", "o-w")...)
	on.want(0, "0 paths would change", change("/srv/ticketing/nowhere", "--mode", "o-w")...)
	on.want(2, "say what is to change", change(log)...)
	on.want(2, "either --mode, or", change(log, "--mode", "0640", "--files", "0640")...)
	on.want(2, "want owner, group, files or folders", change(log, "--mode", "0640", "--where", "colour=red")...)
	on.want(1, "no account \"nobody-here\"", change(log, "--owner", "nobody-here")...)
	on.want(1, "lies under none of the roots", change("/etc/passwd", "--owner", "purser")...)
	on.want(0, "state   draft", change(log, "--mode", "o-w", "--draft", "--title", "Close a log")...)

	for name, c := range map[string]struct{ in, want string }{
		"lines":              {log + "\n\n/srv/ticketing/logs/sales-001.log", "2 paths would change"},
		"NUL":                {log + "\x00/srv/ticketing/logs/line\nend\x00", "2 paths would change"},
		"nothing":            {"", "no path stands on standard input"},
		"more than it takes": {strings.Repeat(log+"\n", wish.MaxPaths+1), "more than 500 paths"},
	} {
		t.Run(name, func(t *testing.T) {
			args := change("-", "--mode", "o-w")
			if name == "NUL" {
				args = append(args, "--nul")
			}
			out, errs, _ := on.run(c.in, args...)
			if !strings.Contains(out+errs, c.want) {
				t.Errorf("%s%s, want %q", out, errs, c.want)
			}
		})
	}
}

// On a share, too, a change is as it was foreseen: stopping inheritance with and without what came down, and taking
// entries from above again.
func changeOnShare(t *testing.T, s *demo.Stage) {
	t.Helper()
	const north = "/charts/north sound"
	for _, w := range []wish.Wish{
		{Paths: []string{north}, Inherits: "stopped"},
		{Paths: []string{north}, Inherits: "stopped and emptied", Grants: wish.EntryChange{
			Give: []string{"allow keepers: full"},
		}},
		{Paths: []string{north}, Depth: wish.Content, Inherits: "from above", Grants: wish.EntryChange{None: true}},
		{Paths: []string{north}, Grants: wish.EntryChange{Give: []string{"deny crew: write"}}},
	} {
		t.Run(w.Inherits, func(t *testing.T) {
			f, _ := foreseen(t, s, "charts", "chartroom", w)
			if w.Inherits == "stopped" && len(f.Gains)+len(f.Losses) > 0 {
				t.Errorf("what came down is kept, and yet %+v, %+v", f.Gains, f.Losses)
			}
			if w.Inherits == "stopped and emptied" && (len(f.Losses) == 0 || f.Steps < 2) {
				t.Errorf("what came down is gone, here and below, and yet %+v, %d steps", f.Losses, f.Steps)
			}
		})
	}
}
