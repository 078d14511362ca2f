//go:build linux

package agent

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/wire"
)

// Without any service a host puts back what a run changed, some of it or all, and leaves what is no longer
// as the run left it.
func TestPutBack(t *testing.T) {
	s, a, key, root := world(t)
	settings, err := json.Marshal(Settings{Host: "skiff", Roots: []string{pathname.Escape(root)}})
	must(t, err)
	must(t, os.WriteFile(filepath.Join(a.Folder, SettingsFile), settings, 0o600))
	state := func(m mode.Mode) perm.Set { return posix.State{Mode: m}.Set() }
	var steps []plan.Step
	file := func(i int) string { return filepath.Join(root, fmt.Sprintf("f%02d", i)) }
	for i := range 20 {
		must(t, os.WriteFile(file(i), nil, 0o600))
		steps = append(steps, plan.Step{Path: file(i), Kind: perm.File, Before: state(0o600), After: state(0o640)})
	}

	must(t, os.Chmod(file(3), 0o666)) // no longer as reviewed
	chunk := plan.EncodeChunk(steps)
	s.chunks = [][]byte{chunk}
	manifest := plan.Manifest{
		Format: 1,
		ID:     "p",
		Kind:   plan.Adjustment,
		Hosts: []plan.HostPart{
			{Host: "skiff", Roots: []string{pathname.Escape(root)}, Steps: 20, Chunks: []tree.Hash{plan.Digest(chunk)}},
		},
	}

	order, sig := plan.Order{
		Run:        "0123456789abcdef",
		Digest:     plan.Digest(manifest.Bytes()),
		Host:       "skiff",
		Author:     "a",
		ApprovedBy: []string{"b"},
		Expires:    time.Now().Add(time.Hour),
	}.Sign(key)

	must(t,
		a.do(t.Context(), &wire.Work{
			ID:        "w",
			Kind:      wire.WorkRun,
			Order:     order,
			Signature: sig,
			Manifest:  manifest.Bytes(),
		}))

	runs, faults := LocalRuns(a.Folder)
	if len(faults) > 0 || len(runs) != 1 || runs[0].Done != 19 || runs[0].Other != 1 || runs[0].Open != 0 ||
		!runs[0].Ended || !runs[0].Stored || runs[0].Host != "skiff" {
		t.Fatalf("%+v, %v", runs, faults)
	}

	modes := func() (out string) {
		for i := range 20 {
			st, err := os.Stat(file(i))
			must(t, err)
			out += fmt.Sprintf("%o ", st.Mode().Perm())
		}
		return out
	}

	some := func(p string) bool { return strings.HasPrefix(filepath.Base(p), "f0") }
	must(t, os.Chmod(file(5), 0o644)) // by somebody else, since
	b, err := PutBack(t.Context(), a.Folder, "0123456789abcdef", some, nil)
	if err != nil || b.Steps != 9 || b.Done != 8 || len(b.Results) != 1 || b.Results[0].Outcome != plan.Skipped ||
		b.Paths[0] != pathname.Escape(file(5)) {
		t.Errorf("%+v, %v", b, err)
	}

	if got, want := modes(),
		strings.Repeat("600 ", 3)+"666 600 644 "+strings.Repeat("600 ", 4)+strings.Repeat("640 ", 10); got != want {
		t.Errorf("%s, want %s", got, want)
	}

	// Putting back is a run, too, and can be put back itself.
	if _, err := PutBack(t.Context(), a.Folder, b.Run, func(p string) bool { return p == file(0) }, nil); err != nil {
		t.Error(err)
	}

	if st, _ := os.Stat(file(0)); st.Mode().Perm() != 0o640 {
		t.Errorf("put back twice: %v", st.Mode())
	}

	if runs, _ := LocalRuns(a.Folder); len(runs) != 3 || runs[0].Stored && runs[1].Stored {
		t.Errorf("%+v", runs)
	}

	for run, want := range map[string]string{"../../etc": "no name of a run", "0123456789abcdzz": "no such file"} {
		t.Run(run, func(t *testing.T) {
			if _, err := PutBack(t.Context(), a.Folder, run, some, nil); err == nil ||
				!strings.Contains(err.Error(), want) {
				t.Errorf("%s: %v", run, err)
			}
		})
	}

	// Beside an agent that works nothing is put back.
	free, err := lock(a.Folder)
	must(t, err)
	if _, err := PutBack(t.Context(), a.Folder, "0123456789abcdef", some, nil); err == nil ||
		!strings.Contains(err.Error(), "stop it first") {
		t.Errorf("beside an agent: %v", err)
	}

	free()

	// What is stored for long enough goes.
	old := time.Now().Add(-keepRuns - time.Hour)
	must(t, os.Chtimes(filepath.Join(a.Folder, "runs/0123456789abcdef/stored"), old, old))
	must(t, stow(filepath.Join(a.Folder, "runs"), b.Run))
	if runs, _ := LocalRuns(a.Folder); len(runs) != 2 {
		t.Errorf("%+v", runs)
	}

	journal := filepath.Join(a.Folder, "runs", b.Run, "journal")
	must(t, os.WriteFile(journal, []byte("no journal"), 0o600))
	if runs, faults := LocalRuns(a.Folder); len(runs) != 1 || len(faults) != 1 {
		t.Errorf("%+v, %v", runs, faults)
	}
}

