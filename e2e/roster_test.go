//go:build linux

package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"idletally/demo"
	"idletally/internal/archive"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/testkit/sshkeys"
	"idletally/internal/wire"
)

// mustered is a demo world whose hosts act by a roster, with a database that the test can write to: what an attacker
// can who has the service.
func mustered(t *testing.T) (s *demo.Stage, change func(q string, args ...any)) {
	t.Helper()
	db, _ := database(t)
	t.Cleanup(db.Stop)
	s = begin(t, db.DSN)
	must(t, s.Muster(t.Context()))
	return s, changing(t, db.DSN)
}

// ashore returns the person's commands, with an ssh-agent of theirs that has their key.
func ashore(t *testing.T, s *demo.Stage, person string) command {
	t.Helper()
	on := command{t: t, s: s, person: person, more: "SSH_AUTH_SOCK=" + sshkeys.Agent(t, s.KeyFile(person))}
	on.login()
	return on
}

// drafted drafts a plan of all that ticketing's findings are about on a host.
func drafted(t *testing.T, s *demo.Stage) wire.Plan {
	t.Helper()
	p, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{Application: "ticketing", All: true})
	must(t, err)
	return p
}

// approving is the command by which somebody approves a plan.
func approving(p wire.Plan, more ...string) []string {
	argv := append([]string{"plan", "approve", p.ID, "--digest", p.Digest}, more...)
	for caution, word := range words(p) {
		argv = append(argv, "--word", caution+"="+word)
	}
	return argv
}

// Two people's own keys: hosts that act by a roster change what these have signed, and nothing that the service says
// alone, whatever is written to its database.
func TestRoster(t *testing.T) {
	t.Parallel()
	s, change := mustered(t)
	author, reviewer := ashore(t, s, "quartermaster"), ashore(t, s, "harbourmaster")
	author.want(0, "2 act by it, 0 by an earlier edition, 0 take the service's word alone", "roster", "show")
	author.want(0, "yes", "roster", "key", "list")

	// Without a signature the service does not even ask the hosts.
	p := drafted(t, s)
	author.want(2, "people sign plans of slip-north, slip-south by keys of their own", "plan", "submit", p.ID)
	_, err := as(t, s, "quartermaster").Submit(t.Context(), p.ID)
	fails(t, "submit without a signature", err, 422, "keys of their own")
	author.want(1, "as a key of yours", "plan", "submit", p.ID, "--key", s.KeyFile("harbourmaster"))
	author.want(0, "in review", "plan", "submit", p.ID, "--sign")
	p, err = as(t, s, "harbourmaster").Plan(t.Context(), p.ID)
	must(t, err)
	reviewer.want(1, "keys of their own", approving(p)...)
	reviewer.want(1, "of the digest", "plan", "approve", p.ID, "--digest", strings.Repeat("0", 64), "--sign")
	held := s.KeyFile("harbourmaster") + ".pub"
	reviewer.want(0, "says: approved\nwho: harbourmaster\n", approving(p, "--key", held)...)
	author.want(0, "finished", "run", "start", p.ID)
	reviewer.want(0, "signed: approved by harbourmaster", "plan", "show", p.ID)

	// What was done is proved to whoever has the roster, and nobody else's roster proves it.
	file := filepath.Join(t.TempDir(), "evidence")
	reviewer.want(0, "plan verify", "plan", "evidence", p.ID, file)
	offline := command{t: t, s: s, person: "auditor"}
	verify := func(more ...string) []string { return append([]string{"plan", "verify", file}, more...) }
	offline.want(0, "yes: people of the roster had signed just this", verify("--roster", s.RosterFile())...)
	offline.want(0, "harbourmaster", verify("--roster", s.RosterFile(), "--steps")...)
	offline.want(4, "does not lead on from the roster", verify("--fingerprint", strings.Repeat("a", 64))...)
	b, err := os.ReadFile(file)
	must(t, err)
	for i := 0; i < len(b); i += max(1, len(b)/40) {
		broken := append([]byte{}, b...)
		broken[i] ^= 1
		must(t, os.WriteFile(file, broken, 0o600))
		out, errs, code := offline.run("", verify("--roster", s.RosterFile())...)
		if code == 0 {
			t.Errorf("with byte %d of %d changed it proves as much: %s%s", i, len(b), out, errs)
		}
	}

	// Somebody who writes to the database has the service believe that no host asks for signatures.
	back, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{Run: runOf(t, s, p.ID)})
	must(t, err)
	change("UPDATE host SET roster_edition = 0")
	approved(t, s, back)
	change("UPDATE host SET roster_edition = 1")
	_, err = as(t, s, "quartermaster").StartRun(t.Context(), back.ID)
	fails(t, "a run that hosts would refuse", err, 409, "would refuse it")
	change("UPDATE host SET roster_edition = 2")
	_, err = as(t, s, "quartermaster").StartRun(t.Context(), back.ID)
	fails(t, "a run on a host with another roster", err, 409, "another roster than this service has")
	change("UPDATE host SET roster_edition = 0")
	r, err := as(t, s, "quartermaster").StartRun(t.Context(), back.ID)
	must(t, err)
	r = ended(t, as(t, s, "quartermaster"), r.ID)
	refused := 0
	for _, h := range r.Hosts { // the other one is held back
		if h.State == "failed" && strings.Contains(h.Message, "order refused: refused by the roster") {
			refused++
		}
		if h.Done != 0 {
			t.Errorf("host %s: %s, %d steps are done, %s", h.Host, h.State, h.Done, h.Message)
		}
	}
	if refused == 0 {
		t.Errorf("no host refused it: %+v", r.Hosts)
	}
	author.want(0, "1 act by it", "roster", "show") // which that host has said since
	change("UPDATE host SET roster_edition = 1")

	putBackAlone(t, s, runOf(t, s, p.ID), change)
	nextEdition(t, s, author, reviewer)
}

