package rpc

import (
	"fmt"
	"io"
	"slices"

	"idletally/internal/core/ntsd"
	"idletally/internal/host/fileserver"
)

// What a server says of its accounts is bounded as a whole: it may name one after the other without end.
const (
	maxAccounts = 20_000 // of a kind, in a domain
	maxDomains  = 64
	maxRoom     = 32 << 20 // bytes of memory that accounts and memberships take
	roomOfOne   = 200      // of an account, besides its name
	roomOfGroup = 80
)

// members asks for accounts and memberships, of MS-SAMR.
type members struct {
	p      *Pipe
	server handle
	room   int
}

// grow counts what is kept.
func (m *members) grow(bytes int) error {
	m.room += bytes
	if m.room > maxRoom {
		return fmt.Errorf("what the server tells of its accounts takes more than %d MiB: use a directory for it",
			maxRoom>>20)
	}
	return nil
}

// Accounts lists the accounts and groups that a server keeps, with the groups of each, through the pipe "samr".
func Accounts(rw io.ReadWriter) ([]fileserver.Account, error) {
	p, err := open(rw, sam)
	if err != nil {
		return nil, fmt.Errorf("accounts: %w", err)
	}
	m := &members{p: p}
	out, err := m.all()
	if err != nil {
		return nil, fmt.Errorf("accounts: %w", err)
	}
	return out, nil
}

func (m *members) all() (out []fileserver.Account, err error) {
	w := &writer{}
	w.u32(0)
	w.u32(0x0200_0000)
	r, err := m.p.do(57, w) // SamrConnect2
	if err != nil {
		return nil, err
	}
	m.server = r.handle()
	if _, err := r.status(); err != nil {
		return nil, err
	}

	w = &writer{}
	w.handle(m.server)
	names, err := m.list(6, w) // SamrEnumerateDomainsInSamServer
	if err != nil {
		return nil, err
	}
	if len(names) > maxDomains {
		return nil, fmt.Errorf("the server says that it keeps the accounts of %d domains", len(names))
	}

	type opened struct {
		name string
		sid  ntsd.SID
		h    handle
	}
	var domains []opened
	for _, d := range names {
		sid, err := m.domain(d.name)
		if err != nil {
			return nil, err
		}

		w := &writer{}
		w.handle(m.server)
		w.u32(0x0200_0000)
		w.sid(sid)
		h, err := m.open(7, w) // SamrOpenDomain
		if err != nil {
			return nil, err
		}

		domains = append(domains, opened{d.name, sid, h})
	}

	for _, d := range domains {
		for _, kind := range []struct {
			op    uint16
			group bool
		}{{13, false}, {11, true}, {15, true}} { // users, groups, aliases
			w := &writer{}
			w.handle(d.h)
			list, err := m.list(kind.op, w)
			if err != nil {
				return nil, err
			}

			for _, x := range list {
				out = append(out, fileserver.Account{
					SID:    ntsd.NewSID(d.sid.Authority(), append(d.sid.Subs(), x.rid)...),
					Name:   x.name,
					Domain: d.name,
					Group:  kind.group,
				})
			}
		}
	}

	for i := range out {
		a := &out[i]
		if a.Group {
			continue
		}

		for _, d := range domains {
			if d.name != a.Domain {
				continue
			}
			if a.Groups, err = m.groups(d.h, d.sid, a.SID); err != nil {
				return nil, err
			}
		}

		if err := m.grow(roomOfGroup * len(a.Groups)); err != nil {
			return nil, err
		}

		who := append([]ntsd.SID{a.SID}, a.Groups...)
		for _, d := range domains {
			more, err := m.aliases(d.h, d.sid, who)
			if err != nil {
				return nil, err
			}
			if err := m.grow(roomOfGroup * len(more)); err != nil {
				return nil, err
			}

			a.Groups = append(a.Groups, more...)
		}
	}

	return out, nil
}

type listed struct {
	rid  uint32
	name string
}

// list goes through an enumeration (MS-SAMR 3.1.5.2).
func (m *members) list(op uint16, head *writer) (out []listed, err error) {
	for context := uint32(0); ; {
		w := &writer{b: slices.Clone(head.b)}
		w.u32(context)
		if op == 13 {
			w.u32(0) // accounts of every kind
		}

		w.u32(1 << 16)
		r, err := m.p.do(op, w)
		if err != nil {
			return nil, err
		}

		context = r.u32()
		var page []listed
		if r.ref() {
			r.count()
			if r.ref() {
				var has []bool
				for range r.count() {
					page = append(page, listed{rid: r.u32()})
					has = append(has, r.text())
					if r.err != nil {
						break
					}
				}
				for i, h := range has {
					if h {
						page[i].name = r.name()
					}
				}
			}
		}

		r.u32()
		code, err := r.status(moreEntries)
		if err != nil {
			return nil, err
		}

		for _, x := range page {
			if err := m.grow(roomOfOne + len(x.name)); err != nil {
				return nil, err
			}
		}

		out = append(out, page...)
		if code == 0 || len(page) == 0 {
			return out, nil
		}
		if len(out) > maxAccounts {
			return nil, fmt.Errorf("the server has more than %d accounts: use a directory for it", maxAccounts)
		}
	}
}

// open calls what answers with a handle.
func (m *members) open(op uint16, w *writer) (handle, error) {
	r, err := m.p.do(op, w)
	if err != nil {
		return handle{}, err
	}
	h := r.handle()
	_, err = r.status()
	return h, err
}

func (m *members) domain(name string) (sid ntsd.SID, err error) {
	w := &writer{}
	w.handle(m.server)
	w.chars(w.text(name))
	r, err := m.p.do(5, w) // SamrLookupDomainInSamServer
	if err != nil {
		return sid, err
	}
	if r.ref() {
		sid = r.sid()
	}
	_, err = r.status()
	return sid, err
}

// groups returns the groups of its own domain that an account is in.
func (m *members) groups(h handle, domain, account ntsd.SID) (out []ntsd.SID, err error) {
	_, rid, _ := account.RID()
	w := &writer{}
	w.handle(h)
	w.u32(0x0200_0000)
	w.u32(rid)
	user, err := m.open(34, w) // SamrOpenUser
	if err != nil {
		return nil, err
	}
	defer m.close(user)

	w = &writer{}
	w.handle(user)
	r, err := m.p.do(39, w) // SamrGetGroupsForUser
	if err != nil {
		return nil, err
	}

	if r.ref() {
		r.count()
		if r.ref() {
			for range r.count() {
				rid := r.u32()
				r.u32()
				if r.err != nil {
					break
				}

				out = append(out, ntsd.NewSID(domain.Authority(), append(domain.Subs(), rid)...))
			}
		}
	}

	_, err = r.status(noSuchUser)
	return out, err
}

// aliases returns the local groups of a domain that any of some identities is in.
func (m *members) aliases(h handle, domain ntsd.SID, who []ntsd.SID) (out []ntsd.SID, err error) {
	w := &writer{}
	w.handle(h)
	w.sids(who[:min(len(who), most)])
	r, err := m.p.do(16, w) // SamrGetAliasMembership
	if err != nil {
		return nil, err
	}

	r.count()
	if r.ref() {
		for range r.count() {
			rid := r.u32()
			if r.err != nil {
				break
			}
			out = append(out, ntsd.NewSID(domain.Authority(), append(domain.Subs(), rid)...))
		}
	}

	_, err = r.status(noSuchAlias)
	return out, err
}

func (m *members) close(h handle) {
	w := &writer{}
	w.handle(h)
	_, _ = m.p.do(1, w) // SamrCloseHandle; the server lets go of it with the pipe at the latest
}
