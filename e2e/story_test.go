//go:build linux

package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/demo"
	"idletally/internal/client"
	"idletally/internal/core/pathname"
	"idletally/internal/wire"
)

// The whole story through the commands, unattended, ending in equal root hashes.
func TestTour(t *testing.T) {
	t.Parallel()
	cmd := exec.CommandContext(t.Context(), filepath.Join(filepath.Dir(program), "saltmarsh"), "tour", program)
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "Every path has the permissions it had before the tour.") {
		t.Fatalf("tour: %v\n%s", err, out)
	}
	for _, want := range []string{
		"folders", "did you mean", "nobody decides on their own plan", "--word", "▲ opens", "(exit code 4)",
	} {
		t.Run(want, func(t *testing.T) {
			if !strings.Contains(string(out), want) {
				t.Errorf("the tour does not show %q", want)
			}
		})
	}
}

// One world, many short tries that do not disturb each other.
func TestWorld(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	t.Run("commands", func(t *testing.T) { tryCommands(t, s) })
	t.Run("rights", func(t *testing.T) { tryRights(t, s) })
	t.Run("looking alike", func(t *testing.T) { tryLookingAlike(t, s) })
	t.Run("what if", func(t *testing.T) { tryWhatIf(t, s) })
	t.Run("what would it take", func(t *testing.T) { tryProposals(t, s) })
	t.Run("nobody else", func(t *testing.T) { tryRestriction(t, s) })
	t.Run("foreseen", func(t *testing.T) { tryChange(t, s) })
	t.Run("bad looking", func(t *testing.T) { tryBadLooking(t, s) })
	t.Run("findings", func(t *testing.T) { tryFindings(t, s) })
	t.Run("declaring", func(t *testing.T) { tryDeclaring(t, s) })
	t.Run("deriving", func(t *testing.T) { tryDeriving(t, s) })
	t.Run("waivers", func(t *testing.T) { tryWaivers(t, s) })
	t.Run("names", func(t *testing.T) { tryNames(t, s) })
	t.Run("plan of chosen findings", func(t *testing.T) { tryChosen(t, s) })
	t.Run("skipped", func(t *testing.T) { trySkipped(t, s) })
	t.Run("restore", func(t *testing.T) { tryRestore(t, s) })
	t.Run("agents", func(t *testing.T) { tryAgents(t, s) })
	t.Run("changes", func(t *testing.T) { tryChanges(t, s) })
	t.Run("files", func(t *testing.T) { tryFiles(t, s) })
	t.Run("cancelling", func(t *testing.T) { tryCancelling(t, s) })
	t.Run("nights", func(t *testing.T) { tryNights(t, s) })
	t.Run("times", func(t *testing.T) { tryTimes(t, s) })
	t.Run("interface", func(t *testing.T) { tryInterface(t, s) })
}

// tryLogins tries what a terminal is told that is not let in.
func tryLogins(t *testing.T, s *demo.Stage, c command) {
	t.Helper()
	if _, errs, code := c.run("", "host", "list"); code != 1 || !strings.Contains(errs, "idletally login ADDRESS") {
		t.Errorf("without a session: %d %s", code, errs)
	}

	if _, errs, code := c.run("wrong\n", "login", s.Address, "--authority", s.Authority(), "--name", "quartermaster",
		"--password-stdin"); code != 1 || !strings.Contains(errs, "name or password is wrong") {
		t.Errorf("wrong password: %d %s", code, errs)
	}

	if _, errs, code := c.run("x\n", "login", s.Address, "--fingerprint", "00", "--name", "quartermaster",
		"--password-stdin"); code != 1 || !strings.Contains(errs, "is not the one you expect") {
		t.Errorf("wrong fingerprint: %d %s", code, errs)
	}

	if _, errs, code := c.run("x\n", "login", "https://127.0.0.1:1", "--authority", s.Authority(), "--name", "x",
		"--password-stdin"); code != 3 || !strings.Contains(errs, "does not answer") {
		t.Errorf("nobody there: %d %s", code, errs)
	}
}

