package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/rivo/uniseg"
	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

// On a narrow terminal long texts shrink, and then columns give way in their order; what names a thing, tells
// a time or counts is whole.
func TestTableFits(t *testing.T) {
	at := time.Date(2026, 11, 29, 21, 48, 0, 0, time.Local)
	made := func() *table {
		tab := &table{head: []string{"SNAPSHOT", "HOST", "TAKEN", "GAPS", "FOR", "PATH", "ROOT HASH"}}
		tab.add("06h2jge24h0f2xps", "slip-north", at, 12, "quartermaster", "/srv/ticketing/site/route-07/page-01.html",
			"197b3a98cd8c5444")
		tab.add("06h2jge24h0f2xpt", "a host with \x1b[31m", at, 1, "", "/x", "")
		return tab
	}

	for _, c := range []struct {
		limit int
		has   []string
		left  []string
	}{
		{0, []string{"/srv/ticketing/site/route-07/page-01.html", "197b3a98cd8c5444", "quartermaster"}, nil},
		{125, []string{"…", "page-01.html", "197b3a98cd8c5444", "quartermaster"}, nil},
		{110, []string{"…", "page-01.html", "quartermaster"}, []string{"ROOT HASH"}},
		{80, []string{"…", "page-01"}, []string{"ROOT HASH", "GAPS", "FOR"}},
		{20, []string{"…"}, []string{"ROOT HASH", "GAPS", "FOR"}},
	} {
		t.Run(fmt.Sprint(c.limit), func(t *testing.T) {
			tab := made()
			var b bytes.Buffer
			if err := tab.write(&b, c.limit, true); err != nil {
				t.Fatal(err)
			}

			for _, want := range append(c.has, "06h2jge24h0f2xps", "06h2jge24h0f2xpt", "slip-north", "2026-11-29 21:48",
				"a host with �[31m") {
				if !strings.Contains(b.String(), want) {
					t.Errorf("at %d %q is not in\n%s", c.limit, want, b.String())
				}
			}

			if fmt.Sprint(tab.left) != fmt.Sprint(c.left) {
				t.Errorf("at %d left out are %v, want %v", c.limit, tab.left, c.left)
			}

			for line := range strings.Lines(b.String()) {
				if n := uniseg.StringWidth(strings.TrimSuffix(line, "\n")); c.limit > 70 && n > c.limit {
					t.Errorf("at %d a line of %d: %s", c.limit, n, line)
				}
			}
		})
	}
}

// Columns stand under each other whatever is written in them.
func TestWidths(t *testing.T) {
	tab := table{head: []string{"NAME", "OWNER", "PATH"}}
	for _, name := range []string{"plain", "潮見表", "フェリー", "👩 crew", "e\u0301tat", "🇵🇹"} {
		tab.add(name, "|", "/srv/潮見表/👩/e\u0301tat/route-07/page-01.html")
	}

	for _, limit := range []int{0, 40, 36, 35, 34, 33} {
		var b bytes.Buffer
		tab.cols = nil
		if err := tab.write(&b, limit, true); err != nil {
			t.Fatal(err)
		}

		for line := range strings.Lines(b.String()) {
			before, after, ok := strings.Cut(line, "|")
			if ok && uniseg.StringWidth(before) != 10 {
				t.Errorf("at %d a bar in column %d: %s", limit, uniseg.StringWidth(before), line)
			}
			if strings.Contains(after, "\u200d…") || strings.Contains(after, "…\u0301") {
				t.Errorf("cut within a character: %q", after)
			}
		}
	}
}

// listed is a list of so many numbers, of which a page holds at most seven, and of which it is known how many
// there are.
func listed(n int, exact bool) pageReader[int] {
	return func(_ context.Context, after string, limit int) (wire.Page[int], error) {
		from := 0
		if after != "" {
			if _, err := fmt.Sscan(after, &from); err != nil {
				return wire.Page[int]{}, err
			}
		}

		if limit <= 0 || limit > 7 || !exact {
			limit = 7
		}

		var p wire.Page[int]
		for from < n && len(p.Items) < limit {
			from++
			p.Items = append(p.Items, from)
		}

		if from < n {
			p.Next = fmt.Sprint(from)
		}

		if total := int64(n); after == "" && exact {
			p.Total = &total
		}

		return p, nil
	}
}

