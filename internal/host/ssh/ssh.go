// Package ssh reaches a host over SSH (RFC 4251 to 4254): one whose key is known, with a key of one's own, and
// without lending that key, or any port, to the host.
package ssh

import (
	"bytes"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path"
	"runtime"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// Access says where a host is, and as whom to sign in.
type Access struct {
	Address    string `json:"address"` // HOST:PORT
	User       string `json:"user"`
	Key        string `json:"key"`              // file
	KnownHosts string `json:"known_hosts"`      // file, as OpenSSH keeps it
	Sudo       bool   `json:"sudo,omitempty"`   // what runs there does so as root, by sudo
	Sealed     []byte `json:"sealed,omitempty"` // the key's passphrase
	Passphrase string `json:"-"`
}

// Parse reads [USER@]HOST[:PORT].
func Parse(text string) (a Access, err error) {
	a.User, a.Address = "root", text
	if i := strings.LastIndexByte(text, '@'); i >= 0 {
		a.User, a.Address = text[:i], text[i+1:]
	}
	host, port, err := net.SplitHostPort(a.Address)
	if err != nil { // there is no port
		host, port = strings.Trim(a.Address, "[]"), "22"
	}
	if a.User == "" || host == "" || port == "" || strings.ContainsAny(host, "@/ ") ||
		strings.Contains(host, ":") && net.ParseIP(host) == nil {
		return a, fmt.Errorf("%s: want USER@HOST or USER@HOST:PORT; an IPv6 address stands in brackets", text)
	}
	a.Address = net.JoinHostPort(host, port)
	return a, nil
}

const (
	dialTime = 20 * time.Second
	alive    = 15 * time.Second
	maxSaid  = 4 << 10 // of what a command says besides
)

// A Host is one that is connected.
type Host struct {
	a      Access
	client *ssh.Client
	stop   func() bool
}

// Dial connects to a host and signs in. The context bounds all that is done there.
func Dial(ctx context.Context, a Access) (*Host, error) {
	auth, err := a.signer()
	if err != nil {
		return nil, err
	}
	known, algorithms, err := a.known()
	if err != nil {
		return nil, err
	}

	d := net.Dialer{Timeout: dialTime, KeepAlive: alive}
	conn, err := d.DialContext(ctx, "tcp", a.Address)
	if err != nil {
		return nil, fmt.Errorf("ssh to %s: %w", a.Address, err)
	}

	_ = conn.SetDeadline(time.Now().Add(dialTime)) // a host that says nothing is no host
	c, chans, requests, err := ssh.NewClientConn(conn, a.Address, &ssh.ClientConfig{
		User:              a.User,
		Auth:              []ssh.AuthMethod{ssh.PublicKeys(auth)},
		HostKeyCallback:   known,
		HostKeyAlgorithms: algorithms,
		ClientVersion:     "SSH-2.0-idletally",
	})

	if err != nil {
		conn.Close()
		return nil, fmt.Errorf("ssh to %s as %s: %w", a.Address, a.User, err)
	}

	_ = conn.SetDeadline(time.Time{})

	// Whatever channel the host wants to open, such as to an agent that holds keys, is refused.
	h := &Host{a: a, client: ssh.NewClient(c, chans, requests)}
	h.stop = context.AfterFunc(ctx, func() { h.client.Close() })
	return h, nil
}

// Close leaves the host.
func (h *Host) Close() error {
	h.stop()
	return h.client.Close()
}

// signer reads the key, which nobody else may be able to read.
func (a Access) signer() (ssh.Signer, error) {
	st, err := os.Stat(a.Key)
	if err != nil {
		return nil, fmt.Errorf("ssh key: %w", err)
	}
	if st.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf(
			"ssh key %s has the mode %04o: others can read it; chmod 600 it, and better take another one", a.Key,
			st.Mode().Perm())
	}

	b, err := os.ReadFile(a.Key)
	if err != nil {
		return nil, fmt.Errorf("ssh key: %w", err)
	}

	var s ssh.Signer
	if a.Passphrase != "" {
		s, err = ssh.ParsePrivateKeyWithPassphrase(b, []byte(a.Passphrase))
	} else {
		s, err = ssh.ParsePrivateKey(b)
	}

	var missing *ssh.PassphraseMissingError
	if errors.As(err, &missing) {
		return nil, fmt.Errorf("ssh key %s needs its passphrase: give it with --ssh-passphrase-file", a.Key)
	}
	if err != nil {
		return nil, fmt.Errorf("ssh key %s: %w", a.Key, err)
	}

	return s, nil
}

