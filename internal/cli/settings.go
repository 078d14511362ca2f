//go:build linux

package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"go.yaml.in/yaml/v3"
)

const maxSettings = 64 << 10

// settableFlags lists a command's flags that settings may give: all but those that say where the settings are, and
// what to do with them.
func settableFlags(c *cobra.Command) (names []string) {
	c.NonInheritedFlags().VisitAll(func(f *pflag.Flag) {
		if !slices.Contains([]string{"help", "settings", "check"}, f.Name) {
			names = append(names, f.Name)
		}
	})
	return names
}

// variable is the environment's name for a flag.
func variable(flag string) string {
	return "IDLETALLY_" + strings.ToUpper(strings.ReplaceAll(flag, "-", "_"))
}

// settle sets flags that were not given from the environment, or from the file, and returns where each comes from.
func settle(c *cobra.Command, file string) (from map[string]string, err error) {
	says, err := readSettings(file)
	if err != nil {
		return nil, err
	}

	names := settableFlags(c)
	for name := range says {
		if !slices.Contains(names, name) {
			return nil, fmt.Errorf("settings %s: %q is no setting: %s", file, name, strings.Join(names, ", "))
		}
	}

	from = map[string]string{}
	for _, name := range names {
		f := c.Flags().Lookup(name)
		value, there := os.LookupEnv(variable(name))
		switch list, fileSays := says[name]; {
		case f.Changed:
			from[name] = "flag"
		case there:
			from[name] = variable(name)
			if err := f.Value.Set(value); err != nil {
				return nil, fmt.Errorf("%s: %w", variable(name), err)
			}
		case fileSays:
			from[name] = file
			if many, ok := f.Value.(pflag.SliceValue); ok {
				err = many.Replace(list)
			} else if len(list) != 1 {
				err = errors.New("want one value, not a list")
			} else {
				err = f.Value.Set(list[0])
			}
			if err != nil {
				return nil, fmt.Errorf("settings %s: %s: %w", file, name, err)
			}

		default:
			from[name] = "default"
		}
	}

	return from, nil
}

// readSettings reads a file of names and values. Whoever can write it decides what the service does, and it may hold
// the database's password: it is refused if others can.
func readSettings(file string) (map[string][]string, error) {
	if file == "" {
		return nil, nil
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, fmt.Errorf("settings: %w", err)
	}
	defer f.Close()

	st, err := f.Stat()
	if err != nil {
		return nil, fmt.Errorf("settings: %w", err)
	}
	b, err := readAtMost(f, maxSettings)
	if err != nil {
		return nil, fmt.Errorf("settings %s: %w", file, err)
	}
	var raw map[string]any
	if err := yaml.Unmarshal(b, &raw); err != nil {
		return nil, fmt.Errorf("settings %s: %w", file, err)
	}

	says := map[string][]string{}
	for name, value := range raw {
		list, ok := value.([]any)
		if !ok {
			list = []any{value}
		}

		says[name] = []string{}
		for _, v := range list {
			switch v.(type) {
			case string, bool, int, int64, uint64, float64:
				says[name] = append(says[name], fmt.Sprint(v))
			default:
				return nil, fmt.Errorf("settings %s: %s: want text, a number, or a list of them", file, name)
			}
		}
	}

	secret := slices.ContainsFunc([]string{"database", "oidc-secret", "mail-password"}, func(name string) bool {
		return len(says[name]) > 0
	})
	switch {
	case st.Mode().Perm()&0o022 != 0:
		return nil, fmt.Errorf("settings %s: others than its owner may write to it: chmod go-w: %w", file,
			fs.ErrPermission)
	case secret && st.Mode().Perm()&0o004 != 0:
		return nil, fmt.Errorf("settings %s: it holds a password, and everybody may read it: chmod o-r: %w", file,
			fs.ErrPermission)
	}

	return says, nil
}
