// Package ntfs reads and sets the security descriptors of the Windows system that it runs on. Its volumes are treated
// as a file server's shares: /C/data is C:\data. How far it was tried is in docs/decisions.
package ntfs

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/windows"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/host/fileserver"
)

var (
	advapi               = windows.NewLazySystemDLL("advapi32.dll")
	getKernelObjectSec   = advapi.NewProc("GetKernelObjectSecurity")
	setKernelObjectSec   = advapi.NewProc("SetKernelObjectSecurity")
	netapi               = windows.NewLazySystemDLL("netapi32.dll")
	netLocalGroupEnum    = netapi.NewProc("NetLocalGroupEnum")
	netLocalGroupMembers = netapi.NewProc("NetLocalGroupGetMembers")
)

// System is the system that this process runs on.
type System struct{}

// Open acquires the privileges for reading and setting everybody's descriptors, as far as this account has them.
func Open() (*System, error) {
	var token windows.Token
	if err := windows.OpenProcessToken(windows.CurrentProcess(), windows.TOKEN_ADJUST_PRIVILEGES|windows.TOKEN_QUERY,
		&token); err != nil {
		return nil, fmt.Errorf("open the process's token: %w", err)
	}
	defer token.Close()
	for _, name := range []string{"SeBackupPrivilege", "SeRestorePrivilege", "SeTakeOwnershipPrivilege"} {
		p := windows.Tokenprivileges{PrivilegeCount: 1}
		p.Privileges[0].Attributes = windows.SE_PRIVILEGE_ENABLED
		n, err := windows.UTF16PtrFromString(name)
		if err == nil {
			err = windows.LookupPrivilegeValue(nil, n, &p.Privileges[0].Luid)
		}

		if err == nil { // where the account lacks it this says nothing, and what it would have opened is refused
			err = windows.AdjustTokenPrivileges(token, false, &p, 0, nil, nil)
		}

		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
	}

	return &System{}, nil
}

// Close does nothing.
func (s *System) Close() error { return nil }

// Shares lists the volumes by their letters.
func (s *System) Shares(context.Context) (out []string, err error) {
	bits, err := windows.GetLogicalDrives()
	for i := range 26 {
		if bits&(1<<i) != 0 {
			out = append(out, string(rune('A'+i)))
		}
	}
	return out, err
}

