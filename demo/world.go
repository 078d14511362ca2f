//go:build linux

// Package demo is Saltmarsh Ferries, an invented ferry line: its hosts are real folders with real owners, modes and
// access entries, entered with chroot and namespaces, and on them has gone wrong what goes wrong in practice.
package demo

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/posixacl"
	_ "idletally/internal/core/schemes" // every kind of permissions is known
)

//go:embed baselines/*.yaml
var baselines embed.FS

// Baseline returns an application's declaration.
func Baseline(application string) string {
	b, err := baselines.ReadFile("baselines/" + application + ".yaml")
	if err != nil { // the names are ours
		panic(err)
	}
	return string(b)
}

// Hosts of the demo world, with their tags.
var Hosts = map[string][]string{
	"slip-north": {"ticketing", "tideboard"},
	"slip-south": {"ticketing"},
}

// Applications of the demo world.
var Applications = []string{"ticketing", "tideboard"}

// Accounts on the hosts.
const (
	purser     = 2001
	clerkAnna  = 2002
	clerkBo    = 2003
	harbour    = 2004
	ticketSvc  = 2101
	wwwTickets = 2102
	boardSvc   = 2103
	gone       = 4711 // left last year; the files stayed
)

// Groups on the hosts.
const (
	crew        = 3001
	clerks      = 3002
	auditors    = 3003
	boards      = 3004
	gTicketSvc  = 3101
	gWWWTickets = 3102
)

const passwd = `root:x:0:0:root:/root:/bin/sh
purser:x:2001:3001:Keeps the ticket application:/home/purser:/bin/sh
clerk-east:x:2002:3001:Ticket clerk, east pier:/home/clerk-east:/bin/sh
clerk-west:x:2003:3001:Ticket clerk, west pier:/home/clerk-west:/bin/sh
harbour:x:2004:3004:Harbour office:/home/harbour:/bin/sh
ticket-svc:x:2101:3101:Sales service:/srv/ticketing:/usr/sbin/nologin
www-tickets:x:2102:3102:Web server:/srv/ticketing/site:/usr/sbin/nologin
board-svc:x:2103:3004:Display service:/srv/tideboard:/usr/sbin/nologin
nobody:x:65534:65534:nobody:/:/usr/sbin/nologin
`

const group = `root:x:0:
crew:x:3001:purser,clerk-east,clerk-west
ticket-clerks:x:3002:clerk-east,clerk-west,purser
auditors:x:3003:
boards:x:3004:harbour,board-svc
ticket-svc:x:3101:
www-tickets:x:3102:
nogroup:x:65534:
`

// maker makes paths and keeps the first error.
type maker struct {
	root  string
	paths int
	err   error
}

func (m *maker) do(err error) {
	if m.err == nil && err != nil {
		m.err = err
	}
}

func (m *maker) set(path string, uid, gid int, md uint32, acl, def posixacl.List) {
	full := filepath.Join(m.root, path)
	m.paths++
	m.do(os.Lchown(full, uid, gid))
	if acl != nil {
		m.do(unix.Setxattr(full, posix.AttrAccess, acl.AppendXattr(nil), 0))
		p, _ := acl.Find(posixacl.Mask, posixacl.NoID)
		md = md&^0o070 | uint32(p)<<3
	}
	m.do(unix.Chmod(full, md))
	if def != nil {
		m.do(unix.Setxattr(full, posix.AttrDefault, def.AppendXattr(nil), 0))
	}
}

func (m *maker) folder(path string, uid, gid int, md uint32, lists ...posixacl.List) {
	if err := os.Mkdir(filepath.Join(m.root, path), 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		m.do(err)
		return
	}
	lists = append(lists, nil, nil)
	m.set(path, uid, gid, md, lists[0], lists[1])
}

func (m *maker) file(path string, uid, gid int, md uint32, lists ...posixacl.List) {
	m.do(os.WriteFile(filepath.Join(m.root, path), []byte("Saltmarsh Ferries\n"), 0o600))
	m.set(path, uid, gid, md, append(lists, nil)[0], nil)
}

func user(id uint32, p mode.Perm) posixacl.Entry {
	return posixacl.Entry{Tag: posixacl.User, ID: id, Perm: p}
}
func grp(id uint32, p mode.Perm) posixacl.Entry {
	return posixacl.Entry{Tag: posixacl.Group, ID: id, Perm: p}
}

