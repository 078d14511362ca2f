//go:build linux

package agent

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"math/big"
	mathrand "math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/signature"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
	"idletally/internal/testkit"
	"idletally/internal/testkit/passkeys"
	"idletally/internal/testkit/pens"
	"idletally/internal/testkit/seeded"
	"idletally/internal/wire"
)

// A harbour is a host with a roster, and a service that is an attacker: it has the key that signs orders, and says
// whatever it likes.
type harbour struct {
	s      *service
	a      *Agent
	key    ed25519.PrivateKey
	file   string
	roster roster.Roster
	pens   map[string]pens.Pen
	purser passkeys.Key // who signs in a browser

	manifest plan.Manifest
	runs     int
	alone    bool // orders are of one person
}

// gives somebody rights of the roster besides, by an edition that takes the place of the one that is pinned.
func (h *harbour) gives(t *testing.T, who string, rights ...roster.Right) {
	t.Helper()
	for i, p := range h.roster.People {
		if p.Name == who {
			h.roster.People[i].Rights = append(slices.Clone(p.Rights), rights...)
		}
	}
	h.roster.Sort()
	must(t, os.Remove(filepath.Join(h.a.Folder, rosterFile)))
	h.a.Settings.Roster = ""
	must(t, h.a.Settings.save(h.a.Folder))
	h.pin(t)
}

// leads has the plan be one that leads the file from a mode to another.
func (h *harbour) leads(kind plan.Kind, from, to mode.Mode, file plan.Identity) {
	chunk := plan.EncodeChunk([]plan.Step{{
		Path:   h.file,
		Kind:   perm.File,
		Before: posix.State{Mode: from}.Set(),
		After:  posix.State{Mode: to}.Set(),
		File:   file,
	}})
	h.s.chunks = [][]byte{chunk}
	h.manifest.Kind, h.manifest.Hosts[0].Chunks = kind, []tree.Hash{plan.Digest(chunk)}
}

var everywhere = []roster.Right{
	{Do: roster.Approve, Application: roster.Everything, Host: roster.Everything},
	{Do: roster.Submit, Application: roster.Everything, Host: roster.Everything},
}

// Where the purser signs.
const (
	site   = "tally.example"
	origin = "https://tally.example"
)

// A touch of the purser's key, with the person verified.
const verified = 1<<0 | 1<<2

// touched has the purser's key answer what a page asks it to sign.
func (h *harbour) touched(t *testing.T, text []byte, at string, flags byte, said passkeys.Client) roster.Signed {
	t.Helper()
	a := &signature.Assertion{Client: said.JSON(t)}
	a.Authenticator, a.Signature = h.purser.Answer(t, at, flags, a.Client)
	return roster.Signed{Statement: text, Key: h.roster.Person("purser").Keys[0].Key,
		Signature: signature.Signature{WebAuthn: a}}
}

func newHarbour(t *testing.T) *harbour {
	t.Helper()
	s, a, key, root := world(t)
	h := &harbour{s: s, a: a, key: key, file: filepath.Join(root, "file"), pens: map[string]pens.Pen{}}
	must(t, os.WriteFile(h.file, nil, 0o600))

	now := time.Now().UTC().Truncate(time.Second)
	h.roster = roster.Roster{
		Edition:   1,
		Made:      now.Add(-time.Hour),
		Until:     now.AddDate(1, 0, 0),
		Site:      site,
		Origins:   []string{origin},
		Threshold: 2,
		Approvals: []roster.Approvals{{Application: roster.Everything, People: 1}},
	}
	for i, name := range []string{"bosun", "harbourmaster", "quartermaster"} {
		h.pens[name] = pens.New(t, uint64(i))
		keys := []roster.NamedKey{{Name: "laptop", Key: h.pens[name].Key}}
		h.roster.People = append(h.roster.People, roster.Person{Name: name, Keys: keys, Rights: everywhere})
	}
	h.pens["stowaway"] = pens.New(t, 99)
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(t, err)
	h.purser = passkeys.New(private)
	tide, err := signature.ParseKey(signature.WebAuthn + " " + h.purser.Text(t))
	must(t, err)
	h.roster.People = append(h.roster.People, roster.Person{
		Name:   "purser",
		Keys:   []roster.NamedKey{{Name: "tide", Key: tide}},
		Rights: everywhere,
	})
	h.roster.Sort()
	a.Settings.Roots = []string{pathname.Escape(root)}
	must(t, a.Settings.save(a.Folder))
	h.pin(t)

	state := func(m mode.Mode) perm.Set { return posix.State{Mode: m}.Set() }
	chunk := plan.EncodeChunk([]plan.Step{{Path: h.file, Kind: perm.File, Before: state(0o600), After: state(0o666)}})
	s.chunks = [][]byte{chunk}
	h.manifest = plan.Manifest{
		Format:      1,
		ID:          "06h0q8kqeb2mqz23",
		Kind:        plan.Adjustment,
		Application: "ticketing",
		Hosts: []plan.HostPart{
			{Host: "skiff", Roots: []string{root}, Steps: 1, Chunks: []tree.Hash{plan.Digest(chunk)}},
		},
	}
	return h
}

