package inquiry

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"idletally/internal/core/access"
	"idletally/internal/core/baseline"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/subtree"
	"idletally/internal/testkit"
	"idletally/internal/wire"
)

// odd is a world of names that patterns would read otherwise.
func odd() pier {
	return pier{[]access.Seen{
		at("/", perm.Folder, posix.State{Mode: 0o755}),
		at("/srv", perm.Folder, posix.State{UID: 1, GID: 10, Mode: 0o750}),
		at("/srv/a*[b]", perm.Folder, posix.State{UID: 1, GID: 10, Mode: 0o1755}),
		at("/srv/a*[b]/tides: 2026", perm.File, posix.State{UID: 1, GID: 10, Mode: 0o600}),
		at("/srv/a*[b]/to\nsea", perm.Pipe, posix.State{UID: 1, GID: 10, Mode: 0o600}),
	}}
}

// What is proposed is a text that a plan takes, and that makes just what was shown.
func TestProposals(t *testing.T) {
	tried := 0
	for _, c := range []struct {
		path string
		op   access.Operation
	}{
		{"/srv/a*[b]/tides: 2026", access.Read}, {"/srv/a*[b]/tides: 2026", access.Delete},
		{"/srv/a*[b]", access.Create}, {"/srv/a*[b]/to\nsea", access.Write},
	} {
		t.Run(c.path+" "+c.op.String(), func(t *testing.T) {
			w := odd()
			out, err := Propose(t.Context(), w, nil, "web", c.path, c.op)
			testkit.Must(t, err)
			if len(out.Proposals) == 0 || out.Answer.Allowed {
				t.Fatalf("%+v", out)
			}
			for _, p := range out.Proposals {
				if p.Means == "join" {
					continue
				}
				tried++
				makes(t, w, p.Text, p.Changes)
			}
		})
	}
	if tried < 8 {
		t.Errorf("%d proposals were tried", tried)
	}
}

// makes reads a proposal's text, and applies it to the world.
func makes(t *testing.T, w pier, text string, told []wire.ProposedChange) {
	t.Helper()
	changes, err := baseline.ParseChanges([]byte(text), []string{"/"}, nil)
	if err != nil {
		t.Fatalf("%v:\n%s", err, text)
	}
	maker, problems := changes.For(dir)
	if len(problems) > 0 {
		t.Fatalf("%+v:\n%s", problems, text)
	}
	changed := 0
	for _, s := range w.places {
		after, err := maker.Change(string(s.Path), perm.Found{Kind: s.Kind, Set: s.Set})
		testkit.Must(t, err)
		if after == s.Set {
			continue
		}
		changed++
		got := perm.Describe(s.Kind, after, dir).String()
		found := false
		for _, c := range told {
			found = found || c.Path == s.Path.String() && c.After.String() == got
		}
		if !found {
			t.Errorf("%s becomes %s, which was not shown:\n%s", s.Path, got, text)
		}
	}
	if changed != len(told) {
		t.Errorf("%d paths change, %d were shown:\n%s", changed, len(told), text)
	}
}

func TestProposeForNobody(t *testing.T) {
	for account, want := range map[string]string{"everyone": "nobody in particular", "stowaway": "no account"} {
		t.Run(account, func(t *testing.T) {
			_, err := Propose(t.Context(), world, nil, account, "/srv/closed", access.Read)
			if !errors.Is(err, ErrBad) || !strings.Contains(err.Error(), want) {
				t.Error(err)
			}
		})
	}
}

// What is said of a restriction is what makes it: its text, read as changes, comes to the states that are told.
func TestRestrictionsAreWhatTheySay(t *testing.T) {
	tried := 0
	for _, c := range []struct {
		path string
		op   access.Operation
		only []string
	}{
		{"/srv/a*[b]/tides: 2026", access.Read, []string{"web"}}, {"/srv/a*[b]/tides: 2026", access.Write, nil},
		{"/srv/a*[b]", access.List, []string{"web"}}, {"/srv/a*[b]/to\nsea", access.Read, nil},
	} {
		t.Run(c.path+" "+c.op.String(), func(t *testing.T) {
			w := odd()
			out, err := Restrict(t.Context(), w, c.only, c.path, c.op)
			testkit.Must(t, err)
			if (len(out.Changes) > 0) != (out.Text != "") || out.Out.Count > 0 && len(out.Changes) == 0 {
				t.Fatalf("%+v", out)
			}
			if len(out.Changes) > 0 {
				makes(t, w, out.Text, out.Changes)
				tried++
			}
		})
	}
	if tried < 2 {
		t.Errorf("%d restrictions were tried", tried)
	}
}

// What is proposed is told also where a snapshot does not know the account: it came to the host since.
func TestProposeForNewcomers(t *testing.T) {
	for name, c := range map[string]struct {
		err     error
		counted bool
		fails   bool
	}{
		"counted":                  {nil, true, false},
		"unknown to the snapshot":  {fmt.Errorf("%w: there is no account", ErrBad), false, false},
		"the snapshot is not read": {errors.New("damaged"), false, true},
	} {
		t.Run(name, func(t *testing.T) {
			out, err := Propose(t.Context(), odd(), past{odd(), c.err}, "web", "/srv/a*[b]/tides: 2026", access.Read)
			if (err != nil) != c.fails {
				t.Fatal(err)
			}
			if !c.fails && (len(out.Proposals) == 0 || (out.Proposals[0].Elsewhere != nil) != c.counted ||
				out.Counted == nil) {
				t.Errorf("%+v", out)
			}
		})
	}
}

// past is a snapshot in which 7 paths are gained, or one that cannot be asked.
type past struct {
	pier
	err error
}

func (p past) Below(context.Context, BelowAsk) (subtree.Tally, *perm.Directory, error) {
	return subtree.Tally{Gained: 7}, nil, p.err
}
