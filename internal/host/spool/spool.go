// Package spool keeps a snapshot's nodes while they are made.
package spool

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"sync"

	"idletally/internal/core/tree"
	"idletally/internal/private"
)

// A Spool keeps nodes in a temporary file without a name, one after another as they come: children before parents.
// Memory holds nothing of them until somebody asks for one by its hash; then it holds where each is, and the spool is
// a tree.Source.
type Spool struct {
	mu    sync.Mutex
	f     *os.File
	named bool
	w     *bufio.Writer
	size  int64
	count int
	where map[tree.Hash]span // nil before the first question
}

type span struct {
	at int64
	n  int32
}

const spoolHead = len(tree.Hash{}) + 4

// New makes a spool in a folder.
func New(folder string) (*Spool, error) {
	f, err := private.CreateTemp(folder, "nodes-*")
	if err != nil {
		return nil, fmt.Errorf("make room for the snapshot: %w", err)
	}
	named := os.Remove(f.Name()) != nil // some systems take no name from what is open
	return &Spool{f: f, named: named, w: bufio.NewWriterSize(f, 1<<20)}, nil
}

// Put keeps a node.
func (s *Spool) Put(h tree.Hash, node []byte) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.where != nil {
		return errors.New("a spool that was asked takes no more nodes")
	}
	var head [spoolHead]byte
	copy(head[:], h[:])
	binary.LittleEndian.PutUint32(head[len(h):], uint32(len(node)))
	_, _ = s.w.Write(head[:]) // an error stays with the writer
	if _, err := s.w.Write(node); err != nil {
		return fmt.Errorf("keep a node: %w", err)
	}
	s.count++
	s.size += int64(len(node))
	return nil
}

// Each hands out all nodes in the order in which they came; equal ones may come again.
func (s *Spool) Each(f func(h tree.Hash, node []byte) error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var node []byte
	return s.heads(func(in io.Reader, h tree.Hash, at span) error {
		if cap(node) < int(at.n) {
			node = make([]byte, at.n)
		}
		node = node[:at.n]
		if _, err := io.ReadFull(in, node); err != nil {
			return fmt.Errorf("read a spooled node: %w", err)
		}
		return f(h, node)
	})
}

// heads goes through the nodes; visit reads each of them whole.
func (s *Spool) heads(visit func(in io.Reader, h tree.Hash, at span) error) error {
	if err := s.w.Flush(); err != nil {
		return fmt.Errorf("keep nodes: %w", err)
	}

	in := bufio.NewReaderSize(io.NewSectionReader(s.f, 0, 1<<62), 1<<20)
	at := int64(0)
	for range s.count {
		var head [spoolHead]byte
		if _, err := io.ReadFull(in, head[:]); err != nil {
			return fmt.Errorf("read a spooled node: %w", err)
		}
		x := span{at + int64(spoolHead), int32(binary.LittleEndian.Uint32(head[len(tree.Hash{}):]))}
		if err := visit(in, tree.Hash(head[:len(tree.Hash{})]), x); err != nil {
			return err
		}

		at = x.at + int64(x.n)
	}

	return nil
}

// Nodes returns nodes by their hashes.
func (s *Spool) Nodes(_ context.Context, hashes []tree.Hash) ([][]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()

	if s.where == nil {
		where := make(map[tree.Hash]span, s.count)
		if err := s.heads(func(in io.Reader, h tree.Hash, at span) error {
			where[h] = at
			_, err := io.CopyN(io.Discard, in, int64(at.n))
			return err
		}); err != nil {
			return nil, err
		}
		s.where = where
	}

	out := make([][]byte, len(hashes))
	for i, h := range hashes {
		sp, ok := s.where[h]
		if !ok {
			return nil, fmt.Errorf("node %s is not in the spool", h)
		}
		out[i] = make([]byte, sp.n)
		if _, err := s.f.ReadAt(out[i], sp.at); err != nil && err != io.EOF {
			return nil, fmt.Errorf("read a spooled node: %w", err)
		}
	}

	return out, nil
}

// Count is the number of nodes kept.
func (s *Spool) Count() int { return s.count }

// Size is the number of bytes kept.
func (s *Spool) Size() int64 { return s.size }

// Close lets the room go.
func (s *Spool) Close() error {
	err := s.f.Close()
	if s.named {
		err = errors.Join(err, os.Remove(s.f.Name()))
	}
	return err
}
