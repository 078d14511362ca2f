//go:build linux

// Package scan reads the permissions below some roots of a Linux host into a hash tree.
package scan

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"unsafe"

	"golang.org/x/sys/unix"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/fsys"
)

// A Sink takes nodes, children before parents. It may be called from several goroutines.
type Sink interface {
	Put(h tree.Hash, node []byte) error
}

// Options of a scan. The zero value is sound.
type Options struct {
	Workers  int         // 0: two
	Cross    bool        // enter other file systems
	Progress func(Stats) // called now and then, from any goroutine
}

// Stats count what a scan met.
type Stats struct {
	Paths  int64
	Gaps   int64
	Denied []Denied // the first of them, with reasons
}

// A Denied is a path that could not be read.
type Denied struct {
	Path   pathname.Path `json:"path"`
	Reason string        `json:"reason"`
}

const maxDenied = 1000

type folder struct {
	up      *folder
	entry   *tree.Entry // where this folder stands in up's node, or in the forest
	name    string
	fd      int
	users   atomic.Int32 // who still needs fd: this folder's own reading and its unopened subfolders
	waiting atomic.Int32 // subfolders without a hash yet
	node    tree.Node
}

type scanner struct {
	ctx    context.Context
	opt    Options
	sink   Sink
	mu     sync.Mutex
	cond   *sync.Cond
	stack  []*folder // depth first: memory is bounded by depth and breadth, not by the tree
	busy   int
	err    error
	paths  atomic.Int64
	gaps   atomic.Int64
	denied []Denied
}

// Scan reads everything below the roots and gives the hash of the forest. What cannot be read
// is a gap in the tree with its reason in the stats, and the scan goes on.
func Scan(ctx context.Context, roots []string, opt Options, sink Sink) (tree.Hash, Stats, error) {
	if opt.Workers == 0 {
		opt.Workers = 2
	}
	s := &scanner{ctx: ctx, opt: opt, sink: sink}
	s.cond = sync.NewCond(&s.mu)
	roots = slices.Clone(roots)
	slices.Sort(roots)
	forest := tree.Node{Forest: true, Entries: make([]tree.Entry, len(roots))}
	for i, r := range roots {
		if err := pathname.Check(r); err != nil {
			return tree.Hash{}, Stats{}, err
		}
		s.root(r, &forest.Entries[i])
	}
	var wg sync.WaitGroup
	for range opt.Workers {
		wg.Go(s.work)
	}
	stop := context.AfterFunc(ctx, func() { s.fail(ctx.Err()) })
	wg.Wait()
	stop()
	stats := Stats{s.paths.Load(), s.gaps.Load(), s.denied}
	slices.SortFunc(stats.Denied, func(a, b Denied) int { return pathname.Compare(string(a.Path), string(b.Path)) })
	if s.err != nil {
		for _, f := range s.stack {
			if f.up == nil {
				f.release()
			} else {
				f.up.release()
			}
		}
		return tree.Hash{}, stats, s.err
	}
	b := tree.Encode(forest)
	h := tree.Sum(b)
	if err := sink.Put(h, b); err != nil {
		return tree.Hash{}, stats, err
	}
	if opt.Progress != nil {
		opt.Progress(stats)
	}
	return h, stats, nil
}

// root looks at a root itself and queues its content.
func (s *scanner) root(path string, e *tree.Entry) {
	*e = tree.Entry{Name: path, Kind: perm.Folder}
	s.paths.Add(1)
	r, err := fsys.OpenRoot(path)
	if err != nil {
		e.Gap = s.deny(path, err)
		return
	}
	defer r.Close()
	fd, err := r.Open(path)
	if err != nil {
		e.Gap = s.deny(path, err)
		return
	}
	defer unix.Close(fd)
	i, err := fsys.Look(fd)
	if err != nil {
		e.Gap = s.deny(path, err)
		return
	}
	e.Kind, e.Set = i.Kind, i.State.Set()
	if e.Kind != perm.Folder {
		return
	}
	content, err := fsys.Content(fd)
	if err != nil {
		e.Gap = s.deny(path, err)
		return
	}
	f := &folder{name: path, fd: content, entry: e}
	f.users.Store(1)
	s.stack = append(s.stack, f)
}

func (s *scanner) deny(path string, err error) tree.Gap {
	s.gaps.Add(1)
	gap := tree.Failed
	switch {
	case errors.Is(err, unix.EACCES), errors.Is(err, unix.EPERM), errors.Is(err, unix.ELOOP):
		gap = tree.Refused
	case errors.Is(err, unix.ENOENT), errors.Is(err, unix.ENOTDIR):
		gap = tree.Vanished
	case errors.Is(err, unix.EXDEV):
		gap = tree.Mount
	}
	s.mu.Lock()
	if len(s.denied) < maxDenied {
		s.denied = append(s.denied, Denied{pathname.Path(path), err.Error()})
	}
	s.mu.Unlock()
	return gap
}

func (s *scanner) fail(err error) {
	s.mu.Lock()
	if s.err == nil {
		s.err = err
	}
	s.mu.Unlock()
	s.cond.Broadcast()
}

