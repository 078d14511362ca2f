package wire

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
)

// The gravest comes first, whatever opens; then what opens, then many hosts, then many findings.
func TestHeavier(t *testing.T) {
	of := func(id, severity, word string, hosts int, findings int64) WeightOf {
		return WeightOf{&Group{ID: id, Severity: severity, Word: word}, hosts, findings}
	}
	want := []WeightOf{
		of("a", "grave", "closes", 1, 1),
		of("b", "serious", "opens", 3, 1),
		of("c", "serious", "both", 2, 9),
		of("d", "serious", "opens", 2, 8),
		of("e", "serious", "closes", 9, 9),
		of("f", "minor", "opens", 9, 9),
		of("g", "minor", "opens", 9, 9),
	}

	for range 20 {
		got := slices.Clone(want)
		rand.Shuffle(len(got), func(i, j int) { got[i], got[j] = got[j], got[i] })
		slices.SortFunc(got, Heavier)
		var ids strings.Builder
		for _, w := range got {
			ids.WriteString(w.Group.ID)
		}

		if ids.String() != "abcdefg" {
			t.Fatal(ids.String())
		}
	}
}
