//go:build linux

package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"idletally/internal/agent"
	"idletally/internal/carry"
	"idletally/internal/client"
	"idletally/internal/loopback"
	"idletally/internal/testkit/cable"
	"idletally/internal/testkit/sshkeys"
	"idletally/internal/tied"
	"idletally/internal/wire"
)

// door is a real SSH server of the system's packages on loopback, for this test alone.
type door struct {
	dir     string
	address string
	log     string
}

// openDoor starts it. What options say comes before what it has by itself.
func openDoor(t *testing.T, options ...string) *door {
	t.Helper()
	port, err := loopback.FreePort()
	must(t, err)
	d := &door{dir: folder(t), address: net.JoinHostPort("127.0.0.1", strconv.Itoa(port))}
	d.log = filepath.Join(d.dir, "log")

	for _, name := range []string{"host", "key"} {
		t.Run(name, func(t *testing.T) {
			sshkeys.New(t, filepath.Join(d.dir, name), "ed25519", "")
		})
	}

	public := d.read(t, "host.pub")
	fields := strings.Fields(public)
	must(t, os.WriteFile(d.at("known"), fmt.Appendf(nil, "[127.0.0.1]:%d %s %s\n", port, fields[0], fields[1]), 0o600))
	must(t, os.WriteFile(d.at("authorized"), []byte(d.read(t, "key.pub")), 0o600))
	conf := append(options, fmt.Sprintf("Port %d", port), "ListenAddress 127.0.0.1", "HostKey "+d.at("host"),
		"AuthorizedKeysFile "+d.at("authorized"), "PidFile none",
		"UsePAM no", "StrictModes no", "PasswordAuthentication no", "KbdInteractiveAuthentication no",
		"PermitRootLogin prohibit-password", "DisableForwarding yes", "LogLevel VERBOSE")
	must(t, os.WriteFile(d.at("conf"), []byte(strings.Join(conf, "\n")+"\n"), 0o600))
	must(t, os.MkdirAll("/run/sshd", 0o755)) // the server goes there before it knows who comes
	cmd := exec.Command("/usr/sbin/sshd", "-D", "-f", d.at("conf"), "-E", d.log)
	process, err := tied.Start(cmd)
	must(t, err)
	t.Cleanup(func() {
		_ = cmd.Process.Kill() // its children end with their connections
		_ = process.Wait()
	})

	for range 100 {
		c, err := net.Dial("tcp", d.address)
		if err == nil {
			c.Close()
			return d
		}
		time.Sleep(50 * time.Millisecond)
	}

	t.Fatalf("no SSH server: %s", d.read(t, "log"))
	return nil
}

func (d *door) at(name string) string { return filepath.Join(d.dir, name) }

func (d *door) read(t *testing.T, name string) string {
	t.Helper()
	b, err := os.ReadFile(d.at(name))
	must(t, err)
	return string(b)
}

// entered counts who signed in so far.
func (d *door) entered(t *testing.T) int {
	return strings.Count(d.read(t, "log"), "Accepted publickey")
}

// attend keeps a remote agent at work until the test ends, or the returned function is called.
func attend(t *testing.T, flags ...string) (log *logBook, stop func()) {
	t.Helper()
	log = &logBook{}
	cmd := exec.Command(program, append([]string{"agent", "run"}, flags...)...)
	cmd.Stderr = log
	process, err := tied.Start(cmd)
	must(t, err)
	ended := false
	stop = func() {
		if ended {
			return
		}

		ended = true
		_ = cmd.Process.Signal(os.Interrupt)
		select {
		case <-process.Exited():
			if err := process.Wait(); err != nil {
				t.Errorf("agent run: %v\n%s", err, log.tail())
			}
		case <-time.After(40 * time.Second):
			t.Error("agent run does not end")
			_ = cmd.Process.Kill()
			_ = process.Wait()
		}
	}

	t.Cleanup(stop)
	return log, stop
}

// eventually waits until something holds.
func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for end := time.Now().Add(patience); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if holds() {
			return
		}
	}
	t.Fatalf("never: %s", what)
}

