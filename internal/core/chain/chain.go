// Package chain links lines of history, so that no line can be changed, removed or inserted without every later line
// showing it: each has the SHA-256 of itself and of the one before. The last one's is signed by the service that
// keeps the history.
package chain

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"time"
)

// TakenOver is what the first line says that a service writes where the history ends in a way that it did not sign:
// with another key, or written by somebody else.
const TakenOver = "history taken over"

// Tied is what the line says that covers those from before there was a chain, which have numbers up to 0: its detail
// is how many there are, and the hash of the last.
const Tied = "older lines tied"

// A Hash stands for a line and all before it.
type Hash [sha256.Size]byte

// String returns it in hexadecimal digits.
func (h Hash) String() string { return hex.EncodeToString(h[:]) }

// MarshalText returns it in hexadecimal digits.
func (h Hash) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText reads hexadecimal digits.
func (h *Hash) UnmarshalText(b []byte) error {
	if len(b) != 2*len(h) {
		return fmt.Errorf("a hash of %d digits: want %d", len(b), 2*len(h))
	}
	_, err := hex.Decode(h[:], b)
	return err
}

// A Line is one of history, as it is kept.
type Line struct {
	Seq     int64     `json:"seq"` // from 1 on, none left out; up to 0 from before there was a chain
	ID      string    `json:"id"`
	At      time.Time `json:"at"` // to the millisecond
	Who     string    `json:"who"`
	Token   string    `json:"token,omitempty"` // of theirs, that a program did it with
	What    string    `json:"what"`
	Subject string    `json:"subject"`
	Detail  string    `json:"detail"`
	Hash    Hash      `json:"hash"`
}

// After returns the hash that a line must have after another. A line with a token is of the second form, so that
// those from before there were tokens keep their hashes.
func (l Line) After(before Hash) Hash {
	form, fields := "idletally history 1\x00", []string{l.ID, l.Who, l.What, l.Subject, l.Detail}
	if l.Token != "" {
		form, fields = "idletally history 2\x00", append(fields, l.Token)
	}
	b := append([]byte(form), before[:]...)
	b = binary.BigEndian.AppendUint64(b, uint64(l.Seq))
	b = binary.BigEndian.AppendUint64(b, uint64(l.At.UnixMilli()))
	for _, s := range fields { // with their lengths: no field runs into the next
		b = binary.BigEndian.AppendUint32(b, uint32(len(s)))
		b = append(b, s...)
	}
	return sha256.Sum256(b)
}

// A Head is where a history ends.
type Head struct {
	Seq       int64  `json:"seq"`
	Hash      Hash   `json:"hash"`
	Signature []byte `json:"signature,omitempty"`
}

func (h Head) signed() []byte {
	b := binary.BigEndian.AppendUint64([]byte("idletally history head 1\x00"), uint64(h.Seq))
	return append(b, h.Hash[:]...)
}

// Sign signs it.
func (h *Head) Sign(key ed25519.PrivateKey) { h.Signature = ed25519.Sign(key, h.signed()) }

// SignedBy reports whether the holder of a key signed it. The head of an empty history needs no signature.
func (h Head) SignedBy(key ed25519.PublicKey) bool {
	return h.Seq == 0 && h.Hash == Hash{} || ed25519.Verify(key, h.signed(), h.Signature)
}

// An End is the last line of an exported history: its head, and the key that signed it.
type End struct {
	Head Head              `json:"head"`
	Key  ed25519.PublicKey `json:"key"`
}

// ErrBroken says that a history is not as it was written.
var ErrBroken = errors.New("the history is not as it was written")

// A Walker checks a history line by line. The zero Walker stands before the first, and before those from
// before there was a chain.
type Walker struct {
	Seq  int64
	Hash Hash

	Older Older
	tied  bool // by a line that was checked
}

// Older checks the lines from before there was a chain.
type Older struct {
	Lines int64
	Hash  Hash  // of the last
	seq   int64 // its number
}

// String is the detail of the line that ties them.
func (o Older) String() string { return fmt.Sprintf("%d lines, %s", o.Lines, o.Hash) }

// Next checks the one that follows.
func (o *Older) Next(l Line) error {
	switch {
	case l.Seq > 0 || o.Lines > 0 && l.Seq != o.seq+1:
		return fmt.Errorf("%w: line %d follows on line %d", ErrBroken, l.Seq, o.seq)
	case l.Hash != l.After(o.Hash):
		return fmt.Errorf("%w: line %d (%s, %s by %s) does not fit its hash", ErrBroken, l.Seq, l.ID, l.What, l.Who)
	}
	o.Lines++
	o.Hash = l.Hash
	o.seq = l.Seq
	return nil
}

// Next checks the line that follows.
func (w *Walker) Next(l Line) error {
	if l.Seq <= 0 && w.Seq == 0 {
		return w.Older.Next(l)
	}

	if l.What == Tied && !w.tied {
		w.tied = true
		if l.Detail != w.Older.String() || w.Older.seq != 0 {
			return fmt.Errorf("%w: from before it was chained there are %s, up to line %d, and line %d says %s",
				ErrBroken, w.Older, w.Older.seq, l.Seq, l.Detail)
		}
	}

	if l.Seq != w.Seq+1 {
		return fmt.Errorf("%w: line %d follows on line %d", ErrBroken, l.Seq, w.Seq)
	}
	if want := l.After(w.Hash); l.Hash != want {
		return fmt.Errorf("%w: line %d (%s, %s by %s) does not fit its hash", ErrBroken, l.Seq, l.ID, l.What, l.Who)
	}

	w.Seq, w.Hash = l.Seq, l.Hash
	return nil
}

// Loose returns an error if there are lines from before there was a chain that no later line covers.
func (w *Walker) Loose() error {
	if w.Older.Lines > 0 && !w.tied {
		return fmt.Errorf("%w: %d lines stand before the first, and none says so", ErrBroken, w.Older.Lines)
	}
	return nil
}

// End checks that the history ends where its head says, and who signed the head; without a key nobody need have
// signed it.
func (w *Walker) End(h Head, key ed25519.PublicKey) error {
	if h.Seq != w.Seq || h.Hash != w.Hash {
		return fmt.Errorf(
			"%w: it ends with line %d, and its head is line %d: lines were taken from its end, or it was written "+
				"while it was read",
			ErrBroken, w.Seq, h.Seq)
	}
	if err := w.Loose(); err != nil {
		return err
	}
	if key != nil && !h.SignedBy(key) {
		return fmt.Errorf("%w: its head is not signed by the service's key", ErrBroken)
	}
	return nil
}
