package app

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/signature"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
	"idletally/internal/service/fault"
	"idletally/internal/service/passkey"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// The service keeps the roster and what people sign, and checks both so that nobody finds out on a host what is
// missing. What counts is what hosts check by themselves: nothing here can make them do anything.

// maxLine is how many editions, and maxLineBytes how many bytes of them, go to a host at once.
const (
	maxLine      = 1000
	maxLineBytes = 8 << 20
)

// ahead is how far what somebody signed may be from the service's clock.
const ahead = 10 * time.Minute

// roster returns the edition that counts; ok is false where there is none.
func (s *App) roster(ctx context.Context) (r roster.Roster, ok bool, err error) {
	e, err := s.store.Roster(ctx)
	if isNotFound(err) {
		return r, false, nil
	}
	if err == nil {
		r, err = parseRoster(e)
	}
	return r, err == nil, err
}

// errNoRoster says that people cannot sign yet.
var errNoRoster = fault.Conflict(
	"there is no roster yet: an admin proposes the first edition (idletally roster propose)")

// stating begins what the caller is to sign: who they are, when, by which edition, and where the history ends.
func (s *App) stating(
	ctx context.Context, says string, r roster.Roster, life time.Duration,
) (statement.Statement, error) {
	head, err := s.store.Head(ctx)
	made := time.Now().UTC().Truncate(time.Second)
	return statement.Statement{
		Says:    says,
		Who:     CallerOf(ctx).Name,
		Roster:  r.Point(),
		History: statement.Point{Number: head.Seq, Hash: tree.Hash(head.Hash)},
		Made:    made,
		Until:   made.Add(life),
	}, err
}

// signedNow returns an error unless something was signed just now, by the service's clock, which it was made by.
func signedNow(st statement.Statement) error {
	if time.Since(st.Made).Abs() > ahead {
		return errors.New("it was signed too long ago, or by a clock that is wrong: sign again")
	}
	return nil
}