// pin pins the roster, and has the agent read its settings again, as one does that is started.
func (h *harbour) pin(t *testing.T) {
	t.Helper()
	document, err := h.roster.Bytes()
	must(t, err)
	_, err = PinRoster(h.a.Folder, document, h.roster.Digest())
	must(t, err)
	h.a.Settings, err = Load(h.a.Folder)
	must(t, err)
}

// signed has a statement made, as whoever holds a pen likes.
func signed(t *testing.T, p pens.Pen, s statement.Statement) roster.Signed {
	t.Helper()
	b, err := s.Bytes()
	must(t, err)
	return roster.Signed{Statement: b, Key: p.Key, Signature: p.Sign(b)}
}

// says is what somebody says of the plan.
func (h *harbour) says(what, who string) statement.Statement {
	now := time.Now().UTC().Truncate(time.Second)
	reason := ""
	if what == statement.Alone {
		reason = "The gate does not open, and the ferry is in."
	}
	return statement.Statement{
		Reason:      reason,
		Says:        what,
		Who:         who,
		Application: h.manifest.Application,
		Plan:        h.manifest.ID,
		Digest:      plan.Digest(h.manifest.Bytes()),
		Hosts:       []string{"skiff"},
		Roster:      h.roster.Point(),
		Made:        now.Add(time.Second),
		Until:       now.Add(time.Hour),
	}
}

func (h *harbour) signed(t *testing.T, what, who string) roster.Signed {
	t.Helper()
	return signed(t, h.pens[who], h.says(what, who))
}

// order has the service order the plan, by a run of its own, and returns what the host says.
func (h *harbour) order(t *testing.T, line []roster.Step, signed ...roster.Signed) string {
	t.Helper()
	h.runs++
	o := plan.Order{
		Run:        fmt.Sprintf("0123456789%06x", h.runs),
		Digest:     plan.Digest(h.manifest.Bytes()),
		Host:       "skiff",
		Author:     "quartermaster",
		ApprovedBy: []string{"harbourmaster"},
		Expires:    time.Now().Add(time.Hour),
	}
	if h.alone {
		o.Author, o.ApprovedBy, o.Alone = "bosun", []string{"bosun"}, true
	}
	order, sig := o.Sign(h.key)
	h.s.ended = nil
	must(t, h.a.do(t.Context(), &wire.Work{
		ID:        "w",
		Kind:      wire.WorkRun,
		Order:     order,
		Signature: sig,
		Manifest:  h.manifest.Bytes(),
		Roster:    line,
		Signed:    signed,
	}))
	if len(h.s.ended) != 1 {
		t.Fatalf("the host says %+v", h.s.ended)
	}
	return string(h.s.ended[0].State) + " " + h.s.ended[0].Message
}

func (h *harbour) changed(t *testing.T) bool {
	t.Helper()
	st, err := os.Stat(h.file)
	must(t, err)
	return st.Mode().Perm() != 0o600
}

// What two people of the roster have signed is carried out once, whatever the service says besides.
func TestHostWithARoster(t *testing.T) {
	h := newHarbour(t)
	submitted := h.signed(t, statement.Submitted, "quartermaster")
	approved := h.signed(t, statement.Approved, "harbourmaster")
	for _, list := range [][]roster.Signed{nil, {submitted}, {approved}, {submitted, submitted}} {
		if said := h.order(t, nil, list...); !strings.Contains(said, "refused by the roster") || h.changed(t) {
			t.Fatalf("%d signatures: %s", len(list), said)
		}
	}

	if said := h.order(t, nil, submitted, approved); !strings.HasPrefix(said, "finished") || !h.changed(t) {
		t.Fatalf("two people: %s", said)
	}

	must(t, os.Chmod(h.file, 0o600))
	if said := h.order(t, nil, submitted, approved); !strings.Contains(said, "carried out by run") || h.changed(t) {
		t.Errorf("the same plan by another run: %s", said)
	}
}

