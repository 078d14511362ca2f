//go:build linux

package agent

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
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
		os.MkdirAll(filepath.Join(root, "quay/berth"), 0o755), os.WriteFile(filepath.Join(root, "quay/log"), []byte("x"), 0o640),
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
		r, err := a.answer(t.Context(), wire.Question{Kind: c.kind, Path: pathname.Path(c.path), Account: "root", Operation: access.Read, Limit: 10})
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
