//go:build linux

package e2e

import (
	"bufio"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"idletally/demo"
	"idletally/e2e/browser"
	"idletally/internal/client"
	"idletally/internal/wire"
)

const kept = `idletally: 1
application: berth
hosts: {names: [slip-north]}
roots: [/srv/berth]
rules:
  - {rule: all, paths: /srv/berth/**, owner: root}
`

// Whatever keeps an application from being as declared is said first, by every output alike, and gates do not open.
func TestNothingIsGreenByMistake(t *testing.T) {
	t.Parallel()
	db, _ := database(t)
	t.Cleanup(db.Stop)
	s := begin(t, db.DSN)
	change := changing(t, db.DSN)
	author := as(t, s, "quartermaster")
	publish := func(text string) {
		t.Helper()
		e, err := author.UploadBaseline(t.Context(), text)
		must(t, err)
		_, err = author.Publish(t.Context(), e.Application, e.Number)
		must(t, err)
	}

	must(t, os.Mkdir(filepath.Join(s.Root("slip-north"), "srv/berth"), 0o755))
	must(t, os.WriteFile(filepath.Join(s.Root("slip-north"), "srv/berth/lines"), nil, 0o644))
	publish(kept)
	publish(strings.NewReplacer("berth", "nowhere", "names: [slip-north]", "tags: [submarines]").Replace(kept))
	v := verdicts{t: t, c: command{t: t, s: s, person: "quartermaster"}, api: author, b: open(t, s, 1280, 800, false)}
	v.c.login()
	must(t, v.b.SignIn("quartermaster", demo.Password))

	// Of a host that cannot be asked the others are looked at all the same, and it is said.
	_, err := as(t, s, "admin").Invite(t.Context(), wire.NewHost{Name: "aaa-0", Tags: []string{"ticketing"}})
	must(t, err)
	out, errs, code := v.c.run("", "snapshot", "take", "ticketing")
	if code != 4 || strings.Count(out, " ready ") != 2 ||
		!strings.Contains(errs, "host aaa-0: cannot do this: host aaa-0 has no agent yet") ||
		!strings.Contains(errs, "1 of 3 hosts is missing.") {
		t.Errorf("a host without an agent: exit code %d\n%s%s", code, out, errs)
	}

	if out, _, code := v.c.run("", "snapshot", "take", "ticketing", "nosuch", "slip-north", "-o", "json"); code != 4 ||
		!strings.Contains(out, `"host \"nosuch\": not found"`) || !strings.Contains(out, `"ready"`) {
		t.Errorf("a host that nobody knows: exit code %d\n%s", code, out)
	}

	v.c.want(1, "applies to a host", "snapshot", "take", "nowhere")
	v.c.want(4, "1 of 3 hosts was never looked at", "drift", "show", "ticketing", "--strict")

	ended := follows(t, v.c, "berth", []string{"never looked at", "as declared", "1 finding"})
	v.is("nowhere", "nowhere", "applies to no host")
	v.is("berth", "never", "never looked at")
	snapshot(t, author, "berth", "slip-north")
	v.is("berth", "declared", "as declared")

	change(`UPDATE snapshot SET taken = taken - INTERVAL 300 DAY WHERE application = 'berth'`)
	v.is("berth", "old", "last looked at 300 days ago")
	v.c.want(0, "everything is as declared", "drift", "show", "berth", "--strict", "--max-age", "301d")
	change(`UPDATE snapshot SET taken = taken + INTERVAL 300 DAY WHERE application = 'berth'`)
	time.Sleep(time.Second)
	v.c.want(4, "which is too long", "drift", "show", "berth", "--strict", "--max-age", "1s")
	v.c.want(4, "which is too long", "drift", "report", "berth", "--fail", "--max-age", "1s")

	change(
		`INSERT INTO snapshot (id, host, application, state, roots, denied, message, requested_by, created, looked)
			VALUES ('failed', 'slip-north', 'berth', 'failed', '[]', '[]', 'no room left', 'x', UTC_TIMESTAMP(3), '~')`)
	v.is("berth", "failed", "the last look failed: no room left")
	change(`DELETE FROM snapshot WHERE id = 'failed'`)
	change(`UPDATE report SET edition = 7 WHERE application = 'berth'`)
	v.is("berth", "behind", "compared with edition 7, and edition 1 is published")
	change(`UPDATE report SET edition = 1, unread = 2 WHERE application = 'berth'`)
	v.is("berth", "unread", "2 paths could not be read")

	// A new edition keeps more: of that nobody knows, until somebody has looked.
	publish(strings.Replace(kept, "[/srv/berth]", "[/srv/berth, /srv/ticketing/keys]", 1))
	v.is("berth", "unread", "1 path could not be read")
	publish(kept)
	v.is("berth", "declared", "as declared")

	must(t, os.Chown(filepath.Join(s.Root("slip-north"), "srv/berth/lines"), 4711, 0))
	snapshot(t, author, "berth", "slip-north")
	v.is("berth", "drifted", "1 finding")
	_, err = as(t, s, "harbourmaster").Waive(t.Context(), wire.NewWaiver{
		Application: "berth",
		Paths:       "/srv/berth/lines",
		Reason:      "moves soon",
		Ends:        time.Now().AddDate(0, 0, 7),
	})

	must(t, err)
	v.is("berth", "declared", "as declared")

	for _, command := range []string{"show", "findings", "trend", "causes", "report"} {
		v.c.want(1, "of nosuch: not found", "drift", command, "nosuch")
		v.c.want(1, `host "nosuch"`, "drift", command, "berth", "--host", "nosuch")
		v.c.want(1, "does not apply to host slip-south", "drift", command, "berth", "--host", "slip-south")
	}

	for _, age := range []string{"0", "-3h", "3", "x", "1ms", "99999d"} {
		v.c.want(2, "is no age", "drift", "show", "berth", "--max-age="+age)
	}

	ended()
	for _, f := range v.b.Faults() {
		t.Errorf("the browser complains: %s", f)
	}
}

