package archive

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"
)

// What is carried can be replaced on its way by something else of the same kind, and nothing in it shows that: a host
// would take its orders from whoever made it. So both sides show a fingerprint of it, and people compare them by
// another way.

// Fingerprint returns the fingerprint of the key that a host asks with.
func (r Request) Fingerprint() string { return fingerprint("idletally request", r.Request) }

// Fingerprint returns the fingerprint of all that a host believes from then on: its name, certificate, authority, and
// the key that signs orders.
func (a Admission) Fingerprint() string {
	return fingerprint("idletally admission", []byte(a.Host), []byte(a.Enrolment), a.Certificate, a.Authority,
		a.OrderKey)
}

// Fingerprint returns the fingerprint of all that a snapshot file says: of its tree, by the forest's hash, and of the
// rest of its head, such as names and numbers of accounts, which findings and answers depend on.
func (h *Head) Fingerprint() (string, error) {
	b, err := json.Marshal(h)
	return fingerprint("idletally snapshot", b), err
}

// Meant checks whether a snapshot file has the fingerprint that somebody gave; "" accepts any.
func (h *Head) Meant(given string) error {
	if given == "" {
		return nil
	}
	is, err := h.Fingerprint()
	if err == nil && !SameFingerprint(given, is) {
		err = fmt.Errorf(
			"this is not the snapshot file that was meant: its fingerprint is %s. Somebody may have put "+
				"another in its place",
			is)
	}
	return err
}

// fingerprint returns 128 bits of a hash, in groups that can be read aloud.
func fingerprint(what string, parts ...[]byte) string {
	sum := sha256.New()
	sum.Write([]byte(what))
	for _, p := range parts {
		sum.Write(binary.BigEndian.AppendUint64(nil, uint64(len(p))))
		sum.Write(p)
	}
	text := hex.EncodeToString(sum.Sum(nil)[:16])
	var groups []string
	for ; len(text) > 0; text = text[4:] {
		groups = append(groups, text[:4])
	}
	return strings.Join(groups, "-")
}

// SameFingerprint reports whether what somebody has typed is a fingerprint, however they have grouped it.
func SameFingerprint(typed, fingerprint string) bool {
	plain := func(s string) string {
		return strings.ToLower(strings.NewReplacer("-", "", " ", "", ":", "").Replace(strings.TrimSpace(s)))
	}
	return plain(typed) != "" && plain(typed) == plain(fingerprint)
}
