//go:build linux

// Package aclfs is a small file system that stands in for an NFSv4 mount where no NFS server can run: it shows the
// attribute system.nfs4_acl, and answers access as RFC 8881 section 6 says. It is for the demo and the tests.
//
// It lies over an ordinary folder, which keeps files as they are and each list in an attribute that only root reads.
// Root is trusted, as on an export without root squashing. It is no server: what a real one does otherwise is not shown
// by it.
package aclfs

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"
	"golang.org/x/sys/unix"
)

// Attribute is the extended attribute that shows a list.
const Attribute = "system.nfs4_acl"

// kept is the attribute of the folder below in which it is stored.
const kept = "trusted.idletally.nfs4_acl"

// Names are whom lists may name as NAME@DOMAIN.
type Names struct {
	Domain        string
	Users, Groups map[string]uint32
}

// A Mount is the file system, mounted.
type Mount struct{ server *fuse.Server }

// Open mounts a folder at another one. It takes root, and /dev/fuse.
func Open(at, below string, names Names) (*Mount, error) {
	var st syscall.Stat_t
	if err := syscall.Stat(below, &st); err != nil {
		return nil, fmt.Errorf("folder below the file system: %w", err)
	}
	if err := os.Chmod(below, 0o755); err != nil {
		return nil, err
	}
	if err := keep(below, ofMode(0o755, true)); err != nil {
		return nil, fmt.Errorf("%s has to be on a file system that keeps trusted attributes, such as tmpfs: %w",
			below, err)
	}

	root := &fs.LoopbackRoot{Path: below, Dev: uint64(st.Dev)}
	top := &node{LoopbackNode: fs.LoopbackNode{RootData: root}, names: &names, below: below}
	root.RootNode = top

	nothing := time.Duration(0) // is remembered by the kernel: each walk asks anew
	server, err := fs.Mount(at, top, &fs.Options{
		EntryTimeout: &nothing, AttrTimeout: &nothing, NegativeTimeout: &nothing,
		MountOptions: fuse.MountOptions{AllowOther: true, DirectMountStrict: true, FsName: "aclfs", Name: "aclfs"},
	})
	if err != nil {
		return nil, fmt.Errorf("mount %s: %w", at, err)
	}
	return &Mount{server}, nil
}

// Close unmounts it.
func (m *Mount) Close() error { return m.server.Unmount() }

// keep stores a list with what lies below.
func keep(path string, list []entry) error { return unix.Lsetxattr(path, kept, encode(list), 0) }

// node is one path.
type node struct {
	fs.LoopbackNode
	names *Names
	below string
}

// WrapChild makes whatever lies in a folder a node, too.
func (n *node) WrapChild(context.Context, fs.InodeEmbedder) fs.InodeEmbedder {
	return &node{LoopbackNode: fs.LoopbackNode{RootData: n.RootData}, names: n.names, below: n.below}
}

func (n *node) path() string { return n.below + "/" + n.Path(n.Root()) }

// object reads what decides access to a path; links are not asked about.
func (n *node) object(name string) (*object, error) {
	path := n.path()
	if name != "" {
		path += "/" + name
	}
	var st syscall.Stat_t
	if err := syscall.Lstat(path, &st); err != nil {
		return nil, err
	}
	o := &object{
		uid: st.Uid, gid: st.Gid, sticky: st.Mode&syscall.S_ISVTX != 0,
		folder: st.Mode&syscall.S_IFMT == syscall.S_IFDIR,
	}
	b := make([]byte, 64<<10)
	size, err := unix.Lgetxattr(path, kept, b)
	if errors.Is(err, unix.ENODATA) {
		o.list = ofMode(st.Mode&0o777, o.folder)
		return o, nil
	}
	if err != nil {
		return nil, err
	}
	var ok bool
	if o.list, ok = parse(b[:size]); !ok {
		return nil, syscall.EIO
	}
	return o, nil
}

// callerOf returns who makes a call, with all groups.
func callerOf(ctx context.Context) caller {
	from, ok := fuse.FromContext(ctx)
	if !ok {
		return caller{uid: ^uint32(0)}
	}
	c := caller{uid: from.Uid, gids: []uint32{from.Gid}}
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", from.Pid))
	if err != nil {
		return c
	}
	for line := range strings.Lines(string(status)) {
		list, ok := strings.CutPrefix(line, "Groups:")
		if !ok {
			continue
		}
		for _, g := range strings.Fields(list) {
			if gid, err := strconv.ParseUint(g, 10, 32); err == nil {
				c.gids = append(c.gids, uint32(gid))
			}
		}
	}
	return c
}

// allow returns EACCES unless the caller has some rights to this path.
func (n *node) allow(ctx context.Context, rights uint32) syscall.Errno {
	o, err := n.object("")
	if err != nil {
		return fs.ToErrno(err)
	}
	if !n.names.may(o, callerOf(ctx), rights) {
		return syscall.EACCES
	}
	return fs.OK
}

