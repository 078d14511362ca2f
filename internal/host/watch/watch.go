//go:build linux

// Package watch hears from the kernel which paths below some roots may have changed, and who did it.
//
// It marks the file systems of the roots (fanotify, with directory file handles and names), so that
// watching a million paths costs no more than watching one. What it hears is which name in which
// folder; whoever asks looks there again. What cannot be followed name by name is said, with the
// reason, and then everything has to be looked at again: nothing is missed in silence.
package watch

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"maps"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/core/pathname"
	"idletally/internal/host/fsys"
)

// Changes are what was reported since the last time.
type Changes struct {
	Paths  []string // whose entries may be others now; they lie in a root, or are one
	Linked []uint64 // inodes of files whose attributes changed, and that may have names which were not heard of
	All    string   // why everything has to be looked at again; empty where paths and inodes are all
	Around bool     // something on the way to a root changed
	Doings []FileEvent
}

// A FileEvent is something that a process did to a path.
type FileEvent struct {
	Path string
	What string // changed, created, removed, moved away, moved here
	At   time.Time
	Actor
}

// An Actor is the process that did it, as far as the kernel could still tell.
type Actor struct {
	PID     int
	Command string // what it calls itself
	Program string // the file that it runs; empty where it had ended before anybody could look
	UID     uint32
	Login   uint32 // who logged in, whoever they have become since; NoLogin where nobody did
}

// NoLogin stands for a process that was not started from a login.
const NoLogin = 1<<32 - 1

// ErrMounts says that the mounts below the roots, or above them, have changed: the watch has to begin anew.
var ErrMounts = errors.New("something was mounted or unmounted below the roots")

const (
	// maxPlaces bounds what is followed name by name; beyond it, everything is looked at again.
	maxPlaces = 50_000
	maxDoings = 4_000
	maxOfOne  = 1_000 // of one account, so that nobody drowns what others do
	maxEach   = 4     // of one path, each another account or program: the first ones and the last
	heard     = unix.FAN_ATTRIB | unix.FAN_CREATE | unix.FAN_DELETE | unix.FAN_MOVED_FROM | unix.FAN_MOVED_TO |
		unix.FAN_ONDIR | unix.FAN_EVENT_ON_CHILD
)

// A handle names an inode of one of the file systems for as long as the inode exists.
type handle struct {
	fs int
	id string // the kernel's type and bytes
}

// A place is a name in a folder.
type place struct {
	folder handle
	name   string
}

type system struct {
	id [8]byte
	at string // a folder on it
}

type news struct {
	places map[place]uint64 // what happened there
	inodes map[handle]place // whose attributes changed, and by which name
	doings map[place][]FileEvent
	count  int            // of them
	of     map[uint32]int // by account
	all    string
}

// note keeps what a process did to a path: of a process that already did so before the last time, and of the others
// the first few and the last. Touching a path after somebody else does not make that the only actor.
func (n *news) note(at place, d FileEvent) {
	list := n.doings[at]
	for i := range list {
		if x := &list[i]; x.UID == d.UID && x.Command == d.Command && x.Program == d.Program && x.Login == d.Login {
			*x = d
			return
		}
	}

	if len(list) == maxEach {
		list[maxEach-1] = d
		return
	}

	if n.count >= maxDoings || n.of[d.UID] >= maxOfOne {
		return
	}

	if n.doings == nil {
		n.doings, n.of = map[place][]FileEvent{}, map[uint32]int{}
	}

	n.doings[at] = append(list, d)
	n.count++
	n.of[d.UID]++
}

func (n *news) empty() bool { return len(n.places) == 0 && len(n.inodes) == 0 && n.all == "" }

// A Watch listens for changes. It is safe for concurrent use.
type Watch struct {
	roots   []string
	systems []system
	fd      int
	mounts  int
	stop    int // an eventfd
	mounted []mount
	ready   chan struct{}
	ended   chan struct{}

	taking sync.Mutex
	// Descriptors of a folder on each system, by which handles are opened; only while that is done, since they keep a
	// file system from being unmounted.
	pinned  []int
	reading sync.Mutex // held from asking the kernel until what it said is noted
	buf     []byte

	mu    sync.Mutex
	now   news
	stale error
}

