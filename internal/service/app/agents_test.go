package app

import (
	"testing"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// What a host says of its part of a run is held against the plan: it may be hostile.
func TestPartsAreChecked(t *testing.T) {
	part := Part{HostPart: plan.HostPart{Host: "ferry", Roots: []string{"/srv"}, Chunks: make([]tree.Hash, 1)}}
	original := func(path string) []byte {
		return plan.EncodeChunk([]plan.Step{{
			Path: path, Kind: perm.File, Before: posix.State{Mode: 0o600}.Set(), After: posix.State{Mode: 0o600}.Set(),
		}})
	}
	for _, c := range []struct {
		name  string
		n     int
		chunk []byte
		want  fault.Kind // KindFailed: none
	}{
		{"its own", 0, original("/srv/x"), fault.KindFailed},
		{"a chunk that is none", 1, original("/srv/x"), fault.KindNotFound},
		{"a chunk before the first", -1, original("/srv/x"), fault.KindNotFound},
		{"no chunk", 0, []byte("chunk"), fault.KindMalformed},
		{"elsewhere", 0, original("/etc/shadow"), fault.KindMalformed},
		{"beside the root", 0, original("/srvx"), fault.KindMalformed},
	} {
		t.Run(c.name, func(t *testing.T) {
			err := part.fits(c.n, c.chunk)
			if c.want == fault.KindFailed && err != nil || c.want != fault.KindFailed && !fault.Is(err, c.want) {
				t.Errorf("%v", err)
			}
		})
	}

	for _, c := range []struct {
		name string
		done wire.RunDone
	}{
		{"no state", wire.RunDone{}},
		{"a state that is none", wire.RunDone{State: "approved"}},
		{"it still runs", wire.RunDone{State: lifecycle.PartRunning}},
		{"a step behind the last", wire.RunDone{State: lifecycle.PartFinished, Results: []plan.Result{{Step: 4000}}}},
		{"a step long before", wire.RunDone{State: lifecycle.PartFinished, Wrong: []plan.Result{{Step: -4000}}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			if rows, err := new(App).resultsOf(t.Context(), part, c.done); !fault.Is(err, fault.KindMalformed) {
				t.Errorf("%+v, %v", rows, err)
			}
		})
	}
}