// acl is a list for a mode and named entries.
func acl(md uint32, named ...posixacl.Entry) posixacl.List {
	m := mode.Mode(md & 0o777)
	return posixacl.Build(m.Owner(), m.Group(), m.Other(), named, nil)
}

// Build makes a host's root folder. It needs root, since the owners are real.
func Build(root, host string) error {
	if os.Getuid() != 0 {
		return errors.New(
			"the demo hosts need real owners, and only root can give files away: run this as root, such as with " +
				"sudo make demo")
	}

	m := &maker{root: root}
	for _, d := range []string{"", "etc", "proc", "dev", "tmp", "usr", "usr/sbin", "var", "var/lib", "srv"} {
		m.folder(d, 0, 0, 0o755)
	}

	m.do(unix.Chmod(filepath.Join(root, "tmp"), 0o1777))
	m.do(os.WriteFile(filepath.Join(root, "etc/passwd"), []byte(passwd), 0o644))
	m.do(os.WriteFile(filepath.Join(root, "etc/group"), []byte(group), 0o644))
	m.paths = 0
	m.ticketing(host)
	if host == "slip-north" {
		m.tideboard()
	}

	if m.err != nil {
		return fmt.Errorf("make demo host %s: %w", host, m.err)
	}

	return nil
}

// ticketing as it was meant to be, and then what happened.
func (m *maker) ticketing(host string) {
	const top = "srv/ticketing"
	web := user(wwwTickets, 5)
	m.folder(top, purser, crew, 0o2750, acl(0o750, web, user(ticketSvc, 1), grp(auditors, 1)))
	for _, d := range []string{"bin", "releases", "logs"} {
		m.folder(top+"/"+d, purser, crew, 0o2750)
	}

	for i := range 24 {
		m.file(fmt.Sprintf("%s/bin/tool-%02d", top, i), purser, crew, 0o750)
	}

	for r := range 24 {
		at := fmt.Sprintf("%s/releases/2026-%02d", top, r+1)
		m.folder(at, purser, crew, 0o2750)
		for _, d := range []string{"lib", "lang", "templates"} {
			m.folder(at+"/"+d, purser, crew, 0o2750)
			for i := range 20 {
				m.file(fmt.Sprintf("%s/%s/part-%02d", at, d, i), purser, crew, 0o640)
			}
		}
	}

	for i := range 120 {
		m.file(fmt.Sprintf("%s/logs/sales-%03d.log", top, i), purser, crew, 0o640)
	}

	site := top + "/site"
	inherit := acl(0o750, user(wwwTickets, 5))
	m.folder(site, purser, crew, 0o2750, acl(0o750, web), inherit)

	for s := range 30 {
		at := fmt.Sprintf("%s/route-%02d", site, s)
		m.folder(at, purser, crew, 0o2750, acl(0o750, web), inherit)
		for i := range 25 {
			m.file(fmt.Sprintf("%s/page-%02d.html", at, i), purser, crew, 0o640, acl(0o640, user(wwwTickets, 4)))
		}
	}

	m.folder(top+"/conf", purser, gTicketSvc, 0o750)
	for i := range 40 {
		m.file(fmt.Sprintf("%s/conf/service-%02d.conf", top, i), purser, gTicketSvc, 0o640)
	}

	m.folder(top+"/keys", purser, crew, 0o700)
	for _, k := range []string{"tls.key", "signing.key", "backup.key", "gate.key"} {
		m.file(top+"/keys/"+k, purser, crew, 0o600)
	}

	team := acl(0o770, grp(clerks, 7))
	m.folder(top+"/shared", purser, clerks, 0o2770, nil, team)
	for s := range 12 {
		at := fmt.Sprintf("%s/shared/season %02d", top, s+1)
		m.folder(at, purser, clerks, 0o2770, nil, team)
		for i := range 25 {
			m.file(fmt.Sprintf("%s/rota %02d.ods", at, i), purser, clerks, 0o660)
		}
	}

	m.folder(top+"/drop", purser, crew, 0o1770)
	m.folder(top+"/spool", ticketSvc, gTicketSvc, 0o777)
	for i := range 60 {
		m.file(fmt.Sprintf("%s/spool/job-%03d", top, i), ticketSvc, gTicketSvc, 0o666)
	}

	audit := grp(auditors, 5)
	m.folder(top+"/data", ticketSvc, gTicketSvc, 0o750, acl(0o750, audit))
	for q := range 8 {
		at := fmt.Sprintf("%s/data/quarter-%d", top, q+1)
		m.folder(at, ticketSvc, gTicketSvc, 0o750, acl(0o750, audit))
		for i := range 40 {
			m.file(fmt.Sprintf("%s/sales-%03d.db", at, i), ticketSvc, gTicketSvc, 0o640, acl(0o640, grp(auditors, 4)))
		}
	}

	m.mishaps(host)
}

