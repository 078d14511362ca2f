package access

import (
	"strings"
	"testing"

	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
)

var names = (&perm.Directory{
	Accounts: []perm.Account{
		{ID: posix.UID(0), Name: "root", Groups: []perm.Principal{posix.GID(0)}},
		{ID: posix.UID(1), Name: "purser", Groups: []perm.Principal{posix.GID(10)}},
		{ID: posix.UID(2), Name: "clerk", Groups: []perm.Principal{posix.GID(11), posix.GID(10)}},
		{ID: posix.UID(3), Name: "web", Groups: []perm.Principal{posix.GID(12)}, Service: true},
	},
	Groups: []perm.Account{
		{ID: posix.GID(0), Name: "root"},
		{ID: posix.GID(10), Name: "crew"},
		{ID: posix.GID(11), Name: "clerks"},
		{ID: posix.GID(12), Name: "www"},
	},
}).Index()

func place(path string, k perm.Kind, p posix.State) Place {
	return Place{Path: pathname.Path(path), Kind: k, Set: p.Set()}
}

func listed(p posix.State, named posixacl.List, mask *mode.Perm) posix.State {
	p.Access = posixacl.Build(p.Mode.Owner(), p.Mode.Group(), p.Mode.Other(), named, mask)
	p.Mode = p.Access.Mode(p.Mode)
	return p
}

func way(end ...Place) Way {
	return append(Way{place("/", perm.Folder, posix.State{Mode: 0o755})}, end...)
}

// Every cause comes up with the sentence and the place that people need. That the verdicts are
// those of the kernel is shown by package probe.
func TestMay(t *testing.T) {
	none := mode.Perm(0)
	user := func(id uint32, p mode.Perm) posixacl.List {
		return posixacl.List{{Tag: posixacl.User, ID: id, Perm: p}}
	}
	shut := place("/srv", perm.Folder, posix.State{UID: 1, GID: 10, Mode: 0o750})
	open := place("/srv", perm.Folder, posix.State{UID: 1, GID: 10, Mode: 0o777})
	sticky := place("/srv", perm.Folder, posix.State{UID: 1, GID: 10, Mode: 0o1777})
	file := func(p posix.State) Place { return place("/srv/f", perm.File, p) }
	mounted := func(p Place, m Mount) Place {
		m.At = "/srv"
		p.Mount = m
		return p
	}

	for _, c := range []struct {
		name string
		who  string
		op   Operation
		way  Way
		ok   bool
		code Code
		at   string
		says string
	}{
		{"others on the way", "web", Read, way(shut, file(posix.State{Mode: 0o777})), false, ByOthers, "/srv",
			"the way stops at /srv: the folder, for others, has ---, not x"},
		{"owner", "purser", Write, way(open, file(posix.State{UID: 1, Mode: 0o200})), true, ByOwner, "/srv/f",
			"purser owns the path, and the owner has w"},
		{"the owner's class only", "purser", Read, way(open, file(posix.State{UID: 1, GID: 10, Mode: 0o077})), false,
			ByOwner, "/srv/f", "the owner has ---, not r"},
		{"account entry", "web", Read, way(open, file(listed(posix.State{Mode: 0o640}, user(3, 4), nil))), true,
			ByAccount, "/srv/f", "the entry for web on the path has r"},
		{"mask", "web", Write, way(open, file(listed(posix.State{Mode: 0o640}, user(3, 7), new(mode.Perm(4))))), false,
			ByMask, "/srv/f", "but the mask r-- takes w away"},
		{"idle list", "web", Read, way(open, file(listed(posix.State{Mode: 0o604}, user(3, 0), &none))), true, ByOthers,
			"/srv/f", "for others, has r"},
		{"group", "clerk", Read, way(open, file(posix.State{GID: 10, Mode: 0o640})), true, ByGroup, "/srv/f",
			"clerk is in the owning group of the path, which has r"},
		{"named group", "clerk", Read,
			way(open,
				file(listed(posix.State{Mode: 0o600}, posixacl.List{{Tag: posixacl.Group, ID: 11, Perm: 4}}, nil))),
			true, ByGroup, "/srv/f", "clerk is in group clerks"},
		{"privilege", "root", Read, way(shut, file(posix.State{UID: 1})), true, ByPrivilege, "/srv/f",
			"root: CAP_DAC_OVERRIDE"},
		{"no program", "root", Execute, way(open, file(posix.State{Mode: 0o666})), false, ByNoProgram, "/srv/f",
			"nobody may execute it"},
		{"sticky", "clerk", Delete, way(sticky, file(posix.State{UID: 3})), false, BySticky, "/srv", "is sticky"},
		{"sticky, own", "web", Delete, way(sticky, file(posix.State{UID: 3})), true, ByOthers, "/srv",
			"its folder /srv"},
		{"read-only", "purser", Write, way(open, mounted(file(posix.State{UID: 1, Mode: 0o600}),
			Mount{ReadOnly: true})),
			false, ByReadOnly, "/srv/f", "mounted read-only (at /srv)"},
		{"no-exec", "root", Execute, way(open, mounted(file(posix.State{Mode: 0o777}), Mount{NoExec: true})), false,
			ByNoExec, "/srv/f", "mounted no-exec"},
		{"immutable", "root", Write, way(open, file(posix.State{Mode: 0o666, Flags: perm.Immutable})), false,
			ByImmutable, "/srv/f", "not even root"},
		{"append-only", "root", Write, way(open, file(posix.State{Mode: 0o666, Flags: perm.AppendOnly})), false,
			ByAppendOnly, "/srv/f", "can be added to"},
		{"not the owner", "clerk", Change, way(open, file(posix.State{UID: 1, Mode: 0o777})), false, ByNotOwner,
			"/srv/f", "only its owner purser or root"},
		{"ownership", "purser", Change, way(open, file(posix.State{UID: 1})), true, ByOwnership, "/srv/f",
			"purser owns it"},
		{"the top", "root", Delete, Way{place("/", perm.Folder, posix.State{})}, false, ByRoot, "/",
			"lies in no folder"},
		{"of another kind", "root", Enter, way(open, file(posix.State{})), false, ByKind, "/srv/f",
			"no such thing with a file"},
		{"a link", "root", Read, way(open, place("/srv/l", perm.Link, posix.State{})), false, ByLink, "/srv/l",
			"what it leads to decides"},
		{"a file on the way", "root", Read, way(place("/srv", perm.File, posix.State{Mode: 0o777}),
			file(posix.State{})),
			false, ByFolderOnWay, "/srv", "no folder"},
		{"not read", "root", Read, way(open, Place{Path: "/srv/f", Kind: perm.File}), false, ByUnread, "/srv/f",
			"could not be read"},
	} {
		id, _ := names.User(c.who)
		a := NewAsker(SubjectOf(names, id))
		got := a.May(c.way, c.op, names)
		if got.Allowed != c.ok || got.Cause != c.code || string(got.At) != c.at ||
			!strings.Contains(got.Reason, c.says) {
			t.Errorf("%s: %v by %s at %s: %q; want %v by %s at %s, %q", c.name, got.Allowed, got.Cause, got.At,
				got.Reason, c.ok, c.code, c.at, c.says)
		}

		if a.Can(c.way, c.op) != got.Allowed {
			t.Errorf("%s: Can says otherwise", c.name)
		}
	}

	// Whoever may put a link into a folder for all makes others follow it, where the kernel does not guard
	// against that.
	for _, c := range []struct {
		what   string
		folder posix.State
		owner  uint32
		noted  bool
	}{
		{"another's link in a folder for all", posix.State{UID: 0, Mode: 0o1777}, 3, true},
		{"one of the folder's owner", posix.State{UID: 3, Mode: 0o1777}, 3, false},
		{"a folder that is not sticky", posix.State{UID: 0, Mode: 0o777}, 3, false},
		{"a folder that not all may write to", posix.State{UID: 0, Mode: 0o1775}, 3, false},
	} {
		w := Way{
			place("/", perm.Folder, posix.State{Mode: 0o755}),
			place("/tmp", perm.Folder, c.folder),
			place("/tmp/l", perm.Link, posix.State{UID: c.owner, Mode: 0o777}),
		}
		if got := NewAsker(SubjectOf(nil, posix.UID(0))).May(w, Read, nil); (len(got.Notes) > 0) != c.noted {
			t.Errorf("%s: %+v", c.what, got)
		}
	}

	// What lies behind the place where the way stops was not reached.
	got := NewAsker(SubjectOf(names, posix.UID(3))).May(
		way(shut, place("/srv/d", perm.Folder, posix.State{Mode: 0o777}),
			place("/srv/d/f", perm.File, posix.State{Mode: 0o777})),
		Read, names)
	if w := got.Way; len(w) != 3 || !w[0].Passed || w[1].Passed || !w[1].Reached || w[2].Reached ||
		got.Entry != "other::---" {
		t.Errorf("way %+v, entry %q", w, got.Entry)
	}
}

