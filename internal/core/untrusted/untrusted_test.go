package untrusted

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
)

func TestJSON(t *testing.T) {
	for _, c := range []struct {
		text     string
		elements int
		want     error
	}{
		{`{}`, 1, nil},
		{`{}`, 0, ErrTooMuch},
		{`[1,2,3]`, 3, nil},
		{`[1,2,3]`, 2, ErrTooMuch},
		{`[{},{},{}]`, 6, nil},
		{`[{},{},{}]`, 5, ErrTooMuch},
		{`"{[,,,,[{\"[,"`, 0, nil},
		{`["\\",",,,,"]`, 2, nil},
		{strings.Repeat("[", maxNesting) + strings.Repeat("]", maxNesting), 100, nil},
		{strings.Repeat("[", maxNesting+1) + strings.Repeat("]", maxNesting+1), 100, ErrTooMuch},
		{strings.Repeat("[", 1<<20), 1 << 30, ErrTooMuch},
	} {
		t.Run(c.text, func(t *testing.T) {
			var v any
			if err := JSON([]byte(c.text), c.elements, &v); !errors.Is(err, c.want) {
				t.Errorf("%.40s with %d elements: %v, want %v", c.text, c.elements, err, c.want)
			}
		})
	}

	for _, broken := range []string{`"`, `"\`, `"\"`, `{"a":"\`, ``, `]`, `{]`} {
		t.Run(broken, func(t *testing.T) {
			var v any
			if err := JSON([]byte(broken), 100, &v); err == nil {
				t.Errorf("%q was decoded", broken)
			}
		})
	}
}

// Whatever json decodes is decoded with bounds that are wide enough, and to the same.
func FuzzJSON(f *testing.F) {
	for _, s := range []string{`{"a":[1,"\\\"",{}]}`, `[`, `"\u0022"`, `[[[[]]]]`} {
		f.Add(s)
	}

	f.Fuzz(func(t *testing.T, text string) {
		var want, got any
		err1, err2 := json.Unmarshal([]byte(text), &want), JSON([]byte(text), len(text), &got)
		if errors.Is(err2, ErrTooMuch) {
			if strings.Count(text, "[")+strings.Count(text, "{") <= maxNesting {
				t.Errorf("%q has no more elements than bytes", text)
			}
			return
		}

		if fmt.Sprint(err1) != fmt.Sprint(err2) || fmt.Sprint(want) != fmt.Sprint(got) {
			t.Errorf("%q: %v, %v; json says %v, %v", text, got, err2, want, err1)
		}
	})
}

func TestReadAll(t *testing.T) {
	for _, size := range []int64{0, 1, 1<<20 - 1, 1 << 20, 1<<20 + 1, 3 << 20} {
		in := bytes.Repeat([]byte("x"), int(size))
		if b, err := ReadAll(bytes.NewReader(in), size); err != nil || !bytes.Equal(b, in) {
			t.Errorf("%d bytes: %d, %v", size, len(b), err)
		}
		if _, err := ReadAll(bytes.NewReader(append(in, 'x')), size); !errors.Is(err, ErrTooMuch) {
			t.Errorf("%d bytes and one more: %v", size, err)
		}
	}
}

func TestPieces(t *testing.T) {
	pack := func(list ...string) (b []byte) {
		for _, s := range list {
			b = append(binary.AppendUvarint(b, uint64(len(s))), s...)
		}
		return b
	}

	next := func(b []byte, total int64, least, most int) (out []string, err error) {
		p := NewPieces(bytes.NewReader(b), total)
		for {
			x, err := p.Next(least, most)
			if err != nil {
				return out, err
			}
			out = append(out, string(x))
		}
	}

	whole := pack("one", strings.Repeat("x", 3<<20))
	if got, err := next(whole, 4<<20, 1, 3<<20); err != io.EOF || len(got) != 2 || got[0] != "one" ||
		len(got[1]) != 3<<20 {
		t.Errorf("%d pieces, %v", len(got), err)
	}

	for name, c := range map[string]struct {
		b           []byte
		total       int64
		least, most int
		want        error
	}{
		"cut":                    {whole[:len(whole)-1], 4 << 20, 0, 4 << 20, ErrShort},
		"cut in a length":        {[]byte{0x80}, 10, 0, 10, ErrShort},
		"longer than a piece is": {pack("four"), 100, 0, 3, ErrTooMuch},
		"a length that lies":     {binary.AppendUvarint(nil, 1<<62), 1 << 40, 0, 1 << 30, ErrTooMuch},
		"more than all":          {pack("four", "four", "four"), 11, 0, 4, ErrTooMuch},
		"nothing, again":         {make([]byte, 1000), 100, 0, 4, ErrTooMuch},
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := next(c.b, c.total, c.least, c.most); !errors.Is(err, c.want) {
				t.Errorf("%s: %v, want %v", name, err, c.want)
			}
		})
	}

	if _, err := next(pack(""), 100, 1, 4); err == nil || err == io.EOF {
		t.Errorf("a piece of nothing: %v", err)
	}
}
