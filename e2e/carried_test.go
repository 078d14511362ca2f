//go:build linux

package e2e

import (
	"crypto/ed25519"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"idletally/internal/archive"
	"idletally/internal/wire"
)

// A host that nothing leads to: let in, looked at, changed and put back by files that somebody carries, one
// of them broken off in the middle; and what is wrong with such a file is found.
func TestCarried(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, _ := crewed(t)
	c := as(t, s, "quartermaster")
	op := command{t: t, s: s, person: "quartermaster"}
	op.login()
	bag := folder(t)
	root := folder(t)
	own := filepath.Join(folder(t), "agent")
	in := func(name string) string { return filepath.Join(bag, name) }
	const files = 20_000
	for n := range files {
		must(t, os.WriteFile(filepath.Join(root, fmt.Sprintf("bill-%05d", n)), nil, 0o644))
	}

	agent := func(argv ...string) []string { return append([]string{"agent", "--folder", own}, argv...) }
	letIn := func(name, own string) { op.letIn(name, name, own, in, root) }
	look := func() {
		t.Helper()
		op.want(0, "", "snapshot", "save", in("snapshot"), "--root", root, "--host", "pontoon", "--application",
			"billing")
		op.want(0, "ready", "snapshot", "import", in("snapshot"))
	}

	must(t, os.WriteFile(in("rubbish"), []byte("{}"), 0o600))
	op.want(2, "\"root\" not set", agent("request", in("x"))...)
	op.want(1, "no admission", agent("join", in("rubbish"))...)
	op.want(1, "is no request", "host", "admit", "pontoon", in("rubbish"), in("x"))
	op.want(1, "not enrolled", agent("carry", in("rubbish"), in("x"))...)
	letIn("pontoon", own)
	op.want(1, "nothing was asked for",
		agent("join", in("pontoon.admission"), "--fingerprint", admissionPrint(t, in("pontoon.admission")))...)
	op.want(1, "no way to its service", agent("run")...)
	op.want(0, "it is good for another 399 days", "doctor", "--data", in("nothing"), "--folder", own)
	_, err := c.TakeSnapshot(ctx, wire.NewSnapshot{Application: "billing", Host: "pontoon", Roots: []string{root}})
	fails(t, "a snapshot of what nothing leads to", err, 422, "snapshot import")
	op.want(1, "host pontoon has no network", "path", "show", root, "--host", "pontoon")
	op.want(0, "by files", "host", "list")
	if v, err := c.Overview(ctx); err != nil || v.Hosts.Unseen != 0 {
		t.Errorf("%+v, %v", v.Hosts, err)
	}

	look()
	change := func(mode string) wire.Run {
		t.Helper()
		p, err := c.DraftPlan(ctx, wire.Draft{
			Application: "billing",
			Hosts:       []string{"pontoon"},
			Changes:     fmt.Sprintf("changes: [{paths: %s/bill-*, set: {files: %s}}]", root, mode),
		})
		must(t, err)
		approved(t, s, p)
		r, err := c.StartRun(ctx, p.ID)
		must(t, err)
		return r
	}

	r := change("0600")
	op.want(1, "not found", "run", "export", r.ID, "elsewhere", in("x"))
	op.want(0, "agent carry", "run", "export", r.ID, "pontoon", in("order"))
	op.want(0, "agent carry", "run", "export", r.ID, "pontoon", in("order")) // the first was lost
	op.want(1, "no sound order", agent("carry", in("pontoon.request"), in("x"))...)

	// Another host, another service, a host that only looks: none of them carries it out.
	letIn("barge", own+"-barge")
	op.want(4, "it is for host", "agent", "--folder", own+"-barge", "carry", in("order"), in("barge.report"))
	op.want(1, "not found", "run", "import", in("barge.report"))
	op.want(4, "only looks", agent("carry", "--look-only", in("order"), in("looked.report"))...)
	if st, err := os.Stat(filepath.Join(root, "bill-00000")); err != nil || st.Mode().Perm() != 0o644 {
		t.Fatalf("it is changed: %v, %v", st.Mode(), err)
	}

	// Broken off in the middle, and again from the start.
	cmd := exec.Command(program, agent("carry", in("order"), in("report"))...)
	must(t, cmd.Start())
	for end := time.Now().Add(patience); time.Now().Before(end); {
		if st, err := os.Stat(filepath.Join(root, "bill-03000")); err == nil && st.Mode().Perm() == 0o600 {
			break
		}
	}

	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	if _, err := os.Stat(in("report")); err == nil {
		t.Error("there is a report of a run that was broken off")
	}

	op.want(0, "finished", agent("carry", in("order"), in("report"))...)
	op.want(0, "finished", agent("carry", in("order"), in("again.report"))...) // it says the same
	b, err := os.ReadFile(in("report"))
	must(t, err)
	b[len(b)/2] ^= 4
	must(t, os.WriteFile(in("damaged"), b, 0o600))
	op.want(1, "no sound report", "run", "import", in("damaged"))
	op.want(1, "no sound report", "run", "import", in("order"))
	if r, err := c.Run(ctx, r.ID); err != nil || r.State != "running" {
		t.Errorf("before its report came: %+v, %v", r, err)
	}

	if list, err := c.Originals(ctx, r.ID, "pontoon", "", 10); err != nil || len(list) != 0 {
		t.Errorf("%d originals came with reports that do not count, %v", len(list), err)
	}

	reviewer := command{t: t, s: s, person: "harbourmaster"}
	reviewer.login()
	reviewer.want(1, "needs the role operator", "run", "import", in("report"))
	op.want(0, "finished", "run", "import", in("again.report"))
	op.want(1, "known already", "run", "import", in("report"))
	r, err = c.Run(ctx, r.ID)
	if err != nil || r.State != "finished" || r.Hosts[0].Done != files {
		t.Errorf("%+v, %v", r, err)
	}

	if list, err := c.Originals(ctx, r.ID, "pontoon", "", files+1); err != nil || len(list) != files {
		t.Errorf("%d originals, %v", len(list), err)
	}

	op.want(0, "no", "agent", "--folder", own, "runs")

	// And back, by a plan of its originals.
	look()
	back, err := c.DraftPlan(ctx, wire.Draft{Run: r.ID})
	must(t, err)
	approved(t, s, back)
	rb, err := c.StartRun(ctx, back.ID)
	must(t, err)
	op.want(0, "", "run", "export", rb.ID, "pontoon", in("back.order"))
	op.want(0, "finished", agent("carry", in("back.order"), in("back.report"))...)

	// A host that is let in anew, or shut out, proves nothing with what it had.
	if _, err := as(t, s, "quartermaster").ShutOut(ctx, "pontoon"); err != nil {
		t.Fatal(err)
	}

	op.want(1, "no longer valid", "run", "import", in("back.report"))
	letIn("pontoon", own)
	op.want(1, "no longer valid", "run", "import", in("back.report"))
	op.want(4, "another enrolment", agent("carry", in("back.order"), in("old.report"))...)
	op.want(0, "", "run", "export", rb.ID, "pontoon", in("back.order"))
	op.want(0, "finished", agent("carry", in("back.order"), in("back.report"))...)
	op.want(0, "finished", "run", "import", in("back.report"))

	for n := range files {
		if st, err := os.Stat(filepath.Join(root, fmt.Sprintf("bill-%05d", n))); err != nil ||
			st.Mode().Perm() != 0o644 {
			t.Fatalf("bill %d is not as it was: %v", n, err)
		}
	}

	out, _, _ := op.run("", "history", "--most", "200", "--output", "json")
	for _, says := range []string{
		"quartermaster admitted host pontoon, by a file",
		"quartermaster wrote the order of run " + r.ID,
		"quartermaster took in a report of run " + r.ID,
	} {
		if !strings.Contains(out, says) {
			t.Errorf("the history does not say %q: %.300s", says, out)
		}
	}

	// An order of another service is not obeyed.
	other, _ := crewed(t)
	they := command{t: t, s: other, person: "quartermaster"}
	they.login()
	they.letIn("pontoon", "theirs", own+"-theirs", in, root)
	op.want(4, "not by the key this agent pinned", "agent", "--folder", own+"-theirs", "carry", in("back.order"),
		in("theirs.report"))
	op.want(1, "none of this service's", "run", "import", in("theirs.report"))
}