// Whom the roster lets put back alone has the host put back what it found itself, and nothing else; whom it lets act
// alone has any plan carried out. A host without a roster does neither.
func TestOnePersonAlone(t *testing.T) {
	h := newHarbour(t)
	all := roster.Everything
	h.gives(t, "bosun", roster.Right{Do: roster.PutBack, Application: all, Host: all})
	h.gives(t, "quartermaster", roster.Right{Do: roster.Alone, Application: "ticketing", Host: "skiff"})
	st, err := os.Stat(h.file)
	must(t, err)
	this := plan.Identity{Inode: st.Sys().(*syscall.Stat_t).Ino}
	two := func() []roster.Signed {
		return []roster.Signed{h.signed(t, statement.Submitted, "quartermaster"),
			h.signed(t, statement.Approved, "harbourmaster")}
	}
	if said := h.order(t, nil, two()...); !strings.HasPrefix(said, "finished") || !h.changed(t) {
		t.Fatalf("two people: %s", said)
	}

	h.alone = true
	tries := []struct {
		name     string
		kind     plan.Kind
		from, to mode.Mode
		file     plan.Identity
		who      string
		want     string
	}{
		{"another kind of plan", plan.Adjustment, 0o666, 0o600, plan.Identity{}, "bosun", "no right"},
		{"what the host never found", plan.Restore, 0o666, 0o644, this, "bosun", "never found"},
		{"of whatever file", plan.Restore, 0o666, 0o600, plan.Identity{}, "bosun", "never found"},
		{"of another file", plan.Restore, 0o666, 0o600, plan.Identity{Inode: 7, Born: 9}, "bosun", "never found"},
		{"somebody without the right", plan.Restore, 0o666, 0o600, this, "harbourmaster", "no right"},
		{"what the host found", plan.Restore, 0o666, 0o600, this, "bosun", ""},
	}
	for _, c := range tries {
		t.Run(c.name, func(t *testing.T) {
			h.leads(c.kind, c.from, c.to, c.file)
			said := h.order(t, nil, h.signed(t, statement.Alone, c.who))
			if c.want != "" && (!strings.Contains(said, c.want) || !h.changed(t)) ||
				c.want == "" && (!strings.HasPrefix(said, "finished") || h.changed(t)) {
				t.Errorf("%s", said)
			}
		})
	}

	// Beside the step that leads back, in a chunk of its own, stands one that opens the same file.
	must(t, os.Chmod(h.file, 0o644))
	h.leads(plan.Restore, 0o644, 0o666, this)
	opens := h.s.chunks[0]
	h.leads(plan.Restore, 0o666, 0o600, this)
	h.s.chunks = append([][]byte{opens}, h.s.chunks...)
	part := &h.manifest.Hosts[0]
	part.Steps, part.Chunks = 2, append([]tree.Hash{plan.Digest(opens)}, part.Chunks...)
	said := h.order(t, nil, h.signed(t, statement.Alone, "bosun"))
	st, err = os.Stat(h.file)
	must(t, err)
	if !strings.Contains(said, "two of its steps") || st.Mode().Perm() != 0o644 {
		t.Errorf("a path twice: %s, %s", said, st.Mode())
	}
	must(t, os.Chmod(h.file, 0o600))
	part.Steps = 1

	h.leads(plan.Adjustment, 0o600, 0o640, plan.Identity{})
	if said := h.order(t, nil, h.signed(t, statement.Alone, "quartermaster")); !strings.HasPrefix(said, "finished") {
		t.Errorf("whoever may act alone: %s", said)
	}

	must(t, os.Remove(filepath.Join(h.a.Folder, rosterFile)))
	h.a.Settings.Roster = ""
	must(t, h.a.Settings.save(h.a.Folder))
	h.leads(plan.Adjustment, 0o640, 0o600, plan.Identity{})
	if said := h.order(t, nil, h.signed(t, statement.Alone, "bosun")); !strings.Contains(said, "without a roster") {
		t.Errorf("without a roster: %s", said)
	}
}

// Where the roster names people who may put back alone, root on the host takes their signature for it: of this run, by
// this edition, by a key of theirs. Where it names nobody, root decides, as on a host without a roster.
func TestPutBackIsSigned(t *testing.T) {
	h := newHarbour(t)
	first := h.run(t)
	if b, err := h.putBack(first, nobodySigns); err != nil || !b.Whole() || h.changed(t) {
		t.Fatalf("the roster names nobody: %+v, %v", b, err)
	}

	h.gives(t, "bosun", roster.Right{Do: roster.PutBack, Application: "ticketing", Host: "skiff"})
	second := h.run(t)
	over := func(made, until time.Duration) func(*statement.Statement) {
		return func(s *statement.Statement) { s.Made, s.Until = s.Made.Add(made), s.Made.Add(until) }
	}
	for _, c := range []struct {
		name, who, key string
		change         func(*statement.Statement)
		want           string
	}{
		{"nobody", "", "", nil, "nobody is here"},
		{"somebody without the right", "harbourmaster", "harbourmaster", nil, "no right"},
		{"by somebody else's key", "bosun", "harbourmaster", nil, "none of bosun"},
		{"of another run", "bosun", "bosun", func(s *statement.Statement) { s.Plan = first }, "another plan"},
		{"of other steps", "bosun", "bosun", func(s *statement.Statement) { s.Digest[3]++ }, "another plan"},
		{"on another host", "bosun", "bosun", func(s *statement.Statement) { s.Hosts[0] = "punt" }, "another plan"},
		{"by no edition", "bosun", "bosun", func(s *statement.Statement) { s.Roster.Hash[0]++ }, "does not know"},
		{"from before", "bosun", "bosun", over(-time.Hour, time.Hour), "before this host was enrolled"},
		{"what is over", "bosun", "bosun", over(-time.Hour, -time.Minute), "was good until"},
		{"an approval", "bosun", "bosun", func(s *statement.Statement) {
			s.Says, s.Reason = statement.Approved, ""
		}, "refused by the roster"},
	} {
		t.Run(c.name, func(t *testing.T) {
			sign := nobodySigns
			if c.who != "" {
				sign = h.consents(t, c.who, c.key, c.change)
			}
			b, err := h.putBack(second, sign)
			if err == nil || !strings.Contains(err.Error(), c.want) || !h.changed(t) {
				t.Errorf("%+v, %v", b, err)
			}
		})
	}

	var earlier roster.Signed
	b, err := h.putBack(second, func(ask Consent) (_ roster.Signed, err error) {
		earlier, err = h.consents(t, "bosun", "bosun", nil)(ask)
		return earlier, err
	})
	if err != nil || !b.Whole() || h.changed(t) {
		t.Fatalf("who may: %+v, %v", b, err)
	}
	runs, faults := LocalRuns(h.a.Folder)
	named := func(r LocalRun) bool { return r.Run == b.Run && r.By == "bosun" }
	if len(faults) > 0 || !slices.ContainsFunc(runs, named) {
		t.Errorf("%+v, %v", runs, faults)
	}
	h.replay(t, b.Run, earlier)
	again := func(Consent) (roster.Signed, error) { return earlier, nil }
	if b, err := h.putBack(b.Run, again); err == nil || !strings.Contains(err.Error(), "another plan") {
		t.Errorf("the same signature for the next: %+v, %v", b, err)
	}
}

