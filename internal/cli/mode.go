package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/core/mode"
)

// shownMode is every representation of one mode.
type shownMode struct {
	Octal      string   `json:"octal"`
	Letters    string   `json:"letters"`
	Symbolic   string   `json:"symbolic"`
	Arithmetic []string `json:"arithmetic"`
	File       []string `json:"file,omitempty"`
	Folder     []string `json:"folder,omitempty"`
}

// parseMode takes octal digits, the nine letters of a listing (ten with the kind in front), or a
// symbolic mode that starts from nothing.
func parseMode(s string) (mode.Mode, error) {
	letters := s
	if len(s) == 10 && strings.ContainsRune("-dlbcps", rune(s[0])) {
		letters = s[1:]
	}
	if len(letters) == 9 && !strings.ContainsAny(letters, "=+,") {
		return mode.ParseLetters(letters)
	}
	if s != "" && s[0] >= '0' && s[0] <= '9' {
		return mode.ParseOctal(s)
	}
	c, err := mode.ParseChange(s)
	if err != nil {
		return 0, fmt.Errorf("%w; or give octal digits, or nine letters", err)
	}
	return c.Apply(0, false, 0), nil
}

func showMode(o *options, c *cobra.Command, m mode.Mode, file, folder bool) error {
	v := shownMode{Octal: m.String(), Letters: m.Letters(), Symbolic: m.Symbolic(), Arithmetic: m.Arithmetic()}
	pairs := []string{"octal", v.Octal, "letters", v.Letters, "symbolic", v.Symbolic}
	add := func(name string, lines []string) {
		for i, l := range lines {
			if i > 0 {
				name = ""
			}
			pairs = append(pairs, name, l)
		}
	}
	add("arithmetic", v.Arithmetic)
	if file {
		v.File = m.Words(false)
		add("on a file", v.File)
	}
	if folder {
		v.Folder = m.Words(true)
		add("on a folder", v.Folder)
	}
	return o.showOne(c, v, pairs...)
}

func modeCommand(o *options) *cobra.Command {
	show := &cobra.Command{Use: "show MODE", Short: "Explain a mode: octal digits, nine letters, or u=rwx,g=rx,o=", Args: args(1, 1, "a mode"),
		RunE: func(c *cobra.Command, a []string) error {
			m, err := parseMode(a[0])
			if err != nil {
				return err
			}
			return showMode(o, c, m, true, true)
		}}
	var folder bool
	var umask string
	change := &cobra.Command{Use: "change MODE CHANGE", Short: "Say what a symbolic change makes of a mode", Args: args(2, 2, "a mode and a change such as g+w,o="),
		RunE: func(c *cobra.Command, a []string) error {
			m, err := parseMode(a[0])
			if err != nil {
				return err
			}
			ch, err := mode.ParseChange(a[1])
			if err != nil {
				return err
			}
			u, err := mode.ParseOctal(umask)
			if err != nil {
				return usageError{fmt.Errorf("--umask: %w", err)}
			}
			return showMode(o, c, ch.Apply(m, folder, u), !folder, folder)
		}}
	change.Flags().BoolVar(&folder, "folder", false, "it is the mode of a folder")
	change.Flags().StringVar(&umask, "umask", "0022", "umask of who makes the change; it counts where a clause names nobody")
	var in, newUmask string
	fresh := &cobra.Command{Use: "new", Short: "Say which modes new files and folders get under a umask", Args: args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			u, err := mode.ParseOctal(newUmask)
			if err != nil {
				return usageError{fmt.Errorf("--umask: %w", err)}
			}
			f, err := mode.ParseOctal(in)
			if err != nil {
				return usageError{fmt.Errorf("--in: %w", err)}
			}
			file, sub := mode.New(u, f)
			group := "the group of the process that makes it"
			if f&mode.SetGID != 0 {
				group = "the folder's group, since the folder has set-group-ID"
			}
			t := table{head: []string{"NEW", "OCTAL", "LETTERS", "GROUP"}, value: map[string]string{"file": file.String(), "folder": sub.String(), "group": group}}
			t.add("file", file.String(), file.Letters(), group)
			t.add("folder", sub.String(), sub.Letters(), group)
			return o.show(c, t)
		}}
	fresh.Flags().StringVar(&newUmask, "umask", "0022", "umask of the process")
	fresh.Flags().StringVar(&in, "in", "0755", "mode of the folder they are made in; one without default entries")
	return noun("mode", "Explain and convert modes, without any service", show, change, fresh)
}
