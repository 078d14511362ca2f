// Package rpc asks a file server who its accounts and groups are: remote procedure calls (DCE 1.1, MS-RPCE) over a
// named pipe, of MS-LSAT for names, of MS-SAMR for memberships, and of MS-SRVS for the lists of shares.
package rpc

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// maxAnswer bounds what a server may answer at once.
const maxAnswer = 8 << 20

// A Pipe is one named pipe of a server.
type Pipe struct {
	rw   io.ReadWriter
	call uint32
}

// The kinds of packets (DCE 1.1, 12.6.4).
const (
	request  = 0
	response = 2
	fault    = 3
	bind     = 11
	bindAck  = 12
)

const (
	firstFragment = 1
	lastFragment  = 2
	maxFragment   = 4280
)

// syntax names an interface: its number and version.
type syntax struct {
	uuid  [16]byte
	major uint16
}

var (
	// NDR, the form in which values travel (DCE 1.1, 14).
	ndr = syntax{
		[16]byte{0x04, 0x5d, 0x88, 0x8a, 0xeb, 0x1c, 0xc9, 0x11, 0x9f, 0xe8, 0x08, 0x00, 0x2b, 0x10, 0x48, 0x60},
		2,
	}
	lsa = syntax{
		[16]byte{0x78, 0x57, 0x34, 0x12, 0x34, 0x12, 0xcd, 0xab, 0xef, 0x00, 0x01, 0x23, 0x45, 0x67, 0x89, 0xab},
		0,
	}
	sam = syntax{
		[16]byte{0x78, 0x57, 0x34, 0x12, 0x34, 0x12, 0xcd, 0xab, 0xef, 0x00, 0x01, 0x23, 0x45, 0x67, 0x89, 0xac},
		1,
	}
	srv = syntax{
		[16]byte{0xc8, 0x4f, 0x32, 0x4b, 0x70, 0x16, 0xd3, 0x01, 0x12, 0x78, 0x5a, 0x47, 0xbf, 0x6e, 0xe1, 0x88},
		3,
	}
)

func (s syntax) append(b []byte) []byte {
	b = append(b, s.uuid[:]...)
	return binary.LittleEndian.AppendUint32(b, uint32(s.major))
}

// open binds a pipe to an interface.
func open(rw io.ReadWriter, s syntax) (*Pipe, error) {
	p := &Pipe{rw: rw}
	b := binary.LittleEndian.AppendUint16(nil, maxFragment)
	b = binary.LittleEndian.AppendUint16(b, maxFragment)
	b = binary.LittleEndian.AppendUint32(b, 0)
	b = append(b, 1, 0, 0, 0, 0, 0, 1, 0) // one context with one form of values
	b = ndr.append(s.append(b))
	if err := p.send(bind, b); err != nil {
		return nil, err
	}
	kind, answer, err := p.packet()
	if err != nil {
		return nil, err
	}
	if kind != bindAck || len(answer) < 12 {
		return nil, errors.New("the server does not offer this interface")
	}

	// Behind a port's name of any length stand the results: 0 is taken.
	at := 10 + int(binary.LittleEndian.Uint16(answer[8:]))
	for at%4 != 0 {
		at++
	}

	if len(answer) < at+6 || binary.LittleEndian.Uint16(answer[at+4:]) != 0 {
		return nil, errors.New("the server does not offer this interface")
	}

	return p, nil
}

func (p *Pipe) send(kind byte, body []byte) error {
	p.call++
	b := []byte{5, 0, kind, firstFragment | lastFragment, 0x10, 0, 0, 0}
	b = binary.LittleEndian.AppendUint16(b, uint16(16+len(body)))
	b = binary.LittleEndian.AppendUint16(b, 0)
	b = binary.LittleEndian.AppendUint32(b, p.call)
	b = append(b, body...)
	if len(b) > maxFragment {
		return fmt.Errorf("a call of %d bytes: ask for less at once", len(b))
	}
	_, err := p.rw.Write(b)
	return err
}

// packet reads an answer, put together from its fragments. Their heads count against the bound, too: there may be
// nothing else in them.
func (p *Pipe) packet() (kind byte, body []byte, err error) {
	taken := 0
	for first := true; ; first = false {
		head := make([]byte, 16)
		if _, err := io.ReadFull(p.rw, head); err != nil {
			return 0, nil, fmt.Errorf("read the answer: %w", err)
		}

		n := int(binary.LittleEndian.Uint16(head[8:]))
		switch {
		case head[0] != 5 || head[4] != 0x10:
			return 0, nil, errors.New("the answer is no remote procedure call of version 5, lowest byte first")
		case binary.LittleEndian.Uint16(head[10:]) != 0:
			return 0, nil, errors.New("the answer carries credentials that nobody asked for")
		case n < 16 || binary.LittleEndian.Uint32(head[12:]) != p.call || (head[3]&firstFragment != 0) != first:
			return 0, nil, errors.New("the answer belongs to no call")
		}

		taken += n
		if taken > maxAnswer {
			return 0, nil, fmt.Errorf("the answer has more than %d bytes", maxAnswer)
		}
		part := make([]byte, n-16)
		if _, err := io.ReadFull(p.rw, part); err != nil {
			return 0, nil, fmt.Errorf("read the answer: %w", err)
		}

		kind = head[2]
		if kind == response {
			if len(part) < 8 {
				return 0, nil, errEnds
			}
			part = part[8:]
		}

		body = append(body, part...)
		if head[3]&lastFragment != 0 {
			return kind, body, nil
		}
	}
}

// do calls operation number op.
func (p *Pipe) do(op uint16, in *writer) (*reader, error) {
	b := binary.LittleEndian.AppendUint32(nil, uint32(len(in.b)))
	b = binary.LittleEndian.AppendUint16(b, 0)
	b = binary.LittleEndian.AppendUint16(b, op)
	if err := p.send(request, append(b, in.b...)); err != nil {
		return nil, err
	}

	kind, body, err := p.packet()
	switch {
	case err != nil:
		return nil, err
	case kind == fault && len(body) >= 12:
		return nil, fmt.Errorf("the server refuses the call: fault %#x", binary.LittleEndian.Uint32(body[8:]))
	case kind != response:
		return nil, errors.New("the server answers something else")
	}

	return &reader{b: body}, nil
}
