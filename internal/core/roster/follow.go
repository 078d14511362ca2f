package roster

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"

	"idletally/internal/core/signature"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
)

// A Signed is a statement with what a key made of it.
type Signed struct {
	Statement []byte              `json:"statement" doc:"The text, byte for byte"`
	Key       signature.Key       `json:"key" doc:"By which it was signed: its public half, as the roster has it"`
	Signature signature.Signature `json:"signature" doc:"What the key made of the text"`
}

// MaxSigned bounds how many statements are looked at for one thing.
const MaxSigned = 100

// A Step leads from one edition to the next: the document, and who of the one before enacted it.
type Step struct {
	Roster []byte   `json:"roster"`
	Signed []Signed `json:"signed"`
}

// ErrBroken says that an edition does not follow on the one before.
var ErrBroken = errors.New("the editions of the roster do not follow on each other")

// Follow returns the last edition of a line that begins behind one. It does not ask what time it is: an edition that
// is over still leads to the next one, since a host may have been away.
func Follow(from Roster, line []Step) (Roster, error) {
	for _, s := range line {
		next, err := from.next(s)
		if err != nil {
			return from, fmt.Errorf("%w: behind edition %d: %w", ErrBroken, from.Edition, err)
		}
		from = next
	}
	return from, nil
}

// next returns the edition that a step leads to.
func (r Roster) next(s Step) (Roster, error) {
	next, err := Parse(s.Roster)
	if err != nil {
		return r, err
	}
	if next.Edition != r.Edition+1 || next.Before != r.Digest() {
		return r, fmt.Errorf("edition %d follows on another one", next.Edition)
	}
	if len(s.Signed) > MaxSigned {
		return r, fmt.Errorf("it has %d signatures, at most %d are looked at", len(s.Signed), MaxSigned)
	}

	people, keys := r.Enacted(sha256.Sum256(s.Roster), s.Signed)
	if people >= r.Threshold || r.Recover > 0 && keys >= r.Recover {
		return next, nil
	}
	return r, fmt.Errorf("%d people and %d recovery keys have enacted edition %d: it takes %d people, or %d such keys",
		people, keys, next.Edition, r.Threshold, r.Recover)
}

// Enacted counts the people, and the recovery keys, that have enacted a document: the most whose words held at one
// time, since nobody asks what time it is. Whatever else there is counts for nothing, so that nobody keeps an edition
// from counting by adding to it.
func (r Roster) Enacted(document tree.Hash, list []Signed) (people, keys int) {
	var said []statement.Statement
	var by []signature.Key
	for _, signed := range list {
		s, err := statement.Parse(signed.Statement)
		if err != nil || s.Says != statement.Enacted || s.Digest != document || s.Roster != r.Point() {
			continue
		}
		if signed.Key.Verify(signed.Statement, signed.Signature, r.Terms()) != nil {
			continue
		}
		said, by = append(said, s), append(by, signed.Key)
	}

	for _, first := range said { // the most hold when one of them begins
		at := first.Made
		names, recovered := map[string]bool{}, map[signature.Key]bool{}
		for i, s := range said {
			if at.Before(s.Made) || !at.Before(s.Until) {
				continue
			}
			if p := r.Person(s.Who); p != nil && p.Has(by[i]) {
				names[s.Who] = true
			}
			if has(r.Recovery, by[i]) {
				recovered[by[i]] = true
			}
		}
		people, keys = max(people, len(names)), max(keys, len(recovered))
	}
	return people, keys
}

// Enacts reports whether what a key signs for somebody can enact the next edition: it is their own, or a recovery key.
func (r Roster) Enacts(who string, k signature.Key) bool { return has(r.Enacting(who), k) }

// Enacting returns the keys by which somebody can enact the next edition: their own, and the recovery keys, which are
// nobody's in particular.
func (r Roster) Enacting(who string) []NamedKey {
	var own []NamedKey
	if p := r.Person(who); p != nil {
		own = p.Keys
	}
	return slices.Concat(own, r.Recovery)
}
