// Package untrusted decodes what somebody else made: an agent, a service, a file that was carried. Bytes are bounded by
// whoever reads them; this bounds what they unfold to, before any of it takes room.
package untrusted

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
)

// Bounds of a JSON text.
type Bounds struct {
	Bytes    int64 // of the text
	Elements int   // of all arrays and objects together; an array of a million empty objects has a million
}

// MaxElements is for texts of which nothing else bounds how many elements they have. Decoding so many takes some
// 45 MiB besides the text, whatever they are; a directory of 50,000 accounts with their memberships has fewer.
const MaxElements = 600_000

// maxNesting bounds arrays and objects within each other. No type of ours has more than eight.
const maxNesting = 32

// ErrTooMuch says that something would take more than is allowed, and was not decoded.
var ErrTooMuch = errors.New("more than is taken")

// ReadJSON reads all of r, which is to be one JSON text, into v.
func ReadJSON(r io.Reader, most Bounds, v any) error {
	b, err := ReadAll(r, most.Bytes)
	if err != nil {
		return err
	}
	return JSON(b, most.Elements, v)
}

// ReadAll reads r to its end, at most so many bytes. It returns ErrTooMuch where there are more.
func ReadAll(r io.Reader, most int64) ([]byte, error) {
	const piece = 1 << 20
	var pieces [][]byte
	for left := most + 1; ; {
		b := make([]byte, min(piece, left))
		n, err := io.ReadFull(r, b)
		pieces = append(pieces, b[:n])
		left -= int64(n)
		if left == 0 {
			return nil, fmt.Errorf("%w: it has more than %d bytes", ErrTooMuch, most)
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			break
		}
		if err != nil {
			return nil, err
		}
	}

	if len(pieces) == 1 {
		return pieces[0], nil
	}

	return slices.Concat(pieces...), nil
}

// JSON decodes a text into v. A text with more elements than are allowed, or nested deeper than anything of ours, is
// refused with ErrTooMuch before it is decoded.
func JSON(b []byte, elements int, v any) error {
	if err := check(b, elements); err != nil {
		return err
	}
	return json.Unmarshal(b, v)
}

// check counts the elements of arrays and the members of objects: what each stands for takes memory of its own, and
// what is not counted is a string or a number, which is no longer than its text.
//
// It looks at no more than brackets, commas and strings. A text that is no JSON may pass, and fails when it is decoded.
func check(b []byte, most int) error {
	depth, elements := 0, 0
	for at := 0; at < len(b); at++ {
		switch b[at] {
		case '"':
			end := endOfString(b[at+1:])
			if end < 0 {
				return nil // json.Unmarshal says where
			}

			at += end + 1
			continue

		case '{', '[':
			depth++
			if depth > maxNesting {
				return fmt.Errorf("%w: arrays and objects are nested deeper than %d", ErrTooMuch, maxNesting)
			}
			elements++

		case '}', ']':
			depth--
		case ',':
			elements++
		}
		if elements > most {
			return fmt.Errorf("%w: it has more than %d elements", ErrTooMuch, most)
		}
	}

	return nil
}

// endOfString returns the place of the quote that ends a string, or -1.
func endOfString(b []byte) int {
	for at := 0; ; {
		next := bytes.IndexAny(b[at:], `"\`)
		switch {
		case next < 0:
			return -1
		case b[at+next] == '"':
			return at + next
		}
		at += next + 2 // what is escaped ends nothing
		if at > len(b) {
			return -1
		}
	}
}
