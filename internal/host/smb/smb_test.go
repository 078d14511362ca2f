//go:build linux

package smb

import (
	"context"
	"fmt"
	"os"
	"testing"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/host/fileserver"
	"idletally/internal/samba"
	"idletally/internal/testkit"
)

const password = "low tide at noon"

var server *samba.Server

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "idletally-samba-")
		if err == nil {
			defer os.RemoveAll(dir)
			err = os.Chmod(dir, 0o755)
		}

		if err == nil {
			server, err = samba.Start(context.Background(), dir, samba.World{
				Accounts: []samba.Account{
					{Name: "keeper", Password: password, Keeper: true},
					{Name: "purser", Password: password, Groups: []string{"crew", "office"}},
					{Name: "clerk", Password: password, Groups: []string{"crew"}},
					{Name: "stoker", Password: password},
					{
						Name: "taker", Password: password, Groups: []string{"crew"},
						Rights: []string{"SeTakeOwnershipPrivilege", "SeBackupPrivilege", "SeRestorePrivilege"},
					},
				},
				Shares: []samba.Share{{Name: "charts"}, {Name: "crewdocs", Hides: true}, {Name: "plain", Plain: true},
					{Name: "readers", Lets: []samba.Let{{Who: "crew", What: "read"}, {Who: "keeper", What: "full"}}}},
			})
		}

		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer server.Stop()

		return m.Run()
	}())
}

// Look is fileserver.Look, as a method.
func (s *Share) Look(name string) (fileserver.Seen, error) { return fileserver.Look(s, name) }

func dial(t testing.TB, user, share string) *Share {
	t.Helper()
	s, err := Dial(t.Context(), Access{Address: server.Address(), User: user, Password: password})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	m, err := s.Open(context.Background(), share)
	if err != nil {
		t.Fatal(err)
	}
	return m.(*Share)
}

var must = testkit.Must

// set sets parts of a descriptor as the keeper.
func set(t testing.TB, s *Share, name, sddl string, what fileserver.Part) {
	t.Helper()
	d, err := ntsd.ParseSDDL(sddl)
	must(t, err)
	must(t, put(s, name, d, what))
}

func put(s *Share, name string, d ntsd.Descriptor, what fileserver.Part) error {
	h, err := s.Hold(name, ace.ReadControl|ace.WriteDAC|ace.WriteOwner|ace.ReadAttributes)
	if err != nil {
		return err
	}
	defer h.Close()
	return h.Set(d, what)
}

func TestLookAndSet(t *testing.T) {
	keeper, purser := dial(t, "keeper", "charts"), dial(t, "purser", "charts")
	top, err := keeper.Look("")
	must(t, err)
	text0, _ := top.Descriptor.SDDL()
	t.Log(text0)
	set(t, keeper, "", "D:(A;OICI;FA;;;WD)", fileserver.SetList)
	must(t, purser.s.Mkdir("harbour", 0o777))
	must(t, purser.s.WriteFile(`harbour\plan.txt`, []byte("x"), 0o666))
	seen, err := keeper.Look(`harbour\plan.txt`)
	must(t, err)
	text, _ := seen.Descriptor.SDDL()
	t.Log(text)
	if seen.Kind != perm.File || seen.ID == 0 {
		t.Errorf("%+v", seen)
	}

	h, err := keeper.Hold(`harbour\plan.txt`, ace.ReadControl|ace.WriteDAC|ace.WriteOwner|ace.ReadAttributes)
	must(t, err)
	defer h.Close()

	d, err := ntsd.ParseSDDL("D:P(A;;FA;;;WD)(D;;0x1;;;AN)")
	must(t, err)
	must(t, h.Set(d, fileserver.SetList))
	seen, err = h.Look()
	must(t, err)
	if text, _ := seen.Descriptor.SDDL(); text == "" {
		t.Error(text)
	} else {
		t.Log(text)
	}
}
