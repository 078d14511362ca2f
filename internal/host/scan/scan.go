//go:build linux

// Package scan reads the permissions below some roots of a Linux host into a hash tree.
package scan

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

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
	Workers  int           // 0: two
	Cross    bool          // enter other file systems
	Progress func(Stats)   // called now and then, from any goroutine
	Throttle *Throttle     // how it keeps out of the way; nil: not at all
	Cache    *Cache        // what is known of the roots, and takes what this scan finds; it may be nil
	Touched  *Touched      // with a cache: look at these only; nil: at everything
	Denied   []Denied      // what could not be read then
	Inodes   *Inodes       // with a cache: takes the inodes that are looked at
	Mounts   bool          // tells where mounts and subvolumes begin
	Patience time.Duration // for any one call to a file system, which then does not answer; 0: half a minute
}

// Stats count what a scan met.
type Stats struct {
	Paths  int64
	Gaps   int64
	Denied []Denied // the first of them, with reasons
	Kept   int64    // of the paths, those that were looked at and cannot have changed since the last scan
	Looked int64    // of the paths, those that were looked at
	Mounts []Mounted
	places map[string]cachedPath
	owners map[perm.Principal]bool
}

// Mounted is a path where a mount begins, or where a subvolume of btrfs may.
type Mounted struct {
	Path   pathname.Path
	Mount  uint64 // its number; 0 where the kernel tells none
	Begins bool
}

// SubvolumeTop is the inode number that the top of each subvolume has on btrfs. On others it is one like any.
const SubvolumeTop = 256

// maxMounts bounds how many of them are reported: a host has at most 100,000 mounts (fs.mount-max), unless somebody
// raised that.
const maxMounts = 100_000

// Owners returns the accounts and groups that own what was looked at, or that entries name, sorted.
func (s Stats) Owners() []perm.Principal { return slices.Sorted(maps.Keys(s.owners)) }

// Store makes what a scan found the cache of the next one.
func (s Stats) Store(p *Cache) error { return p.Keep(s.places) }

// A Denied is a path that could not be read.
type Denied struct {
	Path   pathname.Path `json:"path"`
	Reason string        `json:"reason"`
}

const maxDenied = 1000

// maxOwners bounds how many accounts are reported as owners.
const maxOwners = 100_000

type folder struct {
	up      *folder
	entry   *tree.Entry // where this folder stands in up's node, or in the forest
	name    string
	way     tree.Way // down to what is in it, itself included once it is listed
	fd      int
	users   atomic.Int32 // who still needs fd: this folder's own reading and its unopened subfolders
	waiting atomic.Int32 // subfolders without a hash yet
	left    int          // subfolders that are still to be handed out, once it is listed; until then 0
	next    int          // the first entry that was not handed out
	node    tree.Node

	// What the cache says, and what is to be kept for the next time.
	dev, ino  uint64
	trusted   bool        // its file system changes ctimes as it should
	index     int         // among the entries of up
	cached    cachedPath  // what it was; at is 0 where nothing is known
	touched   *Touched    // what is to be looked at in it; nil: nothing, or no watch told
	identical bool        // all entries are as they were, but for what is below
	renewed   bool        // a stamp is another one
	differs   atomic.Bool // something below is not as it was
	moved     atomic.Bool // the record of a subfolder stands elsewhere now
	stamps    []fsys.Stamp
	places    []cachedPath // what the entries came to: those of folders count

	belowPaths, belowGaps atomic.Int64
}

type scanner struct {
	opt  Options
	sink Sink
	mu   sync.Mutex
	cond *sync.Cond
	// depth first: what is held are the folders on the way, and each knows which of its subfolders is next
	stack     []*folder
	busy      int
	err       error
	paths     atomic.Int64
	gaps      atomic.Int64
	kept      atomic.Int64
	denied    []Denied
	mounts    []Mounted
	owners    map[perm.Principal]bool // that were met
	places    map[string]cachedPath   // of the roots
	rescanned *rescanned              // where a watch told what to look at

	working sync.WaitGroup // all workers but those that were given up
	workers []*worker
}

