package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"

	"idletally/internal/client"
	"idletally/internal/wire"
)

// Whatever is used wrongly ends with 2, and names what may have been meant.
func TestUsedWrongly(t *testing.T) {
	for _, c := range []struct{ argv, says string }{
		{"foo", `"foo" is no command of idletally`}, {"hst list", "did you mean host?"},
		{"plan shwo", "did you mean show?"}, {"help nosuch", `"nosuch" is no command`},
		{"help plan nosuch", "no command of idletally plan"}, {"plan foo", "no command of idletally plan"},
		{"mode shwo 0755", "did you mean show?"}, {"mode shw", ""},
		{"mode show", "want"}, {"host list --nosuch", "--nosuch"}, {"host list -o xml", "table, json or csv"},
		{"host list --most 0", ""}, {"host list --most 3 --all", ""},
		{"access holders", "want"}, {"path", ""}, {"version 1", "want"}, {"mode 0755 --nosuch", "--nosuch"},
	} {
		t.Run(c.argv, func(t *testing.T) {
			_, err := try(t, "", strings.Fields(c.argv)...)
			if c.argv == "path" { // help
				if err != nil {
					t.Errorf("%s: %v", c.argv, err)
				}
				return
			}

			code := exitCode(err)
			if err == nil || code != exitUsage && !errors.Is(err, errSignedOut) ||
				!strings.Contains(fmt.Sprint(err), c.says) {
				t.Errorf("%s: exit code %d, %v", c.argv, code, err)
			}
		})
	}
}

// Every way of cobra's own to say that something was used wrongly is known as one.
func TestExitCodes(t *testing.T) {
	for _, c := range []struct {
		err  error
		exit int
		code string
	}{
		{usageError{errors.New("x")}, exitUsage, "usage"},
		{&client.Problem{Status: 422, Code: wire.InvalidInput, Type: wire.ProblemsAt + "#invalid-input"}, exitUsage,
			"invalid-input"},
		{&client.Problem{Status: 422, Code: "cannot-do"}, exitFailed, "cannot-do"},
		{&client.Problem{Status: 404, Code: "not-found"}, exitFailed, "not-found"},
		{fmt.Errorf("x: %w", &client.Problem{Status: 503, Code: "not-available"}), exitUnreachable, "not-available"},
		{client.ErrUnreachable, exitUnreachable, "unreachable"},
		{errNotSo, exitNotSo, "failed"},
		{errSignedOut, exitFailed, "not-signed-in"},
		{errors.New("x"), exitFailed, "failed"},
	} {
		t.Run(c.code, func(t *testing.T) {
			exit := exitCode(c.err)
			f := failureOf(c.err, exit)
			if exit != c.exit || f.Code != c.code || f.Exit != exit ||
				f.Detail == "" && !errors.As(c.err, new(*client.Problem)) ||
				f.Title == "" && !errors.As(c.err, new(*client.Problem)) {
				t.Errorf("%v: %d, %+v", c.err, exit, f)
			}

			if b, err := json.Marshal(f); err != nil || !strings.Contains(string(b), `"type"`) {
				t.Errorf("%s, %v", b, err)
			}
		})
	}
}

// What is none of a noun's commands and can be meant is taken for what the noun is mostly asked.
func TestObvious(t *testing.T) {
	dir := t.TempDir()
	for _, c := range [][2]string{
		{"mode 0755", "mode show 0755"}, {"mode rwxr-xr-x", "mode show rwxr-xr-x"},
		{"mode u=rw,g=r,o=", "mode show u=rw,g=r,o="}, {"mode 0755 -o json", "mode show 0755 -o json"},
		{"entries u::rw-,g::r--,o::---", "entries show u::rw-,g::r--,o::---"}, {"path " + dir, "path show " + dir},
		{"path -o json " + dir, "path show -o json " + dir},
		{"access root " + dir, "access decide root " + dir},
		{"access root list " + dir, "access decide root list " + dir},
		{"access decide root " + dir + " list", "access decide root list " + dir},
		{"access decide list root " + dir, "access decide root list " + dir},
		{"access decide " + dir + " root", "access decide root " + dir},
		{"access holders " + dir + " list", "access holders list " + dir},
		{"access below list root " + dir, "access below root list " + dir},
		{"access below root " + dir + " list", "access below root list " + dir},
		{"access holders read " + dir + " -o csv", "access holders list " + dir + " -o csv"},
		{"access decide root write " + dir + " -o csv", "access decide root create " + dir + " -o csv"},
	} {
		got, err := try(t, "", strings.Fields(c[0])...)
		want, other := try(t, "", strings.Fields(c[1])...)
		if got != want || fmt.Sprint(err) != fmt.Sprint(other) || len(got) < 20 {
			t.Errorf("%s: %v\n%s\n%s: %v\n%s", c[0], err, got, c[1], other, want)
		}
	}
}

// docs/problems.md says what the program knows.
func TestProblemsAreTold(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Problems\n\nA call that fails is answered with `application/problem+json` (RFC 9457): `type` " +
		"is `/api/problems#` and the code, where the service tells the same as this page,\n" +
		"`detail` says what happened here, and `errors` names places of the request. A command with `-o json` " +
		"writes the same to standard error, with `exit`, its exit\n" +
		"code. Codes stay what they are; others may come. Of its own, commands have `usage` (used wrongly), " +
		"`unreachable` (the service does not answer) and `failed`.\n\n| code | status | what it means | what to do " +
		"|\n| --- | --- | --- | --- |\n")

	for _, k := range wire.Problems {
		fmt.Fprintf(&b, "| `%s` | %d | %s | %s |\n", k.Code, k.Status, k.Says, k.Do)
	}

	const file = "../../docs/problems.md"
	if os.Getenv("IDLETALLY_WRITE_DOCS") != "" {
		if err := os.WriteFile(file, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}

	if got, err := os.ReadFile(file); err != nil || string(got) != b.String() {
		t.Errorf(
			"%s is not what the program says, %v: write it by IDLETALLY_WRITE_DOCS=1 go test ./internal/cli -run "+
				"TestProblemsAreTold",
			file, err)
	}
}

