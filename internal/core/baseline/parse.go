package baseline

import (
	"bytes"
	"cmp"
	_ "embed"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
)

// Schema is the JSON Schema (draft 2020-12) of the language, for editors.
//
//go:embed schema.json
var Schema []byte

// LanguageVersion is what the key "idletally" must say.
const LanguageVersion = "1"

// An Env is what a text is read with, and for which host.
type Env struct {
	Host string // "" reads it for no host in particular
	Tags []string
	// Fetch gives the published text of another application, for includes.
	Fetch func(application string) ([]byte, error)
}

// Parse reads a document for no host in particular. The error, if there is one, is an Errors with
// every fault found.
func Parse(text []byte) (*Document, error) { return ParseFor(text, Env{}) }

// ParseFor reads a document as it reads for one host.
func ParseFor(text []byte, env Env) (*Document, error) {
	r := newReader(env)
	var d *Document
	r.bounded(func() {
		body := r.body(text)
		if body == nil {
			return
		}
		r.builtin()
		d = r.document(body)
	})
	if len(r.errs) > 0 {
		return nil, r.errs.sorted()
	}
	return d, nil
}

// sorted puts errors in the order of the text.
func (e Errors) sorted() Errors {
	slices.SortStableFunc(e, func(a, b *Error) int { return cmp.Or(a.Line-b.Line, a.Column-b.Column) })
	return e
}

type reader struct {
	env       Env
	errs      Errors
	varies    bool
	variables map[string]value
	forms     map[string]*node
	modes     map[string]*mode.Declared // a text that stands in many rules is read once
	including []string                  // the way of includes that led here
	included  map[string]bool           // all that were taken over, by whichever way
	spent     *budget
}

func newReader(env Env) *reader {
	return &reader{
		env:       env,
		variables: map[string]value{},
		forms:     map[string]*node{},
		modes:     map[string]*mode.Declared{},
		included:  map[string]bool{},
		spent:     &budget{},
	}
}

// part returns a reader for an included text.
func (r *reader) part() *reader {
	return &reader{
		env:       r.env,
		variables: r.variables,
		forms:     r.forms,
		modes:     r.modes,
		included:  r.included,
		spent:     r.spent,
	}
}

func at(n *node) Position {
	if n == nil {
		return Position{1, 1}
	}
	return n.Position
}

// fail notes an error. Long values are cut in it, and after a number of errors reading stops.
func (r *reader) fail(n *node, format string, args ...any) {
	for i, a := range args {
		switch a := a.(type) {
		case string:
			args[i] = cut(a)
		case error:
			args[i] = cut(a.Error())
		}
	}
	r.note(&Error{at(n), fmt.Sprintf(format, args...)})
}

func (r *reader) note(e *Error) {
	r.errs = append(r.errs, e)
	if r.spent.errors >= maxErrors {
		e.Message += fmt.Sprintf("; after %d errors the rest is not looked at", maxErrors)
		panic(errEnough)
	}
	r.spent.errors++
}

