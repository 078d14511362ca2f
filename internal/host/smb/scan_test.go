//go:build linux

package smb

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/host/fileserver"
	"idletally/internal/samba"
)

// nodes keeps what a scan finds.
type nodes struct {
	mu sync.Mutex
	m  map[tree.Hash][]byte
}

func (n *nodes) put(h tree.Hash, b []byte) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.m == nil {
		n.m = map[tree.Hash][]byte{}
	}
	n.m[h] = b
	return nil
}

func (n *nodes) Nodes(_ context.Context, hashes []tree.Hash) (out [][]byte, err error) {
	for _, h := range hashes {
		b, ok := n.m[h]
		if !ok {
			err = errors.New("a node is missing")
		}
		out = append(out, b)
	}
	return out, err
}

func TestScan(t *testing.T) {
	people(t)
	keeper := dial(t, "keeper", "charts")
	must(t, keeper.s.MkdirAll(`tree\deep\deeper`, 0o777))
	for i := range 1200 { // more than a batch
		must(t, keeper.s.WriteFile(fmt.Sprintf(`tree\chart %04d.txt`, i), nil, 0o666))
	}

	must(t, keeper.s.WriteFile(`tree\deep\deeper\Übersicht.txt`, nil, 0o666))
	set(t, keeper, `tree\chart 0007.txt`, "D:P(A;;FR;;;AU)", fileserver.SetList)
	s, err := Dial(t.Context(), Access{Address: server.Address(), User: "keeper", Password: password})
	must(t, err)
	defer s.Close()

	var n nodes
	told := int64(0)
	found, err := fileserver.Scan(
		t.Context(),
		s,
		[]string{"/charts/tree", "/nowhere"},
		func(p int64) { told = p },
		n.put,
	)
	must(t, err)
	if found.Paths != 1+1+1200+3 || found.Gaps != 1 || len(found.Denied) != 1 ||
		found.Denied[0].Path != "/nowhere" || !strings.Contains(found.Denied[0].Reason, "no such share") ||
		told == 0 {
		t.Errorf("%+v", found)
	}

	kinds := map[string]string{}
	must(t, tree.Walk(t.Context(), &n, found.Forest, func(path string, e tree.Entry) error {
		v := perm.Describe(e.Kind, e.Set, nil)
		kinds[path] = e.Kind.String() + " " + v.Inheritance + " " + strings.Join(v.Entries, " | ")
		return nil
	}))
	for path, want := range map[string]string{
		"/charts/tree/chart 0007.txt":            "file stopped allow authenticated: read",
		"/charts/tree/chart 0008.txt":            "file from above allow everyone: full",
		"/charts/tree/deep/deeper":               "folder from above allow everyone: full",
		"/charts/tree/deep/deeper/Übersicht.txt": "file from above allow everyone: full",
		"/nowhere": "folder  ",
	} {
		t.Run(path, func(t *testing.T) {
			if kinds[path] != want {
				t.Errorf("%s is %q, want %q", path, kinds[path], want)
			}
		})
	}

	if len(kinds) != 1+1+1200+3 {
		t.Errorf("%d paths", len(kinds))
	}

	again, err := fileserver.Scan(t.Context(), s, []string{"/charts/tree", "/nowhere"}, nil, (&nodes{}).put)
	if err != nil || again.Forest != found.Forest {
		t.Errorf("the same tree is %s, then %s: %v", found.Forest, again.Forest, err)
	}

	set(t, keeper, `tree\deep\deeper`, "D:P(A;OICI;FA;;;BA)", fileserver.SetList)
	again, err = fileserver.Scan(t.Context(), s, []string{"/charts/tree"}, nil, (&nodes{}).put)
	if err != nil || again.Forest == found.Forest {
		t.Errorf("a change is not seen: %v", err)
	}

	// Somebody who may not read a folder sees a gap.
	stoker, err := Dial(t.Context(), Access{Address: server.Address(), User: "stoker", Password: password})
	must(t, err)
	defer stoker.Close()

	f, err := fileserver.Scan(t.Context(), stoker, []string{"/charts/tree"}, nil, (&nodes{}).put)
	if err != nil || f.Gaps == 0 || !strings.Contains(f.Denied[0].Reason, "denies access") {
		t.Errorf("%+v, %v", f, err)
	}
}

// A server that goes away in the middle ends a scan, soon, and with words for it.
func TestServerGone(t *testing.T) {
	dir := t.TempDir()
	must(t, os.Chmod(dir, 0o755))
	own, err := samba.Start(t.Context(), dir, samba.World{
		Accounts: []samba.Account{{Name: "keeper", Password: password, Keeper: true}},
		Shares:   []samba.Share{{Name: "charts"}},
	})
	must(t, err)
	stopped := false
	defer func() {
		if !stopped {
			own.Stop()
		}
	}()

	for i := range 300 {
		must(t, os.MkdirAll(filepath.Join(own.Share("charts"), fmt.Sprintf("folder %03d", i), "inside"), 0o777))
	}

	access := Access{Address: own.Address(), User: "keeper", Password: password, Patience: 3 * time.Second}
	s, err := Dial(t.Context(), access)
	must(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	if _, err := fileserver.Scan(ctx, s, []string{"/charts"}, func(int64) { cancel() }, (&nodes{}).put); err == nil {
		t.Error("a scan that was given up has a result")
	}

	// Many folders at once, and nothing is left out.
	for range 5 {
		f, err := fileserver.Scan(t.Context(), s, []string{"/charts"}, nil, (&nodes{}).put)
		if err != nil || f.Gaps > 0 || f.Paths != 1+600 {
			t.Fatalf("%+v, %v", f, err)
		}
	}

	begun := time.Now()
	var once sync.Once
	f, err := fileserver.Scan(t.Context(), s, []string{"/charts"}, func(p int64) {
		if p > 350 {
			once.Do(own.Stop)
			stopped = true
		}
	}, (&nodes{}).put)

	if !errors.Is(err, fileserver.ErrLost) {
		t.Errorf("the server went away in the middle, and the scan says %+v, %v", f, err)
	}

	if took := time.Since(begun); took > 20*time.Second {
		t.Errorf("that took %v to find out", took)
	}

	if _, err := Dial(t.Context(), access); err == nil || !strings.Contains(err.Error(), own.Address()) {
		t.Errorf("a server that is gone: %v", err)
	}

	_ = s.Close()
}

// Paths of thousands of characters are scanned and changed; so are shares whose files carry no NT lists of their own.
func TestLongPathAndPlainShare(t *testing.T) {
	t.Parallel()
	long := "long-paths"
	for i := range 14 {
		long = filepath.Join(long, fmt.Sprintf("%02d-%s", i, strings.Repeat("x", 200)))
	}

	at := filepath.Join(server.Share("charts"), filepath.Dir(long))
	must(t, os.MkdirAll(at, 0o777))
	must(t, os.WriteFile(filepath.Join(server.Share("charts"), long), nil, 0o666))
	must(t, os.WriteFile(filepath.Join(server.Share("plain"), "as the file system has it"), nil, 0o640))
	s, err := Dial(t.Context(), Access{Address: server.Address(), User: "keeper", Password: password})
	must(t, err)
	defer s.Close()

	found, err := fileserver.Scan(t.Context(), s, []string{"/charts/long-paths"}, nil, (&nodes{}).put)
	if err != nil || found.Paths != 15 || found.Gaps != 0 {
		t.Errorf("%+v, %v", found, err)
	}

	keeper := dial(t, "keeper", "charts")
	name := strings.ReplaceAll(long, "/", `\`)
	set(t, keeper, name, "D:P(A;;FA;;;BA)", fileserver.SetList)
	if seen, err := keeper.Look(name); err != nil || len(seen.Descriptor.Entries) != 1 {
		t.Errorf("%d characters: %+v, %v", len(name), seen.Descriptor, err)
	}

	found, err = fileserver.Scan(t.Context(), s, []string{"/plain"}, nil, (&nodes{}).put)
	if err != nil || found.Paths != 2 || found.Gaps != 0 || len(found.SIDs) == 0 {
		t.Errorf("%+v, %v", found, err)
	}
}
