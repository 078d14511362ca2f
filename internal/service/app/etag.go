package app

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"

	"idletally/internal/service/fault"
)

// What is edited in place has an entity tag (RFC 9110, section 8.8.3): whoever changes it can say with If-Match which
// version they saw, and then changes no other.

// shown is an answer with its tag.
type shown[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

// Guarded adds If-Match to a request. It is exported because huma reads parameters of exported embedded fields alone.
type Guarded struct {
	IfMatch string `header:"If-Match" maxLength:"1000" doc:"The entity tag of what was seen: where it is another one meanwhile nothing is changed (412)"`
}

// tagOf is the entity tag of a value as it is kept.
func tagOf(value string) string {
	sum := sha256.Sum256([]byte(value))
	return `"` + hex.EncodeToString(sum[:8]) + `"`
}

// holds returns what has to be there for a change; nil accepts anything. Weak tags match nothing (section 13.1.1).
func (m Guarded) holds(now string) (was *string, err error) {
	if m.IfMatch == "" {
		return nil, nil
	}
	for _, tag := range strings.Split(m.IfMatch, ",") {
		tag = strings.TrimSpace(tag)
		if tag == "*" || tag == tagOf(now) {
			return &now, nil
		}
	}
	return nil, fault.Stale(
		"somebody else has changed this meanwhile: look again; it is now " + quotedOr(now))
}

func quotedOr(value string) string {
	if value == "" {
		return "empty"
	}
	return fmt.Sprintf("%q", value)
}