// replay has the service order what somebody signed for the host alone, of the host's own plan: it was carried out.
func (h *harbour) replay(t *testing.T, run string, signed roster.Signed) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(h.a.Folder, "runs", run, manifestFile))
	must(t, err)
	m, err := plan.ParseManifest(text)
	must(t, err)
	chunk, err := os.ReadFile((&stored{folder: filepath.Join(h.a.Folder, "runs", run)}).file(0))
	must(t, err)
	was, chunks := h.manifest, h.s.chunks
	defer func() { h.manifest, h.s.chunks, h.alone = was, chunks, false }()
	h.manifest, h.s.chunks, h.alone = m, [][]byte{chunk}, true
	if said := h.order(t, nil, signed); !strings.Contains(said, "carried out by run "+run) {
		t.Errorf("the same by an order of the service: %s", said)
	}
}

// A run whose plan an earlier version did not keep says of no application: whoever may put back for every one may put
// it back. What somebody wrote in the plan's place says nothing.
func TestPutBackOfAnEarlierVersion(t *testing.T) {
	h := newHarbour(t)
	h.gives(t, "bosun", roster.Right{Do: roster.PutBack, Application: "ticketing", Host: "skiff"})
	run := h.run(t)
	file := filepath.Join(h.a.Folder, "runs", run, manifestFile)
	must(t, os.WriteFile(file, []byte("{}"), 0o600))
	if b, err := h.putBack(run, nobodySigns); err == nil || !strings.Contains(err.Error(), "not the plan") {
		t.Errorf("another plan in its place: %+v, %v", b, err)
	}

	must(t, os.Remove(file))
	h.gives(t, "bosun", roster.Right{Do: roster.Alone, Application: roster.Everything, Host: roster.Everything})
	if b, err := h.putBack(run, nobodySigns); err == nil || !strings.Contains(err.Error(), "nobody is here") {
		t.Errorf("by nobody: %+v, %v", b, err)
	}
	if b, err := h.putBack(run, h.consents(t, "bosun", "bosun", nil)); err != nil || !b.Whole() || h.changed(t) {
		t.Errorf("by who may for all: %+v, %v", b, err)
	}
}

func nobodySigns(Consent) (roster.Signed, error) {
	return roster.Signed{}, errors.New("nobody is here")
}

// run has two people open the file, and returns the run's name.
func (h *harbour) run(t *testing.T) string {
	t.Helper()
	h.manifest.Title = fmt.Sprint("the gate, time ", h.runs)
	later := func(what, who string) roster.Signed {
		st := h.says(what, who)
		st.Made = st.Made.Add(time.Duration(h.runs) * 20 * time.Second)
		return signed(t, h.pens[who], st)
	}
	said := h.order(t, nil, later(statement.Submitted, "quartermaster"), later(statement.Approved, "harbourmaster"))
	if !strings.HasPrefix(said, "finished") || !h.changed(t) {
		t.Fatalf("two people: %s", said)
	}
	return fmt.Sprintf("0123456789%06x", h.runs)
}

func (h *harbour) putBack(run string, sign Sign) (Back, error) {
	return PutBack(context.Background(), h.a.Folder, run, func(string) bool { return true }, sign)
}

// consents has somebody sign, by whosever key, what the host asks for, or what was changed of it. Each time it is
// further ahead of the clock, since what was signed before the newest that a host has acted by does not count where a
// roster is pinned again.
func (h *harbour) consents(t *testing.T, who, key string, change func(*statement.Statement)) Sign {
	return func(ask Consent) (roster.Signed, error) {
		ahead := time.Duration(h.runs)*20*time.Second - 10*time.Second
		b, err := ask.Statement(who, "The gate does not open.", time.Now().Add(ahead))
		must(t, err)
		st, err := statement.Parse(b)
		must(t, err)
		if change != nil {
			change(&st)
		}
		return signed(t, h.pens[key], st), nil
	}
}

