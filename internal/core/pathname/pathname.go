// Package pathname writes file names, which are arbitrary bytes, as printable text and reads
// them back. The text is what people, JSON, the database's readers and terminals see.
package pathname

import (
	"cmp"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// MaxName is the longest name in bytes (POSIX NAME_MAX on Linux file systems).
const MaxName = 255

// MaxPath bounds a whole path in bytes. It is far beyond PATH_MAX, since trees can be deeper
// than one system call can name.
const MaxPath = 64 << 10

// EscapeAll escapes each of a list.
func EscapeAll(list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = Escape(s)
	}
	return out
}

// Escape writes a name or path as printable UTF-8: a backslash as \\, and every byte that is
// not part of a printable character as \xHH. Direction marks and other format characters are
// escaped too: they make a name look like another.
func Escape(s string) string {
	plain := true
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '\\' {
			plain = false
			break
		}
	}

	if plain {
		return s
	}

	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == '\\':
			b.WriteString(`\\`)
		case r == utf8.RuneError && n == 1, !unicode.IsGraphic(r), r != ' ' && unicode.IsSpace(r):
			for _, c := range []byte(s[i : i+n]) {
				fmt.Fprintf(&b, `\x%02x`, c)
			}
		default:
			b.WriteString(s[i : i+n])
		}
		i += n
	}

	return b.String()
}

// Unescape reads what Escape writes. Text without a backslash stands for itself.
func Unescape(s string) (string, error) {
	if !strings.Contains(s, `\`) {
		return s, nil
	}

	b := make([]byte, 0, len(s))
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' {
			b = append(b, s[i])
			continue
		}
		rest := s[i+1:]
		switch {
		case strings.HasPrefix(rest, `\`):
			b = append(b, '\\')
			i++
		case len(rest) >= 3 && rest[0] == 'x' && hex(rest[1]) >= 0 && hex(rest[2]) >= 0:
			b = append(b, byte(hex(rest[1])<<4|hex(rest[2])))
			i += 3
		default:
			return "", fmt.Errorf(
				"path %q: a backslash at character %d is not followed by another or by x and two hex digits", s, i+1)
		}
	}

	return string(b), nil
}

func hex(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}

// A Path is an absolute path in raw bytes whose text form, in JSON too, is escaped.
type Path string

// String returns the escaped form.
func (p Path) String() string { return Escape(string(p)) }

// MarshalText returns the escaped form.
func (p Path) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads the escaped form.
func (p *Path) UnmarshalText(b []byte) error {
	s, err := Unescape(string(b))
	*p = Path(s)
	return err
}

// Check returns what is wrong with an absolute path: it must be absolute, in its shortest form, without NUL, and no
// name longer than MaxName.
func Check(p string) error {
	switch {
	case p == "" || p[0] != '/':
		return fmt.Errorf("path %q is not absolute: write it from the root, such as /srv/app", Escape(p))
	case len(p) > MaxPath:
		return fmt.Errorf("path has %d bytes, at most %d are allowed", len(p), MaxPath)
	case strings.IndexByte(p, 0) >= 0:
		return fmt.Errorf("path %q holds a NUL byte", Escape(p))
	case p == "/":
		return nil
	}

	for part := range strings.SplitSeq(p[1:], "/") {
		switch {
		case part == "":
			return fmt.Errorf("path %q has an empty part: take the extra slash away", Escape(p))
		case part == "." || part == "..":
			return fmt.Errorf("path %q holds %q: write it without", Escape(p), part)
		case len(part) > MaxName:
			return fmt.Errorf("path %q has a part of %d bytes, at most %d are allowed", Escape(p), len(part), MaxName)
		}
	}

	return nil
}

// Join puts a name under a folder.
func Join(folder, name string) string {
	if folder == "/" {
		return "/" + name
	}
	return folder + "/" + name
}

// Under reports whether p is folder or lies below it. Comparing makes no string of a path in bytes.
func Under[P ~string | ~[]byte](p P, folder string) bool {
	return folder == "/" ||
		len(p) >= len(folder) && string(p[:len(folder)]) == folder && (len(p) == len(folder) || p[len(folder)] == '/')
}

// Widen returns the deepest folder that holds both a folder and a path.
func Widen[F ~string, P ~string | ~[]byte](folder F, p P) F {
	for !Under(p, string(folder)) {
		folder = F(Folder(string(folder)))
	}
	return folder
}

// Folder returns the folder that p lies in.
func Folder(p string) string {
	if i := strings.LastIndexByte(p, '/'); i > 0 {
		return p[:i]
	}
	return "/"
}

// Base returns the name of p in its folder; of / it is "".
func Base(p string) string { return p[strings.LastIndexByte(p, '/')+1:] }

// Compare orders paths as a walk meets them: a folder before what is in it, names by bytes.
func Compare(a, b string) int {
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			x, y := int(a[i]), int(b[i])
			if a[i] == '/' {
				x = -1
			}
			if b[i] == '/' {
				y = -1
			}
			return cmp.Compare(x, y)
		}
	}
	return cmp.Compare(len(a), len(b))
}
