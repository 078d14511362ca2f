package cli

import (
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// Paths as arguments are written as in all other commands; what other programs write to standard input are names as
// they are.
func TestChangeNames(t *testing.T) {
	for _, c := range []struct {
		name, input string
		nul         bool
		args, want  []string
	}{
		{"an argument", "", false, []string{`/srv/a\x0ab`, "/srv/c d"}, []string{`/srv/a\x0ab`, "/srv/c d"}},
		{"lines", "/srv/a\\b\n/srv/c\n", false, []string{"-"}, []string{`/srv/a\\b`, "/srv/c"}},
		{"apart by NUL", "/srv/a\nb\x00", true, []string{"-"}, []string{`/srv/a\x0ab`}},
		{"an argument that is not escaped rightly", "", false, []string{`/srv/a\b`}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			cmd := &cobra.Command{}
			cmd.SetIn(strings.NewReader(c.input))
			w := &changing{nul: c.nul}
			got, err := w.named(cmd, c.args)
			if !slices.Equal(got, c.want) || (err != nil) != (c.want == nil) {
				t.Errorf("%q, %v; want %q", got, err, c.want)
			}
		})
	}
}
