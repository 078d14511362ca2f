//go:build linux

package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"idletally/internal/aclfs"
	"idletally/internal/core/ace"
	"idletally/internal/core/perm/nfs4"
)

// lockersHost is the host that has the lockers.
const lockersHost = "slip-north"

// lockersDomain is what lists call the host's accounts by, behind the @.
const lockersDomain = "saltmarsh.example"

// Private keeps what this program mounts to itself, so that nothing stays mounted after it; whoever opens lockers
// calls it first.
func Private() error { return aclfs.Private() }

// Lockers is a folder of a demo host that keeps permissions as an NFSv4 mount does.
type Lockers struct {
	mount *aclfs.Mount
	below string
}

// OpenLockers mounts the lockers on their host, fills them, including what went wrong there, publishes their
// baseline, and takes a snapshot. The host's agent is restarted: it only sees what was mounted before it began.
func (s *Stage) OpenLockers(ctx context.Context) error {
	s.Agents[lockersHost].Stop()
	l, err := mountLockers(s.Root(lockersHost), filepath.Join(s.Dir, "lockers"))
	if err != nil {
		return err
	}
	s.lockers = l
	if err := s.StartAgent(lockersHost); err != nil {
		return err
	}

	api, err := s.As(ctx, "quartermaster")
	if err != nil {
		return err
	}
	e, err := api.UploadBaseline(ctx, Baseline("lockers"))
	if err != nil {
		return fmt.Errorf("baseline of lockers: %w", err)
	}
	if _, err := api.Publish(ctx, "lockers", e.Number); err != nil {
		return err
	}
	_, err = Snapshot(ctx, api, "lockers", lockersHost)
	return err
}

func mountLockers(root, below string) (*Lockers, error) {
	at := filepath.Join(root, "srv/lockers")
	for _, p := range []string{at, below} {
		if err := os.Mkdir(p, 0o755); err != nil {
			return nil, err
		}
	}
	if err := unix.Mount("tmpfs", below, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "size=8m"); err != nil {
		return nil, fmt.Errorf("mount what the lockers are kept in: %w", err)
	}

	m, err := aclfs.Open(at, below, aclfs.Names{
		Domain: lockersDomain,
		Users: map[string]uint32{
			"purser": purser, "clerk-east": clerkAnna, "clerk-west": clerkBo, "harbour": harbour,
		},
		Groups: map[string]uint32{"crew": crew, "ticket-clerks": clerks, "auditors": auditors},
	})
	l := &Lockers{m, below}
	if err == nil {
		err = fillLockers(at)
	}
	if err != nil {
		return nil, errors.Join(err, l.close())
	}
	return l, nil
}

func (l *Lockers) close() (err error) {
	if l == nil {
		return nil
	}
	if l.mount != nil {
		err = l.mount.Close()
	}
	return errors.Join(err, unix.Unmount(l.below, unix.MNT_DETACH))
}

// The lists of the lockers, as they are declared.
const (
	toAll   = nfs4.FileInherit | nfs4.FolderInherit
	atGroup = nfs4.IdentifierGroup
)

func named(group string) string { return group + "@" + lockersDomain }

func lockerList(flags nfs4.Flags) nfs4.List {
	return nfs4.List{
		{Type: nfs4.Allow, Flags: flags, Mask: ace.Full, Who: nfs4.Owner},
		{Type: nfs4.Allow, Flags: flags | atGroup, Mask: ace.ReadSet | ace.Execute, Who: named("crew")},
	}
}

func rotaList(flags nfs4.Flags) nfs4.List {
	return nfs4.List{
		{Type: nfs4.Deny, Flags: flags | atGroup, Mask: ace.WriteSet, Who: named("auditors")},
		{Type: nfs4.Allow, Flags: flags, Mask: ace.Full, Who: nfs4.Owner},
		{Type: nfs4.Allow, Flags: flags | atGroup, Mask: ace.ReadSet | ace.WriteSet | ace.Execute,
			Who: named("ticket-clerks")},
		{Type: nfs4.Allow, Flags: flags | atGroup, Mask: ace.ReadSet | ace.Execute, Who: named("auditors")},
	}
}

// fillLockers makes the lockers as they were meant to be, and then what happened to them.
func fillLockers(at string) error {
	f := lockerFiller{at: at}
	f.folder("", lockerList(toAll))
	for _, deck := range []string{"fore", "aft"} {
		f.folder(deck, lockerList(toAll))
		for i := range 6 {
			f.file(fmt.Sprintf("%s/locker-%02d", deck, i+1), lockerList(0))
		}
	}
	f.folder("rota", rotaList(toAll))
	for i := range 4 {
		f.file(fmt.Sprintf("rota/week-%02d", i+45), rotaList(0))
	}
	f.folder("keys", lockerList(toAll))
	for _, k := range []string{"purser", "engine-room", "bridge"} {
		f.file("keys/"+k, nfs4.List{{Mask: ace.ReadSet, Who: nfs4.Owner}})
	}

	// Somebody opened a locker to everybody, set a mode on a key, and let the harbour office at a rota, with a deny
	// that comes too late.
	f.list("aft/locker-03", append(lockerList(0), nfs4.Entry{Mask: ace.ReadSet | ace.WriteSet, Who: nfs4.Everyone}))
	f.do(unix.Chmod(filepath.Join(at, "keys/bridge"), 0o644))
	f.list("rota/week-46", append(rotaList(0),
		nfs4.Entry{Mask: ace.ReadSet | ace.WriteSet, Who: named("harbour")},
		nfs4.Entry{Type: nfs4.Deny, Mask: ace.WriteSet, Who: named("harbour")}))
	f.do(os.Chown(filepath.Join(at, "fore/locker-05"), harbour, crew))
	return f.err
}

type lockerFiller struct {
	at  string
	err error
}

func (f *lockerFiller) do(err error) {
	if f.err == nil {
		f.err = err
	}
}

func (f *lockerFiller) list(path string, l nfs4.List) {
	f.do(unix.Setxattr(filepath.Join(f.at, path), nfs4.Attribute, l.AppendXattr(nil), 0))
}

func (f *lockerFiller) folder(path string, l nfs4.List) {
	if path != "" {
		f.do(os.Mkdir(filepath.Join(f.at, path), 0o700))
	}
	f.do(os.Chown(filepath.Join(f.at, path), purser, crew))
	f.list(path, l)
}

func (f *lockerFiller) file(path string, l nfs4.List) {
	f.do(os.WriteFile(filepath.Join(f.at, path), []byte("locker\n"), 0o600))
	f.do(os.Chown(filepath.Join(f.at, path), purser, crew))
	f.list(path, l)
}
