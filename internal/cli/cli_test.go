package cli

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

// try runs a command line in this process.
func try(t *testing.T, stdin string, argv ...string) (string, error) {
	t.Helper()
	root := Root()
	var out bytes.Buffer
	root.SetOut(&out)
	root.SetErr(&out)
	root.SetIn(strings.NewReader(stdin))
	root.SetArgs(append(argv, "--config="+t.TempDir()))
	err := root.ExecuteContext(t.Context())
	return out.String(), err
}

const sound = "idletally: 1\napplication: app\nhosts: {tags: [x]}\nroots: [/srv/app]\nrules:\n  - {rule: all, " +
	"paths: /srv/app/**, files: 0640}\n"

func TestCheckLocally(t *testing.T) {
	out, err := try(t, sound, "baseline", "check", "-", "--local")
	if err != nil || out != "- is a sound baseline of app: 1 rules; applies to no host yet.\n" {
		t.Errorf("%q, %v", out, err)
	}

	if out, err = try(t, "\xef\xbb\xbf"+sound, "baseline", "check", "-", "--local"); err != nil {
		t.Errorf("with a byte order mark: %q, %v", out, err)
	}

	out, err = try(t, strings.Replace(sound, "0640", "0840", 1), "baseline", "check", "-", "--local")
	if !errors.Is(err, errNotSo) || !strings.HasPrefix(out, `-:6:44: mode "0840": character 2 is '8'`) {
		t.Errorf("%q, %v", out, err)
	}

	out, err = try(t, "x: [", "baseline", "check", "-", "--local", "--output", "json")
	var k wire.Checked
	if !errors.Is(err, errNotSo) || json.Unmarshal([]byte(out), &k) != nil || k.OK || len(k.Errors) == 0 {
		t.Errorf("%q, %v", out, err)
	}

	if _, err = try(t, sound, "baseline", "check", "-"); err == nil || !strings.Contains(err.Error(), "--local") {
		t.Errorf("without a session: %v", err)
	}
}

func TestUsage(t *testing.T) {
	for _, argv := range [][]string{
		{"plan", "sink"},
		{"plan", "show"},
		{"host", "list", "extra"},
		{"plan", "show", "--what"},
		{"login", "ftp://x", "--name", "a"},
		{"serve", "--log-level", "loud"},
		{"drift", "findings", "a", "b"},
		{"mode", "change", "0644", ""},
	} {
		_, err := try(t, "", argv...)
		var usage usageError
		if !errors.As(err, &usage) {
			t.Errorf("%v: %v, want a usage error", argv, err)
		}
	}

	for _, argv := range [][]string{{"--help"}, {"plan"}, {"agent"}, {"completion", "bash"}} {
		if out, err := try(t, "", argv...); err != nil || len(out) < 100 {
			t.Errorf("%v: %q, %v", argv, out, err)
		}
	}
}

// Every command says what it does, and none is without help.
func TestEveryCommandExplainsItself(t *testing.T) {
	n := 0
	var walk func(*cobra.Command)
	walk = func(c *cobra.Command) {
		n++
		if c.Short == "" {
			t.Errorf("%s has no description", c.CommandPath())
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(Root())
	if n < 35 {
		t.Errorf("only %d commands were seen", n)
	}
}

func TestOutputs(t *testing.T) {
	tab := func() table {
		x := table{head: []string{"A", "B"}, value: []string{"v"}, none: "Nothing."}
		x.add("=1+1", "with, comma")
		return x
	}
	for kind, want := range map[string]string{
		"csv": "A,B\n'=1+1,\"with, comma\"\n", "json": "{\n  \"items\": [\n    \"v\"\n  ],\n  \"total\": 1\n}\n",
		"table": "A     B\n=1+1  with, comma\n",
	} {
		t.Run(kind, func(t *testing.T) {
			c := &cobra.Command{}
			var b bytes.Buffer
			c.SetOut(&b)
			if err := (&options{output: kind}).show(c, tab()); err != nil || b.String() != want {
				t.Errorf("%s: %q, %v", kind, b.String(), err)
			}
		})
	}

	c := &cobra.Command{}
	var b bytes.Buffer
	c.SetOut(&b)
	if err := (&options{output: "table"}).show(c, table{none: "Nothing."}); err != nil || b.String() != "Nothing.\n" {
		t.Errorf("empty: %q, %v", b.String(), err)
	}
}

func TestSessionFile(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "new", "folder")
	o := &options{config: dir}
	if _, err := o.load(); err == nil || !strings.Contains(err.Error(), "idletally login") {
		t.Errorf("no session: %v", err)
	}
	if err := o.save(session{Address: "https://x", Token: "secret"}); err != nil {
		t.Fatal(err)
	}
	if st, err := os.Stat(filepath.Join(dir, "session.json")); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", st.Mode(), err)
	}
	if s, err := o.load(); err != nil || s.Token != "secret" {
		t.Errorf("%+v, %v", s, err)
	}
}

