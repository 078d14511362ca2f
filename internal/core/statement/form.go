package statement

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"time"
)

// A Form is how a text is written that people sign, or that what they sign names: its first line, then lines of a key
// and a value. There is one spelling of each text.
type Form struct {
	What string // in messages: "the statement"
	Head string // the first line, with the version
	Most int    // bytes
}

// Write returns a text of lines that say adds one by one.
func (f Form) Write(say func(line func(key, value string))) ([]byte, error) {
	var b bytes.Buffer
	b.WriteString(f.Head + "\n")
	say(func(key, value string) { fmt.Fprintf(&b, "%s: %s\n", key, value) })
	if err := f.fits(b.Len()); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// Read has take take in each line of a text, and returns an error unless write makes the same bytes of what was taken:
// what stands twice, or where it should not, shows there.
func (f Form) Read(text []byte, take func(key, value string) error, write func() ([]byte, error)) error {
	if err := f.fits(len(text)); err != nil {
		return err
	}
	body, ok := strings.CutPrefix(string(text), f.Head+"\n")
	if !ok {
		return fmt.Errorf("%s does not begin with %q: is it of a later version than this program?", f.What, f.Head)
	}

	for line := range strings.Lines(body) {
		key, value, ok := strings.Cut(strings.TrimSuffix(line, "\n"), ": ")
		if !ok {
			return fmt.Errorf("%s has a line without a value", f.What)
		}
		if err := take(key, value); err != nil {
			return fmt.Errorf("%s: %.20q %.60q: %w", f.What, key, value, err)
		}
	}

	again, err := write()
	if err == nil && !bytes.Equal(again, text) {
		err = errors.New(f.What + " is not in its one form")
	}
	return err
}

func (f Form) fits(bytes int) error {
	if bytes > f.Most {
		return fmt.Errorf("%s has %d bytes, at most %d are allowed", f.What, bytes, f.Most)
	}
	return nil
}

// Stamp returns a time as such texts have it: in whole seconds of UTC (RFC 3339).
func Stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }
