package tree

import (
	"encoding/hex"
	"os"
	"reflect"
	"strings"
	"testing"

	"idletally/internal/core/perm"
)

// golden are nodes as programs wrote them, version by version: what is stored stays readable, and hashes to
// what it always did.
var golden = map[string]Node{
	"version-1": {Entries: []Entry{
		{Name: "a\n", Kind: perm.File, Set: set(7, 0o4755)},
		{Name: "b", Kind: perm.Folder, Set: set(0, 0o750), Gap: Mount},
		{Name: "c", Kind: perm.Folder, Set: set(0, 0o750), Child: Hash{1, 2, 3}},
		{Name: "\xff", Kind: perm.Link, Set: set(7, 0o777)},
	}},
	"version-2": {Entries: []Entry{
		{Name: "loop0", Kind: perm.BlockDevice, Set: set(0, 0o660), Extra: Extra{Device: Device{7, 300}}},
		{Name: "null", Kind: perm.CharDevice, Set: set(0, 0o666), Extra: Extra{Links: 2, Device: Device{1, 3}}},
		{Name: "one of three", Kind: perm.File, Set: set(0, 0o660), Extra: Extra{Links: 3}},
		{Name: "plain", Kind: perm.File, Set: set(0, 0o660)},
	}},
}

func TestGolden(t *testing.T) {
	for name, want := range golden {
		text, err := os.ReadFile("testdata/" + name + ".hex")
		if err != nil {
			t.Fatal(err)
		}

		b, err := hex.DecodeString(strings.Join(strings.Fields(string(text)), ""))
		if err != nil {
			t.Fatal(err)
		}

		got, err := Decode(b)
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %+v, %v", name, got, err)
		}

		if again := Encode(got); string(again) != string(b) {
			t.Errorf("%s is written otherwise now: %x", name, again)
		}
	}
}

// What an entry cannot have is refused, and a version that says more than it needs.
func TestExtraRefused(t *testing.T) {
	plain := Encode(Node{Entries: []Entry{{Name: "a", Kind: perm.File, Set: set(0, 0o600)}}})
	plain[1] = richNode
	if _, err := Decode(plain); err == nil {
		t.Error("a node of version 2 with nothing extra is taken")
	}

	for name, e := range map[string]Entry{
		"one name":          {Kind: perm.File, Extra: Extra{Links: 1}},
		"too many":          {Kind: perm.File, Extra: Extra{Links: MaxLinks + 1}},
		"a folder's names":  {Kind: perm.Folder, Gap: Refused, Extra: Extra{Links: 2}},
		"a file's device":   {Kind: perm.File, Extra: Extra{Device: Device{1, 1}}},
		"a folder's device": {Kind: perm.Folder, Gap: Refused, Extra: Extra{Device: Device{0, 1}}},
	} {
		t.Run(name, func(t *testing.T) {
			e.Name, e.Set = "a", set(0, 0o600)
			if _, err := Decode(Encode(Node{Entries: []Entry{e}})); err == nil {
				t.Errorf("%s: taken", name)
			}
		})
	}
}
