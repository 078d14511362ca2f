//go:build linux

package agent

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"testing"
	"time"

	"idletally/internal/core/ntsd"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/nt"
	"idletally/internal/core/privilege"
	"idletally/internal/host/fileserver"
	"idletally/internal/host/ldap"
)

// teller is a file server that says who there is.
type teller struct {
	fileserver.Server
	accounts []fileserver.Account
	names    []fileserver.Name
	held     map[ntsd.SID]privilege.Set
	fails    error // asked for privileges
}

func (s teller) Accounts(context.Context) ([]fileserver.Account, error) {
	return slices.Clone(s.accounts), nil
}

func (s teller) Privileges(context.Context) (map[ntsd.SID]privilege.Set, error) {
	return s.held, s.fails
}

func (s teller) Names(_ context.Context, sids []ntsd.SID) (out []fileserver.Name, err error) {
	for _, id := range sids {
		i := slices.IndexFunc(s.names, func(n fileserver.Name) bool { return n.SID == id })
		out = append(out, fileserver.Name{SID: id})
		if i >= 0 {
			out[len(out)-1] = s.names[i]
		}
	}
	return out, nil
}

// Whom a name stands for is not believed by the name alone: a domain's account is not the system's one below
// the server, and what nobody tells of privileges is said, and hides nothing else.
func TestWhoThereIsOnAServer(t *testing.T) {
	local := ntsd.NewSID(5, 21, 1, 1, 1, 1000)
	domains := ntsd.NewSID(5, 21, 2, 2, 2, 1000)
	group := ntsd.NewSID(5, 21, 1, 1, 1, 2000)
	root := ntsd.NewSID(22, 1, 0)
	clerk := ntsd.NewSID(22, 1, 1000)
	pilot := ntsd.NewSID(22, 1, 1001)
	s := teller{accounts: []fileserver.Account{{SID: local, Name: "clerk"}, {SID: group, Name: "pilot", Group: true}},
		names: []fileserver.Name{
			{SID: root, Domain: "Unix User", Name: "root"},
			{SID: clerk, Domain: "Unix User", Name: "clerk"},
			{SID: pilot, Domain: "Unix User", Name: "pilot"},
		},
		held: map[ntsd.SID]privilege.Set{local: privilege.Backup, ntsd.Administrators: privilege.TakeOwnership}}

	h := &descriptors{
		a: &Agent{Log: slog.New(slog.DiscardHandler), Settings: Settings{Server: &FileServer{LDAP: &ldap.Directory{}}}},
		ask: func(context.Context) ([]fileserver.Account, time.Duration, error) {
			return []fileserver.Account{
				{SID: domains, Name: "root"},
				{SID: ntsd.NewSID(5, 21, 2, 2, 2, 1001), Name: "clerk"},
			}, 0, nil
		},
	}

	d, err := h.directory(t.Context(), s, []ntsd.SID{root, clerk, pilot})
	must(t, err)
	for id, want := range map[ntsd.SID]bool{root: true, pilot: true, clerk: false} {
		t.Run(fmt.Sprint(id), func(t *testing.T) {
			if got := nt.Undissolved(d, id); got != want {
				t.Errorf("nobody knows who %s is: %t, want %t", id, got, want)
			}
		})
	}

	for id, want := range map[ntsd.SID][]perm.Principal{local: {nt.PrincipalOf(clerk)}, domains: nil} {
		t.Run(fmt.Sprint(id), func(t *testing.T) {
			if a := d.Account(nt.PrincipalOf(id)); a == nil || !slices.Equal(a.Groups, want) {
				t.Errorf("%+v is to be %v, too", a, want)
			}
		})
	}

	a, b := d.Account(nt.PrincipalOf(local)), d.Account(nt.PrincipalOf(ntsd.Administrators))
	if a.Privileges != privilege.Backup ||
		b == nil || b.Privileges != privilege.TakeOwnership ||
		len(d.Untold) > 0 {
		t.Errorf("%+v, %+v, %v", a, b, d.Untold)
	}

	s.held, s.fails = nil, errors.New("refused")
	d, err = h.directory(t.Context(), s, nil)
	if err != nil || len(d.Untold) != 1 || d.Account(nt.PrincipalOf(local)) == nil {
		t.Errorf("where privileges are not told: %+v, %v", d, err)
	}

	s.fails = fmt.Errorf("half way: %w", fileserver.ErrLost)
	if _, err = h.directory(t.Context(), s, nil); !errors.Is(err, fileserver.ErrLost) {
		t.Errorf("where the server is lost: %v", err)
	}
}
