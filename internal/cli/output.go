package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/rivo/uniseg"
	"github.com/spf13/cobra"

	"idletally/internal/atomicfile"
	"idletally/internal/wire"
)

type options struct {
	output  string
	config  string
	profile string // "": the one that is used
	wide    bool
	noPager bool
	finish  func() (gone bool) // of the pager
}

// fromEnvironment takes from the environment what was not given by a flag: IDLETALLY_OUTPUT, IDLETALLY_CONFIG,
// IDLETALLY_PROFILE, IDLETALLY_WIDE and IDLETALLY_NO_PAGER.
func (o *options) fromEnvironment(c *cobra.Command) error {
	for _, name := range []string{"output", "config", "profile", "wide", "no-pager"} {
		key := "IDLETALLY_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
		value, f := os.Getenv(key), c.Flag(name)
		if value == "" || f == nil || f.Changed {
			continue
		}
		if err := f.Value.Set(value); err != nil {
			return usageError{fmt.Errorf("%s %q: %w", key, value, err)}
		}
	}
	if !slices.Contains([]string{"table", "json", "csv"}, o.output) {
		return badOutput(o.output)
	}
	return nil
}

func badOutput(output string) error {
	return usageError{fmt.Errorf("--output %q is unknown: table, json or csv", output)}
}

// room returns how wide a table may be; 0 is without a bound.
func (o *options) room(w io.Writer) int {
	if o.wide {
		return 0
	}
	return width(w)
}

// show shows an answer. A list has the same form in JSON, whether it comes at once or page by page.
func (o *options) show(c *cobra.Command, t table) error {
	w := c.OutOrStdout()
	switch o.output {
	case "json":
		if list := reflect.ValueOf(t.value); list.Kind() == reflect.Slice {
			t.value = struct {
				Items any `json:"items"`
				Total int `json:"total"`
			}{t.value, list.Len()}
		}

		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(wire.WithLists(t.value))
	case "csv":
		return t.writeCSV(w, true)
	case "table":
		if len(t.rows) == 0 && t.none != "" {
			_, err := fmt.Fprintln(w, t.none)
			return err
		}
		if err := t.write(w, o.room(w), true); err != nil {
			return err
		}
		return t.footer(w)
	}

	return badOutput(o.output)
}

// quoted writes a word for a shell.
func quoted(s string) string {
	if s != "" && !strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("-_./:@", r))
	}) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// joinWords writes a list as in a sentence.
func joinWords(list []string) string {
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " and " + list[len(list)-1]
}

// printable keeps text that others wrote from controlling the terminal.
func printable(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '\t' {
			return ' '
		}
		if r == '\n' || r == utf8.RuneError || unicode.IsGraphic(r) {
			return r
		}
		return '�'
	}, s)
}

func when(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func whenever(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return when(*t)
}

func faulty(f string) string {
	if f == "" {
		return ""
	}
	return ": " + f
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func printf(c *cobra.Command, format string, a ...any) {
	tell(c.OutOrStdout(), format+"\n", a...)
}

// tell writes for a person at a terminal: all that the command line says besides its tables goes through here.
func tell(w io.Writer, format string, a ...any) {
	_, _ = fmt.Fprint(w, printable(fmt.Sprintf(format, a...)))
}

// fields shows one thing as name and value, a line each.
func fields(pairs ...any) table {
	t := table{head: []string{"", ""}}
	for i := 0; i+1 < len(pairs); i += 2 {
		if cell(pairs[i+1], false) != "" {
			t.add(pairs[i], pairs[i+1])
		}
	}
	return t
}

// lines are pairs for several lines of one name, which stands before the first.
func lines(name string, list []string) (pairs []any) {
	for _, l := range list {
		pairs = append(pairs, name, l)
		name = ""
	}
	return pairs
}

func (o *options) showOne(c *cobra.Command, value any, pairs ...any) error {
	t := fields(pairs...)
	t.value = value
	if o.output != "table" {
		t.head = []string{"field", "value"}
		return o.show(c, t)
	}

	w := c.OutOrStdout()
	wide := 0
	for _, r := range t.rows {
		wide = max(wide, uniseg.StringWidth(cell(r[0], false)))
	}

	for _, r := range t.rows {
		name := cell(r[0], false)
		fmt.Fprintf(w, "%s%s  %s\n", name, strings.Repeat(" ", wide-uniseg.StringWidth(name)),
			printable(cell(r[1], false)))
	}

	return nil
}

// readAtMost reads input that should be small.
func readAtMost(r io.Reader, most int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("the input has more than %d bytes", most)
	}
	return b, err
}

// logger makes the log; its level can be changed later.
func logger(c *cobra.Command, level string) (*slog.Logger, *slog.LevelVar, error) {
	l := new(slog.LevelVar)
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, nil, usageError{fmt.Errorf("--log-level %q is unknown: debug, info, warn or error", level)}
	}
	return slog.New(slog.NewJSONHandler(c.ErrOrStderr(), &slog.HandlerOptions{Level: l})), l, nil
}

// create makes a file whole or not at all: it has its name only when all of it is written. Something that exists and
// is no regular file, such as a device or a pipe, is written into; a link stays, and leads to what was made.
func create(name string, write func(io.Writer) error) (err error) {
	name, plain, err := destination(name)
	if err != nil {
		return err
	}

	if !plain {
		f, err := os.OpenFile(name, os.O_WRONLY, 0)
		if err != nil {
			return err
		}
		return errors.Join(write(f), f.Close())
	}

	return atomicfile.Stream(name, func(f *os.File) error { return write(f) })
}

// destination returns where a file of some name is to be written, and whether that is a regular file, or none yet,
// which can be replaced.
func destination(name string) (at string, plain bool, err error) {
	if name == "" {
		return "", false, usageError{errors.New("the file has no name")}
	}

	st, err := os.Stat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if _, err := os.Lstat(name); err == nil {
			return "", false, fmt.Errorf("%s is a link that leads nowhere", name)
		}
		return name, true, nil
	case err != nil:
		return "", false, err
	case st.IsDir():
		return "", false, fmt.Errorf("%s is a folder: give a file in it", name)
	case !st.Mode().IsRegular():
		return name, false, nil
	}

	at, err = filepath.EvalSymlinks(name)
	return at, true, err
}
