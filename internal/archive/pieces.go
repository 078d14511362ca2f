package archive

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"

	"github.com/klauspost/compress/zstd"

	"idletally/internal/core/untrusted"
)

// writer writes pieces, each as its length and its bytes, into a compressed stream after a line that says what they
// are.
type writer struct {
	z   *zstd.Encoder
	sum hash.Hash // of all so far
}

func begin(w io.Writer, mark string) (*writer, error) {
	if _, err := io.WriteString(w, mark); err != nil {
		return nil, err
	}
	z, err := zstd.NewWriter(w, zstd.WithEncoderCRC(true), zstd.WithEncoderConcurrency(2))
	sum := sha256.New()
	sum.Write([]byte(mark))
	return &writer{z, sum}, err
}

func (w *writer) piece(b []byte) error {
	length := binary.AppendUvarint(nil, uint64(len(b)))
	w.sum.Write(length)
	w.sum.Write(b)
	_, err := w.z.Write(length)
	if err == nil {
		_, err = w.z.Write(b)
	}
	return err
}

// reader reads them again.
type reader struct {
	z   *zstd.Decoder
	in  *untrusted.Pieces
	sum hash.Hash
}

// maxWindow is how far back a compressed stream may refer: more than writers of ours ever do.
const maxWindow = 16 << 20

func open(r io.Reader, mark string, most int64) (*reader, error) {
	line := make([]byte, len(mark))
	if _, err := io.ReadFull(r, line); err != nil || string(line) != mark {
		return nil, fmt.Errorf("it does not begin with %q", mark[:len(mark)-1])
	}
	z, err := zstd.NewReader(r, zstd.WithDecoderMaxMemory(2*maxWindow), zstd.WithDecoderMaxWindow(maxWindow),
		zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true))
	if err != nil {
		return nil, err
	}
	sum := sha256.New()
	sum.Write(line)
	return &reader{z, untrusted.NewPieces(z, most), sum}, nil
}

// piece reads the next one; io.EOF if there is none.
func (r *reader) piece(most int) ([]byte, error) {
	b, err := r.in.Next(0, most)
	switch {
	case errors.Is(err, io.EOF):
		return nil, err
	case err != nil:
		return nil, err
	}
	r.sum.Write(binary.AppendUvarint(nil, uint64(len(b))))
	r.sum.Write(b)
	return b, nil
}
