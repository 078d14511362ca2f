package cli

import (
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/rivo/uniseg"
	"golang.org/x/term"

	"idletally/internal/report"
	"idletally/internal/wire"
)

// A table is an answer: rows for people and spreadsheets, the value for programs.
type table struct {
	head  []string
	rows  [][]any
	value any
	none  string // said in place of an empty table

	cols []int // how wide its columns are, once some of it is written
	left []string
}

// add adds a row. A cell is a text, a number, a time (in the reader's own zone for people, and RFC 3339 for
// programs), an effect, or nothing.
func (t *table) add(cells ...any) { t.rows = append(t.rows, cells) }

// An effect is a finding's word; for people it has its shape, so that it works without colour.
type effect string

// forms is a cell with different forms for people and for programs.
type forms struct {
	people   string
	programs any
}

// place says where a number of paths lie: for programs the folder that holds them all, or the path itself if it is
// one.
func place(count int, folder, example string) forms {
	f := forms{wire.Place(count, folder, example), folder}
	if count == 1 {
		f.programs = example
	}
	return f
}

// meaning is what a change means for whom, of which there may be several.
func meaning(text string) forms { return forms{text, strings.ReplaceAll(text, " · ", "; ")} }

// cell writes a cell.
func cell(v any, forPrograms bool) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case forms:
		if forPrograms {
			return cell(v.programs, true)
		}
		return v.people
	case effect:
		if forPrograms {
			return string(v)
		}
		return mark(string(v))
	case int:
		return strconv.Itoa(v)
	case int64:
		return strconv.FormatInt(v, 10)
	case time.Time:
		if v.IsZero() {
			return ""
		}
		if forPrograms {
			return v.UTC().Format(time.RFC3339)
		}
		return when(v)

	case *time.Time:
		if v != nil {
			return cell(*v, forPrograms)
		}
		if forPrograms {
			return ""
		}
		return "never"
	}

	return fmt.Sprint(v)
}

// writeCSV writes the rows for programs.
func (t *table) writeCSV(w io.Writer, withHead bool) error {
	cw := csv.NewWriter(w)
	if withHead {
		if err := cw.Write(t.head); err != nil {
			return err
		}
	}

	for _, r := range t.rows {
		line := make([]string, len(r))
		for i, c := range r {
			line[i] = report.Cell(cell(c, true))
		}
		if err := cw.Write(line); err != nil {
			return err
		}
	}

	cw.Flush()
	return cw.Error()
}

// gives are the columns that are left out where a terminal is too narrow, in this order: what others tell as well, or
// is seldom asked for. Those that name a thing, tell a time or count stay.
var gives = []string{
	"ROOT HASH", "COMMIT", "GO", "TOKEN", "SYSTEM", "GAPS", "EDITION", "PROTOCOL", "JUDGED", "DECIDED BY", "DRAFTED",
	"BY", "AUTHOR", "FROM", "KIND", "FOR", "TAGS", "RULE", "SEVERITY", "GROUP OF", "SINCE",
}

// shrinks are the columns that are shortened before others are left out; of paths the end stays.
var (
	shrinks = []string{
		"DETAIL", "NAME OF", "TITLE", "REASON", "MESSAGE", "WHY", "WHY, COMPUTED", "HOW IT WAS TRIED", "DECLARED",
		"FOUND", "BEFORE", "AFTER", "STATE", "WATCH", "EFFECT", "CAUSE", "INSTEAD", "WHAT", "WHAT TO DO", "FAULT",
		"ROLES", "DECIDED BY",
	}
	ends = []string{"PATH", "WHERE", "EXAMPLE", "IN", "FOLDER", "PATHS OF"}
)

const (
	narrow   = 24 // columns that shrink do so down to it, before others are left out
	narrower = 12 // and afterwards
)

// fit returns how wide columns are on a terminal of so many cells, 0 for no bound; -1 is left out.
func fit(head []string, cols []int, limit int) (out []int, left []string) {
	out = slices.Clone(cols)
	over := func() int {
		sum := -2
		for _, n := range out {
			if n >= 0 {
				sum += n + 2
			}
		}
		return sum - limit
	}

	shrink := func(to int) {
		for limit > 0 && over() > 0 {
			widest := -1
			for j, h := range head {
				if (slices.Contains(shrinks, h) || slices.Contains(ends, h)) && out[j] > to &&
					(widest < 0 || out[j] > out[widest]) {
					widest = j
				}
			}

			if widest < 0 {
				return
			}

			out[widest] -= min(over(), out[widest]-to)
		}
	}

	shrink(narrow)
	for _, h := range gives {
		if j := slices.Index(head, h); j >= 0 && out[j] >= 0 && limit > 0 && over() > 0 {
			out[j] = -1
			left = append(left, h)
		}
	}

	shrink(narrower)
	return out, left
}

// write aligns columns with two blanks between. On a terminal some are shortened.
func (t *table) write(w io.Writer, limit int, withHead bool) error {
	cols := make([]int, len(t.head))
	lines := make([][]string, 0, len(t.rows)+1)
	if withHead {
		lines = append(lines, t.head)
	}

	for _, r := range t.rows {
		line := make([]string, len(r))
		for j, c := range r {
			line[j] = strings.ReplaceAll(printable(cell(c, false)), "\n", " ")
		}
		lines = append(lines, line)
	}

	for _, line := range lines {
		for j, c := range line {
			cols[j] = max(cols[j], uniseg.StringWidth(c))
		}
	}

	if t.cols == nil || limit == 0 {
		for j, n := range t.cols { // what came before has its columns
			cols[j] = max(cols[j], n)
		}
		t.cols, t.left = fit(t.head, cols, limit)
	}

	for _, line := range lines {
		var b strings.Builder
		for j, c := range line {
			wide := t.cols[j]
			if wide < 0 {
				continue
			}

			c = t.cut(j, c, wide)
			b.WriteString(c)
			b.WriteString(strings.Repeat(" ", max(0, wide-uniseg.StringWidth(c))+2))
		}
		if _, err := fmt.Fprintln(w, strings.TrimRight(b.String(), " ")); err != nil {
			return err
		}
	}

	return nil
}

// cut shortens a cell to the room that there is, if its column is one that shrinks.
func (t *table) cut(column int, c string, wide int) string {
	end := slices.Contains(ends, t.head[column])
	if uniseg.StringWidth(c) <= wide || !end && !slices.Contains(shrinks, t.head[column]) {
		return c
	}

	var clusters []string
	for g := uniseg.NewGraphemes(c); g.Next(); {
		clusters = append(clusters, g.Str())
	}

	if end { // the end of a path says more than its beginning
		slices.Reverse(clusters)
	}

	kept, n := []string{}, 1
	for _, x := range clusters {
		n += uniseg.StringWidth(x)
		if n > wide {
			break
		}
		kept = append(kept, x)
	}

	if end {
		slices.Reverse(kept)
		return "…" + strings.Join(kept, "")
	}

	return strings.Join(kept, "") + "…"
}

// width is the terminal's, or 0 if there is none and nothing need be cut.
func width(w io.Writer) int {
	if p, ok := w.(*pager); ok {
		w = p.to
	}
	if f, ok := w.(*os.File); ok {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil {
			return n
		}
	}
	return 0
}
