package store

import (
	"archive/tar"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
)

// entry is one of a backup's.
type entry struct {
	name string
	b    []byte
}

func entriesOf(t *testing.T, backup []byte) (out []entry) {
	t.Helper()
	z, err := zstd.NewReader(bytes.NewReader(backup))
	must(t, err)
	defer z.Close()
	for r := tar.NewReader(z); ; {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return out
		}
		must(t, err)
		b, err := io.ReadAll(r)
		must(t, err)
		out = append(out, entry{h.Name, b})
	}
}

func backupOf(t *testing.T, list []entry) []byte {
	t.Helper()
	var out bytes.Buffer
	z, err := zstd.NewWriter(&out)
	must(t, err)
	w := tar.NewWriter(z)
	for _, e := range list {
		must(t, w.WriteHeader(&tar.Header{Name: e.name, Mode: 0o600, Size: int64(len(e.b)), Format: tar.FormatPAX}))
		_, err := w.Write(e.b)
		must(t, err)
	}
	must(t, errors.Join(w.Close(), z.Close()))
	return out.Bytes()
}

// Whoever changes a backup, and all sums in it, cannot sign it: as another key's, or as nobody's, it is told apart.
func TestBackupIsSigned(t *testing.T) {
	_, key, err := ed25519.GenerateKey(nil)
	must(t, err)
	must(t, st.AddPerson(t.Context(), Person{Name: name("tampered"), RoleList: "viewer"}))
	var file bytes.Buffer
	wrote, err := st.Backup(t.Context(), &file, "test", nil, key)
	must(t, err)
	read := func(b []byte) (Counted, error) {
		return ReadBackup(t.Context(), bytes.NewReader(b), func(Manifest) error { return nil },
			func(string, []byte) error { return nil }, func(string, []string, [][]any) error { return nil })
	}
	if got, err := read(file.Bytes()); err != nil || !bytes.Equal(got.Key, key.Public().(ed25519.PublicKey)) ||
		!bytes.Equal(wrote.Key, got.Key) {
		t.Fatalf("%x, %v", got.Key, err)
	}

	// changed makes a viewer an admin, and puts the sums right.
	changed := func(format string) []entry {
		list := entriesOf(t, file.Bytes())
		sums := backupSums{}
		for i, e := range list {
			switch {
			case e.name == "manifest.json":
				list[i].b = bytes.Replace(e.b, []byte(`"format":2`), []byte(`"format":`+format), 1)
			case strings.HasPrefix(e.name, "tables/person/"):
				list[i].b = bytes.Replace(e.b, []byte(`"viewer"`), []byte(`"admin"`), 1)
				if bytes.Equal(list[i].b, e.b) {
					t.Fatal("nothing was changed")
				}
			case e.name == "sums.json":
				must(t, json.Unmarshal(e.b, &sums))
				for _, x := range list[:i] {
					h := sha256.Sum256(x.b)
					sums.Sums[x.name] = hex.EncodeToString(h[:])
				}

				b, err := json.Marshal(sums)
				must(t, err)
				list[i].b = b
			}
		}

		return list
	}

	list := changed("2")
	if _, err := read(backupOf(t, list)); !errors.Is(err, ErrBackup) ||
		!strings.Contains(err.Error(), "signature does not fit") {
		t.Errorf("with the old signature: %v", err)
	}

	if _, err := read(backupOf(t, list[:len(list)-1])); !errors.Is(err, ErrBackup) ||
		!strings.Contains(err.Error(), "no signature") {
		t.Errorf("without signature: %v", err)
	}

	if old, err := read(backupOf(t, changed("1")[:len(list)-1])); err != nil || old.Key != nil {
		t.Errorf("as an earlier version's: %x, %v", old.Key, err)
	}

	_, other, err := ed25519.GenerateKey(nil)
	must(t, err)
	list[len(list)-1].b, err = json.Marshal(backupSignature{
		other.Public().(ed25519.PublicKey),
		ed25519.Sign(other, signedSums(list[len(list)-2].b)),
	})
	must(t, err)
	if got, err := read(backupOf(t, list)); err != nil || bytes.Equal(got.Key, key.Public().(ed25519.PublicKey)) {
		t.Errorf("by another key: %x, %v", got.Key, err)
	}
}