// Scan reads everything below the roots and gives the hash of the forest. What cannot be read
// is a gap in the tree with its reason in the stats, and the scan goes on.
func Scan(ctx context.Context, roots []string, opt Options, sink Sink) (tree.Hash, Stats, error) {
	if opt.Workers == 0 {
		opt.Workers = 2
	}

	if g := opt.Throttle; g != nil { // several scans may be given the same
		opt.Throttle = &Throttle{Idle: g.Idle, AtMost: g.AtMost, started: time.Now()}
	}

	s := &scanner{opt: opt, sink: sink, places: map[string]cachedPath{}, owners: map[perm.Principal]bool{}}
	if opt.Touched != nil && opt.Cache != nil && !opt.Cache.whole {
		s.rescanned = newRescanned()
	}

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

	for range opt.Workers {
		s.start(ctx)
	}

	stop := context.AfterFunc(ctx, func() { s.fail(ctx.Err()) })
	over := make(chan struct{})
	go s.supervise(ctx, over)
	s.working.Wait()
	close(over)
	stop()
	s.mu.Lock() // stopping may be under way
	defer s.mu.Unlock()

	stats := Stats{
		Gaps:   s.gaps.Load(),
		Denied: s.denied,
		Mounts: s.mounts,
		Kept:   s.kept.Load(),
		Looked: s.paths.Load(),
		places: s.places,
		owners: s.owners,
	}

	stats.Paths = stats.Looked
	if s.rescanned != nil {
		stats.Paths, stats.Gaps = int64(len(roots)), 0
		for i, r := range roots {
			stats.Paths += s.places[r].paths
			stats.Gaps += s.places[r].gaps
			if forest.Entries[i].Gap != tree.NoGap {
				stats.Gaps++
			}
		}
		for _, d := range opt.Denied {
			if len(stats.Denied) < maxDenied && s.rescanned.counts(string(d.Path)) {
				stats.Denied = append(stats.Denied, d)
			}
		}
	}

	slices.SortFunc(stats.Denied, func(a, b Denied) int { return pathname.Compare(string(a.Path), string(b.Path)) })
	if s.err != nil {
		for _, f := range s.stack {
			for range max(f.left, 1) { // as many as were to use its descriptor
				f.release()
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
	found, err := s.within(path, func() (rootFound, error) { return lookAtRoot(path) })
	if err != nil {
		e.Gap = s.deny(path, err)
		return
	}

	e.Kind, e.Set = found.kind, found.set
	s.addOwners(e.Set)
	if e.Kind != perm.Folder {
		return
	}

	if found.content < 0 {
		e.Gap = s.deny(path, found.unread)
		return
	}

	f := &folder{name: path, fd: found.content, entry: e, way: tree.Way{Depth: 1}}
	f.users.Store(1)
	if s.opt.Cache != nil {
		f.dev = found.dev
		f.ino = found.ino
		f.trusted = found.trusted
		f.cached = s.opt.Cache.oldRoots[path]
		f.touched = s.opt.Touched.in(path)
	}

	s.stack = append(s.stack, f)
}

// rootFound is what was found at a root.
type rootFound struct {
	kind     perm.Kind
	set      perm.Set
	content  int // a descriptor of what is in it; -1 where it is no folder, or unread says why it cannot be read
	unread   error
	dev, ino uint64
	trusted  bool
}

func (f rootFound) drop() {
	if f.content >= 0 {
		unix.Close(f.content)
	}
}

func lookAtRoot(path string) (found rootFound, err error) {
	found.content = -1
	r, err := fsys.OpenRoot(path)
	if err != nil {
		return found, err
	}
	defer r.Close()

	fd, err := r.Open(path)
	if err != nil {
		return found, err
	}
	defer unix.Close(fd)

	i, err := fsys.Look(fd)
	if err != nil {
		return found, err
	}
	found.kind, found.set = i.Kind, i.Set
	if found.kind != perm.Folder {
		return found, nil
	}

	found.content, found.unread = fsys.Content(fd)
	if found.unread == nil {
		found.dev, found.ino, found.trusted = trustworthy(found.content)
	}

	return found, nil
}

// deny records that a path could not be read.
func (s *scanner) deny(path string, err error) tree.Gap {
	s.tell([]denial{{path, err}})
	return gapOf(err)
}

func (s *scanner) tell(denied []denial) {
	if len(denied) == 0 {
		return
	}
	s.gaps.Add(int64(len(denied)))
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, d := range denied {
		if len(s.denied) < maxDenied {
			s.denied = append(s.denied, Denied{pathname.Path(d.path), d.err.Error()})
		}
	}
}

// begin records where mounts and subvolumes begin.
func (s *scanner) begin(found []Mounted) error {
	if len(found) == 0 {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.mounts = append(s.mounts, found...)
	if len(s.mounts) > maxMounts {
		return fmt.Errorf("there are more than %d mounts and subvolumes: look at less at once", maxMounts)
	}
	return nil
}

// noteOwners is addOwners, except that it skips the sets that it saw last.
func (w *worker) noteOwners(set perm.Set) {
	const few, short = 4096, 512
	if w.sets[set] {
		return
	}
	if len(w.sets) < few && len(set.Bytes()) <= short {
		w.sets[set] = true
	}
	w.addOwners(set)
}

// addOwners remembers whom a set belongs to or names.
func (s *scanner) addOwners(set perm.Set) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range perm.Mentioned(set, nil) {
		if len(s.owners) < maxOwners {
			s.owners[m.ID] = true
		}
	}
}

func gapOf(err error) tree.Gap {
	gap := tree.Failed
	switch {
	case errors.Is(err, tree.ErrTooLarge):
		gap = tree.TooLarge
	case errors.Is(err, errSilent):
		gap = tree.Silent
	case errors.Is(err, unix.EACCES), errors.Is(err, unix.EPERM), errors.Is(err, unix.ELOOP):
		gap = tree.Refused
	case errors.Is(err, unix.ENOENT), errors.Is(err, unix.ENOTDIR):
		gap = tree.Vanished
	case errors.Is(err, unix.EXDEV):
		gap = tree.Mount
	}
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

// work reads folders until there are none left, and returns true, or until this worker is given up.
func (w *worker) work(ctx context.Context) bool {
	s := w.scanner
	for {
		f := s.take()
		if f == nil {
			return true
		}
		err := w.folder(ctx, f)
		if errors.Is(err, errGivenUp) {
			return false
		}
		s.settle(err)
	}
}

// take returns the next folder to be read, and nil when there is none left.
func (s *scanner) take() *folder {
	s.mu.Lock()
	defer s.mu.Unlock()

	for len(s.stack) == 0 && s.busy > 0 && s.err == nil {
		s.cond.Wait()
	}

	if len(s.stack) == 0 || s.err != nil {
		s.cond.Broadcast()
		return nil
	}

	f := s.stack[len(s.stack)-1]
	if f.left > 0 {
		f = f.subfolder()
	}

	if f.up == nil || f.up.left == 0 { // with its last subfolder a folder is in other hands
		s.stack = s.stack[:len(s.stack)-1]
	}

	s.busy++
	return f
}

// settle records that one folder that was taken is done.
func (s *scanner) settle(err error) {
	s.mu.Lock()
	s.busy--
	s.mu.Unlock()
	if err != nil {
		s.fail(err)
	}
	s.cond.Broadcast()
}

// subfolder returns the next subfolder that is to be read: there is one.
func (f *folder) subfolder() *folder {
	for !unsettled(&f.node.Entries[f.next]) {
		f.next++
	}
	i := f.next
	f.next++
	f.left--
	b := &folder{up: f, entry: &f.node.Entries[i], name: f.node.Entries[i].Name, fd: -1, index: i}
	if f.stamps != nil { // there is a cache
		b.dev = f.dev
		b.ino = f.stamps[i].Ino
		b.trusted = f.trusted
		b.cached = f.places[i]
		b.touched = f.touched.at(b.name)
	}
	return b
}

// unsettled reports whether an entry is a folder of which nothing is known yet. An empty folder has a hash, too.
func unsettled(e *tree.Entry) bool { return e.HasChild() && e.Child == tree.Hash{} }

type worker struct {
	*scanner
	reader  fsys.Reader
	dirents []byte
	names   []byte
	sorted  []string
	record  []byte // a folder's record, as it is read
	encoded []byte // and as it is written
	known   map[string]perm.Set
	sets    map[perm.Set]bool // whose owners are remembered
	were    []cachedPath      // what a folder's subfolders were
	same    []bool            // and whether they surely are the same ones

	at   atomic.Pointer[attempt] // what it is about
	beat atomic.Int64            // grows with each call that a file system has answered
}

func newWorker(s *scanner) *worker {
	return &worker{scanner: s, dirents: make([]byte, 64<<10), known: map[string]perm.Set{}, sets: map[perm.Set]bool{}}
}

// folder reads one folder. Its descriptor was opened when it was queued (roots), or is opened now beneath the parent's.
func (w *worker) folder(ctx context.Context, f *folder) error {
	l, err := w.attempt(f)
	if err != nil {
		return err
	}

	f.fd = l.fd
	f.users.Store(1)
	defer f.release()

	f.dev = l.dev
	f.ino = l.ino
	f.trusted = l.trusted
	f.cached = l.cached
	f.identical = l.identical
	f.renewed = l.renewed
	w.tell(l.denied)
	if err := w.begin(l.mounts); err != nil {
		return err
	}
	if l.err != nil {
		return w.unread(f, l.err)
	}

	f.node = l.node
	f.stamps = l.stamps
	f.places = l.places
	f.way = l.way
	w.kept.Add(l.kept)
	w.paths.Add(int64(len(f.node.Entries)))
	w.opt.Throttle.pace(ctx, len(f.node.Entries))
	if w.opt.Progress != nil {
		w.opt.Progress(Stats{Paths: w.paths.Load(), Gaps: w.gaps.Load()})
	}

	below := 0
	for i := range f.node.Entries {
		e := &f.node.Entries[i]
		switch {
		case !e.HasChild():
		case l.settled[i]:
			e.Child = f.places[i].node
			f.belowPaths.Add(f.places[i].paths)
			f.belowGaps.Add(f.places[i].gaps)
		default:
			below++
		}
	}

	if below == 0 {
		return w.finish(f)
	}

	f.left = below
	f.waiting.Store(int32(below))
	f.users.Add(int32(below))
	w.mu.Lock()
	w.stack = append(w.stack, f)
	w.mu.Unlock()
	w.cond.Broadcast()
	return nil
}

func (f *folder) release() {
	if f.users.Add(-1) == 0 {
		unix.Close(f.fd)
	}
}

// The path is for reasons only; nothing is opened by it.
func (f *folder) path() string {
	if f.up == nil {
		return f.name
	}
	return pathname.Join(f.up.path(), f.name)
}

// unread records that a folder's content could not be read.
func (w *worker) unread(f *folder, err error) error {
	f.entry.Gap = w.deny(f.path(), err)
	if w.rescanned != nil {
		w.mu.Lock()
		w.rescanned.trees[f.path()] = true
		w.mu.Unlock()
	}
	if f.up != nil {
		f.up.differs.Store(true)
		f.up.moved.Store(true)
	}
	return w.arrived(f.up)
}

// arrived records that one more subfolder of f is settled; a root lies in no folder.
func (w *worker) arrived(f *folder) error {
	if f == nil || f.waiting.Add(-1) > 0 {
		return nil
	}
	return w.finish(f)
}

// finish encodes a folder whose subfolders are all settled, and tells its parent.
func (w *worker) finish(f *folder) error {
	same := f.identical && !f.differs.Load()
	if same {
		f.entry.Child = f.cached.node
	} else {
		b := tree.Encode(f.node)
		f.entry.Child = tree.Sum(b)
		if err := w.sink.Put(f.entry.Child, b); err != nil {
			return fmt.Errorf("keep node: %w", err)
		}
	}

	if err := w.store(f, same); err != nil {
		return err
	}

	f.node = tree.Node{}
	f.stamps = nil
	f.places = nil
	return w.arrived(f.up)
}

// store keeps a settled folder for the next scan.
func (w *worker) store(f *folder, same bool) error {
	p := w.opt.Cache
	if p == nil {
		return nil
	}

	is := cachedPath{
		at:    f.cached.at,
		node:  f.entry.Child,
		paths: int64(len(f.node.Entries)) + f.belowPaths.Load(),
		gaps:  f.belowGaps.Load(),
	}

	for i := range f.node.Entries {
		if f.node.Entries[i].Gap != tree.NoGap {
			is.gaps++
		}
	}

	if !same || f.renewed || f.moved.Load() {
		w.encoded = p.encode(w.encoded[:0], f)
		var err error
		if is.at, err = p.append(w.encoded); err != nil {
			return err
		}
	}

	if f.up == nil {
		w.mu.Lock()
		w.places[f.name] = is
		w.mu.Unlock()
		return nil
	}

	f.up.places[f.index] = is
	f.up.belowPaths.Add(is.paths)
	f.up.belowGaps.Add(is.gaps)
	if f.cached.node != is.node {
		f.up.differs.Store(true)
	}

	if is.at != f.cached.at {
		f.up.moved.Store(true)
	}

	return nil
}