// putBackAlone has somebody put a run back whom the roster lets do that by their signature alone, and nothing else.
func putBackAlone(t *testing.T, s *demo.Stage, run string, change func(q string, args ...any)) {
	t.Helper()
	author := ashore(t, s, "quartermaster")
	alone := func(p wire.Plan, more ...string) []string {
		return approving(p, append(more, "--alone", "The gate does not open, and the ferry is in.")...)
	}
	api := as(t, s, "quartermaster")

	other, err := api.DraftPlan(t.Context(), wire.Draft{
		Application: "ticketing",
		Changes:     "changes: [{paths: /srv/ticketing/logs/*, set: {files: 0620}}]",
	})
	must(t, err)
	author.want(1, "does not let you act alone", alone(other, "--sign")...)

	back, err := api.DraftPlan(t.Context(), wire.Draft{Run: run})
	must(t, err)
	if !back.MayAlone {
		t.Errorf("the plan does not say that its author may put back alone: %+v", back)
	}
	author.want(1, "signs it by a key of their own", alone(back)...)
	author.want(1, "ten characters", approving(back, "--sign", "--alone", "why")...)
	author.want(0, "reason: The gate does not open", alone(back, "--sign")...)
	author.want(0, "decided by       quartermaster, alone", "plan", "show", back.ID)

	// The database cannot make one person of two, or two of one.
	change("UPDATE plan SET alone = FALSE WHERE id = ?", back.ID)
	_, err = api.StartRun(t.Context(), back.ID)
	if err == nil {
		t.Error("what one person approved runs as if it were reviewed")
	}
	change("UPDATE plan SET alone = TRUE WHERE id = ?", back.ID)

	author.want(0, "finished", "run", "start", back.ID)
	file := filepath.Join(t.TempDir(), "evidence")
	author.want(0, "plan verify", "plan", "evidence", back.ID, file)
	author.want(0, "the roster lets them put back alone", "plan", "verify", file, "--roster", s.RosterFile())
}