// Bad input ends with a clear error and a useful exit code.
func tryCommands(t *testing.T, s *demo.Stage) {
	c := command{t: t, s: s, person: "quartermaster"}
	tryLogins(t, s, c)
	c.login()
	file := filepath.Join(s.Dir, "people", "quartermaster", "idletally", "session.json")
	if st, err := os.Stat(file); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("session file: %v, %v", st.Mode(), err)
	}

	folder := t.TempDir()
	write := func(name, text string) string {
		p := filepath.Join(folder, name)
		must(t, os.WriteFile(p, []byte(text), 0o600))
		return p
	}

	good := demo.Baseline("ticketing")
	for _, x := range []struct {
		name string
		argv []string
		code int
		says string
	}{
		{"no such file", []string{"baseline", "check", filepath.Join(folder, "none.yaml")}, 1, "no such file"},
		{"unreadable baseline", []string{"baseline", "check", write("a.yaml", "idletally: 1\n  roots: [")}, 4,
			"not valid YAML"},
		{"two errors at once",
			[]string{
				"baseline", "check",
				write("b.yaml",
					strings.NewReplacer("folders: 2750", "folder: 2750", "files: 0600", "files: 0800").Replace(good)),
			},
			4, `did you mean "folders"?`},
		{"upload with errors",
			[]string{"baseline", "upload", write("c.yaml", strings.Replace(good, "0640", "0690", 1))}, 1,
			"nothing was uploaded"},
		{"unknown account",
			[]string{
				"baseline", "check", write("d.yaml", strings.Replace(good, "owner: purser", "owner: stowaway", 1)),
			},
			0, `the host has no account "stowaway"`},
		{"unknown host in a baseline",
			[]string{
				"baseline", "check",
				write("e.yaml", strings.Replace(good, "tags: [ticketing]", "names: [slip-nowhere]", 1)),
			},
			0, `no host is called "slip-nowhere"`},
		{"unknown host", []string{"snapshot", "take", "ticketing", "slip-nowhere"}, 1,
			`host "slip-nowhere": not found`},
		{"host of another application", []string{"snapshot", "take", "tideboard", "slip-south"}, 1,
			"does not apply to host slip-south"},
		{"unknown application", []string{"drift", "show", "none"}, 1, "a published baseline of none: not found"},
		{"unknown plan", []string{"plan", "show", "nope"}, 1, "plan nope: not found"},
		{"unknown run", []string{"plan", "restore", "nope"}, 1, "run nope: not found"},
		{"unknown group", []string{"plan", "draft", "ticketing", "--group", "abc"}, 1, `no group "abc"`},
		{"nothing chosen", []string{"plan", "draft", "ticketing"}, 2, "choose what to mend"},
		{"unknown verb", []string{"plan", "destroy"}, 2, `"destroy" is no command`},
		{"unknown option", []string{"plan", "list", "--frobnicate"}, 2, "see idletally plan list --help"},
		{"out of range", []string{"token", "add", "x", "--days", "9999"}, 2, "validation failed"},
		{"an error for programs", []string{"plan", "show", "nope", "-o", "json"}, 1, `"code":"not-found"`},
		{"another unknown verb", []string{"paln"}, 2, "path or plan?"},
		{"missing argument", []string{"plan", "show"}, 2, "want a plan"},
		{"unknown output", []string{"host", "list", "--output", "xml"}, 2, "table, json or csv"},
		{"published twice", []string{"baseline", "publish", "ticketing", "1"}, 1, "is published already"},
		{"drift, strictly", []string{"drift", "show", "ticketing", "--strict"}, 4, "findings"},
		{"browsing a file", []string{"path", "list", "--snapshot", newest(t, s), "/srv/ticketing/conf/service-00.conf"},
			1, "is a file, not a folder"},
		{"browsing another file system", []string{"path", "list", "--snapshot", newest(t, s), "/srv/ticketing/archive"},
			1, "other file system"},
		{"browsing nowhere", []string{"path", "list", "--snapshot", newest(t, s), "/srv/ticketing/none"}, 1,
			"not in the snapshot"},
		{"may not", []string{"person", "add", "somebody"}, 1, "needs the role admin"},
	} {
		t.Run(x.name, func(t *testing.T) {
			out, errs, code := c.run("", x.argv...)
			if code != x.code || !strings.Contains(out+errs, x.says) {
				t.Errorf("%s: exit code %d, want %d; says %q, want %q", x.name, code, x.code, out+errs, x.says)
			}
		})
	}

	// Every list can be had as JSON, all of one form, and as CSV for programs: without marks, and with times
	// that say their zone.
	for _, argv := range [][]string{
		{"host", "list"},
		{"application", "list"},
		{"baseline", "list", "ticketing"},
		{"snapshot", "list"},
		{"drift", "show", "ticketing"},
		{"drift", "findings", "ticketing"},
		{"plan", "list"},
		{"run", "list"},
		{"history"},
		{"waiver", "list", "ticketing"},
		{"schedule", "list"},
		{"token", "list"},
		{"sign-in", "list"},
		{"overview"},
		{"search", "ticket"},
		{"path", "list", "--snapshot", newest(t, s), "/srv/ticketing"},
		{"drift", "trend", "ticketing"},
		{"drift", "causes", "ticketing"},
	} {
		out, errs, code := c.run("", append(argv, "--output", "json")...)
		if code != 0 || !json.Valid([]byte(out)) {
			t.Errorf("%v as JSON: %d %s %.200s", argv, code, errs, out)
		}

		out, errs, code = c.run("", append(argv, "--output", "csv")...)
		if head, _, _ := strings.Cut(out, "\n"); code != 0 || !strings.Contains(head, ",") {
			t.Errorf("%v as CSV: %d %s %.200s", argv, code, errs, out)
		}

		if mark := people.FindString(out); mark != "" {
			t.Errorf("%v as CSV: %q is for people\n%.400s", argv, mark, out)
		}
	}

	// A shell is told names from the service, where names are wanted.
	for _, x := range []struct {
		says string
		argv []string
	}{
		{"ticketing\tTicket sales", []string{"drift", "show", ""}},
		{"slip-south\t", []string{"drift", "show", "ticketing", "--host", ""}},
		{"slip-north\t", []string{"snapshot", "take", "ticketing", ""}},
		{"\tticketing on slip-north, 20", []string{"snapshot", "export", ""}},
		{"configuration", []string{"waiver", "add", "ticketing", "--rule", ""}},
		{"1\tpublished", []string{"baseline", "show", "ticketing", ""}},
		{"purser", []string{"access", "decide", "--host", "slip-north", ""}},
		{"create\tcreate entries in", []string{"access", "holders", ""}}, {"json", []string{"host", "list", "-o", ""}},
		{"/srv/ticketing/conf/\n", []string{"path", "show", "--host", "slip-north", "/srv/ticketing/co"}},
		{"/srv/ticketing/conf/service-00.conf\n",
			[]string{"access", "decide", "--host", "slip-north", "purser", "read", "/srv/ticketing/conf/service-0"}},
		{"/srv/ticketing/conf/\n", []string{"path", "list", "--snapshot", newest(t, s), "/srv/ticketing/"}},
		{"operator", []string{"person", "roles", "lookout", ""}}, {":4", []string{"host", "list", ""}},
		{":0", []string{"baseline", "check", ""}},
	} {
		t.Run(x.says, func(t *testing.T) {
			if out, errs, code := c.run("", append([]string{"__complete"}, x.argv...)...); code != 0 ||
				!strings.Contains(out, x.says) {
				t.Errorf("completing %q: %d, %s%s", x.argv, code, out, errs)
			}
		})
	}

	if out, _, _ := c.run("", "baseline", "schema"); !json.Valid([]byte(out)) {
		t.Error("the schema is no JSON")
	}

	if _, errs, code := c.run("", "logout"); code != 0 {
		t.Errorf("logout: %s", errs)
	}

	if kept, err := os.ReadFile(file); err != nil || !strings.Contains(string(kept), `"token": ""`) ||
		!strings.Contains(string(kept), `"device": "`) {
		t.Errorf("what is kept after signing out: %s, %v", kept, err)
	}

	c.want(1, "you are not signed in", "host", "list")
}

