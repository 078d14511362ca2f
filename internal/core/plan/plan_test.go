package plan

import (
	"bytes"
	"crypto/ed25519"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/mode"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
)

func state(m mode.Mode) perm.Set { return posix.State{UID: 1, Mode: m}.Set() }

func steps(paths ...string) []Step {
	var out []Step
	for _, p := range paths {
		out = append(out, Step{Path: p, Kind: perm.File, Before: state(0o666), After: state(0o640)})
	}
	return out
}

func TestChunk(t *testing.T) {
	in := steps("/srv/a", "/srv/a/b\nc", "/srv/a\xff")
	b := EncodeChunk(in)
	out, err := DecodeChunk(b)
	if err != nil || !reflect.DeepEqual(in, out) {
		t.Fatalf("%v came back as %v, %v", in, out, err)
	}

	for name, c := range map[string]struct {
		b    []byte
		want string
	}{
		"cut":      {b[:len(b)-1], "too early"},
		"tail":     {append(bytes.Clone(b), 1), "belong to no step"},
		"disorder": {EncodeChunk(steps("/b", "/a")), "out of order"},
		"twice":    {EncodeChunk(steps("/a", "/a")), "twice"},
		"dots":     {EncodeChunk(steps("/srv/../etc/shadow")), `".."`},
		"relative": {EncodeChunk(steps("etc")), "not absolute"},
	} {
		t.Run(name, func(t *testing.T) {
			if _, err := DecodeChunk(c.b); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s: %v, want %q", name, err, c.want)
			}
		})
	}

	if _, err := CheckChunk(b, tree.Sum(b), []string{"/other"}); err == nil {
		t.Error("a step outside the roots was taken")
	}

	if _, err := CheckChunk(b, tree.Sum(b), []string{"/srv"}); err != nil {
		t.Error(err)
	}

	if _, err := CheckChunk(b, tree.Hash{}, []string{"/srv"}); err == nil {
		t.Error("a chunk with another hash was taken")
	}
}

// A chunk in which steps say which file is meant has a version of its own, and no other spelling.
func TestChunkOfKnownFiles(t *testing.T) {
	in := known()
	b := EncodeChunk(in)
	out, err := DecodeChunk(b)
	if err != nil || !reflect.DeepEqual(in, out) || b[1] != knownChunk {
		t.Fatalf("%v came back as %v, %v", in, out, err)
	}

	for n := range b {
		if _, err := DecodeChunk(b[:n]); err == nil {
			t.Errorf("the first %d bytes were taken", n)
		}
	}

	needless := bytes.Clone(EncodeChunk(steps("/srv/a")))
	needless[1] = knownChunk
	if _, err := DecodeChunk(append(needless, noIdentity)); err == nil ||
		!strings.Contains(err.Error(), "does not need") {
		t.Errorf("a version that is not needed: %v", err)
	}
}

func known() []Step {
	list := steps("/srv/a", "/srv/b", "/srv/c", "/srv/d")
	list[0].File = Identity{Inode: 4711, Born: 1_700_000_000_000_000_000}
	list[1].File = Identity{Inode: 1 << 63, Content: tree.Sum([]byte("what is in it"))}
	list[3].File = Identity{Inode: 1, Born: -1}
	return list
}

func TestIdentity(t *testing.T) {
	for _, c := range []struct {
		meant, found Identity
		want         bool
	}{
		{Identity{}, Identity{Inode: 1}, true},
		{Identity{Inode: 1, Born: 5}, Identity{Inode: 1, Born: 5}, true},
		{Identity{Inode: 1, Born: 5}, Identity{Inode: 1, Born: 6}, false}, // the number was given to another file
		{Identity{Inode: 1, Born: 5}, Identity{Inode: 2, Born: 5}, false},
		{Identity{Inode: 1}, Identity{Inode: 1, Born: 6}, true}, // a file system that does not tell
		{Identity{Inode: 1, Born: 5}, Identity{Inode: 1}, true},
		{Identity{Inode: 1, Born: 5}, Identity{}, false},
	} {
		t.Run(fmt.Sprint(c.meant), func(t *testing.T) {
			if got := c.meant.Is(c.found); got != c.want {
				t.Errorf("%+v is %+v: %t", c.meant, c.found, got)
			}
		})
	}
}

func FuzzDecodeChunk(f *testing.F) {
	f.Add(EncodeChunk(steps("/srv/a", "/srv/b")))
	f.Add(EncodeChunk(known()))
	f.Fuzz(func(t *testing.T, b []byte) {
		if s, err := DecodeChunk(b); err == nil && !bytes.Equal(EncodeChunk(s), b) {
			t.Fatalf("%x decodes to %v, which encodes otherwise", b, s)
		}
	})
}

func TestVerify(t *testing.T) {
	pub, key, _ := ed25519.GenerateKey(nil)
	_, stranger, _ := ed25519.GenerateKey(nil)
	now := time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)
	m := Manifest{
		Format: 1,
		ID:     "p1",
		Kind:   Remediation,
		Hosts:  []HostPart{{Host: "slip-north", Roots: []string{"/srv"}}},
	}

	good := Order{
		Run:        "r1",
		Digest:     Digest(m.Bytes()),
		Host:       "slip-north",
		Author:     "quartermaster",
		ApprovedBy: []string{"harbourmaster"},
		Expires:    now.Add(time.Hour),
	}

	with := func(f func(*Order)) Order { o := good; f(&o); return o }
	for _, c := range []struct {
		name     string
		order    Order
		key      ed25519.PrivateKey
		manifest []byte
		host     string
		want     string
	}{
		{"good", good, key, m.Bytes(), "slip-north", ""},
		{"signed by another", good, stranger, m.Bytes(), "slip-north", "signature"},
		{"another host's", good, key, m.Bytes(), "slip-south", "for host"},
		{"expired", with(func(o *Order) { o.Expires = now }), key, m.Bytes(), "slip-north", "expired"},
		{"own approval", with(func(o *Order) { o.ApprovedBy = append(o.ApprovedBy, o.Author) }), key, m.Bytes(),
			"slip-north", "different people"},
		{"altered plan", good, key, bytes.Replace(m.Bytes(), []byte("/srv"), []byte("/etc"), 1), "slip-north",
			"not the one"},
	} {
		t.Run(c.name, func(t *testing.T) {
			order, sig := c.order.Sign(c.key)
			_, _, err := Verify(pub, order, sig, c.manifest, c.host, now)
			if (c.want == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s: %v, want %q", c.name, err, c.want)
			}
		})
	}

	order, sig := good.Sign(key)
	order[len(order)-3]++
	if _, _, err := Verify(pub, order, sig, m.Bytes(), "slip-north", now); err == nil {
		t.Error("an altered order was taken")
	}
}
