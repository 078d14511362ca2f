package app

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"

	"idletally/internal/core/chain"
	"idletally/internal/service/store"
	"idletally/internal/service/witness"
	"idletally/internal/wire"
)

// maxBehind bounds the hosts that are named because they know the service by other keys.
const maxBehind = 1000

// certified is what a host is let in with: it knows the service by the newest keys.
func (s *App) certified(serial, version string, offline bool) store.Certified {
	return store.Certified{
		Serial:    serial,
		Version:   version,
		Carried:   offline,
		Authority: s.authority.Fingerprint(),
		OrderKey:  hex.EncodeToString(s.OrderKey()),
	}
}

// signed reports whether this service once signed this end of its history, by its present key or a former one.
func (s *App) signed(h chain.Head) bool {
	return slices.ContainsFunc(s.authority.Signers(), h.SignedBy)
}

// succeeds reports whether an end of the history is the one that the newest key takes over from a former one.
func (s *App) succeeds(h chain.Head) bool {
	from := s.moving.Load()
	return from != nil && from.Seq == h.Seq && from.Hash == h.Hash
}

// succeed makes the newest key sign the history where a former one did: after that, which is recorded beside the
// keys, the former one's signature is not accepted any more.
func (s *App) succeed(ctx context.Context) error {
	line := s.authority.Succession
	if len(line) == 0 {
		return nil
	}
	h, err := s.store.Head(ctx)
	if err != nil || h.SignedBy(s.OrderKey()) || !s.signed(h) {
		return err // what nobody here signed the watch of the history tells of
	}

	noted, err := s.witness.Begin()
	var fault *witness.Fault
	switch {
	case errors.As(err, &fault), noted.Seq > 0 && noted.SignedBy(s.OrderKey()):
		return nil // the watch tells of that, too
	case err != nil:
		return err
	}

	s.moving.Store(&h)
	defer s.moving.Store(nil)

	last := line[len(line)-1]
	return s.store.Audit(ctx, store.By{Who: "the service"}, "order key replaced", "keys",
		fmt.Sprintf("%x signs from now on, as %x said at %s", []byte(last.To), []byte(last.From),
			last.At.Format("2006-01-02 15:04:05Z")))
}

// ShowKeys returns the authorities and the key that the service's hosts are to know it by, and which hosts do not yet.
func (s *App) ShowKeys(ctx context.Context, _ *struct{}) (*wire.ServiceKeys, error) {
	out := wire.ServiceKeys{OrderKey: s.OrderKey(), Replaced: []wire.ReplacedKey{}, Behind: []wire.HostBehind{}}
	for _, i := range s.authority.Issuers() {
		out.Authorities = append(out.Authorities, wire.ServiceAuthority{
			Fingerprint: i.Fingerprint,
			From:        i.From,
			Until:       i.Until,
		})
	}

	for _, step := range s.authority.Succession {
		out.Replaced = append(out.Replaced, wire.ReplacedKey{Key: step.From, At: step.At})
	}

	newest, key := out.Authorities[0].Fingerprint, hex.EncodeToString(s.OrderKey())
	hosts, err := s.store.HostsBehind(ctx, newest, key, maxBehind+1)
	if err != nil {
		return nil, err
	}

	out.More = len(hosts) > maxBehind
	if out.More {
		hosts = hosts[:maxBehind]
	}

	for _, h := range hosts {
		out.Behind = append(out.Behind, wire.HostBehind{Host: h.Name, Carried: h.Carried, LastSeen: h.LastSeen,
			Authority: h.Authority != newest, OrderKey: h.OrderKey != key})
	}

	return &out, nil
}