// The service has all its keys, and whatever people have signed: for other plans, for this one as the edition before
// let them, and elsewhere. It makes up a thousand orders and more, and none of them changes anything.
func TestServiceIsTheAttacker(t *testing.T) {
	r := seeded.Rand(t)
	h := newHarbour(t)
	a := &attacker{harbour: h, r: r, tried: map[string]int{}}
	a.leftBehind(t)

	tries := testkit.Rounds(1200, 10_000)
	for range tries {
		list, line := a.order(t)
		if said := h.order(t, line, list...); strings.HasPrefix(said, "finished") || h.changed(t) {
			for _, s := range list {
				t.Logf("%s%s", s.Statement, s.Key.Fingerprint())
			}
			t.Fatalf("the host says: %s", said)
		}
	}
	t.Logf("%d orders that two people did not sign, none carried out, by %v", tries, a.tried)
	if want := len(forgeries) + 3; len(a.tried) != want {
		t.Errorf("%d ways were tried, want %d", len(a.tried), want)
	}
}

// An attacker has the service, and what people have signed.
type attacker struct {
	*harbour
	r     *mathrand.Rand
	tried map[string]int

	have     []roster.Signed // signed for other plans, and by whoever submitted this one
	done     plan.Manifest   // that was carried out once
	signed   []roster.Signed // what two people signed of it
	manifest plan.Manifest   // that the attacker wants
	first    roster.Step     // the edition before
}

// leftBehind has people sign what the attacker has then, and leave: the bosun had approved the plan.
func (a *attacker) leftBehind(t *testing.T) {
	t.Helper()
	h := a.harbour
	a.manifest = h.manifest
	a.have = []roster.Signed{h.signed(t, statement.Submitted, "quartermaster"),
		h.signed(t, statement.Approved, "bosun")}
	document, err := h.roster.Bytes()
	must(t, err)
	a.first = roster.Step{Roster: document}
	second := h.enacted(t, func(next *roster.Roster) { next.People = slices.Clone(next.People)[1:] })
	h.roster, err = roster.Parse(second.Roster)
	must(t, err)

	h.manifest.Title = "Another plan"
	a.signed = []roster.Signed{h.signed(t, statement.Submitted, "quartermaster"),
		h.signed(t, statement.Approved, "harbourmaster")}
	a.done = h.manifest
	if said := h.order(t, []roster.Step{second}, a.signed...); !strings.HasPrefix(said, "finished") {
		t.Fatalf("what two people signed: %s", said)
	}
	must(t, os.Chmod(h.file, 0o600))

	h.manifest.Title = "A third plan"
	for _, who := range []string{"harbourmaster", "quartermaster"} {
		for _, what := range []string{statement.Submitted, statement.Approved, statement.Alone} {
			a.have = append(a.have, h.signed(t, what, who))
		}
	}
	h.manifest = a.manifest
	a.have = append(append(a.have, a.signed...), h.signed(t, statement.Submitted, "quartermaster"))
}

// order makes up an order, and what comes with it.
func (a *attacker) order(t *testing.T) (list []roster.Signed, line []roster.Step) {
	t.Helper()
	a.harbour.manifest, a.alone = a.manifest, a.r.IntN(4) == 0
	list = slices.Clone(a.have)
	if a.r.IntN(8) == 0 {
		a.tried["replays"]++
		a.harbour.manifest, list = a.done, slices.Clone(a.signed)
	}
	for range 1 + a.r.IntN(3) {
		name := slices.Sorted(maps.Keys(forgeries))[a.r.IntN(len(forgeries))]
		a.tried[name]++
		says := []string{statement.Approved, statement.Approved, statement.Alone}[a.r.IntN(3)]
		wanted, err := a.says(says, []string{"bosun", "harbourmaster", "purser"}[a.r.IntN(3)]).Bytes()
		must(t, err)
		list = append(list, forgeries[name](t, a, wanted))
	}
	a.r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
	if a.r.IntN(6) == 0 {
		a.tried["truncated lists"]++
		list = list[:a.r.IntN(len(list))]
	}

	switch a.r.IntN(6) {
	case 0:
		a.tried["rosters of their own"]++
		line = []roster.Step{a.takeover(t, a.have)}
	case 1:
		line = []roster.Step{a.first}
	}
	return list, line
}

