//go:build linux

package demo

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"idletally/internal/client"
	"idletally/internal/core/lifecycle"
	"idletally/internal/loopback"
	"idletally/internal/samba"
	"idletally/internal/tied"
	"idletally/internal/wire"
)

// Password is everybody's in the demo world, which is on loopback and gone afterwards.
const Password = "low tide at noon"

// People of the demo world and their roles.
var People = map[string][]string{
	"quartermaster": {wire.Author, wire.Operator, wire.Reviewer},
	"harbourmaster": {wire.Reviewer},
	"bosun":         {wire.Operator},
	"lookout":       {wire.Viewer},
}

// A Stage is the whole demo world, running: database, service, and an agent on each host.
type Stage struct {
	Dir      string
	Program  string // the idletally program
	Self     string // a program that calls Inside when its first argument is "inside"
	Address  string
	Deaf     bool // agents do not watch: only snapshots that are asked for are taken
	Service  *Process
	Settings []string // of the service, as its environment
	Agents   map[string]*Process

	Chartroom *samba.Server // nil where the file server is not part of it
	lockers   *Lockers      // nil where they are not
	log       io.Writer
}

// A Process is one of the stage's processes. It ends when this process does.
type Process struct {
	cmd    *exec.Cmd
	exited <-chan struct{}
}

// Start starts a program on this machine.
func Start(cmd *exec.Cmd) (*Process, error) { return start(cmd, 0) }

func start(cmd *exec.Cmd, flags uintptr) (*Process, error) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: flags, Setpgid: true}
	cmd.WaitDelay = time.Second
	p, err := tied.Start(cmd)
	if err != nil {
		return nil, err
	}
	return &Process{cmd, p.Exited()}, nil
}

// Pid is the process's number.
func (p *Process) Pid() int { return p.cmd.Process.Pid }

// Resident is how much memory a process has, in bytes; 0 where it has ended.
func (p *Process) Resident() int64 {
	b, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.Pid()))
	for line := range strings.Lines(string(b)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			n, _ := strconv.ParseInt(strings.TrimSuffix(strings.TrimSpace(rest), " kB"), 10, 64)
			return n << 10
		}
	}
	return 0
}

// Stop ends a process in good order, after a while by force.
func (p *Process) Stop() { p.end(syscall.SIGTERM) }

// Kill ends a process at once.
func (p *Process) Kill() { p.end(syscall.SIGKILL) }

func (p *Process) end(sig syscall.Signal) {
	_ = p.cmd.Process.Signal(sig)
	select {
	case <-p.exited:
	case <-time.After(15 * time.Second):
		_ = p.cmd.Process.Kill()
		<-p.exited
	}
}

// Begin builds the hosts and starts database and service. Database "" is a private one.
func Begin(ctx context.Context, dir, program, self, listen, database string, log io.Writer) (*Stage, error) {
	s := &Stage{Dir: dir, Program: program, Self: self, Agents: map[string]*Process{}, log: log}
	for host := range Hosts {
		root := s.Root(host)
		if err := os.MkdirAll(root, 0o755); err != nil {
			return s, err
		}
		if err := Build(root, host); err != nil {
			return s, err
		}
		if err := copyProgram(program, filepath.Join(root, "usr/sbin/idletally")); err != nil {
			return s, err
		}
	}
	return s, s.Serve(ctx, listen, database)
}

// Root is where a host's root folder lies.
func (s *Stage) Root(host string) string { return filepath.Join(s.Dir, "hosts", host) }

// Authority is the file with the service's authority.
func (s *Stage) Authority() string { return filepath.Join(s.Dir, "service", "keys", "authority.pem") }

func copyProgram(from, to string) error {
	b, err := os.ReadFile(from)
	if err != nil {
		return fmt.Errorf("the program is not built: %w: run make build", err)
	}
	return os.WriteFile(to, b, 0o755)
}

var (
	serves  = regexp.MustCompile(`serves (https://\S+)`)
	oneTime = regexp.MustCompile(`one-time password (\S+)`)
)