// people are what CSV has none of: marks, and times without a zone.
var people = regexp.MustCompile(`[▲▼◆·…→]|\d{4}-\d\d-\d\d \d\d:\d\d`)

func newest(t *testing.T, s *demo.Stage) string { return snapshots(t, s)[0].ID }

func oldest(t *testing.T, s *demo.Stage) string {
	all := snapshots(t, s)
	return all[len(all)-1].ID
}

// snapshots are those of ticketing on slip-north, the newest first.
func snapshots(t *testing.T, s *demo.Stage) []wire.Snapshot {
	t.Helper()
	snaps, err := as(t, s, "lookout").Snapshots(t.Context(), "ticketing", "slip-north", 100)
	if err != nil || len(snaps) == 0 {
		t.Fatal(err)
	}
	return snaps
}

// Nobody approves their own plan, and what is approved is what was looked at.
func tryRights(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	admin := as(t, s, "admin")
	author := as(t, s, "quartermaster")
	reviewer := as(t, s, "harbourmaster")
	viewer := as(t, s, "lookout")
	draft := wire.Draft{Application: "tideboard", All: true}
	_, err := viewer.DraftPlan(ctx, draft)
	fails(t, "a viewer drafts", err, 403, "needs the role author")
	p, err := author.DraftPlan(ctx, draft)
	if err != nil {
		t.Fatal(err)
	}

	_, err = reviewer.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest})
	fails(t, "approve a draft", err, 409, "not in review")
	if _, err := author.Submit(ctx, p.ID); err != nil {
		t.Fatal(err)
	}

	_, err = author.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest})
	fails(t, "a reviewer approves the own plan", err, 403, "nobody decides on their own plan")
	_, err = admin.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest})
	fails(t, "an admin approves", err, 403, "needs the role reviewer")
	_, err = viewer.Decide(ctx, p.ID, true, wire.Decision{Digest: p.Digest})
	fails(t, "a viewer approves", err, 403, "needs the role reviewer")
	_, err = reviewer.Decide(ctx, p.ID, true, wire.Decision{Digest: strings.Repeat("0", 64)})
	fails(t, "another digest", err, 409, "not the one you looked at")
	_, err = reviewer.Decide(ctx, p.ID, true, wire.Decision{Digest: "abc"})
	fails(t, "no digest", err, 422, "64 hexadecimal digits")
	_, err = author.StartRun(ctx, p.ID)
	fails(t, "run before approval", err, 409, "only an approved plan runs")
	got, err := reviewer.Decide(ctx, p.ID, false, wire.Decision{Digest: p.Digest, Remark: "Not at high tide."})
	if err != nil || got.State != "declined" || got.Remark != "Not at high tide." || got.DecidedBy != "harbourmaster" {
		t.Errorf("declined: %+v, %v", got, err)
	}

	_, err = author.StartRun(ctx, p.ID)
	fails(t, "run after declining", err, 409, `is "declined"`)
	_, err = admin.AddPerson(ctx, wire.NewPerson{Name: "stowaway", Roles: []string{"captain"}})
	fails(t, "unknown role", err, 422, "role captain is unknown")
	_, err = admin.AddPerson(ctx, wire.NewPerson{Name: "lookout", Roles: []string{"viewer"}})
	fails(t, "name taken", err, 409, "exists")

	// A one-time password must be changed, to something that is not weak.
	one, err := admin.AddPerson(ctx, wire.NewPerson{Name: "deckhand", Roles: []string{"viewer"}})
	if err != nil {
		t.Fatal(err)
	}

	_, err = admin.SignIn(ctx, wire.SignIn{Name: "deckhand", Password: one.Password})
	fails(t, "one-time password", err, 403, "one-time password")
	_, err = admin.SignIn(ctx, wire.SignIn{Name: "deckhand", Password: one.Password, NewPassword: "short"})
	fails(t, "weak password", err, 422, "too short")
	_, err = admin.SignIn(ctx, wire.SignIn{Name: "deckhand", Password: one.Password, NewPassword: "eighteen fathoms"})
	if err != nil {
		t.Error(err)
	}

	_, err = admin.SignIn(ctx, wire.SignIn{Name: "deckhand", Password: one.Password, NewPassword: "nineteen fathoms"})
	fails(t, "one-time password again", err, 401, "wrong")

	// Wrong sign-ins with one name are held up, others are not.
	for range 25 {
		_, err = admin.SignIn(ctx, wire.SignIn{Name: "nosuchperson", Password: "x"})
	}

	fails(t, "too many wrong sign-ins", err, 429, "too many wrong tries")
	if _, err := s.As(ctx, "lookout"); err != nil {
		t.Errorf("another person is held up too: %v", err)
	}

	if err := viewer.SignOut(ctx); err != nil {
		t.Fatal(err)
	}

	_, err = viewer.Hosts(ctx)
	fails(t, "after signing out", err, 401, "sign in first")
	left, err := admin.History(ctx, client.HistoryQuery{What: "sign-out"}, 10)
	if err != nil || len(left) == 0 || left[0].Who != "lookout" || left[0].Sentence != "lookout signed out" {
		t.Errorf("history of signing out: %+v, %v", left, err)
	}

	list, err := admin.History(ctx, client.HistoryQuery{What: "own"}, 200)
	if err != nil ||
		!slices.ContainsFunc(list, func(h wire.History) bool {
			return h.What == "own approval refused" && h.Who == "quartermaster"
		}) {
		t.Errorf("history does not tell of the refused approval: %v", err)
	}
}

