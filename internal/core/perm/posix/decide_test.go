package posix

import (
	"fmt"
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
)

var names = (&perm.Directory{
	Accounts: []perm.Account{
		{ID: unixid.UID(0), Name: "root", Groups: []perm.Principal{unixid.GID(0)}},
		{ID: unixid.UID(1), Name: "purser", Groups: []perm.Principal{unixid.GID(10)}},
		{ID: unixid.UID(2), Name: "clerk", Groups: []perm.Principal{unixid.GID(11), unixid.GID(10)}},
		{ID: unixid.UID(3), Name: "web", Groups: []perm.Principal{unixid.GID(12)}, Service: true},
	},
	Groups: []perm.Account{
		{ID: unixid.GID(0), Name: "root"},
		{ID: unixid.GID(10), Name: "crew"},
		{ID: unixid.GID(11), Name: "clerks"},
		{ID: unixid.GID(12), Name: "www"},
	},
}).Index()

func place(path string, k perm.Kind, p State) access.Place {
	return access.Place{Path: pathname.Path(path), Kind: k, Set: p.Set()}
}

func listed(p State, named posixacl.List, mask *mode.Perm) State {
	p.Access = posixacl.Build(p.Mode.Owner(), p.Mode.Group(), p.Mode.Other(), named, mask)
	p.Mode = p.Access.Mode(p.Mode)
	return p
}

func way(end ...access.Place) access.Way {
	return append(access.Way{place("/", perm.Folder, State{Mode: 0o755})}, end...)
}

// mayRows are what TestMay tries.
var mayRows = []struct {
	what   string
	folder State
	owner  uint32
	noted  bool
}{
	{"another's link in a folder for all", State{UID: 0, Mode: 0o1777}, 3, true},
	{"one of the folder's owner", State{UID: 3, Mode: 0o1777}, 3, false},
	{"a folder that is not sticky", State{UID: 0, Mode: 0o777}, 3, false},
	{"a folder that not all may write to", State{UID: 0, Mode: 0o1775}, 3, false},
}

