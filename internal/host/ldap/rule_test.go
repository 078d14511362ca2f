package ldap

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"

	"idletally/internal/core/ntsd"
	"idletally/internal/host/fileserver"
)

// A ruling directory follows groups in groups itself, as those of Windows domains do: no server here does.
// Below its base lie two accounts and the group "crew", which has the group "hands" elsewhere in it, where
// clerk is.
type ruling struct {
	able    bool   // it says that it can
	fails   bool   // and then cannot
	foreign bool   // crew has somebody of another domain in it, too
	asked   string // by the rule
}

func (r *ruling) Search(q *ldap.SearchRequest) (*ldap.SearchResult, error) {
	entry := func(name, class string, rid uint32, members ...string) *ldap.Entry {
		return ldap.NewEntry("CN="+name+",OU=Here,DC=example", map[string][]string{
			"objectSid":      {sid(rid).Bytes()},
			"sAMAccountName": {name},
			"objectClass":    {class},
			"member":         members,
		})
	}

	answer := func(list ...*ldap.Entry) (*ldap.SearchResult, error) { return &ldap.SearchResult{Entries: list}, nil }
	switch {
	case q.BaseDN == "":
		if r.able {
			return answer(ldap.NewEntry("", map[string][]string{
				"supportedCapabilities": {"1.2.840.113556.1.4.1670", windowsDirectory},
			}))
		}
		return answer(ldap.NewEntry("", nil))

	case strings.EqualFold(q.BaseDN, "CN=Hands,OU=There,DC=example"):
		return answer(ldap.NewEntry(q.BaseDN, map[string][]string{"objectClass": {"top", "group"}}))
	case strings.Contains(q.Filter, inChain):
		r.asked = q.Filter
		if r.fails {
			return nil, errors.New("unwilling")
		}
		return answer(entry("clerk", "user", 1001), ldap.NewEntry("CN=Deckhand,OU=There,DC=example", nil))

	case q.Filter == "(objectSid=*)":
		members := []string{"CN=Hands,OU=There,DC=example"}
		list := []*ldap.Entry{entry("clerk", "user", 1001), entry("pilot", "user", 1002)}
		if r.foreign {
			other := ldap.NewEntry("CN=S-1-5-21-9-9-9-500,OU=Here,DC=example", map[string][]string{
				"objectSid": {ntsd.NewSID(5, 21, 9, 9, 9, 500).Bytes()},
			})
			list, members = append(list, other), append(members, other.DN)
		}

		return answer(append(list, entry("crew", "group", 2001, members...),
			entry("all", "group", 2002, "CN=crew,OU=Here,DC=example"))...)
	}

	return nil, fmt.Errorf("asked for %s, %s", q.BaseDN, q.Filter)
}

// Where groups have others elsewhere in them, a directory that follows them itself is asked who is in them;
// where it cannot, nobody knows.
func TestDirectorysOwnRule(t *testing.T) {
	for _, c := range []struct {
		what   string
		server ruling
		known  bool
	}{
		{"it follows them", ruling{able: true}, true},
		{"it does not", ruling{}, false},
		{"it fails at it", ruling{able: true, fails: true}, false},
		{"somebody is of another domain", ruling{able: true, foreign: true}, false},
	} {
		t.Run(c.what, func(t *testing.T) {
			d := &Directory{Base: "OU=Here,DC=example"}
			all, err := d.whole(&c.server)
			if err != nil {
				t.Fatal(err)
			}

			for _, a := range all {
				in := slices.Contains(a.Groups, sid(2001)) && slices.Contains(a.Groups, sid(2002))
				switch {
				case a.Group && a.Partly == c.known:
					t.Errorf("%s: %s is known in part: %t", c.what, a.Name, a.Partly)
				case !a.Group && in != (a.Name == "clerk" && c.server.able && !c.server.fails):
					t.Errorf("%s: %s is in %v", c.what, a.Name, a.Groups)
				}
			}

			if c.server.able && c.server.asked != "(memberOf:1.2.840.113556.1.4.1941:=cn=crew,ou=here,dc=example)" {
				t.Errorf("%s: asked %q", c.what, c.server.asked)
			}
		})
	}
}

// hollow gives pages with nothing in them for ever.
type hollow struct{ asked int }

func (h *hollow) Search(*ldap.SearchRequest) (*ldap.SearchResult, error) {
	h.asked++
	next := ldap.NewControlPaging(page)
	next.SetCookie([]byte{1})
	return &ldap.SearchResult{Controls: []ldap.Control{next}}, nil
}

func TestPagesWithNothing(t *testing.T) {
	h := &hollow{}
	_, err := (&Directory{}).told(h)
	if err == nil || !strings.Contains(err.Error(), "nothing in them") || h.asked > mostEmpty+1 {
		t.Errorf("asked %d times: %v", h.asked, err)
	}
}

// nameless gives things without a name for ever, page after page.
type nameless struct{ given int }

func (n *nameless) Search(*ldap.SearchRequest) (*ldap.SearchResult, error) {
	next := ldap.NewControlPaging(page)
	next.SetCookie([]byte{1})
	out := &ldap.SearchResult{Controls: []ldap.Control{next}}
	for range 1000 {
		n.given++
		out.Entries = append(out.Entries,
			ldap.NewEntry(fmt.Sprintf("CN=%d", n.given), map[string][]string{"objectSid": {sid(1).Bytes()}}))
	}
	return out, nil
}

func TestNamelessWithoutEnd(t *testing.T) {
	n := &nameless{}
	_, err := (&Directory{}).told(n)
	if err == nil || !strings.Contains(err.Error(), "narrower base") || n.given > most+2000 {
		t.Errorf("%d were given: %v", n.given, err)
	}
}

// Accounts that are in groups without end, by way of others, are refused before all that is written down; and
// so are names without end.
func TestMembershipsWithoutEnd(t *testing.T) {
	const people, groups = 10_000, 5000
	d := &domain{at: map[string]int{}, holds: map[string][]string{}}
	add := func(name string, group bool) {
		d.at[name] = len(d.all)
		d.all, d.primary = append(d.all, fileserver.Account{SID: sid(uint32(len(d.all))), Name: name, Group: group}),
			append(d.primary, ntsd.SID{})
	}

	for i := range groups { // each in the next one
		add(fmt.Sprint("g", i), true)
		if i > 0 {
			d.holds[fmt.Sprint("g", i)] = []string{fmt.Sprint("g", i-1)}
		}
	}

	for i := range people {
		add(fmt.Sprint("p", i), false)
		d.holds["g0"] = append(d.holds["g0"], fmt.Sprint("p", i))
	}

	if _, err := d.members(); err == nil || !strings.Contains(err.Error(), "narrower base") {
		t.Errorf("%v", err)
	}

	d = &domain{}
	long := strings.Repeat("n", 1<<20)
	for i := 0; ; i++ {
		err := d.add(ldap.NewEntry(fmt.Sprintf("CN=%d", i), map[string][]string{
			"objectSid":      {sid(1).Bytes()},
			"sAMAccountName": {long},
		}))
		if err != nil {
			if !strings.Contains(err.Error(), "MiB") {
				t.Error(err)
			}
			break
		}
		if i > mostBytes>>20 {
			t.Fatal("names of any length are held")
		}
	}
}