// At least twelve mishaps show as what they are.
func tryFindings(t *testing.T, s *demo.Stage) {
	d, err := as(t, s, "lookout").Drift(t.Context(), "ticketing", "slip-south")
	if err != nil {
		t.Fatal(err)
	}

	for _, want := range []struct{ rule, aspect, declared, found, word, meaning string }{
		{"configuration", "mode", "0640", "0644", "opens", "opens for everyone: read"},
		{"keys", "mode", "0600", "0640", "opens", "opens for group crew: read"},
		{"site", "entries", "user:www-tickets:r--", "none", "closes", "closes for www-tickets: read"},
		{"everything", "mode", "2750", "2640", "closes",
			"closes for group crew: pass through; purser: add and remove entries, pass through, remove " +
				"others' entries"},
		{"everything", "mode", "0640", "0777", "opens", "opens for everyone: read, write, execute"},
		{"everything", "owner", "purser", "4711", "both",
			"opens for 4711: read, write, change permissions · closes for purser: change permissions"},
		{"shared", "mode", "2770", "0770", "neither", "changes nobody's access"},
		{"shared", "defaults", "user::rwx, group::rwx, group:ticket-clerks:rwx, mask::rwx, other::---", "none",
			"neither", "changes nobody's access"},
		{"drop", "mode", "1770", "0770", "opens", "opens for group crew: remove others' entries"},
		{"sales-data", "mode", "0640", "0750", "opens", "opens for group ticket-svc: execute; ticket-svc: execute"},
		{"programs", "mode", "0750", "4770", "opens", "opens for group crew: write, run with its identity"},
		{"everything", "entries", "none", "user:clerk-west:r--", "opens", "opens for clerk-west: read"},
		{"sales-data", "entries", "group:auditors:r-x", "group:auditors:r-x, mask::---", "closes",
			"closes for group auditors: list, pass through"},
		{"sales-data", "owner", "ticket-svc", "root", "closes",
			"closes for ticket-svc: read, write, change permissions"},
		{"everything", "group", "crew", "ticket-clerks", "both", ""},
	} {
		t.Run(want.rule, func(t *testing.T) {
			i := slices.IndexFunc(d.Groups, func(g wire.Group) bool {
				return g.Rule == want.rule && g.Aspect == want.aspect && g.Declared == want.declared &&
					g.Found == want.found
			})
			if i < 0 {
				t.Errorf("no group %+v", want)
				return
			}
			if g := d.Groups[i]; g.Word != want.word || want.meaning != "" && g.Meaning != want.meaning {
				t.Errorf("%s %s %s: %s, %q; want %s, %q", g.Rule, g.Aspect, g.Found, g.Word, g.Meaning, want.word,
					want.meaning)
			}
		})
	}

	if r := d.Reports[0]; r.Paths < 3000 || r.Unread != 1 {
		t.Errorf("report %+v", r)
	}

	un, err := as(t, s, "lookout").Unread(t.Context(), d.Reports[0].ID)
	if err != nil || len(un) != 1 || un[0].Path != "/srv/ticketing/archive" || un[0].Why != "other file system" {
		t.Errorf("unread: %+v, %v", un, err)
	}
}

