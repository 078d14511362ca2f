//go:build linux

package e2e

import (
	"context"
	"reflect"
	"testing"

	"idletally/demo"
	"idletally/internal/agent"
	"idletally/internal/client"
	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/unixid"
	"idletally/internal/wire"
)

// Questions about access are answered alike on a live host and on a snapshot of it, and as the
// host's own kernel answers them.
func tryLookingAlike(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	for _, host := range []string{"slip-north", "slip-south"} {
		t.Run(host, func(t *testing.T) {
			live := client.Looker{Client: c, Host: host}
			stored := client.Looker{Client: c, Snapshot: snapshot(t, c, "ticketing", host).ID}
			tried := 0

			for _, path := range []string{
				"/srv/ticketing", "/srv/ticketing/logs", "/srv/ticketing/logs/sales-000.log",
				"/srv/ticketing/logs/\x1b[31mred", "/srv/ticketing/logs/bytes \xff\xfe",
				"/srv/ticketing/drop", "/srv/ticketing/shared/season 02/rota 01.ods", "/srv/ticketing/data/quarter-3",
				"/srv/ticketing/data/quarter-3/sales-001.db",
				"/srv/ticketing/data/quarter-2/sales-001.db", "/srv/ticketing/bin/tool-03",
				"/srv/ticketing/keys/tls.key",
				"/srv/ticketing/site/route-07/page-01.html",
				"/srv/ticketing/releases/2026-05/lang/part-01", "/srv/ticketing/releases/elsewhere",
				"/srv/ticketing/conf/service-00.conf",
			} {
				t.Run(path, func(t *testing.T) {
					for _, account := range []string{
						"root", "purser", "clerk-west", "ticket-svc", "www-tickets", "nobody", "4711",
					} {
						t.Run(account, func(t *testing.T) {
							now, err := live.Decide(ctx, account, path, 0, wire.Supposed{})
							if err != nil {
								t.Fatalf("%s as %s on %s: %v", pathname.Escape(path), account, host, err)
							}

							then, err := stored.Decide(ctx, account, path, 0, wire.Supposed{})
							if err != nil {
								t.Fatal(err)
							}

							if !now.Origin.Live || then.Origin.Snapshot == "" {
								t.Errorf("origins %+v, %+v", now.Origin, then.Origin)
							}

							now.Origin, then.Origin = wire.Origin{}, wire.Origin{}
							if !reflect.DeepEqual(now, then) {
								t.Errorf("%s as %s:\nlive   %+v\nstored %+v", pathname.Escape(path), account, now, then)
							}

							p, err := live.Probe(ctx, account, path)
							if err != nil {
								t.Fatal(err)
							}

							if p.Differ {
								t.Errorf("%s as %s: computed and tried differ:\n%s", pathname.Escape(path), account,
									p.Repeat)
							}

							for _, r := range p.Rows {
								if r.Tried.Untried == "" {
									tried++
								}
							}
						})
					}
					for _, look := range []client.Looker{live, stored} {
						if m, err := look.Matrix(ctx, path, wire.Supposed{}); err != nil || len(m.Rows) == 0 {
							t.Errorf("%s: %+v, %v", path, m, err)
						}
					}
				})
			}

			if tried < 300 {
				t.Errorf("the kernel was asked only %d times", tried)
			}

			a, err1 := live.Below(ctx, wire.BelowAsk{
				Account:   "ticket-svc",
				Path:      "/srv/ticketing",
				Operation: access.Write,
			})
			b, err2 := stored.Below(ctx, wire.BelowAsk{
				Account:   "ticket-svc",
				Path:      "/srv/ticketing",
				Operation: access.Write,
			})
			if err1 != nil || err2 != nil || a.Held != b.Held || len(a.Groups) != len(b.Groups) ||
				(a.Held > 0) != (host == "slip-north") {
				t.Errorf("below, live %+v %v; stored %+v %v", a, err1, b, err2)
			}

			l, err1 := live.List(ctx, "/srv/ticketing/logs", "www-tickets", "", 1000)
			m, err2 := stored.List(ctx, "/srv/ticketing/logs", "www-tickets", "", 1000)
			if err1 != nil || err2 != nil || len(l.Items) != 127 || len(m.Items) != 127 ||
				l.Items[5].Modified == nil || !reflect.DeepEqual(l.Items[5].May, m.Items[5].May) {
				t.Errorf("listing: %d %v, %d %v", len(l.Items), err1, len(m.Items), err2)
			}
		})
	}
}

