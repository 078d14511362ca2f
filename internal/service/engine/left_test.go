package engine

import (
	"strings"
	"testing"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/plan"
	"idletally/internal/service/store"
)

// A plan that leaves many paths, each as long as paths can be, or of bytes that are written long, is kept all
// the same, and says how many more there are.
func TestMuchIsLeft(t *testing.T) {
	t.Parallel()
	st := ownStore(t)
	d := &Engine{Store: st}

	for what, path := range map[string]string{
		"short ones":            "/srv/bill",
		"what JSON writes long": "/srv/" + strings.Repeat("<", 4000),
		"no text":               "/srv/" + strings.Repeat("\xff\n", 2000),
		"as long as can be":     "/" + strings.Repeat("a/", 65_000),
	} {
		t.Run(what, func(t *testing.T) {
			b := &builder{d: d, id: store.NewID()}
			for range 3 * maxLeft {
				b.leave("pontoon", path, "it was seen otherwise by a later snapshot")
			}

			step := plan.Step{
				Path:   "/srv/x",
				Kind:   perm.File,
				Before: posix.State{Mode: 0o644}.Set(),
				After:  posix.State{Mode: 0o600}.Set(),
			}

			if err := b.add("pontoon", []string{"/srv"}, []plan.Step{step}, nil); err != nil {
				t.Fatal(err)
			}

			id, err := b.finish(t.Context(), plan.Remediation, "billing", "", "quartermaster")
			if err != nil {
				t.Fatalf("%s: %v", what, err)
			}

			p, err := st.Plan(t.Context(), id)
			if err != nil || !strings.Contains(p.Source, "more paths are left as they are") || len(p.Source) > 8<<20 {
				t.Errorf("%s: %d bytes, %v", what, len(p.Source), err)
			}
		})
	}
}

// A path, or an access list, that is too long for a plan is left, and the rest is planned.
func TestTooLongForAPlan(t *testing.T) {
	t.Parallel()
	step := func(path string) plan.Step {
		return plan.Step{
			Path:   path,
			Kind:   perm.File,
			Before: posix.State{Mode: 0o644}.Set(),
			After:  posix.State{Mode: 0o600}.Set(),
		}
	}

	long := strings.Repeat("/"+strings.Repeat("x", 255), 300)
	b := &builder{}
	err := b.add("pontoon", []string{"/srv"}, []plan.Step{step("/srv/a"), step(long), step("/srv/b")}, nil)
	if err != nil {
		t.Fatal(err)
	}

	if b.total != 2 || len(b.left) != 1 || b.left[0].Path != long || !strings.Contains(b.left[0].Why, "too long") {
		t.Errorf("%d steps, left: %+v", b.total, b.left)
	}
}
