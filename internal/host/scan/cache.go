//go:build linux

package scan

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/fsys"
)

// A Cache is what the last scan of some roots found, folder by folder, so that the next one reads
// access entries only where something changed: whatever changes an inode's permissions changes its
// ctime, and nothing sets that back. It is a file of records, children before parents; a parent's
// record says where its children's are, so that no more of it is in memory than the folders on the
// way. Records of folders that are as before stay where they are; what is new is written behind
// them. Each record has a checksum, and a file that does not end as it should is no cache at all.
//
// A ctime is only as fine as the kernel's clock ticks, and a path could change twice in one tick.
// What changed shortly before it was looked at is therefore not trusted the next time.
type Cache struct {
	file     string
	old      *os.File // of the last scan; nil where there is none
	oldEnd   int64
	oldRoots map[string]cachedPath
	full     time.Time // when everything was read last
	base     int64     // how large the file was then
	mu       sync.Mutex
	out      *os.File
	w        *bufio.Writer
	at       int64
	sure     int64 // what changed after this may change again unseen
	whole    bool
}

const (
	pastMark    = "idletally past 2\n"
	recordHead  = 8 // length and checksum
	withExtra   = 0x80
	trailerSize = 8
	maxRecord   = 2 * tree.MaxNode
	tick        = time.Second // far more than any file system's clock is coarse
)

// cachedPath is a folder that is complete: where its record is, its node, and how much is below.
type cachedPath struct {
	at          int64 // 0 for none
	node        tree.Hash
	paths, gaps int64
}

func (p cachedPath) append(b []byte) []byte {
	b = binary.LittleEndian.AppendUint64(b, uint64(p.at))
	b = append(b, p.node[:]...)
	b = binary.AppendUvarint(b, uint64(p.paths))
	return binary.AppendUvarint(b, uint64(p.gaps))
}

// slack is an allowance in bytes: a new cache file is begun once the appended records exceed the last full scan's size
// plus this.
const slack = 16 << 20

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// OpenCache opens what is known, or begins anew if nothing is, or if everything is to be read again.
func OpenCache(file string, whole bool) (*Cache, error) {
	p := &Cache{file: file, whole: whole}
	if !whole {
		p.open()
	}

	if p.old == nil {
		p.whole = true
	}

	p.sure = time.Now().Add(-tick).UnixNano()
	if p.whole {
		f, err := os.CreateTemp(filepath.Dir(file), filepath.Base(file)+"-*")
		if err != nil {
			return nil, fmt.Errorf("make room for what the scan finds: %w", err)
		}
		p.out, p.full = f, time.Now()
	} else {
		p.out, p.at = p.old, p.oldEnd
	}

	p.w = bufio.NewWriterSize(io.NewOffsetWriter(p.out, p.at), 1<<20)
	if p.whole {
		_, _ = p.w.WriteString(pastMark) // an error stays with the writer until it is flushed
		p.at = int64(len(pastMark))
	}

	return p, nil
}

// Whole reports whether everything is read, since nothing is known.
func (p *Cache) Whole() bool { return p.whole }

// Full says when everything was read last.
func (p *Cache) Full() time.Time { return p.full }

// open reads the end of the file; a file that is not as it should be is treated as missing.
func (p *Cache) open() {
	f, err := os.OpenFile(p.file, os.O_RDWR|unix.O_NOFOLLOW, 0)
	if err != nil {
		return
	}

	keep := false
	defer func() {
		if !keep {
			f.Close()
		}
	}()

	st, err := f.Stat()
	if err != nil || st.Size() < int64(len(pastMark))+trailerSize {
		return
	}

	var head [len(pastMark)]byte
	var tail [trailerSize]byte
	if _, err := f.ReadAt(head[:], 0); err != nil || string(head[:]) != pastMark {
		return
	}
	if _, err := f.ReadAt(tail[:], st.Size()-trailerSize); err != nil {
		return
	}

	p.old, p.oldEnd = f, st.Size()
	b, err := p.record(int64(binary.LittleEndian.Uint64(tail[:])), new([]byte))
	if err != nil {
		p.old = nil
		return
	}

	d := decoder{b: b}
	p.full, p.base = time.Unix(0, int64(d.u64())), int64(d.u64())
	p.oldRoots = map[string]cachedPath{}
	for range d.number() {
		name := string(d.bytes(d.number()))
		p.oldRoots[name] = d.cachedPath()
	}

	if d.err != nil || len(d.b) > 0 || p.oldEnd > 2*p.base+slack { // much of it is no longer of use
		p.old, p.oldRoots = nil, nil
		return
	}

	keep = true
}

var errDamaged = errors.New("what the last scan found is damaged")