// known checks a host's key against the file of known ones, and returns which kinds of key are known of it: with
// another kind a host could not prove who it is.
func (a Access) known() (ssh.HostKeyCallback, []string, error) {
	check, err := knownhosts.New(a.KnownHosts)
	if err != nil {
		return nil, nil, fmt.Errorf("file of known hosts: %w: write into it the host's key, after comparing it there",
			err)
	}

	var algorithms []string
	var wanted *knownhosts.KeyError
	if err := check(a.Address, &net.TCPAddr{IP: net.IPv4zero}, nothing{}); errors.As(err, &wanted) {
		for _, k := range wanted.Want {
			switch kind := k.Key.Type(); kind {
			case ssh.KeyAlgoRSA:
				algorithms = append(algorithms, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
			default:
				algorithms = append(algorithms, kind)
			}
		}
	}

	return func(address string, remote net.Addr, key ssh.PublicKey) error {
		err := check(address, remote, key)
		var other *knownhosts.KeyError
		var revoked *knownhosts.RevokedError

		switch {
		case errors.As(err, &revoked):
			return fmt.Errorf("the host shows a key that %s has revoked: %s", a.KnownHosts, ssh.FingerprintSHA256(key))
		case errors.As(err, &other) && len(other.Want) > 0:
			return fmt.Errorf(
				"the host shows the key %s, and %s knows another: either it was set up anew, or this is another host",
				ssh.FingerprintSHA256(key), a.KnownHosts)
		case errors.As(err, &other):
			return fmt.Errorf(
				"the host's key %s is not known: compare it with the host's own, then add to %s the line\n%s",
				ssh.FingerprintSHA256(key), a.KnownHosts, knownhosts.Line([]string{knownhosts.Normalize(address)}, key))
		}

		return err
	}, algorithms, nil
}

// nothing is a key that no host has.
type nothing struct{}

func (nothing) Type() string                        { return "none" }
func (nothing) Marshal() []byte                     { return []byte("none") }
func (nothing) Verify([]byte, *ssh.Signature) error { return errors.New("no key") }

// Quote writes a word so that a shell takes it as it is.
func Quote(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }

func (h *Host) line(words ...string) string {
	if h.a.Sudo {
		words = append([]string{"sudo", "-n", "--"}, words...)
	}
	for i, w := range words {
		words[i] = Quote(w)
	}
	return strings.Join(words, " ")
}

// said keeps the end of what a command prints.
type said struct {
	b    []byte
	each func(line string)
	part []byte
}

func (s *said) Write(b []byte) (int, error) {
	s.b = append(s.b, b...)
	if len(s.b) > maxSaid {
		s.b = s.b[len(s.b)-maxSaid:]
	}

	if s.each != nil {
		s.part = append(s.part, b...)
		for {
			i := bytes.IndexByte(s.part[:min(len(s.part), maxSaid)], '\n')
			if i < 0 && len(s.part) < maxSaid {
				break
			}

			line, next := s.part[:max(i, 0)], i+1
			if i < 0 {
				line, next = s.part[:maxSaid], maxSaid
			}

			s.each(string(bytes.TrimRight(line, "\r")))
			s.part = s.part[next:]
		}
	}

	return len(b), nil
}

// Run runs a command to its end, and returns its output.
func (h *Host) Run(stdin io.Reader, words ...string) (string, error) {
	s, err := h.client.NewSession()
	if err != nil {
		return "", fmt.Errorf("ssh to %s: %w", h.a.Address, err)
	}
	defer s.Close()
	var errs said
	var out bytes.Buffer
	s.Stdin = stdin
	s.Stdout = limited{&out}
	s.Stderr = &errs
	line := h.line(words...)
	if err := s.Run(line); err != nil {
		return "", h.failed(line, &errs, err)
	}
	return out.String(), nil
}

// limited accepts so many bytes and no more.
type limited struct{ b *bytes.Buffer }

func (l limited) Write(b []byte) (int, error) {
	if l.b.Len()+len(b) > 1<<20 {
		return 0, errors.New("the command says too much")
	}
	return l.b.Write(b)
}

// failed returns how a command ended.
func (h *Host) failed(line string, errs *said, err error) error {
	words := strings.TrimSpace(string(errs.b))
	if h.a.Sudo && strings.Contains(words, "sudo:") && strings.Contains(words, "password") {
		command := strings.TrimPrefix(line, "'sudo' '-n' '--' ")
		if strings.HasPrefix(command, "'sh' ") || !strings.HasPrefix(command, "'/") {
			// Allowing this would be allowing everything.
			return fmt.Errorf("on %s: %w", h.a.Address, errSudo)
		}
		return fmt.Errorf(
			"on %s, %s may not run this by sudo without a password: let it, with a line for sudoers such as\n%s "+
				"ALL=(root) NOPASSWD: %s",
			h.a.Address, h.a.User, h.a.User, strings.ReplaceAll(command, "'", ""))
	}

	if words == "" {
		return fmt.Errorf("on %s, %s: %w", h.a.Address, line, err)
	}

	return fmt.Errorf("on %s: %q: %w", h.a.Address, words, err) // a host's words may hold anything
}

// A Running command's input and output are its Read and Write.
type Running struct {
	io.Reader
	io.WriteCloser
	h    *Host
	s    *ssh.Session
	line string
	errs *said
	done chan struct{}
	once sync.Once
	kill *time.Timer
}

// Start starts a command. Each line that it prints besides its output is handed to each.
func (h *Host) Start(each func(line string), words ...string) (*Running, error) {
	s, err := h.client.NewSession()
	if err != nil {
		return nil, fmt.Errorf("ssh to %s: %w", h.a.Address, err)
	}

	r := &Running{h: h, s: s, line: h.line(words...), errs: &said{each: each}, done: make(chan struct{})}
	s.Stderr = r.errs
	if r.WriteCloser, err = s.StdinPipe(); err == nil {
		r.Reader, err = s.StdoutPipe()
	}

	if err == nil {
		err = s.Start(r.line)
	}

	if err != nil {
		s.Close()
		return nil, fmt.Errorf("on %s, %s: %w", h.a.Address, r.line, err)
	}

	go h.keepAlive(r.done)
	return r, nil
}

// keepAlive finds out that a host is gone when nothing else would.
func (h *Host) keepAlive(done <-chan struct{}) {
	t := time.NewTicker(alive)
	defer t.Stop()
	for {
		select {
		case <-done:
			return
		case <-t.C:
		}

		answered := make(chan error, 1)
		go func() {
			_, _, err := h.client.SendRequest("keepalive@openssh.com", true, nil)
			answered <- err
		}()
		select {
		case <-done:
			return
		case err := <-answered:
			if err == nil {
				continue
			}
		case <-time.After(2 * alive):
		}

		h.client.Close()
		return
	}
}

// Close makes the command end: its input ends. One that does not end by itself is left with its host.
func (r *Running) Close() error {
	r.bound()
	return ignore(r.WriteCloser.Close())
}

// bound ends the command's time soon.
func (r *Running) bound() {
	r.once.Do(func() { r.kill = time.AfterFunc(dialTime, func() { r.h.client.Close() }) })
}

// Wait waits for the command's end, by itself or because it was asked for, and returns how it ended.
func (r *Running) Wait() error {
	r.bound()
	defer r.kill.Stop()
	defer close(r.done)
	if err := r.s.Wait(); err != nil {
		return r.h.failed(r.line, r.errs, err)
	}
	return nil
}

func ignore(err error) error {
	if errors.Is(err, io.EOF) { // it was closed already
		return nil
	}
	return err
}

// Put makes sure that a program lies on the host, at a path whose folder nobody but its account can write; if the
// same one lies there already, it is left.
func (h *Host) Put(program, at string) (copied bool, err error) {
	f, err := os.Open(program)
	if err != nil {
		return false, err
	}
	defer f.Close()

	head, sum := make([]byte, 20), sha256.New()
	if _, err := io.ReadFull(f, head); err != nil {
		return false, fmt.Errorf("%s: what is to be copied is no program: %w", program, err)
	}
	sum.Write(head)
	if _, err := io.Copy(sum, f); err != nil {
		return false, err
	}

	want := hex.EncodeToString(sum.Sum(nil))
	machine, err := h.Run(nil, "uname", "-s", "-m")
	if err != nil {
		return false, noShell(err)
	}
	if err := fits(machine, head); err != nil {
		return false, fmt.Errorf("%s: %w", h.a.Address, err)
	}

	there, err := h.Run(nil, "sh", "-c", safe+`
if [ -f "$1" ] && ! [ -L "$1" ] && [ "$(sha256sum < "$1")" = "$2  -" ]; then echo there; exit 0; fi
echo wanted`, "sh", at, want)
	if err != nil || strings.TrimSpace(there) == "there" {
		return false, noShell(err)
	}

	// The old one may be running: the new one takes its name.
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return false, err
	}

	_, err = h.Run(f, "sh", "-c", safe+`
mkdir -p "$3" || exit
above "$3"
cat > "$1.new" && [ "$(sha256sum < "$1.new")" = "$2  -" ] && chmod 700 "$1.new" && mv "$1.new" "$1"`, "sh", at, want,
		path.Dir(at))
	return err == nil, noShell(err)
}

