package archive

import (
	"bufio"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"

	"github.com/klauspost/compress/zstd"
)

// writer writes pieces, each as its length and its bytes, into a compressed stream after a line that says what they are.
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
	z    *zstd.Decoder
	in   *bufio.Reader
	left int64
	sum  hash.Hash
}

func open(r io.Reader, mark string, most int64) (*reader, error) {
	line := make([]byte, len(mark))
	if _, err := io.ReadFull(r, line); err != nil || string(line) != mark {
		return nil, fmt.Errorf("it does not begin with %q", mark[:len(mark)-1])
	}
	z, err := zstd.NewReader(r, zstd.WithDecoderMaxMemory(256<<20), zstd.WithDecoderMaxWindow(64<<20), zstd.WithDecoderConcurrency(2))
	if err != nil {
		return nil, err
	}
	sum := sha256.New()
	sum.Write(line)
	return &reader{z, bufio.NewReaderSize(z, 1<<20), most, sum}, nil
}

var errShort = errors.New("it ends too early")

// piece reads the next one; io.EOF where there is none.
func (r *reader) piece(most uint64) ([]byte, error) {
	n, err := binary.ReadUvarint(r.in)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, errShort
	}
	if err != nil {
		return nil, err
	}
	if r.left -= int64(min(n, 1<<62)); n > most || r.left < 0 {
		return nil, fmt.Errorf("a part of %d bytes is larger than what is read", n)
	}
	b := make([]byte, 0, min(n, 1<<20)) // a length may lie: what is not there takes no room
	for uint64(len(b)) < n && err == nil {
		at := len(b)
		b = append(b, make([]byte, min(n-uint64(at), 1<<20))...)
		_, err = io.ReadFull(r.in, b[at:])
	}
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return nil, errShort
	case err != nil:
		return nil, fmt.Errorf("it ends too early: %w", err)
	}
	r.sum.Write(binary.AppendUvarint(nil, n))
	r.sum.Write(b)
	return b, nil
}
