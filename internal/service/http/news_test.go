package http

import (
	"slices"
	"strings"
	"testing"
)

// Whoever changes how somebody signs in tells them: each operation on people says by which line, or that it changes nothing of that.
func TestNewsOf(t *testing.T) {
	for name, op := range operations(bare()) {
		about := strings.HasPrefix(op.Path, "/api/v1/me") || strings.HasPrefix(op.Path, "/api/v1/people/{name}")
		if _, known := newsOf[op.OperationID]; about && op.Method != "GET" && !known {
			t.Errorf("%s: say in newsOf by which line of the history somebody is told of it", name)
		}
	}
	if kinds := newsKinds(); len(kinds) < 12 || !slices.IsSorted(kinds) || slices.Contains(kinds, "") {
		t.Errorf("%q", kinds)
	}
}
