// Package models tries the pure part of the console where it runs: in a browser.
package models

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"

	"idletally/e2e/browser"
	"idletally/internal/core/baseline"
	"idletally/internal/core/lifecycle"
	"idletally/internal/testkit/seeded"
)

const source = "../../console/"

// page opens a window with the models in it, and returns what answers an expression of theirs, as JSON.
func page(t *testing.T) (b *browser.Browser, eval func(expression string, args ...any) string) {
	t.Helper()
	bundle := filepath.Join(t.TempDir(), "models.js")
	build := exec.CommandContext(t.Context(), "node_modules/.bin/rolldown", "src/models.ts", "--format", "iife",
		"--name", "models", "--file", bundle)
	build.Dir = source
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	script, err := os.ReadFile(bundle)
	if err != nil {
		t.Fatal(err)
	}

	if b, err = browser.New(t.Context(), "about:blank", 800, 600, false); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	if err := b.Do(chromedp.Navigate("about:blank"), chromedp.Evaluate(string(script)+";globalThis.models = models; 0",
		nil)); err != nil {
		t.Fatal(err)
	}

	wait := func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }
	return b, func(expression string, args ...any) (out string) {
		t.Helper()
		in, err := json.Marshal(append([]any{}, args...))
		if err != nil {
			t.Fatal(err)
		}
		call := fmt.Sprintf("(async (...a) => JSON.stringify((await (%s)) ?? null))(...%s)", expression, in)
		if err := b.Do(chromedp.Evaluate(call, &out, wait)); err != nil {
			t.Fatalf("%s: %v", call, err)
		}
		return out
	}
}

// Each model of the console is among those that are tried.
func TestModelsAreTried(t *testing.T) {
	list, err := os.ReadFile(source + "src/models.ts")
	if err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(source + "src/features/*/model.ts")
	if err != nil || len(files) < 6 {
		t.Fatalf("%d models, %v", len(files), err)
	}
	for _, file := range files {
		at := "./" + strings.TrimSuffix(strings.TrimPrefix(filepath.ToSlash(file), source+"src/"), ".ts")
		if !strings.Contains(string(list), `"`+at+`"`) {
			t.Errorf("%s is not in models.ts", at)
		}
	}
}

// A feature's model is pure: it has no state, asks nobody, and draws nothing.
func TestModelsArePure(t *testing.T) {
	files, err := filepath.Glob(source + "src/*/*/model.ts")
	if err != nil {
		t.Fatal(err)
	}
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, not := range []string{"react", "fetch(", "sessionStorage", "document.", "window.", "Date.now",
			"/queries"} {
			t.Run(not, func(t *testing.T) {
				if strings.Contains(string(text), not) {
					t.Errorf("%s has %s", file, not)
				}
			})
		}
	}
}