// Serve starts the service and waits until it says where it is. At the very first start the
// admin gets the demo world's password.
func (s *Stage) Serve(ctx context.Context, listen, database string) error {
	if listen == "127.0.0.1:0" {
		// It may be asked for again, when a connection has taken the one that the kernel gave.
		port, err := loopback.FreePort()
		if err != nil {
			return err
		}
		listen = fmt.Sprintf("127.0.0.1:%d", port)
	}

	argv := []string{"serve", "--listen", listen, "--data", filepath.Join(s.Dir, "service")}
	cmd := exec.Command(s.Program, argv...)
	cmd.Env = append(os.Environ(), s.Settings...)
	if database != "" {
		cmd.Env = append(cmd.Env, "IDLETALLY_DATABASE="+database)
	}

	cmd.Stderr = s.log
	r, w, err := os.Pipe()
	if err != nil {
		return err
	}
	cmd.Stdout = w
	if s.Service, err = start(cmd, 0); err != nil {
		return fmt.Errorf("start the service: %w", err)
	}

	w.Close()
	lines := make(chan string, 16)
	go func() {
		defer r.Close()
		defer close(lines)
		for sc := bufio.NewScanner(r); sc.Scan(); {
			lines <- sc.Text()
		}
	}()

	password := ""
	timeout := time.After(90 * time.Second)
	for wait := true; wait; {
		select {
		case line, ok := <-lines:
			if !ok {
				return errors.New("the service ended while starting: see its log")
			}

			if m := serves.FindStringSubmatch(line); m != nil {
				s.Address = m[1]
			}

			if m := oneTime.FindStringSubmatch(line); m != nil {
				password = m[1]
			}

			wait = !strings.HasPrefix(line, "fingerprint")
		case <-timeout:
			return errors.New("the service did not start within 90 seconds")
		case <-ctx.Done():
			return ctx.Err()
		}
	}

	select { // the password follows at the first start only
	case line := <-lines:
		if m := oneTime.FindStringSubmatch(line); m != nil {
			password = m[1]
		}
	case <-time.After(300 * time.Millisecond):
	}

	go func() {
		for range lines {
		}
	}()
	if password == "" {
		return nil
	}
	api, err := s.client("")
	if err != nil {
		return err
	}

	_, err = api.SignIn(ctx, wire.SignIn{Name: "admin", Password: password, NewPassword: Password})
	return err
}

func (s *Stage) client(token string) (*client.Client, error) {
	ca, err := os.ReadFile(s.Authority())
	if err != nil {
		return nil, err
	}
	return client.New(s.Address, ca, token)
}

// As signs a person in.
func (s *Stage) As(ctx context.Context, name string) (*client.Client, error) {
	api, err := s.client("")
	if err != nil {
		return nil, err
	}
	session, err := api.SignIn(ctx, wire.SignIn{Name: name, Password: Password})
	if err != nil {
		return nil, fmt.Errorf("sign in as %s: %w", name, err)
	}
	api.Token = session.Token
	api.Confirming = func(ctx context.Context) error { return api.Confirm(ctx, wire.Confirm{Password: Password}) }
	return api, nil
}

// Crew adds the people.
func (s *Stage) Crew(ctx context.Context) (admin *client.Client, err error) {
	if admin, err = s.As(ctx, "admin"); err != nil {
		return nil, err
	}

	for name, roles := range People {
		one, err := admin.AddPerson(ctx, wire.NewPerson{Name: name, Roles: roles})
		if err != nil {
			return nil, err
		}
		if _, err := admin.SignIn(ctx, wire.SignIn{
			Name:        name,
			Password:    one.Password,
			NewPassword: Password,
		}); err != nil {
			return nil, err
		}
	}

	return admin, nil
}

// Populate adds the people and enrols the hosts.
func (s *Stage) Populate(ctx context.Context) error {
	admin, err := s.Crew(ctx)
	if err != nil {
		return err
	}

	for host, tags := range Hosts {
		inv, err := admin.Invite(ctx, wire.NewHost{Name: host, Tags: tags})
		if err != nil {
			return err
		}
		if err := s.Enrol(host, inv.Code); err != nil {
			return err
		}
		if err := s.StartAgent(host); err != nil {
			return err
		}
	}

	return nil
}

func (s *Stage) inside(host string, argv ...string) *exec.Cmd {
	cmd := exec.Command(s.Self, append([]string{"inside", host, s.Root(host)}, argv...)...)
	cmd.Stdout, cmd.Stderr = s.log, s.log
	return cmd
}

// The hosts share this machine's processes: the kernel tells an agent which process did something only if the process
// is the agent's own.
const namespaces = syscall.CLONE_NEWNS | syscall.CLONE_NEWUTS

// Enrol enrols a host with a code, on the host.
func (s *Stage) Enrol(host, code string) error {
	ca, err := os.ReadFile(s.Authority())
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(s.Root(host), "etc/authority.pem"), ca, 0o644); err != nil {
		return err
	}

	if out, err := s.Run(host, "agent", "enrol", "--service", s.Address, "--authority", "/etc/authority.pem", "--code",
		code, "--root", "/srv"); err != nil {
		return fmt.Errorf("enrol %s: %w: %s", host, err, out)
	}

	return nil
}