// toSign returns what the caller is to sign, with the keys by which they can.
func (s *App) toSign(ctx context.Context, r roster.Roster, st statement.Statement) (*wire.ToSign, error) {
	text, err := st.Bytes()
	if err != nil {
		return nil, fault.Invalid(err.Error())
	}
	out := &wire.ToSign{
		Statement: string(text),
		Site:      r.Site,
		Keys:      []wire.RosterKey{},
		Passkeys:  []wire.PasskeyOfKey{},
	}

	keys := r.Enacting(st.Who)
	if st.Says != statement.Enacted {
		own := r.Person(st.Who)
		if own == nil {
			return nil, fault.Forbidden("you are not in the roster: propose an edition that has you")
		}
		keys = own.Keys
	}
	for _, k := range keys {
		out.Keys = append(out.Keys, wireKey(k))
	}

	held, err := s.ownPasskeys(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range held {
		if slices.ContainsFunc(keys, func(k roster.NamedKey) bool { return k.Key == p.key }) {
			id := base64.RawURLEncoding.EncodeToString(p.credential)
			out.Passkeys = append(out.Passkeys, wire.PasskeyOfKey{ID: id, Key: p.key.String()})
		}
	}
	return out, nil
}

// A heldPasskey is a passkey as somebody can sign by it.
type heldPasskey struct {
	store.Passkey
	key        signature.Key
	credential []byte
}

// ownPasskeys returns the caller's passkeys that can sign.
func (s *App) ownPasskeys(ctx context.Context) ([]heldPasskey, error) {
	rows, err := s.store.Passkeys(ctx, CallerOf(ctx).Name)
	return s.signingPasskeys(rows), err
}

// signingPasskeys returns those of some passkeys that can sign.
func (s *App) signingPasskeys(rows []store.Passkey) (out []heldPasskey) {
	for _, p := range rows {
		kept, err := s.unseal(passkeyOf(p.Person), p.Sealed)
		if err != nil {
			s.log.Error("a passkey in the database is not this person's", "person", p.Person, "passkey", p.ID)
			continue
		}
		if key, id, err := passkey.Key(kept); err == nil { // others are of kinds that cannot sign
			out = append(out, heldPasskey{p, key, id})
		}
	}
	return out
}

// rosterThatCounts returns the edition by which people sign; errNoRoster where there is none.
func (s *App) rosterThatCounts(ctx context.Context) (roster.Roster, error) {
	r, ok, err := s.roster(ctx)
	if err == nil && !ok {
		err = errNoRoster
	}
	return r, err
}

func wireKey(k roster.NamedKey) wire.RosterKey {
	return wire.RosterKey{
		Name:        k.Name,
		Kind:        k.Key.Kind(),
		Text:        k.Key.String(),
		Fingerprint: k.Key.Fingerprint(),
		Counts:      true,
	}
}

// A signable is a plan as people sign it.
type signable struct {
	store.Plan
	plan.Manifest
	hosts   []string     // of the manifest, in its order
	knowing []store.Host // those of them that act by a roster
}

// signable returns a plan as people sign it.
func (s *App) signable(ctx context.Context, p store.Plan) (x signable, err error) {
	x.Plan = p
	if x.Manifest, err = plan.ParseManifest(p.Manifest); err != nil {
		return x, err
	}
	for _, h := range x.Manifest.Hosts {
		x.hosts = append(x.hosts, h.Host)
	}
	x.knowing, err = s.store.HostsWithRoster(ctx, x.hosts)
	return x, err
}

// order is what a host is to do, as it will see it.
func (x signable) order(host string) roster.Order {
	return roster.Order{
		Plan:        x.Plan.ID,
		Application: x.Plan.Application,
		Digest:      plan.Digest(x.Plan.Manifest),
		Hosts:       x.hosts,
		Host:        host,
		PutsBack:    x.Manifest.Kind == plan.Restore,
	}
}

// meant is what somebody says of a plan as they sign it.
type meant struct {
	says   string
	words  map[string]string // on its grave cautions
	reason string            // of who acts alone
}

// on adds what somebody means to a statement.
func (m meant) on(st *statement.Statement) {
	st.Words = wordList(m.words)
	if m.says == statement.Alone {
		st.Reason = statement.Line(m.reason)
	}
}

func (x signable) knowingNames() []string {
	names := make([]string, len(x.knowing))
	for i, h := range x.knowing {
		names[i] = h.Name
	}
	return names
}

// wordList returns what somebody says of cautions as statements have it: in order, each in one line.
func wordList(words map[string]string) (out []statement.Word) {
	for caution, text := range words {
		out = append(out, statement.Word{Caution: caution, Text: statement.Line(text)})
	}
	slices.SortFunc(out, func(a, b statement.Word) int { return strings.Compare(a.Caution, b.Caution) })
	return out
}

// StatementRequest is the request of [App.WriteStatement].
type StatementRequest struct {
	ID   string `path:"id" maxLength:"16"`
	Body wire.WantedStatement
}

// WriteStatement returns the text that the caller is to sign of a plan, and the keys by which they can.
func (s *App) WriteStatement(ctx context.Context, in *StatementRequest) (*wire.ToSign, error) {
	p, err := s.store.Plan(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	r, err := s.rosterThatCounts(ctx)
	if err != nil {
		return nil, err
	}
	x, err := s.signable(ctx, p)
	if err != nil {
		return nil, err
	}
	life := orderLife
	if in.Body.Says == statement.Alone {
		life = aloneLife + orderLife - approvalLife
	}
	st, err := s.stating(ctx, in.Body.Says, r, life)
	if err != nil {
		return nil, err
	}

	st.Application, st.Plan, st.Digest, st.Hosts = p.Application, p.ID, plan.Digest(p.Manifest), x.hosts
	if st.Says != statement.Submitted {
		cautions, err := s.engine.Cautions(ctx, p)
		if err != nil {
			return nil, err
		}
		words, err := wordsOn(cautions, in.Body.Words)
		if err != nil {
			return nil, err
		}
		meant{st.Says, words, in.Body.Reason}.on(&st)
	}
	return s.toSign(ctx, r, st)
}

// signedPlan checks what the caller signed of a plan, and returns what is to be stored of it. Nothing signed is nothing
// to be stored, unless hosts of the plan act by a roster.
func (s *App) signedPlan(
	ctx context.Context, p store.Plan, m meant, given *roster.Signed,
) (g store.Signature, err error) {
	x, err := s.signable(ctx, p)
	if err != nil {
		return g, err
	}
	r, ok, err := s.roster(ctx)
	switch {
	case err != nil:
		return g, err
	case given == nil && len(x.knowing) == 0:
		return g, nil
	case given == nil:
		return g, fault.Invalid("people sign plans of " + strings.Join(x.knowingNames(), ", ") +
			" by keys of their own: sign it in the console, or with --sign")
	case !ok:
		return g, errNoRoster
	}

	if err := x.fits(r, m, CallerOf(ctx).Name, *given); err != nil {
		return g, fault.Invalid("what was signed does not fit: " + err.Error())
	}
	if err := s.useKey(ctx, given.Key); err != nil {
		return g, err
	}
	g = store.Signature{Says: m.says, Who: CallerOf(ctx).Name}
	g.Signed, err = json.Marshal(given)
	return g, err
}

// fits returns how what somebody signed is not what they do now, or would not count on a host that asks for it.
func (x signable) fits(r roster.Roster, m meant, who string, given roster.Signed) error {
	st, err := statement.Parse(given.Statement)
	if err != nil {
		return err
	}
	want := st
	m.on(&want)
	switch {
	case st.Says != m.says || st.Who != who:
		return fmt.Errorf("it is what %s says, and not what you say: %s", st.Who, m.says)
	case !slices.Equal(st.Words, want.Words):
		return errors.New("what it says of grave cautions is not what you say of them")
	case st.Reason != want.Reason:
		return errors.New("the reason in it is not the one that you give")
	case st.Roster != r.Point():
		return fmt.Errorf("it names another edition of the roster than %d, which counts now: sign again", r.Edition)
	}
	if err := signedNow(st); err != nil {
		return err
	}

	asked := x.knowingNames()
	if len(asked) == 0 {
		asked = x.hosts
	}
	for _, host := range asked {
		if _, err := r.Said(x.order(host), given, nobodyKnows, time.Now()); err != nil {
			return fmt.Errorf("host %s would refuse it: %w", host, err)
		}
	}
	return nil
}

func nobodyKnows(statement.Point) bool { return false }

// useKey records that the caller has signed by a key.
func (s *App) useKey(ctx context.Context, k signature.Key) error {
	if k.Kind() != signature.WebAuthn {
		return s.store.UseSigningKey(ctx, hashOfKey(k))
	}
	held, err := s.ownPasskeys(ctx)
	for _, p := range held {
		if p.key == k {
			err = errors.Join(err, s.store.PasskeySigned(ctx, p.ID))
		}
	}
	return err
}

func hashOfKey(k signature.Key) []byte {
	sum := sha256.Sum256([]byte(k.String()))
	return sum[:]
}

// signaturesOf returns what people have signed of a plan.
func (s *App) signaturesOf(ctx context.Context, plan string) (out []roster.Signed, err error) {
	rows, err := s.store.PlanSignatures(ctx, plan)
	if err != nil {
		return nil, err
	}
	return signedRows(rows)
}

func signedRows(rows []store.Signature) ([]roster.Signed, error) {
	out := make([]roster.Signed, len(rows))
	for i, g := range rows {
		if err := json.Unmarshal(g.Signed, &out[i]); err != nil {
			return nil, fmt.Errorf("what %s signed cannot be read: %w", g.Who, err)
		}
	}
	return out, nil
}

// agreedOn returns why hosts of a plan that act by a roster would refuse it; nil where none would.
func (s *App) agreedOn(ctx context.Context, p store.Plan) error {
	x, err := s.signable(ctx, p)
	if err != nil || len(x.knowing) == 0 {
		return err
	}
	r, ok, err := s.roster(ctx)
	if err == nil && !ok {
		err = fault.Conflict("hosts of the plan act by a roster that this service does not have: restore it")
	}
	if err != nil {
		return err
	}
	signed, err := s.signaturesOf(ctx, p.ID)
	if err != nil {
		return err
	}
	line, err := s.store.RosterLine(ctx, 0, maxLine)
	if err != nil {
		return err
	}

	known := counts(line)
	for _, h := range x.knowing {
		if !known(statement.Point{Number: h.Roster, Hash: hashOf(h.RosterDigest)}) {
			return fault.Conflict(fmt.Sprintf("host %s acts by edition %d of another roster than this service has: "+
				"its own one is to be restored, or the host's pinned anew", h.Name, h.Roster))
		}
		if _, err := r.Authorize(x.order(h.Name), signed, known, time.Now()); err != nil {
			return fault.Conflict("host " + h.Name + " would refuse it: " + err.Error())
		}
	}
	return nil
}

// hashOf returns a hash as the database has it; zero for what is none.
func hashOf(b []byte) (h tree.Hash) {
	copy(h[:], b)
	return h
}

// lineFor returns the editions of the roster that lead on from the one that a host acts by. A host that nobody hears of
// is given all: it passes over those that it came by.
func (s *App) lineFor(ctx context.Context, h store.Host) (line []roster.Step, err error) {
	if h.Roster == 0 && !h.Carried {
		return nil, nil
	}
	editions, err := s.store.RosterLine(ctx, max(h.Roster, 1), maxLine)
	if err != nil {
		return nil, err
	}

	return s.steps(ctx, editions)
}

// steps returns editions with what people signed so that they count: as many as go to a host at once.
func (s *App) steps(ctx context.Context, editions []store.RosterEdition) ([]roster.Step, error) {
	line, bytes := []roster.Step{}, 0
	for _, e := range editions {
		rows, err := s.store.RosterSignatures(ctx, e.Digest)
		if err != nil {
			return nil, err
		}
		step := roster.Step{Roster: e.Document}
		if step.Signed, err = signedRows(rows); err != nil {
			return nil, err
		}
		for _, g := range rows {
			bytes += len(g.Signed)
		}
		if bytes += len(e.Document); bytes > maxLineBytes {
			break // the host follows so far, and asks for the rest with its next order
		}
		line = append(line, step)
	}
	return line, nil
}

// shownSignatures returns what people have signed, as it is shown; in the roster that counts their keys have names.
func shownSignatures(r roster.Roster, rows []store.Signature) (out []wire.SignedBy, err error) {
	list, err := signedRows(rows)
	if err != nil {
		return nil, err
	}
	for _, g := range list {
		st, err := statement.Parse(g.Statement)
		if err != nil {
			return nil, err
		}
		by := wire.SignedBy{
			Who:         st.Who,
			Says:        st.Says,
			Kind:        g.Key.Kind(),
			Fingerprint: g.Key.Fingerprint(),
			At:          st.Made,
			Until:       st.Until,
			Statement:   string(g.Statement),
		}
		keys := r.Enacting(st.Who)
		if i := slices.IndexFunc(keys, func(k roster.NamedKey) bool { return k.Key == g.Key }); i >= 0 {
			by.Key = keys[i].Name
		}
		out = append(out, by)
	}
	return out, nil
}