// letIn lets a host in by files, whose fingerprints somebody tells from one side to the other.
func (c command) letIn(name, file, own string, in func(string) string, root string) {
	c.t.Helper()
	c.want(0, "host admit", "agent", "--folder", own, "request", in(file+".request"), "--root", root)
	c.want(2, "--fingerprint", "host", "admit", name, in(file+".request"), in(file+".admission"))
	c.want(1, "not the request", "host", "admit", name, in(file+".request"), in(file+".admission"), "--fingerprint",
		strings.Repeat("0", 32))
	c.want(0, "agent join", "host", "admit", name, in(file+".request"), in(file+".admission"), "--fingerprint",
		requestPrint(c.t, in(file+".request")))
	c.want(2, "--fingerprint", "agent", "--folder", own, "join", in(file+".admission"))
	c.want(1, "not the admission", "agent", "--folder", own, "join", in(file+".admission"), "--fingerprint",
		strings.Repeat("0", 32))
	c.want(0, "This is host "+name, "agent", "--folder", own, "join", in(file+".admission"), "--fingerprint",
		admissionPrint(c.t, in(file+".admission")))
}

func requestPrint(t *testing.T, file string) string {
	var r archive.Request
	b, err := os.ReadFile(file)
	must(t, err)
	must(t, json.Unmarshal(b, &r))
	return r.Fingerprint()
}

