package smb

import (
	"encoding/binary"
	"errors"
	"time"

	"github.com/cloudsoda/go-smb2"

	"idletally/internal/core/ace"
	"idletally/internal/host/fileserver"
)

// forBackup opens something so that a privilege may pass over the list (MS-SMB2 2.2.13).
const forBackup = 0x0000_4000

// open opens something, with certain rights, without following a link. What is read has to be what is changed.
func open(s *smb2.Share, name string, access ace.Mask, options uint32) (*smb2.File, error) {
	return s.OpenWith(name, uint32(access), options)
}

// allOfIt is FileAllInformation (MS-FSCC 2.4.2).
const allOfIt = 18

// readOnly is FILE_ATTRIBUTE_READONLY (MS-FSCC 2.6).
const readOnly = 1

// stat returns what something is: like the library's, plus the number of names.
func stat(f *smb2.File) (fileserver.Seen, error) {
	b, err := f.QueryFile(allOfIt, 64<<10)
	if err != nil {
		return fileserver.Seen{}, err
	}
	if len(b) < 72 {
		return fileserver.Seen{}, errors.New("the server says too little of what is open")
	}

	le := binary.LittleEndian
	const since1601 = 116_444_736_000_000_000 // Unix time began then, in tenths of a microsecond
	unix := func(at int) int64 { return (int64(le.Uint64(b[at:])) - since1601) * 100 }
	return fileserver.Seen{
		Kind:     kindOf(le.Uint32(b[32:])),
		ReadOnly: le.Uint32(b[32:])&readOnly != 0,
		Modified: time.Unix(0, unix(16)),
		Changed:  unix(24),
		Size:     int64(le.Uint64(b[48:])),
		Links:    uint64(le.Uint32(b[56:])),
		ID:       le.Uint64(b[64:]),
	}, nil
}