// nextEdition has the roster's people enact an edition without the bosun, which hosts follow to with their next order.
func nextEdition(t *testing.T, s *demo.Stage, author, reviewer command) {
	t.Helper()
	admin := command{t: t, s: s, person: "admin"}
	admin.login()
	draft, errs, code := admin.run("", "roster", "draft")
	if code != 0 {
		t.Fatal(errs)
	}
	before, after, ok := strings.Cut(draft, "person: bosun\n")
	if !ok || !strings.Contains(after, "person: harbourmaster\n") {
		t.Fatalf("the draft is\n%s", draft)
	}
	_, after, _ = strings.Cut(after, "person: ")
	file := filepath.Join(t.TempDir(), "roster.txt")
	must(t, os.WriteFile(file, []byte("# The bosun has left.\n\n"+before+"person: "+after), 0o644))

	checked, _, _ := admin.run("", "roster", "check", file)
	print := fingerprintOf.FindString(checked)
	admin.want(0, "harbourmaster (1 key), quartermaster (1 key)", "roster", "check", file)
	admin.want(0, "roster sign "+print, "roster", "propose", file)
	author.want(1, "something else signed than you said", "roster", "sign", strings.ToUpper(print), "--sign")
	author.want(0, "1 of 2 have signed", "roster", "sign", print, "--sign")
	author.want(0, "1 of 2 have signed", "roster", "sign", print, "--sign")                    // again is once
	admin.want(0, "1 of 2 have signed", "roster", "sign", print, "--key", s.KeyFile("safe-2")) // one of each is neither
	reviewer.want(0, "0 act by it, 2 by an earlier edition", "roster", "sign", print, "--sign")
	reviewer.want(1, "counts already", "roster", "sign", print, "--sign")
	admin.want(1, "counts already", "roster", "withdraw", print)

	p, err := as(t, s, "quartermaster").DraftPlan(t.Context(), wire.Draft{
		Application: "ticketing",
		Hosts:       []string{"slip-north", "slip-south"},
		Changes:     "changes: [{paths: /srv/ticketing/logs/*, set: {files: 0600}}]",
	})
	must(t, err)
	author.want(0, "in review", "plan", "submit", p.ID, "--sign")
	p, err = as(t, s, "harbourmaster").Plan(t.Context(), p.ID)
	must(t, err)
	gone := ashore(t, s, "bosun")
	_, errs, code = gone.run("", approving(p, "--sign")...)
	if code == 0 {
		t.Errorf("somebody who has left approves: %s", errs)
	}
	reviewer.want(0, "approved", approving(p, "--sign")...)
	author.want(0, "finished", "run", "start", p.ID)
	author.want(0, "2 act by it, 0 by an earlier edition", "roster", "show")
	if out, err := s.Run("slip-north", "agent", "roster", "show"); err != nil || !strings.Contains(out, print) {
		t.Errorf("%s, %v", out, err)
	}
}

// runOf returns the run of a plan.
func runOf(t *testing.T, s *demo.Stage, plan string) string {
	t.Helper()
	p, err := as(t, s, "quartermaster").Plan(t.Context(), plan)
	must(t, err)
	return p.Run
}

var fingerprintOf = regexp.MustCompile(`[0-9a-f]{64}`)

// An order that is signed by the service's own key, and in the names of two people, is carried out by a host that takes
// the service's word alone, and by no host with a roster: not with what they signed of another plan either.
func TestForgedOrder(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	const host = "slip-north"
	carry := func(signed []roster.Signed) (said string, open bool) {
		t.Helper()
		f, err := s.Forge(host, signed)
		must(t, err)
		at := filepath.Join(s.Root(host), f.Path)
		before, err := os.Stat(at)
		must(t, err)
		said, _ = s.Carry(host, f.File)
		st, err := os.Stat(at)
		must(t, err)
		must(t, os.Chmod(at, before.Mode().Perm()))
		return said, st.Mode().Perm() == 0o666
	}
	if said, open := carry(nil); !open {
		t.Fatalf("the forgery is not one that a host would take: %s", said)
	}

	must(t, s.Muster(t.Context()))
	author, reviewer := ashore(t, s, "quartermaster"), ashore(t, s, "harbourmaster")
	p := drafted(t, s)
	author.want(0, "in review", "plan", "submit", p.ID, "--sign")
	p, err := as(t, s, "harbourmaster").Plan(t.Context(), p.ID)
	must(t, err)
	reviewer.want(0, "approved", approving(p, "--sign")...)
	var others []roster.Signed
	file := filepath.Join(t.TempDir(), "evidence")
	reviewer.want(0, "plan verify", "plan", "evidence", p.ID, file)
	f, err := os.Open(file)
	must(t, err)
	defer f.Close()
	must(t, archive.ReadEvidence(f, func(h archive.EvidenceHead, _ plan.Manifest) error {
		others = h.Roster.Signed
		return nil
	}, func(string, []plan.Step) error { return nil }))

	for name, signed := range map[string][]roster.Signed{"nothing signed": nil, "another plan": others} {
		t.Run(name, func(t *testing.T) {
			if said, open := carry(signed); open || !strings.Contains(said, "refused by the roster") {
				t.Errorf("it is open: %t; the host said %s", open, said)
			}
		})
	}
}

