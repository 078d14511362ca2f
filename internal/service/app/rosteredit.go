package app

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"idletally/internal/core/roster"
	"idletally/internal/core/signature"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// ByDigest is the request of calls about one edition of the roster.
type ByDigest struct {
	Digest string `path:"digest" maxLength:"64" doc:"SHA-256 of the edition's document"`
}

// wireRoster returns an edition as it is shown; before is the one that it follows on, whose people sign it.
func (s *App) wireRoster(
	ctx context.Context, e store.RosterEdition, r, before roster.Roster,
) (out wire.RosterEdition, err error) {
	rows, err := s.store.RosterSignatures(ctx, e.Digest)
	if err != nil {
		return out, err
	}
	out = wire.RosterEdition{
		Edition:    e.Number,
		Digest:     hex.EncodeToString(e.Digest),
		Document:   string(e.Document),
		ProposedBy: e.ProposedBy,
		Proposed:   e.Proposed,
		Counts:     e.Counts,
		Until:      r.Until,
		People:     []wire.RosterPerson{},
		Needed:     before.Threshold,
		Gone:       []string{},
		Come:       []string{},
	}
	for _, p := range r.People {
		person := wire.RosterPerson{Name: p.Name, Keys: []wire.RosterKey{}, May: []string{}}
		for _, k := range p.Keys {
			person.Keys = append(person.Keys, wireKey(k))
		}
		for _, may := range p.Rights {
			person.May = append(person.May, may.String())
		}
		out.People = append(out.People, person)
	}
	signed, err := signedRows(rows)
	if err != nil {
		return out, err
	}
	out.Have = max(before.Enacted(tree.Hash(e.Digest), signed))
	out.Signed, err = shownSignatures(before, rows)
	if out.Signed == nil {
		out.Signed = []wire.SignedBy{}
	}
	return out, err
}

// parseRoster reads an edition as it is stored.
func parseRoster(e store.RosterEdition) (roster.Roster, error) {
	r, err := roster.Parse(e.Document)
	if err != nil {
		err = fmt.Errorf("edition %d of the roster, as it is stored: %w", e.Number, err)
	}
	return r, err
}

// GetRoster shows the roster: the edition that counts, what is proposed, and how many hosts act by it.
func (s *App) GetRoster(ctx context.Context, _ *struct{}) (*wire.RosterNow, error) {
	out := &wire.RosterNow{Proposals: []wire.RosterEdition{}}
	now, err := s.store.Roster(ctx)
	if err == nil {
		err = s.showEditions(ctx, now, out)
	}
	if err != nil && !isNotFound(err) {
		return nil, err
	}

	by, err := s.store.HostsByRoster(ctx)
	for edition, hosts := range by {
		switch {
		case edition == 0:
			out.Hosts.Without += hosts
		case edition < now.Number:
			out.Hosts.Behind += hosts
		default:
			out.Hosts.Current += hosts
		}
	}
	return out, err
}

// showEditions adds the edition that counts, and what is proposed to follow on it.
func (s *App) showEditions(ctx context.Context, now store.RosterEdition, out *wire.RosterNow) error {
	current, err := parseRoster(now)
	if err != nil {
		return err
	}
	line, err := s.store.RosterLine(ctx, now.Number-2, 1) // the one before, or this one where it is the first
	if err != nil {
		return err
	}
	var before roster.Roster
	if len(line) > 0 && line[0].Number < now.Number {
		if before, err = parseRoster(line[0]); err != nil {
			return err
		}
	}
	e, err := s.wireRoster(ctx, now, current, before)
	if err != nil {
		return err
	}
	out.Edition = &e

	proposals, err := s.store.RosterProposals(ctx, now.Number+1)
	if err != nil {
		return err
	}
	for _, p := range proposals {
		next, err := parseRoster(p)
		if err != nil {
			return err
		}
		e, err := s.wireRoster(ctx, p, next, current)
		if err != nil {
			return err
		}
		gone, come := roster.Differences(current, next)
		e.Gone, e.Come = append(e.Gone, gone...), append(e.Come, come...)
		out.Proposals = append(out.Proposals, e)
	}
	return nil
}