// What the console says of things is what it should be, one by one.
func TestModels(t *testing.T) {
	b, eval := page(t)
	if err := b.Do(emulation.SetTimezoneOverride("Pacific/Chatham")); err != nil { // 12:45 ahead, 13:45 in summer
		t.Fatal(err)
	}

	group := func(host, id string, count int) map[string]any {
		return map[string]any{"host": host, "id": id, "count": count}
	}
	single := map[string]any{
		"host": "a", "report": "r", "seq": 1, "path": "/srv/x", "aspect": "mode", "group": "g1",
	}
	for _, c := range []struct {
		name, call string
		args       []any
		want       string
	}{
		{"a path's folder", "models.look.folderOf(a[0])", []any{"/srv/ticketing/bin"}, `"/srv/ticketing"`},
		{"the folder of one at the top", "models.look.folderOf(a[0])", []any{"/srv"}, `"/"`},
		{"flags of a host", "models.look.flagsOf(a[0])", []any{map[string]string{"host": "slip"}}, `"--host slip"`},
		{"flags of a snapshot", "models.look.flagsOf(a[0])", []any{map[string]string{"snapshot": "06x"}},
			`"--snapshot 06x"`},
		{"where a host is looked at", "models.app.addressOf(a[0])",
			[]any{map[string]string{"kind": "host", "subject": "slip-north"}}, `"/hosts/slip-north"`},
		{"where a path is", "models.app.addressOf(a[0])",
			[]any{map[string]string{"kind": "path", "subject": "/srv/a b&c", "snapshot": "06x"}},
			`"/look?snapshot=06x&path=%2Fsrv%2Fa+b%26c"`},
		{"where an account is", "models.app.addressOf(a[0])",
			[]any{map[string]string{"kind": "account", "subject": "crew/mate"}}, `"/accounts/crew%2Fmate?"`},
		{"a past of nothing", "models.history.pastQuery(a[0])", []any{map[string]string{}}, `{}`},
		{"a day of the viewer's", "models.history.pastQuery(a[0])",
			[]any{map[string]string{"from": "2026-11-30", "to": "2026-11-30", "who": "bosun"}},
			`{"who":"bosun","from":"2026-11-29T10:15:00.000Z","to":"2026-11-30T10:15:00.000Z"}`},
		{"a day on which clocks change", "models.history.pastQuery(a[0])",
			[]any{map[string]string{"from": "2026-09-27", "to": "2026-09-27"}},
			`{"from":"2026-09-26T11:15:00.000Z","to":"2026-09-27T10:15:00.000Z"}`},
		{"a role everywhere", "models.roles.may(a[0], 'author', 'boats')",
			[]any{map[string]any{"roles": []string{"author"}}}, `true`},
		{"a role for one", "models.roles.may(a[0], 'author', 'boats')",
			[]any{map[string]any{"roles": []string{"author@boats"}}}, `true`},
		{"a role for another", "models.roles.may(a[0], 'author', 'cars')",
			[]any{map[string]any{"roles": []string{"author@boats"}}}, `false`},
		{"a role for one is not everywhere", "models.roles.may(a[0], 'author')",
			[]any{map[string]any{"roles": []string{"author@boats"}}}, `false`},
		{"a role somewhere", "models.roles.maySomewhere(a[0], 'author')",
			[]any{map[string]any{"roles": []string{"author@boats"}}}, `true`},
		{"another role somewhere", "models.roles.maySomewhere(a[0], 'auth')",
			[]any{map[string]any{"roles": []string{"author@boats"}}}, `false`},
		{"remarks in the order of the text", "models.baselines.remarksOf(a[0]).map((r) => [r.line, r.grave, r.text])",
			[]any{map[string]any{
				"warnings": []any{map[string]any{
					"line": 2, "column": 9, "message": "it matches nothing", "example": "/srv/x",
					"instead": "leave it out",
				}},
				"errors":   []any{map[string]any{"line": 7, "column": 1, "message": "no such key"}},
				"problems": []any{map[string]any{"line": 2, "column": 3, "host": "slip", "message": "no such account"}},
			}},
			`[[2,true,"host slip: no such account"],` +
				`[2,false,"it matches nothing, such as /srv/x. Write instead: leave it out"],[7,true,"no such key"]]`},
		{"remarks of nothing", "models.baselines.remarksOf(undefined)", nil, `[]`},
		{"a basket counts a group's findings once", "models.drift.chosenOf(a[0], a[1])",
			[]any{
				map[string]any{"groups": []string{"a/g1", "b/gone"}, "singles": []any{single}},
				[]any{group("a", "g1", 3), group("b", "g1", 5)},
			}, `{"groups":[{"count":3,"host":"a","id":"g1"}],"singles":[],"findings":3}`},
		{"a finding of a host that has the same group", "models.drift.chosenOf(a[0], a[1]).findings",
			[]any{
				map[string]any{"groups": []string{"b/g1"}, "singles": []any{single}},
				[]any{group("a", "g1", 3), group("b", "g1", 5)},
			}, `6`},
		{"a group put in twice", "models.drift.withGroups(a[0], a[1], true).groups",
			[]any{
				map[string]any{"groups": []string{"a/g1"}, "singles": []any{}}, []any{group("a", "g1", 3)},
			}, `["a/g1"]`},
		{"a group taken out", "models.drift.withGroups(a[0], a[1], false).groups",
			[]any{
				map[string]any{"groups": []string{"a/g1", "b/g1"}, "singles": []any{}}, []any{group("a", "g1", 3)},
			}, `["b/g1"]`},
		{"a finding of a newer report takes the older one's place",
			"models.drift.withSingle(a[0], {...a[1], report: 's', seq: 9}, 'a', true).singles.map((s) => s.report)",
			[]any{map[string]any{"groups": []string{}, "singles": []any{single}}, single}, `["s"]`},
		{"a finding taken out", "models.drift.withSingle(a[0], a[1], 'a', false).singles",
			[]any{map[string]any{"groups": []string{}, "singles": []any{single}}, single}, `[]`},
		{"the next edition of a roster",
			"models.settings.nextEdition(a[0], 'abc', new Date('2026-11-30T12:00:00.5Z'))",
			[]any{"idletally roster 1\nedition: 9\nbefore: 0\nmade: 2025-01-01T00:00:00Z\n" +
				"until: 2026-01-01T00:00:00Z\nsite: x\n"},
			asJSON(t, "idletally roster 1\nedition: 10\nbefore: abc\nmade: 2026-11-30T12:00:00Z\n"+
				"until: 2027-11-30T12:00:00Z\nsite: x\n")},
		{"a right in words", "models.settings.sayRight('approve * slip-north')", nil,
			asJSON(t, "approve plans of every application on slip-north")},
		{"states of plans", "models.plans.planStates", nil, asJSON(t, lifecycle.Plans)},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := eval(c.call, c.args...); got != c.want {
				t.Errorf("%s, want %s", got, c.want)
			}
		})
	}
}

