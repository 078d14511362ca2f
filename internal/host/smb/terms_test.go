//go:build linux

package smb

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm/nt"
	"idletally/internal/host/fileserver"
	"idletally/internal/testkit/seeded"
)

// A share's own list lets through what the core says it does, over random lists of what is on it.
func TestShareListAsTheServerDoes(t *testing.T) {
	r := rand.New(rand.NewPCG(seeded.Rand(t).Uint64(), 1))
	names, tokens, world := people(t)
	keeper := dial(t, "keeper", "readers")
	terms, err := keeper.Terms()
	must(t, err)
	list, ok := nt.Of(terms.Share)
	if !ok {
		t.Fatal("the server tells no list of the share")
	}

	must(t, keeper.s.WriteFile("file", nil, 0o666))
	top, err := keeper.Look("")
	must(t, err)
	granted, shut := 0, 0

	for n, token := range tokens {
		through := list.Lets(token)
		s, err := Dial(t.Context(), Access{Address: server.Address(), User: names[n], Password: password})
		must(t, err)
		share, err := s.Open(t.Context(), "readers")
		if through == 0 {
			shut++
			if !fileserver.Refused(err) {
				t.Errorf("%s gets nothing through the share, and opens it: %v", names[n], err)
			}

			_ = s.Close()
			continue
		}

		must(t, err)
		for range 150 {
			d := ntsd.Descriptor{
				Owner:   tokens[r.IntN(len(tokens))].User,
				Control: ntsd.Protected,
				Entries: randomList(r, world),
			}
			h, err := keeper.Hold("file", ace.ReadControl|ace.WriteDAC|ace.WriteOwner|ace.ReadAttributes)
			must(t, err)
			must(t, h.Set(d, fileserver.SetOwner|fileserver.SetList))
			must(t, h.Close())
			verdicts := ntsd.Place{Descriptor: &d, Parent: &top.Descriptor, Share: through}.Check(token, ace.Full)

			for _, right := range rights {
				h, err := share.Hold("file", right)
				if err == nil {
					granted++
					_ = h.Close()
				}

				if right == ace.ReadAttributes && err == nil && !verdicts[right].Granted {
					continue // as in TestAccessAsTheServerDoes
				}

				if (err == nil) != verdicts[right].Granted {
					text, _ := d.SDDL()
					t.Errorf("%s for %s: the server says %v, the core %+v\n%s", names[n], right.Words(false), err,
						verdicts[right], text)
				}
			}
		}

		_ = s.Close()
	}

	if granted < 100 || shut == 0 {
		t.Errorf("%d granted, %d accounts shut out: too little was tried", granted, shut)
	}
}

// What a share that hides shows to somebody is what the core says, over random lists.
func TestHidesAsTheServerDoes(t *testing.T) {
	r := rand.New(rand.NewPCG(seeded.Rand(t).Uint64(), 2))
	names, tokens, world := people(t)
	keeper := dial(t, "keeper", "crewdocs")
	set(t, keeper, "", "D:P(A;OICI;FA;;;WD)", fileserver.SetList)
	const n = 300

	for i := range n {
		name := fmt.Sprint(i)
		if i%3 == 0 {
			must(t, keeper.s.Mkdir(name, 0o777))
		} else {
			must(t, keeper.s.WriteFile(name, nil, 0o666))
		}

		h, err := keeper.Hold(name, ace.ReadControl|ace.WriteDAC|ace.WriteOwner|ace.ReadAttributes)
		must(t, err)
		must(t,
			h.Set(ntsd.Descriptor{
				Owner:   tokens[r.IntN(len(tokens))].User,
				Control: ntsd.Protected,
				Entries: randomList(r, world),
			},
				fileserver.SetOwner|fileserver.SetList))

		must(t, h.Close())
	}

	all := map[string]access.Place{}
	must(t, keeper.List("", func(list []fileserver.Seen) error {
		for _, x := range list {
			s, err := nt.SetOf(x.Descriptor)
			if err != nil {
				return err
			}
			all[x.Name] = access.Place{Kind: x.Kind, Set: s, Mount: access.Mount{Hides: true}}
		}
		return nil
	}))

	shown, hidden := 0, 0
	for i, token := range tokens {
		who := access.Subject{ID: nt.PrincipalOf(token.User)}
		for _, g := range token.Groups {
			who.Groups = append(who.Groups, nt.PrincipalOf(g))
		}

		asker := access.NewAsker(who)
		seen := map[string]bool{}
		must(t, dial(t, names[i], "crewdocs").List("", func(list []fileserver.Seen) error {
			for _, x := range list {
				seen[x.Name] = true
			}
			return nil
		}))

		for name, p := range all {
			may := asker.Sees(access.Way{p})
			if may != seen[name] {
				v, _ := nt.Of(p.Set)
				text, _ := v.SDDL()
				t.Errorf("%s of kind %s to %s: the server shows it: %t, the core says %t\n%s", name, p.Kind,
					names[i],
					seen[name], may, text)
			}
			if may {
				shown++
			} else {
				hidden++
			}
		}
	}

	if shown < 30 || hidden < 50 {
		t.Errorf("%d shown, %d hidden: too little was tried", shown, hidden)
	}
}