// Every cause comes up with the sentence and the place that people need. That the verdicts are
// those of the kernel is shown by package probe.
func TestMay(t *testing.T) {
	none := mode.Perm(0)
	user := func(id uint32, p mode.Perm) posixacl.List {
		return posixacl.List{{Tag: posixacl.User, ID: id, Perm: p}}
	}
	shut := place("/srv", perm.Folder, State{UID: 1, GID: 10, Mode: 0o750})
	open := place("/srv", perm.Folder, State{UID: 1, GID: 10, Mode: 0o777})
	sticky := place("/srv", perm.Folder, State{UID: 1, GID: 10, Mode: 0o1777})
	file := func(p State) access.Place { return place("/srv/f", perm.File, p) }
	mounted := func(p access.Place, m access.Mount) access.Place {
		m.At = "/srv"
		p.Mount = m
		return p
	}

	for _, c := range []struct {
		name string
		who  string
		op   access.Operation
		way  access.Way
		ok   bool
		code access.Code
		at   string
		says string
	}{
		{"others on the way", "web", access.Read, way(shut, file(State{Mode: 0o777})), false, access.ByOthers, "/srv",
			"the way stops at /srv: the folder, for others, has ---, not x"},
		{"owner", "purser", access.Write, way(open, file(State{UID: 1, Mode: 0o200})), true, access.ByOwner, "/srv/f",
			"purser owns the path, and the owner has w"},
		{"the owner's class only", "purser", access.Read, way(open, file(State{UID: 1, GID: 10, Mode: 0o077})), false,
			access.ByOwner, "/srv/f", "the owner has ---, not r"},
		{"account entry", "web", access.Read, way(open, file(listed(State{Mode: 0o640}, user(3, 4), nil))), true,
			access.ByAccount, "/srv/f", "the entry for web on the path has r"},
		{"mask", "web", access.Write, way(open, file(listed(State{Mode: 0o640}, user(3, 7), new(mode.Perm(4))))), false,
			access.ByMask, "/srv/f", "but the mask r-- takes w away"},
		{"idle list", "web", access.Read, way(open, file(listed(State{Mode: 0o604}, user(3, 0), &none))), true,
			access.ByOthers,
			"/srv/f", "for others, has r"},
		{"group", "clerk", access.Read, way(open, file(State{GID: 10, Mode: 0o640})), true, access.ByGroup, "/srv/f",
			"clerk is in the owning group of the path, which has r"},
		{"named group", "clerk", access.Read,
			way(open,
				file(listed(State{Mode: 0o600}, posixacl.List{{Tag: posixacl.Group, ID: 11, Perm: 4}}, nil))),
			true, access.ByGroup, "/srv/f", "clerk is in group clerks"},
		{"privilege", "root", access.Read, way(shut, file(State{UID: 1})), true, access.ByPrivilege, "/srv/f",
			"root: CAP_DAC_OVERRIDE"},
		{"no program", "root", access.Execute, way(open, file(State{Mode: 0o666})), false, access.ByNoProgram, "/srv/f",
			"nobody may execute it"},
		{"sticky", "clerk", access.Delete, way(sticky, file(State{UID: 3})), false, access.BySticky, "/srv",
			"is sticky"},
		{"sticky, own", "web", access.Delete, way(sticky, file(State{UID: 3})), true, access.ByOthers, "/srv",
			"its folder /srv"},
		{"read-only", "purser", access.Write, way(open, mounted(file(State{UID: 1, Mode: 0o600}),
			access.Mount{ReadOnly: true})),
			false, access.ByReadOnly, "/srv/f", "mounted read-only (at /srv)"},
		{"no-exec", "root", access.Execute, way(open, mounted(file(State{Mode: 0o777}), access.Mount{NoExec: true})),
			false,
			access.ByNoExec, "/srv/f", "mounted no-exec"},
		{"immutable", "root", access.Write, way(open, file(State{Mode: 0o666, Flags: perm.Immutable})), false,
			access.ByImmutable, "/srv/f", "not even root"},
		{"append-only", "root", access.Write, way(open, file(State{Mode: 0o666, Flags: perm.AppendOnly})), false,
			access.ByAppendOnly, "/srv/f", "can be added to"},
		{"not the owner", "clerk", access.Change, way(open, file(State{UID: 1, Mode: 0o777})), false, access.ByNotOwner,
			"/srv/f", "only its owner purser or root"},
		{"ownership", "purser", access.Change, way(open, file(State{UID: 1})), true, access.ByOwnership, "/srv/f",
			"purser owns it"},
		{"the top", "root", access.Delete, access.Way{place("/", perm.Folder, State{})}, false, access.ByRoot, "/",
			"lies in no folder"},
		{"of another kind", "root", access.Enter, way(open, file(State{})), false, access.ByKind, "/srv/f",
			"no such thing with a file"},
		{"a link", "root", access.Read, way(open, place("/srv/l", perm.Link, State{})), false, access.ByLink, "/srv/l",
			"what it leads to decides"},
		{"a file on the way", "root", access.Read, way(place("/srv", perm.File, State{Mode: 0o777}),
			file(State{})),
			false, access.ByFolderOnWay, "/srv", "no folder"},
		{"not read", "root", access.Read, way(open, access.Place{Path: "/srv/f", Kind: perm.File}), false,
			access.ByUnread, "/srv/f",
			"could not be read"},
	} {
		t.Run(c.name, func(t *testing.T) {
			id, _ := names.User(c.who)
			a := access.NewAsker(access.SubjectOf(names, id))
			got := a.May(c.way, c.op, names)
			if got.Allowed != c.ok || got.Cause != c.code || string(got.At) != c.at ||
				!strings.Contains(got.Reason, c.says) {
				t.Errorf("%s: %v by %s at %s: %q; want %v by %s at %s, %q", c.name, got.Allowed, got.Cause, got.At,
					got.Reason, c.ok, c.code, c.at, c.says)
			}

			if a.Can(c.way, c.op) != got.Allowed {
				t.Errorf("%s: Can says otherwise", c.name)
			}
		})
	}

	// Whoever may put a link into a folder for all makes others follow it, where the kernel does not guard
	// against that.
	for _, c := range mayRows {
		t.Run(c.what, func(t *testing.T) {
			w := access.Way{
				place("/", perm.Folder, State{Mode: 0o755}),
				place("/tmp", perm.Folder, c.folder),
				place("/tmp/l", perm.Link, State{UID: c.owner, Mode: 0o777}),
			}
			if got := access.NewAsker(access.SubjectOf(nil, unixid.UID(0))).May(w, access.Read,
				nil); (len(got.Notes) > 0) != c.noted {
				t.Errorf("%s: %+v", c.what, got)
			}
		})
	}

	// What lies behind the place where the way stops was not reached.
	got := access.NewAsker(access.SubjectOf(names, unixid.UID(3))).May(
		way(shut, place("/srv/d", perm.Folder, State{Mode: 0o777}),
			place("/srv/d/f", perm.File, State{Mode: 0o777})),
		access.Read, names)
	if w := got.Way; len(w) != 3 || !w[0].Passed || w[1].Passed || !w[1].Reached || w[2].Reached ||
		got.Entry != "other::---" {
		t.Errorf("way %+v, entry %q", w, got.Entry)
	}
}

