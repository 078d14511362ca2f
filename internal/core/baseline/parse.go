package baseline

import (
	_ "embed"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"idletally/internal/core/mode"
	"idletally/internal/core/pathname"
)

// Schema is the JSON Schema (draft 2020-12) of the language, for editors.
//
//go:embed schema.json
var Schema []byte

// The limits of a document.
const (
	MaxBytes = 1 << 20
	MaxRules = 10_000
	maxDepth = 16
)

// LanguageVersion is what the key "idletally" must say.
const LanguageVersion = "1"

// An Env is what a text is read for and with.
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
	p := &reader{env: env, variables: map[string]value{}, forms: map[string]ast.Node{}, modes: map[string]*mode.Wanted{}, included: map[string]bool{}}
	body, err := p.body(text)
	if err != nil {
		return nil, Errors{err}
	}
	p.builtin()
	d := p.document(body)
	if len(p.errs) > 0 {
		slices.SortStableFunc(p.errs, func(a, b *Error) int { return (a.Line-b.Line)*10000 + a.Column - b.Column })
		return nil, p.errs
	}
	return d, nil
}

type reader struct {
	env       Env
	errs      Errors
	varies    bool
	variables map[string]value
	forms     map[string]ast.Node
	modes     map[string]*mode.Wanted // a text that stands in many rules is read once
	including []string                // the way of includes that led here
	included  map[string]bool         // all that were taken over, by whichever way
}

func at(n ast.Node) Position {
	if n == nil || n.GetToken() == nil || n.GetToken().Position == nil {
		return Position{1, 1}
	}
	p := n.GetToken().Position
	return Position{p.Line, p.Column}
}

func (r *reader) fail(n ast.Node, format string, args ...any) {
	r.errs = append(r.errs, &Error{at(n), fmt.Sprintf(format, args...)})
}

func (r *reader) body(text []byte) (n ast.Node, fault *Error) {
	defer func() { // a fault of the YAML package must not be one of the service
		if v := recover(); v != nil {
			n, fault = nil, &Error{Position{1, 1}, fmt.Sprintf("the document cannot be read as YAML: %v", v)}
		}
	}()
	if len(text) > MaxBytes {
		return nil, &Error{Position{1, 1}, fmt.Sprintf("the baseline has %d bytes, at most %d are allowed", len(text), MaxBytes)}
	}
	if strings.ContainsRune(string(text), 0) {
		return nil, &Error{Position{1, 1}, "the document holds a NUL byte: a baseline is YAML text in UTF-8"}
	}
	f, err := parser.ParseBytes(text, 0)
	if err != nil {
		var syntax *yaml.SyntaxError
		if errors.As(err, &syntax) && syntax.Token != nil && syntax.Token.Position != nil {
			return nil, &Error{Position{syntax.Token.Position.Line, syntax.Token.Position.Column}, "not valid YAML: " + syntax.Message}
		}
		return nil, &Error{Position{1, 1}, "not valid YAML: " + err.Error()}
	}
	var bodies []ast.Node
	for _, doc := range f.Docs {
		if doc.Body != nil {
			bodies = append(bodies, doc.Body)
		}
	}
	switch len(bodies) {
	case 0:
		return nil, &Error{Position{1, 1}, "the document is empty: begin with \"idletally: 1\""}
	case 1:
		return bodies[0], nil
	}
	return nil, &Error{at(bodies[1]), "a second YAML document begins here: one file holds one baseline"}
}

// pairs reads a mapping, telling unknown keys and the nearest known one.
func (r *reader) pairs(n ast.Node, what string, known []string, f func(key string, v ast.Node)) {
	var values []*ast.MappingValueNode
	switch m := n.(type) {
	case *ast.MappingNode:
		values = m.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{m}
	default:
		r.fail(n, "%s must be a mapping of keys to values, this is %s", what, kindOf(n))
		return
	}
	seen := map[string]bool{}
	for _, v := range values {
		key := v.Key.GetToken().Value
		switch {
		case v.Key.IsMergeKey():
			r.fail(v.Key, "merge keys (<<) are not part of the language: write the keys out")
		case seen[key]:
			r.fail(v.Key, "%q stands twice in %s", key, what)
		case known != nil && !slices.Contains(known, key):
			r.fail(v.Key, "%s has no key %q: %s", what, key, suggest(key, known))
		default:
			seen[key] = true
			f(key, v.Value)
		}
	}
}

