//go:build linux

// Package samba runs a private file server from the system's packages: own folders, own accounts, own port on
// loopback. It does not touch a system-wide server. The demo and the tests use it as a real server to talk to.
package samba

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"idletally/internal/loopback"
	"idletally/internal/tied"
)

// An Account can sign in.
type Account struct {
	Name     string
	Password string
	Groups   []string
	Rights   []string // privileges by the names that file servers give them, such as SeTakeOwnershipPrivilege
	Keeper   bool     // may do everything on the shares, as the account that Idle Tally uses has to
}

// A Share is a folder that is served.
type Share struct {
	Name  string
	Hides bool // what somebody cannot read is not listed to them
	Plain bool // without NT lists: the file system's own permissions count
	Lets  []Let
}

// A Let is one entry of a share's own list; without any, a share allows everybody everything.
type Let struct {
	Who  string // an account or a group of the server
	What string // "read", "change" or "full"
}

// A World is what a server is to have.
type World struct {
	Accounts []Account
	Shares   []Share
	Port     int // 0 takes a free one
	Kerberos *Realm
}

// A Realm is a Kerberos realm (RFC 4120) as servers in it are told of it.
type Realm struct {
	Name   string
	Config string // a krb5.conf that finds it
	Keytab string // of the services in it
}

// A Server is a running one.
type Server struct {
	Port   int
	Folder string // of a share NAME the content is in Folder/shares/NAME
	cmd    *exec.Cmd
	exited <-chan struct{}
}

// Start makes a server's folder and starts it. It ends when Stop is called or this process dies. Its accounts are in
// a passwd file of its own, which only it sees: that needs root.
func Start(ctx context.Context, dir string, w World) (*Server, error) {
	if _, err := exec.LookPath("/usr/sbin/smbd"); err != nil {
		return nil, fmt.Errorf("the file server is not installed: apt-get install samba samba-vfs-modules: %w", err)
	}

	if w.Port == 0 {
		var err error
		if w.Port, err = loopback.FreePort(); err != nil {
			return nil, err
		}
	}

	if err := write(dir, w); err != nil {
		return nil, fmt.Errorf("file server's folder: %w", err)
	}
	log, err := os.Create(filepath.Join(dir, "log", "start"))
	if err != nil {
		return nil, err
	}
	defer log.Close()

	s := &Server{Port: w.Port, Folder: dir}
	s.cmd = exec.Command("/bin/sh", filepath.Join(dir, "start.sh"))
	s.cmd.Stdout, s.cmd.Stderr = log, log
	s.cmd.SysProcAttr = &syscall.SysProcAttr{
		Unshareflags: syscall.CLONE_NEWNS,
		Setpgid:      true,
		Pdeathsig:    syscall.SIGTERM,
	}
	p, err := tied.Start(s.cmd)
	if err != nil {
		return nil, fmt.Errorf("start the file server: %w", err)
	}

	s.exited = p.Exited() // how it ended stands in its log
	if err := s.answers(ctx); err != nil {
		s.Stop()
		said, _ := os.ReadFile(log.Name())
		own, _ := os.ReadFile(filepath.Join(dir, "log", "smbd"))
		return nil, fmt.Errorf("%w: %s %s", err, bytes.TrimSpace(said), bytes.TrimSpace(own[max(0, len(own)-1000):]))
	}

	return s, nil
}

// Address is where it listens.
func (s *Server) Address() string { return fmt.Sprintf("127.0.0.1:%d", s.Port) }

// Share returns the folder of a share on the server's own file system.
func (s *Server) Share(name string) string { return filepath.Join(s.Folder, "shares", name) }

// Stop ends it, with all its helpers.
func (s *Server) Stop() {
	_ = syscall.Kill(-s.cmd.Process.Pid, syscall.SIGTERM)
	select {
	case <-s.exited:
	case <-time.After(5 * time.Second):
		_ = syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL)
		<-s.exited
	}

	// Helpers that it started on demand are in its group, too, or in one of their own, but read its settings.
	_ = syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL)
	list, _ := filepath.Glob("/proc/[0-9]*/cmdline") // the pattern is sound
	for _, file := range list {
		argv, err := os.ReadFile(file)
		if err != nil ||
			!slices.Contains(strings.Split(string(argv), "\x00"), "--configfile="+filepath.Join(s.Folder, "smb.conf")) {
			continue
		}
		if pid, err := strconv.Atoi(filepath.Base(filepath.Dir(file))); err == nil {
			_ = syscall.Kill(pid, syscall.SIGKILL)
		}
	}
}