func TestJoining(t *testing.T) {
	w := way(place("/srv", perm.Folder, State{UID: 1, GID: 10, Mode: 0o750}))
	if access.NewAsker(access.SubjectOf(names, unixid.UID(3))).Can(w, access.Enter) ||
		!access.NewAsker(access.SubjectOf(names, unixid.UID(3), unixid.GID(10))).Can(w, access.Enter) {
		t.Error("joining the group makes no difference")
	}
}

func TestPeople(t *testing.T) {
	w := way(place("/srv", perm.Folder, State{UID: 77, GID: 10, Mode: 0o750}))
	ids, all := access.Matter(w, names, 2)
	if len(ids) != 3 || all != 4 || ids[0].ID != unixid.UID(77) || ids[2].ID != perm.Everyone {
		t.Errorf("%v of %d matter", ids, all)
	}

	can := map[perm.Principal]bool{}
	for _, h := range access.Everybody(w, access.List, names) {
		can[h.ID] = h.Answers[0].Allowed
	}

	for id, want := range map[perm.Principal]bool{
		perm.Everyone:  false,
		unixid.UID(0):  true,
		unixid.UID(1):  true,
		unixid.UID(2):  true,
		unixid.UID(3):  false,
		unixid.UID(77): true,
	} {
		t.Run(fmt.Sprint(id), func(t *testing.T) {
			if got, ok := can[id]; !ok || got != want {
				t.Errorf("%s: %v (asked: %v), want %v", id, got, ok, want)
			}
		})
	}
}

func TestOperationNames(t *testing.T) {
	for _, op := range access.Operations {
		if back, err := access.ParseOperation(op.String()); err != nil || back != op || op.Words() == "" {
			t.Errorf("%v came back as %v, %v", op, back, err)
		}
	}

	if _, err := access.ParseOperation("sink"); err == nil ||
		!strings.Contains(err.Error(), "want one of read, write") {
		t.Errorf("%v", err)
	}

	for p := access.Override; p <= access.FSetID; p <<= 1 {
		if back, err := access.ParsePrivilege(strings.ToLower(p.String())); err != nil || back != p {
			t.Errorf("%v came back as %v, %v", p, back, err)
		}
	}

	if _, err := access.ParsePrivilege("CAP_NET_RAW"); err == nil {
		t.Error("a privilege without bearing on files was taken")
	}
}
