package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"idletally/internal/core/roster"
	"idletally/internal/core/statement"
	"idletally/internal/service/fault"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// Where the policy says so, whoever agrees to a request signs that by a key of their own, as people sign plans: neither
// a session that somebody stole is enough to agree, nor a row in the database.

// maxAsks is how long a request is in what people sign, in bytes; of a longer one the digest says all.
const maxAsks = 8000

// asked is a request as people sign it.
func asked(q store.Request) roster.Request {
	asks := q.Operation + " by " + q.AskedBy
	if q.Application != "" {
		asks += " for " + q.Application
	}
	detail := plainLine(q.Detail)
	if len(detail) > maxAsks {
		detail = fmt.Sprintf("%d bytes, for which the digest stands", len(detail))
	}
	return roster.Request{ID: q.ID, Asks: asks + ": " + detail, Digest: hashOf(q.Hash)}
}

// plainLine returns JSON as one line of letters that people can read: others are escaped, and blanks are one.
func plainLine(text string) string {
	var b strings.Builder
	for _, r := range text {
		switch {
		case unicode.IsPrint(r):
			b.WriteRune(r)
		case r > 0xffff:
			high, low := (r-0x10000)>>10+0xd800, (r-0x10000)&0x3ff+0xdc00
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return statement.Line(b.String())
}

// WriteAgreement returns the text that the caller is to sign of a request, and the keys by which they can.
func (s *App) WriteAgreement(ctx context.Context, in *ByID) (*wire.ToSign, error) {
	q, err := s.requestFor(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	r, err := s.rosterThatCounts(ctx)
	if err != nil {
		return nil, err
	}
	st, err := s.stating(ctx, statement.Agreed, r, time.Until(q.Expires).Truncate(time.Second))
	if err != nil {
		return nil, err
	}
	says := asked(q)
	st.Request, st.Asks, st.Digest = says.ID, says.Asks, says.Digest
	return s.toSign(ctx, r, st)
}

// signedAgreement checks what the caller signed of a request, and returns what is to be stored of it; nothing where
// nothing is signed, and nothing needs to be.
func (s *App) signedAgreement(ctx context.Context, q store.Request, given *roster.Signed) (string, error) {
	p, err := s.holds(ctx)
	switch {
	case err != nil:
		return "", err
	case given == nil && p.AgreeSigned:
		return "", fault.Invalid("people agree to requests by keys of their own: sign it in the console, or with " +
			"--sign")
	case given == nil:
		return "", nil
	}
	r, err := s.rosterThatCounts(ctx)
	if err != nil {
		return "", err
	}

	st, err := r.Agreed(asked(q), *given, nobodyKnows, time.Now())
	if err == nil && st.Who != CallerOf(ctx).Name {
		err = fmt.Errorf("it is what %s says", st.Who)
	}
	if err == nil {
		err = signedNow(st)
	}
	if err != nil {
		return "", fault.Invalid("what was signed does not fit: " + err.Error())
	}
	if err := s.useKey(ctx, given.Key); err != nil {
		return "", err
	}
	b, err := json.Marshal(given)
	return string(b), err
}

// bySignature reports of agreements to a request whether each is what its person has signed, by the roster that counts.
func (s *App) bySignature(ctx context.Context, q store.Request) (func(store.Agreement) bool, error) {
	r, ok, err := s.roster(ctx)
	if err != nil || !ok {
		return func(store.Agreement) bool { return false }, err
	}
	line, err := s.store.RosterLine(ctx, 0, maxLine)
	if err != nil {
		return nil, err
	}
	return func(a store.Agreement) bool {
		var given roster.Signed
		if json.Unmarshal([]byte(a.Signed), &given) != nil {
			return false
		}
		st, err := r.Agreed(asked(q), given, counts(line), time.Now())
		return err == nil && st.Who == a.Reviewer
	}, nil
}

// counts reports of an edition whether it is one of a line.
func counts(line []store.RosterEdition) func(statement.Point) bool {
	return func(p statement.Point) bool {
		return slices.ContainsFunc(line, func(e store.RosterEdition) bool {
			return e.Number == p.Number && string(e.Digest) == string(p.Hash[:])
		})
	}
}

// signersFor returns an error unless as many others as a policy wants can sign that they agree: nobody could change
// anything any more.
func (s *App) signersFor(ctx context.Context, p wire.Policy) error {
	if !p.AgreeSigned {
		return nil
	}
	r, err := s.rosterThatCounts(ctx)
	if err != nil {
		return err
	}
	people, err := s.store.People(ctx)
	if err != nil {
		return err
	}
	able := 0
	for _, x := range people {
		if x.Name != CallerOf(ctx).Name && x.Roles().Everywhere(wire.Admin) && r.Person(x.Name) != nil {
			able++
		}
	}
	if able < p.Agree {
		return fault.Conflict(fmt.Sprintf("of the other admins %d have a key in the roster, and %d are to agree by "+
			"signing: have an edition enacted that has them first", able, p.Agree))
	}
	return nil
}

// shownAgreements adds to a request what those who agreed have signed.
func (s *App) shownAgreements(ctx context.Context, q store.Request, w *wire.Request) error {
	p, err := s.holds(ctx)
	if err != nil {
		return err
	}
	w.ToSign = p.AgreeSigned
	all, err := s.store.Agreements(ctx, q.ID)
	if err != nil {
		return err
	}
	r, _, err := s.roster(ctx)
	if err != nil {
		return err
	}
	var rows []store.Signature
	for _, a := range all {
		if a.Signed != "" {
			rows = append(rows, store.Signature{Who: a.Reviewer, Signed: []byte(a.Signed)})
		}
	}
	if w.Signed, err = shownSignatures(r, rows); err != nil {
		err = errors.Join(fmt.Errorf("request %s", q.ID), err)
	}
	return err
}
