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
	"github.com/goccy/go-yaml/token"

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

// Parse reads a document. The error, if there is one, is an Errors with every fault found.
func Parse(text []byte) (*Document, error) {
	if len(text) > MaxBytes {
		return nil, Errors{{Position{1, 1}, fmt.Sprintf("the baseline has %d bytes, at most %d are allowed", len(text), MaxBytes)}}
	}
	p := &reader{}
	body, err := p.body(text)
	if err != nil {
		return nil, Errors{err}
	}
	d := p.document(body)
	if len(p.errs) > 0 {
		slices.SortStableFunc(p.errs, func(a, b *Error) int { return (a.Line-b.Line)*10000 + a.Column - b.Column })
		return nil, p.errs
	}
	return d, nil
}

type reader struct{ errs Errors }

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

// scalar gives a value's raw text: 0640 stays "0640" however YAML would read it.
func (r *reader) scalar(n ast.Node, what string) (string, bool) {
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

func (r *reader) name(n ast.Node, what string) string {
	s, ok := r.scalar(n, what)
	if ok && !Name.MatchString(s) {
		r.fail(n, "%s %q: want 1 to 64 of a-z 0-9 . _ -, beginning and ending with a letter or digit", what, s)
	}
	return s
}

var (
	documentKeys = []string{"idletally", "application", "title", "hosts", "roots", "accounts", "leave-alone", "rules"}
	hostKeys     = []string{"names", "tags"}
	ruleKeys     = []string{"rule", "paths", "why", "severity", "owner", "group", "files", "folders", "entries", "defaults"}
)

func (r *reader) document(n ast.Node) *Document {
	d := &Document{Accounts: map[string]string{}}
	seen := map[string]ast.Node{}
	r.pairs(n, "a baseline", documentKeys, func(key string, v ast.Node) {
		seen[key] = v
		switch key {
		case "idletally":
			if s, ok := r.scalar(v, "the language version"); ok && s != LanguageVersion {
				r.fail(v, "language version %q is unknown: this program reads version %s", s, LanguageVersion)
			}
		case "application":
			d.Application = r.name(v, "application")
		case "title":
			d.Title, _ = r.scalar(v, "title")
		case "hosts":
			r.pairs(v, "hosts", hostKeys, func(key string, v ast.Node) {
				for _, s := range r.words(v, "hosts."+key) {
					if !Name.MatchString(s) {
						r.fail(v, "%q cannot be a host's name or tag: want a-z 0-9 . _ -", s)
					}
					if key == "names" {
						d.HostNames = append(d.HostNames, s)
					} else {
						d.HostTags = append(d.HostTags, s)
					}
				}
			})
		case "roots":
			d.Roots = r.roots(v)
		case "accounts":
			r.pairs(v, "accounts", nil, func(key string, v ast.Node) {
				s, ok := r.scalar(v, "account "+key)
				if ok && !accountName.MatchString(s) {
					r.fail(v, "account %q: %q cannot be an account's name", key, s)
				}
				d.Accounts[key] = s
			})
		case "leave-alone":
			d.LeaveAlone = r.patterns(v, "leave-alone")
		case "rules":
			names := map[string]bool{}
			r.list(v, "rules", func(v ast.Node) {
				if len(d.Rules) == MaxRules {
					r.fail(v, "more than %d rules: split the baseline", MaxRules)
				}
				rule := r.rule(v)
				if rule.Name != "" && names[rule.Name] {
					r.fail(v, "a second rule is called %q: findings name their rule, so names must differ", rule.Name)
				}
				names[rule.Name] = true
				d.Rules = append(d.Rules, rule)
			})
		}
	})
	for _, key := range []string{"idletally", "application", "hosts", "roots", "rules"} {
		if seen[key] == nil && len(r.errs) == 0 {
			r.fail(n, "the baseline has no %q: %s", key, map[string]string{
				"idletally":   "begin with \"idletally: 1\", the language version",
				"application": "name the application, such as \"application: ticketing\"",
				"hosts":       "say which hosts, such as \"hosts: {tags: [ticketing]}\"",
				"roots":       "list the folders it keeps, such as \"roots: [/srv/ticketing]\"",
				"rules":       "list at least one rule",
			}[key])
		}
	}
	if seen["hosts"] != nil && len(d.HostNames)+len(d.HostTags) == 0 && len(r.errs) == 0 {
		r.fail(seen["hosts"], "hosts names no host: give names or tags")
	}
	r.underRoots(d)
	return d
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
		p := Pattern{Position: at(v), Text: s}
		if s != "/" {
			p.parts = strings.Split(s[1:], "/")
		}
		for i, part := range p.parts {
			if part != "**" && strings.Contains(part, "**") {
				r.fail(v, "pattern %q: ** must be a part of its own, between slashes; inside a name write *", s)
				return
			}
			if part == "**" && i > 0 && p.parts[i-1] == "**" {
				r.fail(v, "pattern %q: ** after ** says nothing more", s)
				return
			}
			if _, err := path.Match(part, ""); err != nil {
				r.fail(v, "pattern %q: part %q has a [ without its ]", s, part)
				return
			}
		}
		out = append(out, p)
	}
	if _, ok := n.(*ast.SequenceNode); ok {
		r.list(n, what, one)
	} else {
		one(n)
	}
	return out
}