// follows has a command follow an application, which is to tell of some states in their order, and to end
// well when it is stopped.
func follows(t *testing.T, c command, application string, want []string) (ended func()) {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), program, "drift", "watch", application)
	cmd.Env = c.env()
	out, err := cmd.StdoutPipe()
	must(t, err)
	must(t, cmd.Start())
	told := make(chan string, 100)
	go func() {
		defer close(told)
		for lines := bufio.NewScanner(out); lines.Scan(); {
			told <- lines.Text()
		}
	}()

	return func() {
		t.Helper()
		for line := range told {
			if len(want) > 0 && strings.HasSuffix(line, "slip-north: "+want[0]) {
				want = want[1:]
			}
			if len(want) == 0 {
				break
			}
		}

		must(t, cmd.Process.Signal(os.Interrupt))
		for range told {
		}
		if err := cmd.Wait(); err != nil || len(want) > 0 {
			t.Errorf("drift watch ended with %v, and did not tell %q", err, want)
		}
	}
}

// verdicts looks at what everything says of an application.
type verdicts struct {
	t   *testing.T
	c   command
	api *client.Client
	b   *browser.Browser
}

// is checks that everything says the same of an application: its state, some words of it, and that a gate
// opens only where all is as declared.
func (v verdicts) is(application, state, says string) {
	v.t.Helper()
	gate, holds := 4, state == "declared"
	if holds {
		gate = 0
	}

	out, errs, code := v.c.run("", "drift", "show", application, "--strict")
	first, _, _ := strings.Cut(out, "\n")
	if code != gate || !strings.Contains(out, says) || strings.Contains(out, "as declared") != holds ||
		!strings.HasPrefix(first, application+": ") || strings.Contains(first, "everything is as declared") != holds {
		v.t.Errorf("%s: exit code %d\n%s%s", state, code, out, errs)
	}

	var d client.Drift
	out, _, code = v.c.run("", "drift", "show", application, "--strict", "-o", "json")
	err := json.Unmarshal([]byte(out), &d)
	if err != nil || code != gate || d.Verdict.State != state || d.Verdict.Holds != holds {
		v.t.Errorf("%s: exit code %d, %v, %s", state, code, err, out)
	}

	out, _, code = v.c.run("", "drift", "show", application, "--strict", "-o", "csv")
	if code != gate || (strings.Count(out, "\n") == 1) != (holds && !strings.Contains(out, "true")) ||
		!holds && !strings.Contains(out, state) {
		v.t.Errorf("%s: exit code %d, %s", state, code, out)
	}

	for format, bad := range map[string]string{
		"html":        says,
		"csv":         state,
		"junit":       "<failure",
		"openmetrics": `state="` + state + `"} 1`,
	} {
		if state == "nowhere" && format == "openmetrics" {
			bad = `idletally_drift_hosts{application="nowhere"} 0`
		}
		out, _, code = v.c.run("", "drift", "report", application, "--fail", "--format", format)
		if code != gate || !holds && !strings.Contains(out, bad) || holds && strings.Contains(out, "<failure") {
			v.t.Errorf("%s, %s: exit code %d\n%s", state, format, code, out)
		}
	}

	out, _, _ = v.c.run("", "overview")
	line := ""
	for l := range strings.Lines(out) {
		if strings.HasPrefix(l, application+" ") {
			line = l
		}
	}

	if strings.Contains(line, "as declared") != holds {
		v.t.Errorf("%s, overview:\n%s", state, out)
	}

	v.c.want(0, says, "application", "list")
	v.page(application, holds, says)
}

// page looks at the console's pages.
func (v verdicts) page(application string, holds bool, says string) {
	v.t.Helper()
	text := func(at, wants, of string) string {
		v.t.Helper()
		must(v.t, v.b.Go(at))
		must(v.t, v.b.See(wants))
		var out string
		must(v.t, v.b.Do(chromedp.Evaluate(``+of+`.innerText`, &out)))
		return strings.ToLower(out)
	}

	all := text("/drift/"+application, says, `document.querySelector("main")`)
	if strings.Contains(all, "everything is as declared") != holds {
		v.t.Errorf("the page of %s, %s:\n%s", application, says, all)
	}

	own := text("/", "Applications",
		`[...document.querySelectorAll("h3")].find((h) => h.innerText.trim() === "`+application+`").closest("li")`)
	if holds != strings.Contains(own, "everything is as declared") || !strings.Contains(own, strings.ToLower(says)) {
		v.t.Errorf("the overview, of %s, %s:\n%s", application, says, own)
	}
}