func (s *Server) answers(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	for {
		conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", s.Address())
		if err == nil {
			return conn.Close()
		}
		select {
		case <-s.exited:
			return errors.New("the file server ended while it started")
		case <-ctx.Done():
			return errors.New("the file server does not answer")
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// firstID is where accounts' and groups' numbers begin: far from those of the system.
const firstID = 51_000

func write(dir string, w World) error {
	for _, sub := range []string{"", "log", "private", "lock", "state", "cache", "pid", "rpc", "shares"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return err
		}
	}

	groups := map[string][]string{}
	var order []string
	passwd := "root:x:0:0:root:/:/bin/false\nnobody:x:65534:65534:nobody:/:/bin/false\n"
	var keepers []string
	var granted strings.Builder
	var script strings.Builder
	fmt.Fprintf(&script, `set -eu
d='%s'
for f in passwd group nsswitch.conf; do
  [ -e /etc/$f ] && mount --bind "$d/$f" /etc/$f
done
`, dir)

	script.WriteString("if ! [ -e \"$d/made\" ]; then\n") // it may be started again
	for i, a := range w.Accounts {
		passwd += fmt.Sprintf("%s:x:%d:%d::/:/bin/false\n", a.Name, firstID+i, firstID)
		for _, g := range a.Groups {
			if groups[g] == nil {
				order = append(order, g)
			}
			groups[g] = append(groups[g], a.Name)
		}

		for _, right := range a.Rights {
			fmt.Fprintf(&granted, "net -s \"$d/smb.conf\" sam rights grant '%s' %s >/dev/null\n", a.Name, right)
		}

		if a.Keeper {
			keepers = append(keepers, a.Name)
		}

		fmt.Fprintf(&script, "printf '%%s\\n%%s\\n' '%s' '%s' | smbpasswd -c \"$d/smb.conf\" -s -a '%s' >/dev/null\n",
			a.Password, a.Password, a.Name)
	}

	group := fmt.Sprintf("root:x:0:\nnogroup:x:65534:\nstaff-of-server:x:%d:\n", firstID)
	for i, g := range order {
		group += fmt.Sprintf("%s:x:%d:%s\n", g, firstID+1+i, strings.Join(groups[g], ","))
		fmt.Fprintf(&script, "net -s \"$d/smb.conf\" groupmap add ntgroup='%s' unixgroup='%s' type=local >/dev/null\n",
			g, g)
	}

	script.WriteString(`sid() {
  { net -s "$d/smb.conf" groupmap list | sed -n "s/^$1 (\(S-[^)]*\)).*/\1/p"; pdbedit -s "$d/smb.conf" -v -u "$1" 2>/dev/null | sed -n 's/^User SID: *//p'; } | head -n 1
}
`)
	for _, x := range w.Shares {
		var list []string
		for _, l := range x.Lets {
			list = append(list, fmt.Sprintf("$(sid '%s'):ALLOWED/0/%s", l.Who, strings.ToUpper(l.What)))
		}
		if len(list) > 0 {
			fmt.Fprintf(&script, "sharesec -s \"$d/smb.conf\" '%s' -R \"%s\" >/dev/null\n", x.Name,
				strings.Join(list, ","))
		}
	}

	script.WriteString(granted.String())
	script.WriteString("touch \"$d/made\"\nfi\n")
	var conf strings.Builder
	fmt.Fprintf(&conf, `[global]
workgroup = SALTMARSH
netbios name = CHARTROOM
server role = standalone server
security = user
map to guest = never
interfaces = 127.0.0.1
bind interfaces only = yes
smb ports = %d
disable netbios = yes
disable spoolss = yes
load printers = no
server min protocol = SMB3_00
server signing = mandatory
server smb encrypt = required
passdb backend = tdbsam:%[2]s/private/passdb.tdb
private dir = %[2]s/private
lock directory = %[2]s/lock
state directory = %[2]s/state
cache directory = %[2]s/cache
pid directory = %[2]s/pid
ncalrpc dir = %[2]s/rpc
log file = %[2]s/log/smbd
log level = 0
unix extensions = no
wide links = no
admin users = %[3]s
store dos attributes = yes
`, w.Port, dir, strings.Join(keepers, " "))

	if k := w.Kerberos; k != nil {
		// Its tickets contain no groups: those are the server's own.
		fmt.Fprintf(&conf,
			"realm = %s\nkerberos method = dedicated keytab\ndedicated keytab file = %s\ngensec:require_pac = no\n",
			k.Name, k.Keytab)
		fmt.Fprintf(&script, "export KRB5_CONFIG='%s'\n", k.Config)
	}

	script.WriteString("exec /usr/sbin/smbd -F --no-process-group -s \"$d/smb.conf\"\n")
	for _, s := range w.Shares {
		folder := filepath.Join(dir, "shares", s.Name)
		if err := os.MkdirAll(folder, 0o777); err != nil {
			return err
		}
		if err := os.Chmod(folder, 0o777); err != nil {
			return err
		}

		fmt.Fprintf(&conf, "\n[%s]\npath = %s\nread only = no\n", s.Name, folder)
		if s.Hides {
			conf.WriteString("hide unreadable = yes\n")
		}

		if !s.Plain {
			conf.WriteString(
				"vfs objects = acl_xattr\nacl_xattr:ignore system acls = yes\nacl_xattr:default acl style = windows\n")
		}
	}

	for name, text := range map[string]string{
		"passwd":        passwd,
		"group":         group,
		"nsswitch.conf": "passwd: files\ngroup: files\n",
		"smb.conf":      conf.String(),
		"start.sh":      script.String(),
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			return err
		}
	}

	// Everybody reads who there is.
	return errors.Join(os.Chmod(filepath.Join(dir, "passwd"), 0o644), os.Chmod(filepath.Join(dir, "group"), 0o644),
		os.Chmod(filepath.Join(dir, "nsswitch.conf"), 0o644))
}

// GroupSID returns the identifier of one of the groups, as the server's own tool tells it.
func (s *Server) GroupSID(ctx context.Context, name string) (string, error) {
	out, err := exec.CommandContext(ctx, "net", "-s", filepath.Join(s.Folder, "smb.conf"), "groupmap", "list").Output()
	if err != nil {
		return "", fmt.Errorf("list the server's groups: %w", err)
	}
	for line := range strings.Lines(string(out)) {
		if rest, ok := strings.CutPrefix(line, name+" ("); ok {
			sid, _, _ := strings.Cut(rest, ")")
			return sid, nil
		}
	}
	return "", fmt.Errorf("the server has no group %s", name)
}
