package rpc

import (
	"fmt"
	"io"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/privilege"
)

// maxHolders bounds how many accounts and groups a server may name as holders of privileges.
const maxHolders = 1000

const (
	noMoreEntries = 0x8000_001A
	noSuchObject  = 0xC000_0034
)

// Privileges returns which accounts and groups of a server hold privileges that pass over lists, through the pipe
// "lsarpc" (MS-LSAD 3.1.4.5).
func Privileges(rw io.ReadWriter) (map[ntsd.SID]privilege.Set, error) {
	n, err := openPolicy(rw, 0x0801) // look names up, and see what is kept
	if err != nil {
		return nil, fmt.Errorf("privileges: %w", err)
	}
	who, err := n.holders()
	if err != nil {
		return nil, fmt.Errorf("privileges: %w", err)
	}

	out := map[ntsd.SID]privilege.Set{}
	for _, sid := range who {
		p, err := n.rightsOf(sid)
		if err != nil {
			return nil, fmt.Errorf("privileges of %s: %w", sid, err)
		}
		if p != 0 {
			out[sid] = p
		}
	}

	return out, nil
}

// holders lists who holds any right at all.
func (n *Names) holders() (out []ntsd.SID, err error) {
	next := uint32(0)
	for {
		w := &writer{}
		w.handle(n.policy)
		w.u32(next)
		w.u32(8 << 10)          // bytes that are wanted at once: Samba takes no more
		r, err := n.p.do(11, w) // LsarEnumerateAccounts
		if err != nil {
			return nil, err
		}

		was := next
		next = r.u32()
		r.count()
		listed := 0
		if r.ref() {
			for range r.count() {
				if r.ref() {
					listed++
				}
			}
		}

		for range listed {
			out = append(out, r.sid())
		}

		code, err := r.status(noMoreEntries, moreEntries)
		if err != nil {
			return nil, err
		}
		if len(out) > maxHolders {
			return nil, fmt.Errorf("the server says that more than %d accounts hold them", maxHolders)
		}
		if code != moreEntries || listed == 0 || next == was {
			return out, nil
		}
	}
}

// rightsOf returns which privileges somebody holds by themselves.
func (n *Names) rightsOf(who ntsd.SID) (p privilege.Set, err error) {
	w := &writer{}
	w.handle(n.policy)
	w.sid(who)
	r, err := n.p.do(36, w) // LsarEnumerateAccountRights
	if err != nil {
		return 0, err
	}

	r.count()
	if r.ref() {
		named := 0
		for range r.count() {
			if r.text() {
				named++
			}
		}
		for range named {
			p |= privilege.Named(r.name()) &^ privilege.Everything
		}
	}

	_, err = r.status(noSuchObject)
	return p, err
}