// A host that is reached over SSH, without any agent of its own before: enrolled, looked at, changed and put
// back, with its way cut in the middle of a run, its service started anew, and its program newer.
func TestOverSSH(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, admin := crewed(t)
	c := as(t, s, "quartermaster")
	d := openDoor(t)
	line, err := cable.New(d.address)
	must(t, err)
	defer line.Close()

	host, port, err := net.SplitHostPort(line.Address)
	must(t, err)
	must(t,
		os.WriteFile(d.at("known"),
			[]byte(strings.ReplaceAll(d.read(t, "known"), strings.TrimPrefix(d.address, host+":"), port)), 0o600))
	must(t, os.WriteFile(d.at("unknown"), nil, 0o600))
	root := folder(t)
	near := filepath.Join(folder(t), "near")
	far := filepath.Join(folder(t), "far")
	const files = 3000
	for n := range files {
		must(t, os.WriteFile(filepath.Join(root, fmt.Sprintf("bill-%04d", n)), nil, 0o644))
	}

	inv, err := admin.Invite(ctx, wire.NewHost{Name: "pontoon"})
	must(t, err)
	who := command{t: t, s: s, person: "admin"}
	enrol := func(more ...string) []string {
		return append([]string{
			"agent",
			"enrol",
			"--service",
			s.Address,
			"--authority",
			s.Authority(),
			"--code",
			inv.Code,
			"--root",
			root,
			"--folder",
			near,
			// the system's own, which lets root become root
			"--ssh",
			"root@" + line.Address,
			"--ssh-key",
			d.at("key"),
			"--ssh-folder",
			far,
			"--ssh-known-hosts",
			d.at("known"),
			"--ssh-sudo",
		}, more...)
	}

	who.want(1, "is not known: compare it", enrol("--ssh-known-hosts", d.at("unknown"))...)
	who.want(1, "others can read it", enrol("--ssh-key", d.at("key.pub"))...)
	who.want(1, "command not found", enrol("--ssh-program", "/nowhere/idletally")...)
	who.want(1, "is no program", enrol("--ssh-copy", d.at("conf"))...)
	who.want(2, "--ssh-folder", enrol("--ssh-folder", "here")...)
	who.want(2, "want USER@HOST", enrol("--ssh", "a:b:c")...)
	if _, err := os.Stat(far); err == nil {
		t.Error("something lies on the host, before it could be enrolled")
	}

	open := filepath.Join(folder(t), "open")
	must(t, os.MkdirAll(filepath.Join(open, "program"), 0o777))
	must(t, os.Chmod(filepath.Join(open, "program"), 0o777))
	who.want(1, "somebody else can put another program there", enrol("--ssh-folder", open)...)
	who.want(0, "Enrolled as host pontoon", enrol()...)
	who.want(1, "it is enrolled already", enrol("--folder", near+"2")...)
	here, err := agent.Load(near)
	if err != nil || len(here.Key) > 0 || here.Remote == nil {
		t.Errorf("the key of the host's certificate left it: %+v, %v", here.Remote, err)
	}

	there, err := agent.Load(far)
	if err != nil || len(there.Key) == 0 || there.Host != "pontoon" || len(there.Roots) != 1 {
		t.Errorf("%+v, %v", there.Roots, err)
	}

	examine := []string{"doctor", "--data", filepath.Join(near, "nothing"), "--folder", near}
	who.want(0, "host pontoon is reached over SSH at "+line.Address+" as root", examine...)
	line.Pull()
	who.want(1, "not so: host pontoon is reached", examine...)
	line.Plug()
	_, stop := attend(t, "--folder", near)
	look := func() wire.Snapshot {
		t.Helper()
		snap, err := c.TakeSnapshot(ctx, wire.NewSnapshot{
			Application: "billing",
			Host:        "pontoon",
			Roots:       []string{root},
		})
		must(t, err)
		awaitSnapshot(t, c, snap.ID)
		snap, err = c.Snapshot(ctx, snap.ID)
		must(t, err)
		return snap
	}

	first := look()
	if first.Paths != files+1 {
		t.Errorf("%d paths", first.Paths)
	}

	viewer := command{t: t, s: s, person: "quartermaster"}
	viewer.login()
	viewer.want(0, "0644", "path", "show", filepath.Join(root, "bill-0001"), "--host", "pontoon")

	// The service starts anew; the one at the other end stays.
	entered := d.entered(t)
	s.Service.Kill()
	must(t, s.Serve(ctx, strings.TrimPrefix(s.Address, "https://"), ""))
	if again := look(); again.Root != first.Root || d.entered(t) != entered {
		t.Errorf("after the service's end the host was entered %d times more", d.entered(t)-entered)
	}

	// The way is cut in the middle of a run.
	p, err := c.DraftPlan(ctx, wire.Draft{
		Application: "billing",
		Hosts:       []string{"pontoon"},
		Changes:     fmt.Sprintf("changes: [{paths: %s/bill-*, set: {files: 0600}}]", root),
	})
	must(t, err)
	approved(t, s, p)
	r, err := c.StartRun(ctx, p.ID)
	must(t, err)
	eventually(t, "the run has begun", func() bool {
		st, err := os.Stat(filepath.Join(root, "bill-0000"))
		return err == nil && st.Mode().Perm() == 0o600
	})
	line.Pull()
	time.Sleep(500 * time.Millisecond)
	line.Plug()
	r = ended(t, c, r.ID)
	if r.State != "finished" || r.Hosts[0].Done != files {
		t.Errorf("%+v", r)
	}

	if again := d.entered(t); again == entered {
		t.Error("the way was not cut")
	}

	back, err := c.DraftPlan(ctx, wire.Draft{Run: r.ID})
	must(t, err)
	if r := agreed(t, s, back); r.State != "finished" || r.Hosts[0].Done != files {
		t.Errorf("put back: %+v", r)
	}

	if again := look(); again.Root != first.Root {
		t.Error("it is not as it was")
	}

	stop()
	eventually(t, "nobody is left there", func() bool {
		return exec.Command("pgrep", "-f", "agent stdio --folder "+far).Run() != nil
	})

	// Another program takes the old one's place.
	must(t, os.WriteFile(filepath.Join(far, "program", "idletally"), []byte("#!/bin/sh\nexit 7\n"), 0o700))
	attend(t, "--folder", near, "--look-only")
	look()
	run := agreed(t, s, func() wire.Plan {
		p, err := c.DraftPlan(ctx, wire.Draft{
			Application: "billing",
			Hosts:       []string{"pontoon"},
			Changes:     fmt.Sprintf("changes: [{paths: %s/bill-0001, set: {files: 0600}}]", root),
		})
		must(t, err)
		return p
	}())

	if run.Hosts[0].State != "failed" || !strings.Contains(run.Hosts[0].Message, "only looks") {
		t.Errorf("what the near one was told does not hold there: %+v", run.Hosts[0])
	}
}

