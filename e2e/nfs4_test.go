package e2e

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/sys/unix"

	"idletally/internal/client"
	"idletally/internal/core/access"
	"idletally/internal/core/ace"
	"idletally/internal/core/perm/nfs4"
	"idletally/internal/wire"
)

// A folder with NFSv4 lists, beside POSIX ones on the same host: looked at, held against its baseline, explained,
// mended and put back, by what does all of that for every scheme.
func TestLockers(t *testing.T) {
	t.Parallel()
	s := begin(t, "")
	ctx := t.Context()
	must(t, s.OpenLockers(ctx))
	author := as(t, s, "quartermaster")
	quiet(t, author)
	was := snapshot(t, author, "lockers", "slip-north")
	d, err := author.Drift(ctx, "lockers", "")
	if err != nil || len(d.Reports) != 1 || d.Reports[0].Unread != 0 || d.Reports[0].Paths != 24 {
		t.Fatalf("%+v, %v", d.Reports, err)
	}

	for _, x := range []struct{ path, aspect, found, word string }{
		{"/srv/lockers/aft/locker-03", "grants", "allow EVERYONE@: read, write", "opens"},
		{"/srv/lockers/keys/bridge", "grants", "allow EVERYONE@: ", "opens"},
		{"/srv/lockers/rota/week-46", "grants", "(not in the usual order)", "opens"},
		{"/srv/lockers/fore/locker-05", "owner", "harbour", "both"},
	} {
		t.Run(x.path, func(t *testing.T) {
			i := slices.IndexFunc(d.Groups, func(g wire.Group) bool {
				return g.Aspect == x.aspect && strings.HasSuffix(x.path, g.Example)
			})
			if i < 0 {
				t.Errorf("no %s finding at %s: %+v", x.aspect, x.path, d.Groups)
			} else if g := d.Groups[i]; !strings.Contains(g.Found, x.found) || g.Word != x.word {
				t.Errorf("%s: %+v", x.path, g)
			}
		})
	}

	live := client.Looker{Client: author, Host: "slip-north"}
	v, err := live.Sight(ctx, "/srv/lockers/rota/week-46")
	if err != nil || v.Access.Scheme != "nfs4" || len(v.Entries) != 6 || v.Access.Mode != "0700" {
		t.Errorf("%+v, %v", v, err)
	}
	j, err := live.Decide(ctx, "clerk-east", "/srv/lockers/rota/week-46", access.Write, wire.Supposed{})
	if err != nil || !j.Answers[0].Allowed || j.Answers[0].Cause != nfs4.ByAllow {
		t.Errorf("%+v, %v", j, err)
	}

	p, err := author.DraftPlan(ctx, wire.Draft{Application: "lockers", All: true})
	must(t, err)
	if p.Steps != 4 {
		t.Fatalf("%+v", p)
	}
	r := agreed(t, s, p)
	if r.State != "finished" || len(r.Hosts) != 1 || r.Hosts[0].Done != p.Steps {
		t.Fatalf("%+v", r)
	}
	snapshot(t, author, "lockers", "slip-north")
	if d, err = author.Drift(ctx, "lockers", ""); err != nil || len(d.Groups) > 0 {
		t.Errorf("after the run: %+v, %v", d.Groups, err)
	}

	back, err := author.DraftPlan(ctx, wire.Draft{Run: r.ID})
	must(t, err)
	if r = agreed(t, s, back); r.State != "finished" || r.Hosts[0].Done != p.Steps {
		t.Fatalf("%+v", r)
	}
	if now := snapshot(t, author, "lockers", "slip-north"); now.Root != was.Root {
		t.Error("put back, it is not as it was")
	}

	// Somebody makes a list so long that nothing declared can be set on it. That hides nothing, and holds up no other
	// path.
	long := make(nfs4.List, nfs4.MaxEntries)
	for i := range long {
		long[i] = nfs4.Entry{Mask: ace.Full, Flags: nfs4.Inherited, Who: fmt.Sprint(5000 + i)}
	}
	must(t, unix.Setxattr(filepath.Join(s.Root("slip-north"), "srv/lockers/aft/locker-06"), nfs4.Attribute,
		long.AppendXattr(nil), 0))
	snapshot(t, author, "lockers", "slip-north")
	if d, err = author.Drift(ctx, "lockers", ""); err != nil || len(d.Groups) != 5 {
		t.Errorf("%+v, %v", d.Groups, err)
	}
	p, err = author.DraftPlan(ctx, wire.Draft{Application: "lockers", All: true})
	if err != nil || p.Steps != 4 || len(p.Left) != 1 || p.Left[0].Path != "/srv/lockers/aft/locker-06" {
		t.Errorf("%d steps, left %+v, %v", p.Steps, p.Left, err)
	}
}
