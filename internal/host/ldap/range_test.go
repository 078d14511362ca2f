package ldap

import (
	"fmt"
	"strconv"
	"strings"
	"testing"

	"github.com/go-ldap/ldap/v3"
)

// A ranging directory gives members in parts of so many, as those of Windows domains do.
type ranging struct {
	part   int
	people int // that are in one group, which is in another
	wrong  string
	asked  int
	all    []string // their names, made once
}

func (r *ranging) Search(q *ldap.SearchRequest) (*ldap.SearchResult, error) {
	r.asked++
	entry := func(dn, name, class string, rid uint32, members ...string) *ldap.Entry {
		e := ldap.NewEntry(dn, map[string][]string{
			"objectSid":      {sid(rid).Bytes()},
			"sAMAccountName": {name},
			"objectClass":    {class},
		})
		if class != "group" {
			return e
		}
		return r.members(e, members, 0)
	}

	for i := len(r.all); i < r.people; i++ {
		r.all = append(r.all, fmt.Sprintf("CN=p%d,DC=example", i))
	}

	all := r.all
	if q.Scope == ldap.ScopeBaseObject {
		from, _ := strconv.Atoi(strings.TrimSuffix(strings.TrimPrefix(q.Attributes[0], "member;range="), "-*"))
		if r.wrong == "again" {
			from = 0
		}

		e := r.members(&ldap.Entry{DN: q.BaseDN}, all, from)
		if r.wrong == "nothing" {
			e.Attributes = []*ldap.EntryAttribute{
				ldap.NewEntryAttribute(fmt.Sprintf("member;range=%d-%d", from, from+9), nil),
			}
		}

		if r.wrong == "twice" {
			e.Attributes = append(e.Attributes, e.Attributes[len(e.Attributes)-1])
		}

		return &ldap.SearchResult{Entries: []*ldap.Entry{e}}, nil
	}

	out := &ldap.SearchResult{
		Entries: []*ldap.Entry{
			entry("CN=crew,DC=example", "crew", "group", 100, all...),
			entry("CN=staff,DC=example", "staff", "group", 101, "CN=Crew,DC=example"),
		},
	}

	for i, dn := range all {
		out.Entries = append(out.Entries, entry(dn, fmt.Sprint("p", i), "user", 1000+uint32(i)))
	}

	return out, nil
}

// members returns an entry those from a number on.
func (r *ranging) members(e *ldap.Entry, all []string, from int) *ldap.Entry {
	if len(all) <= r.part {
		e.Attributes = append(e.Attributes, ldap.NewEntryAttribute("member", all))
		return e
	}
	to, high := min(from+r.part, len(all)), "*"
	if to < len(all) {
		high = strconv.Itoa(to - 1)
	}
	e.Attributes = append(e.Attributes, ldap.NewEntryAttribute("member", nil),
		ldap.NewEntryAttribute(fmt.Sprintf("Member;Range=%d-%s", from, high), all[from:to]))
	return e
}

// Everybody is in the groups that they are in, however many parts a directory gives the members in; one that
// goes on for ever, or gives what was not asked for, is an error.
func TestRanges(t *testing.T) {
	for _, people := range []int{0, 1, 9, 10, 11, 20, 21, 4567} {
		r := &ranging{part: 10, people: people}
		all, err := (&Directory{Base: "DC=example"}).whole(r)
		if err != nil {
			t.Fatalf("%d people: %v", people, err)
		}

		in := 0
		for _, a := range all {
			if !a.Group && len(a.Groups) == 2 {
				in++
			}
		}

		if in != people || people > 10 && r.asked < people/10 {
			t.Errorf("%d people, of which %d are in both groups, after %d questions", people, in, r.asked)
		}
	}

	for wrong, says := range map[string]string{
		"again":   "want those from 10 on",
		"nothing": "it gives none, and says that there are more",
		"twice":   "several parts at once",
	} {
		t.Run(wrong, func(t *testing.T) {
			if _, err := (&Directory{Base: "DC=example"}).told(&ranging{part: 10, people: 50,
				wrong: wrong}); err == nil ||
				!strings.Contains(err.Error(), says) {
				t.Errorf("%s: %v", wrong, err)
			}
		})
	}

	// A part with one member each is a question each.
	r := &ranging{part: 1, people: mostParts + 10}
	if _, err := (&Directory{Base: "DC=example"}).told(r); err == nil ||
		!strings.Contains(err.Error(), "in more than 20000 parts") || r.asked > mostParts+1 {
		t.Errorf("one at a time: %v, after %d questions", err, r.asked)
	}

	d := &domain{bytes: mostBytes - 10, holds: map[string][]string{}}
	if err := d.join(&ldap.Entry{
		Attributes: []*ldap.EntryAttribute{ldap.NewEntryAttribute("member", []string{"CN=p,DC=example"})},
	},
		"CN=crew", 0); err == nil {
		t.Error("names of any length are held")
	}
}