// What an edition, a plan or a membership would change is known before it is done.
func tryWhatIf(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	c := as(t, s, "quartermaster")
	const page, db = "/srv/ticketing/site/route-07/page-03.html", "/srv/ticketing/data/quarter-1/sales-000.db"
	snap := snapshot(t, c, "ticketing", "slip-south").ID
	d, err := c.Drift(ctx, "ticketing", "slip-south")
	if err != nil {
		t.Fatal(err)
	}

	var ref wire.GroupRef
	for _, g := range d.Groups {
		if g.Rule == "way-in" {
			ref = wire.GroupRef{Report: g.Report, Group: g.ID}
		}
	}

	p, err := c.DraftPlan(ctx, wire.Draft{Groups: []wire.GroupRef{ref}, Title: "Let the sales service in again"})
	if err != nil || p.Steps != 1 {
		t.Fatalf("%+v, %v", p, err)
	}

	for _, look := range []client.Looker{{Client: c, Host: "slip-south"}, {Client: c, Snapshot: snap}} {
		for _, x := range []struct {
			account, path string
			op            access.Operation
			sup           wire.Supposed
			now, then     bool
		}{
			{"www-tickets", page, access.Read, wire.Supposed{Edition: "ticketing/0"}, false, true},
			{"ticket-svc", db, access.Write, wire.Supposed{Edition: "ticketing/1"}, false, true},
			{"ticket-svc", db, access.Write, wire.Supposed{Plan: p.ID}, false, true},
			{"www-tickets", page, access.Read, wire.Supposed{Plan: p.ID}, false, false},
			{"ticket-svc", db, access.Write, wire.Supposed{Joining: []string{"crew"}}, false, true},
			{"ticket-svc", db, access.Read, wire.Supposed{Joining: []string{"boards", "crew"}}, false, true},
			{"nobody", db, access.Read, wire.Supposed{Privileges: []string{"CAP_CHOWN", "CAP_DAC_READ_SEARCH"}}, false,
				true},
		} {
			t.Run(x.account, func(t *testing.T) {
				j, err := look.Decide(ctx, x.account, x.path, x.op, x.sup)
				if err != nil || len(j.Answers) != 1 || len(j.Then) != 1 || j.Answers[0].Allowed != x.now ||
					j.Then[0].Allowed != x.then || j.Suppose == "" {
					t.Errorf("%+v: %+v, %v", x, j, err)
				}
			})
		}

		m, err := look.Matrix(ctx, db, wire.Supposed{Plan: p.ID})
		if err != nil || m.Rows[0].Account != "ticket-svc" || m.Rows[0].Cells[1].Allowed || !m.Rows[0].Then[1].Allowed {
			t.Errorf("%+v, %v", m, err)
		}

		h, err := look.Holders(ctx, db, access.Read, wire.Supposed{Plan: p.ID})
		if err != nil || len(h.Allowed) != 2 { // root, and the service
			t.Errorf("%+v, %v", h, err)
		}
	}

	b, err := client.Looker{Client: c, Snapshot: snap}.Below(ctx, wire.BelowAsk{
		Account:   "ticket-svc",
		Operation: access.Write,
		Supposed:  wire.Supposed{Plan: p.ID},
		Limit:     5,
	})

	if err != nil || b.Held != 0 || b.Then < 300 || b.Gained != b.Then || len(b.Items) != 5 || b.Next == "" {
		t.Errorf("%+v, %v", b, err)
	}

	live := client.Looker{Client: c, Host: "slip-south"}
	for says, f := range map[string]func() error{
		"on a snapshot: give snapshot": func() error {
			_, err := live.Below(ctx, wire.BelowAsk{
				Account:   "root",
				Path:      "/srv/ticketing",
				Operation: access.Read,
				Supposed:  wire.Supposed{Plan: p.ID},
			})
			return err
		},
		"want APPLICATION/NUMBER": func() error {
			_, err := live.Decide(ctx, "root", page, 0, wire.Supposed{Edition: "ticketing"})
			return err
		},
		"either an edition or a plan": func() error {
			_, err := live.Decide(ctx, "root", page, 0, wire.Supposed{Edition: "ticketing/1", Plan: p.ID})
			return err
		},
		"has no part on host slip-north": func() error {
			_, err := client.Looker{
				Client: c,
				Host:   "slip-north",
			}.Decide(ctx, "root", page, 0, wire.Supposed{Plan: p.ID})
			return err
		},
	} {
		fails(t, says, f(), 422, says)
	}
}

