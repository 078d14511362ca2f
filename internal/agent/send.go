package agent

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"sync/atomic"

	"github.com/klauspost/compress/zstd"

	"idletally/internal/client"
	"idletally/internal/core/pathname"
	"idletally/internal/core/tree"
	"idletally/internal/host/spool"
	"idletally/internal/wire"
)

// allowed removes the roots that this host's own list does not hold.
func (a *Agent) allowed(roots []string) (in []string, denied []wire.Denied, err error) {
	for _, r := range roots {
		raw, err := pathname.Unescape(r)
		if err != nil {
			return nil, nil, err
		}
		if slices.ContainsFunc(a.roots, func(own string) bool { return pathname.Under(raw, own) }) {
			in = append(in, raw)
		} else {
			denied = append(denied, wire.Denied{Path: r, Reason: "this host's own list of roots does not hold it"})
		}
	}
	return in, denied, nil
}

func (a *Agent) snapshot(ctx context.Context, w *wire.Work, done *atomic.Int64) error {
	roots, denied, err := a.allowed(w.Roots)
	if err != nil {
		return a.cannot(ctx, w, fmt.Errorf("roots: %w", err))
	}
	if len(denied) > 0 {
		return a.cannot(ctx, w,
			fmt.Errorf("%s: %s: add it with idletally agent enrol --root", denied[0].Path, denied[0].Reason))
	}
	return a.host.snapshot(ctx, w, roots, done)
}

// cannot reports to the service why there is no snapshot.
func (a *Agent) cannot(ctx context.Context, w *wire.Work, why error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return a.api.SnapshotDone(ctx, w.ID, wire.SnapshotDone{Failed: why.Error()})
}

const (
	askAtOnce = 10_000
	packSize  = 4 << 20
)

// errLacks says that the service lacks nodes which this scan did not make, because their folders have not changed.
var errLacks = errors.New("the service lacks folders that have not changed")

// send sends the service the nodes that it lacks, children before parents. If the service has a node, it has
// everything below: with the forest, it has all.
func (a *Agent) send(ctx context.Context, spool *spool.Spool, forest tree.Hash) (int, error) {
	if missing, err := a.api.Missing(ctx, []tree.Hash{forest}); err != nil || !missing[0] {
		return 0, err
	}
	z, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return 0, err
	}
	out := sender{a: a, z: z}
	if err := spool.Each(func(h tree.Hash, node []byte) error { return out.add(ctx, h, node) }); err != nil {
		return out.sent, err
	}
	err = errors.Join(out.ask(ctx), out.flush(ctx))
	return out.sent, err
}

// sender gathers nodes until there are enough to ask which of them are missing.
type sender struct {
	a      *Agent
	z      *zstd.Encoder
	hashes []tree.Hash
	nodes  []byte // one after another
	ends   []int
	pack   []byte
	sent   int
}

func (s *sender) add(ctx context.Context, h tree.Hash, node []byte) error {
	s.hashes, s.nodes = append(s.hashes, h), append(s.nodes, node...)
	s.ends = append(s.ends, len(s.nodes))
	if len(s.hashes) < askAtOnce && len(s.nodes) < packSize {
		return nil
	}
	return s.ask(ctx)
}

// ask puts what the service lacks into the pack.
func (s *sender) ask(ctx context.Context) error {
	if len(s.hashes) == 0 {
		return nil
	}
	missing, err := s.a.api.Missing(ctx, s.hashes)
	if err != nil {
		return err
	}

	packed, from := map[tree.Hash]bool{}, 0
	for i, h := range s.hashes {
		node := s.nodes[from:s.ends[i]]
		from = s.ends[i]
		if !missing[i] || packed[h] {
			continue
		}

		packed[h] = true
		s.pack = tree.AppendPack(s.pack, node)
		if len(s.pack) >= packSize {
			if err := s.flush(ctx); err != nil {
				return err
			}
		}
	}

	s.hashes = s.hashes[:0]
	s.nodes = s.nodes[:0]
	s.ends = s.ends[:0]
	return nil
}

func (s *sender) flush(ctx context.Context) error {
	if len(s.pack) == 0 {
		return nil
	}
	body := s.z.EncodeAll(s.pack, nil)
	s.sent += len(body)
	s.pack = s.pack[:0]
	err := s.a.api.SendNodes(ctx, body)
	if client.Status(err) == http.StatusUnprocessableEntity { // a node refers to one that was not sent
		return fmt.Errorf("%w: %w", errLacks, err)
	}
	return err
}