func admissionPrint(t *testing.T, file string) string {
	var a archive.Admission
	b, err := os.ReadFile(file)
	must(t, err)
	must(t, json.Unmarshal(b, &a))
	return a.Fingerprint()
}

// Whoever carries an admission puts one of their own in its place, with a key of theirs for orders: the host
// does not take it, and not even by its true fingerprint where another key signs its orders already.
func TestAdmissionOfACarrier(t *testing.T) {
	t.Parallel()
	s, _ := crewed(t)
	op := command{t: t, s: s, person: "quartermaster"}
	op.login()
	bag := folder(t)
	root := folder(t)
	own := filepath.Join(folder(t), "agent")
	in := func(name string) string { return filepath.Join(bag, name) }
	op.letIn("pontoon", "pontoon", own, in, root)
	settings, err := os.ReadFile(filepath.Join(own, "agent.json"))
	must(t, err)

	op.want(0, "", "agent", "--folder", own, "request", in("again.request"), "--root", root)
	op.want(0, "", "host", "admit", "pontoon", in("again.request"), in("again.admission"), "--fingerprint",
		requestPrint(t, in("again.request")))
	var a archive.Admission
	b, err := os.ReadFile(in("again.admission"))
	must(t, err)
	must(t, json.Unmarshal(b, &a))
	shown := a.Fingerprint()
	theirs, _, err := ed25519.GenerateKey(nil)
	must(t, err)
	a.OrderKey = theirs
	b, err = json.Marshal(a)
	must(t, err)
	must(t, os.WriteFile(in("again.admission"), b, 0o600))
	op.want(1, "Somebody may have put another in its place", "agent", "--folder", own, "join", in("again.admission"),
		"--fingerprint", shown)
	op.want(1, "another key signs its orders", "agent", "--folder", own, "join", in("again.admission"), "--fingerprint",
		a.Fingerprint())
	if now, err := os.ReadFile(filepath.Join(own, "agent.json")); err != nil || string(now) != string(settings) {
		t.Errorf("the host's settings are others: %v", err)
	}
}
