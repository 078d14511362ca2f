//go:build linux

package agent

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/host/probe"
	"idletally/internal/wire"
)

// A probe's child is this program once more.
func TestMain(m *testing.M) {
	probe.Main()
	os.Exit(m.Run())
}

// A question is answered within the host's own list of roots, and links do not lead out of it:
// neither what is there nor whether anything is there at all.
func TestAnswersStayInTheRoots(t *testing.T) {
	_, a, _, root := world(t)
	outside := t.TempDir()
	for _, err := range []error{
		os.MkdirAll(filepath.Join(root, "quay/berth"), 0o755),
		os.WriteFile(filepath.Join(root, "quay/log"), []byte("x"), 0o640),
		os.Mkdir(filepath.Join(outside, "secret"), 0o700), os.Symlink(outside, filepath.Join(root, "out")),
		os.Symlink("/", filepath.Join(root, "slash")), os.Symlink("quay", filepath.Join(root, "in")),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}

	const away = "own list of roots"
	for _, c := range []struct {
		kind, path, refused string
	}{
		{wire.AskPath, root + "/quay/log", ""},
		{wire.AskPath, root + "/in/log", ""},
		{wire.AskPath, root + "/out", ""}, // the link itself lies in the root
		{wire.AskPath, filepath.Dir(root), ""},
		{wire.AskPath, "/", ""},
		{wire.AskFolder, root + "/quay", ""},
		{wire.AskFolder, root + "/in/berth", ""},
		{wire.AskBelow, root, ""},
		{wire.AskProbe, root + "/quay/log", ""},
		{wire.AskPath, outside, away},
		{wire.AskPath, "/etc/passwd", away},
		{wire.AskPath, root + "/out/secret", away},
		{wire.AskPath, root + "/out/none", away},
		{wire.AskPath, root + "/slash/etc", away},
		{wire.AskFolder, filepath.Dir(root), away},
		{wire.AskFolder, root + "/out/secret", away},
		{wire.AskFolder, root + "/slash" + filepath.Dir(root), away},
		{wire.AskBelow, root + "/out/secret", away},
		{wire.AskBelow, root + "/slash" + filepath.Dir(root), away},
		{wire.AskProbe, root + "/out/secret", away},
		{wire.AskPath, root + "/quay/../quay", `".."`},
		{wire.AskPath, root + "/none", "it is not there"},
		{wire.AskFolder, root + "/quay/log", "not a folder"},
		{"sink", root, "is this agent older than the service?"},
	} {
		t.Run(c.kind, func(t *testing.T) {
			r, err := a.answer(t.Context(), wire.Question{
				Kind:      c.kind,
				Path:      pathname.Path(c.path),
				Account:   "root",
				Operation: access.Read,
				Limit:     10,
			})
			switch {
			case c.refused == "" && err != nil:
				t.Errorf("%s %s: %v", c.kind, c.path, err)
			case c.refused == "" && (r.Found == nil || r.Directory == nil):
				t.Errorf("%s %s: %+v", c.kind, c.path, r)
			case c.refused != "" && (err == nil || !strings.Contains(err.Error(), c.refused)):
				t.Errorf("%s %s: %v, want %q in it", c.kind, c.path, err, c.refused)
			case c.refused == away && strings.Contains(err.Error(), outside+"/") && c.path != outside:
				t.Errorf("%s %s: the error tells what is outside: %v", c.kind, c.path, err)
			}
		})
	}
}

// Accounts that the service has already are not sent again.
func TestAnswersWithKnownAccounts(t *testing.T) {
	_, a, _, root := world(t)
	q := wire.Question{Kind: wire.AskPath, Path: pathname.Path(root)}
	r, err := a.answer(t.Context(), q)
	if err != nil || r.Directory == nil || r.Hash == "" {
		t.Fatalf("%+v, %v", r, err)
	}
	q.Known = r.Hash
	if r, err = a.answer(t.Context(), q); err != nil || r.Directory != nil || r.Hash != q.Known {
		t.Errorf("%+v, %v", r, err)
	}
}

