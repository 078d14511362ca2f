// Package tree holds snapshots as hash trees. A folder is a node: its entries sorted by name
// bytes, each with its kind, its permission set and, for a folder, the hash of its own node.
// Nothing volatile is in it, so equal subtrees have equal hashes over time and across hosts.
package tree

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"strings"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/untrusted"
)

// A Hash is the SHA-256 of a node's encoding.
type Hash [sha256.Size]byte

// String returns lower-case hexadecimal.
func (h Hash) String() string { return hex.EncodeToString(h[:]) }

// IsZero reports whether it is no hash at all.
func (h Hash) IsZero() bool { return h == Hash{} }

// MarshalText returns hexadecimal.
func (h Hash) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText reads hexadecimal.
func (h *Hash) UnmarshalText(b []byte) error {
	if len(b) != hex.EncodedLen(len(h)) { // there is room for no more
		return fmt.Errorf("a hash has 64 hexadecimal digits, and this one %d", len(b))
	}
	if _, err := hex.Decode(h[:], b); err != nil {
		return fmt.Errorf("hash %q is not 64 hexadecimal digits", b)
	}
	return nil
}

// Sum hashes an encoded node.
func Sum(b []byte) Hash { return sha256.Sum256(b) }

// A Gap says why a folder's content is not in the snapshot.
type Gap uint8

// The gaps.
const (
	NoGap    Gap = iota
	Refused      // the host would not let us read it
	Vanished     // it was gone when its turn came
	Mount        // another file system begins here, and crossing was not asked for
	Failed       // reading failed: input/output error and the like
	TooLarge     // it passes a bound, or lies where one is passed
	Silent       // the file system did not answer in time
	lastGap  = Silent
)

var gapWords = [...]string{"", "refused", "vanished", "other file system", "failed", "too large", "does not answer"}

func (g Gap) String() string {
	if int(g) < len(gapWords) {
		return gapWords[g]
	}
	return "unknown gap"
}

// An Entry is one path of a snapshot.
type Entry struct {
	Name  string // one path part; in a forest the whole root path
	Kind  perm.Kind
	Gap   Gap
	Set   perm.Set // zero where even the path itself could not be looked at
	Child Hash     // folders without a gap
	Extra
}

// Extra is what few entries have.
type Extra struct {
	Links  uint32 // names that the inode has, where these are several; at most MaxLinks are told; never of a folder
	Device Device // of a device
}

// A Device is the number of a character or block device.
type Device struct{ Major, Minor uint32 }

// MaxLinks is the most names that are told.
const MaxLinks = 1 << 24

// extra reports whether there is any, and valid whether an entry of a kind can have it.
func (x Extra) extra() bool { return x != Extra{} }

func (x Extra) valid(k perm.Kind) bool {
	device := k == perm.CharDevice || k == perm.BlockDevice
	return x.Links != 1 && x.Links <= MaxLinks && (x.Links == 0 || k != perm.Folder) && (device || x.Device == Device{})
}

// HasChild reports whether the entry leads to a node.
func (e Entry) HasChild() bool { return e.Kind == perm.Folder && e.Gap == NoGap }

// A Node is a folder's content, or, as a forest, the roots of one snapshot.
type Node struct {
	Forest  bool
	Entries []Entry
}

// Bounds of one node. Whoever decodes a node of them needs less than 64 MiB besides the node's own bytes.
const (
	MaxNode    = 16 << 20 // bytes of the encoding
	MaxEntries = 300_000  // of which each takes 88 bytes when it is decoded
	MaxSets    = 65_536   // different permission sets
)

// What the smallest entry and the smallest set take, encoded: no count is believed that says there are more of
// them than the bytes that are left can hold.
const (
	minEntry = 4 // head, number of the set, length of the name, a byte of name
	minSet   = 1 // the empty one is its length alone
	minNode  = 4 // mark, version, two counts
)