// body parses a text; nil where that failed.
func (r *reader) body(text []byte) *node {
	r.spend(&r.spent.texts, len(text), maxTexts, nil, "bytes")
	// a byte order mark may stand there (YAML 1.2.2, 5.2)
	n, fault := parse(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf")))
	if fault != nil {
		r.note(fault)
		return nil
	}
	return n
}

// pairs reads a mapping, telling unknown keys and the nearest known one.
func (r *reader) pairs(n *node, what string, known []string, f func(key string, v *node)) {
	if n.kind != aMapping {
		r.fail(n, "%s must be a mapping of keys to values, this is %s", what, kindOf(n))
		return
	}

	seen := map[string]bool{}
	for _, p := range n.pairs {
		r.spend(&r.spent.steps, 1, maxSteps, p.key, "pieces")
		key := p.key.text
		switch {
		case p.key.kind != aValue:
			r.fail(p.key, "a key of %s is %s: want one word", what, kindOf(p.key))
		case key == "<<":
			r.fail(p.key, "merge keys (<<) are not part of the language: write the keys out")
		case seen[key]:
			r.fail(p.key, "%q stands twice in %s", key, what)
		case known != nil && !slices.Contains(known, key):
			r.fail(p.key, "%s has no key %q: %s", what, key, suggest(key, known))
		default:
			seen[key] = true
			f(key, p.value)
		}
	}
}

func kindOf(n *node) string {
	switch n.kind {
	case aList:
		return "a list"
	case aMapping:
		return "a mapping"
	case nothing:
		return "empty"
	case foreign:
		return n.text
	}
	return fmt.Sprintf("%q", cut(n.text))
}

func suggest(got string, known []string) string {
	best, distance := "", 4
	for _, k := range known {
		if len(got) > len(k)+distance {
			continue
		}
		if d := edits(got, k); d < distance {
			best, distance = k, d
		}
	}
	if best != "" {
		return fmt.Sprintf("did you mean %q?", best)
	}
	return "known keys are " + strings.Join(known, ", ")
}

// edits is the Levenshtein distance.
func edits(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}

	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}

			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}

	return row[len(b)]
}

// scalar returns a value's text, with the values of variables in it.
func (r *reader) scalar(n *node, what string) (string, bool) {
	s, ok := r.raw(n, what)
	if !ok {
		return "", false
	}
	return r.expand(n, s)
}

// raw returns a value's text as it stands: 0640 stays "0640" however YAML would read it.
func (r *reader) raw(n *node, what string) (string, bool) {
	if n.kind == aValue {
		return n.text, true
	}
	r.fail(n, "%s must be one value, this is %s", what, kindOf(n))
	return "", false
}

func (r *reader) list(n *node, what string, f func(*node)) {
	if n.kind != aList {
		r.fail(n, "%s must be a list, this is %s: write [a, b] or one \"- a\" a line", what, kindOf(n))
		return
	}
	for _, v := range n.list {
		r.spend(&r.spent.steps, 1, maxSteps, v, "pieces")
		f(v)
	}
}

// names reads a list of words, or one word.
func (r *reader) words(n *node, what string) (out []string) {
	if n.kind != aList {
		if s, ok := r.scalar(n, what); ok {
			return []string{s}
		}
		return nil
	}
	r.list(n, what, func(v *node) {
		if s, ok := r.scalar(v, what); ok {
			out = append(out, s)
		}
	})
	return out
}

// Name is the shape of the names that users give: to applications, hosts, tags and rules.
var Name = regexp.MustCompile(`^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$`)

