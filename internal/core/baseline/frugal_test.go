//go:build linux

package baseline

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"idletally/internal/testkit/frugal"
)

// The worst that somebody can have checked takes no more than 192 MiB and a few seconds, and what is told of
// it is short.
func TestParseIsFrugal(t *testing.T) {
	const head = "idletally: 1\napplication: app\nhosts: {names: [a]}\n"
	rep := strings.Repeat
	rules := func(n int, body string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "- {rule: r%d, %s}\n", i, body)
		}
		return b.String()
	}

	numbered := func(n int, format string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, format, i)
		}
		return b.String()
	}

	const mb = 1 << 20
	for name, c := range map[string]struct {
		text func() string
		says string // "" where it is sound
	}{
		"brackets":       {func() string { return rep("[", mb) }, "lines and marks"},
		"fewer brackets": {func() string { return rep("[", maxMarks-10) }, "max depth"},
		"nested as far":  {func() string { return rep("[", 9000) + rep("]", 9000) }, "more than 16 deep"},
		"dashes":         {func() string { return rep("- ", maxMarks-10) }, "max depth"},
		"braces":         {func() string { return rep("{a: ", maxMarks/2-10) }, "max depth"},
		"questions":      {func() string { return rep("? ", maxMarks-10) }, "max depth"},
		"quotes":         {func() string { return rep("'a' ", maxMarks/2-10) }, "not valid YAML"},
		"anchors":        {func() string { return rep("&a ", maxMarks-10) }, "not valid YAML"},
		"tags":           {func() string { return rep("!!a ", maxMarks/2-10) }, "not valid YAML"},
		"documents":      {func() string { return rep("---\n", maxMarks/4-10) }, "is empty"},
		"words":          {func() string { return rep("a ", mb/2) }, "must be a mapping"},
		"tabs":           {func() string { return rep("a:\t", maxMarks-10) }, "not valid YAML"},
		"comments":       {func() string { return rep("#\n", maxMarks/2-10) }, "is empty"},
		"one long word":  {func() string { return rep("a", mb-10) }, "must be a mapping"},
		"an open quote":  {func() string { return "a: 'b\n" + rep("c: d\n", maxMarks/2-10) }, "not valid YAML"},
		"a flat list": {func() string { return head + "roots: [" + rep("a,", maxMarks-100) + "]" },
			"the rest is not looked at"},
		"keys":              {func() string { return "{" + rep("a,", maxMarks-10) + "}" }, "the rest is not looked at"},
		"unknown keys":      {func() string { return numbered(40_000, "key%d: x\n") }, "the rest is not looked at"},
		"long unknown keys": {func() string { return numbered(200, "k%d"+rep("x", 1000)+": x\n") }, "has no key"},
		"aliases": {func() string { return "title: &a x\nroots: [" + rep("*a,", maxMarks/2-10) + "]" },
			"anchor or alias"},
		"block in block": {func() string { return steps(1400) }, "more than 16 deep"},
		"roots": {func() string { return head + "roots:\n" + numbered(40_000, "- /srv/%d\n") },
			"more than 200 roots"},
		"patterns": {func() string {
			return head + "roots: [/srv]\nrules:\n- {rule: r, paths: [" + numbered(70_000, "/srv/%d,") +
				"], files: 0640}"
		}, "50000 patterns"},
		"patterns in vain": {func() string {
			return head + "roots:\n" + numbered(200, "- /srv/%d/a\n") + "rules:\n- {rule: r, paths: [" +
				numbered(45_000, "/*/*/b%d,") + "], files: 0640}"
		}, "lies under none"},
		"patterns that match": {func() string {
			return head + "roots:\n" + numbered(200, "- /srv/%d/a\n") + "rules:\n- {rule: r, paths: [" +
				numbered(45_000, "/*/199/a/%d,") + "], files: 0640}"
		}, ""},
		"a variable in errors": {func() string {
			return head + "variables: {v: " + rep("x", 300_000) + "}\nroots: [/srv]\nrules:\n" +
				rules(9000, `paths: /srv/a, owner: "${v}"`)
		}, "bytes of text with variables"},
		"a variable in paths": {func() string {
			return head + "variables: {v: " + rep("x/", 1_000) + "x}\nroots: [/srv]\nrules:\n- {rule: r, paths: [" +
				rep(`"/srv/${v}",`, 40_000) + "], files: 0640}\n"
		}, "bytes of text with variables"},
		"forms": {func() string {
			return head + "roots: [/srv]\nforms: {f: {files: 0640, entries: [" + numbered(30_000, "'user:a%d:r',") +
				"]}}\nrules:\n" + rules(9000, "paths: /srv/a, form: f")
		}, "500000 pieces"},
		"for many": {func() string {
			return head + "roots: [/srv]\nrules:\n- {rule: r, paths: /srv/a, for: [" + numbered(20_000, "a%d,") +
				"], entries: [" + numbered(400, "'user:${for}x%d:r',") + "]}\n"
		}, "pieces"},
		"as many rules as there may be": {func() string {
			return head + "roots: [/srv]\nrules:\n" + rules(MaxRules, "paths: /srv/**, files: 0640, owner: a")
		}, ""},
		"one rule more": {func() string {
			return head + "roots: [/srv]\nrules:\n" + rules(MaxRules+1, "paths: /srv/**, files: 0640, owner: a")
		}, "more than 10000 rules"},
		"as large as any": {func() string {
			return head + "roots: [/srv]\nrules:\n- {rule: r, paths: /srv/a, entries: [" +
				numbered(55_000, "'user:a%d:r',") + "]}\n"
		}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			b := []byte(c.text())
			frugal.Run(t, 192<<20, func() {
				start := time.Now()
				_, err := Parse(b)
				if took := time.Since(start); took > 30*time.Second {
					panic(fmt.Sprintf("took %s", took))
				}

				var faults Errors
				switch {
				case c.says == "" && err == nil:
				case !errors.As(err, &faults) || c.says == "" || !strings.Contains(err.Error(), c.says):
					panic(fmt.Sprintf("%.500v, want %q", err, c.says))
				case len(faults) > maxErrors+2 || len(err.Error()) > 1000*len(faults):
					panic(fmt.Sprintf("%d faults of %d bytes", len(faults), len(err.Error())))
				}
			})
		})
	}

	t.Run("includes", func(t *testing.T) {
		part := []byte("idletally: 1\napplication: other\nvariables:\n" + numbered(40_000, "  v%d: x\n"))
		frugal.Run(t, 192<<20, func() {
			_, err := ParseFor([]byte(head+"include: ["+numbered(maxIncludes, "o%d,")+"]\nroots: [/srv]\nrules: []\n"),
				Env{Fetch: func(string) ([]byte, error) { return part, nil }})
			if err == nil || !strings.Contains(err.Error(), "comes to more than") {
				panic(fmt.Sprintf("%.500v", err))
			}
		})
	})
}

// steps is a mapping in a mapping, and so on.
func steps(depth int) string {
	var b strings.Builder
	for i := range depth {
		b.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	return b.String()
}