// What is left out of a list is said, in each format, and how to get it leads to just that.
func TestShowPages(t *testing.T) {
	show := func(output string, l listing, read pageReader[int]) (string, string, error) {
		t.Helper()
		c := &cobra.Command{}
		c.SetContext(t.Context())
		var out, errs bytes.Buffer
		c.SetOut(&out)
		c.SetErr(&errs)
		err := showPages(&options{output: output}, c, l, "things", read,
			table{head: []string{"THING"}, none: "Nothing."}, func(t *table, x int) { t.add(x) })
		return out.String(), errs.String(), err
	}

	for _, exact := range []bool{true, false} { // whether the other side heeds how many are asked for
		for _, n := range []int{0, 1, 7, 8, 25} {
			for _, most := range []int{1, 3, 7, 10, 25, 100} {
				var got []int
				for l, rounds := (listing{most: most}), 0; ; rounds++ {
					out, _, err := show("json", l, listed(n, exact))
					var p wire.Page[int]
					if err != nil || json.Unmarshal([]byte(out), &p) != nil || len(p.Items) > most || rounds > 30 {
						t.Fatalf("%d of %d after %q: %v, %s", most, n, l.after, err, out)
					}

					if l.after == "" && (exact || p.Next == "") && (p.Total == nil || *p.Total != int64(n)) {
						t.Errorf("%d of %d: %s", most, n, out)
					}

					got = append(got, p.Items...)
					l.after = p.Next
					if p.Next == "" {
						break
					}
				}

				for i, x := range got {
					if x != i+1 {
						t.Fatalf("%d of %d: %v", most, n, got)
					}
				}

				if len(got) != n {
					t.Errorf("%d at a time of %d: %v", most, n, got)
				}

				out, errs, err := show("csv", listing{most: most}, listed(n, exact))
				if err != nil || strings.Count(out, "\n") != min(n, most)+1 ||
					strings.Contains(errs, "--all") != (most < n) {
					t.Errorf("csv, %d of %d: %q, %q, %v", most, n, out, errs, err)
				}

				out, _, err = show("table", listing{most: most}, listed(n, exact))
				says := fmt.Sprintf("%d of %d things are shown: --all shows all of them, --after ", most, n)
				if err != nil || strings.Contains(out, says) != (most < n && exact) ||
					strings.Contains(out, "--all") != (most < n) {
					t.Errorf("table, %d of %d: %s, %v", most, n, out, err)
				}
			}
			out, errs, err := show("csv", listing{all: true}, listed(n, exact))
			if err != nil || strings.Count(out, "\n") != n+1 || strings.Count(out, "THING") != 1 || errs != "" {
				t.Errorf("all of %d: %q, %q, %v", n, out, errs, err)
			}
		}
	}

	if out, _, err := show("table", listing{most: 5}, listed(0, true)); err != nil || out != "Nothing.\n" {
		t.Errorf("%q, %v", out, err)
	}

	if _, _, err := show("table", listing{most: 0}, listed(3, true)); err == nil {
		t.Error("nothing was asked for, and shown")
	}

	// Several lists as one.
	both := chained([]string{"a", "b", "c"}, func(key string) pageReader[int] {
		return listed(map[string]int{"a": 9, "b": 0, "c": 3}[key], true)
	})
	var got []int
	for l := (listing{most: 4}); ; {
		out, _, err := show("json", l, counting(both, 12))
		var p wire.Page[int]
		if err != nil || json.Unmarshal([]byte(out), &p) != nil {
			t.Fatalf("%v, %s", err, out)
		}

		got = append(got, p.Items...)
		l.after = p.Next
		if p.Next == "" {
			break
		}
	}

	if fmt.Sprint(got) != "[1 2 3 4 5 6 7 8 9 1 2 3]" {
		t.Errorf("%v", got)
	}

	if _, _, err := show("json", listing{most: 4, after: "z/3"}, both); err == nil {
		t.Error("it goes on in a list that is not there")
	}
}

// Every command with a list lets whoever runs it have all of it.
func TestListsHaveAll(t *testing.T) {
	n := 0
	var walk func(*cobra.Command)
	walk = func(c *cobra.Command) {
		if f := c.Flags().Lookup("most"); f != nil {
			n++
			if c.Flags().Lookup("after") == nil && c.Flags().Lookup("all") == nil {
				t.Errorf("%s is cut with --most, and has neither --all nor --after", c.CommandPath())
			}
		}

		if c.Flags().Lookup("limit") != nil {
			t.Errorf("%s has --limit: the others have --most", c.CommandPath())
		}

		for _, sub := range c.Commands() {
			walk(sub)
		}
	}

	walk(Root())
	if n < 8 {
		t.Errorf("%d commands with --most", n)
	}
}