// mishaps are what people and nightly jobs did to ticketing.
func (m *maker) mishaps(host string) {
	const top = "srv/ticketing"

	// 1 Passwords readable by everyone, since somebody needed it quickly.
	for i := range 3 {
		m.file(fmt.Sprintf("%s/conf/service-%02d.conf", top, i), purser, gTicketSvc, 0o644)
	}

	// 2 A private key that its group can read: the program refuses it.
	m.file(top+"/keys/gate.key", purser, crew, 0o640)

	// 3 Pages uploaded with a tight umask: the web server cannot read them.
	for i := range 25 {
		m.file(fmt.Sprintf("%s/site/route-07/page-%02d.html", top, i), purser, crew, 0o600)
		m.do(removeACL(filepath.Join(m.root, fmt.Sprintf("%s/site/route-07/page-%02d.html", top, i))))
	}

	// 4 A folder that can be read but not passed through.
	m.folder(top+"/releases/2026-05/lang", purser, crew, 0o2640)

	// 5 The answer found at three in the morning: everything to everyone.
	for i := range 120 {
		m.file(fmt.Sprintf("%s/logs/sales-%03d.log", top, i), purser, crew, 0o777)
	}

	m.folder(top+"/logs", purser, crew, 0o777)

	// 6 Files of an account that no longer exists.
	for i := range 25 {
		m.file(fmt.Sprintf("%s/shared/season 02/rota %02d.ods", top, i), gone, clerks, 0o660)
	}

	// 7 The set-group-ID bit is gone, and new files come out with the wrong group.
	m.folder(top+"/shared/season 03", purser, clerks, 0o770)
	for i := range 25 {
		m.file(fmt.Sprintf("%s/shared/season 03/rota %02d.ods", top, i), clerkAnna, crew, 0o644)
	}

	// 8 The default entries are gone.
	m.do(unix.Removexattr(filepath.Join(m.root, top, "shared/season 04"), posix.AttrDefault))

	// 9 A drop folder in which everybody removes everybody's things.
	m.folder(top+"/drop", purser, crew, 0o770)

	// 10 Execute on all data files.
	for i := range 40 {
		m.file(fmt.Sprintf("%s/data/quarter-2/sales-%03d.db", top, i), ticketSvc, gTicketSvc, 0o750,
			acl(0o750, grp(auditors, 5)))
	}

	// 11 A program that runs as its owner and that the whole crew can change.
	m.file(top+"/bin/tool-03", purser, crew, 0o4770)

	// 12 An entry for a clerk that was meant for one afternoon.
	m.folder(top+"/keys", purser, crew, 0o700, acl(0o700, user(clerkBo, 5)))
	m.file(top+"/keys/tls.key", purser, crew, 0o600, acl(0o600, user(clerkBo, 4)))

	// 13 A chmod that cut the mask: the auditors' entry stands there and grants nothing.
	m.do(unix.Chmod(filepath.Join(m.root, top, "data/quarter-3"), 0o700))

	// 14 The nightly job runs as root, and its files are root's.
	for i := range 20 {
		m.file(fmt.Sprintf("%s/data/quarter-4/sales-%03d.db", top, i), 0, 0, 0o640, acl(0o640, grp(auditors, 4)))
	}

	// 15 Names with blanks, quotes, a line end, escape codes and bytes that are no UTF-8.
	for _, n := range []string{
		"two words", "it's \"quoted\"", "line\nend", "bytes \xff\xfe", "-rf", "\x1b[31mred", "$(reboot)",
	} {
		m.file(top+"/logs/"+n, purser, crew, 0o666)
	}

	// 16 A file with a second name outside the reviewed paths.
	m.file(top+"/releases/hardlinked", purser, crew, 0o666)
	m.do(os.Link(filepath.Join(m.root, top, "releases/hardlinked"), filepath.Join(m.root, "var/outside")))

	// 17 A folder called like a file, and a link that leads out.
	m.folder(top+"/releases/report.txt", purser, crew, 0o2750)
	m.do(os.Symlink("/etc", filepath.Join(m.root, top, "releases/elsewhere")))
	m.do(os.Lchown(filepath.Join(m.root, top, "releases/elsewhere"), purser, crew))

	// 18 Another file system is mounted here: see Inside.
	m.folder(top+"/archive", purser, crew, 0o2750)
	if host == "slip-south" {
		// 19 On this host only: somebody tidied up the entries of the top folder, and the sales
		// service no longer gets in, though nothing of its own was touched.
		m.folder(top, purser, crew, 0o2750, acl(0o750, user(wwwTickets, 5), grp(auditors, 1)))
		// 20 On this host only: a whole release was unpacked by the wrong account.
		for _, d := range []string{"lib", "lang", "templates"} {
			for i := range 20 {
				m.file(fmt.Sprintf("%s/releases/2026-20/%s/part-%02d", top, d, i), clerkBo, clerks, 0o664)
			}
		}
	}
}