// safe is the beginning of scripts that have a program run, or put where one is run.
//
//go:embed safe.sh
var safe string

// StartCopied starts a program that was put there, if it still is that one: it is opened, checked with all folders
// above it, hashed, and run by the same descriptor.
func (h *Host) StartCopied(program, at string, each func(line string), args ...string) (*Running, error) {
	want, err := hashOf(program)
	if err != nil {
		return nil, err
	}
	return h.Start(each, append([]string{"sh", "-c", safe + `
program=$1 want=$2
shift 2
! [ -L "$program" ] || refuse "$program"
exec 3< "$program" || exit 1
above "$(dirname "$program")"
own "$program"
[ "$(sha256sum < /proc/self/fd/3)" = "$want  -" ] || { echo "$program: it is not the program that was put there" >&2; exit 1; }
exec /proc/self/fd/3 "$@"`, "sh", at, want}, args...)...)
}

// CheckProgram reports whether somebody else could replace a program that lies there already. If the account may not
// run a shell there, only the host can say.
func (h *Host) CheckProgram(at string) error {
	plain := *h
	plain.a.Sudo = false
	_, err := plain.Run(nil, "sh", "-c", safe+`
me=0
[ -e "$1" ] || [ -L "$1" ] || exit 0
! [ -L "$1" ] && [ -f "$1" ] || refuse "$1"
above "$(dirname "$1")"
own "$1"
`, "sh", at)
	if err != nil && strings.Contains(err.Error(), "somebody else can put") {
		return err
	}
	return nil
}