func TestRefs(t *testing.T) {
	d := client.Drift{Groups: []wire.Group{{ID: "a", Report: "r1"}, {ID: "a", Report: "r2"}, {ID: "b", Report: "r1"}}}
	got, err := refs(d, []string{"a"}, []string{"r1:7"})
	if err != nil || len(got.Groups) != 2 || got.Findings[0] != (wire.Ref{Report: "r1", Seq: 7}) {
		t.Errorf("%+v, %v", got, err)
	}
	if _, err := refs(d, []string{"c"}, nil); err == nil {
		t.Error("an unknown group was taken")
	}
	if _, err := refs(d, nil, []string{"r1"}); err == nil {
		t.Error("a finding without number was taken")
	}
}

func TestOpenAPI(t *testing.T) {
	out, err := try(t, "", "openapi")
	var doc struct {
		OpenAPI string
		Paths   map[string]any
	}
	if err != nil || json.Unmarshal([]byte(out), &doc) != nil || !strings.HasPrefix(doc.OpenAPI, "3.1") ||
		len(doc.Paths) < 25 {
		t.Errorf("%.100s, %v", out, err)
	}
}

func TestModeCommands(t *testing.T) {
	for _, x := range []struct {
		argv []string
		want []string
	}{
		{[]string{"mode", "show", "2750"},
			[]string{"rwxr-s---", "u=rwx,g=rxs,o=", "special 2 = 2 (set-group-ID)", "gets this folder's group"}},
		{[]string{"mode", "show", "drwxrwx--T"}, []string{"1770", "sticky"}},
		{[]string{"mode", "show", "u=rw,g=r"}, []string{"0640"}},
		{[]string{"mode", "change", "0644", "+x"}, []string{"0755"}},
		{[]string{"mode", "change", "0644", "+x", "--umask", "0077"}, []string{"0744"}},
		{[]string{"mode", "change", "2770", "g=rx", "--folder"}, []string{"2750"}},
		{[]string{"mode", "new", "--umask", "027", "--in", "2770"}, []string{"0640", "2750", "set-group-ID"}},
	} {
		t.Run(fmt.Sprint(x.argv), func(t *testing.T) {
			out, err := try(t, "", x.argv...)
			for _, w := range x.want {
				if err != nil || !strings.Contains(out, w) {
					t.Errorf("%v: %v, %q is not in\n%s", x.argv, err, w, out)
				}
			}
		})
	}

	for _, argv := range [][]string{
		{"mode", "show", "0888"},
		{"mode", "show", "rwxrwxrwz"},
		{"mode", "change", "0644", "z+x"},
		{"mode", "new", "--umask", "9"},
	} {
		if out, err := try(t, "", argv...); err == nil {
			t.Errorf("%v: %s", argv, out)
		}
	}
}

func TestPathCommands(t *testing.T) {
	dir := t.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "report.txt"), 0o750); err != nil {
		t.Fatal(err)
	}

	if err := os.WriteFile(filepath.Join(dir, "report.txt", "a\x1b[31m"), []byte("123"), 0o600); err != nil {
		t.Fatal(err)
	}

	if err := os.Chown(filepath.Join(dir, "report.txt"), 4711, 4712); err != nil {
		t.Fatal(err)
	}

	out, err := try(t, "", "path", "list", dir)
	if err != nil || !strings.Contains(out, "folder  rwxr-x---  0750   4711 (no such account)  4712 (no such group)") {
		t.Errorf("%s, %v", out, err)
	}

	out, err = try(t, "", "path", "list", dir, "--below")
	if err != nil || !strings.Contains(out, dir+`/report.txt/a\x1b[31m`) || strings.Contains(out, "\x1b") {
		t.Errorf("%q, %v", out, err)
	}

	out, err = try(t, "", "path", "show", filepath.Join(dir, "report.txt"), "--output", "json")
	var p wire.Sight
	if err != nil || json.Unmarshal([]byte(out), &p) != nil || p.Kind != "folder" || len(p.Words) != 3 {
		t.Errorf("%s, %v", out, err)
	}

	if _, err := try(t, "", "path", "show", filepath.Join(dir, "none")); err == nil ||
		!strings.Contains(err.Error(), "it is not there") {
		t.Errorf("missing: %v", err)
	}
}
