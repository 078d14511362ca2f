package rpc

import (
	"fmt"
	"io"
	"slices"

	"idletally/internal/core/ntsd"
	"idletally/internal/host/fileserver"
)

// What an identity is (MS-LSAT 2.2.13).
const (
	isGroup     = 2
	isAlias     = 4
	isWellKnown = 5
	isInvalid   = 7
	isUnknown   = 8
)

// Names asks for names, of MS-LSAT.
type Names struct {
	p      *Pipe
	policy handle
}

// OpenNames begins to ask through the pipe "lsarpc".
func OpenNames(rw io.ReadWriter) (*Names, error) { return openPolicy(rw, 0x0800) } // look names up

// openPolicy opens the server's store of names and privileges, with certain rights (MS-LSAD 2.2.1.1.2).
func openPolicy(rw io.ReadWriter, rights uint32) (*Names, error) {
	p, err := open(rw, lsa)
	if err != nil {
		return nil, fmt.Errorf("names: %w", err)
	}

	w := &writer{}
	w.u32(0)
	w.u32(24) // attributes of the object, none of them
	for range 5 {
		w.u32(0)
	}

	w.u32(rights)
	r, err := p.do(44, w) // LsarOpenPolicy2
	if err != nil {
		return nil, fmt.Errorf("names: %w", err)
	}
	n := &Names{p, r.handle()}
	if _, err := r.status(); err != nil {
		return nil, fmt.Errorf("names: %w", err)
	}

	return n, nil
}

// most is how many are asked for at once: a call is one packet.
const most = 60

type domain struct {
	name string
	sid  ntsd.SID
}

// domains reads the domains that an answer refers to (MS-LSAT 2.2.12).
func (r *reader) domains() (out []domain) {
	if !r.ref() {
		return nil
	}

	r.count()
	if !r.ref() {
		r.u32()
		return nil
	}

	r.u32()
	n := r.count()
	type flags struct{ name, sid bool }
	var has []flags

	for range n {
		has = append(has, flags{r.text(), r.ref()})
		if r.err != nil {
			return nil
		}
	}

	for _, h := range has {
		var d domain
		if h.name {
			d.name = r.name()
		}

		if h.sid {
			d.sid = r.sid()
		}

		out = append(out, d)
	}

	return out
}

// Of returns the names of identities, in their order. One that the server does not know has an empty name.
func (n *Names) Of(sids []ntsd.SID) ([]fileserver.Name, error) {
	var out []fileserver.Name
	for part := range slices.Chunk(sids, most) {
		w := &writer{}
		w.handle(n.policy)
		w.sids(part)
		w.u32(0)
		w.u32(0)
		w.u16(1)
		w.u32(0)
		r, err := n.p.do(15, w) // LsarLookupSids
		if err != nil {
			return nil, fmt.Errorf("names: %w", err)
		}

		domains := r.domains()
		r.count()
		type entry struct {
			use    uint16
			name   bool
			domain uint32
		}
		var entries []entry
		if r.ref() {
			for range r.count() {
				r.align(4)
				entries = append(entries, entry{r.u16(), r.text(), r.u32()})
				if r.err != nil {
					break
				}
			}
		}

		got := make([]fileserver.Name, len(part))
		for i, e := range entries {
			name := ""
			if e.name {
				name = r.name()
			}

			if i >= len(got) || e.use == isInvalid || e.use == isUnknown {
				continue
			}

			got[i] = fileserver.Name{Name: name, Group: e.use == isGroup || e.use == isAlias || e.use == isWellKnown}
			if int(e.domain) < len(domains) {
				got[i].Domain = domains[e.domain].name
			}
		}

		r.u32()
		if _, err := r.status(someNotMapped, noneMapped); err != nil {
			return nil, fmt.Errorf("names: %w", err)
		}

		for i := range got {
			got[i].SID = part[i]
		}

		out = append(out, got...)
	}

	return out, nil
}

// SIDs returns the identities that have names, in their order. One that the server does not know is the zero SID.
func (n *Names) SIDs(names []string) ([]ntsd.SID, error) {
	var out []ntsd.SID
	for part := range slices.Chunk(names, most/4) {
		w := &writer{}
		w.handle(n.policy)
		w.u32(uint32(len(part)))
		w.u32(uint32(len(part)))
		var texts [][]uint16
		for _, s := range part {
			w.align(4)
			texts = append(texts, w.text(s))
		}

		for _, t := range texts {
			w.chars(t)
		}

		w.u32(0)
		w.u32(0)
		w.u16(1)
		w.u32(0)
		w.u32(0)
		w.u32(2)
		r, err := n.p.do(68, w) // LsarLookupNames3
		if err != nil {
			return nil, fmt.Errorf("identities: %w", err)
		}

		r.domains()
		r.count()
		var has []bool
		if r.ref() {
			for range r.count() {
				r.align(4)
				r.u16()
				has = append(has, r.ref())
				r.u32()
				r.u32()
				if r.err != nil {
					break
				}
			}
		}

		got := make([]ntsd.SID, len(part))
		for i, h := range has {
			if !h {
				continue
			}
			if s := r.sid(); i < len(got) {
				got[i] = s
			}
		}

		r.u32()
		if _, err := r.status(someNotMapped, noneMapped); err != nil {
			return nil, fmt.Errorf("identities: %w", err)
		}

		out = append(out, got...)
	}

	return out, nil
}
