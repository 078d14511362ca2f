package http

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"slices"

	"idletally/internal/core/chain"
	"idletally/internal/service/authority"
	"idletally/internal/service/store"
	"idletally/internal/service/witness"
	"idletally/internal/wire"
)

// maxBehind bounds the hosts that are named because they know the service by other keys.
const maxBehind = 1000

func (s *Server) keyRoutes() {
	add(s,
		op{
			"GET", "/keys", "show-keys",
			"The authorities and the key that the service's hosts are to know it by, and which hosts do not yet",
			wire.Viewer, 200,
		},
		s.showKeys)
}

// giveKeys tells an agent by which keys it is to know the service, and notes by which it does.
func (s *Server) giveKeys(w http.ResponseWriter, r *http.Request) error {
	var known wire.KnownKeys
	if err := readJSON(w, r, 4<<10, &known); err != nil {
		return err
	}

	h := callingHost(r.Context())
	trusted := "" // the authority that signed its certificate, where it trusts that as well
	if chain := r.TLS.VerifiedChains[0]; len(chain) > 1 {
		if f := authority.Fingerprint(chain[len(chain)-1].Raw); slices.Contains(known.Authorities, f) {
			trusted = f
		}
	}

	key := ""
	if slices.ContainsFunc(s.Authority.Signers(), func(k ed25519.PublicKey) bool {
		return bytes.Equal(k, known.OrderKey)
	}) {
		key = hex.EncodeToString(known.OrderKey)
	}

	if h.Authority != trusted || h.OrderKey != key {
		if err := s.Store.SetKnown(r.Context(), h.Name, trusted, key); err != nil {
			return err
		}
	}

	return writeJSON(w, wire.Keys{Authorities: s.Authority.PEM, Succession: s.Authority.Succession})
}

// certified is what a host is let in with: it knows the service by the newest keys.
func (s *Server) certified(serial, version string, carried bool) store.Certified {
	return store.Certified{
		Serial:    serial,
		Version:   version,
		Carried:   carried,
		Authority: s.Authority.Fingerprint(),
		OrderKey:  hex.EncodeToString(s.OrderKey()),
	}
}

// signed reports whether this service signed where its history ended once, by the key that it has or one before.
func (s *Server) signed(h chain.Head) bool {
	return slices.ContainsFunc(s.Authority.Signers(), h.SignedBy)
}

// succeeds reports whether an end of the history is the one that the newest key takes over from a former one.
func (s *Server) succeeds(h chain.Head) bool {
	from := s.moving.Load()
	return from != nil && from.Seq == h.Seq && from.Hash == h.Hash
}

// succeed has the newest key sign the history where a former one did: once it has, which is noted beside the
// keys, the former one's signature counts for nothing.
func (s *Server) succeed(ctx context.Context) error {
	line := s.Authority.Succession
	if len(line) == 0 {
		return nil
	}
	h, err := s.Store.Head(ctx)
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
	return s.Store.Audit(ctx, store.By{Who: "the service"}, "order key replaced", "keys",
		fmt.Sprintf("%x signs from now on, as %x said at %s", []byte(last.To), []byte(last.From),
			last.At.Format("2006-01-02 15:04:05Z")))
}

// showKeys serves: The authorities and the key that the service's hosts are to know it by, and which hosts do not yet.
func (s *Server) showKeys(ctx context.Context, _ *struct{}) (*body[wire.ServiceKeys], error) {
	out := wire.ServiceKeys{OrderKey: s.OrderKey(), Replaced: []wire.ReplacedKey{}, Behind: []wire.HostBehind{}}
	for _, i := range s.Authority.Issuers() {
		out.Authorities = append(out.Authorities, wire.ServiceAuthority{
			Fingerprint: i.Fingerprint,
			From:        i.From,
			Until:       i.Until,
		})
	}

	for _, step := range s.Authority.Succession {
		out.Replaced = append(out.Replaced, wire.ReplacedKey{Key: step.From, At: step.At})
	}

	newest, key := out.Authorities[0].Fingerprint, hex.EncodeToString(s.OrderKey())
	hosts, err := s.Store.HostsBehind(ctx, newest, key, maxBehind+1)
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

	return &body[wire.ServiceKeys]{out}, nil
}
