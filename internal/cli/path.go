//go:build linux

package cli

import (
	"fmt"
	"path/filepath"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/host/identity"
	"idletally/internal/host/look"
)

// shownPath is a path of this machine.
type shownPath struct {
	Path     string    `json:"path"`
	Kind     string    `json:"kind"`
	Access   perm.View `json:"access"`
	Size     int64     `json:"size"`
	Modified time.Time `json:"modified"`
	Links    uint64    `json:"links"`
	Target   string    `json:"target,omitempty"`
	Words    []string  `json:"words,omitempty"`
}

// local takes a path as it was typed: escaped text, perhaps relative to where we are.
func local(s string) (string, error) {
	raw, err := pathname.Unescape(s)
	if err != nil {
		return "", usageError{err}
	}
	return filepath.Abs(raw)
}

func pathCommand(o *options) *cobra.Command {
	var deep bool
	list := &cobra.Command{Use: "list [PATH]", Short: "List a folder of this machine; needs no service", Args: args(0, 1, "at most one path"),
		Long: `List a folder of this machine: what each path is, its mode as letters and octal, owner and group, a + where
there are access entries beyond the mode, size in bytes and time of the last change. It goes on past what it may
not read, tells it at the end, and exits with 4 then.`,
		RunE: func(c *cobra.Command, a []string) error {
			at, err := local(append(a, ".")[0])
			if err != nil {
				return err
			}
			dir, err := identity.Read(c.Context())
			if err != nil {
				return err
			}
			t := table{head: []string{"KIND", "MODE", "OCTAL", "OWNER", "GROUP", "", "SIZE", "MODIFIED", "NAME"}, none: "The folder is empty."}
			paths := []shownPath{}
			refused, err := look.List(c.Context(), at, deep, func(e look.Entry) error {
				p := shown(e, dir)
				paths = append(paths, p)
				more, size, name := "", "", p.Path
				if len(p.Access.Entries)+len(p.Access.Defaults) > 0 {
					more = "+"
				}
				if e.Kind == perm.File {
					size = strconv.FormatInt(e.Size, 10)
				}
				if !deep {
					name = pathname.Escape(filepath.Base(e.Path))
				}
				if e.Target != "" {
					name += " → " + pathname.Escape(e.Target)
				}
				w := unknownOf(p.Access)
				t.add(p.Kind, p.Access.Letters, p.Access.Mode, w("owner", p.Access.Owner), w("group", p.Access.Group), more, size, when(e.Modified), name)
				return nil
			})
			if err != nil {
				return err
			}
			t.value = map[string]any{"paths": paths, "refused": refused}
			if err := o.show(c, t); err != nil {
				return err
			}
			if o.output == "table" {
				for _, r := range refused {
					say(c, "could not be read: %s: %s", r.Path, r.Reason)
				}
			}
			if len(refused) > 0 {
				return errNotSo
			}
			return nil
		}}
	list.Flags().BoolVar(&deep, "below", false, "everything below the folder too")
	show := &cobra.Command{Use: "show PATH", Short: "Explain one path of this machine; needs no service", Args: args(1, 1, "a path"),
		RunE: func(c *cobra.Command, a []string) error {
			at, err := local(a[0])
			if err != nil {
				return err
			}
			dir, err := identity.Read(c.Context())
			if err != nil {
				return err
			}
			e, err := look.One(at)
			if err != nil {
				return fmt.Errorf("%s: %w", pathname.Escape(at), err)
			}
			p := shown(e, dir)
			if m, err := mode.ParseOctal(p.Access.Mode); err == nil && e.Kind != perm.Link {
				p.Words = m.Words(e.Kind == perm.Folder)
				if len(p.Access.Entries) > 0 {
					p.Words = append(p.Words, "There are access entries: the group digit is their mask, the most that any of them grants; what the group itself gets stands at group::.")
				}
			}
			w := unknownOf(p.Access)
			pairs := []string{"path", p.Path, "kind", p.Kind, "target", pathname.Escape(p.Target), "owner", w("owner", p.Access.Owner), "group", w("group", p.Access.Group),
				"mode", p.Access.Mode + " " + p.Access.Letters, "modified", when(p.Modified)}
			if e.Kind == perm.File {
				pairs = append(pairs, "size", strconv.FormatInt(p.Size, 10)+" bytes")
			}
			if e.Kind != perm.Folder && p.Links > 1 {
				pairs = append(pairs, "hard links", strconv.FormatUint(p.Links, 10))
			}
			for _, x := range []struct {
				name  string
				lines []string
			}{{"entries", p.Access.Entries}, {"defaults", p.Access.Defaults}, {"in words", p.Words}} {
				for i, l := range x.lines {
					if i > 0 {
						x.name = ""
					}
					pairs = append(pairs, x.name, l)
				}
			}
			return o.showOne(c, p, pairs...)
		}}
	return noun("path", "Paths of this machine, without any service", list, show)
}

func shown(e look.Entry, d *perm.Directory) shownPath {
	return shownPath{Path: pathname.Escape(e.Path), Kind: e.Kind.String(), Access: perm.Describe(e.Set, d), Size: e.Size, Modified: e.Modified, Links: e.Links, Target: e.Target}
}