// show replaces the mode that is stored below with the one that follows from the list.
func (n *node) show(a *fuse.Attr, name string) syscall.Errno {
	if a.Mode&syscall.S_IFMT == syscall.S_IFLNK {
		return fs.OK
	}
	o, err := n.object(name)
	if err != nil {
		return fs.ToErrno(err)
	}
	a.Mode = a.Mode&^0o777 | mode(o.list)
	return fs.OK
}

// Lookup finds an entry of a folder, which takes traversing it.
func (n *node) Lookup(ctx context.Context, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if errno := n.allow(ctx, execute); errno != fs.OK {
		return nil, errno
	}
	i, errno := n.LoopbackNode.Lookup(ctx, name, out)
	if errno == fs.OK {
		errno = n.show(&out.Attr, name)
	}
	return i, errno
}

// Getattr shows a path's attributes to everybody who gets there.
func (n *node) Getattr(ctx context.Context, f fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	if errno := n.LoopbackNode.Getattr(ctx, f, out); errno != fs.OK {
		return errno
	}
	return n.show(&out.Attr, "")
}

// Statx makes the kernel ask Getattr.
func (n *node) Statx(context.Context, fs.FileHandle, uint32, uint32, *fuse.StatxOut) syscall.Errno {
	return syscall.ENOSYS
}

// Access answers access(2).
func (n *node) Access(ctx context.Context, mask uint32) syscall.Errno {
	var rights uint32
	for bit, right := range map[uint32]uint32{unix.R_OK: readData, unix.W_OK: writeData, unix.X_OK: execute} {
		if mask&bit != 0 {
			rights |= right
		}
	}
	return n.allow(ctx, rights)
}

// Open opens a file for reading, writing or both.
func (n *node) Open(ctx context.Context, flags uint32) (fs.FileHandle, uint32, syscall.Errno) {
	var rights uint32
	switch flags & syscall.O_ACCMODE {
	case syscall.O_RDONLY:
		rights = readData
	case syscall.O_WRONLY:
		rights = writeData
	default:
		rights = readData | writeData
	}
	if flags&syscall.O_APPEND != 0 && flags&syscall.O_TRUNC == 0 {
		rights = rights&^writeData | appendData
	}
	if errno := n.allow(ctx, rights); errno != fs.OK {
		return nil, 0, errno
	}
	return n.LoopbackNode.Open(ctx, flags)
}

// OpendirHandle opens a folder for listing.
func (n *node) OpendirHandle(ctx context.Context, flags uint32) (fs.FileHandle, uint32, syscall.Errno) {
	if errno := n.allow(ctx, readData); errno != fs.OK {
		return nil, 0, errno
	}
	return n.LoopbackNode.OpendirHandle(ctx, flags)
}

// made gives something new the list that it inherits, or one of the mode that was asked for.
func (n *node) made(name string, bits uint32, folder bool) syscall.Errno {
	up, err := n.object("")
	if err != nil {
		return fs.ToErrno(err)
	}
	list := passedOn(up.list, folder)
	if len(list) == 0 {
		list = ofMode(bits&0o777, folder)
	}
	return fs.ToErrno(keep(n.path()+"/"+name, list))
}

// Create makes a file and opens it.
func (n *node) Create(ctx context.Context, name string, flags, bits uint32, out *fuse.EntryOut) (
	i *fs.Inode, f fs.FileHandle, fuseFlags uint32, errno syscall.Errno,
) {
	if errno = n.allow(ctx, writeData); errno != fs.OK {
		return nil, nil, 0, errno
	}
	i, f, fuseFlags, errno = n.LoopbackNode.Create(ctx, name, flags, bits, out)
	if errno == fs.OK {
		errno = n.made(name, bits, false)
	}
	if errno == fs.OK {
		errno = n.show(&out.Attr, name)
	}
	return i, f, fuseFlags, errno
}

// Mkdir makes a folder.
func (n *node) Mkdir(ctx context.Context, name string, bits uint32, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if errno := n.allow(ctx, appendData); errno != fs.OK {
		return nil, errno
	}
	i, errno := n.LoopbackNode.Mkdir(ctx, name, bits, out)
	if errno == fs.OK {
		errno = n.made(name, bits, true)
	}
	if errno == fs.OK {
		errno = n.show(&out.Attr, name)
	}
	return i, errno
}

// Symlink makes a link.
func (n *node) Symlink(ctx context.Context, target, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if errno := n.allow(ctx, writeData); errno != fs.OK {
		return nil, errno
	}
	return n.LoopbackNode.Symlink(ctx, target, name, out)
}

// Link gives a file another name.
func (n *node) Link(ctx context.Context, to fs.InodeEmbedder, name string, out *fuse.EntryOut) (*fs.Inode,
	syscall.Errno) {
	if errno := n.allow(ctx, writeData); errno != fs.OK {
		return nil, errno
	}
	i, errno := n.LoopbackNode.Link(ctx, to, name, out)
	if errno == fs.OK {
		errno = n.show(&out.Attr, name)
	}
	return i, errno
}

// Mknod is refused: there are no devices, pipes and sockets here.
func (n *node) Mknod(context.Context, string, uint32, uint32, *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	return nil, syscall.EPERM
}

