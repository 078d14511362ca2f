//go:build linux

package archive

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/core/untrusted"
	"idletally/internal/testkit/frugal"
)

// dense returns as many elements of a list as fit in so many bytes.
func dense(list, element string, size int) []byte {
	return []byte(list + strings.Repeat(element+",", (size-len(list)-10)/(len(element)+1)) + element + "]}")
}

// Whatever a file that was carried unfolds to, reading it takes no more memory than 64 MiB besides it.
func TestFilesAreFrugal(t *testing.T) {
	file := func(mark string, parts ...[]byte) []byte {
		var b bytes.Buffer
		w, err := begin(&b, mark)
		for _, p := range parts {
			err = errors.Join(err, w.piece(p))
		}

		if err := errors.Join(err, w.z.Close()); err != nil {
			t.Fatal(err)
		}

		return b.Bytes()
	}

	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}

	read := map[string]func(io.ReadSeeker) error{
		mark: func(r io.ReadSeeker) error {
			return Read(r, func(Head) error { return nil }, func(tree.Hash, []byte) error { return nil })
		},
		orderMark: func(r io.ReadSeeker) error {
			o, err := OpenOrder(r)
			if err == nil {
				_, err = o.Chunk(0)
			}
			return err
		},
		reportMark: func(r io.ReadSeeker) error {
			_, err := ReadReport(r,
				func(ReportHead) (*ecdsa.PublicKey, int, error) { return &key.PublicKey, 1_000_000, nil },
				func(int, []byte) error { return nil })
			return err
		},
	}

	for name, c := range map[string]struct {
		mark string
		file func() []byte // made when its turn comes
		want error
	}{
		"accounts of nothing": {mark,
			func() []byte { return file(mark, dense(`{"directory":{"accounts":[`, "{}", MaxHead)) },
			untrusted.ErrTooMuch},
		"places of nothing": {mark, func() []byte { return file(mark, dense(`{"ways":[`, "[{}]", MaxHead)) },
			untrusted.ErrTooMuch},
		"as many as are taken": {mark,
			func() []byte { return file(mark, dense(`{"denied":[`, "{}", 3*untrusted.MaxElements/2)) }, ErrNoSnapshot},
		"nested": {mark, func() []byte { return file(mark, bytes.Repeat([]byte("["), MaxHead)) },
			untrusted.ErrTooMuch},
		"nodes of zeros": {mark, func() []byte { return file(mark, []byte(`{}`), make([]byte, tree.MaxNode)) },
			ErrNoSnapshot},
		"an order's roots": {orderMark,
			func() []byte { return file(orderMark, dense(`{"work":{"kind":"run","roots":[`, `""`, MaxHead)) },
			untrusted.ErrTooMuch},
		"an order's chunk": {orderMark, func() []byte {
			return file(orderMark, []byte(`{"work":{"kind":"run"},"chunks":1}`), make([]byte, plan.MaxChunk))
		}, nil},
		"results, signed by nobody": {reportMark, func() []byte {
			return file(reportMark, []byte(`{}`), dense(`d{"results":[`, "{}", maxDone), []byte("s"))
		}, ErrNoReport},
		"a report's head": {reportMark, func() []byte { return file(reportMark, dense(`{"x":[`, "{}", 1<<20)) },
			untrusted.ErrTooMuch},
	} {
		t.Run(name, func(t *testing.T) {
			in := bytes.NewReader(c.file())
			frugal.Run(t, 64<<20, func() {
				if err := read[c.mark](in); !errors.Is(err, c.want) {
					panic(fmt.Sprintf("%v, want %v", err, c.want))
				}
			})
		})
	}
}
