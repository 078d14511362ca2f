package least

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/mode"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	"idletally/internal/core/unixid"
	"idletally/internal/testkit"
	"idletally/internal/testkit/seeded"
)

// list is a list that names the clerk and the office beside a mode.
func list(m mode.Mode, entries ...posixacl.Entry) access.Way {
	w := way(0o755, 0)
	l := posixacl.List{
		{Tag: posixacl.UserObj, Perm: mode.Perm(m >> 6 & 7)}, {Tag: posixacl.GroupObj, Perm: mode.Perm(m >> 3 & 7)},
		{Tag: posixacl.Mask, Perm: 7}, {Tag: posixacl.Other, Perm: mode.Perm(m & 7)},
	}
	l = append(l, entries...)
	l.Sort()
	w[2].Set = posix.State{UID: 2, GID: 11, Mode: m | 0o070, Access: l}.Set()
	return w
}

func named(list []perm.Principal) string {
	var out []string
	for _, who := range list {
		name := "everyone"
		if who != perm.Everyone {
			name = names.Name(who)
		}
		out = append(out, name)
	}
	return strings.Join(out, " ")
}

func TestOnly(t *testing.T) {
	clerk := posixacl.Entry{Tag: posixacl.User, ID: 1, Perm: 6}
	office := posixacl.Entry{Tag: posixacl.Group, ID: 10, Perm: 7}
	for _, c := range []struct {
		name      string
		way       access.Way
		operation access.Operation
		keep      []uint32
		becomes   string // the last place's
		out, less string
		back      string
		short     string
	}{
		{"nothing to take away", way(0o755, 0o640), access.Write, []uint32{2}, "", "", "", "", ""},
		{"everyone may write", way(0o755, 0o666), access.Write, []uint32{2}, "deckhand:crew 0644",
			"everyone clerk mate purser", "", "", ""},
		{"the crew may stay", way(0o755, 0o666), access.Write, []uint32{2, 3, 4}, "deckhand:crew 0664",
			"everyone clerk", "", "", ""},
		{"one of the crew stays", way(0o755, 0o660), access.Write, []uint32{2, 3},
			"deckhand:crew 0660 [user:mate:rw- group::r-- mask::rw-]", "purser", "", "", ""},
		{"an owner can let themselves in again", way(0o755, 0o644), access.Write, []uint32{3},
			"deckhand:crew 0444", "deckhand", "", "deckhand", "mate"},
		{"an entry", list(0o640, clerk), access.Write, []uint32{2},
			"deckhand:crew 0640 [user:clerk:r-- group::r-- mask::r--]", "clerk", "", "", ""},
		{"of an entry that others need", list(0o640, office), access.Write, []uint32{2, 4},
			"deckhand:crew 0670 [user:purser:rwx group::r-- group:office:r-x mask::rwx]", "clerk", "", "", ""},
		{"taken out of a folder", way(0o777, 0o644), access.Delete, []uint32{2}, "", "everyone clerk mate purser", "",
			"", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			var keep []access.Subject
			for _, id := range c.keep {
				keep = append(keep, access.SubjectOf(names, unixid.UID(id)))
			}
			got, err := Only{Way: c.way, Keep: keep, Operation: c.operation, Names: names}.Find(t.Context())
			testkit.Must(t, err)
			is := ""
			for _, x := range got.Changes {
				if x.Place == 2 {
					is = perm.Describe(perm.File, x.After, names).String()
				}
			}
			if is != c.becomes || named(got.Out) != c.out || named(got.Less) != c.less ||
				named(got.Short) != c.short || named(got.Back) != c.back || named(got.Left) != "root" {
				t.Errorf("%s; out %s; less %s; left %s; back %s; short %s; %+v", is, named(got.Out), named(got.Less),
					named(got.Left), named(got.Back), named(got.Short), got.Changes)
			}
		})
	}
}

