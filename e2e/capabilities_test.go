//go:build linux

package e2e

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/demo"
	"idletally/internal/wire"
)

// The capabilities that the packaged units leave to agents are enough: to look at what others own and nobody
// else may read, and for the other agent to change owner, mode with set-ID bits, entries and file
// capabilities there.
func TestCapabilitiesOfUnits(t *testing.T) {
	t.Parallel()
	dir := folder(t)
	s, _ := bare(t, "127.0.0.1:0", "")
	admin, err := s.Crew(t.Context())
	must(t, err)
	root := filepath.Join(dir, "quay")
	inner := filepath.Join(root, "private")
	must(t, os.MkdirAll(inner, 0o700))
	for n := range 20 {
		must(t, os.WriteFile(filepath.Join(inner, fmt.Sprintf("f%02d", n)), nil, 0o600))
		must(t, os.Chown(filepath.Join(inner, fmt.Sprintf("f%02d", n)), 4711, 4711))
	}

	must(t, os.Chown(inner, 4711, 4711))
	must(t, os.Chown(root, 4711, 4711))
	must(t, os.Chmod(root, 0o700))
	inv, err := admin.Invite(t.Context(), wire.NewHost{Name: "quay", Tags: []string{"quay"}})
	must(t, err)
	own := filepath.Join(dir, "agent")
	if out, err := exec.Command(program, "agent", "enrol", "--folder", own, "--service", s.Address, "--authority",
		s.Authority(), "--code", inv.Code, "--root", root).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}

	author := as(t, s, "quartermaster")
	e, err := author.UploadBaseline(t.Context(),
		fmt.Sprintf(
			"idletally: 1\napplication: quay\ntitle: A quay\nhosts:\n  tags: [quay]\nroots:\n  - %s\nrules:\n  - "+
				"rule: all\n    paths: %s/**\n    owner: 4711\n",
			root, root))
	must(t, err)
	_, err = author.Publish(t.Context(), "quay", e.Number)
	must(t, err)

	must(t, os.Chmod(dir, 0o755))
	must(t, os.Chmod(filepath.Dir(program), 0o755)) // the account gets at the program
	look := unit(t, s, "idletally-look", own, "--look-only", "--watch=false")
	snap := snapshot(t, author, "quay", "quay")
	if ids, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", look.Pid())); err != nil ||
		!strings.Contains(string(ids), fmt.Sprintf("Uid:\t%d\t%[1]d", unprivileged)) {
		t.Errorf("it runs as somebody else: %s, %v", ids, err)
	}

	if snap.Paths != 22 || snap.Gaps != 0 {
		t.Errorf("the agent that looks sees %d paths and %d gaps", snap.Paths, snap.Gaps)
	}

	plan := func(changes string) wire.Run {
		t.Helper()
		p, err := author.DraftPlan(t.Context(), wire.Draft{
			Application: "quay",
			Hosts:       []string{"quay"},
			Changes:     changes,
		})
		must(t, err)
		return agreed(t, s, p)
	}

	const changes = "changes:\n  - paths: %s/private/*\n    set: {owner: 4712, group: 4713, files: 06750, entries: " +
		"[\"user:4714:r\"]}\n"
	if r := plan(fmt.Sprintf(changes, root)); r.Hosts[0].Done != 0 || r.State == "finished" {
		t.Errorf("the agent that only looks: %+v", r)
	}

	look.Stop()
	unit(t, s, "idletally-agent", own, "--watch=true")
	snapshot(t, author, "quay", "quay")
	if r := plan(fmt.Sprintf(changes, root)); r.State != "finished" || r.Hosts[0].Done != 20 {
		list, err := author.Results(t.Context(), r.ID, 30)
		t.Errorf("the agent that changes: %+v, %+v, %v", r, list, err)
	}

	var st unix.Stat_t
	must(t, unix.Stat(filepath.Join(inner, "f07"), &st))
	if st.Uid != 4712 || st.Gid != 4713 || st.Mode&0o7777 != 0o6750 {
		t.Errorf("%d:%d %o", st.Uid, st.Gid, st.Mode)
	}
}

var (
	bounded = regexp.MustCompile(`(?m)^CapabilityBoundingSet=(.*)$`)
	account = regexp.MustCompile(`(?m)^User=(.*)$`)
)

// unprivileged is the number of the account that units name, in these tests.
const unprivileged = 48_123

// unit runs an agent with what its unit leaves it, as far as that can be had without systemd.
func unit(t *testing.T, s *demo.Stage, name, folder string, flags ...string) *demo.Process {
	t.Helper()
	b, err := os.ReadFile("../packaging/files/" + name + ".service")
	must(t, err)
	m := bounded.FindSubmatch(b)
	if m == nil {
		t.Fatalf("%s bounds no capabilities", name)
	}

	set := "-all"
	for _, c := range strings.Fields(string(m[1])) {
		set += ",+" + strings.ToLower(strings.TrimPrefix(c, "CAP_"))
	}

	argv := []string{"--no-new-privs", "--bounding-set", set}
	owner := 0
	if account.Match(b) { // as systemd does, its folder becomes its own, and it has what is ambient
		owner = unprivileged
		argv = append(argv, "--reuid", strconv.Itoa(owner), "--regid", strconv.Itoa(owner), "--clear-groups",
			"--inh-caps", set, "--ambient-caps", set)
	}

	must(t, filepath.WalkDir(folder, func(path string, _ os.DirEntry, err error) error {
		return errors.Join(err, os.Lchown(path, owner, owner))
	}))
	cmd := exec.Command("setpriv", append(append(argv, program, "agent", "run", "--folder", folder), flags...)...)
	p, err := demo.Start(cmd)
	must(t, err)
	t.Cleanup(p.Stop)
	return p
}