// The key opens nothing but the one command, and that may do it as root; it neither enrols the host anew nor
// goes anywhere else.
func TestOverSSHByOneCommand(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	s, admin := crewed(t)
	stand := folder(t) // of sudo: it must be asked not to ask, and lets one command through
	far := filepath.Join(folder(t), "far")
	near := filepath.Join(folder(t), "near")
	root := folder(t)
	allowed := fmt.Sprintf("%s agent stdio --folder %s", program, far)
	must(t, os.WriteFile(filepath.Join(stand, "sudo"), fmt.Appendf(nil, `#!/bin/sh
echo "$*" >> %[1]s/asked
[ "$1 $2" = "-n --" ] || exit 9
shift 2
case "$*" in "%[2]s" | "%[2]s --enrol --root %[3]s") exec "$@" ;; esac
echo "sudo: a password is required" >&2
exit 1
`, stand, allowed, root), 0o755))

	d := openDoor(t, "SetEnv PATH="+stand+":/usr/bin:/bin")
	inv, err := admin.Invite(ctx, wire.NewHost{Name: "pontoon"})
	must(t, err)
	who := command{t: t, s: s, person: "admin"}
	enrol := []string{
		"agent", "enrol", "--service", s.Address, "--authority", s.Authority(), "--code", inv.Code, "--root", root,
		"--folder", near, "--ssh", d.address,
		"--ssh-key", d.at("key"), "--ssh-folder", far, "--ssh-known-hosts", d.at("known"), "--ssh-sudo",
	}
	who.want(1, "--ssh-program", enrol...) // to copy the program takes more than nobody should allow
	who.want(0, "Enrolled", append(enrol, "--ssh-program", program)...)

	// From here on the host lets the key do nothing else, whatever it is asked for.
	must(t,
		os.WriteFile(d.at("authorized"), []byte(`restrict,command="sudo -n -- `+allowed+`" `+d.read(t, "key.pub")),
			0o600))
	broken := filepath.Join(filepath.Dir(near), "broken") // beside it one that cannot work
	must(t, os.Mkdir(broken, 0o700))
	must(t, os.WriteFile(filepath.Join(broken, "agent.json"), []byte("{"), 0o600))
	log, _ := attend(t, "--each", filepath.Dir(near))
	c := as(t, s, "quartermaster")
	snap, err := c.TakeSnapshot(ctx, wire.NewSnapshot{Application: "billing", Host: "pontoon", Roots: []string{root}})
	must(t, err)
	awaitSnapshot(t, c, snap.ID)
	if !strings.Contains(log.tail(), `"folder":"`+broken+`"`) {
		t.Errorf("of the one that cannot work nothing is said: %s", log.tail())
	}

	inv, err = admin.Invite(ctx, wire.NewHost{Name: "pontoon"})
	must(t, err)
	enrol[8] = inv.Code
	must(t, os.RemoveAll(near+"2"))
	out, errs, code := who.run("", append(enrol, "--ssh-program", program, "--folder", near+"2", "--root", "/")...)
	if code == 0 {
		t.Errorf("whoever has the key enrols the host anew: %s%s", out, errs)
	}

	if s, err := agent.Load(far); err != nil || len(s.Roots) != 1 || s.Roots[0] != root {
		t.Errorf("%+v, %v", s.Roots, err)
	}

	for _, line := range strings.Split(
		strings.TrimSpace(func() string { b, _ := os.ReadFile(filepath.Join(stand, "asked")); return string(b) }()),
		"\n") {
		if !strings.HasPrefix(line, "-n -- ") {
			t.Errorf("sudo is asked for %s", line)
		}
	}
}