// On random ways nobody else can do it afterwards, whoever is kept still can, and no mode by itself would cost less.
func TestOnlyHolds(t *testing.T) {
	r := seeded.Rand(t)
	closed := 0
	for range testkit.Rounds(300, 5000) {
		w := way(mode.Mode(r.IntN(0o1000)), mode.Mode(r.IntN(0o1000)))
		if r.IntN(2) == 0 {
			w = list(mode.Mode(r.IntN(0o1000)), posixacl.Entry{Tag: posixacl.User, ID: 1, Perm: mode.Perm(r.IntN(8))},
				posixacl.Entry{Tag: posixacl.Group, ID: 10, Perm: mode.Perm(r.IntN(8))})
		}
		op := []access.Operation{access.Read, access.Write, access.Execute, access.Delete}[r.IntN(4)]
		o := Only{Way: w, Operation: op, Names: names}
		for _, id := range []uint32{1, 2, 3, 4} {
			if r.IntN(2) == 0 {
				o.Keep = append(o.Keep, access.SubjectOf(names, unixid.UID(id)))
			}
		}

		got, err := o.Find(t.Context())
		testkit.Must(t, err)
		after := slices.Clone(w)
		for _, c := range got.Changes {
			if after[c.Place].Set != c.Before {
				t.Fatalf("%+v changes what is not there", c)
			}
			after[c.Place].Set = c.After
		}
		if len(got.Changes) > 0 {
			closed++
		}
		o.hold(t, after, got)
	}
	if closed < 50 {
		t.Errorf("only %d changed anything", closed)
	}
}

// hold holds a closing against what package access says of each account by itself.
func (o Only) hold(t *testing.T, after access.Way, got Closing) {
	t.Helper()
	sorts := o.sorts()
	open, kept, less := o.cost(sorts, after)
	for _, s := range sorts {
		can, could := o.can(s, after), o.can(s, o.Way)
		for _, who := range s.who {
			lost := s.keep && could && !can && !slices.Contains(got.Short, who)
			left := !s.keep && can != slices.Contains(got.Left, who)
			out := !s.keep && could && !can != slices.Contains(got.Out, who)
			if lost || left || out {
				t.Errorf("%s could %v and can %v: %+v", who, could, can, got)
			}
		}
	}
	if left := named(got.Left); left != "root" && (left != "" || o.Operation != access.Execute) { // which takes a bit
		t.Errorf("%s can still %s: %+v", named(got.Left), o.Operation, got)
	}
	last := len(o.Way) - 1
	for m := range mode.Mode(0o1000) { // by the mode of the path alone
		next := slices.Clone(o.Way)
		state, err := posix.Of(o.Way[last].Set)
		testkit.Must(t, err)
		if state.Access != nil {
			return
		}
		state.Mode = m
		next[last].Set = state.Set()
		if x, y, z := o.cost(sorts, next); x <= open && y <= kept && z < less {
			t.Fatalf("mode %04o costs %d rights, and %+v %d; way %+v", m, z, got, less, o.Way)
		}
	}
}

// Who has no account, and a group that nobody is known to be in, are let in as well by what stands there: they are shut
// out, and told. The answer is the same each time.
func TestOnlyOfUnlisted(t *testing.T) {
	left := list(0o640, posixacl.Entry{Tag: posixacl.Group, ID: 12, Perm: 6},
		posixacl.Entry{Tag: posixacl.User, ID: 4712, Perm: 6})
	state, err := posix.Of(left[2].Set)
	testkit.Must(t, err)
	state.UID = 4711
	left[2].Set = state.Set()

	o := Only{Way: left, Keep: []access.Subject{access.SubjectOf(names, unixid.UID(1))}, Operation: access.Write,
		Names: names}
	first, err := o.Find(t.Context())
	testkit.Must(t, err)
	if got := named(first.Out); got != "4711 4712 yard" && got != "yard 4711 4712" || named(first.Left) != "root" {
		t.Errorf("out %s, left %s", got, named(first.Left))
	}
	if named(first.Back) != "4711" {
		t.Errorf("%s may let themselves in again", named(first.Back))
	}
	for range 20 {
		again, err := o.Find(t.Context())
		testkit.Must(t, err)
		if len(again.Changes) != 1 || again.Changes[0].After != first.Changes[0].After ||
			len(again.Changes[0].Words) != len(first.Changes[0].Words) {
			t.Fatalf("%+v, and before %+v", again, first)
		}
	}
}

// One number may have several names, each with groups of its own: what one of them may, the number may.
func TestOnlyOfTwoNames(t *testing.T) {
	d := (&perm.Directory{
		Accounts: []perm.Account{
			{ID: unixid.UID(7), Name: "pilot"},
			{ID: unixid.UID(7), Name: "helm", Groups: []perm.Principal{unixid.GID(10)}},
		},
		Groups: []perm.Account{{ID: unixid.GID(10), Name: "office"}},
	}).Index()
	w := list(0o640, posixacl.Entry{Tag: posixacl.User, ID: 7, Perm: 4},
		posixacl.Entry{Tag: posixacl.Group, ID: 10, Perm: 6})
	w[0].Set = posix.State{Mode: 0o755}.Set()
	w[1].Set = posix.State{Mode: 0o750, GID: 10}.Set()
	got, err := Only{Way: w, Operation: access.Read, Names: d}.Find(t.Context())
	testkit.Must(t, err)
	if !slices.Contains(got.Out, unixid.UID(7)) {
		t.Errorf("%+v", got)
	}
}

