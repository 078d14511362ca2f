package rpc

import (
	"fmt"
	"io"

	"idletally/internal/core/ntsd"
)

// A ShareInfo is what a server says of a share.
type ShareInfo struct {
	Name    string
	List    ntsd.Descriptor // the share's own list
	HasList bool            // it has one: otherwise the server's usual one counts, as a rule everything to everyone
}

// Share asks for a share's own list, through the pipe "srvsvc" (MS-SRVS 3.1.4.10). Windows returns it to
// administrators alone.
func Share(rw io.ReadWriter, name string) (ShareInfo, error) {
	fail := func(err error) (ShareInfo, error) {
		return ShareInfo{}, fmt.Errorf("what share %s lets through: %w", name, err)
	}
	p, err := open(rw, srv)
	if err != nil {
		return fail(err)
	}

	w := &writer{}
	w.u32(0) // the server itself
	w.zeroEnded(name)
	w.u32(502)            // with its security descriptor (MS-SRVS 2.2.4.26)
	r, err := p.do(16, w) // NetrShareGetInfo
	if err != nil {
		return fail(err)
	}
	if level := r.u32(); r.err == nil && level != 502 {
		return fail(fmt.Errorf("the server answers with level %d", level))
	}

	var out ShareInfo
	if r.ref() {
		named := r.ref()
		r.u32() // kind
		remark := r.ref()
		r.u32() // permissions, of a way to share that is long gone
		r.u32() // the most users
		r.u32() // users now
		path, password := r.ref(), r.ref()
		size := r.u32()
		list := r.ref()
		if named {
			out.Name = r.zeroEnded()
		}

		for _, there := range []bool{remark, path, password} {
			if there {
				r.zeroEnded()
			}
		}

		if list {
			n := r.u32()
			if r.err == nil && (n != size || int64(n) > int64(len(r.b))) {
				return fail(errEnds)
			}

			b := r.take(int(n))
			if r.err == nil && n > 0 {
				if out.List, err = ntsd.Parse(b); err != nil {
					return fail(err)
				}
				out.HasList = true
			}
		}
	}

	if _, err := r.status(); err != nil {
		return fail(err)
	}

	return out, nil
}