// tryProposals asks what it would take that a service's account writes its data, has the first proposal made as a
// plan, and asks again.
func tryProposals(t *testing.T, s *demo.Stage) {
	t.Helper()
	const file = "/srv/ticketing/data/quarter-1/sales-000.db"
	on := command{t: t, s: s, person: "quartermaster"}
	on.login()
	ask := func(more ...string) []string {
		return append([]string{"access", "propose", "ticket-svc", "write", file, "--host", "slip-south"}, more...)
	}
	on.want(0, "the way stops at /srv/ticketing: the folder, for others, has ---, not x", ask()...)
	on.want(0, "an entry user:ticket-svc:x on /srv/ticketing", ask()...)
	on.want(2, "there are", ask("--text", "99")...)

	// What the first one opens in all is what can be done more on the whole host, once it is made.
	api := as(t, s, "quartermaster")
	held := func(snap string) int64 {
		b, err := client.Looker{Client: api, Snapshot: snap}.Below(t.Context(), wire.BelowAsk{
			Account: "ticket-svc", Operation: access.Write,
		})
		must(t, err)
		return b.Held
	}
	first := snapshot(t, api, "ticketing", "slip-south").ID
	list, err := client.Looker{Client: api, Snapshot: first}.Propose(t.Context(), "ticket-svc", file, access.Write)
	must(t, err)
	before, more := held(first), list.Proposals[0].Elsewhere
	if more == nil || *more == 0 {
		t.Fatalf("what it opens was not counted: %+v", list.Proposals[0])
	}

	for _, x := range list.Proposals {
		// All get through the same folder.
		if x.Anybody != nil && (*x.Anybody >= *x.Elsewhere || *x.Elsewhere != *more) {
			t.Errorf("%s opens %d paths to the account, %d to everyone", x.Says, *x.Elsewhere, *x.Anybody)
		}
	}

	text, errs, code := on.run("", ask("--text", "1")...)
	if code != 0 {
		t.Fatal(errs)
	}
	p, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{
		Application: "ticketing",
		Hosts:       []string{"slip-south"},
		Changes:     text,
	})
	must(t, err)
	if r := agreed(t, s, p); r.State != "finished" {
		t.Fatalf("%+v", r)
	}
	on.want(0, "Yes: ticket-svc can write", "access", "decide", "ticket-svc", "write", file, "--host", "slip-south")
	on.want(0, "Nothing: it may.", ask()...)
	if now := held(snapshot(t, api, "ticketing", "slip-south").ID); now != before+*more {
		t.Errorf("it could write %d paths and can write %d: %d more was told", before, now, *more)
	}
	back, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{Run: runOf(t, s, p.ID)})
	must(t, err)
	agreed(t, s, back)
}

// What it would take that nobody else can do something is said by the command with what it takes from whom; made a plan
// and run, the host itself says the same.
func tryRestriction(t *testing.T, s *demo.Stage) {
	t.Helper()
	const folder = "/srv/ticketing/shared"
	on := command{t: t, s: s, person: "quartermaster"}
	on.login()
	ask := func(more ...string) []string {
		return append([]string{"access", "restrict", "create", folder, "--host", "slip-north",
			"--only", "purser", "--only", "clerk-east"}, more...)
	}
	on.want(0, "That nobody but purser, clerk-east can create "+folder+": ", ask()...)
	on.want(0, "clerk-west", ask()...)
	on.want(0, "root", ask()...)
	on.want(1, "everyone is nobody in particular", ask("--only", "everyone")...)
	on.want(1, `no account "nemo"`, ask("--only", "nemo")...)
	on.want(2, "an operation and a path", "access", "restrict", "read")

	text, errs, code := on.run("", ask("--text")...)
	if code != 0 {
		t.Fatal(errs)
	}
	p, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{
		Application: "ticketing", Hosts: []string{"slip-north"}, Changes: text,
	})
	must(t, err)
	agreed(t, s, p)
	on.want(0, "nothing has to be taken away", ask()...)
	on.want(0, "Yes: clerk-east", "access", "decide", "clerk-east", "create", folder, "--host", "slip-north")
	on.want(4, "No: clerk-west", "access", "decide", "clerk-west", "create", folder, "--host", "slip-north")
	back, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{Run: runOf(t, s, p.ID)})
	must(t, err)
	agreed(t, s, back)

	// Of a group that is joined it is told how much that opens elsewhere.
	snap := newest(t, s)
	on.want(0, "13 paths", "access", "propose", "www-tickets", "create", folder, "--snapshot", snap)
}

