// Package archive writes a snapshot to one file that holds all of it, and reads it back: taken on a
// host without a network, carried elsewhere, kept for years. Orders and reports of runs are carried in the same way.
//
// A snapshot file is the line "idletally snapshot 1" and a zstd stream (RFC 8878) with a checksum. In the
// stream stands, each as its length (uvarint) and its bytes, first a head in JSON, then the nodes,
// children before parents, the forest last. All of it follows from the forest's hash in the head.
package archive

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"idletally/internal/core/pathname"
	"idletally/internal/core/tree"
	"idletally/internal/core/untrusted"
	"idletally/internal/wire"
)

const mark = "idletally snapshot 1\n"

// Limits of a file: of its head, and of all its nodes together, in bytes, and of how many different ones it may have.
const (
	MaxHead  = 32 << 20
	MaxNodes = 8 << 30
	MaxCount = 10_000_000
)

// A Head is what a snapshot knows besides its nodes.
type Head struct {
	Host        string          `json:"host"`
	Application string          `json:"application,omitempty"`
	Taken       time.Time       `json:"taken"`
	Roots       []pathname.Path `json:"roots"`
	wire.SnapshotDone
}

// Write writes a snapshot.
func Write(ctx context.Context, w io.Writer, h Head, src tree.Source) error {
	out, err := begin(w, mark)
	if err != nil {
		return err
	}
	head, err := json.Marshal(h)
	if err == nil {
		err = out.piece(head)
	}
	if err == nil {
		err = tree.Each(ctx, src, h.Forest, func(_ tree.Hash, node []byte) error { return out.piece(node) })
	}
	return errors.Join(err, out.z.Close())
}

// ErrNoSnapshot says that a file is no snapshot, or a damaged one.
var ErrNoSnapshot = errors.New("this is no sound snapshot file")

// Read reads a snapshot and checks it: each node is whole and canonical, all that a node refers to came before it,
// and the forest is the one that the head names. Nodes are handed out as they come, after head.
func Read(r io.Reader, head func(Head) error, node func(h tree.Hash, b []byte) error) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: %w", ErrNoSnapshot, fmt.Errorf(format, args...))
	}
	in, err := open(r, mark, MaxNodes)
	if err != nil {
		return bad("%w", err)
	}
	defer in.z.Close()

	b, err := in.piece(MaxHead)
	if err != nil {
		return bad("its head: %w", err)
	}
	var h Head
	if err := untrusted.JSON(b, untrusted.MaxElements, &h); err != nil {
		return bad("its head: %w", err)
	}
	if err := h.check(); err != nil {
		return bad("its head: %w", err)
	}
	if err := head(h); err != nil {
		return err
	}

	seen := map[tree.Hash]tree.Measure{}
	for {
		b, err := in.piece(tree.MaxNode)
		if errors.Is(err, io.EOF) {
			break
		}

		if err == nil && len(seen) == MaxCount {
			err = untrusted.ErrTooMuch
		}

		if err != nil {
			return bad("node %d: %w", len(seen)+1, err)
		}
		n, err := tree.Decode(b)
		if err != nil {
			return bad("node %d: %w", len(seen)+1, err)
		}

		own, branches := n.Measure()
		below := make([]tree.Measure, len(branches))
		for i, c := range branches {
			var ok bool
			if below[i], ok = seen[c.Child]; !ok {
				return bad("node %d refers to node %s, which did not come before it", len(seen)+1, c.Child)
			}
		}

		sum := tree.Sum(b)
		if seen[sum], err = own.Grow(branches, below); err != nil {
			return bad("node %d: %w", len(seen), err)
		}
		if err := node(sum, b); err != nil {
			return err
		}
	}

	all, ok := seen[h.Forest]
	switch {
	case !ok:
		return bad("the forest %s is not in it", h.Forest)
	case all.Paths != h.Paths || all.Gaps != h.Gaps:
		return bad("it tells of %d paths and %d gaps, and has %d and %d", h.Paths, h.Gaps, all.Paths, all.Gaps)
	}

	return nil
}

func (h *Head) check() error {
	if h.Taken.IsZero() || h.Directory == nil || len(h.Roots) == 0 {
		return errors.New("it lacks when the snapshot was taken, its accounts or its roots")
	}
	if y := h.Taken.Year(); y < 2000 || y > 9999 {
		return fmt.Errorf("it says that the snapshot was taken in the year %d", y)
	}
	for _, r := range h.Roots {
		if err := pathname.Check(string(r)); err != nil {
			return err
		}
	}
	h.Directory.Index()
	return nil
}