// record reads a record into a buffer, which it makes larger if necessary.
func (p *Cache) record(at int64, room *[]byte) ([]byte, error) {
	if len(*room) == 0 {
		*room = make([]byte, 4096)
	}

	buf := *room
	if at < int64(len(pastMark)) || at > p.oldEnd-recordHead {
		return nil, errDamaged
	}
	n, err := p.old.ReadAt(buf[:min(int64(len(buf)), p.oldEnd-at)], at)
	if err != nil && err != io.EOF || n < recordHead {
		return nil, errDamaged
	}
	size, sum := int(binary.LittleEndian.Uint32(buf)), binary.LittleEndian.Uint32(buf[4:])
	if size > maxRecord || at+recordHead+int64(size) > p.oldEnd {
		return nil, errDamaged
	}

	if n < recordHead+size {
		if len(buf) < recordHead+size {
			*room = make([]byte, recordHead+size)
			buf = *room
		}
		if _, err := p.old.ReadAt(buf[:recordHead+size], at); err != nil {
			return nil, errDamaged
		}
	}

	b := buf[recordHead : recordHead+size]
	if crc32.Checksum(b, castagnoli) != sum {
		return nil, errDamaged
	}

	return b, nil
}

// append writes a record, and gives where it is.
func (p *Cache) append(payload []byte) (int64, error) {
	var head [recordHead]byte
	binary.LittleEndian.PutUint32(head[:], uint32(len(payload)))
	binary.LittleEndian.PutUint32(head[4:], crc32.Checksum(payload, castagnoli))
	p.mu.Lock()
	defer p.mu.Unlock()
	at := p.at
	_, _ = p.w.Write(head[:])
	if _, err := p.w.Write(payload); err != nil {
		return 0, fmt.Errorf("keep what the scan finds: %w", err)
	}
	p.at += recordHead + int64(len(payload))
	return at, nil
}

// Keep makes what this scan found the cache of the next one. It is called when the service has stored the snapshot: a
// cache of nodes that the service does not have would leave it without them.
func (p *Cache) Keep(roots map[string]cachedPath) error {
	if p.whole {
		p.base = p.at
	}

	b := binary.LittleEndian.AppendUint64(nil, uint64(p.full.UnixNano()))
	b = binary.LittleEndian.AppendUint64(b, uint64(p.base))
	b = binary.AppendUvarint(b, uint64(len(roots)))

	for name, at := range roots {
		b = binary.AppendUvarint(b, uint64(len(name)))
		b = append(b, name...)
		b = at.append(b)
	}

	at, err := p.append(b)
	if err != nil {
		return err
	}

	var tail [trailerSize]byte
	binary.LittleEndian.PutUint64(tail[:], uint64(at))
	_, _ = p.w.Write(tail[:])
	if err := p.w.Flush(); err != nil {
		return fmt.Errorf("keep what the scan found: %w", err)
	}

	if p.whole {
		if err := os.Rename(p.out.Name(), p.file); err != nil {
			return fmt.Errorf("keep what the scan found: %w", err)
		}
	}

	p.oldEnd = p.at + trailerSize
	out := p.out
	p.out, p.old = nil, nil
	return out.Close()
}

// Close discards what was not kept.
func (p *Cache) Close() {
	switch {
	case p.out == nil:
	case p.whole:
		p.out.Close()
		_ = os.Remove(p.out.Name())
	default:
		_ = p.out.Truncate(p.oldEnd)
		p.out.Close()
	}
	p.out = nil
}