const (
	folderMark = 'D'
	forestMark = 'F'
	plainNode  = 1 // version of a node none of whose entries has anything extra
	richNode   = 2 // and of one where some have
	withExtra  = 0x80
)

// Encode returns the canonical bytes of a node; its entries must be sorted (Decode checks it).
func Encode(n Node) []byte {
	sets := map[perm.Set]uint64{}
	var table []byte
	numbers := make([]uint64, len(n.Entries))

	for i, e := range n.Entries {
		if i > 0 && e.Set == n.Entries[i-1].Set { // neighbours are mostly alike
			numbers[i] = numbers[i-1]
			continue
		}

		no, ok := sets[e.Set]
		if !ok {
			no = uint64(len(sets))
			sets[e.Set] = no
			table = binary.AppendUvarint(table, uint64(len(e.Set.Bytes())))
			table = append(table, e.Set.Bytes()...)
		}

		numbers[i] = no
	}

	b := make([]byte, 0, 8+len(table)+len(n.Entries)*24)
	version := byte(plainNode)
	if slices.ContainsFunc(n.Entries, func(e Entry) bool { return e.extra() }) {
		version = richNode
	}

	if n.Forest {
		b = append(b, forestMark, version)
	} else {
		b = append(b, folderMark, version)
	}

	b = binary.AppendUvarint(b, uint64(len(sets)))
	b = append(b, table...)
	b = binary.AppendUvarint(b, uint64(len(n.Entries)))

	for i, e := range n.Entries {
		head := byte(e.Kind) | byte(e.Gap)<<4
		if e.extra() {
			head |= withExtra
		}

		b = append(b, head)
		b = binary.AppendUvarint(b, numbers[i])
		b = binary.AppendUvarint(b, uint64(len(e.Name)))
		b = append(b, e.Name...)
		if e.extra() {
			b = binary.AppendUvarint(b, uint64(e.Links))
			b = binary.AppendUvarint(b, uint64(e.Device.Major))
			b = binary.AppendUvarint(b, uint64(e.Device.Minor))
		}

		if e.HasChild() {
			b = append(b, e.Child[:]...)
		}
	}

	return b
}

// Decode reads a node, checking every bound and the order: nodes come from agents, which may be hostile.
func Decode(b []byte) (Node, error) { return decode(b, nil) }

// A Decoder decodes many nodes, checking each permission set that they share once. One goroutine at
// a time may use it.
type Decoder struct{ known map[string]perm.Set }

// Decode is like the function [Decode], but validates each distinct permission set only once.
func (d *Decoder) Decode(b []byte) (Node, error) {
	if d.known == nil || len(d.known) > maxKnown {
		d.known = map[string]perm.Set{}
	}
	return decode(b, d.known)
}

func checkName(forest bool, name string) error {
	if forest {
		return pathname.Check(name)
	}
	if name == "" || name == "." || name == ".." || len(name) > pathname.MaxName ||
		strings.IndexByte(name, '/') >= 0 || strings.IndexByte(name, 0) >= 0 {
		return fmt.Errorf("node holds the impossible name %q", pathname.Escape(name))
	}
	return nil
}

// Children lists the hashes a node refers to.
func (n Node) Children() []Hash {
	var out []Hash
	for _, e := range n.Entries {
		if e.HasChild() {
			out = append(out, e.Child)
		}
	}
	return out
}

// AppendPack appends a node to a pack: several nodes in one body, each as its length (uvarint) and its bytes.
func AppendPack(b, node []byte) []byte {
	b = binary.AppendUvarint(b, uint64(len(node)))
	return append(b, node...)
}

// A Pack is read node by node.
type Pack struct{ in *untrusted.Pieces }

// NewPack reads a pack of at most so many bytes.
func NewPack(r io.Reader, most int64) Pack { return Pack{untrusted.NewPieces(r, most)} }

// Next returns the bytes of the next node, which are its caller's; io.EOF where there is none.
func (p Pack) Next() ([]byte, error) { return p.in.Next(minNode, MaxNode) }