// Open begins to listen below some roots and, with crossing, on other file systems that are mounted there. Whatever
// happens after it returns is reported.
func Open(roots []string, crossing bool) (w *Watch, err error) {
	w = &Watch{
		roots:  slices.Clone(roots),
		fd:     -1,
		mounts: -1,
		stop:   -1,
		ready:  make(chan struct{}, 1),
		ended:  make(chan struct{}),
		buf:    make([]byte, 256<<10),
	}
	defer func() {
		if err != nil {
			w.close()
		}
	}()

	const base = unix.FAN_CLASS_NOTIF | unix.FAN_CLOEXEC | unix.FAN_NONBLOCK | unix.FAN_REPORT_DFID_NAME |
		unix.FAN_REPORT_FID
	for _, more := range []uint{unix.FAN_REPORT_PIDFD, 0} {
		// Kernels before 5.15 do not say for sure which process it was.
		if w.fd, err = unix.FanotifyInit(base|more, unix.O_RDONLY|unix.O_CLOEXEC); err != unix.EINVAL {
			break
		}
	}

	if err != nil {
		w.fd = -1
		return w, fmt.Errorf("listen to the kernel: %w: %s", err, need(err))
	}

	for _, r := range w.roots {
		if err := w.mark(r); err != nil {
			return w, err
		}
	}

	if w.mounts, err = unix.Open("/proc/self/mountinfo", unix.O_RDONLY|unix.O_CLOEXEC, 0); err != nil {
		return w, fmt.Errorf("listen to mounts: %w: is /proc mounted?", err)
	}
	if w.mounted, err = w.relevant(); err != nil {
		return w, err
	}

	for _, m := range w.mounted {
		if crossing && m.inside(w.roots) {
			if err := w.mark(m.at); err != nil {
				return w, err
			}
		}
	}

	w.unpin()
	if w.stop, err = unix.Eventfd(0, unix.EFD_CLOEXEC|unix.EFD_NONBLOCK); err != nil {
		return w, fmt.Errorf("listen to the kernel: %w", err)
	}

	go w.listen()
	return w, nil
}

// need says what a refusal asks for.
func need(err error) string {
	switch {
	case errors.Is(err, unix.EPERM):
		return "watching needs CAP_SYS_ADMIN and CAP_DAC_READ_SEARCH"
	case errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EINVAL):
		return "watching needs Linux 5.9 or later with fanotify"
	case errors.Is(err, unix.EXDEV), errors.Is(err, unix.ENODEV), errors.Is(err, unix.EOPNOTSUPP):
		return "this file system cannot be watched"
	}
	return "it cannot be watched"
}

// mark watches the file system of a root.
func (w *Watch) mark(root string) error {
	fd, id, err := folder(root)
	if err != nil {
		return err
	}

	if slices.ContainsFunc(w.systems, func(x system) bool { return x.id == id }) {
		unix.Close(fd)
		return nil
	}

	w.systems, w.pinned = append(w.systems, system{id, root}), append(w.pinned, fd)
	if err := unix.FanotifyMark(w.fd, unix.FAN_MARK_ADD|unix.FAN_MARK_FILESYSTEM, heard, fd, "."); err != nil {
		return fmt.Errorf("watch %s: %w: %s", pathname.Escape(root), err, need(err))
	}

	// A handle has to lead back to a path; if it does not, it is better to know now.
	h, _, err := unix.NameToHandleAt(fd, ".", 0)
	if err != nil {
		return fmt.Errorf("watch %s: %w: %s", pathname.Escape(root), err, need(err))
	}

	if at, err := w.where(handle{len(w.systems) - 1, key(h.Type(), h.Bytes())}); err != nil {
		return fmt.Errorf("watch %s: its folders cannot be found by their handles: %w: %s", pathname.Escape(root), err,
			need(err))
	} else if at != root {
		return fmt.Errorf("watch %s: its folders are found by their handles at %s instead", pathname.Escape(root),
			pathname.Escape(at))
	}

	return nil
}

func key(kind int32, b []byte) string {
	return string(binary.NativeEndian.AppendUint32(nil, uint32(kind))) + string(b)
}

