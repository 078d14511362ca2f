//go:build linux

package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/cloudsoda/go-smb2"

	"idletally/internal/core/ace"
	"idletally/internal/core/ntsd"
	"idletally/internal/host/fileserver"
	"idletally/internal/host/smb"
	"idletally/internal/samba"
	"idletally/internal/wire"
)

// Chartroom is the file server's name.
const Chartroom = "chartroom"

// keeper is the account that Idle Tally uses there.
const keeper = "keeper"

func chartroomWorld(port int) samba.World {
	who := func(name string, groups ...string) samba.Account {
		return samba.Account{Name: name, Password: Password, Groups: groups, Keeper: name == keeper}
	}
	return samba.World{
		Port: port,
		Accounts: []samba.Account{
			who(keeper, "keepers"),
			who("surveyor", "crew", "surveyors"),
			who("pilot", "crew", "surveyors"),
			who("deckhand", "crew"),
			who("wages", "office"),
			who("harbour-clerk", "office", "crew"),
			who("print-svc"),
		},
		Shares: []samba.Share{
			{Name: "charts"},
			{
				Name: "crewdocs", Hides: true,
				Lets: []samba.Let{
					{Who: "crew", What: "change"},
					{Who: "office", What: "change"},
					{Who: "wages", What: "change"},
					{Who: keeper, What: "full"},
				},
			},
		},
	}
}

// OpenChartroom starts the file server, fills its shares, including what went wrong on them, and enrols an agent for
// it.
func (s *Stage) OpenChartroom(ctx context.Context) error {
	dir := filepath.Join(s.Dir, Chartroom)
	if err := errors.Join(os.MkdirAll(dir, 0o755), os.Chmod(s.Dir, 0o711)); err != nil {
		return err
	}
	var err error
	if s.Chartroom, err = samba.Start(ctx, dir, chartroomWorld(0)); err != nil {
		return err
	}
	if err := fillShares(ctx, s.Chartroom.Address()); err != nil {
		return fmt.Errorf("fill the shares: %w", err)
	}
	admin, err := s.As(ctx, "admin")
	if err != nil {
		return err
	}
	inv, err := admin.Invite(ctx, wire.NewHost{Name: Chartroom, Tags: []string{"shares"}})
	if err != nil {
		return err
	}
	folder, secret := s.chartroomFolder(), filepath.Join(dir, "password")
	if err := os.WriteFile(secret, []byte(Password+"\n"), 0o600); err != nil {
		return err
	}

	out, err := exec.CommandContext(ctx, s.Program, "agent", "enrol", "--folder", folder, "--service", s.Address,
		"--authority", s.Authority(), "--code", inv.Code,
		"--root", "/charts", "--root", "/crewdocs", "--server", s.Chartroom.Address(), "--server-user", keeper,
		"--server-password-file", secret).CombinedOutput()
	if err != nil {
		return fmt.Errorf("enrol %s: %w: %s", Chartroom, err, strings.TrimSpace(string(out)))
	}

	for _, who := range []string{"surveyor", "deckhand"} { // who said that Idle Tally may try as they would
		if out, err := exec.CommandContext(ctx, s.Program, "agent", "prober", who, "--folder", folder,
			"--password-file", secret).CombinedOutput(); err != nil {
			return fmt.Errorf("prober %s: %w: %s", who, err, strings.TrimSpace(string(out)))
		}
	}

	if err := s.StartChartroomAgent(); err != nil {
		return err
	}
	api, err := s.As(ctx, "quartermaster")
	if err != nil {
		return err
	}

	for _, share := range []string{"charts", "crewdocs"} {
		e, err := api.UploadBaseline(ctx, Baseline(share))
		if err != nil {
			return fmt.Errorf("baseline of %s: %w", share, err)
		}
		if _, err := api.Publish(ctx, share, e.Number); err != nil {
			return err
		}
		if _, err := Snapshot(ctx, api, share, Chartroom); err != nil {
			return err
		}
	}

	return nil
}

// chartroomFolder returns the folder of the file server's agent.
func (s *Stage) chartroomFolder() string { return filepath.Join(s.Dir, Chartroom, "agent") }