// forgeries are ways to come by a signature of what is wanted, without whoever would have to sign it.
var forgeries = map[string]func(t *testing.T, a *attacker, wanted []byte) roster.Signed{
	"exchanged statements": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		old := a.have[a.r.IntN(len(a.have))]
		old.Statement = wanted
		return old
	},
	"mutated statements": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		old := a.have[a.r.IntN(len(a.have))]
		b := slices.Clone(old.Statement)
		b[a.r.IntN(len(b))] = wanted[a.r.IntN(len(wanted))]
		old.Statement = b
		return old
	},
	"older forms": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		form := []string{"statement 0", "statement 2", "Statement 1"}[a.r.IntN(3)]
		wanted = bytes.Replace(wanted, []byte("statement 1"), []byte(form), 1)
		return roster.Signed{Statement: wanted, Key: a.pens["harbourmaster"].Key,
			Signature: a.pens["harbourmaster"].Sign(wanted)}
	},
	"somebody's key, signed by another": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		return roster.Signed{Statement: wanted, Key: a.pens["harbourmaster"].Key,
			Signature: a.pens["stowaway"].Sign(wanted)}
	},
	"a key of nobody": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		return roster.Signed{Statement: wanted, Key: a.pens["stowaway"].Key, Signature: a.pens["stowaway"].Sign(wanted)}
	},
	"a key of who has left": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		return roster.Signed{Statement: wanted, Key: a.pens["bosun"].Key, Signature: a.pens["bosun"].Sign(wanted)}
	},
	"the submitter approves": func(t *testing.T, a *attacker, _ []byte) roster.Signed {
		return a.harbour.signed(t, statement.Approved, "quartermaster")
	},
	"acting alone without the right": func(t *testing.T, a *attacker, _ []byte) roster.Signed {
		a.alone = true
		return a.harbour.signed(t, statement.Alone, "quartermaster")
	},
	"wrong namespaces": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		namespace := []string{"git", "file", "", "statement@idletally2"}[a.r.IntN(4)]
		sig := a.pens["harbourmaster"].SignFor(namespace, wanted)
		if a.r.IntN(2) == 0 && namespace != "" { // and says that it is the right one
			sig.SSH = bytes.Replace(sig.SSH, append([]byte{byte(len(namespace))}, namespace...),
				append([]byte{byte(len(signature.Namespace))}, signature.Namespace...), 1)
		}
		return roster.Signed{Statement: wanted, Key: a.pens["harbourmaster"].Key, Signature: sig}
	},
	"other sites": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		return a.touched(t, wanted, "attacker.example", verified, passkeys.Signing(signature.Challenge(wanted), origin))
	},
	"other origins": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		said := passkeys.Signing(signature.Challenge(wanted), []string{"https://attacker.example",
			"https://tally.example:444", "http://tally.example", "https://tally.example.attacker.example"}[a.r.IntN(4)])
		return a.touched(t, wanted, site, verified, said)
	},
	"nobody verified": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		return a.touched(t, wanted, site, []byte{0, 1 << 0, 1 << 2}[a.r.IntN(3)],
			passkeys.Signing(signature.Challenge(wanted), origin))
	},
	"in a frame": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		said := passkeys.Signing(signature.Challenge(wanted), origin)
		said.CrossOrigin = true
		return a.touched(t, wanted, site, verified, said)
	},
	"signing in": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		var challenge [32]byte
		_, _ = rand.Read(challenge[:])
		return a.touched(t, wanted, site, verified, passkeys.Signing(challenge[:], origin))
	},
	"registering": func(t *testing.T, a *attacker, wanted []byte) roster.Signed {
		said := passkeys.Signing(signature.Challenge(wanted), origin)
		said.Type = "webauthn.create"
		return a.touched(t, wanted, site, verified, said)
	},
}

// What the purser signs in the right place counts: the forgeries of it are ones.
func TestPasskeyOnAHost(t *testing.T) {
	h := newHarbour(t)
	text, err := h.says(statement.Approved, "purser").Bytes()
	must(t, err)
	approved := h.touched(t, text, site, verified, passkeys.Signing(signature.Challenge(text), origin))
	if said := h.order(t, nil, h.signed(t, statement.Submitted, "quartermaster"), approved); !h.changed(t) {
		t.Error(said)
	}
}

// takeover is an edition with the attacker in it, with every signature that there is.
func (h *harbour) takeover(t *testing.T, have []roster.Signed) roster.Step {
	t.Helper()
	next := h.roster
	next.Edition, next.Before = h.roster.Edition+1, h.roster.Digest()
	next.People = append(slices.Clone(next.People), roster.Person{
		Name:   "stowaway",
		Keys:   []roster.NamedKey{{Name: "key", Key: h.pens["stowaway"].Key}},
		Rights: everywhere,
	})
	document, err := next.Bytes()
	must(t, err)
	s := h.says(statement.Enacted, "stowaway")
	s.Application, s.Plan, s.Hosts, s.Digest = "", "", nil, next.Digest()
	return roster.Step{Roster: document, Signed: append(slices.Clone(have), signed(t, h.pens["stowaway"], s))}
}

// enacted is the next edition, as the harbourmaster and the quartermaster have enacted it.
func (h *harbour) enacted(t *testing.T, change func(next *roster.Roster)) roster.Step {
	t.Helper()
	next := h.roster
	next.Edition, next.Before = h.roster.Edition+1, h.roster.Digest()
	change(&next)
	document, err := next.Bytes()
	must(t, err)
	step := roster.Step{Roster: document}
	for _, who := range []string{"harbourmaster", "quartermaster"} {
		s := h.says(statement.Enacted, who)
		s.Application, s.Plan, s.Hosts, s.Digest = "", "", nil, next.Digest()
		step.Signed = append(step.Signed, signed(t, h.pens[who], s))
	}
	return step
}

