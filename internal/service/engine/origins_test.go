package engine

import (
	"fmt"
	"strings"
	"testing"

	"idletally/internal/core/drift"
)

// What is kept to say where findings come from is bounded, in count and in bytes, whatever a host's paths are.
func TestSpotsAreBounded(t *testing.T) {
	for _, c := range []struct {
		name   string
		folder string
		most   int
	}{
		{"many folders", "/srv/%d", maxSpots},
		{"long names", "/srv/" + strings.Repeat("x", 4000) + "%d", maxSpotBytes / 4000},
	} {
		t.Run(c.name, func(t *testing.T) {
			var s spots
			for i := range maxSpots + 100 {
				s.see(drift.Finding{Group: "g", Path: fmt.Sprintf(c.folder, i) + "/file"})
			}
			s.see(drift.Finding{Group: "g", Path: fmt.Sprintf(c.folder, 0) + "/another"})
			first := spot{"g", drift.Spot{Folder: fmt.Sprintf(c.folder, 0)}}
			if len(s.count) > c.most || len(s.count) < c.most*9/10 || s.count[first] != 2 || s.bytes > maxSpotBytes {
				t.Errorf("%d folders of %d bytes, %d in the first; at most %d folders", len(s.count), s.bytes,
					s.count[first], c.most)
			}
		})
	}
}