// Forget removes a cache: the next scan reads everything.
func Forget(file string) error {
	if err := os.Remove(file); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

type decoder struct {
	b   []byte
	err error
}

func (d *decoder) bytes(n int) []byte {
	if d.err != nil || n < 0 || n > len(d.b) {
		d.err = errDamaged
		return nil
	}
	out := d.b[:n]
	d.b = d.b[n:]
	return out
}

func (d *decoder) number() int {
	v := d.count()
	if v > maxRecord {
		d.err = errDamaged
		return 0
	}
	return int(v)
}

func (d *decoder) count() int64 {
	v, n := binary.Uvarint(d.b)
	if n <= 0 || v > math.MaxInt64 {
		d.err = errDamaged
		return 0
	}
	d.b = d.b[n:]
	return int64(v)
}

func (d *decoder) cachedPath() (p cachedPath) {
	p.at = int64(d.u64())
	copy(p.node[:], d.bytes(len(p.node)))
	p.paths, p.gaps = d.count(), d.count()
	return p
}

func (d *decoder) u64() uint64 {
	b := d.bytes(8)
	if b == nil {
		return 0
	}
	return binary.LittleEndian.Uint64(b)
}

// cachedFolder is a folder as the last scan found it; its entries come one after another, by name.
type cachedFolder struct {
	d    decoder
	sets []perm.Set
	left int
	// The entry at hand.
	name  []byte
	gap   tree.Gap
	extra tree.Extra
	known fsys.Known
	child cachedPath
}

// look reads a folder's record; it is nil if that is of another folder. known holds sets that were checked before.
func (p *Cache) look(at int64, dev, ino uint64, buf *[]byte, known map[string]perm.Set) *cachedFolder {
	b, err := p.record(at, buf)
	if err != nil {
		return nil
	}
	f := &cachedFolder{d: decoder{b: b}}
	if f.d.u64() != dev || f.d.u64() != ino {
		return nil
	}

	f.sets = make([]perm.Set, min(f.d.number(), len(b)))
	for i := range f.sets {
		enc := f.d.bytes(f.d.number())
		set, ok := known[string(enc)]
		if !ok && len(enc) > 0 {
			if set, err = perm.ParseSet(string(enc)); err != nil {
				return nil
			}
			if len(known) < 10_000 && len(enc) <= 1024 {
				known[set.Bytes()] = set
			}
		}

		f.sets[i] = set
	}

	f.left = f.d.number()
	if f.d.err != nil {
		return nil
	}

	f.next()
	return f
}

// next goes on to the next entry; the name is nil if there is none.
func (f *cachedFolder) next() {
	f.name = nil
	if f.left == 0 || f.d.err != nil {
		return
	}

	f.left--
	head, no := f.d.bytes(1), f.d.number()
	name := f.d.bytes(f.d.number())
	f.known.Ino, f.known.Changed = f.d.u64(), int64(f.d.u64())
	if f.d.err != nil || no >= len(f.sets) {
		f.left = 0
		return
	}

	f.known.Kind, f.gap, f.known.Set, f.child, f.extra = perm.Kind(head[0]&15), tree.Gap(head[0]&^withExtra>>4),
		f.sets[no], cachedPath{}, tree.Extra{}
	if head[0]&withExtra != 0 {
		f.extra = tree.Extra{
			Links:  uint32(f.d.number()),
			Device: tree.Device{Major: uint32(f.d.number()), Minor: uint32(f.d.number())},
		}
	}

	if f.known.Kind == perm.Folder && f.gap == tree.NoGap {
		f.child = f.d.cachedPath()
	}

	if f.d.err == nil {
		f.name = name
	}
}

// encode appends a folder's record.
func (p *Cache) encode(b []byte, f *folder) []byte {
	b = binary.LittleEndian.AppendUint64(b, f.dev)
	b = binary.LittleEndian.AppendUint64(b, f.ino)
	sets := map[perm.Set]uint64{}
	var order []perm.Set
	numbers := make([]uint64, len(f.node.Entries))

	for i := range f.node.Entries {
		set := f.node.Entries[i].Set
		if i > 0 && set == f.node.Entries[i-1].Set { // neighbours are mostly alike
			numbers[i] = numbers[i-1]
			continue
		}

		no, ok := sets[set]
		if !ok {
			no = uint64(len(order))
			sets[set], order = no, append(order, set)
		}

		numbers[i] = no
	}

	b = binary.AppendUvarint(b, uint64(len(order)))
	for _, set := range order {
		b = binary.AppendUvarint(b, uint64(len(set.Bytes())))
		b = append(b, set.Bytes()...)
	}

	b = binary.AppendUvarint(b, uint64(len(f.node.Entries)))
	for i := range f.node.Entries {
		e := &f.node.Entries[i]
		head := byte(e.Kind) | byte(e.Gap)<<4
		if e.Extra != (tree.Extra{}) {
			head |= withExtra
		}

		b = append(b, head)
		b = binary.AppendUvarint(b, numbers[i])
		b = binary.AppendUvarint(b, uint64(len(e.Name)))
		b = append(b, e.Name...)
		s := f.stamps[i]
		if s.Changed > p.sure || e.Gap == tree.Failed || e.Gap == tree.Silent || e.Set.IsZero() {
			s = fsys.Stamp{} // no inode has the number 0: it is read again
		}

		b = binary.LittleEndian.AppendUint64(b, s.Ino)
		b = binary.LittleEndian.AppendUint64(b, uint64(s.Changed))
		if e.Extra != (tree.Extra{}) {
			b = binary.AppendUvarint(b, uint64(e.Links))
			b = binary.AppendUvarint(b, uint64(e.Device.Major))
			b = binary.AppendUvarint(b, uint64(e.Device.Minor))
		}

		if e.HasChild() {
			b = f.places[i].append(b)
		}
	}

	return b
}

// honest are the file systems that change an inode's ctime whenever anything of its permissions changes, by this
// machine's clock. Elsewhere everything is read.
var honest = map[int64]bool{
	// ZFS
	unix.EXT4_SUPER_MAGIC: true, unix.XFS_SUPER_MAGIC: true, unix.BTRFS_SUPER_MAGIC: true, unix.TMPFS_MAGIC: true,
	unix.F2FS_SUPER_MAGIC: true, unix.OVERLAYFS_SUPER_MAGIC: true, 0x2fc12fc1: true,
}

// trustworthy reports whether a folder's file system is one of them, and gives the folder's identity.
func trustworthy(fd int) (dev, ino uint64, ok bool) {
	var fs unix.Statfs_t
	var st unix.Stat_t
	if unix.Fstatfs(fd, &fs) != nil || unix.Fstat(fd, &st) != nil {
		return 0, 0, false
	}
	return st.Dev, st.Ino, honest[fs.Type]
}
