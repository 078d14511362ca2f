//go:build linux

package agent

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"idletally/internal/archive"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/succession"
	"idletally/internal/core/tree"
	"idletally/internal/wire"
)

// An order by a newer key comes with what leads to that key: it is carried out, and from then on the one
// before signs nothing here. What leads to somebody else's key is followed by nobody.
func TestOrdersByANewerKey(t *testing.T) {
	s, a, first, root := world(t)
	if err := a.Settings.save(a.Folder); err != nil {
		t.Fatal(err)
	}

	p := filepath.Join(root, "file")
	if err := os.WriteFile(p, nil, 0o600); err != nil {
		t.Fatal(err)
	}

	_, second, _ := ed25519.GenerateKey(nil)
	_, thief, _ := ed25519.GenerateKey(nil)
	public := func(k ed25519.PrivateKey) ed25519.PublicKey { return k.Public().(ed25519.PublicKey) }
	leads := []succession.Handover{succession.Next(first, public(second), time.Now())}
	stolen := []succession.Handover{succession.Next(thief, public(thief), time.Now())}
	stolen[0].From = public(first)
	astray := append(leads[:1:1], succession.Next(thief, public(thief), time.Now()))
	step := plan.Step{
		Path:   p,
		Kind:   perm.File,
		Before: posix.State{Mode: 0o600}.Set(),
		After:  posix.State{Mode: mode.Mode(0o640)}.Set(),
	}

	chunk := plan.EncodeChunk([]plan.Step{step})
	manifest := plan.Manifest{
		Format: 1,
		ID:     "p",
		Kind:   plan.Adjustment,
		Hosts: []plan.HostPart{
			{Host: "skiff", Roots: []string{root}, Steps: 1, Chunks: []tree.Hash{plan.Digest(chunk)}},
		},
	}

	for i, x := range []struct {
		what string
		key  ed25519.PrivateKey
		line []succession.Handover
		says string // "" where it is carried out
	}{
		{"by the newer key, with nothing that leads there", second, nil, "signature"},
		{"by a thief, with their own word", thief, stolen, "do not follow on each other"},
		{"by a thief, behind a step that is true", thief, astray, "do not follow on each other"},
		{"by the key that is known", first, nil, ""},
		{"by the newer key", second, leads, ""},
		{"by the newer key again, which is known now", second, nil, ""},
		{"by the one before", first, nil, "signature"},
		{"by the one before, with what leads away from it", first, leads, "signature"},
	} {
		t.Run(x.what, func(t *testing.T) {
			if err := os.Chmod(p, 0o600); err != nil {
				t.Fatal(err)
			}

			o := plan.Order{
				Run:        "0123456789abcde" + string(rune('a'+i)),
				Digest:     plan.Digest(manifest.Bytes()),
				Host:       "skiff",
				Author:     "a",
				ApprovedBy: []string{"b"},
				Expires:    time.Now().Add(time.Hour),
			}

			order, sig := o.Sign(x.key)
			s.chunks, s.ended = [][]byte{chunk}, nil
			if err := a.do(t.Context(), &wire.Work{
				ID:         "w",
				Kind:       wire.WorkRun,
				Order:      order,
				Signature:  sig,
				Manifest:   manifest.Bytes(),
				Succession: x.line,
			}); err != nil {
				t.Fatal(err)
			}

			st, err := os.Stat(p)
			if err != nil {
				t.Fatal(err)
			}

			if x.says == "" && (s.ended[0].State != lifecycle.PartFinished || st.Mode().Perm() != 0o640) ||
				x.says != "" && (!strings.Contains(s.ended[0].Message, x.says) || st.Mode().Perm() != 0o600) {
				t.Errorf("%s: %+v, %v", x.what, s.ended, st.Mode())
			}
		})
	}

	kept, err := Load(a.Folder)
	if err != nil || !bytes.Equal(kept.OrderKey, public(second)) {
		t.Errorf("kept: %x, %v", kept.OrderKey, err)
	}
}

// A host that is let in by files again: by a newer key where the one that it knows leads there, and by no other.
func TestJoinByANewerKey(t *testing.T) {
	_, first, _ := ed25519.GenerateKey(nil)
	_, second, _ := ed25519.GenerateKey(nil)
	public := func(k ed25519.PrivateKey) ed25519.PublicKey { return k.Public().(ed25519.PublicKey) }
	leads := []succession.Handover{succession.Next(first, public(second), time.Now())}

	for what, x := range map[string]struct {
		line []succession.Handover
		says string
	}{"a key that follows": {leads, ""}, "another key": {nil, "another key signs its orders"}} {
		t.Run(what, func(t *testing.T) {
			folder := t.TempDir()
			if err := (&Settings{Host: "skiff", OrderKey: public(first)}).save(folder); err != nil {
				t.Fatal(err)
			}

			if _, err := RequestFile(context.Background(), Joining{Folder: folder, Roots: []string{"/srv"}}, "1",
				&bytes.Buffer{}); err != nil {
				t.Fatal(err)
			}

			b, err := os.ReadFile(filepath.Join(folder, joiningFile))
			if err != nil {
				t.Fatal(err)
			}

			var kept joining
			if err := json.Unmarshal(b, &kept); err != nil {
				t.Fatal(err)
			}

			got := archive.Admission{
				Enrolled: wire.Enrolled{
					Host:        "skiff",
					Certificate: certifying(t, kept.Key),
					OrderKey:    public(second),
					Succession:  x.line,
				},
			}

			_, err = JoinByFile(folder, got)
			if x.says == "" && err != nil || x.says != "" && (err == nil || !strings.Contains(err.Error(), x.says)) {
				t.Errorf("%s: %v, want %q", what, err, x.says)
			}
		})
	}
}

// What a service says of its authorities is taken for what it is.
func TestReadAuthorities(t *testing.T) {
	key, _, err := newKey()
	if err != nil {
		t.Fatal(err)
	}

	leaf := certifying(t, key)
	for what, text := range map[string][]byte{
		"nothing":              nil,
		"no certificate":       []byte("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"),
		"that of no authority": leaf,
		"too much of it": append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate(t)}),
			make([]byte, maxAuthority)...),
	} {
		t.Run(what, func(t *testing.T) {
			if got, err := readAuthorities(text); err == nil {
				t.Errorf("%s: %v", what, got)
			}
		})
	}
}

// certifying is a certificate for a key, by nobody but itself.
func certifying(t *testing.T, key []byte) []byte {
	t.Helper()
	block, _ := pem.Decode(key)
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, k.(crypto.Signer).Public(), k)
	if err != nil {
		t.Fatal(err)
	}
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

func FuzzReadAuthorities(f *testing.F) {
	f.Add([]byte("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		list, err := readAuthorities(b)
		if err == nil && (len(list) == 0 || len(list) > maxAuthorities || len(fingerprints(b)) != len(list)) {
			t.Errorf("%d authorities, %q", len(list), fingerprints(b))
		}
	})
}