// What of a journal cannot be read is told by path, the rest is put back, and a host that only looks is not
// changed at all.
func TestPutBackFromADamagedJournal(t *testing.T) {
	s, a, key, root := world(t)
	var steps []plan.Step
	for i := range 50 {
		path := filepath.Join(root, fmt.Sprintf("f%02d", i))
		must(t, os.WriteFile(path, nil, 0o600))
		steps = append(steps, plan.Step{
			Path:   path,
			Kind:   perm.File,
			Before: posix.State{Mode: 0o600}.Set(),
			After:  posix.State{Mode: 0o640}.Set(),
		})
	}

	chunk := plan.EncodeChunk(steps)
	s.chunks = [][]byte{chunk}
	manifest := plan.Manifest{
		Format: 1,
		ID:     "p",
		Kind:   plan.Adjustment,
		Hosts: []plan.HostPart{
			{Host: "skiff", Roots: []string{pathname.Escape(root)}, Steps: 50, Chunks: []tree.Hash{plan.Digest(chunk)}},
		},
	}

	order, sig := plan.Order{
		Run:        "0123456789abcdef",
		Digest:     plan.Digest(manifest.Bytes()),
		Host:       "skiff",
		Author:     "a",
		ApprovedBy: []string{"b"},
		Expires:    time.Now().Add(time.Hour),
	}.Sign(key)

	must(t,
		a.do(t.Context(), &wire.Work{
			ID:        "w",
			Kind:      wire.WorkRun,
			Order:     order,
			Signature: sig,
			Manifest:  manifest.Bytes(),
		}))

	journal := filepath.Join(a.Folder, "runs", "0123456789abcdef", "journal")
	b, err := os.ReadFile(journal)
	must(t, err)
	b[len(b)/4] ^= 1 // among the originals
	must(t, os.WriteFile(journal, b, 0o600))
	settings := func(lookOnly bool) {
		text, err := json.Marshal(Settings{Host: "skiff", Roots: []string{pathname.Escape(root)}, LookOnly: lookOnly})
		must(t, err)
		must(t, os.WriteFile(filepath.Join(a.Folder, SettingsFile), text, 0o600))
	}
	all := func(string) bool { return true }
	settings(true)
	if _, err := PutBack(t.Context(), a.Folder, "0123456789abcdef", all, nil); err == nil ||
		!strings.Contains(err.Error(), "only looks") {
		t.Errorf("on a host that only looks: %v", err)
	}

	settings(false)
	back, err := PutBack(t.Context(), a.Folder, "0123456789abcdef", all, nil)
	must(t, err)
	if back.Done != 49 || len(back.Lost) != 1 || back.Damage == "" || back.Whole() {
		t.Errorf("%+v", back)
	}

	for _, st := range steps {
		info, err := os.Stat(st.Path)
		must(t, err)
		if lost := pathname.Escape(st.Path) == back.Lost[0]; lost == (info.Mode().Perm() == 0o600) {
			t.Errorf("%s has %o", st.Path, info.Mode().Perm())
		}
	}
}
