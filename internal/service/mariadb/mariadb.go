// Package mariadb runs a private MariaDB server from the system's packages: own data folder, and a socket in a folder
// that nobody else can enter, so that no other server can pose as it. It does not touch a system-wide server.
package mariadb

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"

	"idletally/internal/handover"
	"idletally/internal/tied"
)

// A Server is a running private server.
type Server struct {
	DSN    string
	cmd    *exec.Cmd
	exited <-chan struct{}
	passes string // a folder that goes with the server; "" where there is none
}

// Start makes the data folder if it is missing, starts the server and waits until it answers. The server ends when
// stop is called or this process dies.
func Start(ctx context.Context, dir string) (*Server, error) {
	p, err := prepare(dir)
	if err != nil {
		return nil, err
	}
	secret, err := p.secret(ctx)
	if err != nil {
		return nil, err
	}
	return p.start(ctx, 0, secret)
}

// A place is where a server has its files, and as whom it runs.
type place struct{ dir, data, account string }

func prepare(dir string) (p place, err error) {
	p = place{dir: dir, data: filepath.Join(dir, "data")}
	if err := os.MkdirAll(dir, 0o711); err != nil {
		return p, fmt.Errorf("database folder: %w", err)
	}
	if p.account, err = owner(); err != nil {
		return p, err
	}
	err = os.Mkdir(temporary(p.data), 0o700)
	if err == nil {
		err = give(temporary(p.data), p.account)
	}
	if err != nil && !errors.Is(err, os.ErrExist) {
		return p, fmt.Errorf("database folder: %w", err)
	}
	return p, p.adopt()
}

// adopt gives the account what an earlier version ran as another one.
func (p place) adopt() error {
	if p.account == "" {
		return nil
	}
	uid, gid, err := ids(p.account)
	if err != nil {
		return err
	}

	for _, dir := range []string{p.data, temporary(p.data)} {
		st, err := os.Lstat(dir)
		if err != nil || st.Sys().(*syscall.Stat_t).Uid == uint32(uid) {
			continue // it is not there yet, or right
		}
		if err := handover.Give(dir, st.Sys().(*syscall.Stat_t).Uid, uid, gid); err != nil {
			return fmt.Errorf("give the database's files to the account %s: %w", p.account, err)
		}
	}

	return nil
}

// secret is the password of the database's account. At the first start both are made.
func (p place) secret(ctx context.Context) ([]byte, error) {
	file := filepath.Join(p.dir, "password")
	secret, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		if err = os.RemoveAll(p.data); err == nil { // a first start that was cut short
			secret, err = p.create(ctx, file)
		}
		return secret, err
	}
	// An earlier version's account used a port.
	if _, e := os.Stat(filepath.Join(p.dir, bySocket)); err == nil && errors.Is(e, os.ErrNotExist) {
		err = p.boot(ctx, accounts(secret))
	}
	return secret, err
}

// bySocket is a file that says that the database's account uses the socket.
const bySocket = "by-socket"

// accounts makes the database's own account, which uses the socket or, in a cluster, connects from this machine
// alone.
func accounts(secret []byte) string {
	var b strings.Builder
	for _, from := range []string{"localhost", "127.0.0.1"} {
		fmt.Fprintf(&b,
			"CREATE OR REPLACE USER 'idletally'@'%s' IDENTIFIED BY '%s';\nGRANT ALL ON idletally.* TO "+
				"'idletally'@'%[1]s';\n",
			from, secret)
	}
	return b.String()
}