// Hosts that are reached over SSH, and hosts that nothing leads to, ask for people's signatures like any other: the
// roster is where the host is.
func TestRosterElsewhere(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, admin, change := crewedOn(t)
	_, fingerprint, err := s.Found(ctx)
	must(t, err)
	author, reviewer := ashore(t, s, "quartermaster"), ashore(t, s, "harbourmaster")
	op := command{t: t, s: s, person: "quartermaster"}
	root, bag := folder(t), folder(t)
	at := filepath.Join(root, "bill")
	must(t, os.WriteFile(at, nil, 0o644))
	in := func(name string) string { return filepath.Join(bag, name) }
	pin := func(own string) {
		t.Helper()
		op.want(2, "fingerprint", "agent", "--folder", own, "roster", "pin", s.RosterFile())
		op.want(1, "not the one that was compared", "agent", "--folder", own, "roster", "pin", s.RosterFile(),
			"--fingerprint", strings.Repeat("1", 64))
		op.want(0, "only what people of the roster have signed", "agent", "--folder", own, "roster", "pin",
			s.RosterFile(), "--fingerprint", fingerprint)
	}

	// One that is reached over SSH.
	d := openDoor(t)
	inv, err := admin.Invite(ctx, wire.NewHost{Name: "pontoon"})
	must(t, err)
	near, far := filepath.Join(folder(t), "near"), filepath.Join(folder(t), "far")
	ssh := []string{"agent", "enrol", "--service", s.Address, "--authority", s.Authority(), "--code", inv.Code,
		"--root", root, "--folder", near, "--ssh", "root@" + d.address, "--ssh-key", d.at("key"), "--ssh-folder", far,
		"--ssh-known-hosts", d.at("known"), "--ssh-sudo"}
	pinned := []string{"--roster", s.RosterFile(), "--roster-fingerprint", fingerprint}
	op.want(2, "pins its roster itself", append(ssh, pinned...)...)
	op.want(0, "Enrolled as host pontoon", ssh...)
	op.want(1, "pin the roster there", "agent", "--folder", near, "roster", "pin", s.RosterFile(), "--fingerprint",
		fingerprint)
	pin(far)
	attend(t, "--folder", near)

	// And one that nothing leads to.
	own := filepath.Join(folder(t), "barge")
	op.letIn("barge", "barge", own, in, root)
	pin(own)

	api := as(t, s, "quartermaster")
	look(t, s, root, in("snapshot"))
	snap, err := api.TakeSnapshot(ctx, wire.NewSnapshot{Application: "billing", Host: "pontoon", Roots: []string{root}})
	must(t, err)
	awaitSnapshot(t, api, snap.ID)
	for _, host := range []string{"pontoon", "barge"} {
		t.Run(host, func(t *testing.T) {
			for _, signs := range []bool{false, true} {
				must(t, os.Chmod(at, 0o644))
				p, err := api.DraftPlan(ctx, wire.Draft{
					Application: "billing",
					Hosts:       []string{host},
					Changes:     "changes: [{paths: " + at + ", set: {files: 0600}}]",
				})
				must(t, err)
				if signs {
					author.want(0, "in review", "plan", "submit", p.ID, "--sign")
					p, err = api.Plan(ctx, p.ID)
					must(t, err)
					reviewer.want(0, "approved", approving(p, "--sign")...)
				} else {
					change("UPDATE host SET roster_edition = 0")
					approved(t, s, p)
				}
				r, err := api.StartRun(ctx, p.ID)
				must(t, err)

				says := map[bool]string{false: "refused by the roster", true: "finished"}[signs]
				if host == "barge" {
					file := in("order-" + p.ID)
					op.want(0, "agent carry", "run", "export", r.ID, host, file)
					code := map[bool]int{false: 4, true: 0}[signs] // bad news, or none
					op.want(code, says, "agent", "--folder", own, "carry", file, file+".report")
					op.want(code, "", "run", "import", file+".report")
				}
				r = ended(t, api, r.ID)
				if h := r.Hosts[0]; !strings.Contains(string(h.State)+" "+h.Message, says) {
					t.Errorf("signed %t: %s, %s", signs, h.State, h.Message)
				}
				st, err := os.Stat(at)
				must(t, err)
				if (st.Mode().Perm() == 0o600) != signs {
					t.Errorf("signed %t: its mode is %s", signs, st.Mode())
				}
				if signs && host == "barge" {
					putBackSigned(t, op, author, own, r.ID, at)
				}
			}
		})
	}
}