// leaves returns EACCES unless the caller may take an entry out of the folder.
func (n *node) leaves(ctx context.Context, name string) syscall.Errno {
	up, err := n.object("")
	if err != nil {
		return fs.ToErrno(err)
	}
	o, err := n.object(name)
	if err != nil {
		return fs.ToErrno(err)
	}
	if !n.names.mayDelete(up, o, callerOf(ctx)) {
		return syscall.EACCES
	}
	return fs.OK
}

// Unlink takes a file out of the folder.
func (n *node) Unlink(ctx context.Context, name string) syscall.Errno {
	if errno := n.leaves(ctx, name); errno != fs.OK {
		return errno
	}
	return n.LoopbackNode.Unlink(ctx, name)
}

// Rmdir takes a folder out of the folder.
func (n *node) Rmdir(ctx context.Context, name string) syscall.Errno {
	if errno := n.leaves(ctx, name); errno != fs.OK {
		return errno
	}
	return n.LoopbackNode.Rmdir(ctx, name)
}

// Rename takes an entry out of one folder and puts it into another, or the same.
func (n *node) Rename(ctx context.Context, name string, to fs.InodeEmbedder, toName string,
	flags uint32) syscall.Errno {
	target, ok := to.(*node)
	if !ok {
		return syscall.EXDEV
	}
	if errno := n.leaves(ctx, name); errno != fs.OK {
		return errno
	}
	var st syscall.Stat_t
	if err := syscall.Lstat(n.path()+"/"+name, &st); err != nil {
		return fs.ToErrno(err)
	}
	right := uint32(writeData)
	if st.Mode&syscall.S_IFMT == syscall.S_IFDIR {
		right = appendData
	}
	if errno := target.allow(ctx, right); errno != fs.OK {
		return errno
	}
	return n.LoopbackNode.Rename(ctx, name, to, toName, flags)
}

// Setattr changes mode, owner, times or size.
func (n *node) Setattr(ctx context.Context, f fs.FileHandle, in *fuse.SetAttrIn, out *fuse.AttrOut) syscall.Errno {
	o, err := n.object("")
	if err != nil {
		return fs.ToErrno(err)
	}
	if errno := n.refuses(callerOf(ctx), o, in); errno != fs.OK {
		return errno
	}

	// A mode whose nine bits are those of the list leaves the list alone (RFC 8881 section 6.3.1).
	if bits, chmod := in.GetMode(); chmod && bits&0o777 != mode(o.list) {
		if err := keep(n.path(), ofMode(bits&0o777, o.folder)); err != nil {
			return fs.ToErrno(err)
		}
	}
	if errno := n.LoopbackNode.Setattr(ctx, nil, in, out); errno != fs.OK {
		return errno
	}
	return n.show(&out.Attr, "")
}

// refuses returns why a caller may not change attributes.
func (n *node) refuses(c caller, o *object, in *fuse.SetAttrIn) syscall.Errno {
	_, chmod := in.GetMode()
	uid, chown := in.GetUID()
	_, chgrp := in.GetGID()
	_, resize := in.GetSize()
	takes := chown && uid == c.uid && n.names.may(o, c, writeOwner)
	switch {
	case c.uid == 0:
		return fs.OK
	case chmod && c.uid != o.uid && !n.names.may(o, c, writeACL), (chown || chgrp) && !takes:
		return syscall.EPERM
	case resize && !n.names.may(o, c, writeData):
		return syscall.EACCES
	}
	return fs.OK
}

// Getxattr returns the list.
func (n *node) Getxattr(ctx context.Context, name string, dest []byte) (uint32, syscall.Errno) {
	if name != Attribute {
		return 0, syscall.ENODATA
	}
	if errno := n.allow(ctx, readACL); errno != fs.OK {
		return 0, errno
	}
	o, err := n.object("")
	if err != nil {
		return 0, fs.ToErrno(err)
	}
	return answer(encode(o.list), dest)
}

// Listxattr names it.
func (n *node) Listxattr(_ context.Context, dest []byte) (uint32, syscall.Errno) {
	return answer([]byte(Attribute+"\x00"), dest)
}

// answer copies a value into the kernel's buffer, or returns its size if there is no buffer.
func answer(b, dest []byte) (uint32, syscall.Errno) {
	if len(dest) == 0 {
		return uint32(len(b)), fs.OK
	}
	if len(dest) < len(b) {
		return uint32(len(b)), syscall.ERANGE
	}
	return uint32(copy(dest, b)), fs.OK
}

// Setxattr sets the list. An owner may always.
func (n *node) Setxattr(ctx context.Context, name string, data []byte, _ uint32) syscall.Errno {
	if name != Attribute {
		return syscall.EOPNOTSUPP
	}
	o, err := n.object("")
	if err != nil {
		return fs.ToErrno(err)
	}
	if c := callerOf(ctx); c.uid != o.uid && !n.names.may(o, c, writeACL) {
		return syscall.EPERM
	}
	list, ok := parse(data)
	if !ok {
		return syscall.EINVAL
	}
	return fs.ToErrno(keep(n.path(), list))
}

// Removexattr is refused: every path has a list.
func (n *node) Removexattr(context.Context, string) syscall.Errno { return syscall.EPERM }