// start starts the server; port is where others of a cluster reach it, 0 otherwise.
func (p place) start(ctx context.Context, port int, secret []byte, more ...string) (_ *Server, err error) {
	// A server that was killed a moment ago still holds its files: the next one is tried again.
	for tries := 0; ; tries++ {
		s, err := p.launch(ctx, port, secret, more)
		if err == nil || !errors.Is(err, errEnded) || tries == 10 {
			return s, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

var errEnded = errors.New("the database ended while starting")

func (p place) launch(ctx context.Context, port int, secret []byte, more []string) (*Server, error) {
	daemon, err := find("mariadbd")
	if err != nil {
		return nil, err
	}
	sockets, passes, err := p.sockets()
	if err != nil {
		return nil, err
	}

	s := &Server{passes: passes, DSN: address(secret, filepath.Join(sockets, socketName))}
	network := []string{"--skip-networking"}
	if port > 0 {
		network = []string{"--bind-address=127.0.0.1", "--port=" + strconv.Itoa(port)}
	}

	logFile, err := os.OpenFile(filepath.Join(p.dir, "server.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	defer logFile.Close()

	s.cmd = exec.Command(daemon,
		append(common(p.data), "--socket="+filepath.Join(sockets, socketName),
			"--pid-file="+filepath.Join(sockets, "pid"), "--max-connections=200",
			"--max-allowed-packet=64M", "--innodb-buffer-pool-size=256M", "--innodb-log-file-size=128M",
			"--innodb-flush-log-at-trx-commit=1",
			"--character-set-server=utf8mb4", "--collation-server=utf8mb4_bin", "--skip-name-resolve",
			"--performance-schema=OFF")...)

	s.cmd.Args = append(append(s.cmd.Args, network...), more...)
	s.cmd.Stdout, s.cmd.Stderr = logFile, logFile
	if err := become(s.cmd, p.account); err != nil {
		return nil, err
	}
	process, err := tied.Start(s.cmd)
	if err != nil {
		return nil, fmt.Errorf("start the database: %w", err)
	}

	s.exited = process.Exited()
	if err := s.wait(ctx, 60*time.Second); err != nil {
		s.Stop()
		return nil, fmt.Errorf("%w: see %s", err, logFile.Name())
	}

	if err := os.WriteFile(filepath.Join(p.dir, socketFile), []byte(sockets), 0o600); err != nil {
		s.Stop()
		return nil, err
	}

	return s, nil
}

const (
	socketName = "s"
	// longestSocket is how long a socket's path may be (sockaddr_un has 108 bytes, with a zero at the end).
	longestSocket = 107
)

// sockets makes the folder of the socket, which nobody but the server's account and root can enter. If its path would
// be too long it is one that is removed with the server.
func (p place) sockets() (dir, passes string, err error) {
	dir = filepath.Join(p.dir, "socket")
	if len(filepath.Join(dir, socketName)) > longestSocket || strings.ContainsAny(dir, ",()") {
		// As addresses of databases have them.
		dir, err = os.MkdirTemp("", "idletally-db-")
		passes = dir
	} else if err = os.Mkdir(dir, 0o700); errors.Is(err, os.ErrExist) {
		err = os.Chmod(dir, 0o700)
	}
	if err == nil {
		err = give(dir, p.account)
	}
	if err != nil {
		return "", "", fmt.Errorf("folder of the database's socket: %w", err)
	}
	return dir, passes, nil
}

// private returns why a folder is not one that only its owner can enter, who is this process's account or the
// database's.
func private(dir string) error {
	st, err := os.Lstat(dir)
	if err != nil {
		return err
	}

	own := []int{os.Geteuid()}
	if account, err := owner(); err == nil && account != "" {
		if uid, _, err := ids(account); err == nil {
			own = append(own, uid)
		}
	}

	uid := int(st.Sys().(*syscall.Stat_t).Uid)
	if !st.IsDir() || st.Mode().Perm()&0o077 != 0 || !slices.Contains(own, uid) {
		return fmt.Errorf("%s is no folder that only its owner enters (mode %04o, owner %d)", dir, st.Mode().Perm(),
			uid)
	}

	return nil
}

func common(data string) []string {
	return []string{"--no-defaults", "--datadir=" + data, "--tmpdir=" + temporary(data)}
}

// temporary is where a server keeps temporary files. It is its own: a server that starts removes what it finds there,
// even files of another one that is running in the same place.
func temporary(data string) string { return filepath.Join(filepath.Dir(data), "temporary") }

// become starts a command as an account. The server must not change its identity by itself:
// the kernel would then forget to end it when we die.
func become(cmd *exec.Cmd, account string) error {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Env = environment
	if account == "" {
		return nil
	}
	uid, gid, err := ids(account)
	if err != nil {
		return err
	}
	cmd.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	cmd.Dir = "/"
	return nil
}

// environment is all that the server gets of it: the service's own may hold secrets.
var environment = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8"}

func ids(account string) (uid, gid int, err error) {
	u, err := user.Lookup(account)
	if err != nil {
		return 0, 0, err
	}
	uid, err1 := strconv.Atoi(u.Uid)
	gid, err2 := strconv.Atoi(u.Gid)
	return uid, gid, errors.Join(err1, err2)
}

// owner is the account that the server runs as if we are root: one of its own. What runs as nobody is anybody's.
func owner() (string, error) {
	if os.Getuid() != 0 {
		return "", nil
	}
	for _, name := range []string{"idletally-db", "mysql"} {
		if _, err := user.Lookup(name); err == nil {
			return name, nil
		}
	}
	return "", errors.New(
		"there is no account to run the database as: make one (useradd --system --no-create-home --shell " +
			"/usr/sbin/nologin idletally-db), do not run the service as root, or give --database")
}

func give(dir, account string) error {
	if account == "" {
		return nil
	}
	uid, gid, err := ids(account)
	if err != nil {
		return err
	}
	return os.Chown(dir, uid, gid)
}

// output runs a command to its end and returns what it writes.
func output(cmd *exec.Cmd) ([]byte, error) {
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err := tied.Run(cmd)
	return out.Bytes(), err
}

func (p place) create(ctx context.Context, secretFile string) ([]byte, error) {
	if err := os.Mkdir(p.data, 0o700); err != nil {
		return nil, fmt.Errorf("database folder: %w", err)
	}
	if err := give(p.data, p.account); err != nil {
		return nil, err
	}
	install, err := find("mariadb-install-db")
	if err != nil {
		return nil, err
	}

	cmd := exec.CommandContext(ctx, install,
		append(common(p.data), "--auth-root-authentication-method=normal", "--skip-test-db")...)
	if err := become(cmd, p.account); err != nil {
		return nil, err
	}
	if out, err := output(cmd); err != nil {
		return nil, fmt.Errorf("make the database folder: %w: %s", err, lastLines(out))
	}

	raw := make([]byte, 24)
	rand.Read(raw)
	secret := []byte(hex.EncodeToString(raw))

	// The first accounts are made before the server ever listens; those without a password are removed.
	if err := p.boot(ctx, "CREATE DATABASE idletally CHARACTER SET utf8mb4 COLLATE utf8mb4_bin;\n"+accounts(secret)+
		"DROP USER IF EXISTS 'root'@'localhost';\nDROP USER IF EXISTS ''@'localhost';\n"); err != nil {
		return nil, err
	}
	if err := os.WriteFile(secretFile, secret, 0o600); err != nil {
		return nil, fmt.Errorf("keep the database's password: %w", err)
	}

	return secret, nil
}

// boot has statements carried out by a server that nobody can reach.
func (p place) boot(ctx context.Context, statements string) error {
	daemon, err := find("mariadbd")
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, daemon, append(common(p.data), "--bootstrap", "--skip-networking")...)
	cmd.Stdin = strings.NewReader("USE mysql;\nFLUSH PRIVILEGES;\n" + statements + "FLUSH PRIVILEGES;\n")
	if err := become(cmd, p.account); err != nil {
		return err
	}
	if out, err := output(cmd); err != nil {
		return fmt.Errorf("make the database's account: %w: %s", err, lastLines(out))
	}
	return os.WriteFile(filepath.Join(p.dir, bySocket), nil, 0o600)
}

func lastLines(b []byte) string {
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return strings.Join(lines[max(0, len(lines)-4):], "; ")
}

func find(name string) (string, error) {
	if p, err := exec.LookPath(name); err == nil {
		return p, nil
	}
	for _, dir := range []string{"/usr/sbin", "/usr/bin"} {
		if p := filepath.Join(dir, name); exec.Command(p, "--version").Run() == nil {
			return p, nil
		}
	}
	return "", fmt.Errorf(
		"%s is not on this machine: install Debian's package mariadb-server-core, or give --database with the "+
			"address of a server",
		name)
}

func (s *Server) wait(ctx context.Context, limit time.Duration) error {
	db, err := open(s.DSN)
	if err != nil {
		return err
	}
	defer db.Close()

	deadline := time.Now().Add(limit)
	for {
		try, cancel := context.WithTimeout(ctx, time.Second)
		err = db.PingContext(try)
		cancel()

		switch {
		case err == nil:
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case time.Now().After(deadline):
			return fmt.Errorf("the database did not answer within %s: %w", limit, err)
		}

		select {
		case <-s.exited:
			return errEnded
		case <-time.After(50 * time.Millisecond):
		}
	}
}

type quiet struct{}

func (quiet) Print(...any) {}

// Stop ends the server in good order, and by force after ten seconds.
func (s *Server) Stop() {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.exited:
	case <-time.After(10 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.exited
	}
	s.pass()
}

// pass removes what goes with the server.
func (s *Server) pass() {
	if s.passes != "" {
		_ = os.RemoveAll(s.passes)
	}
}

// Kill ends the server as a power cut would; tests need it.
func (s *Server) Kill() {
	_ = s.cmd.Process.Kill()
	<-s.exited
	s.pass()
}

// Done is closed when the server has ended.
func (s *Server) Done() <-chan struct{} { return s.exited }

// Pause stops the server from doing anything until Go: tests need one that is slow.
func (s *Server) Pause() { _ = s.cmd.Process.Signal(syscall.SIGSTOP) }

// Go makes a paused server go on.
func (s *Server) Go() { _ = s.cmd.Process.Signal(syscall.SIGCONT) }

// socketFile says in which folder a private server's socket is.
const socketFile = "socket-folder"

// Running returns the address of the private server that has its files in a folder, if one is running.
func Running(ctx context.Context, dir string) (dsn string, ok bool) {
	secret, err1 := os.ReadFile(filepath.Join(dir, "password"))
	sockets, err2 := os.ReadFile(filepath.Join(dir, socketFile))
	if err1 != nil || err2 != nil || private(string(sockets)) != nil {
		return "", false
	}
	dsn = address(secret, filepath.Join(string(sockets), socketName))
	db, err := open(dsn)
	if err != nil {
		return "", false
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	return dsn, db.PingContext(ctx) == nil
}

// open returns a database that is only asked whether it is there: that it is not yet is no news for a log.
func open(dsn string) (*sql.DB, error) {
	config, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, err
	}
	config.Logger = quiet{}
	c, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	return sql.OpenDB(c), nil
}

func address(secret []byte, socket string) string {
	return fmt.Sprintf("idletally:%s@unix(%s)/idletally", secret, socket)
}