// open returns a descriptor that points to what a handle names.
func (w *Watch) open(h handle) (int, error) {
	kind := int32(binary.NativeEndian.Uint32([]byte(h.id[:4])))
	return unix.OpenByHandleAt(w.pinned[h.fs], unix.NewFileHandle(kind, []byte(h.id[4:])),
		unix.O_PATH|unix.O_CLOEXEC|unix.O_NOFOLLOW)
}

// where returns the path of a folder.
func (w *Watch) where(h handle) (string, error) {
	fd, err := w.open(h)
	if err != nil {
		return "", err
	}
	defer unix.Close(fd)
	return os.Readlink("/proc/self/fd/" + strconv.Itoa(fd))
}

type mount struct{ what, at string }

// inside reports whether something is mounted below a root.
func (m mount) inside(roots []string) bool {
	return slices.ContainsFunc(roots, func(r string) bool { return m.at != r && pathname.Under(m.at, r) })
}

// relevant lists the mounts that lie in a root, or a root in them.
func (w *Watch) relevant() ([]mount, error) {
	b, err := os.ReadFile("/proc/self/mountinfo")
	if err != nil {
		return nil, fmt.Errorf("listen to mounts: %w", err)
	}

	var out []mount
	for line := range strings.Lines(string(b)) {
		fields := strings.Fields(line)
		if len(fields) < 6 {
			continue
		}

		at := octal.Replace(fields[4])
		if slices.ContainsFunc(w.roots, func(r string) bool { return pathname.Under(at, r) || pathname.Under(r, at) }) {
			out = append(out, mount{fields[2] + " " + fields[3], at}) // device, and what of it
		}
	}

	slices.SortFunc(out, func(x, y mount) int {
		return cmp.Or(strings.Compare(x.at, y.at), strings.Compare(x.what, y.what))
	})
	return out, nil
}