// Names with blanks, quotes, a line end, escape codes and bytes that are no UTF-8 go all the way.
func tryNames(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	logs := filepath.Join(s.Root("slip-south"), "srv/ticketing/logs")
	want := []string{"two words", "it's \"quoted\"", "line\nend", "bytes \xff\xfe", "-rf", "\x1b[31mred", "$(reboot)"}
	stored := client.Looker{Client: c, Snapshot: snapshot(t, c, "ticketing", "slip-south").ID}
	list, err := stored.List(ctx, "/srv/ticketing/logs", "", "", 1000)
	if err != nil {
		t.Fatal(err)
	}

	for _, w := range want {
		t.Run(w, func(t *testing.T) {
			if !slices.ContainsFunc(list.Items, func(p wire.Path) bool { return p.Name == pathname.Escape(w) }) {
				t.Errorf("the snapshot does not show %q", w)
			}
		})
	}

	d, err := c.Drift(ctx, "ticketing", "slip-south")
	if err != nil {
		t.Fatal(err)
	}

	var refs []wire.Ref
	for _, r := range d.Reports {
		all, err := c.Findings(ctx, r.ID, "", 5000)
		if err != nil {
			t.Fatal(err)
		}
		for _, f := range all {
			for _, w := range want {
				if f.Path == pathname.Escape("/srv/ticketing/logs/"+w) {
					refs = append(refs, wire.Ref{Report: r.ID, Seq: f.Seq})
				}
			}
		}
	}

	if len(refs) != len(want) {
		t.Fatalf("%d findings for %d names", len(refs), len(want))
	}

	p, err := c.DraftPlan(ctx, wire.Draft{Findings: refs, Title: "Awkward names"})
	if err != nil {
		t.Fatal(err)
	}

	if r := agreed(t, s, p); r.Hosts[0].Done != len(want) {
		t.Errorf("run %+v", r)
	}

	for _, w := range want {
		t.Run(w, func(t *testing.T) {
			var st unix.Stat_t
			if err := unix.Lstat(filepath.Join(logs, w), &st); err != nil || st.Mode&0o7777 != 0o640 {
				t.Errorf("%q is %o afterwards, %v", w, st.Mode, err)
			}
		})
	}

	quiet(t, c)
}

