// Package testkit is what tests of several packages need. Programs do not import it, nor what lies below it.
package testkit

import (
	"os"
	"testing"
)

// Must ends a test that cannot go on.
func Must(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// Rounds returns how often a test tries something at random: as often as "make test" has time for, or as
// "make prove" does.
func Rounds(usual, proving int) int {
	if os.Getenv("IDLETALLY_PROVE") != "" {
		return proving
	}
	return usual
}
