package cli

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"

	"github.com/spf13/cobra"

	"idletally/internal/report"
)

type options struct {
	output string
	config string
}

// A table is an answer: rows for people and spreadsheets, the value for programs.
type table struct {
	head  []string
	rows  [][]string
	value any
	none  string // said in place of an empty table
}

func (t *table) add(cells ...string) { t.rows = append(t.rows, cells) }

func (o *options) show(c *cobra.Command, t table) error {
	w := c.OutOrStdout()
	switch o.output {
	case "json":
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(withLists(t.value))
	case "csv":
		cw := csv.NewWriter(w)
		if err := cw.Write(t.head); err != nil {
			return err
		}
		for _, r := range t.rows {
			for i := range r {
				r[i] = report.Cell(r[i])
			}
			if err := cw.Write(r); err != nil {
				return err
			}
		}
		cw.Flush()
		return cw.Error()
	case "table":
		if len(t.rows) == 0 && t.none != "" {
			_, err := fmt.Fprintln(w, t.none)
			return err
		}
		return t.write(w, width(w))
	}
	return usageError{fmt.Errorf("--output %q is unknown: table, json or csv", o.output)}
}

// width is the terminal's, or 0 where there is none and nothing need be cut.
func width(w io.Writer) int {
	if f, ok := w.(*os.File); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil {
			return n
		}
	}
	return 0
}

// write aligns columns with two blanks between. On a terminal the widest columns give way.
func (t *table) write(w io.Writer, limit int) error {
	cols := make([]int, len(t.head))
	lines := append([][]string{t.head}, t.rows...)
	for i := range lines {
		for j, c := range lines[i] {
			lines[i][j] = strings.ReplaceAll(printable(c), "\n", " ")
			cols[j] = max(cols[j], utf8.RuneCountInString(lines[i][j]))
		}
	}
	if limit > 0 {
		for {
			sum, widest := 2*(len(cols)-1), 0
			for j, n := range cols {
				sum += n
				if n > cols[widest] {
					widest = j
				}
			}
			if sum <= limit || cols[widest] <= 12 {
				break
			}
			cols[widest] -= min(sum-limit, cols[widest]-12)
		}
	}
	for _, line := range lines {
		var b strings.Builder
		for j, c := range line {
			n := utf8.RuneCountInString(c)
			if n > cols[j] { // the end of a path says more than its beginning
				r := []rune(c)
				c, n = "…"+string(r[len(r)-cols[j]+1:]), cols[j]
			}
			b.WriteString(c)
			if j < len(line)-1 {
				b.WriteString(strings.Repeat(" ", cols[j]-n+2))
			}
		}
		if _, err := fmt.Fprintln(w, strings.TrimRight(b.String(), " ")); err != nil {
			return err
		}
	}
	return nil
}

// printable keeps what other people wrote from steering the terminal.
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

func say(c *cobra.Command, format string, a ...any) {
	fmt.Fprintln(c.OutOrStdout(), printable(fmt.Sprintf(format, a...)))
}

// fields shows one thing as name and value, a line each.
func fields(pairs ...string) table {
	t := table{head: []string{"", ""}}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			t.add(pairs[i], pairs[i+1])
		}
	}
	return t
}

// lines are pairs for several lines of one name, which stands before the first.
func lines(name string, list []string) (pairs []string) {
	for _, l := range list {
		pairs = append(pairs, name, l)
		name = ""
	}
	return pairs
}

func (o *options) showOne(c *cobra.Command, value any, pairs ...string) error {
	t := fields(pairs...)
	t.value = value
	if o.output != "table" {
		t.head = []string{"field", "value"}
		return o.show(c, t)
	}
	w := c.OutOrStdout()
	wide := 0
	for _, r := range t.rows {
		wide = max(wide, utf8.RuneCountInString(r[0]))
	}
	for _, r := range t.rows {
		fmt.Fprintf(w, "%-*s  %s\n", wide, r[0], printable(r[1]))
	}
	return nil
}

// readAtMost reads input that is meant to be small.
func readAtMost(r io.Reader, most int64) ([]byte, error) {
	b, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(b)) > most {
		err = fmt.Errorf("the input has more than %d bytes", most)
	}
	return b, err
}

// logger makes the log, with the level that it has from now on.
func logger(c *cobra.Command, level string) (*slog.Logger, *slog.LevelVar, error) {
	l := new(slog.LevelVar)
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, nil, usageError{fmt.Errorf("--log-level %q is unknown: debug, info, warn or error", level)}
	}
	return slog.New(slog.NewJSONHandler(c.ErrOrStderr(), &slog.HandlerOptions{Level: l})), l, nil
}

// create makes a file whole or not at all: it has its name only when all of it is written. What is there and is no file, such as a device or a
// pipe, is written into; a link stays, and leads to what was made.
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
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+"-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(f.Name()))
		}
	}()
	err = write(f)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}

// destination says where a file of some name is to be written, and whether that is a plain one, or none yet, which can be replaced.
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