// putBackSigned has a host put a run back, without its service, by the signature of whom its roster names for that.
func putBackSigned(t *testing.T, root, author command, folder, run, path string) {
	t.Helper()
	back := []string{"agent", "--folder", folder, "put-back", run, "--yes"}
	root.want(2, "names who puts back here by their signature: ", back...)
	back = append(back, "--reason", "The gate does not open.")
	root.want(2, "quartermaster. Give --reason, and --sign or --key FILE", back...)
	root.want(1, "the roster does not have", append(back, "--key", author.s.KeyFile("harbourmaster"))...)
	author.want(0, "1 of 1 paths are as they were before run "+run, append(back, "--sign")...)
	root.want(0, "quartermaster", "agent", "--folder", folder, "runs")
	if st, err := os.Stat(path); err != nil || st.Mode().Perm() != 0o644 {
		t.Errorf("after it was put back: %v, %v", st.Mode(), err)
	}
}

// look takes a snapshot of a host that nothing leads to, by a file.
func look(t *testing.T, s *demo.Stage, root, file string) {
	t.Helper()
	op := command{t: t, s: s, person: "quartermaster"}
	op.want(0, "", "snapshot", "save", file, "--root", root, "--host", "barge", "--application", "billing")
	op.want(0, "ready", "snapshot", "import", file)
}

// People who have lost their keys go on by recovery keys that were kept offline: as many as the roster says.
func TestRecovery(t *testing.T) {
	t.Parallel()
	s, _ := crewed(t)
	_, _, err := s.Found(t.Context())
	must(t, err)
	admin := command{t: t, s: s, person: "admin"}
	admin.login()
	draft, errs, code := admin.run("", "roster", "draft", "--until", "2099-01-01")
	if code != 0 {
		t.Fatal(errs)
	}
	file := filepath.Join(t.TempDir(), "roster.txt")
	must(t, os.WriteFile(file, []byte(draft), 0o600))
	out, _, _ := admin.run("", "roster", "check", file)
	print := fingerprintOf.FindString(out)
	admin.want(0, "0 of 2 have signed", "roster", "propose", file)
	admin.want(1, "as a key of yours", "roster", "sign", print, "--key", s.KeyFile("quartermaster"))
	admin.want(0, "1 of 2 have signed", "roster", "sign", print, "--key", s.KeyFile("safe-3"))
	admin.want(0, "1 of 2 have signed", "roster", "sign", print, "--key", s.KeyFile("safe-3"))
	admin.want(0, "2        counts", "roster", "sign", print, "--key", s.KeyFile("safe-1"))
}

// nextRoster founds a roster that no host acts by, proposes the edition that follows on it, and returns its digest.
func nextRoster(t *testing.T, s *demo.Stage) string {
	t.Helper()
	document, _, err := s.Found(t.Context())
	must(t, err)
	r, err := roster.Parse(document)
	must(t, err)
	next := r.Next()
	next.Until = next.Until.Add(time.Hour)
	document, err = next.Bytes()
	must(t, err)
	_, err = as(t, s, "admin").ProposeRoster(t.Context(), string(document))
	must(t, err)
	return next.Digest().String()
}