func (r *reader) rule(n ast.Node) Rule {
	rule := Rule{Position: at(n), Severity: Serious}
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 {
		rule.Position = at(m.Values[0].Key)
	}
	who := func(v ast.Node, what string) *Who {
		s, ok := r.scalar(v, what)
		if ok && !accountName.MatchString(s) {
			r.fail(v, "%s %q cannot be an account's name", what, s)
		}
		return &Who{at(v), s}
	}
	declared := 0
	r.pairs(n, "a rule", ruleKeys, func(key string, v ast.Node) {
		declared++
		switch key {
		case "rule":
			rule.Name = r.name(v, "rule")
			declared--
		case "paths":
			rule.Paths = r.patterns(v, "paths")
			declared--
		case "why":
			rule.Why, _ = r.scalar(v, "why")
			declared--
		case "severity":
			declared--
			s, ok := r.scalar(v, "severity")
			rule.Severity = Severity(s)
			if ok && !slices.Contains(Severities, rule.Severity) {
				r.fail(v, "severity %q is unknown: minor, serious or grave", s)
			}
		case "owner":
			rule.Owner = who(v, "owner")
		case "group":
			rule.Group = who(v, "group")
		case "files":
			rule.Files = r.mode(v)
		case "folders":
			rule.Folders = r.mode(v)
		case "entries":
			rule.Entries = r.grants(v, key)
		case "defaults":
			rule.Defaults = r.grants(v, key)
		}
	})
	switch {
	case len(r.errs) > 0:
	case rule.Name == "":
		r.errs = append(r.errs, &Error{rule.Position, "the rule has no name: begin it with \"- rule: NAME\", findings refer to it"})
	case len(rule.Paths) == 0:
		r.errs = append(r.errs, &Error{rule.Position, fmt.Sprintf("rule %q has no paths: say where it holds, such as \"paths: /srv/app/**\"", rule.Name)})
	case declared == 0:
		r.errs = append(r.errs, &Error{rule.Position, fmt.Sprintf("rule %q declares nothing: give owner, group, files, folders, entries or defaults", rule.Name)})
	}
	return rule
}

func (r *reader) mode(n ast.Node) *mode.Mode {
	s, ok := r.scalar(n, "mode")
	if !ok {
		return nil
	}
	if n.GetToken().Type == token.FloatType {
		r.fail(n, "mode %q is not octal: want 1 to 4 digits 0 to 7, such as 0640", s)
		return nil
	}
	m, err := mode.ParseOctal(s)
	if err != nil {
		if m, err2 := mode.ParseLetters(s); err2 == nil {
			return &m
		}
		r.fail(n, "%v", err)
	}
	return &m
}

func (r *reader) grants(n ast.Node, what string) *[]Grant {
	out := []Grant{}
	if s, ok := n.(*ast.StringNode); ok && s.Value == "none" {
		return &out
	}
	seen := map[string]bool{}
	r.list(n, what, func(v ast.Node) {
		s, ok := r.scalar(v, what)
		if !ok {
			return
		}
		parts := strings.Split(s, ":")
		if len(parts) != 3 || parts[0] != "user" && parts[0] != "group" {
			r.fail(v, "entry %q: want user:NAME:rwx or group:NAME:rwx", s)
			return
		}
		if !accountName.MatchString(parts[1]) {
			r.fail(v, "entry %q: %q cannot be an account's name; the owner's and the owning group's rights are in files and folders", s, parts[1])
			return
		}
		g := Grant{Position: at(v), Group: parts[0] == "group", Name: parts[1]}
		letters := parts[2]
		if strings.Contains(letters, "X") {
			g.Conditionally = true
			letters = strings.Replace(letters, "X", "-", 1)
		}
		p, err := mode.ParsePerm(letters)
		if err != nil {
			r.fail(v, "entry %q: %v", s, err)
			return
		}
		g.Perm = p
		if key := parts[0] + ":" + parts[1]; seen[key] {
			r.fail(v, "entry %q: %s stands twice", s, key)
		} else {
			seen[key] = true
		}
		out = append(out, g)
	})
	return &out
}

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
