package models

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"idletally/internal/cli"
	"idletally/internal/core/baseline"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/wish"
)

// What the composer says of wishes: whether they say anything, where they are composed, and by which command.
func TestWishes(t *testing.T) {
	_, eval := page(t)
	type m = map[string]any
	for _, c := range []struct {
		name, call string
		args       []any
		want       string
	}{
		{"nothing is said", "models.wish.says(a[0])", []any{m{"paths": []string{"/a"}, "set": m{"owner": ""}}}, `false`},
		{"of no path", "models.wish.says(a[0])", []any{m{"paths": []string{}, "set": m{"owner": "x"}}}, `false`},
		{"an owner is", "models.wish.says(a[0])", []any{m{"paths": []string{"/a"}, "set": m{"owner": "x"}}}, `true`},
		{"a form is", "models.wish.says(a[0])", []any{m{"paths": []string{"/a"}, "form": "drop"}}, `true`},
		{"a form that does not say for whom", "models.wish.says(a[0])",
			[]any{m{"paths": []string{"/a"}, "form": "withheld"}}, `false`},
		{"no other entries", "models.wish.says(a[0])",
			[]any{m{"paths": []string{"/a"}, "entries": m{"none": true}}}, `true`},
		{"what says nothing goes", "models.wish.tidy(a[0])",
			[]any{m{"paths": []string{}, "only": []string{}, "set": m{"owner": "", "group": "crew"}, "later": false,
				"entries": m{"give": []string{}}}}, `{"paths":[],"set":{"group":"crew"}}`},
		{"paths of an address", "models.change.wishesOf(new URLSearchParams(a[0]))",
			[]any{"host=h&path=%2Fa%20b&path=/c"}, `[{"paths":["/a b","/c"]}]`},
		{"an address that says nothing", "models.change.wishesOf(new URLSearchParams(a[0]))",
			[]any{"wish=%7B&wish=1&wish=null&wish=%7B%22paths%22:3%7D&wish=%7B%22paths%22:[3]%7D"}, `[{"paths":[]}]`},
		{"there and back",
			"models.change.wishesOf(new URL(models.wish.addressOf('h', a[0], 'x'), 'https://h').searchParams)",
			[]any{[]any{m{"paths": []string{"/a&b=c"}, "form": "drop"}, m{"paths": []string{"/d"}, "later": true}}},
			`[{"paths":["/a&b=c"],"form":"drop"},{"paths":["/d"],"later":true}]`},
		{"the nearest application", "models.change.applicationOf(a[0], a[1])",
			[]any{[]any{m{"application": "all", "roots": []string{"/srv"}},
				m{"application": "near", "roots": []string{"/x", "/srv/a"}}}, []string{"/srv/a", "/srv/a/b"}}, `"near"`},
		{"one whose name only begins so", "models.change.applicationOf(a[0], a[1])",
			[]any{[]any{m{"application": "near", "roots": []string{"/srv/a"}}}, []string{"/srv/ab"}}, `null`},
		{"looked at again", "models.look.lately(a[0], a[1], 2)",
			[]any{[]any{m{"host": "h", "path": "/a"}, m{"host": "h", "path": "/b"}, m{"host": "h", "path": "/c"}},
				m{"host": "h", "path": "/b"}}, `[{"host":"h","path":"/b"},{"host":"h","path":"/a"}]`},
		{"a question", "models.look.questions(a[0])[0].to", []any{m{"snapshot": "06x", "path": "/a b"}},
			`"/look?snapshot=06x&path=%2Fa+b&tab=who&operation=write"`},
		{"nothing would change", "models.change.sentence(a[0])", []any{m{"steps": 0}}, `"Nothing would change."`},
		{"a sentence", "models.change.sentence(a[0])", []any{m{"steps": 2, "losses": []any{},
			"gains":    []any{m{"who": "crew", "group": true}, m{"who": "mate"}},
			"cautions": []any{m{"grave": true}, m{}}}},
			`"2 paths would change; group crew, mate could do more; 1 grave caution."`},
		{"drift from then on", "models.change.againstBaseline(a[0])",
			[]any{m{"steps": 1, "edition": 4, "undeclared": 1}},
			`"It would not be as edition 4 of the baseline declares: drift from then on."`},
		{"and the end of some", "models.change.againstBaseline(a[0])", []any{m{"steps": 3, "edition": 4, "mended": 2}},
			`"2 would be as edition 4 of the baseline declares, and are not now."`},
		{"rules behind the others", "models.baselines.withRules(a[0], a[1])",
			[]any{"a: 1\nrules:\n- rule: x\n  paths: /x\n\n# end\nleave-alone: /y\n", "  - rule: w\n    owner: m\n"},
			asJSON(t, "a: 1\nrules:\n- rule: x\n  paths: /x\n- rule: w\n  owner: m\n\n# end\nleave-alone: /y\n")},
		{"once", "models.baselines.withRules(a[0], a[1])", []any{"rules:\n  - rule: w\n", "  - rule: w\n"},
			asJSON(t, "rules:\n  - rule: w\n")},
		{"once, wherever rules stand", "models.baselines.withRules(a[0], a[1])",
			[]any{"rules:\n- rule: x\n- rule: w\n  owner: m\n", "  - rule: w\n    owner: m\n"},
			asJSON(t, "rules:\n- rule: x\n- rule: w\n  owner: m\n")},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := eval(c.call, c.args...); got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
		})
	}
}