func TestJoining(t *testing.T) {
	w := way(place("/srv", perm.Folder, posix.State{UID: 1, GID: 10, Mode: 0o750}))
	if NewAsker(SubjectOf(names, posix.UID(3))).Can(w, Enter) ||
		!NewAsker(SubjectOf(names, posix.UID(3), posix.GID(10))).Can(w, Enter) {
		t.Error("joining the group makes no difference")
	}
}

func TestPeople(t *testing.T) {
	w := way(place("/srv", perm.Folder, posix.State{UID: 77, GID: 10, Mode: 0o750}))
	ids, all := Matter(w, names, 2)
	if len(ids) != 3 || all != 4 || ids[0].ID != posix.UID(77) || ids[2].ID != perm.Everyone {
		t.Errorf("%v of %d matter", ids, all)
	}

	can := map[perm.Principal]bool{}
	for _, h := range Everybody(w, List, names) {
		can[h.ID] = h.Answers[0].Allowed
	}

	for id, want := range map[perm.Principal]bool{
		perm.Everyone: false,
		posix.UID(0):  true,
		posix.UID(1):  true,
		posix.UID(2):  true,
		posix.UID(3):  false,
		posix.UID(77): true,
	} {
		if got, ok := can[id]; !ok || got != want {
			t.Errorf("%s: %v (asked: %v), want %v", id, got, ok, want)
		}
	}
}

func TestOperationNames(t *testing.T) {
	for _, op := range Operations {
		if back, err := ParseOperation(op.String()); err != nil || back != op || op.Words() == "" {
			t.Errorf("%v came back as %v, %v", op, back, err)
		}
	}

	if _, err := ParseOperation("sink"); err == nil || !strings.Contains(err.Error(), "want one of read, write") {
		t.Errorf("%v", err)
	}

	for p := Override; p <= FSetID; p <<= 1 {
		if back, err := ParsePrivilege(strings.ToLower(p.String())); err != nil || back != p {
			t.Errorf("%v came back as %v, %v", p, back, err)
		}
	}

	if _, err := ParsePrivilege("CAP_NET_RAW"); err == nil {
		t.Error("a privilege without bearing on files was taken")
	}
}
