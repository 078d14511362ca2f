package succession

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"testing"
	"time"
)

// keys makes some, and the line from the first to the last.
func keys(t *testing.T, n int) (all []ed25519.PrivateKey, line []Handover) {
	t.Helper()
	for i := range n {
		_, k, err := ed25519.GenerateKey(nil)
		if err != nil {
			t.Fatal(err)
		}
		if i > 0 {
			line = append(line, Next(all[i-1], k.Public().(ed25519.PublicKey), time.Unix(int64(1e9+i), 5)))
		}
		all = append(all, k)
	}
	return all, line
}

func public(k ed25519.PrivateKey) ed25519.PublicKey { return k.Public().(ed25519.PublicKey) }

// From each key the newest is reached, by what came over a wire; a key that nobody succeeded, or that is not
// of the line, stays.
func TestFollow(t *testing.T) {
	all, line := keys(t, 5)
	stranger, _ := keys(t, 1)
	b, err := json.Marshal(line)
	if err != nil {
		t.Fatal(err)
	}

	var carried []Handover
	if err := json.Unmarshal(b, &carried); err != nil {
		t.Fatal(err)
	}

	for i, k := range all {
		if got, err := Follow(public(k), carried); err != nil || !bytes.Equal(got, public(all[4])) {
			t.Errorf("from key %d: %x, %v", i, got, err)
		}
	}

	for _, steps := range [][]Handover{nil, line} {
		if got, err := Follow(public(stranger[0]), steps); err != nil || !bytes.Equal(got, public(stranger[0])) {
			t.Errorf("a key of no line: %x, %v", got, err)
		}
	}

	if got := Former(line); len(got) != 4 || !bytes.Equal(got[3], public(all[3])) {
		t.Errorf("former: %x", got)
	}
}

// Nobody is led anywhere by a line with any step that is not what the key before has signed.
func TestFollowsNothingElse(t *testing.T) {
	all, line := keys(t, 4)
	thief, _ := keys(t, 1)
	for what, spoil := range map[string]func(s []Handover) []Handover{
		"another key at the end": func(s []Handover) []Handover { s[2].To = public(thief[0]); return s },
		"signed by somebody else": func(s []Handover) []Handover {
			s[1] = Next(thief[0], s[1].To, s[1].At)
			s[1].From = s[0].To
			return s
		},
		"another time":    func(s []Handover) []Handover { s[1].At = s[1].At.Add(time.Second); return s },
		"a step left out": func(s []Handover) []Handover { return append(s[:1], s[2]) },
		"another order":   func(s []Handover) []Handover { s[0], s[1] = s[1], s[0]; return s },
		"back to the first": func(s []Handover) []Handover {
			return append(s, Next(all[3], public(all[0]), time.Now()))
		},
		"to itself": func(s []Handover) []Handover {
			return append(s, Next(all[3], public(all[3]), time.Now()))
		},
		"two that follow on one": func(s []Handover) []Handover {
			return append(s[:1], Next(all[0], public(thief[0]), time.Now()))
		},
		"a key of another length":   func(s []Handover) []Handover { s[0].To = s[0].To[:31]; return s },
		"no key":                    func(s []Handover) []Handover { s[0].From = nil; return s },
		"more than anybody follows": func([]Handover) []Handover { _, long := keys(t, MaxSteps+2); return long },
	} {
		t.Run(what, func(t *testing.T) {
			spoiled := spoil(append([]Handover{}, line...))
			for _, k := range all {
				if got, err := Follow(public(k), spoiled); !errors.Is(err, ErrBroken) || !bytes.Equal(got, public(k)) {
					t.Errorf("%s: led to %x: %v", what, got, err)
				}
			}
		})
	}
}

// Whatever comes over a wire: either it is refused, or each step of it is signed by who stood down.
func FuzzFollow(f *testing.F) {
	_, k, _ := ed25519.GenerateKey(bytes.NewReader(make([]byte, 32)))
	_, l, _ := ed25519.GenerateKey(bytes.NewReader(bytes.Repeat([]byte{1}, 32)))
	b, _ := json.Marshal([]Handover{Next(k, public(l), time.Unix(1e9, 0))})
	f.Add(b)
	f.Add([]byte(`[{"from":"","to":null}]`))
	f.Fuzz(func(t *testing.T, b []byte) {
		var line []Handover
		if json.Unmarshal(b, &line) != nil {
			return
		}
		got, err := Follow(public(k), line)
		if err == nil && !bytes.Equal(got, public(k)) && (len(line) == 0 || !bytes.Equal(got, line[len(line)-1].To)) {
			t.Errorf("%s leads to %x", b, got)
		}
	})
}