func asJSON(t *testing.T, v any) string {
	t.Helper()
	b, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

// What people paste into a shell means the path that it was made of, whatever is in it; and the pattern that is made of
// a path matches that path and no other.
func TestQuoting(t *testing.T) {
	_, eval := page(t)
	r := seeded.Rand(t)
	alphabet := []string{"a", "B", "7", " ", "'", `"`, `\`, "$", "`", "*", "?", "[", "]", "!", "\n", "é", "⚓", "-",
		"~", ";",
		"&", "(", "#", "=", "{", "}", ","}
	var paths []string
	for range 300 {
		path := "/"
		for range 1 + r.IntN(12) {
			path += alphabet[r.IntN(len(alphabet))]
		}
		paths = append(paths, path)
	}

	var quoted []string
	if err := json.Unmarshal([]byte(eval("a[0].map(models.look.quoted)", paths)), &quoted); err != nil {
		t.Fatal(err)
	}
	for i, q := range quoted {
		out, err := exec.CommandContext(t.Context(), "/bin/sh", "-c", "printf %s "+q).Output()
		if err != nil || string(out) != paths[i] {
			t.Errorf("%q is quoted as %s, which a shell takes for %q, %v", paths[i], q, out, err)
		}
	}

	// Patterns are written for paths as they are shown: without control characters, and backslashes twice.
	shown := func(path string) string {
		return strings.ReplaceAll(strings.ReplaceAll(path, "\n", ""), `\`, `\\`)
	}
	var asked []string
	for _, path := range paths {
		asked = append(asked, shown(path))
	}
	var literal []string
	if err := json.Unmarshal([]byte(eval("a[0].map(models.runs.literal)", asked)), &literal); err != nil {
		t.Fatal(err)
	}
	for i, text := range literal {
		path := strings.ReplaceAll(paths[i], "\n", "")
		p, err := baseline.ParsePattern(text)
		if path == "/" {
			continue
		}
		if err != nil {
			t.Errorf("%q as a pattern is %q: %v", path, text, err)
			continue
		}
		one := baseline.NewPatterns([]baseline.Pattern{p})
		if len(one.Match(path)) != 1 || len(one.Match(path+"x")) != 0 || len(one.Match(path[:len(path)-1])) != 0 {
			t.Errorf("%q as a pattern is %q, which does not match it alone", path, text)
		}
	}
}

// At each place of a baseline that one writes, the editor offers what can stand there.
func TestCompletion(t *testing.T) {
	_, eval := page(t)
	const known = `{
		schema: { properties: { application: {}, hosts: { properties: { names: {}, tags: {} } }, rules: {} },
			$defs: { rule: { properties: { paths: {}, owner: {}, grants: {} } },
				form: { properties: { files: {} } } } },
		accounts: ["bosun", "cook"], groups: ["crew"],
		names: async (folder) => folder === "/srv" ? [{ name: "boats", folder: true }] : [],
	}`
	const call = `(async () => {
		const at = a[0].indexOf("|"), text = a[0].replace("|", "");
		const state = models.EditorState.create({ doc: text });
		const r = await models.baselines.complete(new models.CompletionContext(state, at, true), ` + known + `);
		return r && [text.slice(r.from, at), ...r.options.map((o) => o.label)];
	})()`

	rule := "rules:\n  - rule: all\n    paths: /srv/**\n    "
	for _, c := range []struct {
		text string
		want []string // what is written already, and what is offered
	}{
		{"app|", []string{"app", "application", "hosts", "rules"}},
		{"hosts:\n  |", []string{"", "names", "tags"}},
		{rule + "|", []string{"", "paths", "owner", "grants"}},
		{"forms:\n  mine:\n    f|", []string{"f", "files"}},
		{rule + "owner: b|", []string{"b", "bosun", "cook", "any"}},
		{rule + "group: |", []string{"", "crew", "any"}},
		{rule + "severity: |", []string{"", "minor", "serious", "grave"}},
		{rule + `entries: ["user:b|`, []string{"b", "bosun", "cook"}},
		{rule + "entries:\n      - group:|", []string{"", "crew"}},
		{"roots:\n  - /srv/|", []string{"", "boats"}},
		{"rules:\n  - rule: all\n    paths: /srv/|", []string{"", "boats", "**", "*"}},
		{rule + "inherits: |", []string{"", "from above", "stopped", "any"}},
		{rule + "grants: |", []string{"", "none", "any"}},
		{rule + `grants: ["|`, []string{"", "allow", "deny"}},
		{rule + `grants: ["allow |`, []string{"", "bosun", "cook", "crew"}},
		{rule + `grants: ["allow crew: |`, []string{"", "read", "write", "full"}},
		{rule + `grants: ["allow crew: read", "deny cook: read, w|`, []string{"w", "read", "write", "full"}},
		{rule + "grants:\n      - allow crew: read; reaches here, |", []string{"", "here", "folders", "files"}},
		{rule + "grants:\n      at-least:\n        - |", []string{"", "allow", "deny"}},
		{rule + "exists: |", []string{"", "yes", "no"}},
	} {
		t.Run(c.text, func(t *testing.T) {
			var got []string
			if err := json.Unmarshal([]byte(eval(call, c.text)), &got); err != nil {
				t.Fatal(err)
			}
			if !reflect.DeepEqual(got, c.want) {
				t.Errorf("%q, want %q", got, c.want)
			}
		})
	}
}
