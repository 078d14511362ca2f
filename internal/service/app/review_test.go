package app

import (
	"strings"
	"testing"
	"unicode/utf8"

	"idletally/internal/core/plan"
)

// What a reviewer says of a grave caution is cut where it is too long, and between characters.
func TestWordsAreCutBetweenCharacters(t *testing.T) {
	for _, said := range []string{
		strings.Repeat("x", maxWord+5), "x" + strings.Repeat("é", maxWord), strings.Repeat("⚓", maxWord),
	} {
		t.Run(said, func(t *testing.T) {
			got, err := wordsOn([]plan.Caution{{ID: "way", Grave: true}}, map[string]string{"way": said})
			if err != nil {
				t.Fatal(err)
			}
			word := got["way"]
			if !utf8.ValidString(word) || len(word) > maxWord || len(word) < maxWord-3 ||
				!strings.HasPrefix(said, word) {
				t.Errorf("%d bytes are cut to %d, %q", len(said), len(word), word[max(0, len(word)-6):])
			}
		})
	}
}
