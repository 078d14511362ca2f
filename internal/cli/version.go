package cli

import (
	"cmp"
	"errors"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"

	"idletally/internal/wire"
)

// Set when the program is built: its version, and the commit and day (RFC 3339) that it is built from.
var (
	Version = "dev"
	Commit  = ""
	Date    = ""
)

// built returns what this program is. What was not set when it was built the Go toolchain may have recorded.
func built() wire.Build {
	b := wire.Build{
		Version:  Version,
		Commit:   Commit,
		Date:     Date,
		Go:       runtime.Version(),
		System:   runtime.GOOS + "/" + runtime.GOARCH,
		Protocol: wire.Protocol,
		Oldest:   wire.OldestProtocol,
	}

	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			switch s.Key {
			case "vcs.revision":
				b.Commit = cmp.Or(b.Commit, s.Value)
			case "vcs.time":
				b.Date = cmp.Or(b.Date, s.Value)
			}
		}
	}

	return b
}

func versionCommand(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Say which version this is, and which the service is that you are signed in to",
		Args:  args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			v := struct {
				Client  wire.Build  `json:"client"`
				Service *wire.Build `json:"service,omitempty"`
			}{Client: built()}
			t := table{head: []string{"", "VERSION", "COMMIT", "DATE", "GO", "SYSTEM", "PROTOCOL"}}
			add := func(what string, b wire.Build) {
				t.add(what, b.Version, cmp.Or(b.Commit, "not known"), cmp.Or(b.Date, "not known"), b.Go, b.System,
					num(int64(b.Protocol)))
			}
			add("this program", v.Client)
			api, err := o.client()
			if err == nil {
				var there wire.Build
				if there, err = api.Version(c.Context()); err == nil {
					add("service", there)
					v.Service = &there
				}
			}

			t.value = v
			if e := o.show(c, t); e != nil || errors.Is(err, errSignedOut) {
				return e
			}

			return err
		},
	}
}
