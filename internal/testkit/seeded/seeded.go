// Package seeded gives tests their random numbers.
package seeded

import (
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
)

// Rand returns numbers from a seed that is printed, and that can be given to see a failure again.
func Rand(t testing.TB) *rand.Rand {
	t.Helper()
	seed := rand.Uint64()
	if s := os.Getenv("IDLETALLY_SEED"); s != "" {
		n, err := strconv.ParseUint(s, 10, 64)
		if err != nil {
			t.Fatalf("IDLETALLY_SEED: %v", err)
		}
		seed = n
	}
	t.Logf("seed %d: give it as IDLETALLY_SEED", seed)
	return rand.New(rand.NewPCG(seed, 1))
}
