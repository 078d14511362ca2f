// Package tree holds snapshots as hash trees. A folder is a node: its entries sorted by name
// bytes, each with its kind, its permission set and, for a folder, the hash of its own node.
// Nothing volatile is in it, so equal subtrees have equal hashes over time and across hosts.
package tree

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
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
	if n, err := hex.Decode(h[:], b); err != nil || n != len(h) || len(b) != 2*len(h) {
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

var errEnd = errors.New("node ends too early")

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

// decode reads a node. Sets that are known need no check, and stay one string for all nodes.
func decode(b []byte, known map[string]perm.Set) (Node, error) {
	if len(b) > MaxNode {
		return Node{}, fmt.Errorf("node has %d bytes, at most %d are allowed", len(b), MaxNode)
	}
	if len(b) < 2 || b[0] != folderMark && b[0] != forestMark {
		return Node{}, errors.New("these bytes are no node")
	}
	if b[1] != plainNode && b[1] != richNode {
		return Node{}, fmt.Errorf(
			"node has format version %d, this program reads %d and %d: is it older than the one that wrote it?", b[1],
			plainNode, richNode)
	}

	n := Node{Forest: b[0] == forestMark}

	// Names and sets are parts of one string: a node is one allocation, however many it has.
	whole := string(b)
	at := 2
	var err error
	number := func() int {
		if at < len(b) && b[at] < 0x80 { // most are small
			at++
			return int(b[at-1])
		}

		v, k := binary.Uvarint(b[at:])
		if k <= 0 || v > MaxNode || k > 1 && b[at+k-1] == 0 { // a padded number is a second spelling
			err = errEnd
			return 0
		}

		at += k
		return int(v)
	}

	bytes := func(k int) string {
		if err != nil || k > len(b)-at {
			err = errEnd
			return ""
		}

		s := whole[at : at+k]
		at += k
		return s
	}

	// A count takes room only as far as the bytes that follow can bear it out.
	counted := func(what string, least, most int) int {
		n := number()
		switch {
		case err != nil:
		case n > (len(b)-at)/least:
			err = errEnd
		case n > most:
			err = fmt.Errorf("node has %d %s, at most %d are allowed", n, what, most)
		}
		return n
	}

	count := counted("permission sets", minSet, MaxSets)
	if err != nil {
		return Node{}, err
	}

	var sets []perm.Set
	seen := map[perm.Set]bool{}
	for range count {
		enc := bytes(number())
		if err != nil {
			return Node{}, err
		}

		var set perm.Set
		if enc != "" {
			var ok bool
			if set, ok = known[enc]; !ok {
				if known != nil { // it outlives this node
					enc = strings.Clone(enc)
				}
				if set, err = perm.ParseSet(enc); err != nil {
					return Node{}, err
				}
				if known != nil {
					known[set.Bytes()] = set
				}
			}
		}

		if seen[set] {
			return Node{}, errors.New("node holds a permission set twice")
		}

		seen[set] = true
		sets = append(sets, set)
	}

	count = counted("entries", minEntry, MaxEntries)
	if err != nil {
		return Node{}, err
	}

	n.Entries = make([]Entry, count)
	used, extra := 0, false
	for i := range n.Entries {
		head := bytes(1)
		no := number()
		e := Entry{Name: bytes(number())}
		if err != nil {
			return Node{}, err
		}

		e.Kind, e.Gap = perm.Kind(head[0]&15), Gap(head[0]>>4)
		if b[1] == richNode && head[0]&withExtra != 0 {
			e.Gap = Gap(head[0] &^ withExtra >> 4)
			e.Links, e.Device = uint32(number()), Device{uint32(number()), uint32(number())}
			extra = true
			if err == nil && (!e.extra() || !e.valid(e.Kind)) {
				return Node{}, fmt.Errorf("node entry %d has links or a device that it cannot have", i)
			}
		}

		switch {
		case !e.Kind.Valid() || e.Gap > lastGap:
			return Node{}, fmt.Errorf("node entry %d has the unknown kind or gap %#x", i, head[0])
		case no > used || no >= len(sets):
			return Node{}, fmt.Errorf("node entry %d refers to permission set %d out of order", i, no)
		case no == used:
			used++
		}

		e.Set = sets[no]
		if e.Set.IsZero() && e.Gap == NoGap {
			return Node{}, fmt.Errorf("node entry %d has neither permissions nor a reason for having none", i)
		}
		if err := checkName(n.Forest, e.Name); err != nil {
			return Node{}, err
		}
		if i > 0 && n.Entries[i-1].Name >= e.Name {
			return Node{}, fmt.Errorf("node entry %d is out of order or stands twice", i)
		}

		if e.HasChild() {
			copy(e.Child[:], bytes(len(e.Child)))
		}

		n.Entries[i] = e
	}

	if err != nil {
		return Node{}, err
	}
	if used != len(sets) || at < len(b) {
		return Node{}, errors.New("node holds bytes that nothing refers to")
	}
	if b[1] == richNode && !extra {
		return Node{}, errors.New("node has a version that it does not need")
	}

	return n, nil
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
