//go:build linux

package smb

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"idletally/internal/host/fileserver"
	"idletally/internal/samba"
	"idletally/internal/testkit/realm"
)

// Signing in by Kerberos, to a server of a realm of its own.
func TestKerberos(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	must(t, os.Chmod(filepath.Dir(dir), 0o711))
	must(t, os.Chmod(dir, 0o711))
	centre, err := realm.Start(t.Context(), filepath.Join(dir, "realm"), "SALTMARSH.EXAMPLE",
		map[string]string{"keeper": password, "clerk": password}, []string{"cifs/chartroom.saltmarsh.example"})
	must(t, err)
	defer centre.Stop()

	server, err := samba.Start(t.Context(), filepath.Join(dir, "server"), samba.World{
		Kerberos: &centre.Realm,
		Shares:   []samba.Share{{Name: "charts"}},
		Accounts: []samba.Account{
			{Name: "keeper", Password: password, Keeper: true},
			{Name: "clerk", Password: password, Groups: []string{"crew"}},
		},
	})

	must(t, err)
	defer server.Stop()

	access := Access{
		Address:  server.Address(),
		User:     "keeper",
		Password: password,
		Kerberos: &Kerberos{Realm: centre.Name, Config: centre.Config, Server: "chartroom.saltmarsh.example"},
	}

	s, err := Dial(t.Context(), access)
	must(t, err)
	defer s.Close()

	must(t, os.WriteFile(filepath.Join(server.Share("charts"), "a"), nil, 0o666))
	found, err := fileserver.Scan(t.Context(), s, []string{"/charts"}, nil, (&nodes{}).put)
	if err != nil || found.Paths != 2 || found.Gaps != 0 {
		t.Errorf("%+v, %v", found, err)
	}

	access.Password = "wrong"
	if _, err := Dial(t.Context(), access); err == nil || !strings.Contains(err.Error(), "no ticket for keeper") {
		t.Errorf("a wrong password: %v", err)
	}
}
