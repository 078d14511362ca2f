package archive

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/plan"
	"idletally/internal/wire"
)

func order(t testing.TB, chunks ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	err := WriteOrder(&b,
		OrderHead{
			Host:   "pontoon",
			Chunks: len(chunks),
			Work:   wire.Work{ID: "w", Kind: wire.WorkRun, Order: []byte("o"), Manifest: []byte("m")},
		},
		func(n int) ([]byte, error) { return []byte(chunks[n]), nil })
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestOrders(t *testing.T) {
	whole := order(t, "first", "", "third")
	o, err := OpenOrder(bytes.NewReader(whole))
	if err != nil || o.Host != "pontoon" || string(o.Work.Manifest) != "m" {
		t.Fatalf("%+v, %v", o, err)
	}
	defer o.Close()

	if b, err := o.Chunk(0); err != nil || string(b) != "first" {
		t.Errorf("%q, %v", b, err)
	}

	if b, err := o.Chunk(2); err != nil || string(b) != "third" {
		t.Errorf("one that is passed over: %q, %v", b, err)
	}

	if _, err := o.Chunk(1); err == nil {
		t.Error("what was passed comes again")
	}

	if _, err := o.Chunk(3); !errors.Is(err, ErrNoOrder) {
		t.Error(err)
	}

	for n := range whole {
		o, err := OpenOrder(bytes.NewReader(whole[:n]))
		if err == nil {
			_, err = o.Chunk(2)
			o.Close()
		}
		if !errors.Is(err, ErrNoOrder) {
			t.Fatalf("cut off at %d of %d: %v", n, len(whole), err)
		}
	}
}

func newKey(t testing.TB) *ecdsa.PrivateKey {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func reported(t testing.TB, key *ecdsa.PrivateKey, chunks ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	r, err := BeginReport(&b, ReportHead{Host: "pontoon", Work: "w", Run: "r", Made: time.Unix(1e9, 0)})
	for _, c := range chunks {
		if err == nil {
			err = r.Originals([]byte(c))
		}
	}
	if err == nil {
		err = r.End(wire.RunDone{State: lifecycle.PartFinished, Done: 3,
			Results: []plan.Result{{Step: 1, Reason: "why"}}}, key)
	}
	if err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func proved(b []byte, key *ecdsa.PublicKey) (d wire.RunDone, chunks []string, err error) {
	d, err = ReadReport(bytes.NewReader(b), func(ReportHead) (*ecdsa.PublicKey, int, error) { return key, 3, nil },
		func(n int, c []byte) error {
			if n != len(chunks) {
				return fmt.Errorf("chunk %d comes in place of %d", n, len(chunks))
			}
			chunks = append(chunks, string(c))
			return nil
		})
	return d, chunks, err
}

func TestReports(t *testing.T) {
	key := newKey(t)
	whole := reported(t, key, "first", "", strings.Repeat("x", 3<<20))
	d, chunks, err := proved(whole, &key.PublicKey)
	if err != nil || d.Done != 3 || len(chunks) != 3 || chunks[0] != "first" || len(chunks[2]) != 3<<20 {
		t.Fatalf("%+v, %d, %v", d, len(chunks), err)
	}

	if _, _, err := proved(whole, &newKey(t).PublicKey); !errors.Is(err, ErrNoReport) ||
		!strings.Contains(err.Error(), "signature") {
		t.Errorf("by another key: %v", err)
	}

	// Whatever is changed or cut off, it is no report any more.
	small := reported(t, key, "first", "second")
	for n := range small {
		if _, _, err := proved(small[:n], &key.PublicKey); !errors.Is(err, ErrNoReport) {
			t.Fatalf("cut off at %d: %v", n, err)
		}

		changed := bytes.Clone(small)
		changed[n] ^= 1
		if got, _, err := proved(changed, &key.PublicKey); err == nil &&
			(got.State != lifecycle.PartFinished || got.Done != 3) {
			t.Fatalf("byte %d changed: %+v", n, got)
		}
	}

	// Parts in another order, and such as are none.
	for what, parts := range map[string][]string{
		"no end":                  {"ofirst"},
		"two ends":                {"d{}", "d{}"},
		"originals after the end": {"d{}", "ox"},
		"no kind":                 {""},
		"another kind":            {"z"},
		"a signature alone":       {"sx"},
		"no JSON":                 {"dx"},
	} {
		t.Run(what, func(t *testing.T) {
			var b bytes.Buffer
			w, err := begin(&b, reportMark)
			for _, p := range append([]string{`{"host":"pontoon"}`}, parts...) {
				if err == nil {
					err = w.piece([]byte(p))
				}
			}

			if err = errors.Join(err, w.z.Close()); err != nil {
				t.Fatal(err)
			}

			if _, _, err := proved(b.Bytes(), &key.PublicKey); !errors.Is(err, ErrNoReport) {
				t.Errorf("%s: %v", what, err)
			}
		})
	}
}

func FuzzCarried(f *testing.F) {
	key := newKey(f)
	f.Add(order(f, "a", "b"))
	f.Add(reported(f, key, "a", "b"))
	f.Add([]byte(orderMark))
	f.Add([]byte(reportMark))
	other := newKey(f)
	f.Fuzz(func(t *testing.T, b []byte) {
		if o, err := OpenOrder(bytes.NewReader(b)); err == nil {
			for n := range min(o.Chunks, 10) {
				_, _ = o.Chunk(n) // whatever comes of it, it comes
			}
			o.Close()
		}
		if _, _, err := proved(b, &other.PublicKey); err == nil {
			t.Error("a report without its key is taken")
		}
	})
}