// Who stands at the other end of the agent's input and output and is nobody that it knows gets nothing from it.
func TestStdioWithStrangers(t *testing.T) {
	t.Parallel()
	for what, stdin := range map[string]string{
		"nothing":    "",
		"rubbish":    strings.Repeat("rubbish\n", 100),
		"no message": strings.Repeat("x", 2<<20),
		"no roots":   `{"service":"https://127.0.0.1:1"}` + "\n",
	} {
		t.Run(what, func(t *testing.T) {
			dir := filepath.Join(t.TempDir(), "far")
			ctx, cancel := context.WithTimeout(t.Context(), patience)
			defer cancel()
			cmd := exec.CommandContext(ctx, program, "agent", "stdio", "--enrol", "--folder", dir, "--root", "/srv")
			if what == "no roots" {
				cmd.Args = cmd.Args[:6]
			}

			cmd.Stdin = strings.NewReader(stdin)
			var out bytes.Buffer
			cmd.Stdout = &out
			err := cmd.Run()
			var exit *exec.ExitError
			if err != nil && !errors.As(err, &exit) || ctx.Err() != nil {
				t.Errorf("%s: %v", what, err)
			}

			if _, err := os.Stat(filepath.Join(dir, "agent.json")); err == nil {
				t.Errorf("%s: it is enrolled", what)
			}

			if what == "no roots" && !strings.Contains(out.String(), "--root") {
				t.Errorf("%s: %s", what, out.String())
			}
		})
	}
}

// Who begins to enrol a host and waits until somebody else has enrolled it does not enrol it anew; nor is
// more asked for than the host allows.
func TestEnrolledOnce(t *testing.T) {
	t.Parallel()
	s, admin := crewed(t)
	far, root := filepath.Join(folder(t), "far"), folder(t)
	begin := func(asked string) (line *carry.Line, ended func() string) {
		cmd := exec.Command(program, "agent", "stdio", "--enrol", "--folder", far, "--root", root)
		in, err := cmd.StdinPipe()
		must(t, err)
		out, err := cmd.StdoutPipe()
		must(t, err)
		var errs bytes.Buffer
		cmd.Stderr = &errs
		must(t, cmd.Start())
		line, err = carry.Near(struct {
			io.Reader
			io.WriteCloser
		}{out, in})
		must(t, err)
		must(t,
			line.Send(map[string]any{"service": s.Address, "authority": authorityOf(t, s), "roots": []string{asked}}))
		return line, func() string {
			_ = line.Close()
			_ = cmd.Wait()
			return errs.String()
		}
	}

	var answer struct {
		Request []byte
		Failed  string
	}
	line, ended := begin("/")
	must(t, line.Receive(&answer))
	if !strings.Contains(answer.Failed, "this host allows") {
		t.Errorf("all of the host was asked for: %+v", answer)
	}

	ended()

	held, heldEnds := begin(root)
	answer.Failed = ""
	must(t, held.Receive(&answer))
	if answer.Failed != "" || len(answer.Request) == 0 {
		t.Fatalf("%+v", answer)
	}

	other, otherEnds := begin(root)
	must(t, other.Receive(&answer))
	if !strings.Contains(answer.Failed, "another agent works with") {
		t.Errorf("two at once: %+v", answer)
	}

	otherEnds()

	// Meanwhile the host is enrolled on itself.
	inv, err := admin.Invite(t.Context(), wire.NewHost{Name: "pontoon"})
	must(t, err)
	_, err = agent.Enrol(t.Context(),
		agent.Joining{Folder: far, Service: s.Address, Authority: authorityOf(t, s), Roots: []string{root}}, inv.Code,
		"test")
	must(t, err)
	kept, err := os.ReadFile(filepath.Join(far, "agent.json"))
	must(t, err)
	inv, err = admin.Invite(t.Context(), wire.NewHost{Name: "pontoon"})
	must(t, err)
	api, err := client.NewAgent(s.Address, authorityOf(t, s), nil)
	must(t, err)
	got, err := api.Enrol(t.Context(), wire.Enrol{Code: inv.Code, Request: answer.Request, Version: "test"})
	must(t, err)
	must(t, held.Send(got))
	answer.Failed = ""
	must(t, held.Receive(&answer))
	if !strings.Contains(answer.Failed, "enrolled already") {
		t.Errorf("the held one: %+v", answer)
	}

	heldEnds()
	if now, err := os.ReadFile(filepath.Join(far, "agent.json")); err != nil || string(now) != string(kept) {
		t.Errorf("its settings are others: %s, %v", now, err)
	}
}