func (s *scanner) work() {
	r := &worker{scanner: s, dirents: make([]byte, 64<<10)}
	for {
		s.mu.Lock()
		for len(s.stack) == 0 && s.busy > 0 && s.err == nil {
			s.cond.Wait()
		}
		if len(s.stack) == 0 || s.err != nil {
			s.mu.Unlock()
			s.cond.Broadcast()
			return
		}
		f := s.stack[len(s.stack)-1]
		s.stack = s.stack[:len(s.stack)-1]
		s.busy++
		s.mu.Unlock()
		err := r.folder(f)
		s.mu.Lock()
		s.busy--
		s.mu.Unlock()
		if err != nil {
			s.fail(err)
		}
		s.cond.Broadcast()
	}
}

type worker struct {
	*scanner
	reader  fsys.Reader
	dirents []byte
	names   []byte
	sorted  []string
}

// folder reads one folder. Its descriptor was opened when it was queued under its parent's
// (roots), or is opened now beneath the parent's.
func (w *worker) folder(f *folder) error {
	if f.up != nil {
		fd, err := fsys.Subfolder(f.up.fd, f.name, w.opt.Cross)
		f.up.release()
		if err != nil {
			f.entry.Gap = w.deny(f.path(), err)
			return w.arrived(f.up)
		}
		f.fd = fd
		f.users.Store(1)
	}
	defer f.release()
	if err := w.list(f); err != nil {
		f.entry.Gap = w.deny(f.path(), err)
		f.node = tree.Node{}
		return w.arrived(f.up)
	}
	w.paths.Add(int64(len(f.node.Entries)))
	if w.opt.Progress != nil {
		w.opt.Progress(Stats{Paths: w.paths.Load(), Gaps: w.gaps.Load()})
	}
	var below []*folder
	for i := range f.node.Entries {
		if f.node.Entries[i].HasChild() {
			below = append(below, &folder{up: f, entry: &f.node.Entries[i], name: f.node.Entries[i].Name, fd: -1})
		}
	}
	if len(below) == 0 {
		return w.finish(f)
	}
	f.waiting.Store(int32(len(below)))
	f.users.Add(int32(len(below)))
	slices.Reverse(below)
	w.mu.Lock()
	w.stack = append(w.stack, below...)
	w.mu.Unlock()
	w.cond.Broadcast()
	return nil
}

func (f *folder) release() {
	if f.users.Add(-1) == 0 {
		unix.Close(f.fd)
	}
}

// path is for reasons only; nothing is opened by it.
func (f *folder) path() string {
	if f.up == nil {
		return f.name
	}
	return pathname.Join(f.up.path(), f.name)
}

func (w *worker) list(f *folder) error {
	w.names = w.names[:0]
	for {
		n, err := unix.Getdents(f.fd, w.dirents)
		if err == unix.EINTR {
			continue
		}
		if err != nil {
			return err
		}
		if n <= 0 {
			break
		}
		for b := w.dirents[:n]; len(b) > 0; {
			size := binary.NativeEndian.Uint16(b[16:])
			name := b[19:size]
			name = name[:bytes.IndexByte(name, 0)+1]
			b = b[size:]
			if string(name) != ".\x00" && string(name) != "..\x00" {
				w.names = append(w.names, name...)
			}
		}
	}
	all := string(w.names) // one allocation for the names of a folder
	w.sorted = w.sorted[:0]
	for at := 0; at < len(all); {
		end := at + strings.IndexByte(all[at:], 0)
		w.sorted = append(w.sorted, all[at:end+1])
		at = end + 1
	}
	slices.Sort(w.sorted) // with their NUL bytes: no name holds one, so the order is that of the names
	// A folder that changes while it is listed can show a name twice.
	w.sorted = slices.Compact(w.sorted)
	f.node.Entries = make([]tree.Entry, 0, len(w.sorted))
	for _, raw := range w.sorted {
		name := raw[:len(raw)-1]
		// The system calls only read the name, so the string's own bytes will do.
		kind, set, err := w.reader.At(f.fd, unsafe.Slice(unsafe.StringData(raw), len(raw)))
		if errors.Is(err, unix.ENOENT) {
			continue // it went away while we listed: as if it had gone before
		}
		e := tree.Entry{Name: name, Kind: kind, Set: set}
		if err != nil {
			if e.Kind == 0 {
				e.Kind = perm.File
			}
			e.Gap = w.deny(pathname.Join(f.path(), name), err)
		}
		f.node.Entries = append(f.node.Entries, e)
	}
	return nil
}

// arrived notes that one more subfolder of f is settled; a root lies in no folder.
func (w *worker) arrived(f *folder) error {
	if f == nil || f.waiting.Add(-1) > 0 {
		return nil
	}
	return w.finish(f)
}

// finish encodes a folder whose subfolders are all settled, and tells its parent.
func (w *worker) finish(f *folder) error {
	b := tree.Encode(f.node)
	if len(b) > tree.MaxNode {
		return fmt.Errorf("folder %s has too many entries for one node (%d bytes, at most %d)", pathname.Escape(f.path()), len(b), tree.MaxNode)
	}
	f.entry.Child = tree.Sum(b)
	if err := w.sink.Put(f.entry.Child, b); err != nil {
		return fmt.Errorf("keep node: %w", err)
	}
	f.node = tree.Node{}
	return w.arrived(f.up)
}