// However a link leads there, nothing outside of the host's own roots is opened, listed or looked at by any
// question: the system calls tell. All of it is refused with the same words, whether anything is there or
// not.
func TestNothingOutsideIsOpened(t *testing.T) {
	const marker = "outside-of-the-roots"
	if outside := os.Getenv("IDLETALLY_OUTSIDE"); outside != "" {
		askOutside(t, outside)
		return
	}

	outside := filepath.Join(t.TempDir(), marker)
	must(t, os.MkdirAll(filepath.Join(outside, "secret", "deeper"), 0o755))
	must(t, os.WriteFile(filepath.Join(outside, "key"), nil, 0o644))
	trace := filepath.Join(t.TempDir(), "trace")
	cmd := exec.Command("strace", "-f", "-y", "-qq", "-o", trace, "-e", "trace=%file,%desc", os.Args[0],
		"-test.run=^TestNothingOutsideIsOpened$", "-test.v")
	cmd.Env = append(os.Environ(), "IDLETALLY_OUTSIDE="+outside)
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "asked 24 questions") {
		t.Fatalf("%v: %s", err, out)
	}

	b, err := os.ReadFile(trace)
	must(t, err)
	calls := 0

	for line := range strings.Lines(string(b)) {
		_, call, _ := strings.Cut(line, " ")
		call = strings.TrimSpace(call)
		calls++
		if !strings.Contains(call, marker) {
			continue
		}

		// The links are made by the test, and read by the agent; what the test says goes to its output.
		if !strings.HasPrefix(call, "symlink") && !strings.HasPrefix(call, "readlink") &&
			!strings.HasPrefix(call, "write(1<") && !strings.HasPrefix(call, "write(2<") {
			t.Errorf("a system call reaches outside: %s", line)
		}
	}

	if calls < 100 {
		t.Errorf("%d calls were traced: this tries nothing", calls)
	}
}

func askOutside(t *testing.T, outside string) {
	_, a, _, root := world(t)
	for name, to := range map[string]string{
		"out":   outside,
		"slash": "/",
		"key":   filepath.Join(outside, "key"),
		"none":  filepath.Join(outside, "no such thing"),
		"twice": filepath.Join(root, "out"),
	} {
		must(t, os.Symlink(to, filepath.Join(root, name)))
	}

	asked, said := 0, map[string]bool{}
	for _, path := range []string{
		"/out/secret",
		"/out/none",
		"/slash" + outside,
		"/slash" + outside + "/secret/deeper",
		"/twice/secret",
		"/none/below",
	} {
		t.Run(path, func(t *testing.T) {
			for _, kind := range []string{wire.AskPath, wire.AskFolder, wire.AskBelow, wire.AskProbe} {
				t.Run(kind, func(t *testing.T) {
					_, err := a.answer(t.Context(), wire.Question{
						Kind:      kind,
						Path:      pathname.Path(root + path),
						Account:   "root",
						Operation: access.Read,
						Limit:     10,
					})

					if err == nil {
						t.Errorf("%s %s was answered", kind, path)
						return
					}

					asked++
					said[strings.ReplaceAll(err.Error(), pathname.Escape(root+path), "PATH")] = true
				})
			}
		})
	}

	if len(said) != 1 {
		t.Errorf("it is refused in several ways: %v", said)
	}

	t.Logf("asked %d questions", asked)
}

// A plan's roots are what the service says they are: none leads out of the host's own, however it is written, and no
// number of them costs more than the first few.
func TestFilesStayInTheRoots(t *testing.T) {
	_, a, _, root := world(t)
	outside := t.TempDir()
	secret := filepath.Join(outside, "secret")
	for _, err := range []error{
		os.WriteFile(filepath.Join(root, "log"), nil, 0o600),
		os.WriteFile(secret, nil, 0o600),
		os.Symlink(outside, filepath.Join(root, "out")),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}

	before := posix.State{UID: uint32(os.Getuid()), GID: uint32(os.Getgid()), Mode: 0o600}.Set()
	step := func(path string) []byte {
		return plan.EncodeChunk([]plan.Step{{
			Path: path, Kind: perm.File, Before: before, After: posix.State{Mode: 0o4755}.Set(),
		}})
	}
	up := root + strings.Repeat("/..", strings.Count(root, "/"))
	many := make([]pathname.Path, 100_000)
	for i := range many {
		many[i] = pathname.Path(root)
	}
	for _, c := range []struct {
		name, path string
		roots      []pathname.Path
		known      bool
	}{
		{"its own", root + "/log", nil, true},
		{"one of the plan's", root + "/log", []pathname.Path{pathname.Path(root)}, true},
		{"outside", secret, []pathname.Path{pathname.Path(outside)}, false},
		{"everything", secret, []pathname.Path{"/"}, false},
		{"up and out", up + secret, []pathname.Path{pathname.Path(up + outside)}, false},
		{"through a link", root + "/out/secret", []pathname.Path{pathname.Path(root + "/out")}, false},
		{"no path at all", root + "/log", []pathname.Path{"", "log", pathname.Path(root + "\x00")}, true},
		{"very many", root + "/log", many, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			r, err := a.answer(t.Context(), wire.Question{
				Kind: wire.AskFiles, Path: "/", Roots: c.roots, Steps: step(c.path),
			})
			known, decodeErr := plan.DecodeChunk(r.Steps)
			if err == nil && decodeErr != nil {
				t.Fatal(decodeErr)
			}
			if (len(known) == 1) != c.known {
				t.Errorf("%+v, left %+v, %v", known, r.Left, err)
			}
		})
	}
}