// The composer offers the starting points of the language, and draws what they make.
func TestFormsAreDrawn(t *testing.T) {
	_, eval := page(t)
	var forms []struct{ Key, Files, Folders, Of string }
	if err := json.Unmarshal([]byte(eval("models.wish.forms")), &forms); err != nil {
		t.Fatal(err)
	}
	dir := (&perm.Directory{
		Accounts: []perm.Account{{ID: "u1", Name: "mate"}},
		Groups:   []perm.Account{{ID: "g1", Name: "mate"}},
	}).Index()
	var keys []string
	for _, f := range forms {
		keys = append(keys, f.Key)
		t.Run(f.Key, func(t *testing.T) {
			w := wish.Wish{Paths: []string{"/srv/a"}, Form: f.Key}
			if f.Of != "" {
				w.For = []string{"mate"}
			}
			text, err := wish.Changes([]wish.Wish{w})
			if err != nil {
				t.Fatal(err)
			}
			changes, err := baseline.ParseChanges([]byte(text), []string{"/srv"}, nil)
			if err != nil {
				t.Fatalf("%v\n%s", err, text)
			}
			c, problems := changes.For(dir)
			if len(problems) > 0 {
				t.Fatal(problems)
			}
			for k, drawn := range map[perm.Kind]string{perm.File: f.Files, perm.Folder: f.Folders} {
				if drawn == "" {
					continue
				}
				before := posix.State{Mode: 0o777}.Set()
				after, err := c.Change("/srv/a", perm.Found{Kind: k, Set: before})
				if err != nil {
					t.Fatal(err)
				}
				if got := after.State().(posix.State).Mode; got.String() != drawn {
					t.Errorf("a %s becomes %s, and %s is drawn", k, got, drawn)
				}
			}
		})
	}
	want := slices.Sorted(slices.Values(baseline.Forms))
	if slices.Sort(keys); !slices.Equal(keys, want) {
		t.Errorf("offered are %v, the language has %v", keys, want)
	}
}

// The command that the composer shows is one that the program takes.
func TestWishAsCommand(t *testing.T) {
	_, eval := page(t)
	for _, w := range []wish.Wish{
		{Paths: []string{"/srv/it's", "/srv/b"}, Depth: wish.Content, Only: []string{"file"}, Form: "private-key"},
		{Paths: []string{"/srv/a"}, Set: wish.Basics{Owner: "mate", Group: "crew", Files: "g+rX,o=", Folders: "2770"},
			Where: wish.Basics{Owner: "temp"}},
		{Paths: []string{"/srv/a"}, Form: "withheld", For: []string{"temp"}, Later: true,
			Entries: wish.EntryChange{Give: []string{"group:crew:rX"}, Without: []string{"user:temp"}, None: true}},
		{Paths: []string{"/charts"}, Inherits: "stopped and emptied",
			Grants: wish.EntryChange{Give: []string{"allow crew: read, write"}}},
	} {
		t.Run(w.Paths[0], func(t *testing.T) {
			var line string
			answer := eval("models.change.commandOf('ticketing', 'slip-north', a[0])", w)
			if err := json.Unmarshal([]byte(answer), &line); err != nil {
				t.Fatal(err)
			}
			argv := shellWords(line)
			root := cli.Root()
			c, rest, err := root.Find(argv[1:])
			if err == nil {
				err = c.ParseFlags(rest)
			}
			if err != nil || c.Name() != "change" || !slices.Equal(c.Flags().Args(), w.Paths) {
				t.Errorf("%s: %v, %v", line, c.Flags().Args(), err)
			}
			if given := c.Flags().Lookup("inherits").Value.String(); given != w.Inherits {
				t.Errorf("%s: inherits %q", line, given)
			}
		})
	}
}

// shellWords parts a line as a shell does, with single quotes.
func shellWords(line string) (out []string) {
	var word strings.Builder
	quoted := false
	for i, r := range line {
		switch {
		case r == '\'' && !(i > 0 && line[i-1] == '\\'):
			quoted = !quoted
		case r == '\\' && !quoted:
		case r == ' ' && !quoted:
			out = append(out, word.String())
			word.Reset()
		default:
			word.WriteRune(r)
		}
	}
	return append(out, word.String())
}
