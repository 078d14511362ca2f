package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/wire"
)

// A listing is how much of a list is wanted.
type listing struct {
	most  int
	all   bool
	after string
}

// listFlags are the flags for how much of its list a command shows; most is the default.
func listFlags(c *cobra.Command, l *listing, most int) {
	c.Flags().IntVar(&l.most, "most", most, "how many at the most")
	c.Flags().BoolVar(&l.all, "all", false, "all of them, as they come")
	c.Flags().StringVar(&l.after, "after", "",
		"go on after this: what a list that was cut names in the end, and JSON as next")
	c.MarkFlagsMutuallyExclusive("most", "all")
}

// A pageReader reads a list page by page, as client.Pager does.
type pageReader[T any] func(ctx context.Context, after string, limit int) (wire.Page[T], error)

// showPages shows the wanted part of a list, page by page, and says what it leaves out. What is listed is named for
// that: "snapshots".
func showPages[T any](
	o *options, c *cobra.Command, l listing, what string, read pageReader[T], t table, row func(*table, T),
) error {
	w := &streamed{o: o, w: c.OutOrStdout(), t: &t}
	begun := false
	got, err := readPages(c.Context(), l, read, func(items []T, last bool) error {
		for _, x := range items {
			row(&t, x)
		}

		begun = begun || len(items) > 0
		if !begun && !last {
			return nil
		}

		return w.part(items)
	})

	if err == nil {
		err = w.end(got.after, got.total)
	}

	if err != nil || got.after == "" || o.output == "json" {
		return err
	}

	to := c.OutOrStdout()
	if o.output == "csv" {
		to = c.ErrOrStderr()
	}

	got.tellRest(to, what)
	return nil
}

// eachOf hands out the wanted part of a list, where it is not shown as a table, and says what it leaves out.
func eachOf[T any](c *cobra.Command, l listing, what string, read pageReader[T], each func(T)) error {
	got, err := readPages(c.Context(), l, read, func(items []T, _ bool) error {
		for _, x := range items {
			each(x)
		}
		return nil
	})
	if err == nil && got.after != "" {
		got.tellRest(c.OutOrStdout(), what)
	}
	return err
}

// A portion is what was read of a list.
type portion struct {
	shown int
	total *int64 // in all, where that is known
	after string // where it goes on; "" where that was all
}

// tellRest says that a list was cut, and how to continue.
func (p portion) tellRest(to io.Writer, what string) {
	of := ""
	if p.total != nil {
		of = fmt.Sprintf(" of %d", *p.total)
	}
	tell(to, "%d%s %s are shown: --all shows all of them, --after %s continues.\n", p.shown, of, what, quoted(p.after))
}

// readPages reads the wanted part of a list, and hands it out as it comes; last says that there is no more.
func readPages[T any](
	ctx context.Context, l listing, read pageReader[T], part func(items []T, last bool) error,
) (got portion, err error) {
	if !l.all && l.most < 1 {
		return got, usageError{fmt.Errorf("--most %d: want 1 or more", l.most)}
	}

	after, skip := cutSkip(l.after)
	for {
		limit := 0
		if !l.all {
			limit = l.most - got.shown
		}

		page, err := read(ctx, after, limit)
		if err != nil {
			return got, err
		}

		if page.Total != nil {
			got.total = page.Total
		}

		items, next := page.Items[min(skip, len(page.Items)):], page.Next
		if !l.all && len(items) > limit { // it came with more than was asked for
			items, next = items[:limit], fmt.Sprintf("%s~%d", after, skip+limit)
		}

		skip = 0
		if err := part(items, next == ""); err != nil {
			return got, err
		}

		got.shown += len(items)
		after = next
		if after == "" || !l.all && got.shown >= l.most {
			break
		}
	}

	got.after = after
	if after == "" && l.after == "" {
		n := int64(got.shown)
		got.total = &n
	}

	return got, nil
}