// Night lets a night pass on a host: jobs and people make new files, which come out wrong as before where their
// folders do not make them come out right.
func Night(root string, n int) error {
	m := &maker{root: root}
	const top = "srv/ticketing"
	for i := range 3 {
		// Folders without set-group-ID, and without default entries: see mishaps 7 and 8.
		m.file(fmt.Sprintf("%s/shared/season 03/late rota %d-%d.ods", top, n, i), clerkAnna, crew, 0o644)
		m.file(fmt.Sprintf("%s/shared/season 04/late rota %d-%d.ods", top, n, i), clerkAnna, clerks, 0o644)
		// The nightly job of mishap 14, and a log of a process that has no umask.
		m.file(fmt.Sprintf("%s/data/quarter-4/sales-night-%d-%d.db", top, n, i), 0, 0, 0o644)
		m.file(fmt.Sprintf("%s/logs/sales-night-%d-%d.log", top, n, i), purser, crew, 0o666)
		// And some that are right.
		m.file(fmt.Sprintf("%s/releases/2026-01/lib/night-%d-%d", top, n, i), purser, crew, 0o640)
	}
	return m.err
}

// Job makes this process look like a job of a clerk who logged in. Where the kernel does not record logins it stays
// nobody's.
func Job(name string) {
	_ = os.WriteFile("/proc/self/comm", []byte(name), 0)
	_ = os.WriteFile("/proc/self/loginuid", fmt.Appendf(nil, "%d", clerkAnna), 0)
}

func removeACL(path string) error {
	if err := unix.Removexattr(path, posix.AttrAccess); err != nil && err != unix.ENODATA {
		return err
	}
	return unix.Chmod(path, 0o600)
}

func (m *maker) tideboard() {
	const top = "srv/tideboard"
	m.folder(top, harbour, boards, 0o2755)
	for _, d := range []string{"bin", "boards", "gauges"} {
		m.folder(top+"/"+d, harbour, boards, 0o2755)
	}

	for i := range 10 {
		m.file(fmt.Sprintf("%s/bin/board-%02d", top, i), harbour, boards, 0o755)
	}

	for b := range 30 {
		at := fmt.Sprintf("%s/boards/pier-%02d", top, b+1)
		m.folder(at, harbour, boards, 0o2755)
		for i := range 25 {
			m.file(fmt.Sprintf("%s/slide-%02d.svg", at, i), harbour, boards, 0o644)
		}
	}

	m.folder(top+"/feeds", harbour, boards, 0o2750)
	for i := range 20 {
		m.file(fmt.Sprintf("%s/feeds/gauge-%02d.token", top, i), harbour, boards, 0o640)
	}

	m.folder(top+"/cache", boardSvc, boards, 0o2775)
	for i := range 400 {
		m.file(fmt.Sprintf("%s/cache/tile-%04d", top, i), boardSvc, boards, 0o664)
	}

	// What happened: feed tokens for all to read; slides the display service cannot read; a cache
	// of the wrong account.
	for i := range 5 {
		m.file(fmt.Sprintf("%s/feeds/gauge-%02d.token", top, i), harbour, boards, 0o644)
	}

	for i := range 25 {
		m.file(fmt.Sprintf("%s/boards/pier-09/slide-%02d.svg", top, i), harbour, boards, 0o600)
	}

	for i := range 60 {
		m.file(fmt.Sprintf("%s/cache/tile-%04d", top, i), 0, 0, 0o644)
	}
}