// A service does not know which edition a host has come to: an order that comes again, to be resumed or because its
// answer was lost, brings the same line, and is the same order. Another edition of the same number is none.
func TestLineThatComesAgain(t *testing.T) {
	h := newHarbour(t)
	submitted := h.signed(t, statement.Submitted, "quartermaster")
	approved := h.signed(t, statement.Approved, "harbourmaster")
	second := h.enacted(t, func(next *roster.Roster) { next.People = slices.Clone(next.People)[1:] })
	forked := h.enacted(t, func(next *roster.Roster) { next.Threshold = 3 })
	first := h.roster
	var err error
	h.roster, err = roster.Parse(second.Roster)
	must(t, err)
	third := h.enacted(t, func(next *roster.Roster) { next.Until = next.Until.AddDate(1, 0, 0) })
	fork := h.enacted(t, func(next *roster.Roster) { next.Until = next.Until.AddDate(2, 0, 0) })
	document, err := first.Bytes()
	must(t, err)
	pinned := roster.Step{Roster: document} // before anybody enacted anything

	for _, line := range [][]roster.Step{{second}, {second, third}} { // the answer is lost, and some follow
		if said := h.order(t, line, submitted); !strings.Contains(said, "takes somebody who submits") {
			t.Fatalf("one person: %s", said)
		}
	}
	for name, line := range map[string][]roster.Step{
		"another second edition": {forked},
		"another third edition":  {second, fork},
		"no roster":              {{Roster: []byte("x")}},
	} {
		if said := h.order(t, line, submitted, approved); !strings.Contains(said, "do not follow") || h.changed(t) {
			t.Errorf("%s: %s", name, said)
		}
	}
	if said := h.order(t, []roster.Step{pinned, second, third}, submitted, approved); !strings.HasPrefix(said,
		"finished") || !h.changed(t) {
		t.Fatalf("the whole line again: %s", said)
	}

	h.runs-- // the same run
	if said := h.order(t, []roster.Step{second, third}, submitted, approved); !strings.HasPrefix(said, "finished") {
		t.Errorf("the same order again: %s", said)
	}
}

// A host goes along the line, remembers where it has been, and goes back for nobody.
func TestHostFollowsItsRoster(t *testing.T) {
	h := newHarbour(t)
	submitted := h.signed(t, statement.Submitted, "quartermaster")
	byBosun := h.signed(t, statement.Approved, "bosun")
	first := h.roster

	step := h.enacted(t, func(next *roster.Roster) {
		next.People = slices.Clone(first.People)[1:] // the bosun has left
	})

	if said := h.order(t, []roster.Step{step}, submitted, byBosun); !strings.Contains(said,
		"bosun is not in edition 2") {
		t.Fatalf("somebody who has left: %s", said)
	}
	if said := h.order(t, nil, submitted, byBosun); !strings.Contains(said, "bosun is not in edition 2") ||
		h.changed(t) {
		t.Fatalf("back to the first edition: %s", said)
	}
	old, err := first.Bytes()
	must(t, err)
	if _, err := PinRoster(h.a.Folder, old, first.Digest()); err == nil {
		t.Error("an edition from before is pinned")
	}

	approved := h.signed(t, statement.Approved, "harbourmaster") // by the first edition, which the host came by
	if said := h.order(t, nil, submitted, approved); !strings.HasPrefix(said, "finished") || !h.changed(t) {
		t.Errorf("two who have stayed: %s", said)
	}
}

// What the host keeps of its roster and cannot read lets nothing happen.
func TestRosterThatCannotBeRead(t *testing.T) {
	h := newHarbour(t)
	file := filepath.Join(h.a.Folder, rosterFile)
	whole, err := os.ReadFile(file)
	must(t, err)
	var kept map[string]any
	must(t, json.Unmarshal(whole, &kept))
	kept["document"] = "AAAA"
	other, err := json.Marshal(kept)
	must(t, err)
	for name, bad := range map[string][]byte{
		"empty": {}, "cut off": whole[:len(whole)/2], "another document": other, "a list": []byte("[]"),
	} {
		t.Run(name, func(t *testing.T) {
			must(t, os.WriteFile(file, bad, 0o600))
			said := h.order(t, nil, h.signed(t, statement.Submitted, "quartermaster"),
				h.signed(t, statement.Approved, "harbourmaster"))
			if !strings.Contains(said, "cannot be read") || h.changed(t) {
				t.Errorf("it says %s", said)
			}
		})
	}
}

// A roster that is gone lets nothing happen either, until the same one is pinned again; what people signed before then
// counts for nothing.
func TestRosterThatIsGone(t *testing.T) {
	h := newHarbour(t)
	before := []roster.Signed{h.signed(t, statement.Submitted, "quartermaster"),
		h.signed(t, statement.Approved, "harbourmaster")}
	must(t, os.Remove(filepath.Join(h.a.Folder, rosterFile)))
	if said := h.order(t, nil, before...); !strings.Contains(said, "cannot be read") || h.changed(t) {
		t.Fatalf("without it: %s", said)
	}

	other := h.roster
	other.Threshold = 3
	document, err := other.Bytes()
	must(t, err)
	if _, err := PinRoster(h.a.Folder, document, other.Digest()); err == nil {
		t.Error("another roster takes the place of one that is gone")
	}
	time.Sleep(2 * time.Second) // what they signed is a second ahead
	h.pin(t)
	if said := h.order(t, nil, before...); !strings.Contains(said, "before this host was enrolled") || h.changed(t) {
		t.Errorf("what was signed before: %s", said)
	}
	if said := h.order(t, nil, h.signed(t, statement.Submitted, "quartermaster"),
		h.signed(t, statement.Approved, "harbourmaster")); !strings.HasPrefix(said, "finished") {
		t.Errorf("what is signed now: %s", said)
	}
}