// A plan of one chosen group changes that and nothing else.
func tryChosen(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	before := snapshot(t, c, "ticketing", "slip-north")
	d, err := c.Drift(ctx, "ticketing", "slip-north")
	if err != nil {
		t.Fatal(err)
	}

	i := slices.IndexFunc(d.Groups, func(g wire.Group) bool { return g.Rule == "configuration" })
	p, err := c.DraftPlan(ctx, wire.Draft{Groups: []wire.GroupRef{{Report: d.Groups[i].Report, Group: d.Groups[i].ID}}})
	if err != nil {
		t.Fatal(err)
	}

	if p.Steps != 3 || len(p.Groups) != 1 || p.Groups[0].Meaning != "closes for everyone: read" {
		t.Errorf("plan %+v", p)
	}

	steps, err := c.Steps(ctx, p.ID, "slip-north", 0)
	if err != nil || len(steps) != 3 || steps[0].Path != "/srv/ticketing/conf/service-00.conf" ||
		steps[0].Before.Mode != "0644" || steps[0].After.Mode != "0640" {
		t.Errorf("steps %+v, %v", steps, err)
	}

	r := agreed(t, s, p)
	if h := r.Hosts[0]; r.State != "finished" || h.Done != 3 || h.Skipped+h.Refused+h.Wrong != 0 {
		t.Errorf("run %+v", r)
	}

	quiet(t, c)
	after := snapshot(t, c, "ticketing", "slip-north")
	if after.Root == before.Root {
		t.Error("nothing changed")
	}

	back, err := c.DraftPlan(ctx, wire.Draft{Run: r.ID})
	if err != nil {
		t.Fatal(err)
	}

	agreed(t, s, back)
	quiet(t, c)
	if again := snapshot(t, c, "ticketing", "slip-north"); again.Root != before.Root {
		t.Errorf("root hash %s, was %s before", again.Root, before.Root)
	}
}

