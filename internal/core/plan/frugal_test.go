//go:build linux

package plan

import (
	"encoding/binary"
	"fmt"
	"strings"
	"testing"

	"idletally/internal/testkit/frugal"
)

// The worst chunk or manifest that somebody makes takes no more memory than 64 MiB besides its own bytes.
func TestDecodingIsFrugal(t *testing.T) {
	long := func() []byte {
		var list []Step
		for i := range StepsPerChunk {
			list = append(list, steps(fmt.Sprintf("/%04d", i)+strings.Repeat("/"+strings.Repeat("x", 250), 60))...)
		}
		return EncodeChunk(list)
	}

	for name, c := range map[string]struct {
		make   func() []byte
		decode func([]byte) error
	}{
		"a chunk of zeros": {func() []byte { return append([]byte{'P', 1}, make([]byte, MaxChunk-2)...) },
			chunk},
		"a chunk that counts more": {func() []byte { return binary.AppendUvarint([]byte{'P', 2}, StepsPerChunk) },
			chunk},
		"as long as steps are": {long, chunk},
		"more than a chunk":    {func() []byte { return make([]byte, MaxChunk+1) }, chunk},
		"a manifest of hosts of nothing": {
			func() []byte { return []byte(`{"hosts":[` + strings.Repeat("{},", 10<<20) + "{}]}") },
			manifest,
		},
		"a manifest of hashes": {
			func() []byte { return []byte(`{"hosts":[{"roots":[` + strings.Repeat(`"",`, 10<<20) + `""]}]}`) },
			manifest,
		},
	} {
		t.Run(name, func(t *testing.T) {
			b := c.make()
			frugal.Run(t, 64<<20, func() { _ = c.decode(b) })
		})
	}
}

func chunk(b []byte) error {
	_, err := DecodeChunk(b)
	return err
}

func manifest(b []byte) error {
	_, err := ParseManifest(b)
	return err
}