// What a host did by its people's signatures it does not do again, although its folder was wiped and its clock was
// turned back since: what it acted by is noted elsewhere.
func TestFolderWipedAndClockTurnedBack(t *testing.T) {
	h := newHarbour(t)
	signed := []roster.Signed{h.signed(t, statement.Submitted, "quartermaster"),
		h.signed(t, statement.Approved, "harbourmaster")}
	if said := h.order(t, nil, signed...); !strings.HasPrefix(said, "finished") {
		t.Fatal(said)
	}
	must(t, os.Chmod(h.file, 0o600))

	// The settings come back by another enrolment, and nothing else does. By its own clock all that was signed is to
	// come.
	settings := h.a.Settings
	settings.Roster = ""
	must(t, os.RemoveAll(h.a.Folder))
	must(t, os.Mkdir(h.a.Folder, 0o700))
	must(t, settings.save(h.a.Folder))
	h.pin(t)
	if said := h.order(t, nil, signed...); !strings.Contains(said, "before this host was enrolled") || h.changed(t) {
		t.Errorf("the same order after the folder was wiped: %s", said)
	}

	// A clock that says what time it was does not bring back what is over.
	must(t, keepSince(h.a.Folder, time.Now().Add(2*time.Hour)))
	if said := h.order(t, nil, h.signed(t, statement.Submitted, "quartermaster"),
		h.signed(t, statement.Approved, "harbourmaster")); !strings.Contains(said, "good until") || h.changed(t) {
		t.Errorf("what is over: %s", said)
	}

	must(t, keepSince(h.a.Folder, time.Now())) // and it only rises
	if since, err := readSince(h.a.Folder); err != nil || since.Before(time.Now().Add(time.Hour)) {
		t.Errorf("%s, %v", since, err)
	}
	must(t, os.Chmod(sinceFile(h.a.Folder), 0o666))
	if said := h.order(t, nil, signed...); !strings.Contains(said, "cannot be read") || h.changed(t) {
		t.Errorf("a note that others can write: %s", said)
	}
	must(t, os.Chmod(sinceFile(h.a.Folder), 0o600))
	must(t, os.WriteFile(sinceFile(h.a.Folder), []byte("yesterday"), 0o600))
	if said := h.order(t, nil, signed...); !strings.Contains(said, "cannot be read") || h.changed(t) {
		t.Errorf("a note that cannot be read: %s", said)
	}
}

// Pinning takes the fingerprint that somebody compared, and is for good: for whoever enrols the host anew, too.
func TestPinRoster(t *testing.T) {
	h := newHarbour(t)
	document, err := h.roster.Bytes()
	must(t, err)
	folder := t.TempDir()
	settings := Settings{Host: "skiff", Roots: []string{"/srv"}}
	must(t, settings.save(folder))
	if _, err := PinRoster(folder, document, tree.Sum(nil)); err == nil {
		t.Error("a roster of another fingerprint is pinned")
	}
	if here, err := RosterOf(folder); here != nil || err != nil {
		t.Errorf("%+v, %v", here, err)
	}
	for range 2 { // the same one again changes nothing
		_, err = PinRoster(folder, document, h.roster.Digest())
		must(t, err)
	}
	if here, err := RosterOf(folder); err != nil || here == nil || here.Edition != 1 || here.Plans != 0 {
		t.Errorf("%+v, %v", here, err)
	}

	free, err := lock(folder)
	must(t, err)
	if _, err := PinRoster(folder, document, h.roster.Digest()); err == nil {
		t.Error("it is pinned while an agent works there")
	}
	free()

	key, _, err := newKey()
	must(t, err)
	j := Joining{Folder: folder, Roots: []string{"/srv"}, key: key}
	must(t, j.Accept(wire.Enrolled{Host: "skiff", Certificate: certificateOf(t, key), Enrolment: "another"}))
	if s, err := Load(folder); err != nil || s.Roster != h.roster.Digest().String() || s.Enrolment != "another" {
		t.Errorf("%+v, %v", s, err)
	}
}

// certificateOf makes a certificate for a key.
func certificateOf(t *testing.T, key []byte) []byte {
	t.Helper()
	block, _ := pem.Decode(key)
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	must(t, err)
	form := &x509.Certificate{SerialNumber: big.NewInt(1)}
	der, err := x509.CreateCertificate(rand.Reader, form, form, k.(*ecdsa.PrivateKey).Public(), k)
	must(t, err)
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}