// On a share whole entries of those are taken away who are not to be let in, and whoever stays gets one of their own.
// What comes from above stays: that is told.
func TestOnlyOnShares(t *testing.T) {
	sid := func(n uint32) ntsd.SID { return ntsd.NewSID(5, 21, 1, 2, 3, n) }
	who := func(n uint32) perm.Principal { return nt.PrincipalOf(sid(n)) }
	server := (&perm.Directory{
		Accounts: []perm.Account{
			{ID: who(1001), Name: "clerk", Groups: []perm.Principal{who(1100)}},
			{ID: who(1002), Name: "mate", Groups: []perm.Principal{who(1100)}},
			{ID: who(1003), Name: "purser"},
		},
		Groups: []perm.Account{{ID: who(1100), Name: "crew"}},
	}).Index()
	open, err := ntsd.ParseSDDL("O:SYG:SYD:P(A;;FA;;;WD)")
	testkit.Must(t, err)
	top, err := nt.SetOf(open)
	testkit.Must(t, err)

	for _, c := range []struct {
		name, list       string
		keep             []uint32
		out, left, short string
		entries          int
	}{
		{"an entry of one", "D:P(A;;FA;;;S-1-5-21-1-2-3-1003)(A;;FA;;;S-1-5-21-1-2-3-1001)", []uint32{1001}, "purser",
			"", "", 1},
		{"a group, of which one stays", "D:P(A;;FA;;;S-1-5-21-1-2-3-1100)", []uint32{1002}, "clerk", "", "", 1},
		{"everyone", "D:P(A;;FR;;;WD)(A;;FA;;;S-1-5-21-1-2-3-1100)", []uint32{1001, 1002}, "purser", "", "", 1},
		{"from above", "D:(A;ID;FA;;;S-1-5-21-1-2-3-1100)", []uint32{1001}, "", "mate", "", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := ntsd.ParseSDDL("O:SYG:SY" + c.list)
			testkit.Must(t, err)
			set, err := nt.SetOf(d)
			testkit.Must(t, err)
			o := Only{Operation: access.Read, Names: server, Way: access.Way{
				{Path: "/charts", Kind: perm.Folder, Set: top}, {Path: "/charts/tides", Kind: perm.File, Set: set},
			}}
			for _, n := range c.keep {
				o.Keep = append(o.Keep, access.SubjectOf(server, who(n)))
			}
			got, err := o.Find(t.Context())
			testkit.Must(t, err)
			name := func(list []perm.Principal) string {
				var out []string
				for _, p := range list {
					if p != perm.Everyone {
						out = append(out, server.Name(p))
					}
				}
				return strings.Join(out, " ")
			}
			entries := 0
			if len(got.Changes) > 0 {
				entries = len(perm.Describe(perm.File, got.Changes[0].After, server).Grants)
			}
			if name(got.Out) != c.out || name(got.Left) != c.left || name(got.Short) != c.short ||
				entries != c.entries {
				t.Errorf("out %s; left %s; short %s; %d entries; %+v", name(got.Out), name(got.Left), name(got.Short),
					entries, got.Changes)
			}
		})
	}
}

// A list that somebody made long on purpose holds nobody up: the answer comes, or the context's end does.
func TestOnlyOfLongLists(t *testing.T) {
	d := &perm.Directory{Accounts: []perm.Account{{ID: unixid.UID(2), Name: "deckhand"}}}
	var entries []posixacl.Entry
	for id := range uint32(400) {
		d.Accounts = append(d.Accounts, perm.Account{ID: unixid.UID(1000 + id), Name: string(unixid.UID(1000 + id))})
		entries = append(entries, posixacl.Entry{Tag: posixacl.User, ID: 1000 + id, Perm: 6})
	}
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	began := time.Now()
	got, err := Only{Way: list(0o640, entries...), Operation: access.Write, Names: d.Index()}.Find(ctx)
	if took := time.Since(began); took > 30*time.Second || err != nil && !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v after %s", err, took)
	}
	t.Logf("%d are shut out, %d are left, %v after %s", len(got.Out), len(got.Left), err, time.Since(began))
}
