package drift

import (
	"strings"
	"testing"

	"idletally/internal/core/perm"
)

func TestWaivers(t *testing.T) {
	w, err := NewWaivers([]Waiver{
		{ID: "logs", Pattern: "/srv/logs/**", Rule: "all", Kind: "file", Aspect: perm.AspectMode, Found: "0777"},
		{ID: "one", Pattern: `/srv/a\\*b`},
		{ID: "any", Pattern: "/srv/*/x"},
	})
	if err != nil {
		t.Fatal(err)
	}

	mode := func(found string) *perm.Difference { return &perm.Difference{Aspect: perm.AspectMode, Found: found} }
	for _, c := range []struct {
		path, rule string
		kind       perm.Kind
		diff       *perm.Difference
		want       string
	}{
		{"/srv/logs/a", "all", perm.File, mode("0777"), "logs"},
		{"/srv/logs/a", "other", perm.File, mode("0777"), ""},
		{"/srv/logs/a", "all", perm.Folder, mode("0777"), ""},
		{"/srv/logs/a", "all", perm.File, mode("0666"), ""},
		{"/srv/logs/a", "all", perm.File, &perm.Difference{Aspect: perm.AspectOwner, Found: "0777"}, ""},
		{"/srv/logs/x", "all", perm.File, mode("0777"), "logs"},
		{"/srv/logs/x", "all", perm.File, mode("0666"), "any"},
		{"/srv/a*b", "all", perm.Folder, mode("0"), "one"},
		{"/srv/aab", "all", perm.Folder, mode("0"), ""},
	} {
		t.Run(c.path, func(t *testing.T) {
			if got := w.of(c.path, c.rule, c.kind, c.diff); got != c.want {
				t.Errorf("%+v: %q", c, got)
			}
		})
	}

	if w, err := NewWaivers(nil); err != nil || w.of("/srv", "all", perm.File, mode("0")) != "" {
		t.Errorf("none: %v", err)
	}

	if _, err := NewWaivers([]Waiver{{ID: "bad", Pattern: "/srv/a**b"}}); err == nil ||
		!strings.Contains(err.Error(), "waiver bad: pattern") {
		t.Errorf("%v", err)
	}
}

// What the words of a waiver stand for is learnt from what it accepts, where that is one thing alone.
func TestWordsOfWaivers(t *testing.T) {
	w, err := NewWaivers([]Waiver{
		{ID: "words", Pattern: "/one/**", Aspect: perm.AspectOwner, Found: "bob"},
		{ID: "several", Pattern: "/two/**", Aspect: perm.AspectOwner, Found: "bob"},
		{ID: "unused", Pattern: "/three/**", Aspect: perm.AspectOwner, Found: "bob"},
		{ID: "any aspect", Pattern: "/six/**", Found: "bob"},
		{ID: "known", Pattern: "/four/**", Found: "bob", Has: "u1"},
		{ID: "any", Pattern: "/five/**"},
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		path, found string
		has         perm.Value
		want        string
	}{
		{"/one/a", "bob", "u1", "words"}, {"/one/b", "eve", "u2", ""}, {"/one/c", "bob", "u1", "words"},
		{"/two/a", "bob", "u1", "several"}, {"/two/b", "bob", "u7", "several"},
		{"/four/a", "robert", "u1", "known"}, {"/four/b", "bob", "u2", ""},
		{"/five/a", "bob", "u1", "any"}, {"/six/a", "bob", "u1", "any aspect"},
	} {
		t.Run(c.path, func(t *testing.T) {
			got := w.of(c.path, "all", perm.File, &perm.Difference{Aspect: perm.AspectOwner, Found: c.found,
				Has: c.has})
			if got != c.want {
				t.Errorf("%s, found %s (%s): %q, want %q", c.path, c.found, c.has, got, c.want)
			}
		})
	}
	if got := w.Meant(); len(got) != 1 || got["words"] != "u1" {
		t.Errorf("learnt is %v", got)
	}
}
