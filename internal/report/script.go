package report

import (
	_ "embed"
	"fmt"
	"io"
	"slices"
	"strings"

	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
)

//go:embed script.sh
var scriptHead string

// Script writes a host's part of a plan as a shell script that uses the system's own utilities only: for change
// records, and for hosts that nothing of ours may touch. It keeps originals, and can undo itself.
func Script(w io.Writer, m plan.Manifest, host string, steps []plan.Step) error {
	digest := plan.Digest(m.Bytes())
	type line struct {
		path, kind                  string
		before, narrow, after, back string
		inode, content, read        string // which file is meant, what is in it, and whether what is in it is kept
	}
	var lines []line
	lists := "no"

	for _, s := range steps {
		for _, set := range []perm.Set{s.Before, s.After} {
			x, err := perm.ShellOf(set)
			if err != nil {
				return fmt.Errorf("step %s: %w", s.Path, err)
			}
			if s.Kind != perm.Link && !x.Plain() {
				lists = "yes"
			}
		}
	}

	for _, s := range steps {
		there, err1 := perm.Narrow(s.Kind, s.Before, s.After)
		back, err2 := perm.Narrow(s.Kind, s.After, s.Before)
		if err1 != nil || err2 != nil || s.Kind == perm.Link { // a link has an owner only
			there, back = s.After, s.Before
		}

		if perm.Empowers(s.Kind, s.Before, s.After) && s.File.Content.IsZero() {
			return fmt.Errorf(
				"step %s gives set-ID bits, capabilities or root's ownership to a file of which nothing is known: "+
					"draft the plan again while the host's agent runs",
				s.Path)
		}

		l := line{path: quoted(s.Path), kind: "other", inode: "-", content: "-", read: "-"}
		if s.File.Inode != 0 {
			l.inode = fmt.Sprint(s.File.Inode)
		}

		if !s.File.Content.IsZero() {
			l.content = s.File.Content.String()
		}

		if perm.Empowers(s.Kind, s.After, s.Before) {
			l.read = "yes"
		}

		switch s.Kind {
		case perm.File, perm.Folder, perm.Link:
			l.kind = s.Kind.String()
		}

		for _, x := range []struct {
			set perm.Set
			to  *string
		}{{s.Before, &l.before}, {there, &l.narrow}, {s.After, &l.after}, {back, &l.back}} {
			st, err := perm.ShellOf(x.set)
			if err != nil {
				return fmt.Errorf("step %s: %w", s.Path, err)
			}
			switch {
			case s.Kind == perm.Link:
				*x.to = st.Owner
			case lists == "no":
				*x.to = st.Owner + " " + st.Mode
			default:
				*x.to = st.String()
			}
		}

		lines = append(lines, l)
	}

	var b strings.Builder
	remark := func(s string) string { return strings.Map(printable, s) }
	fmt.Fprintf(&b, `#!/bin/sh
# Plan %s of %s on host %s: %s
# %d steps; digest of the whole plan: %s
#
# Only on the host itself, as root:  sh THIS do FOLDER, and to put it back:  sh THIS undo FOLDER
# It uses sh, stat, chown, chmod, grep, od, sed, sha256sum and tr%s, and /proc.
#
# Each path is opened by no link, has to be the file that was reviewed, and is changed through what was opened. An agent does more: it makes
# sure that nobody writes a program while it gets set-ID bits, that no second name comes and goes, and that originals are on disk first.
# What a link itself belongs to is changed by its name. Have nobody work there while this runs.
`, remark(m.ID), remark(m.Application), remark(host), remark(m.Title), len(steps), digest,
		map[string]string{"no": "", "yes": ", getfacl and setfacl, getfattr and setfattr"}[lists])

	fmt.Fprintf(&b, "lists=%s\n\n%s\n", lists, scriptHead)
	b.WriteString("# Which paths are as reviewed, and the originals.\n")
	for i, l := range lines {
		fmt.Fprintf(&b, "k %d %s %s '%s' '%s' %s %s %s\n", i+1, l.path, l.kind, l.before, l.after, l.inode, l.content,
			l.read)
	}

	b.WriteString(
		"sync \"$kept/originals\" 2>/dev/null || sync\n\nif [ \"$way\" = do ]; then\n  : # first whatever closes, " +
			"from the outer folder inwards\n")
	for i, l := range lines {
		fmt.Fprintf(&b, "  c %d %s %s '%s' 0\n", i+1, l.path, l.kind, l.narrow)
	}

	b.WriteString("  # then whatever opens, from the inner folder outwards\n")
	for i, l := range slices.Backward(lines) {
		fmt.Fprintf(&b, "  c %d %s %s '%s' 1\n", i+1, l.path, l.kind, l.after)
	}

	b.WriteString("else\n  :\n")
	for i, l := range lines {
		fmt.Fprintf(&b, "  c %d %s %s '%s' 0\n", i+1, l.path, l.kind, l.back)
	}

	for i, l := range slices.Backward(lines) {
		fmt.Fprintf(&b, "  c %d %s %s '%s' 1\n", i+1, l.path, l.kind, l.before)
	}

	b.WriteString("fi\necho \"$done of " + fmt.Sprint(len(lines)) +
		" paths were seen to be as planned, $left are left or failed.\"\n[ \"$left\" -eq 0 ] || exit 4\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// quoted writes bytes as one word of the shell: all but NUL, which no path holds, stand for themselves there.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

// printable keeps a remark on its line.
func printable(r rune) rune {
	if r < ' ' || r == 0x7f {
		return '?'
	}
	return r
}
