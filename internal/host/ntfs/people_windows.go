package ntfs

import (
	"context"
	"fmt"
	"unsafe"

	"golang.org/x/sys/windows"

	"idletally/internal/core/ntsd"
	"idletally/internal/host/fileserver"
)

func pointer(s ntsd.SID) *windows.SID {
	b := []byte(s.Bytes())
	return (*windows.SID)(unsafe.Pointer(&b[0]))
}

func sidOf(p *windows.SID) (ntsd.SID, error) {
	s, _, err := ntsd.SIDFromBytes(unsafe.Slice((*byte)(unsafe.Pointer(p)), p.Len()))
	return s, err
}

// Names returns what the system calls identities, its domain's included.
func (s *System) Names(ctx context.Context, sids []ntsd.SID) ([]fileserver.Name, error) {
	out := make([]fileserver.Name, len(sids))
	for i, id := range sids {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		out[i].SID = id
		name, domain, kind, err := pointer(id).LookupAccount("")
		if err != nil { // nobody knows it any more
			continue
		}
		out[i].Name, out[i].Domain = name, domain
		out[i].Group = kind == windows.SidTypeGroup || kind == windows.SidTypeAlias ||
			kind == windows.SidTypeWellKnownGroup
	}
	return out, nil
}

// maxListed bounds how many accounts and members are listed.
const maxListed = 20_000

const whole = 0xFFFF_FFFF // as much as there is

// Accounts lists the system's own accounts and local groups, with who is in which.
func (s *System) Accounts(ctx context.Context) (out []fileserver.Account, err error) {
	at := map[ntsd.SID]int{}
	add := func(name string, group bool) error {
		id, _, _, err := windows.LookupSID("", name)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		sid, err := sidOf(id)
		if _, known := at[sid]; err != nil || known || len(out) >= maxListed {
			return err
		}

		at[sid] = len(out)
		out = append(out, fileserver.Account{SID: sid, Name: name, Group: group})
		return nil
	}

	err = pages(func(buf **byte, n, total, resume *uint32) error {
		return windows.NetUserEnum(nil, 0, 0, buf, whole, n, total, resume)
	}, func(p unsafe.Pointer) error { return add(windows.UTF16PtrToString(*(**uint16)(p)), false) })
	if err != nil {
		return nil, fmt.Errorf("list the accounts: %w", err)
	}

	var groups []string
	err = pages(func(buf **byte, n, total, resume *uint32) error {
		r, _, _ := netLocalGroupEnum.Call(0, 0, uintptr(unsafe.Pointer(buf)), whole, uintptr(unsafe.Pointer(n)),
			uintptr(unsafe.Pointer(total)), uintptr(unsafe.Pointer(resume)))
		return code(r)
	}, func(p unsafe.Pointer) error {
		groups = append(groups, windows.UTF16PtrToString(*(**uint16)(p)))
		return add(groups[len(groups)-1], true)
	})

	if err != nil {
		return nil, fmt.Errorf("list the groups: %w", err)
	}

	for _, g := range groups {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		name, err := windows.UTF16PtrFromString(g)
		if err != nil {
			return nil, err
		}
		id, _, _, err := windows.LookupSID("", g)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", g, err)
		}
		group, err := sidOf(id)
		if err != nil {
			return nil, err
		}

		err = pages(func(buf **byte, n, total, resume *uint32) error {
			r, _, _ := netLocalGroupMembers.Call(0, uintptr(unsafe.Pointer(name)), 0, uintptr(unsafe.Pointer(buf)),
				whole, uintptr(unsafe.Pointer(n)), uintptr(unsafe.Pointer(total)), uintptr(unsafe.Pointer(resume)))
			return code(r)
		}, func(p unsafe.Pointer) error {
			member, err := sidOf(*(**windows.SID)(p))
			if i, ok := at[member]; err == nil && ok {
				out[i].Groups = append(out[i].Groups, group)
			}
			return err
		})

		if err != nil {
			return nil, fmt.Errorf("list who is in %s: %w", g, err)
		}
	}

	return out, nil
}

func code(r uintptr) error {
	if r == 0 {
		return nil
	}
	return windows.Errno(r)
}

// pages goes through a list that the system returns in pieces; each element begins with one pointer, and is nothing
// more.
func pages(ask func(buf **byte, n, total, resume *uint32) error, each func(unsafe.Pointer) error) error {
	var resume uint32
	for {
		var buf *byte
		var n, total uint32
		err := ask(&buf, &n, &total, &resume)
		if err != nil && err != windows.ERROR_MORE_DATA {
			return err
		}

		for i := range n {
			if err := each(unsafe.Add(unsafe.Pointer(buf), uintptr(i)*unsafe.Sizeof(buf))); err != nil {
				_ = windows.NetApiBufferFree(buf)
				return err
			}
		}

		if buf != nil {
			_ = windows.NetApiBufferFree(buf)
		}

		if err == nil || n == 0 {
			return nil
		}
	}
}
