package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/atomicfile"
	"idletally/internal/private"
)

// usual is the profile that is used if none is named.
const usual = "default"

var profileName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?$`)

// sessionOf is the file of a profile's session.
func sessionOf(profile string) string {
	if profile == usual {
		return "session.json"
	}
	return "session-" + profile + ".json"
}

// profileIn returns the profile that counts: the one that was named, else the one in use, else the usual one.
func (o *options) profileIn(dir string) (string, error) {
	name := o.profile
	if name == "" {
		b, err := os.ReadFile(filepath.Join(dir, "profile"))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		name = strings.TrimSpace(string(b))
		if name == "" {
			name = usual
		}
	}
	if !profileName.MatchString(name) {
		return "", usageError{fmt.Errorf("profile %q: want 1 to 32 of a-z, 0-9 and -", name)}
	}
	return name, nil
}

// profilesIn lists the profiles that have a session.
func profilesIn(dir string) (out []string, err error) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		name := usual
		if e.Name() != "session.json" {
			name = strings.TrimSuffix(strings.TrimPrefix(e.Name(), "session-"), ".json")
			if !profileName.MatchString(name) || sessionOf(name) != e.Name() {
				continue
			}
		}
		out = append(out, name)
	}
	return out, err
}

func profileCommand(o *options) *cobra.Command {
	return commandGroup("profile", "Manage profiles: sessions at several services", profileList(o), profileUse(o))
}

// profileList returns the command profile list.
func profileList(o *options) *cobra.Command {
	return &cobra.Command{
		Use:   "list",
		Short: "List the services that you have signed in to",
		Args:  args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			dir, err := o.folder()
			if err != nil {
				return err
			}
			current, err := o.profileIn(dir)
			if err != nil {
				return err
			}
			all, err := profilesIn(dir)
			if err != nil {
				return err
			}

			type profile struct {
				Profile string `json:"profile"`
				Used    bool   `json:"used"`
				Address string `json:"address"`
				Name    string `json:"name"`
				In      bool   `json:"signed_in"`
			}

			t := table{
				head: []string{"PROFILE", "USED", "SERVICE", "PERSON", "UNTIL"},
				none: "You are signed in nowhere: idletally login ADDRESS",
			}
			found := []profile{}
			for _, name := range all {
				b, err := os.ReadFile(filepath.Join(dir, sessionOf(name)))
				var s session
				if err == nil {
					err = json.Unmarshal(b, &s)
				}

				if err != nil {
					return fmt.Errorf("profile %s: %w", name, err)
				}

				used, until := "", any("signed out")
				if name == current {
					used = "yes"
				}

				if s.Token != "" {
					until = s.Expires
				}

				t.add(name, used, s.Address, s.Name, until)
				found = append(found, profile{name, name == current, s.Address, s.Name, s.Token != ""})
			}

			t.value = found
			return o.show(c, t)
		},
	}
}

// profileUse returns the command profile use.
func profileUse(o *options) *cobra.Command {
	return &cobra.Command{Use: "use PROFILE", Short: "Use a profile where none is named", Args: args(1, 1, "a profile"),
		RunE: func(c *cobra.Command, a []string) error {
			dir, err := o.folder()
			if err != nil {
				return err
			}
			all, err := profilesIn(dir)
			if err != nil {
				return err
			}
			if !slices.Contains(all, a[0]) {
				return usageError{
					fmt.Errorf("no profile is called %q: idletally login ADDRESS --profile %s makes it", a[0], a[0]),
				}
			}
			if err := private.MkdirAll(dir); err != nil {
				return err
			}
			if err := atomicfile.Write(filepath.Join(dir, "profile"), []byte(a[0]+"\n")); err != nil {
				return err
			}

			printf(c, "Profile %s is used from now on.", a[0])
			return nil
		}}
}