// ProposeRoster proposes the next edition of the roster, or makes the first one.
func (s *App) ProposeRoster(ctx context.Context, in *wire.NewRoster) (*wire.RosterNow, error) {
	next, err := roster.Edit([]byte(in.Document))
	if err != nil {
		return nil, fault.Invalid(err.Error())
	}
	document, err := next.Bytes()
	if err != nil {
		return nil, fault.Invalid(err.Error())
	}
	now, ok, err := s.roster(ctx)
	if err != nil {
		return nil, err
	}
	digest := next.Digest()
	e := store.RosterEdition{
		Digest:     digest[:],
		Number:     next.Edition,
		Document:   document,
		ProposedBy: CallerOf(ctx).Name,
	}

	if next.Edition == 1 {
		if err := s.store.FoundRoster(ctx, e); err != nil {
			return nil, err
		}
		s.audit(ctx, "roster founded", "roster", digest.String())
		return s.GetRoster(ctx, nil)
	}

	switch {
	case !ok:
		return nil, fault.Conflict("there is no roster yet: the first edition has the number 1")
	case next.Edition != now.Edition+1 || next.Before != now.Digest():
		return nil, fault.Conflict(fmt.Sprintf("it follows on another edition than %d, which counts now (%s): write "+
			"it anew with idletally roster draft", now.Edition, now.Digest()))
	}
	if err := s.store.ProposeRoster(ctx, e); err != nil {
		return nil, err
	}
	s.audit(ctx, "roster proposed", "roster", fmt.Sprintf("edition %d %s", next.Edition, digest))
	return s.GetRoster(ctx, nil)
}

// proposal returns an edition that may come to count, with the one that it follows on.
func (s *App) proposal(ctx context.Context, digest string) (e store.RosterEdition, next, now roster.Roster, err error) {
	raw, err := hex.DecodeString(digest)
	if err != nil {
		return e, next, now, fault.Invalid("digest: want the fingerprint of an edition: " + err.Error())
	}
	if e, err = s.store.RosterEdition(ctx, raw); err != nil {
		return e, next, now, err
	}
	if e.Counts != nil {
		return e, next, now, fault.Conflict("this edition counts already")
	}
	if next, err = roster.Parse(e.Document); err != nil {
		return e, next, now, err
	}
	now, ok, err := s.roster(ctx)
	if err == nil && (!ok || next.Before != now.Digest()) {
		err = fault.Conflict("it follows on another edition than the one that counts now")
	}
	return e, next, now, err
}

// WriteRosterStatement returns the text that the caller is to sign so that an edition counts.
func (s *App) WriteRosterStatement(ctx context.Context, in *ByDigest) (*wire.ToSign, error) {
	_, next, now, err := s.proposal(ctx, in.Digest)
	if err != nil {
		return nil, err
	}
	st, err := s.stating(ctx, statement.Enacted, now, statement.MaxLife)
	if err != nil {
		return nil, err
	}
	st.Digest = next.Digest()
	return s.toSign(ctx, now, st)
}

// SignRosterRequest is the request of [App.SignRoster].
type SignRosterRequest struct {
	ByDigest
	Body wire.RosterSignature
}

// SignRoster takes what the caller signed of an edition: with enough of them it counts.
func (s *App) SignRoster(ctx context.Context, in *SignRosterRequest) (*wire.RosterNow, error) {
	e, next, now, err := s.proposal(ctx, in.Digest)
	if err != nil {
		return nil, err
	}
	given := in.Body.Signed
	if err := s.enacts(ctx, given, next, now); err != nil {
		return nil, err
	}
	enc, err := json.Marshal(given)
	if err != nil {
		return nil, err
	}

	enough := func(all []store.Signature) bool {
		signed, err := signedRows(all)
		if err != nil {
			return false
		}
		_, err = roster.Follow(now, []roster.Step{{Roster: e.Document, Signed: signed}})
		return err == nil
	}
	me := CallerOf(ctx).Name
	mine := store.Signature{Who: me, Signed: enc}
	counts, err := s.store.SignRoster(ctx, e.Digest, hashOfKey(given.Key), mine, enough)
	if err == nil {
		err = s.useKey(ctx, given.Key)
	}
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "roster signed", "roster", fmt.Sprintf("edition %d %s by %s", next.Edition, next.Digest(),
		given.Key.Fingerprint()))
	if counts {
		s.audit(ctx, "roster counts", "roster", fmt.Sprintf("edition %d %s", next.Edition, next.Digest()))
	}
	return s.GetRoster(ctx, nil)
}

