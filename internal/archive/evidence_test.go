package archive

import (
	"bytes"
	"errors"
	"slices"
	"testing"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/tree"
	"idletally/internal/testkit"
)

// evidence is of a plan on two hosts, the first with two chunks.
func evidence(t testing.TB) (EvidenceHead, map[string][][]byte, []byte) {
	t.Helper()
	chunk := func(path string) []byte {
		return plan.EncodeChunk([]plan.Step{
			{Path: path, Kind: perm.File, Before: posix.State{Mode: 1}.Set(), After: posix.State{Mode: 2}.Set()},
		})
	}
	chunks := map[string][][]byte{
		"slip-north": {chunk("/srv/a"), chunk("/srv/b")},
		"slip-south": {chunk("/srv/c")},
	}
	m := plan.Manifest{Format: 1, ID: "06h0q8kqeb2mqz23", Kind: plan.Remediation, Application: "ticketing"}
	for _, host := range []string{"slip-north", "slip-south"} {
		part := plan.HostPart{Host: host, Roots: []string{"/srv"}}
		for _, b := range chunks[host] {
			part.Steps++
			part.Chunks = append(part.Chunks, tree.Sum(b))
		}
		m.Hosts = append(m.Hosts, part)
	}

	h := EvidenceHead{
		Manifest: m.Bytes(),
		Roster:   roster.Evidence{First: []byte("a roster"), Line: []roster.Step{}, Signed: []roster.Signed{}},
		Hosts:    []EvidenceHost{{Host: "slip-north", State: "finished", Done: 2}},
	}
	var out bytes.Buffer
	testkit.Must(t, WriteEvidence(&out, h, func(host string, n int) ([]byte, error) { return chunks[host][n], nil }))
	return h, chunks, out.Bytes()
}

// told reads evidence to its end.
func told(b []byte) (paths []string, head EvidenceHead, err error) {
	err = ReadEvidence(bytes.NewReader(b), func(h EvidenceHead, _ plan.Manifest) error {
		head = h
		return nil
	}, func(host string, list []plan.Step) error {
		for _, s := range list {
			paths = append(paths, host+s.Path)
		}
		return nil
	})
	return paths, head, err
}

// Evidence is read as it was written, and not at all where anything of it is another: steps that the manifest does not
// stand for, fewer of them, or more.
func TestEvidence(t *testing.T) {
	h, chunks, whole := evidence(t)
	paths, head, err := told(whole)
	if err != nil || len(paths) != 3 || paths[2] != "slip-south/srv/c" ||
		string(head.Roster.First) != "a roster" || head.Hosts[0].Done != 2 {
		t.Fatalf("%v, %+v, %v", paths, head, err)
	}

	for i := range whole {
		broken := bytes.Clone(whole)
		broken[i] ^= 0x10
		got, other, err := told(broken)
		if err == nil && (!slices.Equal(got, paths) || !bytes.Equal(other.Manifest, head.Manifest)) {
			t.Errorf("with byte %d of %d changed it says something else: %v", i, len(whole), got)
		}
		if _, _, err := told(whole[:i]); !errors.Is(err, ErrNoEvidence) {
			t.Errorf("cut off at %d: %v", i, err)
		}
	}

	for name, chunk := range map[string]func(host string, n int) ([]byte, error){
		"chunks in another order": func(host string, n int) ([]byte, error) {
			return chunks[host][len(chunks[host])-1-n], nil
		},
		"another host's": func(string, int) ([]byte, error) { return chunks["slip-south"][0], nil },
	} {
		t.Run(name, func(t *testing.T) {
			var out bytes.Buffer
			testkit.Must(t, WriteEvidence(&out, h, chunk))
			if _, _, err := told(out.Bytes()); !errors.Is(err, ErrNoEvidence) {
				t.Errorf("it is read: %v", err)
			}
		})
	}

	var more bytes.Buffer
	out, err := begin(&more, evidenceMark)
	testkit.Must(t, err)
	testkit.Must(t, out.piece([]byte(`{"manifest":"e30="}`)))
	testkit.Must(t, out.z.Close())
	if _, _, err := told(more.Bytes()); !errors.Is(err, ErrNoEvidence) {
		t.Errorf("a manifest that is none: %v", err)
	}
}

func FuzzEvidence(f *testing.F) {
	_, _, whole := evidence(f)
	f.Add(whole)
	f.Add([]byte(evidenceMark))
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, _, err := told(b); err != nil && !errors.Is(err, ErrNoEvidence) {
			t.Errorf("%v", err)
		}
	})
}
