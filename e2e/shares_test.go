//go:build linux

package e2e

import (
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/cloudsoda/go-smb2"

	"idletally/demo"
	"idletally/internal/agent"
	"idletally/internal/client"
	"idletally/internal/core/access"
	"idletally/internal/core/perm/nt"
	"idletally/internal/wire"
)

// A file server as the demo has it: looked at through its agent, held against its baselines, with who can do
// what and why.
func TestShares(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	ctx := t.Context()
	author := as(t, s, "quartermaster")
	must(t, s.OpenChartroom(ctx))
	quiet(t, author)
	d, err := author.Drift(ctx, "charts", "")
	if err != nil || len(d.Reports) != 1 || d.Reports[0].Unread != 0 || d.Reports[0].Paths != 122 {
		t.Fatalf("%+v, %v", d.Reports, err)
	}

	find := func(where string, aspect string) wire.Group {
		t.Helper()
		i := slices.IndexFunc(d.Groups, func(g wire.Group) bool {
			return g.Aspect == aspect && (g.Folder == where || g.Example == where)
		})
		if i < 0 {
			t.Fatalf("no %s finding in %s: %+v", aspect, where, d.Groups)
		}

		return d.Groups[i]
	}

	if g := find("/charts/saltmarsh/soundings", "grants"); g.Found != "allow everyone: full" ||
		g.Declared != "none" || g.Word != "opens" || !strings.Contains(g.Meaning, "everyone") {
		t.Errorf("%+v", g)
	}

	if g := find("/charts/north sound", "owner"); g.Count != 3 || g.Found != "deckhand" || g.Declared != "keeper" {
		t.Errorf("%+v", g)
	}

	if g := find("/charts/north sound/soundings", "inheritance"); g.Found != "stopped" || g.Declared != "from above" {
		t.Errorf("%+v", g)
	}

	// What was moved out of the folder that is open brought that along.
	if g := find("/charts/north sound/2026-11.xyz", "inheritance"); g.Found != "from above, but "+
		"not inheritable from the folder above: allow everyone: full" ||
		g.Count != 1 || !strings.HasPrefix(g.Meaning, "opens for everyone") {
		t.Errorf("%+v", g)
	}

	// A deny that catches those who are in both groups.
	if g := find("/charts/south channel", "grants"); !strings.Contains(g.Found, "deny crew") ||
		!strings.Contains(g.Meaning, "surveyor") {
		t.Errorf("%+v", g)
	}

	snap := d.Reports[0].Snapshot
	c := command{t: t, s: s, person: "quartermaster"}
	c.login()
	c.want(0, "allow surveyors: read, write, execute, delete; inherited  — from /charts", "path", "show",
		"/charts/saltmarsh/sheet 00.chart", "--snapshot", snap)
	c.want(0, "allow everyone: full; inherited  — from no folder above", "path", "show",
		"/charts/north sound/2026-11.xyz", "--snapshot", snap)
	j, err := client.Looker{Client: author, Snapshot: snap}.Decide(ctx, "surveyor",
		"/charts/south channel/sheet 00.chart", access.Write, wire.Supposed{})
	if err != nil || len(j.Answers) != 1 || j.Answers[0].Allowed || j.Answers[0].Cause != nt.ByDeny {
		t.Errorf("%+v, %v", j, err)
	}

	runOnShares(t, s)

	// Somebody opens it to all, and the next snapshot says so.
	was := snapshot(t, author, "crewdocs", demo.Chartroom)
	must(t, s.Permit(ctx, "crewdocs", "/rota", "D:AI(A;OICI;FA;;;WD)"))
	if now := snapshot(t, author, "crewdocs", demo.Chartroom); now.Root == was.Root {
		t.Error("a change of a share is not seen")
	}

	d, err = author.Drift(ctx, "crewdocs", "")
	must(t, err)
	if g := find("/crewdocs/rota", "grants"); g.Found != "allow everyone: full" {
		t.Errorf("%+v", g)
	}

	// As it is now, too.
	live := client.Looker{Client: author, Host: demo.Chartroom}
	v, err := live.Sight(ctx, "/crewdocs/rota/week-00.ods")
	if err != nil || len(v.Entries) != 4 || v.Entries[0].Origin != "from no folder above" ||
		v.Access.Owner != "keeper" {
		t.Errorf("%+v, %v", v, err)
	}

	if top, err := live.List(ctx, "/", "", "", 9); err != nil || len(top.Items) != 2 || top.Items[0].Path != "/charts" {
		t.Errorf("the shares: %+v, %v", top, err)
	}

	l, err := live.List(ctx, "/crewdocs/rota", "office-boy", "", 100)
	fails(t, "an account that is not there", err, http.StatusUnprocessableEntity, "office-boy")
	l, err = live.List(ctx, "/crewdocs/rota", "wages", "", 7)
	if err != nil || len(l.Items) != 7 || l.Next == "" || !slices.Contains(l.Items[0].May, "write") {
		t.Errorf("%+v, %v", l, err)
	}

	_, err = live.Sight(ctx, "/crewdocs/none")
	fails(t, "a path that is not there", err, http.StatusUnprocessableEntity, "not there")
	_, err = live.Sight(ctx, "/ipc$/x")
	fails(t, "outside of the roots", err, http.StatusUnprocessableEntity, "own list of roots")
	_, err = agent.Enrol(ctx,
		agent.Joining{
			Folder:    t.TempDir(),
			Service:   s.Address,
			Authority: authorityOf(t, s),
			Roots:     []string{"/nowhere"},
			Server:    &agent.FileServer{Address: s.Chartroom.Address(), User: "keeper", Password: demo.Password},
		},
		"no code", "test")
	if err == nil || !strings.Contains(err.Error(), `no share "nowhere": it has charts, crewdocs`) {
		t.Errorf("a share that is not there: %v", err)
	}

	asSomebody(t, s, live)
	marked(t, s, snap)
	changeOnShare(t, s)
	followsOnShares(t, s)
	serverGone(t, s)
	rosterOnShares(t, s)
}

