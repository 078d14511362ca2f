//go:build linux

package smb

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"testing"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/privilege"
	"idletally/internal/host/fileserver"
	"idletally/internal/testkit"
	"idletally/internal/testkit/seeded"
)

// people are the accounts that the proofs ask about, with what the server takes them for.
func people(t testing.TB) (names []string, tokens []ntsd.Token, others []ntsd.SID) {
	t.Helper()
	keeper := dial(t, "keeper", "charts")
	set(t, keeper, "", "D:(A;OICI;FA;;;WD)", fileserver.SetList)
	groups := map[string]ntsd.SID{}

	for _, g := range []string{"crew", "office"} {
		text, err := server.GroupSID(t.Context(), g)
		must(t, err)
		sid, err := ntsd.ParseSID(text)
		must(t, err)
		groups[g] = sid
		others = append(others, sid)
	}

	for _, p := range []struct {
		name       string
		groups     []string
		privileges privilege.Set
	}{
		{"purser", []string{"crew", "office"}, 0},
		{"clerk", []string{"crew"}, 0},
		{"stoker", nil, 0},
		{"taker", []string{"crew"}, privilege.TakeOwnership | privilege.Backup | privilege.Restore},
	} {
		s := dial(t, p.name, "charts")
		must(t, s.s.WriteFile("who-"+p.name, nil, 0o666))
		seen, err := s.Look("who-" + p.name)
		must(t, err)
		token := ntsd.Token{
			User:       seen.Descriptor.Owner,
			Groups:     []ntsd.SID{seen.Descriptor.Group, ntsd.Everyone, ntsd.Authenticated, ntsd.Network},
			Privileges: p.privileges,
		}
		for _, g := range p.groups {
			token.Groups = append(token.Groups, groups[g])
		}

		below, err := keeper.of.SIDs(t.Context(), []string{`Unix User\` + p.name}) // the account of the system below
		must(t, err)
		token.Groups = append(token.Groups, below...)
		others = append(others, below...)
		names, tokens = append(names, p.name), append(tokens, token)
		others = append(others, token.User)
	}

	return names, tokens, append(others, ntsd.Everyone, ntsd.Authenticated, ntsd.Network, ntsd.OwnerRights,
		ntsd.CreatorOwner, ntsd.Administrators)
}

// rights that an open can ask for.
var rights = []ace.Mask{
	ace.ReadData, ace.WriteData, ace.AppendData, ace.ReadExtended, ace.WriteExtended, ace.Execute,
	ace.DeleteChild, ace.ReadAttributes,
	ace.WriteAttributes, ace.Delete, ace.ReadControl, ace.WriteDAC, ace.WriteOwner, ace.Synchronize,
}

func randomList(r *rand.Rand, world []ntsd.SID) (out []ntsd.Entry) {
	for range r.IntN(6) {
		e := ntsd.Entry{
			Type:  ntsd.Type(r.IntN(2)),
			Flags: ace.Flags(r.IntN(16)),
			Mask:  ace.Mask(r.Uint32()) & ace.Full,
			SID:   world[r.IntN(len(world))],
		}

		if r.IntN(3) > 0 { // mostly entries that count here
			e.Flags &^= ace.InheritOnly
		}

		switch r.IntN(6) {
		case 0:
			e.Mask = []ace.Mask{
				ace.Full,
				ace.ReadSet | ace.WriteSet | ace.Execute | ace.Delete,
				ace.ReadSet | ace.Execute,
				ace.ReadSet,
				ace.WriteSet,
			}[r.IntN(5)]
		case 1:
			e.Mask = []ace.Mask{ace.GenericAll, ace.GenericRead, ace.GenericWrite, ace.GenericExecute}[r.IntN(4)]
		}

		out = append(out, e)
	}

	return out
}

// What the core says of random descriptors is what the server does when the account opens with these rights:
// everything that is granted in one open, and every other right by itself, refused.
//
// One difference is known: MS-FSA 2.1.5.1.2.1 lets whoever may list a folder read the attributes of what is
// in there; this server does so for whoever gets there at all.
func TestAccessAsTheServerDoes(t *testing.T) {
	seed := seeded.Rand(t).Uint64()
	names, tokens, world := people(t)
	const hands = 4
	descriptors := testkit.Rounds(500, 2000)
	var asked, granted, known, differ atomic.Int64
	var all sync.WaitGroup

	for hand := range hands {
		keeper := dial(t, "keeper", "charts")
		var shares []*Share
		for _, n := range names {
			shares = append(shares, dial(t, n, "charts"))
		}

		r := rand.New(rand.NewPCG(seed, uint64(hand)))
		all.Go(func() {
			dir := fmt.Sprintf("proof-%d", hand)
			file, folder := dir+`\file`, dir+`\folder`
			if err := keeper.s.Mkdir(dir, 0o777); err != nil {
				t.Error(err)
				return
			}

			if err := keeper.s.Mkdir(folder, 0o777); err != nil {
				t.Error(err)
				return
			}

			if err := keeper.s.WriteFile(file, nil, 0o666); err != nil {
				t.Error(err)
				return
			}

			change := func(name string, d ntsd.Descriptor) {
				h, err := keeper.Hold(name, ace.ReadControl|ace.WriteDAC|ace.WriteOwner|ace.ReadAttributes)
				if err == nil {
					err = h.Set(d, fileserver.SetOwner|fileserver.SetList)
					h.Close()
				}
				if err != nil {
					t.Errorf("%+v: %v", d, err)
				}
			}

			var parent ntsd.Descriptor
			for i := range descriptors / hands {
				if i%100 == 0 { // what the folder above lets through matters, too
					parent = ntsd.Descriptor{
						Owner:   tokens[0].User,
						Control: ntsd.Protected,
						Entries: []ntsd.Entry{
							{
								Mask: ace.Execute | ace.Mask(r.Uint32())&(ace.ReadData|ace.DeleteChild),
								SID:  ntsd.Everyone,
							},
						},
					}
					change(dir, parent)
				}

				d := ntsd.Descriptor{
					Owner:   tokens[r.IntN(len(tokens))].User,
					Control: ntsd.Protected,
					Entries: randomList(r, world),
				}
				path := file
				if r.IntN(2) == 0 {
					path = folder
				}

				change(path, d)
				for n, token := range tokens {
					verdicts := ntsd.Place{Descriptor: &d, Parent: &parent, Share: ace.Full}.Check(token, ace.Full)
					var may ace.Mask
					for _, right := range rights {
						if verdicts[right].Granted {
							may |= right
						}
					}

					try := func(want ace.Mask, should bool) {
						asked.Add(1)
						h, err := shares[n].Hold(path, want)
						if err == nil {
							h.Close()
							granted.Add(1)
						}

						if want == ace.ReadAttributes && err == nil && !should {
							known.Add(1) // see the comment above
							return
						}

						if (err == nil) != should && differ.Add(1) < 20 {
							text, above := sddl(d), sddl(parent)
							t.Errorf("%s, %s, opening %s for %s: the server says %v, the core %t (%+v)\n%s\nabove %s",
								names[n], token.User, path, want.Words(path == folder), err, should, verdicts[want],
								text, above)
						}
					}

					if may != 0 {
						try(may, true)
					}

					for _, right := range rights {
						if may&right == 0 {
							try(right, false)
						}
					}
				}
			}
		})
	}

	all.Wait()
	t.Logf("%d descriptors, %d opens, %d granted, %d known differences, %d others", descriptors, asked.Load(),
		granted.Load(), known.Load(), differ.Load())
	if n := int64(descriptors); granted.Load() < 2*n || asked.Load() < 20*n {
		t.Error("too little was tried")
	}
}

// once leaves out entries that stand a second time, as this server does where two become the same: they say
// nothing more.
func once(list []ntsd.Entry) (out []ntsd.Entry) {
	for _, e := range list {
		if !slices.Contains(out, e) {
			out = append(out, e)
		}
	}
	return out
}

// What something new in a folder gets is what the server gives it, whoever makes it.
func TestInheritanceAsTheServerDoes(t *testing.T) {
	r := seeded.Rand(t)
	names, tokens, world := people(t)
	keeper := dial(t, "keeper", "charts")
	world = append(world, ntsd.CreatorGroup)
	must(t, keeper.s.Mkdir("down", 0o777))
	var shares []*Share
	for _, n := range names {
		shares = append(shares, dial(t, n, "charts"))
	}

	made, differ := 0, 0
	for i := range 1500 {
		// Whoever makes something has to be allowed to, by an entry that nothing inherits.
		parent := ntsd.Descriptor{
			Control: []ntsd.Control{0, ntsd.AutoInherited, ntsd.Protected | ntsd.AutoInherited}[r.IntN(3)],
			Entries: append([]ntsd.Entry{{Mask: ace.Full, SID: ntsd.Everyone}}, randomList(r, world)...),
		}
		h, err := keeper.Hold("down", ace.ReadControl|ace.WriteDAC|ace.ReadAttributes)
		must(t, err)
		must(t, h.Set(parent, fileserver.SetList))
		was, err := h.Look() // this server writes out generic rights when it keeps a list
		must(t, err)
		h.Close()
		parent = was.Descriptor
		n := r.IntN(len(names))
		folder := r.IntN(2) == 0
		child := fmt.Sprintf(`down\%d`, i)
		if folder {
			err = shares[n].s.Mkdir(child, 0o777)
		} else {
			err = shares[n].s.WriteFile(child, nil, 0o666)
		}

		must(t, err)
		seen, err := keeper.Look(child)
		must(t, err)
		got := seen.Descriptor
		want := ntsd.Child(&parent, folder, tokens[n].User, tokens[n].Groups[0], []ntsd.Entry{
			{Mask: ace.Full, SID: tokens[n].User},
			{Mask: ace.Full, SID: ntsd.System},
		})
		made++
		if want.Control == 0 && want.Entries[len(want.Entries)-1].SID == ntsd.System {
			got.Group = want.Group // where nothing is handed on, this server names the group of its own system
		}

		got.Entries, want.Entries = once(got.Entries), once(want.Entries)
		if !got.Equal(want) && differ < 12 {
			differ++
			a, _ := parent.SDDL()
			b, _ := got.SDDL()
			c, _ := want.SDDL()
			t.Errorf("%s makes a folder (%t) in\n%s: the server gives\n%s, the core\n%s", names[n], folder, a, b, c)
		}
	}

	t.Logf("%d made", made)
}

// A folder that somebody may not pass through does not keep them from what they may open in it: servers do
// not look at the folders on the way.
func TestPassingThrough(t *testing.T) {
	_, tokens, _ := people(t)
	keeper, clerk := dial(t, "keeper", "charts"), dial(t, "clerk", "charts")
	must(t, keeper.s.MkdirAll(`closed\inner`, 0o777))
	must(t, keeper.s.WriteFile(`closed\inner\open.txt`, nil, 0o666))
	set(t, keeper, `closed\inner\open.txt`, "D:P(A;;FA;;;WD)", fileserver.SetList)
	set(t, keeper, `closed\inner`, "D:P(A;;FA;;;"+tokens[0].User.String()+")", fileserver.SetList)
	set(t, keeper, `closed`, "D:P(A;;FA;;;"+tokens[0].User.String()+")", fileserver.SetList)
	if _, err := clerk.Look(`closed`); !fileserver.Refused(err) {
		t.Errorf("the folder is open: %v", err)
	}
	if _, err := clerk.Look(`closed\inner\open.txt`); err != nil {
		t.Errorf("what lies in it: %v", err)
	}
}

// sddl is a descriptor as people read it.
func sddl(d ntsd.Descriptor) string {
	text, _ := d.SDDL()
	return text
}