// StartChartroomAgent starts the file server's agent.
func (s *Stage) StartChartroomAgent() (err error) {
	cmd := exec.Command(s.Program, "agent", "run", "--folder", s.chartroomFolder())
	cmd.Stdout, cmd.Stderr = s.log, s.log
	s.Agents[Chartroom], err = start(cmd, 0)
	return err
}

// PinChartroom has the file server's agent, which is stopped for that, pin the roster.
func (s *Stage) PinChartroom(ctx context.Context, fingerprint string) error {
	s.Agents[Chartroom].Stop()
	if out, err := exec.CommandContext(ctx, s.Program, "agent", "roster", "pin", s.RosterFile(), "--folder",
		s.chartroomFolder(), "--fingerprint", fingerprint).CombinedOutput(); err != nil {
		return fmt.Errorf("pin the roster on %s: %w: %s", Chartroom, err, strings.TrimSpace(string(out)))
	}
	return s.StartChartroomAgent()
}

// StopChartroom stops the file server, and returns a function that starts it again.
func (s *Stage) StopChartroom() (again func(context.Context) error) {
	port := s.Chartroom.Port
	s.Chartroom.Stop()
	return func(ctx context.Context) (err error) {
		s.Chartroom, err = samba.Start(ctx, filepath.Join(s.Dir, Chartroom), chartroomWorld(port))
		return err
	}
}

// Permit sets the list of a path of a share, as somebody with the keeper's account would.
func (s *Stage) Permit(ctx context.Context, share, path, sddl string) error {
	c, err := smb.Dial(ctx, smb.Access{Address: s.Chartroom.Address(), User: keeper, Password: Password})
	if err != nil {
		return err
	}
	defer c.Close()
	look, err := c.Open(ctx, share)
	if err != nil {
		return err
	}
	f := &filler{look: look}
	f.permit(path, sddl, fileserver.SetList)
	return f.err
}

// filler makes content as the keeper.
type filler struct {
	share *smb2.Share
	look  fileserver.Share
	names func(name string) (ntsd.SID, error)
	err   error
}

func (f *filler) folder(path string) {
	if f.err == nil {
		f.err = f.share.MkdirAll(fileserver.Path(path), 0o777)
	}
}

func (f *filler) files(folder, pattern string, n int) {
	f.folder(folder)
	for i := range n {
		if f.err == nil {
			f.err = f.share.WriteFile(fileserver.Path(folder+"/"+fmt.Sprintf(pattern, i)), nil, 0o666)
		}
	}
}

// move moves a file within a share: what it inherited in its old folder stays with it.
func (f *filler) move(from, to string) {
	if f.err == nil {
		f.err = f.share.Rename(fileserver.Path(from), fileserver.Path(to))
	}
}

// permit sets a list, in which names in braces stand for accounts and groups of the server.
func (f *filler) permit(path, sddl string, what fileserver.Part) {
	if f.err != nil {
		return
	}

	for strings.Contains(sddl, "{") {
		from := strings.IndexByte(sddl, '{')
		to := from + strings.IndexByte(sddl[from:], '}')
		sid, err := f.names(sddl[from+1 : to])
		if err != nil {
			f.err = err
			return
		}

		sddl = sddl[:from] + sid.String() + sddl[to+1:]
	}

	d, err := ntsd.ParseSDDL(sddl)
	if err != nil {
		f.err = err
		return
	}

	h, err := f.look.Hold(fileserver.Path(path), ace.ReadControl|ace.WriteDAC|ace.WriteOwner|ace.ReadAttributes)
	if err != nil {
		f.err = fmt.Errorf("%s: %w", path, err)
		return
	}
	defer h.Close()

	if err := h.Set(d, what); err != nil {
		f.err = fmt.Errorf("%s: %w", path, err)
	}
}

