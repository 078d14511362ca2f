package app

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"time"

	"idletally/internal/service/auth"
	"idletally/internal/service/fault"
	"idletally/internal/service/passkey"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// passkeyOf is the place of somebody's passkeys.
func passkeyOf(person string) string { return "passkey of " + person }

// A challenge is what a browser was asked for, sealed so that it comes back as it was.
type challenge struct {
	For   string // what it is for: nobody shows for one thing what they were asked for another
	State []byte
	Until time.Time
}

func (s *App) asked(what string, options, state []byte) (*wire.AskedPasskey, error) {
	b, err := json.Marshal(challenge{what, state, time.Now().Add(passkey.Life)})
	if err == nil {
		b, err = s.seal("challenge", b)
	}
	return &wire.AskedPasskey{Options: string(options), State: base64.RawURLEncoding.EncodeToString(b)}, err
}

// answer opens what comes back, once.
func (s *App) answer(ctx context.Context, what, sealed string) (state []byte, err error) {
	again := fault.Invalid(
		"this was not begun here, was answered before, or took too long: begin again")
	b, err := base64.RawURLEncoding.DecodeString(sealed)
	if err == nil {
		b, err = s.unseal("challenge", b)
	}

	var c challenge
	if err == nil {
		err = json.Unmarshal(b, &c)
	}

	if err != nil || c.For != what || time.Now().After(c.Until) {
		return nil, again
	}

	err = s.store.AnswerChallenge(ctx, sha256.Sum256(b))
	if isConflict(err) {
		err = again
	}

	return c.State, err
}

// holderOf returns somebody with the passkeys that they have.
func (s *App) holderOf(ctx context.Context, name string) (p passkey.Person, err error) {
	handle := sha256.Sum256(append(s.secret("passkeys"), name...))
	p = passkey.Person{Handle: handle[:], Name: name}
	rows, err := s.store.Passkeys(ctx, name)
	if err != nil {
		return p, err
	}
	for _, k := range rows {
		kept, err := s.unseal(passkeyOf(name), k.Sealed)
		if err != nil { // whoever put it there has no part in what it was sealed by
			s.log.Error("a passkey in the database is not this person's", "person", name, "passkey", k.ID)
			continue
		}
		p.Kept = append(p.Kept, kept)
	}
	return p, nil
}

// showPasskey takes the passkey that somebody showed; name is whose it has to be, "" accepts anybody's.
func (s *App) showPasskey(
	ctx context.Context, in wire.ShownPasskey, what, name string,
) (person string, verified bool, err error) {
	if s.passkeys == nil {
		return "", false, errNoPasskeys
	}
	state, err := s.answer(ctx, what, in.State)
	if err != nil {
		return "", false, err
	}

	refused := fault.Unauthorized("this passkey does not fit here")
	var row store.Passkey
	got, err := s.passkeys.Shown(state, []byte(in.Answer), func(id []byte) (p passkey.Person, err error) {
		if row, err = s.store.PasskeyOf(ctx, sha256.Sum256(id)); err != nil {
			return p, err
		}
		p, err = s.holderOf(ctx, row.Person)
		return p, err
	})

	switch {
	case errors.Is(err, passkey.ErrRefused), isNotFound(err):
		s.log.Warn("a passkey was refused", "error", err)
		s.refused(ctx, speaker(ctx), "passkey refused", name, "")
		return "", false, refused
	case err != nil:
		return "", false, err
	case name != "" && row.Person != name:
		s.refused(ctx, speaker(ctx), "passkey refused", name, "it is somebody else's")
		return "", false, refused
	}

	sealed, err := s.seal(passkeyOf(row.Person), got.Kept)
	if err == nil {
		err = s.store.UsePasskey(ctx, row.ID, sealed)
	}

	return row.Person, got.Verified, err
}

var errNoPasskeys = fault.Conflict(
	"passkeys are made for a name: give the service the one that browsers use, with --public")

// What passkeys are asked for.
const (
	toSignIn  = "sign-in"
	toConfirm = "confirm"
	toAdd     = "add"
)

func wirePasskey(k store.Passkey) wire.Passkey {
	return wire.Passkey{ID: k.ID, Name: k.Name, Created: k.Created, Used: k.Used}
}