// Bad questions, silent and hostile hosts.
func tryBadLooking(t *testing.T, s *demo.Stage) {
	ctx := t.Context()
	viewer, admin := as(t, s, "lookout"), as(t, s, "admin")
	live := client.Looker{Client: viewer, Host: "slip-north"}
	if _, err := live.Sight(ctx, "/srv/ticketing"); err != nil {
		t.Errorf("a viewer may look: %v", err)
	}

	ask := func(l client.Looker, path, account string) error {
		_, err := l.Decide(ctx, account, path, access.Read, wire.Supposed{})
		return err
	}
	_, err := live.Probe(ctx, "nobody", "/srv/ticketing")
	fails(t, "a viewer probes", err, 403, "needs the role operator")
	fails(t, "no such host", ask(client.Looker{Client: viewer, Host: "dinghy"}, "/srv", "root"), 404, "dinghy")
	fails(t, "no such snapshot", ask(client.Looker{Client: viewer, Snapshot: "nope"}, "/srv", "root"), 404, "nope")
	fails(t, "neither", ask(client.Looker{Client: viewer}, "/srv", "root"), 422, "give either host")
	fails(t, "both", ask(client.Looker{Client: viewer, Host: "a", Snapshot: "b"}, "/srv", "root"), 422,
		"give either host")
	fails(t, "relative", ask(live, "srv", "root"), 422, "path")
	fails(t, "outside of the roots", ask(live, "/etc/passwd", "root"), 422, "own list of roots does not hold it")
	fails(t, "through a link", ask(live, "/srv/ticketing/releases/elsewhere/passwd", "root"), 422,
		"own list of roots does not hold it")
	fails(t, "nobody of that name", ask(live, "/srv/ticketing", "nemo"), 422, `no account "nemo"`)

	inv, err := admin.Invite(ctx, wire.NewHost{Name: "raft"})
	if err != nil {
		t.Fatal(err)
	}

	raft := client.Looker{Client: viewer, Host: "raft"}
	fails(t, "not enrolled yet", ask(raft, "/srv", "root"), 409, "has no agent yet")
	folder := t.TempDir()
	if _, err := agent.Enrol(ctx,
		agent.Joining{Folder: folder, Service: s.Address, Authority: authorityOf(t, s), Roots: []string{"/srv"}},
		inv.Code, "test"); err != nil {
		t.Fatal(err)
	}

	a := agentClient(t, s, folder)
	place := access.Place{Path: "/", Kind: perm.Folder, Set: posix.State{Mode: 0o755}.Set()}
	dir := (&perm.Directory{Accounts: []perm.Account{{ID: unixid.UID(0), Name: "\x1b[2Jroot"}}}).Index()

	for _, x := range []struct {
		name   string
		reply  wire.Reply
		status int
		says   string
	}{
		{"it failed", wire.Reply{Failed: "the disk\nis full"}, 422, "raft: the disk"},
		{"nothing at all", wire.Reply{}, 502, "without its accounts"},
		{"no way", wire.Reply{Directory: dir}, 502, "without a way"},
		{"an empty way", wire.Reply{Directory: dir, Found: &access.Found{Seen: access.Seen{Place: place}}}, 502,
			"without a way"},
		{"a hash it does not have",
			wire.Reply{Hash: "00", Found: &access.Found{Way: access.Way{place}, Seen: access.Seen{Place: place}}}, 502,
			"without its accounts"},
	} {
		fails(t, x.name, asked(t, a, x.reply, func() error { return ask(raft, "/srv", "root") }), x.status, x.says)
	}

	// Whatever a host says is shown as its word, escaped.
	err = asked(t, a,
		wire.Reply{
			Directory: dir,
			Found:     &access.Found{Way: access.Way{place}, Seen: access.Seen{Place: place, Target: "\x1b[31m"}},
		},
		func() error {
			v, err := raft.Sight(ctx, "/")
			if err == nil && v.Target != `\x1b[31m` {
				t.Errorf("escape codes came through: %q", v.Target)
			}
			return err
		})

	if err != nil {
		t.Error(err)
	}

	fails(t, "another host answers", agentClient(t, s, folder).Reply(ctx, "nope", wire.Reply{}), 409, "nope")
}

// asked puts a question and has an agent answer it.
func asked(t *testing.T, a *client.Agent, reply wire.Reply, question func() error) error {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()

	ended := make(chan error, 1)
	go func() { ended <- question() }()
	for {
		q, err := a.Question(ctx)
		if err != nil {
			t.Fatal(err)
		}

		if q == nil {
			continue
		}

		if err := a.Reply(ctx, q.ID, reply); err != nil {
			t.Fatal(err)
		}

		return <-ended
	}
}
