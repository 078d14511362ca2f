//go:build linux

package scan

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"idletally/internal/core/tree"
)

// A Spool keeps a scan's nodes in an unlinked temporary file, so that memory holds only where
// they are. It is a tree.Source and remembers the order: children before parents.
type Spool struct {
	mu    sync.Mutex
	f     *os.File
	w     *bufio.Writer
	size  int64
	where map[tree.Hash]span
	order []tree.Hash
}

// ErrNotSpooled says that a scan did not make a node: its folder is as it was before.
var ErrNotSpooled = errors.New("it is not in the spool")

type span struct {
	at int64
	n  int32
}

// NewSpool makes a spool in a folder.
func NewSpool(folder string) (*Spool, error) {
	f, err := os.CreateTemp(folder, "nodes-*")
	if err != nil {
		return nil, fmt.Errorf("make room for the snapshot: %w", err)
	}
	if err := os.Remove(f.Name()); err != nil {
		f.Close()
		return nil, fmt.Errorf("make room for the snapshot: %w", err)
	}
	return &Spool{f: f, w: bufio.NewWriterSize(f, 1<<20), where: map[tree.Hash]span{}}, nil
}

// Put keeps a node; equal nodes are kept once.
func (s *Spool) Put(h tree.Hash, node []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.where[h]; ok {
		return nil
	}
	if _, err := s.w.Write(node); err != nil {
		return err
	}
	s.where[h] = span{s.size, int32(len(node))}
	s.order = append(s.order, h)
	s.size += int64(len(node))
	return nil
}

// Nodes gives nodes back.
func (s *Spool) Nodes(_ context.Context, hashes []tree.Hash) ([][]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.w.Flush(); err != nil {
		return nil, err
	}
	out := make([][]byte, len(hashes))
	for i, h := range hashes {
		sp, ok := s.where[h]
		if !ok {
			return nil, fmt.Errorf("node %s: %w", h, ErrNotSpooled)
		}
		out[i] = make([]byte, sp.n)
		if _, err := s.f.ReadAt(out[i], sp.at); err != nil && err != io.EOF {
			return nil, fmt.Errorf("read spooled node: %w", err)
		}
	}
	return out, nil
}

// Order lists all nodes, children before parents.
func (s *Spool) Order() []tree.Hash { return s.order }

// Size is the number of bytes kept.
func (s *Spool) Size() int64 { return s.size }

// Close lets the room go.
func (s *Spool) Close() error { return s.f.Close() }
