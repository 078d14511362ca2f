package chain

import (
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"testing"
	"time"
)

func history(n int) (lines []Line) {
	var w Walker
	for i := range n {
		l := Line{
			Seq:     int64(i + 1),
			ID:      fmt.Sprint("id", i),
			At:      time.UnixMilli(int64(1000 * i)),
			Who:     "harbourmaster",
			What:    "plan approved",
			Subject: "p",
			Detail:  fmt.Sprint(i),
		}

		if i%3 == 0 {
			l.Token = "nightly"
		}

		l.Hash = l.After(w.Hash)
		w = Walker{Seq: l.Seq, Hash: l.Hash}
		lines = append(lines, l)
	}

	return lines
}

func walk(lines []Line, h Head, key ed25519.PublicKey) error {
	var w Walker
	for _, l := range lines {
		if err := w.Next(l); err != nil {
			return err
		}
	}
	return w.End(h, key)
}

// Whatever is done to a history shows: a changed field, a line taken out, put in, moved, cut from the end,
// and one written anew by somebody without the key.
func TestBroken(t *testing.T) {
	public, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}

	lines := history(20)
	head := Head{Seq: 20, Hash: lines[19].Hash}
	head.Sign(private)
	if err := walk(lines, head, public); err != nil {
		t.Fatal(err)
	}

	if err := walk(nil, Head{}, public); err != nil {
		t.Errorf("nothing yet: %v", err)
	}

	for what, change := range map[string]func(l []Line, h *Head) []Line{
		"who":             func(l []Line, _ *Head) []Line { l[4].Who = "quartermaster"; return l },
		"what":            func(l []Line, _ *Head) []Line { l[4].What = "plan declined"; return l },
		"when":            func(l []Line, _ *Head) []Line { l[4].At = l[4].At.Add(time.Millisecond); return l },
		"to what":         func(l []Line, _ *Head) []Line { l[4].Subject = "q"; return l },
		"a border moved":  func(l []Line, _ *Head) []Line { l[4].What, l[4].Subject = l[4].What+"p", ""; return l },
		"token":           func(l []Line, _ *Head) []Line { l[3].Token = "daily"; return l },
		"token taken off": func(l []Line, _ *Head) []Line { l[3].Token = ""; return l },
		"token put on":    func(l []Line, _ *Head) []Line { l[4].Token = "nightly"; return l },
		"token to detail": func(l []Line, _ *Head) []Line {
			l[3].Detail, l[3].Token = l[3].Detail+l[3].Token, ""
			return l
		},
		"detail":         func(l []Line, _ *Head) []Line { l[19].Detail = ""; return l },
		"taken out":      func(l []Line, _ *Head) []Line { return slices.Delete(l, 7, 8) },
		"the first":      func(l []Line, _ *Head) []Line { return l[1:] },
		"put in":         func(l []Line, _ *Head) []Line { return slices.Insert(l, 7, l[3]) },
		"moved":          func(l []Line, _ *Head) []Line { l[3], l[4] = l[4], l[3]; return l },
		"cut off":        func(l []Line, _ *Head) []Line { return l[:15] },
		"cut, with head": func(l []Line, h *Head) []Line { h.Seq, h.Hash = 15, l[14].Hash; return l[:15] },
		"written anew": func(l []Line, h *Head) []Line {
			n := history(21)[:20]
			n[0].Who = "x"
			return rewrite(n, h)
		},
		"another's key": func(l []Line, h *Head) []Line {
			_, other, _ := ed25519.GenerateKey(nil)
			h.Sign(other)
			return l
		},
		"no signature":    func(l []Line, h *Head) []Line { h.Signature = nil; return l },
		"all of it taken": func(_ []Line, h *Head) []Line { return nil },
	} {
		t.Run(what, func(t *testing.T) {
			h := head
			if err := walk(change(slices.Clone(lines), &h), h, public); !errors.Is(err, ErrBroken) {
				t.Errorf("%s: %v", what, err)
			}
		})
	}

	b, err := json.Marshal(lines[3])
	var back Line
	if err := errors.Join(err, json.Unmarshal(b, &back)); err != nil || back.After(lines[2].Hash) != lines[3].Hash ||
		back.Hash != lines[3].Hash {
		t.Errorf("%s comes back as %+v, %v", b, back, err)
	}
}

func rewrite(lines []Line, h *Head) []Line {
	var before Hash
	for i := range lines {
		lines[i].Hash = lines[i].After(before)
		before = lines[i].Hash
	}
	h.Seq, h.Hash = int64(len(lines)), before
	return lines
}

// older returns so many lines from before there was a chain, and a history behind them whose second line ties them.
func older(n int) (all []Line, head Head) {
	var o Older
	for i := range n {
		l := Line{
			Seq:  int64(i + 1 - n),
			ID:   fmt.Sprint("older", i),
			At:   time.UnixMilli(int64(i)),
			Who:  "purser",
			What: "sign-in",
		}

		l.Hash = l.After(o.Hash)
		o = Older{Lines: o.Lines + 1, Hash: l.Hash}
		all = append(all, l)
	}

	chained := history(5)
	chained[1] = Line{Seq: 2, ID: "ties", Who: "the service", What: Tied, Detail: o.String()}
	return append(all, rewrite(chained, &head)...), head
}

// What stands before the chain is tied as well: whatever is done to it shows, and so does what somebody puts
// before a chain that has nothing there.
func TestBrokenBefore(t *testing.T) {
	for _, n := range []int{1, 2, 20} {
		lines, head := older(n)
		if err := walk(lines, head, nil); err != nil {
			t.Fatal(err)
		}

		tampered := func(what string, l []Line) {
			t.Helper()
			if err := walk(l, head, nil); !errors.Is(err, ErrBroken) {
				t.Errorf("%d lines, %s: %v", n, what, err)
			}
		}

		tampered("all taken out", lines[n:])
		tampered("the first taken out", lines[1:])
		tampered("the last taken out", slices.Delete(slices.Clone(lines), n-1, n))
		tampered("another in front", append([]Line{{Seq: int64(-n), Who: "x"}}, lines...))
		tampered("the last behind the chain", append(slices.Delete(slices.Clone(lines), n-1, n), lines[n-1]))

		for i := range n {
			l := slices.Clone(lines)
			l[i].Who = "somebody"
			tampered("changed", l)
			var o Older
			for j := range n { // with all hashes that follow
				l[j].Hash = l[j].After(o.Hash)
				o.Hash = l[j].Hash
			}

			tampered("written anew", l)
		}
	}

	lines, _ := older(3)
	if err := walk(append(lines[:3:3], history(5)...), Head{Seq: 5, Hash: history(5)[4].Hash}, nil); !errors.Is(err,
		ErrBroken) {
		t.Errorf("put before a chain that ties none: %v", err)
	}
}