// What is longer than the terminal goes to the program that PAGER names; what is shorter, and where there is
// no such program, is written as it is.
func TestPager(t *testing.T) {
	for _, c := range []struct {
		program string
		lines   int
		want    string
	}{
		{"sed s/^/P:/", 3, "1\n2\n3\n"},
		{"sed s/^/P:/", 5, "P:1\nP:2\nP:3\nP:4\nP:5\n"},
		{"head -n 1", 20_000, "1\n"}, // whoever reads has seen enough
		{"no-such-program", 5, "1\n2\n3\n4\n5\n"},
		{"cat", 5, "1\n2\n3\n4\n5\n"},
	} {
		t.Run(c.program, func(t *testing.T) {
			t.Setenv("PAGER", c.program)
			f, err := os.Create(filepath.Join(t.TempDir(), "terminal"))
			if err != nil {
				t.Fatal(err)
			}

			ctx, enough := context.WithCancel(t.Context())
			p := &pager{to: f, lines: 3, enough: enough}
			for i := range c.lines {
				if _, err := fmt.Fprintf(p, "%d\n", i+1); err != nil {
					t.Fatal(err)
				}
			}

			left := c.want == "1\n"
			if (ctx.Err() != nil) != left { // then nothing more is asked for
				t.Errorf("%s: the command is told to end: %v", c.program, ctx.Err())
			}

			if gone := p.finish(); gone != left {
				t.Errorf("%s: whoever reads has left: %t", c.program, gone)
			}

			f.Close()
			if b, err := os.ReadFile(f.Name()); err != nil || string(b) != c.want {
				t.Errorf("%s of %d: %q, %v", c.program, c.lines, b, err)
			}
		})
	}
}

// Flags count before the environment.
func TestEnvironment(t *testing.T) {
	t.Setenv("IDLETALLY_OUTPUT", "json")
	if out, err := try(t, "", "mode", "show", "0640"); err != nil || !json.Valid([]byte(out)) {
		t.Errorf("%v, %s", err, out)
	}
	if out, err := try(t, "", "mode", "show", "0640", "-o", "table"); err != nil || json.Valid([]byte(out)) {
		t.Errorf("%v, %s", err, out)
	}
	t.Setenv("IDLETALLY_OUTPUT", "xml")
	if _, err := try(t, "", "mode", "show", "0640"); err == nil ||
		!strings.Contains(err.Error(), "table, json or csv") {
		t.Errorf("%v", err)
	}
}

var _ pageReader[wire.Host] = client.Pager[wire.Host]{}.Page

// What a host or other people wrote does not steer the terminal: nothing is written to it but through the
// doors that see to that.
func TestNothingSteersTheTerminal(t *testing.T) {
	var b bytes.Buffer
	tell(&b, "host %s: %s\n", "ferry", "no\x1b]0;x\a such \u202efile")
	if strings.ContainsAny(b.String(), "\x1b\a\u202e") || !strings.HasPrefix(b.String(), "host ferry: no") ||
		!strings.HasSuffix(b.String(), "file\n") {
		t.Errorf("%q", b.String())
	}

	past := regexp.MustCompile(`fmt\.Fprint\w*\((c\.OutOrStdout\(\)|c\.ErrOrStderr\(\)|to), `)
	files, err := filepath.Glob("*.go")
	if err != nil || len(files) < 30 {
		t.Fatal(len(files), err)
	}

	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, line := range strings.Split(string(text), "\n") {
			if !strings.HasSuffix(f, "_test.go") && past.MatchString(line) &&
				!strings.Contains(line, "printable(") && !strings.Contains(line, "string(b)") {
				t.Errorf("%s: %s goes past tell", f, strings.TrimSpace(line))
			}
		}
	}
}

// A shell is given no name that it would have to quote, and no word about one that is more than a line.
func TestOffered(t *testing.T) {
	got := offered([]string{
		"ferry\tweb\ntouch x", "$(touch x)\tharmless", "a;b", "crew", "", "-o", "--data", "tide\ta\tb\x1b[2J",
	},
		"")
	if want := []string{"ferry\tweb touch x", "crew", "tide\ta b\ufffd[2J"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if got := offered(slices.Repeat([]string{"crew"}, 3*mostNames), ""); len(got) != mostNames {
		t.Errorf("%d names", len(got))
	}
	if got := offered(append(slices.Repeat([]string{"crew"}, 3*mostNames), "tide"), "ti"); !slices.Equal(got, []string{
		"tide",
	}) {
		t.Errorf("behind many others: %q", got)
	}
}