func kindOf(n ast.Node) string {
	switch n.(type) {
	case *ast.SequenceNode:
		return "a list"
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a mapping"
	case *ast.NullNode:
		return "empty"
	case *ast.AliasNode, *ast.AnchorNode:
		return "an anchor or alias, which the language does not have"
	}
	return fmt.Sprintf("%q", n.GetToken().Value)
}

func suggest(got string, known []string) string {
	best, distance := "", 4
	for _, k := range known {
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

// scalar gives a value's text, with the values of variables in it.
func (r *reader) scalar(n ast.Node, what string) (string, bool) {
	s, ok := r.raw(n, what)
	if !ok {
		return "", false
	}
	return r.expand(n, s)
}

// raw gives a value's text as it stands: 0640 stays "0640" however YAML would read it.
func (r *reader) raw(n ast.Node, what string) (string, bool) {
	switch s := n.(type) {
	case *ast.StringNode:
		return s.Value, true
	case *ast.LiteralNode:
		return s.Value.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.GetToken().Value, true
	}
	r.fail(n, "%s must be one value, this is %s", what, kindOf(n))
	return "", false
}

func (r *reader) list(n ast.Node, what string, f func(ast.Node)) {
	s, ok := n.(*ast.SequenceNode)
	if !ok {
		r.fail(n, "%s must be a list, this is %s: write [a, b] or one \"- a\" a line", what, kindOf(n))
		return
	}
	for _, v := range s.Values {
		f(v)
	}
}

// names reads a list of words, or one word.
func (r *reader) words(n ast.Node, what string) (out []string) {
	if _, ok := n.(*ast.SequenceNode); !ok {
		if s, ok := r.scalar(n, what); ok {
			return []string{s}
		}
		return nil
	}
	r.list(n, what, func(v ast.Node) {
		if s, ok := r.scalar(v, what); ok {
			out = append(out, s)
		}
	})
	return out
}

// Name is the shape of names that we give: applications, hosts, tags, rules.
var Name = regexp.MustCompile(`^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$`)

// accountName is the portable user name of POSIX.1-2024 3.409, with the trailing $ and the
// separators that directory services use.
var accountName = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.@\\-]{0,62}\$?$`)

// Nameable says whether a baseline can call an account by a name.
func Nameable(name string) bool { return name != anyWord && accountName.MatchString(name) }

func (r *reader) name(n ast.Node, what string) string {
	s, ok := r.scalar(n, what)
	if ok && !Name.MatchString(s) {
		r.fail(n, "%s %q: want 1 to 64 of a-z 0-9 . _ -, beginning and ending with a letter or digit", what, s)
	}
	return s
}

func (r *reader) roots(n ast.Node) (out []string) {
	r.list(n, "roots", func(v ast.Node) {
		s, ok := r.path(v, "root")
		if !ok {
			return
		}
		if strings.ContainsAny(s, "*?[") {
			r.fail(v, "root %q holds a wildcard: name the folder itself, and use patterns in rules", s)
			return
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

func (r *reader) path(n ast.Node, what string) (string, bool) {
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

func (r *reader) patterns(n ast.Node, what string) (out []Pattern) {
	one := func(v ast.Node) {
		s, ok := r.path(v, what)
		if !ok {
			return
		}
		p, err := newPattern(s)
		if err != nil {
			r.fail(v, "%v", err)
			return
		}
		p.Position = at(v)
		out = append(out, p)
	}
	if _, ok := n.(*ast.SequenceNode); ok {
		r.list(n, what, one)
	} else {
		one(n)
	}
	return out
}

// ParsePattern reads a path pattern by itself, escaped as paths are.
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

// Quote writes a path or a name so that it stands, as a pattern, for itself alone.
func Quote(path string) string {
	return strings.NewReplacer(`\`, `\\`, `*`, `\*`, `?`, `\?`, `[`, `\[`).Replace(path)
}

// Patterns holds paths against many patterns at once. It is not safe for concurrent use.
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

// Match gives the numbers of the patterns that match a path, in their order.
func (p *Patterns) Match(path string) []int { return p.m.Root(path).rules }

// underRoots tells patterns that can match nothing the baseline keeps.
func (r *reader) underRoots(d *Document) {
	check := func(p Pattern, what string) {
		for _, root := range d.Roots {
			if p.canReach(root) {
				return
			}
		}
		r.errs = append(r.errs, &Error{p.Position, fmt.Sprintf("%s pattern %q lies under none of the roots (%s): it would never match",
			what, pathname.Escape(p.Text), pathname.Escape(strings.Join(d.Roots, ", ")))})
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

// canReach says whether the pattern can match root or something below it.
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
