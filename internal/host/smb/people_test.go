//go:build linux

package smb

import (
	"context"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/privilege"
	"idletally/internal/host/fileserver"
)

func TestPeople(t *testing.T) {
	_, tokens, _ := people(t)
	s, err := Dial(t.Context(), Access{Address: server.Address(), User: "keeper", Password: password})
	must(t, err)
	defer s.Close()

	ctx := context.Background()
	crew, err := server.GroupSID(ctx, "crew")
	must(t, err)
	sid, err := ntsd.ParseSID(crew)
	must(t, err)
	asked := []ntsd.SID{
		tokens[0].User,
		sid,
		ntsd.Everyone,
		ntsd.System,
		ntsd.Administrators,
		ntsd.NewSID(5, 21, 9, 9, 9, 4711),
	}

	names, err := s.Names(ctx, asked)
	must(t, err)
	for i, want := range []string{
		`CHARTROOM\purser`, `CHARTROOM\crew`, "Everyone", `NT Authority\SYSTEM`, `BUILTIN\Administrators`, "",
	} {
		t.Run(want, func(t *testing.T) {
			if names[i].String() != want || names[i].SID != asked[i] {
				t.Errorf("%s is called %q, want %q", asked[i], names[i], want)
			}
		})
	}

	if names[0].Group || !names[1].Group {
		t.Errorf("an account and a group: %+v", names[:2])
	}

	back, err := s.SIDs(ctx, []string{"purser", `CHARTROOM\crew`, "Everyone", "nobody-there"})
	must(t, err)
	if !slices.Equal(back, []ntsd.SID{tokens[0].User, sid, ntsd.Everyone, {}}) {
		t.Errorf("%v", back)
	}

	all, err := s.Accounts(ctx)
	must(t, err)
	for n, name := range []string{"purser", "clerk", "stoker"} {
		t.Run(name, func(t *testing.T) {
			i := slices.IndexFunc(all, func(a fileserver.Account) bool { return a.Name == name })
			if i < 0 || all[i].SID != tokens[n].User || all[i].Group {
				t.Fatalf("%s among %+v", name, all)
			}
			for _, g := range tokens[n].Groups {
				if _, well := g.Known(); !well && !g.SystemAccount() && !slices.Contains(all[i].Groups, g) {
					t.Errorf("%s is in %v, and not in %s", name, all[i].Groups, g)
				}
			}
		})
	}

	if i := slices.IndexFunc(all, func(a fileserver.Account) bool { return a.Name == "crew" }); i < 0 ||
		all[i].SID != sid ||
		!all[i].Group {
		t.Errorf("crew among %+v", all)
	}

	if _, err := Dial(t.Context(), Access{Address: server.Address(), User: "purser", Password: "wrong"}); err == nil ||
		!strings.Contains(err.Error(), "does not take this name and password") {
		t.Errorf("a wrong password: %v", err)
	}

	if _, err := s.Open(ctx, "nowhere"); err == nil || !strings.Contains(err.Error(), "no such share") {
		t.Errorf("a share that is not there: %v", err)
	}
}

// Whoever signs in is told who holds privileges: accounts, and the groups that the server gives them to.
func TestPrivileges(t *testing.T) {
	_, tokens, _ := people(t)
	s, err := Dial(t.Context(), Access{Address: server.Address(), User: "clerk", Password: password})
	must(t, err)
	defer s.Close()
	got, err := s.Privileges(t.Context())
	must(t, err)
	taker := tokens[3]
	want := map[ntsd.SID]privilege.Set{
		taker.User:          taker.Privileges,
		ntsd.Administrators: privilege.TakeOwnership | privilege.Backup | privilege.Restore | privilege.Security,
	}
	if !maps.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
}

// A mark as read-only is seen, at the path and in its folder.
func TestMarkedReadOnly(t *testing.T) {
	people(t)
	s := dial(t, "keeper", "charts")
	must(t, s.s.Mkdir("marks", 0o777))

	for name, mode := range map[string]os.FileMode{`marks\on`: 0o444, `marks\off`: 0o666} {
		t.Run(name, func(t *testing.T) {
			must(t, s.s.WriteFile(name, nil, 0o666))
			must(t, s.s.Chmod(name, mode))
			if seen, err := s.Look(name); err != nil || seen.ReadOnly != (mode == 0o444) {
				t.Errorf("%s: %+v, %v", name, seen, err)
			}
		})
	}

	must(t, s.List("marks", func(list []fileserver.Seen) error {
		for _, seen := range list {
			if seen.ReadOnly != (seen.Name == "on") {
				t.Errorf("listed: %+v", seen)
			}
		}
		return nil
	}))
}

// What shares lay down by themselves.
func TestTerms(t *testing.T) {
	_, _, groups := people(t)
	crew := groups[0]
	s, err := Dial(t.Context(), Access{Address: server.Address(), User: "keeper", Password: password})
	must(t, err)
	defer s.Close()

	for _, c := range []struct {
		share string
		hides bool
		let   string // of the crew
	}{{"charts", false, "full"}, {"crewdocs", true, "full"}, {"readers", false, "read, traverse"}} {
		t.Run(c.share, func(t *testing.T) {
			share, err := s.Open(t.Context(), c.share)
			must(t, err)
			terms, err := share.Terms()
			must(t, err)
			list, ok := nt.Of(terms.Share)
			if !ok || terms.Hides != c.hides || string(terms.At) != "/"+c.share {
				t.Errorf("%s: %+v", c.share, terms)
			}

			m := list.Maximum(ntsd.Token{User: ntsd.NewSID(5, 21, 1, 2, 3, 9), Groups: []ntsd.SID{ntsd.Everyone, crew}})
			if got := m.Words(true); got != c.let {
				t.Errorf("%s lets the crew %s, want %s", c.share, got, c.let)
			}
		})
	}

	all, err := s.Shares(t.Context())
	must(t, err)
	slices.Sort(all)
	if !slices.Equal(all, []string{"charts", "crewdocs", "plain", "readers"}) {
		t.Errorf("%v", all)
	}
}