// What changed after the review is left as it is, and said.
func trySkipped(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	p, err := c.DraftPlan(ctx, wire.Draft{Application: "tideboard", All: true})
	if err != nil {
		t.Fatal(err)
	}

	token := filepath.Join(s.Root("slip-north"), "srv/tideboard/feeds/gauge-00.token")
	gone := filepath.Join(s.Root("slip-north"), "srv/tideboard/feeds/gauge-01.token")
	if err := os.Chmod(token, 0o604); err != nil {
		t.Fatal(err)
	}

	if err := os.Remove(gone); err != nil {
		t.Fatal(err)
	}

	r := agreed(t, s, p)
	if h := r.Hosts[0]; r.State != "finished" || h.Skipped != 2 || h.Done != h.Total-2 {
		t.Errorf("run %+v", r)
	}

	results, err := c.Results(ctx, r.ID, 100)
	if err != nil || len(results) != 2 {
		t.Fatalf("results %+v, %v", results, err)
	}

	if x := results[0]; x.Path != "/srv/tideboard/feeds/gauge-00.token" || x.Outcome != "skipped" ||
		!strings.Contains(x.Reason, "reviewed as 2004:3004 0644, now 2004:3004 0604") {
		t.Errorf("changed: %+v", x)
	}

	if x := results[1]; !strings.Contains(x.Reason, "no longer there") {
		t.Errorf("gone: %+v", x)
	}

	if st, err := os.Stat(token); err != nil || st.Mode().Perm() != 0o604 {
		t.Errorf("the skipped file was changed: %v", st.Mode())
	}

	_, err = c.DraftPlan(ctx, wire.Draft{Groups: []wire.GroupRef{{Report: "nope", Group: "x"}}})
	fails(t, "unknown report", err, 404, "report nope")
	_, err = c.DraftPlan(ctx, wire.Draft{})
	fails(t, "empty draft", err, 422, "choose findings")
	_, err = c.StartRun(ctx, p.ID)
	fails(t, "run twice", err, 409, "only an approved plan runs")
	quiet(t, c)
}

// Everything mended and put back: equal to the byte.
func tryRestore(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	before := map[string]string{}
	for host := range demo.Hosts {
		before[host] = snapshot(t, c, "ticketing", host).Root
	}

	p, err := c.DraftPlan(ctx, wire.Draft{Application: "ticketing", All: true})
	if err != nil {
		t.Fatal(err)
	}

	if !slices.ContainsFunc(p.Left, func(l wire.Left) bool { return strings.Contains(l.Why, "2 names (hard links)") }) {
		t.Errorf("the plan leaves %+v", p.Left)
	}

	r := agreed(t, s, p)
	for _, h := range r.Hosts {
		if h.Refused != 0 || h.Done != h.Total {
			t.Errorf("host %+v", h)
		}
	}

	quiet(t, c)
	d, err := c.Drift(ctx, "ticketing", "")
	if err != nil || len(d.Groups) != 2 { // the hard-linked file on each host
		t.Errorf("after mending all there are %d groups, %v", len(d.Groups), err)
	}

	back, err := c.DraftPlan(ctx, wire.Draft{Run: r.ID})
	if err != nil || back.Kind != "restore" {
		t.Fatal(err)
	}

	agreed(t, s, back)
	quiet(t, c)
	for host, root := range before {
		if got := snapshot(t, c, "ticketing", host).Root; got != root {
			t.Errorf("%s: root hash %s, was %s before", host, got, root)
		}
	}
}

// A demo that cannot start leaves no world behind, and one that is asked what it wants makes none.
func TestDemoLeavesNothing(t *testing.T) {
	t.Parallel()
	for want, arg := range map[string]string{
		"saltmarsh demo PROGRAM":   "--help",
		"the program is not built": "/nowhere",
	} {
		t.Run(want, func(t *testing.T) {
			dir := t.TempDir()
			cmd := exec.CommandContext(t.Context(), filepath.Join(filepath.Dir(program), "saltmarsh"), "demo", arg)
			cmd.Env = append(os.Environ(), "TMPDIR="+dir)
			out, err := cmd.CombinedOutput()
			if (err == nil) != (arg == "--help") || !strings.Contains(string(out), want) {
				t.Errorf("%s: %v, %s", arg, err, out)
			}

			if left, err := filepath.Glob(filepath.Join(dir, "*", "hosts")); err != nil || len(left) > 0 {
				t.Errorf("%s leaves %v, %v", arg, left, err)
			}
		})
	}
}
