package baseline

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// The limits of a text, which are checked before its parser runs, and of what it expands to. Nobody who may have a
// baseline checked must be able to keep the service busy with one.
const (
	MaxBytes    = 1 << 20
	MaxRules    = 10_000
	MaxPatterns = 50_000
	MaxRoots    = 200

	maxMarks    = 300_000 // characters that may begin a piece of the text
	maxDepth    = 16      // lists and mappings in each other
	maxSteps    = 500_000 // pieces that are read, one of a form each time that a rule takes it
	maxTexts    = 8 << 20 // bytes of the text, and of those that it includes
	maxExpanded = 4 << 20 // bytes of texts with the values of variables in them
	maxErrors   = 200
	maxQuoted   = 200 // bytes of a value in an error's text
)

// A kind of node.
type kind uint8

const (
	aValue kind = iota
	aList
	aMapping
	nothing // nothing stands there, or null
	foreign // what the language does not have: an anchor, an alias, a tag
)

// A node is a piece of a text: a value as it stands, or a list or mapping of others.
type node struct {
	Position
	kind  kind
	text  string // of a value; what is foreign is named by it
	float bool   // YAML takes the value for a number with a fraction or an exponent
	size  int    // how many nodes it is, with all in it
	list  []*node
	pairs []pair
}

type pair struct{ key, value *node }

// parse reads a text as YAML. The error is of type *Error.
func parse(b []byte) (n *node, fault *Error) {
	defer func() { // a fault of the YAML package must not be one of the service
		if v := recover(); v != nil {
			n, fault = nil, &Error{Position{1, 1}, fmt.Sprintf("the document cannot be read as YAML: %v", v)}
		}
	}()
	if fault := fits(b); fault != nil {
		return nil, fault
	}

	d := yaml.NewDecoder(strings.NewReader(string(b)))
	for {
		var doc yaml.Node
		err := d.Decode(&doc)
		switch {
		case errors.Is(err, io.EOF) && n == nil:
			return nil, &Error{Position{1, 1}, "the document is empty: begin with \"idletally: 1\""}
		case errors.Is(err, io.EOF):
			return n, nil
		case err != nil:
			return nil, syntaxError(err)
		case len(doc.Content) == 0 || isEmpty(doc.Content[0]):
			continue
		case n != nil:
			return nil, &Error{
				Position{doc.Content[0].Line, doc.Content[0].Column},
				"a second YAML document begins here: one file holds one baseline",
			}
		}

		n, fault = convert(doc.Content[0], 1)
		if fault != nil {
			return nil, fault
		}
	}
}

// fits says why a text is not given to the parser.
func fits(b []byte) *Error {
	if len(b) > MaxBytes {
		return &Error{
			Position{1, 1},
			fmt.Sprintf("the baseline has %d bytes, at most %d are allowed", len(b), MaxBytes),
		}
	}

	marks := 0
	for _, c := range b {
		switch c {
		case 0:
			return &Error{Position{1, 1}, "the document holds a NUL byte: a baseline is YAML text in UTF-8"}
		case '\n', '[', '{', ',', ':', '-', '?', '&', '*', '!', '#', '\'', '"':
			marks++
		}
	}

	if marks > maxMarks {
		return &Error{
			Position{1, 1},
			fmt.Sprintf("the baseline has %d lines and marks such as - and :, at most %d are allowed: split it", marks,
				maxMarks),
		}
	}

	return nil
}

var atLine = regexp.MustCompile(`^yaml: (?:line (\d+): )?`)

// syntaxError takes the line out of the parser's text.
func syntaxError(err error) *Error {
	where := Position{1, 1}
	m := atLine.FindStringSubmatch(err.Error())
	if m != nil && m[1] != "" {
		where.Line, _ = strconv.Atoi(m[1]) // digits
	}
	return &Error{where, "not valid YAML: " + atLine.ReplaceAllString(err.Error(), "")}
}

func isEmpty(n *yaml.Node) bool {
	return n.Kind == yaml.ScalarNode && n.ShortTag() == "!!null" && n.Value == ""
}

// convert takes over what the language has of YAML.
func convert(y *yaml.Node, depth int) (*node, *Error) {
	n := &node{Position: Position{y.Line, y.Column}, size: 1}
	if depth > maxDepth {
		return nil, &Error{
			n.Position, fmt.Sprintf("lists and mappings stand in each other more than %d deep", maxDepth),
		}
	}

	switch {
	case y.Kind == yaml.AliasNode || y.Anchor != "":
		n.kind, n.text = foreign, "an anchor or alias, which the language does not have"
	case y.Style&yaml.TaggedStyle != 0:
		n.kind, n.text = foreign, fmt.Sprintf("a value with the tag %s, which the language does not have", cut(y.Tag))
	case y.Kind == yaml.SequenceNode:
		n.kind = aList
		for _, c := range y.Content {
			v, fault := convert(c, depth+1)
			if fault != nil {
				return nil, fault
			}
			n.list, n.size = append(n.list, v), n.size+v.size
		}

	case y.Kind == yaml.MappingNode:
		n.kind = aMapping
		for i := 0; i+1 < len(y.Content); i += 2 {
			key, fault := convert(y.Content[i], depth+1)
			if fault != nil {
				return nil, fault
			}
			value, fault := convert(y.Content[i+1], depth+1)
			if fault != nil {
				return nil, fault
			}

			n.pairs, n.size = append(n.pairs, pair{key, value}), n.size+key.size+value.size
		}

	case y.ShortTag() == "!!null":
		n.kind = nothing
	default:
		n.text, n.float = y.Value, y.ShortTag() == "!!float" && strings.ContainsAny(y.Value, ".eE")
	}

	return n, nil
}

// holds reports whether a value in a node contains a text.
func (n *node) holds(text string) bool {
	for _, v := range n.list {
		if v.holds(text) {
			return true
		}
	}
	for _, p := range n.pairs {
		if p.value.holds(text) {
			return true
		}
	}
	return strings.Contains(n.text, text)
}

// cut shortens what an error quotes.
func cut(s string) string {
	if len(s) <= maxQuoted {
		return s
	}
	return strings.ToValidUTF8(s[:maxQuoted], "") + "…"
}

// A budget bounds what reading one text may cost, includes counted.
type budget struct{ steps, texts, expanded, patterns, errors int }

// errEnough ends reading at once; the errors found so far are reported.
var errEnough = errors.New("enough")

// spend counts, and ends reading where a text comes to more than is allowed.
func (r *reader) spend(on *int, amount, most int, n *node, what string) {
	*on += amount
	if *on > most {
		r.stop(n,
			"the baseline comes to more than %d %s, with what it includes and what its forms and variables stand "+
				"for: split it",
			most, what)
	}
}

// stop notes an error that ends reading.
func (r *reader) stop(n *node, format string, args ...any) {
	r.errs = append(r.errs, &Error{at(n), fmt.Sprintf(format, args...)})
	panic(errEnough)
}

// bounded reads as far as the budget allows.
func (r *reader) bounded(read func()) {
	defer func() {
		switch v := recover(); {
		case v == nil:
		case v != errEnough:
			panic(v)
		case len(r.errs) == 0: // nobody is to take half of it for the whole
			r.errs = append(r.errs, &Error{Position{1, 1}, "the baseline has too many faults to tell them all"})
		}
	}()
	read()
}