// rosterOnShares has the file server's agent pin a roster: an order that nobody signed is refused before the server is
// asked for anything, and one that two people signed is carried out.
func rosterOnShares(t *testing.T, s *demo.Stage) {
	t.Helper()
	ctx := t.Context()
	author := as(t, s, "quartermaster")
	draft := func(grants string) wire.Plan {
		t.Helper()
		p, err := author.DraftPlan(ctx, wire.Draft{
			Application: "crewdocs",
			Hosts:       []string{demo.Chartroom},
			Changes:     "changes:\n- paths: /crewdocs/rota\n  set: {grants: [\"" + grants + "\"]}\n",
		})
		must(t, err)
		return p
	}
	p, next := draft("allow wages: read"), draft("allow wages: read, write")
	approved(t, s, p)
	_, fingerprint, err := s.Found(ctx)
	must(t, err)
	s.Agents[demo.Chartroom].Stop() // so that the service does not know of the roster as it gives the order
	r, err := author.StartRun(ctx, p.ID)
	must(t, err)
	must(t, s.PinChartroom(ctx, fingerprint))
	if h := ended(t, author, r.ID).Hosts[0]; h.Done != 0 || !strings.Contains(h.Message, "refused by the roster") {
		t.Errorf("what nobody signed: %+v", h)
	}

	on := func(person string) command {
		c := command{t: t, s: s, person: person}
		c.login()
		return c
	}
	one, other := on("quartermaster"), on("harbourmaster")
	one.want(0, "in review", "plan", "submit", next.ID, "--key", s.KeyFile("quartermaster"))
	other.want(0, "approved", approving(next, "--key", s.KeyFile("harbourmaster"))...)
	one.want(0, "finished", "run", "start", next.ID)
}

