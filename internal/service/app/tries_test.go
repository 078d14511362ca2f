package app

import (
	"crypto/ed25519"
	"fmt"
	"testing"
	"time"

	"idletally/internal/service/authority"
	"idletally/internal/service/store"
)

// However many refusals anybody causes, and of however many names, the history has few lines of them, and all
// are counted.
func TestRefusals(t *testing.T) {
	r, at := &refusals{}, time.Unix(1_795_600_000, 0)
	lines, told := 0, 0
	const all = 50_000

	for n := range all {
		now := at.Add(time.Duration(n) * 100 * time.Millisecond) // 83 minutes
		if r.note(store.By{Who: "nobody"}, []string{"sign-in refused", "enrolment refused"}[n%2],
			fmt.Sprint("name-", n%5000), now) {
			lines++
			told++
		}
		for _, x := range r.due(now) {
			lines++
			told += x.more
		}
	}

	for _, x := range r.due(at.Add(24 * time.Hour)) {
		told += x.more
	}

	if told != all {
		t.Errorf("%d of %d were told of", told, all)
	}

	if lines > 9*2*(maxStrange+2) {
		t.Errorf("%d lines", lines)
	}

	if r.strange != 0 || len(r.kind) != 0 {
		t.Errorf("%d of %d kinds are left", r.strange, len(r.kind))
	}

	// Somebody's own is told at once, by name, and once.
	r = &refusals{}
	by := (store.By{Who: "purser", Token: "nightly"})
	if !r.note(by, "refused", "set-roles", at) || r.note(by, "refused", "set-roles", at) ||
		!r.note(store.By{Who: "purser"}, "refused", "set-roles", at) {
		t.Error("kinds are not told apart")
	}

	due := r.due(at.Add(refusalsAgain))
	if len(due) != 1 || due[0].by.Token != "nightly" || due[0].more != 1 || len(r.kind) != 0 {
		t.Errorf("%+v", due)
	}
}

func TestKnown(t *testing.T) {
	k, at := &known{}, time.Unix(1_795_600_059, 0)
	if k.have([32]byte{1}, at) {
		t.Error("nobody has come yet")
	}
	k.add([32]byte{1}, at)
	if !k.have([32]byte{1}, at.Add(time.Second)) || k.have([32]byte{2}, at) ||
		k.have([32]byte{1}, at.Add(2*time.Minute)) {
		t.Error("known for too short, too long, or as somebody else")
	}
	for n := range 2 * maxKnown {
		k.add([32]byte{byte(n), byte(n >> 8), byte(n >> 16), 1}, at)
	}
	if len(k.of) > maxKnown {
		t.Errorf("%d are remembered", len(k.of))
	}
}

// What is sealed for one place opens there alone; an earlier version's second factors are bound once.
func TestSealedForOnePlace(t *testing.T) {
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}

	s := &App{authority: &authority.Authority{Secrets: key.Seed()}}
	mine, err := s.seal(secondOf("purser"), []byte("secret"))
	if err != nil {
		t.Fatal(err)
	}

	if b, err := s.unseal(secondOf("purser"), mine); err != nil || string(b) != "secret" {
		t.Errorf("%q, %v", b, err)
	}

	for _, place := range []string{secondOf("admin"), "device", "provider", "answer to 00", ""} {
		t.Run(place, func(t *testing.T) {
			if _, err := s.unseal(place, mine); err == nil {
				t.Errorf("it opens for %q", place)
			}
		})
	}

	d, err := s.newDevice("purser")
	if err != nil || s.deviceOf("purser", d) == "" {
		t.Errorf("%s, %v", d, err)
	}

	for _, other := range []string{
		s.deviceOf("admin", d), s.deviceOf("purser", d[:len(d)-2]), s.deviceOf("purser", ""),
	} {
		t.Run(other, func(t *testing.T) {
			if other != "" {
				t.Errorf("%s counts", other)
			}
		})
	}

	old, err := s.sealer("answers")
	if err != nil {
		t.Fatal(err)
	}

	if _, err := s.unseal(secondOf("purser"), old.Seal(nil, nil, []byte("secret"), nil)); err == nil {
		t.Error("what is not bound opens")
	}
}
