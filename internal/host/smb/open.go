package smb

import (
	"unsafe"

	"github.com/cloudsoda/go-smb2"

	"idletally/internal/core/ntsd"
)

// The library opens with rights of its own choice, by name for each look and each change. What is looked at has to be
// what is changed (see docs/decisions), so its one function that takes the rights and options from its caller is
// called here, though it has no public name. The test against a real server tells if it ever becomes another.

// create is the library's request of an open (MS-SMB2 2.2.13).
type create struct {
	header struct {
		creditCharge, channelSequence uint16
		status                        uint32
		command, credits              uint16
		flags                         uint32
		message, async                uint64
		tree                          uint32
		session                       uint64
	}
	securityFlags, oplock uint8
	impersonation         uint32
	createFlags           uint64
	access                uint32
	attributes            uint32
	share                 uint32
	disposition           uint32
	options               uint32
	name                  string
	mapping               int
	contexts              []any
}

//go:linkname createFile github.com/cloudsoda/go-smb2.(*Share).createFile
func createFile(s *smb2.Share, name string, req unsafe.Pointer, follow bool) (*smb2.File, error)

// Options of an open (MS-SMB2 2.2.13).
const (
	forBackup  = 0x0000_4000 // a privilege may pass over the list
	notFollow  = 0x0020_0000 // a link is opened itself
	impersonal = 2
	shareAll   = 7
	openOnly   = 1
)

// open opens what is there, with certain rights, without following a link.
func open(s *smb2.Share, name string, access ntsd.Mask, options uint32) (*smb2.File, error) {
	req := &create{impersonation: impersonal, access: uint32(access), share: shareAll, disposition: openOnly, options: options | notFollow}
	return createFile(s, name, unsafe.Pointer(req), false)
}