func fillShares(ctx context.Context, address string) error {
	s, err := smb.Dial(ctx, smb.Access{Address: address, User: keeper, Password: Password})
	if err != nil {
		return err
	}
	defer s.Close()

	raw, err := (&smb2.Dialer{
		Negotiator: smb2.Negotiator{RequireMessageSigning: true},
		Initiator:  &smb2.NTLMInitiator{User: keeper, Password: Password},
	}).Dial(ctx, address)
	if err != nil {
		return err
	}
	defer func() { _ = raw.Logoff() }()

	known := map[string]ntsd.SID{}
	open := func(name string) (*filler, error) {
		look, err := s.Open(ctx, name)
		if err != nil {
			return nil, err
		}

		share, err := raw.Mount(name)
		return &filler{share: share, look: look, names: func(who string) (ntsd.SID, error) {
			if sid, ok := known[who]; ok {
				return sid, nil
			}
			sids, err := s.SIDs(ctx, []string{who})
			if err != nil || sids[0].IsZero() {
				return ntsd.SID{}, fmt.Errorf("%s is nobody on the file server: %w", who, errors.Join(err))
			}

			known[who] = sids[0]
			return sids[0], nil
		}}, err
	}

	charts, err := open("charts")
	if err != nil {
		return err
	}

	charts.permit("/",
		"D:PAI(A;OICI;FA;;;{keepers})(A;OICI;FA;;;SY)(A;OICI;0x1301bf;;;{surveyors})(A;OICI;0x1200a9;;;{crew})",
		fileserver.SetList)

	// What went wrong: somebody gave everybody everything, for a moment; a deny that its own author is in; a folder
	// that was protected, with nothing left of what it inherited; files that somebody took; one that somebody moved
	// out of an open folder.
	for _, folder := range []string{"/north sound/soundings", "/saltmarsh/soundings", "/south channel"} {
		charts.folder(folder)
	}

	charts.permit("/saltmarsh/soundings",
		"D:AI(A;OICI;FA;;;WD)(A;OICIID;FA;;;{keepers})(A;OICIID;FA;;;SY)"+
			"(A;OICIID;0x1301bf;;;{surveyors})(A;OICIID;0x1200a9;;;{crew})",
		fileserver.SetList)
	charts.permit("/south channel",
		"D:AI(D;OICI;0x10156;;;{crew})(A;OICIID;FA;;;{keepers})(A;OICIID;FA;;;SY)"+
			"(A;OICIID;0x1301bf;;;{surveyors})(A;OICIID;0x1200a9;;;{crew})",
		fileserver.SetList)
	charts.permit("/north sound/soundings", "D:PAI(A;OICI;FA;;;{keepers})", fileserver.SetList)
	for _, water := range []string{"north sound", "saltmarsh", "south channel"} {
		charts.files("/"+water, "sheet %02d.chart", 24)
		charts.files("/"+water+"/soundings", "2026-%02d.xyz", 12)
	}

	charts.files("/printing", "queue-%02d.job", 6)
	for i := range 3 {
		charts.permit(fmt.Sprintf("/north sound/sheet %02d.chart", i), "O:{deckhand}D:", fileserver.SetOwner)
	}

	charts.move("/saltmarsh/soundings/2026-11.xyz", "/north sound/2026-11.xyz")
	docs, err := open("crewdocs")
	if err != nil {
		return err
	}

	docs.permit("/",
		"D:PAI(A;OICI;FA;;;{keepers})(A;OICI;FA;;;SY)(A;OICI;0x1200a9;;;{crew})(A;OICI;0x1301bf;;;{office})",
		fileserver.SetList)
	docs.files("/rota", "week-%02d.ods", 20)
	docs.folder("/wages")
	docs.permit("/wages", "D:PAI(A;OICI;FA;;;{keepers})(A;OICI;FA;;;SY)(A;OICI;0x1301bf;;;{wages})", fileserver.SetList)
	docs.files("/wages", "2026-%02d.ods", 11)
	docs.files("/notices", "notice %02d.txt", 8)
	docs.permit("/wages/2026-03.ods", "D:PAI(A;;FA;;;{keepers})(A;;0x1301bf;;;{wages})(A;;FR;;;AU)", fileserver.SetList)

	// Somebody left, and their entries stay behind as a bare number.
	docs.permit("/notices/notice 03.txt",
		"D:AI(A;;0x1301bf;;;S-1-5-21-397955417-626881126-188441444-2610)"+
			"(A;ID;FA;;;{keepers})(A;ID;FA;;;SY)(A;ID;0x1200a9;;;{crew})(A;ID;0x1301bf;;;{office})",
		fileserver.SetList)
	return errors.Join(charts.err, docs.err)
}