func (s *App) AddPasskey(ctx context.Context, in *wire.NewPasskey) (*wire.MadePasskey, error) {
	me := CallerOf(ctx)
	if s.passkeys == nil {
		return nil, errNoPasskeys
	}
	if err := plainText("name", in.Name); err != nil {
		return nil, err
	}
	state, err := s.answer(ctx, toAdd+" "+me.Name, in.State)
	if err != nil {
		return nil, err
	}
	p, err := s.holderOf(ctx, me.Name)
	if err != nil {
		return nil, err
	}

	id, kept, err := s.passkeys.Made(p, state, []byte(in.Answer))
	if errors.Is(err, passkey.ErrRefused) {
		s.log.Warn("a passkey was not added", "error", err)
		err = fault.Invalid("what the browser made does not hold: the service's log says why")
	}

	if err != nil {
		return nil, err
	}
	sealed, err := s.seal(passkeyOf(me.Name), kept)
	if err != nil {
		return nil, err
	}

	hash := sha256.Sum256(id)
	codes, hashes := s.newSpareCodes(me.Name)
	row, spared, err := s.store.AddPasskey(ctx,
		store.Passkey{Person: me.Name, Name: in.Name, Hash: hash[:], Sealed: sealed}, hashes)
	if err == nil {
		_, err = s.store.EndSessions(ctx, me.Name, "", me.session)
	}

	if err != nil {
		return nil, err
	}

	s.audit(ctx, "passkey added", me.Name, in.Name)
	out := wire.MadePasskey{Passkey: wirePasskey(row)}
	if spared {
		out.Codes = codes
	}

	return &out, nil
}

// newSpareCodes makes somebody's spare codes, and what is stored of them.
func (s *App) newSpareCodes(person string) (codes []string, hashes [][32]byte) {
	for range spareCodes {
		c := auth.Code(2)
		codes, hashes = append(codes, c), append(hashes, s.spareHash(person, c))
	}
	return codes, hashes
}

// spareHash is what is stored of a spare code: keyed by a key that the database does not have, since codes can be
// tried out.
func (s *App) spareHash(person, code string) (sum [32]byte) {
	m := hmac.New(sha256.New, s.secret("spare codes"))
	_, _ = m.Write([]byte(person + "\x00" + code))
	copy(sum[:], m.Sum(nil))
	return sum
}

// askPasskeyOf asks for a passkey of somebody, for what is to be done.
func (s *App) askPasskeyOf(ctx context.Context, what, name string) (*wire.AskedPasskey, error) {
	p, err := s.holderOf(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(p.Kept) == 0 {
		return nil, fault.Conflict("you have no passkey")
	}
	options, state, err := s.passkeys.AskOf(p)
	if err != nil {
		return nil, err
	}

	return s.asked(what+" "+name, options, state)
}

// AskPasskeyRequest is the request of [App.AskPasskey].
type AskPasskeyRequest struct {
	Device string `cookie:"__Host-idletally_device" maxLength:"512"`
	Body   wire.AskPasskey
}

// AskPasskey begins to sign in by a passkey alone, or, with name and password, by one as a second factor.
func (s *App) AskPasskey(ctx context.Context, in *AskPasskeyRequest) (*wire.AskedPasskey, error) {
	if s.passkeys == nil {
		return nil, errNoPasskeys
	}

	if in.Body.Name != "" {
		if _, _, err := s.knock(ctx, in.Body.Name, in.Body.Password, in.Device); err != nil {
			return nil, err
		}
		return s.askPasskeyOf(ctx, toSignIn, in.Body.Name)
	}

	options, state, err := s.passkeys.Ask()
	if err != nil {
		return nil, err
	}

	return s.asked(toSignIn, options, state)
}

// AskOwnPasskey begins to show again who you are by a passkey.
func (s *App) AskOwnPasskey(ctx context.Context, _ *struct{}) (*wire.AskedPasskey, error) {
	if s.passkeys == nil {
		return nil, errNoPasskeys
	}
	return s.askPasskeyOf(ctx, toConfirm, CallerOf(ctx).Name)
}

// ListPasskeys lists your passkeys and security keys.
func (s *App) ListPasskeys(ctx context.Context, _ *struct{}) (*wire.Page[wire.Passkey], error) {
	rows, err := s.store.Passkeys(ctx, CallerOf(ctx).Name)
	out := wire.Page[wire.Passkey]{Items: []wire.Passkey{}}
	for _, k := range rows {
		out.Items = append(out.Items, wirePasskey(k))
	}

	return whole(out), err
}

// BeginPasskey begins to add a passkey or security key.
func (s *App) BeginPasskey(ctx context.Context, _ *struct{}) (*wire.AskedPasskey, error) {
	if s.passkeys == nil {
		return nil, errNoPasskeys
	}
	p, err := s.holderOf(ctx, CallerOf(ctx).Name)
	if err != nil {
		return nil, err
	}
	options, state, err := s.passkeys.Begin(p)
	if err != nil {
		return nil, err
	}

	return s.asked(toAdd+" "+p.Name, options, state)
}

// RemovePasskey ends a passkey or security key.
func (s *App) RemovePasskey(ctx context.Context, in *ByID) (*struct{}, error) {
	err := s.store.RemovePasskey(ctx, CallerOf(ctx).Name, in.ID)
	if err == nil {
		s.audit(ctx, "passkey removed", CallerOf(ctx).Name, in.ID)
	}
	return nil, err
}