// octal decodes the blanks that mountinfo encodes in names.
var octal = strings.NewReplacer(`\040`, " ", `\011`, "\t", `\012`, "\n", `\134`, `\`)

// Close ends listening.
func (w *Watch) Close() {
	one := binary.NativeEndian.AppendUint64(nil, 1)
	_, _ = unix.Write(w.stop, one)
	<-w.ended
	w.close()
}

func (w *Watch) close() {
	for _, fd := range []int{w.fd, w.mounts, w.stop} {
		if fd >= 0 {
			unix.Close(fd)
		}
	}
	w.unpin()
}

// pin opens a folder on each file system, and unpin closes them.
func (w *Watch) pin() error {
	for _, s := range w.systems {
		fd, id, err := folder(s.at)
		if err != nil {
			return err
		}
		w.pinned = append(w.pinned, fd)
		if id != s.id {
			return fmt.Errorf("watch %s: %w", pathname.Escape(s.at), ErrMounts)
		}
	}
	return nil
}

func (w *Watch) unpin() {
	for _, fd := range w.pinned {
		unix.Close(fd)
	}
	w.pinned = nil
}

// folder opens a folder, following nothing, and tells which file system it is on.
func folder(path string) (fd int, id [8]byte, err error) {
	fail := func(err error) (int, [8]byte, error) {
		return -1, id, fmt.Errorf("watch %s: %w", pathname.Escape(path), err)
	}
	r, err := fsys.OpenRoot(path)
	if err != nil {
		return fail(err)
	}
	defer r.Close()

	pointer, err := r.Open(path)
	if err != nil {
		return fail(err)
	}
	defer unix.Close(pointer)

	if fd, err = fsys.Content(pointer); err != nil {
		return fail(err)
	}

	var st unix.Statfs_t
	if err := unix.Fstatfs(fd, &st); err != nil {
		unix.Close(fd)
		return fail(err)
	}

	binary.NativeEndian.PutUint32(id[:], uint32(st.Fsid.Val[0]))
	binary.NativeEndian.PutUint32(id[4:], uint32(st.Fsid.Val[1]))
	return fd, id, nil
}

// Wait waits until something is reported.
func (w *Watch) Wait(ctx context.Context) error {
	for {
		w.mu.Lock()
		empty, err := w.now.empty(), w.stale
		w.mu.Unlock()
		if err != nil || !empty {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-w.ready:
		}
	}
}

// listen reads the kernel's events. It has a thread of its own: a process that changed something may end at once, and
// the kernel can tell who it is only while it exists.
func (w *Watch) listen() {
	runtime.LockOSThread()
	defer close(w.ended)
	for {
		fds := []unix.PollFd{
			{Fd: int32(w.fd), Events: unix.POLLIN},
			{Fd: int32(w.stop), Events: unix.POLLIN},
			{Fd: int32(w.mounts), Events: unix.POLLPRI},
		}
		if _, err := unix.Poll(fds, -1); err != nil && err != unix.EINTR {
			w.fail(fmt.Errorf("listen to the kernel: %w", err))
			return
		}

		if fds[1].Revents != 0 {
			return
		}

		if fds[2].Revents != 0 {
			if now, err := w.relevant(); err != nil || !slices.Equal(now, w.mounted) {
				w.fail(errors.Join(ErrMounts, err))
				return
			}
		}

		if fds[0].Revents == 0 {
			continue
		}

		if _, err := w.read(); err != nil {
			w.fail(err)
			return
		}

		w.wake()
	}
}

// read takes the events that the kernel has now; more says that there may be more.
func (w *Watch) read() (more bool, err error) {
	w.reading.Lock()
	defer w.reading.Unlock()
	n, err := unix.Read(w.fd, w.buf)
	switch err {
	case unix.EAGAIN:
		return false, nil
	case unix.EINTR:
		return true, nil
	case nil:
		err = w.handle(w.buf[:n])
	}
	if err != nil {
		return false, fmt.Errorf("listen to the kernel: %w", err)
	}
	return true, nil
}

func (w *Watch) fail(err error) {
	w.mu.Lock()
	w.stale = err
	w.mu.Unlock()
	w.wake()
}

func (w *Watch) wake() {
	select {
	case w.ready <- struct{}{}:
	default:
	}
}

// handle takes the events of one read.
func (w *Watch) handle(b []byte) error {
	who := actors{}
	defer who.close()
	w.mu.Lock()
	defer w.mu.Unlock()
	for len(b) > 0 {
		e, size, err := parse(b)
		if err != nil {
			return err
		}
		b = b[size:]
		w.take(e, &who)
	}
	return nil
}

// take notes one event.
func (w *Watch) take(e event, who *actors) {
	if e.pidfd >= 0 {
		defer unix.Close(e.pidfd)
	}

	n := &w.now
	if e.mask&unix.FAN_Q_OVERFLOW != 0 {
		n.all = "more changed at once than the kernel keeps for a watch"
	}

	if n.all != "" {
		n.places, n.inodes = nil, nil
		if e.mask&unix.FAN_Q_OVERFLOW != 0 {
			return
		}
	}

	fs := slices.IndexFunc(w.systems, func(s system) bool { return s.id == e.system })
	if fs < 0 || e.mask&heard == 0 {
		return
	}

	at := place{handle{fs, e.folder}, e.name}
	if e.folder != "" {
		n.note(at, FileEvent{What: word(e.mask), At: time.Now(), Actor: who.of(e.pid, e.pidfd)})
	}

	if n.all != "" {
		return
	}

	if len(n.places)+len(n.inodes) >= maxPlaces {
		n.all = fmt.Sprintf("more than %d paths changed at once", maxPlaces)
		n.places = nil
		n.inodes = nil
		return
	}

	if n.places == nil {
		n.places, n.inodes = map[place]uint64{}, map[handle]place{}
	}

	if e.folder != "" {
		n.places[at] |= e.mask
	}

	// A file's attributes may be seen by other names too.
	if e.mask&unix.FAN_ATTRIB != 0 && e.mask&unix.FAN_ONDIR == 0 && e.inode != "" {
		n.inodes[handle{fs, e.inode}] = at
	}
}

// word says what happened.
func word(mask uint64) string {
	switch {
	case mask&unix.FAN_MOVED_TO != 0:
		return "moved here"
	case mask&unix.FAN_CREATE != 0:
		return "created"
	case mask&unix.FAN_MOVED_FROM != 0:
		return "moved away"
	case mask&unix.FAN_DELETE != 0:
		return "removed"
	}
	return "changed"
}

// maxReads bounds how long Take follows events that come in while it runs.
const maxReads = 100

// Take returns what was reported, and begins anew. What ended before the call is included, unless so much happens
// that it comes the next time.
func (w *Watch) Take() (Changes, error) {
	w.taking.Lock()
	defer w.taking.Unlock()

	for n, more := 0, true; more && n < maxReads; n++ {
		var err error
		if more, err = w.read(); err != nil {
			return Changes{}, err
		}
	}

	w.mu.Lock()
	n, err := w.now, w.stale
	w.now = news{}
	w.mu.Unlock()
	if err != nil {
		return Changes{}, err
	}

	if err := w.pin(); err != nil {
		w.unpin()
		return Changes{}, err
	}
	defer w.unpin()

	out := Changes{All: n.all}
	folders := map[handle]string{}
	path := func(at place) string {
		folder, ok := folders[at.folder]
		if !ok {
			var err error
			if folder, err = w.where(at.folder); errors.Is(err, unix.ENAMETOOLONG) {
				out.All = "a folder that changed has a path longer than the kernel gives"
			} // a folder that is gone has no path: what is above it tells
			folders[at.folder] = folder
		}

		switch {
		case folder == "" || at.name == "." || at.name == "":
			return folder
		case folder == "/":
			return "/" + at.name
		}

		return folder + "/" + at.name
	}

	in := func(p string) bool {
		return p != "" && slices.ContainsFunc(w.roots, func(r string) bool { return pathname.Under(p, r) })
	}
	touched := map[string]bool{}
	for at := range n.places {
		p := path(at)
		if in(p) {
			touched[p] = true
		} else if p != "" && slices.ContainsFunc(w.roots, func(r string) bool { return pathname.Under(r, p) }) {
			out.Around = true
		}
	}

	others := names{w: w, places: n.places}
	for inode, at := range n.inodes {
		switch ino, err := others.of(inode, at); {
		case err != nil:
			out.All = "a file whose attributes changed cannot be found by its handle"
		case ino != 0:
			out.Linked = append(out.Linked, ino)
		}
	}

	out.Paths = slices.Sorted(maps.Keys(touched))
	for at, list := range n.doings {
		p := path(at)
		if !in(p) {
			continue
		}
		for _, d := range list {
			d.Path = p
			out.Doings = append(out.Doings, d)
		}
	}

	slices.SortFunc(out.Doings, func(x, y FileEvent) int { return x.At.Compare(y.At) })
	if out.All != "" {
		out.Paths, out.Linked = nil, nil
	}

	return out, nil
}

// names says of files whose attributes changed whether they have names that were not reported.
type names struct {
	w      *Watch
	places map[place]uint64
	moved  map[uint64]bool // inodes that have got a name meanwhile; nil before anybody asked
}

// of returns the inode of a file that may have another name than the one by which its attributes changed; otherwise
// 0.
func (n *names) of(inode handle, at place) (uint64, error) {
	fd, err := n.w.open(inode)
	if errors.Is(err, unix.ESTALE) || errors.Is(err, unix.ENOENT) {
		return 0, nil // gone, with all its names
	}
	if err != nil {
		return 0, err
	}
	defer unix.Close(fd)

	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return 0, err
	}
	if st.Nlink > 1 {
		return st.Ino, nil
	}
	if st.Nlink == 0 || n.leads(at) == st.Ino {
		return 0, nil
	}

	if n.moved == nil {
		n.moved = map[uint64]bool{}
		for p, mask := range n.places {
			if mask&(unix.FAN_MOVED_TO|unix.FAN_CREATE) != 0 && mask&unix.FAN_ONDIR == 0 && p.folder.fs == inode.fs {
				n.moved[n.leads(p)] = true
			}
		}
	}

	if n.moved[st.Ino] {
		return 0, nil
	}

	return st.Ino, nil
}

// leads returns the inode that a name leads to; 0 for none.
func (n *names) leads(p place) uint64 {
	if p.folder.id == "" {
		return 0
	}
	folder, err := n.w.open(p.folder)
	if err != nil {
		return 0
	}
	defer unix.Close(folder)
	var st unix.Stat_t
	if unix.Fstatat(folder, p.name, &st, unix.AT_SYMLINK_NOFOLLOW) != nil {
		return 0
	}
	return st.Ino
}