// Codes are each of one status, and each status that a service answers with has one.
func TestProblems(t *testing.T) {
	seen := map[string]bool{}
	for _, k := range wire.Problems {
		if seen[k.Code] || k.Says == "" || k.Do == "" || http.StatusText(k.Status) == "" ||
			strings.Trim(k.Code, "abcdefghijklmnopqrstuvwxyz-") != "" {
			t.Errorf("%+v", k)
		}
		seen[k.Code] = true
		if got := wire.ProblemOf(k.Status, k.Code == wire.InvalidInput); got.Status != k.Status ||
			wire.ProblemCalled(k.Code) != k {
			t.Errorf("%d is %s, not %s", k.Status, got.Code, k.Code)
		}
	}

	for status, code := range map[int]string{418: "cannot-do", 502: "failed", 400: "malformed"} {
		t.Run(fmt.Sprint(status), func(t *testing.T) {
			if got := wire.ProblemOf(status, false); got.Code != code || !slices.Contains(wire.Problems, got) {
				t.Errorf("%d: %+v", status, got)
			}
		})
	}
}

// Every command of the program stands in the order of work.
func TestGrouped(t *testing.T) {
	root := Root()
	for _, c := range root.Commands() {
		if c.GroupID == "" && c.Name() != "help" && c.Name() != "completion" {
			t.Errorf("%s is in no group", c.Name())
		}
	}

	help, err := try(t, "", "--help")
	if err != nil {
		t.Fatal(err)
	}

	at := 0
	for _, g := range inGroups {
		i := strings.Index(help, "\n"+g.title+"\n")
		if i < at {
			t.Errorf("%q comes in another place:\n%s", g.title, help)
		}
		at = i
	}
}

// Each profile has a session of its own; that which is used counts where none is named, and flag and
// environment before it.
func TestProfiles(t *testing.T) {
	dir := t.TempDir()
	run := func(argv ...string) (string, error) {
		t.Helper()
		root := Root()
		var out strings.Builder
		root.SetOut(&out)
		root.SetErr(&out)
		root.SetArgs(append(argv, "--config", dir))
		err := root.ExecuteContext(t.Context())
		return out.String(), err
	}

	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}

	out, err := run("profile", "list")
	must(err)
	if !strings.Contains(out, "signed in nowhere") {
		t.Error(out)
	}

	for _, p := range []string{"", "staging"} {
		must((&options{config: dir, profile: p}).save(session{
			Address: "https://" + p + "tally.example",
			Name:    "bosun",
			Token:   "t" + p,
		}))
	}

	token := func(o options) string {
		t.Helper()
		o.config = dir
		s, err := o.load()
		must(err)
		return s.Token
	}

	if a, b := token(options{}), token(options{profile: "staging"}); a != "t" || b != "tstaging" {
		t.Errorf("%q, %q", a, b)
	}

	_, err = run("profile", "use", "staging")
	must(err)
	if a, b := token(options{}), token(options{profile: usual}); a != "tstaging" || b != "t" {
		t.Errorf("%q, %q", a, b)
	}

	out, err = run("profile", "list", "-o", "json")
	must(err)
	if !strings.Contains(out, `"https://stagingtally.example"`) || strings.Contains(out, "tstaging\"") {
		t.Error(out)
	}

	for _, argv := range [][]string{
		{"profile", "use", "nosuch"},
		{"profile", "list", "--profile", "../x"},
		{"host", "list", "--profile", "A"},
	} {
		if out, err := run(argv...); exitCode(err) != exitUsage {
			t.Errorf("%v: %v, %s", argv, err, out)
		}
	}

	if _, err := (&options{config: dir, profile: "other"}).load(); !errors.Is(err, errSignedOut) {
		t.Errorf("%v", err)
	}
}

// Each command has an example in its help, and each example is one that the command takes.
func TestExamples(t *testing.T) {
	for _, line := range Examples {
		root := Root()
		var argv []string
		for _, word := range words(line) {
			if word == ">" {
				break
			}
			argv = append(argv, word)
		}

		c, rest, err := root.Find(argv[1:])
		if err == nil {
			err = c.ParseFlags(rest)
		}

		if err == nil && (c.HasSubCommands() && c.Name() != "history" || !c.Runnable()) {
			err = errors.New("that is no command")
		}

		if err == nil {
			err = c.ValidateArgs(c.Flags().Args())
		}

		if err != nil {
			t.Errorf("%s: %v", line, err)
		}
	}

	everyCommand(Root(), func(c *cobra.Command) {
		if !c.HasSubCommands() && c.Example == "" && c.Name() != "help" && c.Parent().Name() != "completion" {
			t.Errorf("%s has no example", c.CommandPath())
		}
	})
}

// words splits a line as a shell does.
func words(line string) (out []string) {
	var word strings.Builder
	in, quote := false, rune(0)
	for _, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote == 0 && (r == '"' || r == '\''):
			in, quote = true, r
		case quote == 0 && r == ' ':
			if in {
				out = append(out, word.String())
			}
			in = false
			word.Reset()

		default:
			in = true
			word.WriteRune(r)
		}
	}

	if in {
		out = append(out, word.String())
	}

	return out
}
