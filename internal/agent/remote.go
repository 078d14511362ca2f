package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	mathrand "math/rand/v2"
	"net"
	"net/url"
	"os"
	"path"
	"time"

	"idletally/internal/carry"
	"idletally/internal/core/pathname"
	"idletally/internal/host/ssh"
	"idletally/internal/wire"
)

// A Remote is a host that is reached over SSH. Its agent runs there while somebody is signed in, and its calls reach
// the service through the command's input and output: the host needs no route of its own, and no port is open there
// or here.
type Remote struct {
	ssh.Access
	Folder  string `json:"folder"`            // the agent's own, there
	Program string `json:"program,omitempty"` // that lies there already; otherwise one is copied
	Copy    string `json:"copy,omitempty"`    // which is copied; otherwise this program itself
}

// What the two sides say to each other before connections are carried.
type (
	remoteJoin struct { // near
		Service   string   `json:"service"`
		Authority []byte   `json:"authority"`
		Roots     []string `json:"roots"` // escaped
	}
	remoteAnswer struct { // far: the request, and at the end nothing more
		Request []byte `json:"request,omitempty"`
		Version string `json:"version,omitempty"`
		Failed  string `json:"failed,omitempty"`
	}
)

func (r *Remote) secret() string { return "ssh key " + r.Key }

func (r *Remote) seal(folder string) (err error) {
	if r.Passphrase != "" {
		r.Sealed, err = seal(folder, r.secret(), r.Passphrase)
	}
	return err
}

func (r *Remote) unseal(folder string) (err error) {
	if len(r.Sealed) > 0 {
		r.Passphrase, err = unseal(folder, r.secret(), r.Sealed)
	}
	return err
}

// start starts the agent there, after making sure that its program is there.
func (r *Remote) start(h *ssh.Host, log *slog.Logger, args ...string) (*ssh.Running, error) {
	says := func(line string) { log.Info("remote", "says", pathname.Escape(line)) }
	args = append([]string{"agent", "stdio", "--folder", r.Folder}, args...)
	if r.Program == "" {
		self := r.Copy
		if self == "" {
			var err error
			if self, err = os.Executable(); err != nil {
				return nil, err
			}
		}

		program := path.Join(r.Folder, "program", "idletally")
		copied, err := h.Put(self, program)
		if err != nil {
			return nil, fmt.Errorf("copy the program: %w", err)
		}

		if copied {
			log.Info("program copied", "address", r.Address, "to", program)
		}

		return h.StartCopied(self, program, says, args...)
	}

	return h.Start(says, append([]string{r.Program}, args...)...)
}

// EnrolRemote enrols a host that is reached over SSH: the key of its certificate is made there, and stays there.
func EnrolRemote(
	ctx context.Context, j Joining, r *Remote, code, version string, log *slog.Logger,
) (host string, err error) {
	if s, err := Load(j.Folder); err == nil && s.Remote == nil {
		return "", fmt.Errorf("%s is of the agent %s already: give another --folder", j.Folder, s.Host)
	}
	h, err := ssh.Dial(ctx, r.Access)
	if err != nil {
		return "", err
	}
	defer h.Close()

	if r.Program != "" && r.Sudo {
		if err := h.CheckProgram(r.Program); err != nil {
			return "", err
		}
	}

	words := []string{"--enrol"}
	for _, root := range j.Roots {
		words = append(words, "--root", pathname.Escape(root))
	}

	run, err := r.start(h, log, words...)
	if err != nil {
		return "", err
	}

	got, err := j.through(ctx, run, code)
	if err != nil {
		run.Close()
	}

	if ended := run.Wait(); ended != nil && (err == nil || errors.Is(err, carry.ErrSilent)) {
		err = ended // which says why
	}

	if err != nil {
		return "", err
	}

	s := Settings{
		Service:   j.Service,
		Host:      got.Host,
		Authority: j.Authority,
		Roots:     pathname.EscapeAll(j.Roots),
		Remote:    r,
	}

	if err := prepare(j.Folder); err != nil {
		return "", err
	}
	if err := r.seal(j.Folder); err != nil {
		return "", err
	}

	return got.Host, s.save(j.Folder)
}

// through enrols whoever is at the other end.
func (j Joining) through(ctx context.Context, run *ssh.Running, code string) (got wire.Enrolled, err error) {
	line, err := carry.Near(run)
	if err != nil {
		return got, err
	}

	// asked sends something, and returns the host's answer.
	asked := func(message any) (a remoteAnswer, err error) {
		if err := errors.Join(line.Send(message), line.Receive(&a)); err != nil {
			return a, err
		}
		if a.Failed != "" {
			err = fmt.Errorf("the host: %s", pathname.Escape(a.Failed))
		}
		return a, err
	}

	request, err := asked(remoteJoin{Service: j.Service, Authority: j.Authority, Roots: pathname.EscapeAll(j.Roots)})
	if err != nil {
		return got, err
	}

	got, err = trade(ctx, j.Service, j.Authority, wire.Enrol{
		Code:    code,
		Request: request.Request,
		Version: request.Version,
	})
	if err != nil {
		return got, err
	}

	_, err = asked(got)
	return got, err
}

// Serve keeps a remote host's agent at work until the context ends.
func (s Settings) Serve(ctx context.Context, folder string, args []string, log *slog.Logger) error {
	free, err := lock(folder)
	if err != nil {
		return err
	}
	defer free()

	u, err := url.Parse(s.Service)
	if err != nil {
		return err
	}

	service := net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "443"))
	for fails := 0; ctx.Err() == nil; fails++ {
		begun := time.Now()
		err := s.serve(ctx, service, args, log)
		if ctx.Err() != nil {
			break
		}

		if time.Since(begun) > time.Minute {
			fails = 0
		}

		pause := time.Second + time.Duration(mathrand.Int64N(int64(min(time.Minute, time.Second<<min(fails, 8)))))
		log.Warn("will reach it again", "host", s.Host, "address", s.Remote.Address, "error", err, "pause",
			pause.Round(time.Millisecond))
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
	}

	return ctx.Err()
}

func (s Settings) serve(ctx context.Context, service string, args []string, log *slog.Logger) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()

	h, err := ssh.Dial(ctx, s.Remote.Access)
	if err != nil {
		return err
	}
	defer h.Close()

	log = log.With("host", s.Host)
	run, err := s.Remote.start(h, log, args...)
	if err != nil {
		return err
	}

	line, err := carry.Near(run)
	if err == nil {
		log.Info("remote agent reached", "address", s.Remote.Address, "as", s.Remote.User)
		err = line.Serve(ctx, func(ctx context.Context) (net.Conn, error) {
			conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", service)
			if err != nil {
				log.Warn("the service does not answer", "error", err)
			}
			return conn, err
		})
	}

	run.Close()
	if ended := run.Wait(); ended != nil {
		return ended
	}

	return err
}