// StartAgent starts a host's agent, inside the host.
func (s *Stage) StartAgent(host string) error {
	p, err := start(s.inside(host, "/usr/sbin/idletally", "agent", "run", fmt.Sprintf("--watch=%t", !s.Deaf)),
		namespaces)
	if err != nil {
		return fmt.Errorf("start the agent of %s: %w", host, err)
	}
	s.Agents[host] = p
	return nil
}

// Declare uploads and publishes every baseline and takes the first snapshots.
func (s *Stage) Declare(ctx context.Context) error {
	api, err := s.As(ctx, "quartermaster")
	if err != nil {
		return err
	}

	for _, app := range Applications {
		e, err := api.UploadBaseline(ctx, Baseline(app))
		if err != nil {
			return fmt.Errorf("baseline of %s: %w", app, err)
		}
		if _, err := api.Publish(ctx, app, e.Number); err != nil {
			return err
		}

		for host, tags := range Hosts {
			for _, t := range tags {
				if t != app {
					continue
				}
				if _, err := Snapshot(ctx, api, app, host); err != nil {
					return err
				}
			}
		}
	}

	return nil
}

// Snapshot takes a snapshot and waits for it.
func Snapshot(ctx context.Context, api *client.Client, application, host string) (wire.Snapshot, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	snap, err := api.TakeSnapshot(ctx, wire.NewSnapshot{Application: application, Host: host})
	for err == nil && snap.State == lifecycle.SnapshotWaiting {
		select {
		case <-ctx.Done():
			return snap, fmt.Errorf("snapshot of %s on %s: %w", application, host, ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
		snap, err = api.Snapshot(ctx, snap.ID)
	}
	if err == nil && snap.State != lifecycle.SnapshotReady {
		err = fmt.Errorf("snapshot of %s on %s: %s", application, host, snap.Message)
	}
	return snap, err
}

// End stops everything and takes the files away.
func (s *Stage) End() error {
	for _, p := range s.Agents {
		p.Stop()
	}
	if s.Service != nil {
		s.Service.Stop()
	}
	if s.Chartroom != nil {
		s.Chartroom.Stop()
	}
	if err := s.lockers.close(); err != nil {
		return err
	}
	return os.RemoveAll(s.Dir)
}

// Inside becomes a process of a demo host: the first process in new namespaces. It mounts what the host has, enters
// the host's root folder and becomes the program.
func Inside(argv []string) error {
	if len(argv) < 3 {
		return errors.New("inside: want HOST ROOT PROGRAM [ARGUMENT...]")
	}

	host, root := argv[0], argv[1]
	for _, err := range []error{
		unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(unix.SIGKILL), 0, 0, 0),
		unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""),
		unix.Sethostname([]byte(host)),
		unix.Mount("proc", filepath.Join(root, "proc"), "proc", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, ""),
		unix.Mount("tmpfs", filepath.Join(root, "srv/ticketing/archive"), "tmpfs", unix.MS_NOSUID|unix.MS_NODEV,
			"size=64k,mode=0700"),
		unix.Chroot(root),
		unix.Chdir("/"),
	} {
		if err != nil {
			return fmt.Errorf("enter demo host %s: %w", host, err)
		}
	}

	return unix.Exec(argv[2], argv[2:], []string{"PATH=/usr/sbin", "HOME=/root", "LANG=C.UTF-8"})
}

// Done is closed when the process has ended.
func (p *Process) Done() <-chan struct{} { return p.exited }

// Instance is another instance of the service with the same keys; it has no hosts of its own.
func (s *Stage) Instance() *Stage {
	return &Stage{Dir: s.Dir, Program: s.Program, Self: s.Self, log: s.log}
}

// Bare is a stage without hosts.
func Bare(dir, program string, log io.Writer) *Stage {
	return &Stage{Dir: dir, Program: program, Agents: map[string]*Process{}, log: log}
}

// Join enrols a made-up host, and returns the client of its agent.
func Join(
	ctx context.Context, address string, authority []byte, admin *client.Client, host wire.NewHost,
) (*client.Agent, error) {
	inv, err := admin.Invite(ctx, host)
	if err != nil {
		return nil, fmt.Errorf("invite: %w", err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
	if err != nil {
		return nil, err
	}
	fresh, err := client.NewAgent(address, authority, nil)
	if err != nil {
		return nil, err
	}
	got, err := fresh.Enrol(ctx, wire.Enrol{Code: inv.Code, Request: request, Version: MadeUp})
	if err != nil {
		return nil, fmt.Errorf("enrol: %w", err)
	}
	block, _ := pem.Decode(got.Certificate)
	if block == nil {
		return nil, errors.New("the certificate is not in PEM form")
	}

	return client.NewAgent(address, authority, &tls.Certificate{Certificate: [][]byte{block.Bytes}, PrivateKey: key})
}

// MadeUp is the version of made-up agents.
const MadeUp = "made up"
