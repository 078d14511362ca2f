package smb

import (
	"encoding/binary"
	"errors"
	"time"
	"unsafe"

	"github.com/cloudsoda/go-smb2"

	"idletally/internal/core/ntsd"
	"idletally/internal/host/nt"
)

// The library opens with rights of its own choice, by name for each look and each change. What is looked at has to be
// what is changed (see docs/decisions), so its functions that take rights, options and classes from their caller are
// called here, though they have no public names. The tests against a real server tell if they ever become others.

// header is the head of the library's requests.
type header struct {
	creditCharge, channelSequence uint16
	status                        uint32
	command, credits              uint16
	flags                         uint32
	message, async                uint64
	tree                          uint32
	session                       uint64
}

// create is its request of an open (MS-SMB2 2.2.13).
type create struct {
	header
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

// query is its request of information about something that is open (MS-SMB2 2.2.37).
type query struct {
	header
	about, class      uint8
	most              uint32
	additional, flags uint32
	file              unsafe.Pointer
	input             any
}

//go:linkname queryInfo github.com/cloudsoda/go-smb2.(*File).queryInfo
func queryInfo(f *smb2.File, req unsafe.Pointer) ([]byte, error)

const (
	aboutFile = 1  // MS-SMB2 2.2.37
	allOfIt   = 18 // FileAllInformation (MS-FSCC 2.4.2)
)

// stat asks what something is: like the library's, and how many names it has.
func stat(f *smb2.File) (nt.Seen, error) {
	b, err := queryInfo(f, unsafe.Pointer(&query{about: aboutFile, class: allOfIt, most: 64 << 10}))
	if err != nil {
		return nt.Seen{}, err
	}
	if len(b) < 72 {
		return nt.Seen{}, errors.New("the server says too little of what is open")
	}
	le := binary.LittleEndian
	const since1601 = 116_444_736_000_000_000 // Unix time began then, in tenths of a microsecond
	unix := func(at int) int64 { return (int64(le.Uint64(b[at:])) - since1601) * 100 }
	return nt.Seen{Kind: kindOf(le.Uint32(b[32:])), Modified: time.Unix(0, unix(16)), Changed: unix(24), Size: int64(le.Uint64(b[48:])),
		Links: uint64(le.Uint32(b[56:])), ID: le.Uint64(b[64:])}, nil
}