// accountName is the portable user name of POSIX.1-2024 3.409, with the trailing $ and the
// separators that directory services use.
var accountName = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.@\\-]{0,62}\$?$`)

// Nameable reports whether a baseline can use a name for an account.
func Nameable(name string) bool { return name != anyWord && accountName.MatchString(name) }

func (r *reader) name(n *node, what string) string {
	s, ok := r.scalar(n, what)
	if ok && !Name.MatchString(s) {
		r.fail(n, "%s %q: want 1 to 64 of a-z 0-9 . _ -, beginning and ending with a letter or digit", what, s)
	}
	return s
}

func (r *reader) roots(n *node) (out []string) {
	r.list(n, "roots", func(v *node) {
		s, ok := r.path(v, "root")
		if !ok {
			return
		}

		if strings.ContainsAny(s, "*?[") {
			r.fail(v, "root %q holds a wildcard: name the folder itself, and use patterns in rules", s)
			return
		}

		if len(out) == MaxRoots {
			r.stop(v, "more than %d roots: name the folders above them", MaxRoots)
		}

		for _, other := range out {
			if pathname.Under(s, other) || pathname.Under(other, s) {
				r.fail(v, "root %q and root %q lie in each other: keep the outer one", s, other)
			}
		}

		out = append(out, s)
	})

	if len(out) == 0 && len(r.errs) == 0 {
		r.fail(n, "roots is empty: list at least one folder")
	}

	return out
}

func (r *reader) path(n *node, what string) (string, bool) {
	s, ok := r.scalar(n, what)
	if !ok {
		return "", false
	}
	raw, err := pathname.Unescape(s)
	if err == nil {
		err = pathname.Check(raw)
	}
	if err != nil {
		r.fail(n, "%s: %v", what, err)
		return "", false
	}
	return raw, true
}

func (r *reader) patterns(n *node, what string) (out []Pattern) {
	one := func(v *node) {
		s, ok := r.path(v, what)
		if !ok {
			return
		}

		p, err := newPattern(s)
		if err != nil {
			r.fail(v, "%v", err)
			return
		}

		r.spend(&r.spent.patterns, 1, MaxPatterns, v, "patterns")
		p.Position = at(v)
		out = append(out, p)
	}

	if n.kind == aList {
		r.list(n, what, one)
	} else {
		one(n)
	}

	return out
}

// ParsePattern reads a single path pattern, escaped as paths are.
func ParsePattern(text string) (Pattern, error) {
	raw, err := pathname.Unescape(text)
	if err == nil {
		err = pathname.Check(raw)
	}
	if err != nil {
		return Pattern{}, fmt.Errorf("pattern %q: %w", text, err)
	}
	return newPattern(raw)
}

func newPattern(s string) (Pattern, error) {
	p := Pattern{Text: s}
	if s != "/" {
		p.parts = strings.Split(s[1:], "/")
	}

	for i, part := range p.parts {
		if part != "**" && strings.Contains(part, "**") {
			return p, fmt.Errorf("pattern %q: ** must be a part of its own, between slashes; inside a name write *", s)
		}
		if part == "**" && i > 0 && p.parts[i-1] == "**" {
			return p, fmt.Errorf("pattern %q: ** after ** says nothing more", s)
		}
		if _, err := path.Match(part, ""); err != nil {
			return p, fmt.Errorf("pattern %q: part %q has a [ without its ]", s, part)
		}
	}

	return p, nil
}

// Quote writes a path or a name as a pattern that matches only itself.
func Quote(path string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(path)
}

// Written returns a path, or a pattern, as a text has it: escaped, and with nothing in it that is taken for a variable.
func Written(path string) string { return strings.ReplaceAll(pathname.Escape(path), "${", `\x24{`) }

// Patterns matches paths against many patterns at once. It is not safe for concurrent use.
type Patterns struct{ m *Matcher }

// NewPatterns makes patterns ready.
func NewPatterns(list []Pattern) *Patterns {
	d := &Document{}
	for _, p := range list {
		d.Rules = append(d.Rules, Rule{Paths: []Pattern{p}})
	}
	m, _ := Compile(d, nil) // no rule names anybody
	return &Patterns{m}
}

// Match returns the numbers of the patterns that match a path, in their order.
func (p *Patterns) Match(path string) []int { return p.m.Root(path).rules }

// underRoots reports patterns that cannot match any path the baseline covers.
func (r *reader) underRoots(d *Document) {
	check := func(p Pattern, what string) {
		for _, root := range d.Roots {
			if p.canReach(root) {
				return
			}
		}
		r.note(&Error{p.Position, fmt.Sprintf("%s pattern %q lies under none of the roots (%s): it would never match",
			what, cut(pathname.Escape(p.Text)), cut(pathname.Escape(strings.Join(d.Roots, ", "))))})
	}

	if len(d.Roots) == 0 || len(r.errs) > 0 {
		return
	}

	for _, p := range d.LeaveAlone {
		check(p, "leave-alone")
	}

	for _, rule := range d.Rules {
		for _, p := range rule.Paths {
			check(p, "rule "+rule.Name+": ")
		}
	}
}

// canReach reports whether the pattern can match root or something below it.
func (p Pattern) canReach(root string) bool {
	if root == "/" {
		return true
	}

	parts := strings.Split(root[1:], "/")
	for i, part := range parts {
		if i >= len(p.parts) {
			return false
		}
		if p.parts[i] == "**" {
			return true
		}
		if ok, _ := path.Match(p.parts[i], part); !ok {
			return false
		}
	}

	return true
}