// cutSkip reads where to continue: after a place in the list, and then after so many items more, "PLACE~N".
func cutSkip(text string) (after string, skip int) {
	i := strings.LastIndexByte(text, '~')
	if i < 0 {
		return text, 0
	}
	n, err := strconv.Atoi(text[i+1:])
	if err != nil || n < 0 {
		return text, 0
	}
	return text[:i], n
}

// streamed writes a list as its parts come.
type streamed struct {
	o     *options
	w     io.Writer
	t     *table
	begun bool
	items int
}

// part writes what came, and what of the table was added for it.
func (s *streamed) part(items any) error {
	first := !s.begun
	s.begun = true
	defer func() { s.t.rows = nil }()

	switch s.o.output {
	case "json":
		return s.json(first, reflect.ValueOf(items))
	case "csv":
		return s.t.writeCSV(s.w, first)
	case "table":
		if first && len(s.t.rows) == 0 && s.t.none != "" {
			_, err := fmt.Fprintln(s.w, s.t.none)
			return err
		}
		return s.t.write(s.w, s.o.room(s.w), first)
	}

	return badOutput(s.o.output)
}

func (s *streamed) json(first bool, items reflect.Value) error {
	if first {
		if _, err := io.WriteString(s.w, "{\n  \"items\": ["); err != nil {
			return err
		}
	}

	for i := range items.Len() {
		var b bytes.Buffer
		s.items++
		if s.items > 1 {
			b.WriteByte(',')
		}

		b.WriteString("\n    ")
		e := json.NewEncoder(&b)
		e.SetIndent("    ", "  ")
		e.SetEscapeHTML(false)
		if err := e.Encode(wire.WithLists(items.Index(i).Interface())); err != nil {
			return err
		}
		b.Truncate(b.Len() - 1) // the line feed
		if _, err := s.w.Write(b.Bytes()); err != nil {
			return err
		}
	}

	return nil
}

// end says what was left out of the list, and how long the list is.
func (s *streamed) end(next string, total *int64) error {
	if s.o.output != "json" {
		return s.t.footer(s.w)
	}

	end := "]"
	if s.items > 0 {
		end = "\n  ]"
	}

	if next != "" {
		text, err := json.Marshal(next)
		if err != nil {
			return err
		}
		end += ",\n  \"next\": " + string(text)
	}

	if total != nil {
		end += fmt.Sprintf(",\n  \"total\": %d", *total)
	}

	_, err := io.WriteString(s.w, end+"\n}\n")
	return err
}

// footer says which columns a narrow terminal has no room for.
func (t *table) footer(w io.Writer) error {
	if len(t.left) == 0 {
		return nil
	}
	_, err := fmt.Fprintf(w, "Left out for want of room: %s. --wide shows all.\n", joinWords(t.left))
	return err
}

// chained reads several lists as one, each by its key: where one ends the next goes on.
func chained[T any](keys []string, of func(key string) pageReader[T]) pageReader[T] {
	return func(ctx context.Context, after string, limit int) (wire.Page[T], error) {
		if len(keys) == 0 {
			return wire.Page[T]{}, nil
		}

		key, within, given := strings.Cut(after, "/")
		if !given {
			key = keys[0]
		}

		i := slices.Index(keys, key)
		if i < 0 || after != "" && !given {
			return wire.Page[T]{}, usageError{
				fmt.Errorf("--after %s: nothing here is called so by now: begin anew", after),
			}
		}

		page, err := of(key)(ctx, within, limit)
		page.Total = nil // it is of this one alone
		switch {
		case page.Next != "":
			page.Next = key + "/" + page.Next
		case i+1 < len(keys):
			page.Next = keys[i+1] + "/"
		}

		return page, err
	}
}

// counting makes a list say with its first page how long it is.
func counting[T any](read pageReader[T], total int64) pageReader[T] {
	return func(ctx context.Context, after string, limit int) (wire.Page[T], error) {
		page, err := read(ctx, after, limit)
		if after == "" {
			page.Total = &total
		}
		return page, err
	}
}
