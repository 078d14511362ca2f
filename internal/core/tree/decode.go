package tree

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"idletally/internal/core/perm"
)

var errEnd = errors.New("node ends too early")

// decode reads a node: what marks it, its sets, its entries, and nothing else. Of each node there is one spelling.
// Sets that are known need no check, and stay one string for all nodes.
func decode(b []byte, known map[string]perm.Set) (Node, error) {
	if err := checkHead(b); err != nil {
		return Node{}, err
	}

	d := decoding{b: b, whole: string(b), at: 2, rich: b[1] == richNode, known: known}
	n := Node{Forest: b[0] == forestMark}
	sets := d.sets()
	used := d.entries(&n, sets)

	switch {
	case d.err != nil:
		return Node{}, d.err
	case used != len(sets) || d.at < len(b):
		return Node{}, errors.New("node holds bytes that nothing refers to")
	case d.rich && !d.extra:
		return Node{}, errors.New("node has a version that it does not need")
	}
	return n, nil
}

func checkHead(b []byte) error {
	switch {
	case len(b) > MaxNode:
		return fmt.Errorf("node has %d bytes, at most %d are allowed", len(b), MaxNode)
	case len(b) < 2 || b[0] != folderMark && b[0] != forestMark:
		return errors.New("these bytes are no node")
	case b[1] != plainNode && b[1] != richNode:
		return fmt.Errorf("node has format version %d, this program reads %d and %d: is it older than the one that "+
			"wrote it?", b[1], plainNode, richNode)
	}
	return nil
}

// decoding is how far a node is read. After an error whatever is read is nothing.
type decoding struct {
	b     []byte
	whole string // the same bytes: names and sets are parts of it, so that a node is one allocation
	at    int
	rich  bool // entries may have links and a device
	extra bool // one has
	known map[string]perm.Set
	err   error
}

// fail keeps the first error.
func (d *decoding) fail(err error) {
	if d.err == nil {
		d.err = err
	}
}

func (d *decoding) number() int {
	if d.at < len(d.b) && d.b[d.at] < 0x80 { // most are small
		d.at++
		return int(d.b[d.at-1])
	}

	v, k := binary.Uvarint(d.b[d.at:])
	if k <= 0 || v > MaxNode || k > 1 && d.b[d.at+k-1] == 0 { // a padded number is a second spelling
		d.fail(errEnd)
		return 0
	}

	d.at += k
	return int(v)
}

func (d *decoding) bytes(k int) string {
	if d.err != nil || k > len(d.b)-d.at {
		d.fail(errEnd)
		return ""
	}

	s := d.whole[d.at : d.at+k]
	d.at += k
	return s
}

// count reads how many of something follow, of at least so many bytes each: it takes room only as far as the bytes
// that are there can bear it out.
func (d *decoding) count(what string, least, most int) int {
	n := d.number()
	switch {
	case d.err != nil:
	case n > (len(d.b)-d.at)/least:
		d.fail(errEnd)
	case n > most:
		d.fail(fmt.Errorf("node has %d %s, at most %d are allowed", n, what, most))
	}
	if d.err != nil {
		return 0
	}
	return n
}

func (d *decoding) sets() []perm.Set {
	count := d.count("permission sets", minSet, MaxSets)
	if d.err != nil {
		return nil
	}

	var sets []perm.Set
	seen := map[perm.Set]bool{}
	for range count {
		set := d.set()
		if d.err == nil && seen[set] {
			d.fail(errors.New("node holds a permission set twice"))
		}
		if d.err != nil {
			return nil
		}

		seen[set] = true
		sets = append(sets, set)
	}

	return sets
}

func (d *decoding) set() perm.Set {
	enc := d.bytes(d.number())
	if enc == "" { // or nothing could be read
		return perm.Set{}
	}
	if set, ok := d.known[enc]; ok {
		return set
	}

	if d.known != nil { // it outlives this node
		enc = strings.Clone(enc)
	}
	set, err := perm.ParseSet(enc)
	if err != nil {
		d.fail(err)
		return perm.Set{}
	}
	if d.known != nil {
		d.known[set.Bytes()] = set
	}
	return set
}

// entries reads the entries of a node, which refer to the sets in their order, and returns how many sets they use.
func (d *decoding) entries(n *Node, sets []perm.Set) (used int) {
	count := d.count("entries", minEntry, MaxEntries)
	if d.err != nil {
		return 0
	}

	n.Entries = make([]Entry, count)
	for i := range n.Entries {
		e := &n.Entries[i]
		no := d.entry(e, i)
		if d.err != nil {
			return used
		}

		switch {
		case no > used || no >= len(sets):
			d.fail(fmt.Errorf("node entry %d refers to permission set %d out of order", i, no))
			return used
		case no == used:
			used++
		}

		e.Set = sets[no]
		if e.Set.IsZero() && e.Gap == NoGap {
			d.fail(fmt.Errorf("node entry %d has neither permissions nor a reason for having none", i))
			return used
		}
		if err := checkName(n.Forest, e.Name); err != nil {
			d.fail(err)
			return used
		}
		if i > 0 && n.Entries[i-1].Name >= e.Name {
			d.fail(fmt.Errorf("node entry %d is out of order or stands twice", i))
			return used
		}

		if e.HasChild() {
			copy(e.Child[:], d.bytes(len(e.Child)))
		}
	}

	return used
}

// entry reads what entry i says of itself, and returns the number of its set.
func (d *decoding) entry(e *Entry, i int) (set int) {
	head := d.bytes(1)
	set = d.number()
	e.Name = d.bytes(d.number())
	if d.err != nil {
		return 0
	}

	e.Kind, e.Gap = perm.Kind(head[0]&15), Gap(head[0]>>4)
	if d.rich && head[0]&withExtra != 0 {
		e.Gap = Gap(head[0] &^ withExtra >> 4)
		e.Links, e.Device = uint32(d.number()), Device{uint32(d.number()), uint32(d.number())}
		d.extra = true
		if d.err == nil && (!e.extra() || !e.valid(e.Kind)) {
			d.fail(fmt.Errorf("node entry %d has links or a device that it cannot have", i))
		}
	}

	if !e.Kind.Valid() || e.Gap > lastGap {
		d.fail(fmt.Errorf("node entry %d has the unknown kind or gap %#x", i, head[0]))
	}
	return set
}