// enacts returns why what the caller signed does not enact an edition.
func (s *App) enacts(ctx context.Context, given roster.Signed, next, now roster.Roster) error {
	st, err := statement.Parse(given.Statement)
	if err != nil {
		return fault.Invalid(err.Error())
	}
	switch {
	case st.Says != statement.Enacted || st.Who != CallerOf(ctx).Name || st.Digest != next.Digest():
		return fault.Invalid("what was signed is not that you enact this edition")
	case st.Roster != now.Point():
		return fault.Conflict("what was signed names another edition than the one that counts now: sign again")
	case signedNow(st) != nil:
		return fault.Invalid(signedNow(st).Error())
	case !now.Enacts(st.Who, given.Key):
		return fault.Forbidden("the key is neither yours, as the roster has it, nor one of its recovery keys")
	}
	if err := given.Key.Verify(given.Statement, given.Signature, now.Terms()); err != nil {
		return fault.Invalid(err.Error())
	}
	return nil
}

// WithdrawRoster withdraws an edition that does not count.
func (s *App) WithdrawRoster(ctx context.Context, in *ByDigest) (*struct{}, error) {
	e, _, _, err := s.proposal(ctx, in.Digest)
	if err == nil {
		err = s.store.WithdrawRoster(ctx, e.Digest)
	}
	if err == nil {
		s.audit(ctx, "roster withdrawn", "roster", in.Digest)
	}
	return nil, err
}

// ListSigningKeys lists the keys that people have registered to sign by, everybody's passkeys among them.
func (s *App) ListSigningKeys(ctx context.Context, _ *struct{}) (*wire.Page[wire.RosterKey], error) {
	keys, err := s.store.AllSigningKeys(ctx)
	if err != nil {
		return nil, err
	}
	passkeys, err := s.store.AllPasskeys(ctx)
	if err != nil {
		return nil, err
	}
	r, _, err := s.roster(ctx)
	if err != nil {
		return nil, err
	}

	counts := func(person string, k signature.Key) bool {
		p := r.Person(person)
		return p != nil && p.Has(k)
	}
	out := wire.Page[wire.RosterKey]{Items: []wire.RosterKey{}}
	for _, k := range keys {
		key, err := signature.ParseKey(k.Text)
		if err != nil {
			return nil, fmt.Errorf("key %s of %s, as it is stored: %w", k.ID, k.Person, err)
		}
		x := wireKey(roster.NamedKey{Name: k.Name, Key: key})
		x.ID, x.Person, x.Created, x.Used, x.Counts = k.ID, k.Person, &k.Created, k.Used, counts(k.Person, key)
		out.Items = append(out.Items, x)
	}
	for _, p := range s.signingPasskeys(passkeys) {
		x := wireKey(roster.NamedKey{Name: p.Name, Key: p.key})
		x.ID, x.Person, x.Created, x.Used, x.Counts = p.ID, p.Person, &p.Created, p.Used, counts(p.Person, p.key)
		out.Items = append(out.Items, x)
	}
	return whole(out), nil
}

// AddSigningKey registers an SSH key that you sign by.
func (s *App) AddSigningKey(ctx context.Context, in *wire.NewSigningKey) (*wire.RosterKey, error) {
	key, err := signature.ParseKey(in.Key)
	if err == nil && key.Kind() == signature.WebAuthn {
		err = fmt.Errorf("passkeys are registered by a browser")
	}
	if err != nil {
		return nil, fault.Invalid("key: " + err.Error())
	}
	me := CallerOf(ctx).Name
	k, err := s.store.AddSigningKey(ctx, store.SigningKey{
		Person: me,
		Name:   in.Name,
		Hash:   hashOfKey(key),
		Text:   key.String(),
	})
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "signing key registered", me, in.Name+" "+key.Fingerprint())
	x := wireKey(roster.NamedKey{Name: k.Name, Key: key})
	x.ID, x.Person, x.Created, x.Counts = k.ID, me, &k.Created, false
	return &x, nil
}

// RemoveSigningKey ends an SSH key of yours. The roster has it until an edition without it counts.
func (s *App) RemoveSigningKey(ctx context.Context, in *ByID) (*struct{}, error) {
	me := CallerOf(ctx).Name
	err := s.store.RemoveSigningKey(ctx, me, in.ID)
	if err == nil {
		s.audit(ctx, "signing key removed", me, in.ID)
	}
	return nil, err
}
