package ntfs

import (
	"context"
	"fmt"
	"unsafe"

	"golang.org/x/sys/windows"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/privilege"
)

var (
	lsaOpenPolicy        = advapi.NewProc("LsaOpenPolicy")
	lsaEnumerateAccounts = advapi.NewProc("LsaEnumerateAccountsWithUserRight")
	lsaFreeMemory        = advapi.NewProc("LsaFreeMemory")
	lsaClose             = advapi.NewProc("LsaClose")
)

// Privileges returns who holds privileges that pass over lists (MS-LSAD 3.1.4.5.10).
func (s *System) Privileges(ctx context.Context) (map[ntsd.SID]privilege.Set, error) {
	const rights = 0x0801 // look names up, and see what is kept
	object := windows.OBJECT_ATTRIBUTES{}
	object.Length = uint32(unsafe.Sizeof(object))
	var policy windows.Handle
	r, _, _ := lsaOpenPolicy.Call(0, uintptr(unsafe.Pointer(&object)), rights, uintptr(unsafe.Pointer(&policy)))
	if r != 0 {
		return nil, fmt.Errorf("privileges: %w", windows.NTStatus(r))
	}
	defer func() { _, _, _ = lsaClose.Call(uintptr(policy)) }()

	out := map[ntsd.SID]privilege.Set{}
	for _, p := range []privilege.Set{
		privilege.TakeOwnership, privilege.Backup, privilege.Restore, privilege.Security,
	} {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		who, err := holders(policy, p.String())
		if err != nil {
			return nil, fmt.Errorf("who holds %s: %w", p, err)
		}

		for _, sid := range who {
			out[sid] |= p
		}
	}

	return out, nil
}

func holders(policy windows.Handle, privilege string) (out []ntsd.SID, err error) {
	name, err := windows.NewNTUnicodeString(privilege)
	if err != nil {
		return nil, err
	}

	var list unsafe.Pointer
	var n uint32
	r, _, _ := lsaEnumerateAccounts.Call(uintptr(policy), uintptr(unsafe.Pointer(name)), uintptr(unsafe.Pointer(&list)),
		uintptr(unsafe.Pointer(&n)))

	switch windows.NTStatus(r) {
	case windows.STATUS_NO_MORE_ENTRIES: // nobody
		return nil, nil
	case 0:
	default:
		return nil, windows.NTStatus(r)
	}
	defer func() { _, _, _ = lsaFreeMemory.Call(uintptr(list)) }()

	for _, p := range unsafe.Slice((**windows.SID)(list), min(n, maxListed)) {
		sid, err := sidOf(p)
		if err != nil {
			return nil, err
		}
		out = append(out, sid)
	}

	return out, nil
}