func hashOf(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// errSudo says that sudo asks for a password.
var errSudo = errors.New("sudo asks for a password")

// noShell says what to do if a program cannot be copied for want of a shell as root: nobody is told to allow one.
func noShell(err error) error {
	if errors.Is(err, errSudo) {
		return fmt.Errorf(
			"to copy the program takes a shell as root there, which nobody should allow without a password: put "+
				"idletally there yourself, say where with --ssh-program, and allow that one command: %w",
			errSudo)
	}
	return err
}

// machines are uname's names of the machines that programs are built for, with those of ELF.
var machines = map[string]struct {
	name string
	elf  uint16
}{"x86_64": {"amd64", 62}, "aarch64": {"arm64", 183}}

// fits says why a program could not run there.
func fits(uname string, program []byte) error {
	system, machine, _ := strings.Cut(strings.TrimSpace(uname), " ")
	m, known := machines[machine]
	if system != "Linux" || !known {
		return fmt.Errorf("it is a %q: this program is built for Linux on x86_64 and aarch64", strings.TrimSpace(uname))
	}
	if len(program) < 20 || string(program[:4]) != "\x7fELF" {
		return errors.New("what is to be copied is no program")
	}
	if got := uint16(program[18]) | uint16(program[19])<<8; got != m.elf {
		return fmt.Errorf("it needs the program for linux/%s: this one is for %s; give the right one with --ssh-copy",
			m.name, other(got))
	}
	return nil
}

func other(elf uint16) string {
	for _, m := range machines {
		if m.elf == elf {
			return "linux/" + m.name
		}
	}
	return runtime.GOOS + " on another machine"
}