// A step that follows from one of its folder is not made where that one is not: nobody gets as if from above
// what no folder hands on.
func followsOnShares(t *testing.T, s *demo.Stage) {
	t.Helper()
	ctx := t.Context()
	author := as(t, s, "quartermaster")
	p, err := author.DraftPlan(ctx, wire.Draft{
		Application: "charts",
		Hosts:       []string{demo.Chartroom},
		Changes:     "changes:\n- paths: /charts/saltmarsh\n  set: {grants: [\"allow wages: read, write\"]}\n",
	})
	must(t, err)
	approved(t, s, p)
	must(t, s.Permit(ctx, "charts", "/saltmarsh", "D:AI(A;OICI;FR;;;AN)"))
	r, err := author.StartRun(ctx, p.ID)
	must(t, err)
	r = ended(t, author, r.ID)
	if h := r.Hosts[0]; h.Skipped != p.Steps || h.Done != 0 || p.Steps < 30 {
		t.Errorf("%+v of %+v", h, p)
	}

	res, err := author.Results(ctx, r.ID, 100)
	must(t, err)
	for _, x := range res[1:] {
		if !strings.HasPrefix(x.Reason,
			"it follows from the step of its folder, which was skipped: no longer as reviewed") {
			t.Errorf("%+v", x)
		}
	}

	// The account that the agent signs in as is one that the server lets do everything, as what it may do
	// beyond the list shows.
	must(t, s.Permit(ctx, "charts", "/saltmarsh", "D:PAI(A;OICI;FR;;;AN)(A;OICI;FR;;;WD)"))
	c := command{t: t, s: s, person: "quartermaster"}
	c.want(0, "the server lets keeper do everything, whatever the list of the folder says", "access", "decide",
		"keeper", "/charts/saltmarsh", "create-file", "--host", demo.Chartroom)
	c.want(4, "no entry on the folder grants deckhand add-files", "access", "decide", "deckhand", "/charts/saltmarsh",
		"create-file", "--host", demo.Chartroom)

	// The system's account of the same name below the server is the same account, and of its groups nobody
	// tells who is in them.
	passwd, err := os.ReadFile(filepath.Join(s.Chartroom.Folder, "passwd"))
	must(t, err)
	_, line, _ := strings.Cut(string(passwd), "\ndeckhand:x:")
	uid, _, _ := strings.Cut(line, ":")
	must(t,
		s.Permit(ctx, "charts", "/saltmarsh", "D:PAI(A;;FA;;;S-1-22-1-"+uid+")(D;;WO;;;S-1-22-2-"+uid+")(A;;WO;;;WD)"))
	c.want(0, "allow Unix User\\deckhand: full", "access", "decide", "deckhand", "/charts/saltmarsh", "create-file",
		"--host", demo.Chartroom)
	c.want(4, "no entry on the folder grants surveyor add-files", "access", "decide", "surveyor", "/charts/saltmarsh",
		"create-file", "--host", demo.Chartroom)
	c.want(4, "not known: the server does not tell who is in", "access", "decide", "surveyor", "/charts/saltmarsh",
		"own", "--host", demo.Chartroom)
	c.want(0, "1 paths of which it is not known", "access", "below", "surveyor", "own", "/charts/saltmarsh", "--host",
		demo.Chartroom)
	c.want(0, "(not known: own)", "path", "list", "/charts", "--host", demo.Chartroom, "--for", "surveyor")
}

// What is marked as read-only is said not to be written where it is looked at now; a snapshot does not know.
func marked(t *testing.T, s *demo.Stage, snap string) {
	t.Helper()
	conn, err := (&smb2.Dialer{Initiator: &smb2.NTLMInitiator{User: "keeper", Password: demo.Password}}).Dial(
		t.Context(), s.Chartroom.Address())
	must(t, err)
	defer func() { must(t, conn.Logoff()) }()

	share, err := conn.Mount("charts")
	must(t, err)
	const file = "/charts/saltmarsh/sheet 00.chart"
	must(t, share.Chmod(`saltmarsh\sheet 00.chart`, 0o444))
	c := command{t: t, s: s, person: "quartermaster"}
	c.want(4, "the path is marked as read-only", "access", "decide", "surveyor", file, "write", "--host",
		demo.Chartroom)
	c.want(0, "unless it is marked as read-only, which snapshots do not hold", "access", "decide", "surveyor", file,
		"write", "--snapshot", snap)
	c.want(0, "it is marked as read-only", "path", "show", file, "--host", demo.Chartroom)
	must(t, share.Chmod(`saltmarsh\sheet 00.chart`, 0o666))
}

