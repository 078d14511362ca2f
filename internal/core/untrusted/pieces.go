package untrusted

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Pieces are read from a stream one after another, each as its length (uvarint) and its bytes. What a piece's length
// says takes room only as its bytes come.
type Pieces struct {
	in   *bufio.Reader
	left int64
}

// NewPieces reads pieces that have at most so many bytes all together.
func NewPieces(r io.Reader, total int64) *Pieces {
	return &Pieces{bufio.NewReaderSize(r, 64<<10), total}
}

// ErrShort says that a stream ends within a piece.
var ErrShort = errors.New("it ends too early")

// Next returns the next piece, of at least and at most so many bytes; io.EOF where there is none. The piece is its
// caller's.
func (p *Pieces) Next(least, most int) ([]byte, error) {
	n, err := binary.ReadUvarint(p.in)
	switch {
	case errors.Is(err, io.EOF):
		return nil, io.EOF
	case errors.Is(err, io.ErrUnexpectedEOF):
		return nil, ErrShort
	case err != nil:
		return nil, err
	case n > uint64(most) || int64(n) > p.left:
		return nil, fmt.Errorf("%w: a piece of %d bytes is larger than what is read: at most %d", ErrTooMuch, n,
			max(0, min(int64(most), p.left)))
	case n < uint64(least):
		return nil, fmt.Errorf("a piece of %d bytes cannot be what comes here", n)
	}

	// Each piece costs its length, and a little: nobody is to be sent nothing a billion times.
	p.left -= int64(n) + 1

	// A length is believed when a first part of the piece has come.
	b := make([]byte, min(n, trial))
	if err := fill(p.in, b); err != nil || n <= trial {
		return b, err
	}

	whole := make([]byte, n)
	return whole, fill(p.in, whole[copy(whole, b):])
}

const trial = 1 << 20

func fill(r io.Reader, b []byte) error {
	_, err := io.ReadFull(r, b)
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return ErrShort
	case err != nil:
		return fmt.Errorf("%w: %w", ErrShort, err)
	}
	return nil
}