// Open pins a volume.
func (s *System) Open(ctx context.Context, letter string) (fileserver.Share, error) {
	if len(letter) != 1 || !('A' <= letter[0] && letter[0] <= 'Z' || 'a' <= letter[0] && letter[0] <= 'z') {
		return nil, fmt.Errorf("%s is no letter of a volume: a root is /C/folder", letter)
	}
	top, err := openAt(0, `\??\`+letter+`:\`, windows.FILE_TRAVERSE|windows.FILE_READ_ATTRIBUTES|windows.SYNCHRONIZE)
	if err != nil {
		return nil, fmt.Errorf("volume %s: %w", letter, err)
	}
	return &volume{ctx, letter, top}, nil
}

type volume struct {
	ctx    context.Context
	letter string
	top    windows.Handle
}

func (v *volume) Close() error { return windows.CloseHandle(v.top) }

// Terms are none: nobody comes through a share here.
func (v *volume) Terms() (access.Mount, error) { return access.Mount{}, nil }

// openAt opens one part of a path in a folder that is open, following no link. With the privilege, opening for backup
// passes over lists.
func openAt(dir windows.Handle, name string, rights uint32) (h windows.Handle, err error) {
	object, err := windows.NewNTUnicodeString(name)
	if err != nil {
		return 0, err
	}

	attributes := windows.OBJECT_ATTRIBUTES{
		RootDirectory: dir,
		ObjectName:    object,
		Attributes:    windows.OBJ_CASE_INSENSITIVE,
	}
	attributes.Length = uint32(unsafe.Sizeof(attributes))
	var status windows.IO_STATUS_BLOCK
	const all = windows.FILE_SHARE_READ | windows.FILE_SHARE_WRITE | windows.FILE_SHARE_DELETE
	err = windows.NtCreateFile(&h, rights|windows.SYNCHRONIZE, &attributes, &status, nil, 0, all, windows.FILE_OPEN,
		windows.FILE_OPEN_REPARSE_POINT|windows.FILE_OPEN_FOR_BACKUP_INTENT|windows.FILE_SYNCHRONOUS_IO_NONALERT, 0, 0)
	var code windows.NTStatus
	if errors.As(err, &code) {
		err = code.Errno()
	}

	return h, err
}

// openBeneath opens a path part by part beneath the volume. No part but the last may be a link.
func (v *volume) openBeneath(name string, rights uint32) (windows.Handle, error) {
	parts := strings.FieldsFunc(name, func(r rune) bool { return r == '\\' })
	if len(parts) == 0 {
		return openAt(v.top, "", rights)
	}

	at := v.top
	defer func() {
		if at != v.top {
			windows.CloseHandle(at)
		}
	}()

	for i, part := range parts {
		if part == "." || part == ".." {
			return 0, fmt.Errorf("%s leads elsewhere", part)
		}
		if i == len(parts)-1 {
			return openAt(at, part, rights)
		}
		next, err := openAt(at, part, windows.FILE_TRAVERSE|windows.FILE_READ_ATTRIBUTES)
		if err != nil {
			return 0, err
		}

		if at != v.top {
			windows.CloseHandle(at)
		}

		at = next
		var info windows.ByHandleFileInformation
		if err := windows.GetFileInformationByHandle(at, &info); err != nil {
			return 0, err
		}
		if info.FileAttributes&windows.FILE_ATTRIBUTE_REPARSE_POINT != 0 {
			return 0, fmt.Errorf("%s on the way is a link", part)
		}
	}

	panic("unreachable")
}

type handle struct {
	h    windows.Handle
	name string
}

// Hold opens something with certain rights.
func (v *volume) Hold(name string, rights ace.Mask) (fileserver.Handle, error) {
	h, err := v.openBeneath(name, uint32(rights))
	if err != nil {
		return nil, explain(err)
	}
	return &handle{h, name}, nil
}

func (h *handle) Close() error { return windows.CloseHandle(h.h) }

const kept = windows.OWNER_SECURITY_INFORMATION | windows.GROUP_SECURITY_INFORMATION | windows.DACL_SECURITY_INFORMATION

// maxDescriptor is more than a descriptor can have: its list alone is bounded to 64 KiB.
const maxDescriptor = 128 << 10

func (h *handle) Look() (fileserver.Seen, error) {
	var info windows.ByHandleFileInformation
	if err := windows.GetFileInformationByHandle(h.h, &info); err != nil {
		return fileserver.Seen{}, explain(err)
	}

	seen := fileserver.Seen{
		Name:     h.name,
		Kind:     perm.File,
		Links:    uint64(info.NumberOfLinks),
		ID:       uint64(info.FileIndexHigh)<<32 | uint64(info.FileIndexLow),
		Size:     int64(info.FileSizeHigh)<<32 | int64(info.FileSizeLow),
		Modified: time.Unix(0, info.LastWriteTime.Nanoseconds()),
		ReadOnly: info.FileAttributes&windows.FILE_ATTRIBUTE_READONLY != 0,
	}

	// Asked for after the number of names: removing a name in between changes it.
	var basic struct {
		created, accessed, written, changed windows.Filetime
		attributes, _                       uint32
	}
	if err := windows.GetFileInformationByHandleEx(h.h, windows.FileBasicInfo, (*byte)(unsafe.Pointer(&basic)),
		uint32(unsafe.Sizeof(basic))); err != nil {
		return seen, explain(err)
	}

	seen.Changed = basic.changed.Nanoseconds()
	switch {
	case info.FileAttributes&windows.FILE_ATTRIBUTE_REPARSE_POINT != 0:
		seen.Kind = perm.Link
	case info.FileAttributes&windows.FILE_ATTRIBUTE_DIRECTORY != 0:
		seen.Kind = perm.Folder
	}

	buf := make([]byte, 4096)
	for {
		var need uint32
		r, _, err := getKernelObjectSec.Call(uintptr(h.h), kept, uintptr(unsafe.Pointer(&buf[0])), uintptr(len(buf)),
			uintptr(unsafe.Pointer(&need)))
		switch {
		case r != 0:
			d, err := ntsd.Parse(buf)
			seen.Descriptor = d
			return seen, err
		case errors.Is(err, windows.ERROR_INSUFFICIENT_BUFFER) && need > uint32(len(buf)) && need <= maxDescriptor:
			buf = make([]byte, need)
		default:
			return seen, explain(err)
		}
	}
}

// Set sets parts of the permissions as they are given: nothing below inherits from them.
func (h *handle) Set(d ntsd.Descriptor, what fileserver.Part) error {
	var info uint32
	if what&fileserver.SetOwner != 0 {
		info |= windows.OWNER_SECURITY_INFORMATION
	} else {
		d.Owner = ntsd.SID{}
	}

	if what&fileserver.SetGroup != 0 {
		info |= windows.GROUP_SECURITY_INFORMATION
	} else {
		d.Group = ntsd.SID{}
	}

	if what&fileserver.SetList != 0 {
		info |= windows.DACL_SECURITY_INFORMATION
		if d.Control&ntsd.Protected != 0 {
			info |= windows.PROTECTED_DACL_SECURITY_INFORMATION
		} else {
			info |= windows.UNPROTECTED_DACL_SECURITY_INFORMATION
		}
	}

	b, err := d.Append(nil)
	if err != nil {
		return err
	}
	if r, _, err := setKernelObjectSec.Call(uintptr(h.h), uintptr(info), uintptr(unsafe.Pointer(&b[0]))); r == 0 {
		return explain(err)
	}

	return nil
}

// List reads a folder; each entry is opened for its permissions.
func (v *volume) List(folder string, each func([]fileserver.Seen) error) error {
	h, err := v.openBeneath(folder, windows.FILE_LIST_DIRECTORY|windows.FILE_READ_ATTRIBUTES)
	if err != nil {
		return explain(err)
	}

	f := os.NewFile(uintptr(h), folder)
	defer f.Close()
	for {
		if err := v.ctx.Err(); err != nil {
			return err
		}

		names, err := f.Readdirnames(1000)
		out := make([]fileserver.Seen, 0, len(names))
		for _, name := range names {
			seen, err := fileserver.Look(v, fileserver.Joined(folder, name))
			if fileserver.Gone(err) {
				continue
			}

			seen.Name = name
			if err != nil {
				seen.Err = err
			}

			if !seen.Kind.Valid() {
				seen.Kind = perm.File
			}

			out = append(out, seen)
		}

		if len(out) > 0 {
			if err := each(out); err != nil {
				return err
			}
		}

		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return explain(err)
		}
	}
}

// explain turns a system's refusals into those that callers know: package syscall maps them to fs.ErrPermission and
// fs.ErrNotExist.
func explain(err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, windows.ERROR_SHARING_VIOLATION):
		return fmt.Errorf("somebody has it open and lets nobody in: %w", err)
	case errors.Is(err, windows.ERROR_INVALID_OWNER):
		return fmt.Errorf(
			"this account may not give ownership to that one: it needs the privilege to restore files: %w", err)
	case errors.Is(err, windows.ERROR_DELETE_PENDING):
		return fmt.Errorf("%w: %w", fs.ErrNotExist, err)
	}
	return err
}