// What somebody sees on a share that hides, what they can do there by its own list too, and the server's own
// answer beside it.
func asSomebody(t *testing.T, s *demo.Stage, live client.Looker) {
	t.Helper()
	ctx := t.Context()
	l, err := live.List(ctx, "/crewdocs", "deckhand", "", 100)
	must(t, err)
	var hidden []string

	for _, x := range l.Items {
		if x.Hidden {
			hidden = append(hidden, x.Name)
		}
	}

	if !slices.Equal(hidden, []string{"wages"}) {
		t.Errorf("hidden: %v", hidden)
	}

	c := command{t: t, s: s, person: "quartermaster"}
	c.want(0, "1 more is there that the share hides from deckhand", "path", "list", "/crewdocs", "--host",
		demo.Chartroom, "--for", "deckhand")
	c.want(0, "share lets  allow keeper: full", "path", "show", "/crewdocs", "--host", demo.Chartroom)
	c.want(4, "the share's own list does not let print-svc list-folder", "access", "decide", "print-svc",
		"/crewdocs/notices", "list", "--host", demo.Chartroom)

	for _, path := range []string{
		"/charts/south channel", "/charts/north sound/sheet 00.chart", "/crewdocs/notices/notice 03.txt",
		"/crewdocs/wages", "/crewdocs/wages/2026-03.ods",
	} {
		t.Run(path, func(t *testing.T) {
			for _, who := range []string{"deckhand", "surveyor"} {
				t.Run(who, func(t *testing.T) {
					p, err := live.Probe(ctx, who, path)
					if err != nil || p.Differ || len(p.Rows) < 7 {
						t.Errorf("%s at %s: %+v, %v", who, path, p, err)
					}
				})
			}
		})
	}

	_, err = live.Probe(ctx, "wages", "/crewdocs/rota")
	fails(t, "trying as somebody whose password nobody gave", err, http.StatusUnprocessableEntity, "agent prober wages")
	b, err := live.Below(ctx, wire.BelowAsk{Path: "/charts", Account: "surveyor", Operation: access.Write, Limit: 10})
	if err != nil || b.Looked != 122 || b.Held < 50 || b.Held == 122 {
		t.Errorf("%+v, %v", b, err)
	}

	v, err := live.Sight(ctx, "/crewdocs/notices/notice 03.txt")
	if err != nil || !v.Entries[0].Unknown || v.Entries[0].Who != "S-1-5-21-397955417-626881126-188441444-2610" {
		t.Errorf("somebody who left: %+v, %v", v.Entries, err)
	}
	proposedOnShares(t, s, live)
}

// The file server goes away: nothing is made up, and what was begun goes on when it is back.
func serverGone(t *testing.T, s *demo.Stage) {
	t.Helper()
	ctx := t.Context()
	author := as(t, s, "quartermaster")
	p, err := author.DraftPlan(ctx, wire.Draft{Application: "charts", All: true})
	must(t, err)
	again := s.StopChartroom()
	if snap, err := demo.Snapshot(ctx, author, "charts", demo.Chartroom); err == nil || snap.State != "failed" ||
		!strings.Contains(snap.Message, "file server") {
		t.Errorf("a snapshot without its server: %+v, %v", snap, err)
	}

	live := client.Looker{Client: author, Host: demo.Chartroom}
	_, err = live.Sight(ctx, "/charts")
	fails(t, "a question without its server", err, http.StatusUnprocessableEntity, "file server")
	must(t, again(ctx))
	if r := agreed(t, s, p); r.State != "finished" || r.Hosts[0].Done != p.Steps {
		t.Errorf("when it is back: %+v", r)
	}
}

// What drifted on a share is mended as it was approved, with what comes down of it, and put back to the same root hash.
func runOnShares(t *testing.T, s *demo.Stage) {
	t.Helper()
	ctx := t.Context()
	author := as(t, s, "quartermaster")
	was := snapshot(t, author, "charts", demo.Chartroom)
	p, err := author.DraftPlan(ctx, wire.Draft{Application: "charts", All: true})
	if err != nil {
		t.Fatal(err)
	}

	fails(t, "a shell script for a share", author.Script(ctx, p.ID, demo.Chartroom, io.Discard),
		http.StatusUnprocessableEntity, "is a file server")
	r := agreed(t, s, p)
	if r.State != "finished" || r.Hosts[0].Done != p.Steps ||
		r.Hosts[0].Skipped+r.Hosts[0].Refused+r.Hosts[0].Wrong != 0 {
		res, _ := author.Results(ctx, r.ID, 20)
		t.Fatalf("%+v, %+v", r, res)
	}

	quiet(t, author)
	mended := snapshot(t, author, "charts", demo.Chartroom)
	d, err := author.Drift(ctx, "charts", "")
	if err != nil || len(d.Groups) != 0 || mended.Root == was.Root {
		t.Errorf("afterwards there is %+v, %v", d.Groups, err)
	}

	c := client.Looker{Client: author, Snapshot: mended.ID}
	v, err := c.Sight(ctx, "/charts/north sound/soundings/2026-00.xyz")
	if err != nil || !slices.Contains(v.Access.Entries, "allow surveyors: read, write, execute, delete; inherited") {
		t.Errorf("what comes down: %+v, %v", v.Access, err)
	}

	back, err := author.DraftPlan(ctx, wire.Draft{Run: r.ID})
	if err != nil || back.Steps != p.Steps {
		t.Fatalf("%+v, %v", back, err)
	}

	agreed(t, s, back)
	quiet(t, author)
	if now := snapshot(t, author, "charts", demo.Chartroom); now.Root != was.Root {
		t.Errorf("root hash %s, before %s", now.Root, was.Root)
	}
}

// What is proposed for a share is made there, and the server itself asked: whoever asked may do it then; and whoever is
// shut out cannot.
func proposedOnShares(t *testing.T, s *demo.Stage, live client.Looker) {
	t.Helper()
	ctx := t.Context()
	author := as(t, s, "quartermaster")
	allowed := func(who, path string, op access.Operation) bool {
		t.Helper()
		p, err := live.Probe(ctx, who, path)
		must(t, err)
		i := slices.IndexFunc(p.Rows, func(r wire.ProbeRow) bool { return r.Operation == op })
		if i < 0 {
			t.Fatalf("%s was not tried: %+v", op, p)
		}
		return p.Rows[i].Tried.Allowed
	}
	whileMade := func(text string, ask func()) {
		t.Helper()
		p, err := author.DraftPlan(ctx, wire.Draft{
			Application: "charts", Hosts: []string{demo.Chartroom}, Changes: text,
		})
		must(t, err)
		r := agreed(t, s, p)
		ask()
		back, err := author.DraftPlan(ctx, wire.Draft{Run: r.ID})
		must(t, err)
		agreed(t, s, back)
	}

	const path = "/charts/north sound/sheet 00.chart"
	for _, op := range []access.Operation{access.Write, access.Delete} {
		t.Run(op.String(), func(t *testing.T) {
			list, err := live.Propose(ctx, "deckhand", path, op)
			must(t, err)
			if list.Answer.Allowed || len(list.Proposals) == 0 || allowed("deckhand", path, op) {
				t.Fatalf("%+v", list)
			}
			p := list.Proposals[0]
			whileMade(p.Text, func() {
				if !allowed("deckhand", path, op) {
					t.Errorf("%s was made, and the server says no", p.Says)
				}
			})
		})
	}
	t.Run("nobody else", func(t *testing.T) {
		const open = "/charts/saltmarsh/soundings"
		r, err := live.Restrict(ctx, []string{"keeper"}, open, access.Change)
		must(t, err)
		if !slices.Contains(r.Out.Names, "deckhand") || !allowed("deckhand", open, access.Change) {
			t.Fatalf("%+v", r)
		}
		whileMade(r.Text, func() {
			if allowed("deckhand", open, access.Change) || !allowed("deckhand", open, access.List) {
				t.Errorf("%s was made, and the server says otherwise: %+v", r.Says, r)
			}
		})
	})
}
