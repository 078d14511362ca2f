package roster

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/signature"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
	"idletally/internal/testkit"
	"idletally/internal/testkit/pens"
	"idletally/internal/testkit/seeded"
)

var must = testkit.Must

var noon = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

// signed has a statement made, as whoever holds a pen likes.
func signed(t testing.TB, p pens.Pen, s statement.Statement) Signed {
	t.Helper()
	b, err := s.Bytes()
	must(t, err)
	return Signed{b, p.Key, p.Sign(b)}
}

var names = []string{"bosun", "harbourmaster", "purser", "quartermaster"}

// crew is a roster of four people, of whom two enact the next edition, with two recovery keys.
func crew(t testing.TB) (Roster, map[string]pens.Pen) {
	t.Helper()
	ink := map[string]pens.Pen{}
	r := Roster{
		Edition:   1,
		Made:      noon.Add(-time.Hour),
		Until:     noon.AddDate(1, 0, 0),
		Threshold: 2,
		Recover:   2,
		Approvals: []Approvals{{Everything, 1}, {"tideboard", 2}},
	}
	rights := map[string][]Right{
		"bosun":         {{Approve, "ticketing", "slip-north"}, {PutBack, "ticketing", "slip-north"}},
		"harbourmaster": {{Approve, Everything, Everything}, {Submit, "ticketing", Everything}},
		"purser":        {{Alone, "billing", Everything}, {Approve, Everything, Everything}},
		"quartermaster": {{Submit, Everything, Everything}},
	}
	for i, n := range names {
		ink[n] = pens.New(t, uint64(i))
		r.People = append(r.People, Person{n, []NamedKey{{"laptop", ink[n].Key}}, rights[n]})
	}
	for i := range 3 {
		n := fmt.Sprintf("safe-%d", i)
		ink[n] = pens.New(t, uint64(100+i))
		r.Recovery = append(r.Recovery, NamedKey{n, ink[n].Key})
	}

	r.Sort()
	_, err := r.Bytes()
	must(t, err)
	return r, ink
}

func order() Order {
	return Order{
		Plan:        "06h0q8kqeb2mqz23",
		Application: "ticketing",
		Digest:      tree.Sum([]byte("a plan")),
		Hosts:       []string{"slip-north", "slip-south"},
		Host:        "slip-north",
		Enrolled:    noon.AddDate(0, -1, 0),
	}
}

// says is what somebody says of an order.
func says(r Roster, o Order, what, who string) statement.Statement {
	reason := ""
	if what == statement.Alone {
		reason = "The gate does not open, and the ferry is in."
	}
	return statement.Statement{
		Reason:      reason,
		Says:        what,
		Who:         who,
		Application: o.Application,
		Plan:        o.Plan,
		Digest:      o.Digest,
		Hosts:       o.Hosts,
		Roster:      r.Point(),
		Made:        noon.Add(-time.Minute),
		Until:       noon.Add(72 * time.Hour),
	}
}

func nothing(statement.Point) bool { return false }

// A document is read as it was written, and in no other spelling.
func TestOneForm(t *testing.T) {
	r, _ := crew(t)
	text, err := r.Bytes()
	must(t, err)
	again, err := Parse(text)
	must(t, err)
	if b, err := again.Bytes(); err != nil || string(b) != string(text) {
		t.Errorf("it is written otherwise: %v\n%s", err, b)
	}

	for name, change := range map[string]func(string) string{
		"a blank line":         func(s string) string { return s + "\n" },
		"no end":               func(s string) string { return strings.TrimSuffix(s, "\n") },
		"other line ends":      func(s string) string { return strings.ReplaceAll(s, "\n", "\r\n") },
		"another version":      func(s string) string { return strings.Replace(s, "roster 1", "roster 2", 1) },
		"a number with a zero": func(s string) string { return strings.Replace(s, "threshold: 2", "threshold: 02", 1) },
		"an unknown line":      func(s string) string { return s + "note: x\n" },
		"two lines exchanged": func(s string) string {
			return strings.Replace(s, "threshold: 2\nrecover: 2", "recover: 2\nthreshold: 2", 1)
		},
		"a line twice": func(s string) string {
			return strings.Replace(s, "recover: 2\n",
				"recover: 2\nrecover: 2\n", 1)
		},
		"a time in another zone": func(s string) string {
			return strings.Replace(s, "11:00:00Z", "12:00:00+01:00",
				1)
		},
		"parts of seconds":  func(s string) string { return strings.Replace(s, "11:00:00Z", "11:00:00.0Z", 1) },
		"a right of nobody": func(s string) string { return strings.Replace(s, "person: bosun\n", "", 1) },
		"a person twice": func(s string) string {
			return strings.Replace(s, "person: bosun",
				"person: harbourmaster", 1)
		},
		"a name with a blank": func(s string) string {
			return strings.Replace(s, "person: bosun",
				"person: bo sun", 1)
		},
		"a right to nothing": func(s string) string { return strings.Replace(s, "may: submit", "may: run", 1) },
		"a threshold of one": func(s string) string {
			return strings.Replace(s, "threshold: 2", "threshold: 1",
				1)
		},
		"a threshold of too many": func(s string) string {
			return strings.Replace(s, "threshold: 2", "threshold: 5",
				1)
		},
		"one recovery key": func(s string) string { return strings.Replace(s, "recover: 2", "recover: 1", 1) },
		"no approvals":     func(s string) string { return strings.Replace(s, "approvals: * 1\n", "", 1) },
		"approvals of nobody": func(s string) string {
			return strings.Replace(s, "approvals: * 1",
				"approvals: * 0", 1)
		},
	} {
		t.Run(name, func(t *testing.T) {
			changed := change(string(text))
			if changed == string(text) {
				t.Fatal("nothing is changed")
			}
			if _, err := Parse([]byte(changed)); err == nil {
				t.Errorf("it is taken:\n%s", changed)
			}
		})
	}
}

// What somebody has edited is read as it is meant: in whatever order, with remarks and blank lines. What it says stays
// what it said, and what it cannot mean is refused with its line.
func TestEdit(t *testing.T) {
	r, ink := crew(t)
	text, err := r.Bytes()
	must(t, err)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	head := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "person") })
	slices.Reverse(lines[1:head])
	edited := "# of the crew\n\n" + strings.ReplaceAll(strings.Join(lines, "\n"), ": ", ":   ")
	again, err := Edit([]byte(edited))
	if err != nil || again.Digest() != r.Digest() {
		t.Fatalf("%v\n%s", err, edited)
	}

	next := again.Next()
	if next.Edition != 2 || next.Before != r.Digest() || len(next.People) != len(r.People) {
		t.Errorf("%+v", next)
	}
	if gone, come := Differences(r, next); len(gone)+len(come) != 0 {
		t.Errorf("the same with another number: %v, %v", gone, come)
	}
	next.People = next.People[1:]
	next.Threshold = 3
	gone, come := Differences(r, next)
	key := ink["bosun"].Key
	want := []string{"threshold 2", "person bosun", "bosun: key laptop " + key.Fingerprint() + " (" + key.Kind() + ")",
		"bosun: may approve ticketing slip-north", "bosun: may put-back ticketing slip-north"}
	if !slices.Equal(gone, want) || !slices.Equal(come, []string{"threshold 3"}) {
		t.Errorf("%q, %q", gone, come)
	}

	for name, bad := range map[string]string{
		"no colon":         "edition 1",
		"an unknown line":  "harbour: east",
		"nobody's key":     "key: laptop ssh-ed25519 AAAA",
		"nothing":          "",
		"too much":         strings.Repeat("#", MaxBytes+1),
		"a key too many":   edited + "\nkey: other " + ink["purser"].Key.String(),
		"a right of no do": edited + "\nmay: everything",
	} {
		t.Run(name, func(t *testing.T) {
			if r, err := Edit([]byte(bad)); err == nil {
				t.Errorf("it is read: %+v", r)
			}
		})
	}

	if text, err := (Roster{}).Draft(); err == nil || !strings.HasPrefix(text, form.Head) {
		t.Errorf("what is no roster yet is written: %q, %v", text, err)
	}
}

// What is kept of a plan proves who had signed it, to whoever trusts an edition that leads there, long after it is
// over; and to nobody else.
func TestProved(t *testing.T) {
	r, ink := crew(t)
	first, err := r.Bytes()
	must(t, err)
	next := later(t, r, func(r *Roster) { r.Threshold = 3 })
	o := order()
	o.Enrolled = time.Time{}
	e := Evidence{
		First: first,
		Line:  []Step{step(t, r, next, ink, "bosun", "purser")},
		Signed: []Signed{
			signed(t, ink["quartermaster"], says(r, o, statement.Submitted, "quartermaster")),
			signed(t, ink["purser"], says(next, o, statement.Approved, "purser")),
		},
	}
	for name, trusted := range map[string]tree.Hash{"the first edition": r.Digest(), "the last one": next.Digest()} {
		t.Run(name, func(t *testing.T) {
			by, people, err := e.Proved(trusted, o)
			if trusted == next.Digest() { // what was signed by an edition before the trusted one says nothing
				if !errors.Is(err, ErrRefused) {
					t.Errorf("%v", err)
				}
				return
			}
			if err != nil || by.Edition != 2 || people.Submitter != "quartermaster" ||
				people.Approvers[0] != "purser" || !people.Newest.Equal(noon.Add(-time.Minute)) {
				t.Errorf("%d, %+v, %v", by.Edition, people, err)
			}
		})
	}

	if _, _, err := e.Proved(tree.Sum([]byte("another")), o); !errors.Is(err, ErrUntrusted) {
		t.Errorf("by another roster: %v", err)
	}
	cut := e
	cut.Line = nil
	if _, _, err := cut.Proved(r.Digest(), o); !errors.Is(err, ErrUntrusted) {
		t.Errorf("without the edition that they signed by: %v", err)
	}
	other := o
	other.Host = "chartroom"
	other.Digest[0] ^= 1
	if _, _, err := e.Proved(r.Digest(), other); !errors.Is(err, ErrRefused) {
		t.Errorf("of another plan: %v", err)
	}
	one := e
	one.Signed = e.Signed[:1]
	if _, _, err := one.Proved(r.Digest(), o); !errors.Is(err, ErrRefused) {
		t.Errorf("by one person: %v", err)
	}
}

// One key is not two people's, and no recovery key is somebody's.
func TestKeysAreOnePersons(t *testing.T) {
	for name, change := range map[string]func(r *Roster, ink map[string]pens.Pen){
		"two people":     func(r *Roster, ink map[string]pens.Pen) { r.People[0].Keys[0].Key = ink["purser"].Key },
		"a recovery key": func(r *Roster, ink map[string]pens.Pen) { r.Recovery[0].Key = ink["purser"].Key },
		"one twice": func(r *Roster, ink map[string]pens.Pen) {
			r.People[0].Keys = append(r.People[0].Keys, NamedKey{"spare", ink["bosun"].Key})
		},
	} {
		t.Run(name, func(t *testing.T) {
			r, ink := crew(t)
			change(&r, ink)
			if _, err := r.Bytes(); err == nil {
				t.Error("it is a roster")
			}
		})
	}
}

func TestAuthorize(t *testing.T) {
	r, ink := crew(t)
	o := order()
	by := func(what, who string) Signed { return signed(t, ink[who], says(r, o, what, who)) }
	submitted := by(statement.Submitted, "quartermaster")
	for _, c := range []struct {
		name   string
		signed []Signed
		want   string // who approved; "" where it is refused
	}{
		{"two people", []Signed{submitted, by(statement.Approved, "harbourmaster")}, "harbourmaster"},
		{"in whatever order", []Signed{by(statement.Approved, "bosun"), submitted}, "bosun"},
		{"three people", []Signed{submitted, by(statement.Approved, "purser"), by(statement.Approved, "bosun")},
			"bosun,purser"},
		{"nobody", nil, ""},
		{"a submitter alone", []Signed{submitted}, ""},
		{"an approver alone", []Signed{by(statement.Approved, "harbourmaster")}, ""},
		{"one person twice", []Signed{by(statement.Submitted, "harbourmaster"),
			by(statement.Approved, "harbourmaster")},
			""},
		{"somebody who may not submit", []Signed{by(statement.Submitted, "bosun"), by(statement.Approved, "purser")},
			""},
		{"somebody who may not approve", []Signed{submitted, by(statement.Approved, "quartermaster")}, ""},
		{"whoever submits, too", []Signed{submitted, by(statement.Submitted, "harbourmaster")}, ""},
		{"an approver who submitted it as well", []Signed{by(statement.Submitted, "harbourmaster"), submitted,
			by(statement.Approved, "harbourmaster")}, "harbourmaster"},
	} {
		t.Run(c.name, func(t *testing.T) {
			people, err := r.Authorize(o, c.signed, nothing, noon)
			if c.want == "" != errors.Is(err, ErrRefused) || c.want != "" && err != nil {
				t.Fatalf("%+v, %v", people, err)
			}
			if c.want != "" && (strings.Join(people.Approvers, ",") != c.want ||
				slices.Contains(people.Approvers, people.Submitter)) {
				t.Errorf("%+v, want %s", people, c.want)
			}
		})
	}
}

// Who may act alone does so for what the roster says; who may only put back, for no other plan, and only to what the
// host itself found.
func TestAlone(t *testing.T) {
	r, ink := crew(t)
	for _, c := range []struct {
		name        string
		who         string
		application string
		host        string
		putsBack    bool
		want        string // who had it done; "" where it is refused
		own         bool
	}{
		{name: "any plan", who: "purser", application: "billing", host: "slip-south", want: "purser"},
		{name: "one that puts back, by who may do any", who: "purser", application: "billing", host: "slip-south",
			putsBack: true, want: "purser"},
		{name: "one that puts back", who: "bosun", application: "ticketing", host: "slip-north", putsBack: true,
			want: "bosun", own: true},
		{name: "any plan, by who may put back", who: "bosun", application: "ticketing", host: "slip-north"},
		{name: "on another host", who: "bosun", application: "ticketing", host: "slip-south", putsBack: true},
		{name: "of another application", who: "purser", application: "ticketing", host: "slip-north"},
		{name: "by who may submit and approve", who: "harbourmaster", application: "ticketing", host: "slip-north"},
		{name: "one that puts back, by who may submit and approve", who: "harbourmaster", application: "ticketing",
			host: "slip-north", putsBack: true},
	} {
		t.Run(c.name, func(t *testing.T) {
			o := order()
			o.Application, o.Host, o.PutsBack = c.application, c.host, c.putsBack
			people, err := r.Authorize(o, []Signed{signed(t, ink[c.who], says(r, o, statement.Alone, c.who))}, nothing,
				noon)
			if c.want == "" && !errors.Is(err, ErrRefused) || c.want != "" && err != nil {
				t.Fatalf("%+v, %v", people, err)
			}
			if people.Submitter != c.want || people.OwnOriginals != c.own || c.want != "" && !people.Alone() {
				t.Errorf("%+v", people)
			}
		})
	}

	// Where two people have signed as well, it is theirs.
	o := order()
	o.Application = "billing"
	var list []Signed
	for _, x := range [][2]string{{statement.Alone, "purser"}, {statement.Submitted, "quartermaster"},
		{statement.Approved, "purser"}} {
		list = append(list, signed(t, ink[x[1]], says(r, o, x[0], x[1])))
	}
	if people, err := r.Authorize(o, list, nothing, noon); err != nil || people.Submitter != "quartermaster" {
		t.Errorf("%+v, %v", people, err)
	}
}

// Somebody agrees to just the request that they signed, by a key that the roster has now.
func TestAgreed(t *testing.T) {
	r, ink := crew(t)
	q := Request{ID: "06h0q8kqeb2mqz24", Asks: `set-roles by admin: {"roles":["admin"]}`, Digest: tree.Sum([]byte("a call"))}
	base := statement.Statement{
		Says: statement.Agreed, Who: "purser", Request: q.ID, Asks: q.Asks, Digest: q.Digest, Roster: r.Point(),
		Made: noon.Add(-time.Minute), Until: noon.Add(time.Hour),
	}
	for _, c := range []struct {
		name   string
		change func(s *statement.Statement)
		asked  func(q *Request)
		roster func(r *Roster)
		pen    string
		at     time.Time
		ok     bool
	}{
		{name: "just this", ok: true},
		{name: "another request", asked: func(q *Request) { q.ID = "06h0q8kqeb2mqz25" }},
		{name: "something else", asked: func(q *Request) { q.Asks += " " }},
		{name: "another call", asked: func(q *Request) { q.Digest[0] ^= 1 }},
		{name: "over", at: noon.Add(time.Hour)},
		{name: "not yet", at: noon.Add(-time.Hour)},
		{name: "somebody else's key", pen: "bosun"},
		{name: "nobody of the roster", change: func(s *statement.Statement) { s.Who = "stowaway" }},
		{name: "another roster", change: func(s *statement.Statement) { s.Roster.Hash[0] ^= 1 }},
		{name: "that a plan is approved", change: func(s *statement.Statement) {
			s.Says, s.Application, s.Plan, s.Hosts = statement.Approved, "ticketing", q.ID, []string{"slip-north"}
		}},
		{name: "by the edition before", roster: func(*Roster) {}, ok: true},
		{name: "a key that was ended", roster: func(r *Roster) { r.People[2].Keys[0].Key = pens.New(t, 77).Key }},
		{name: "a person who left", roster: func(r *Roster) { r.People[2].Name = "purser-2" }},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, asked, counts, at, known := base, q, r, noon, nothing
			if c.change != nil {
				c.change(&s)
			}
			if c.asked != nil {
				c.asked(&asked)
			}
			if c.roster != nil {
				counts = later(t, r, c.roster)
				known = func(p statement.Point) bool { return p == r.Point() }
			}
			if !c.at.IsZero() {
				at = c.at
			}
			by := ink["purser"]
			if c.pen != "" {
				by = ink[c.pen]
			}
			if got, err := counts.Agreed(asked, signed(t, by, s), known, at); (err == nil) != c.ok {
				t.Errorf("%+v, %v", got, err)
			}
		})
	}
	if _, err := r.Agreed(q, Signed{mustBytes(t, base), ink["purser"].Key, ink["bosun"].Sign(mustBytes(t, base))},
		nothing, noon); err == nil {
		t.Error("somebody else's signature under the right key is taken")
	}
}

func mustBytes(t *testing.T, s statement.Statement) []byte {
	t.Helper()
	b, err := s.Bytes()
	must(t, err)
	return b
}

// What is another thing than the order, in whatever point, is no part of it.
func TestOtherOrders(t *testing.T) {
	r, ink := crew(t)
	for _, c := range []struct {
		name   string
		order  func(o *Order)
		says   func(s *statement.Statement)
		at     time.Time
		roster func(r *Roster)
	}{
		{name: "another digest", order: func(o *Order) { o.Digest[0] ^= 1 }},
		{name: "another plan", order: func(o *Order) { o.Plan = "06h0q8kqeb2mqz24" }},
		{name: "another application", order: func(o *Order) { o.Application = "billing" }},
		{name: "one host fewer", order: func(o *Order) { o.Hosts = o.Hosts[:1] }},
		{name: "hosts in another order", order: func(o *Order) { slices.Reverse(o.Hosts) }},
		{name: "enrolled since", order: func(o *Order) { o.Enrolled = noon }},
		{name: "over", at: noon.Add(72 * time.Hour)},
		{name: "not yet", at: noon.Add(-time.Hour)},
		{name: "the roster is over", at: noon.AddDate(1, 0, 0), says: func(s *statement.Statement) {
			s.Made, s.Until = noon.AddDate(1, 0, -1), noon.AddDate(1, 0, 1)
		}},
		{name: "the roster is not yet", at: noon.Add(-2 * time.Hour), says: func(s *statement.Statement) {
			s.Made = noon.Add(-3 * time.Hour)
		}},
		{name: "another edition", says: func(s *statement.Statement) { s.Roster.Number++ }},
		{name: "another roster", says: func(s *statement.Statement) { s.Roster.Hash[0] ^= 1 }},
		{name: "an edition from before that nobody knows", says: func(s *statement.Statement) { s.Roster.Number = 0 }},
		{name: "an application that takes two", order: func(o *Order) { o.Application = "tideboard" },
			says: func(s *statement.Statement) { s.Application = "tideboard" }},
		{name: "a key that was ended", roster: func(r *Roster) { r.People[1].Keys[0].Key = pens.New(t, 77).Key }},
		{name: "a person who left", roster: func(r *Roster) { r.People[1].Name = "harbourmate" }},
		{name: "a right that was taken", roster: func(r *Roster) { r.People[1].Rights = nil }},
	} {
		t.Run(c.name, func(t *testing.T) {
			o, at := order(), noon
			signing := order()
			var list []Signed
			for _, x := range [][2]string{{statement.Submitted, "quartermaster"},
				{statement.Approved, "harbourmaster"}} {
				s := says(r, signing, x[0], x[1])
				if c.says != nil {
					c.says(&s)
				}
				list = append(list, signed(t, ink[x[1]], s))
			}
			if c.order != nil {
				c.order(&o)
			}
			if !c.at.IsZero() {
				at = c.at
			}
			counts, known := r, nothing
			if c.roster != nil {
				counts = later(t, r, c.roster)
				known = func(p statement.Point) bool { return p == r.Point() }
			}
			if people, err := counts.Authorize(o, list, known, at); !errors.Is(err, ErrRefused) {
				t.Errorf("%+v, %v", people, err)
			}
		})
	}
}

// later is the next edition, changed.
func later(t testing.TB, r Roster, change func(*Roster)) Roster {
	t.Helper()
	b, err := r.Bytes()
	must(t, err)
	next, err := Parse(b)
	must(t, err)
	next.Edition, next.Before = r.Edition+1, r.Digest()
	change(&next)
	next.Sort()
	_, err = next.Bytes()
	must(t, err)
	return next
}

func enacted(r, next Roster, who string) statement.Statement {
	return statement.Statement{
		Says:   statement.Enacted,
		Who:    who,
		Digest: next.Digest(),
		Roster: r.Point(),
		Made:   noon.Add(-time.Minute),
		Until:  noon.Add(time.Hour),
	}
}

// step makes the step to an edition, as these have signed it.
func step(t testing.TB, r, next Roster, ink map[string]pens.Pen, who ...string) Step {
	t.Helper()
	b, err := next.Bytes()
	must(t, err)
	s := Step{Roster: b}
	for _, w := range who {
		s.Signed = append(s.Signed, signed(t, ink[w], enacted(r, next, w)))
	}
	return s
}

// What was signed while an edition counted that the host came by goes on counting, if nothing of it has changed.
func TestSignedByTheEditionBefore(t *testing.T) {
	r, ink := crew(t)
	o := order()
	list := []Signed{
		signed(t, ink["quartermaster"], says(r, o, statement.Submitted, "quartermaster")),
		signed(t, ink["purser"], says(r, o, statement.Approved, "purser")),
	}
	next := later(t, r, func(r *Roster) { r.Threshold = 3 })
	if _, err := next.Authorize(o, list, func(p statement.Point) bool { return p == r.Point() }, noon); err != nil {
		t.Error(err)
	}
	if _, err := next.Authorize(o, list, nothing, noon); !errors.Is(err, ErrRefused) {
		t.Errorf("by an edition that the host does not know: %v", err)
	}
}

func TestFollow(t *testing.T) {
	r, ink := crew(t)
	next := later(t, r, func(r *Roster) { r.Threshold = 3 })
	third := later(t, next, func(r *Roster) { r.Until = r.Until.AddDate(1, 0, 0) })
	forked := later(t, r, func(r *Roster) { r.Made = r.Made.Add(time.Second) })
	for _, c := range []struct {
		name string
		line []Step
		want int64 // the edition; 0 where the line is broken
	}{
		{"nothing", nil, 1},
		{"two of two", []Step{step(t, r, next, ink, "bosun", "purser")}, 2},
		{"more than it takes", []Step{step(t, r, next, ink, names...)}, 2},
		{"two recovery keys", []Step{step(t, r, next, ink, "safe-0", "safe-2")}, 2},
		{"two steps", []Step{step(t, r, next, ink, "bosun", "purser"),
			step(t, next, third, ink, "bosun", "purser", "quartermaster")}, 3},
		{"one of two", []Step{step(t, r, next, ink, "bosun")}, 0},
		{"one of them twice", []Step{step(t, r, next, ink, "bosun", "bosun")}, 0},
		{"one recovery key", []Step{step(t, r, next, ink, "safe-0")}, 0},
		{"one of each", []Step{step(t, r, next, ink, "safe-0", "bosun")}, 0},
		{"two of three", []Step{step(t, r, next, ink, "bosun", "purser"),
			step(t, next, third, ink, "bosun", "purser")}, 0},
		{"a step left out", []Step{step(t, next, third, ink, names...)}, 0},
		{"the same step twice", []Step{step(t, r, next, ink, names...), step(t, r, next, ink, names...)}, 0},
		{"another line", []Step{step(t, r, forked, ink, names...), step(t, next, third, ink, names...)}, 0},
		{"signed for another edition", []Step{{step(t, r, forked, ink).Roster,
			step(t, r, next, ink, names...).Signed}}, 0},
		{"signed by who comes", []Step{step(t, r, joined(t, r), strangers(t), "stowaway", "lookout")}, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := Follow(r, c.line)
			if c.want == 0 != errors.Is(err, ErrBroken) || c.want != 0 && (err != nil || got.Edition != c.want) {
				t.Errorf("edition %d, %v, want %d", got.Edition, err, c.want)
			}
		})
	}
}

// Two who have signed count together only where what they say held at one time: what lapsed before the other signed
// is not there any more, however long somebody has kept it.
func TestEnactedAtOneTime(t *testing.T) {
	r, ink := crew(t)
	next := later(t, r, func(r *Roster) { r.Threshold = 3 })
	day := 24 * time.Hour
	for _, c := range []struct {
		name      string
		begin     time.Duration // of the second one; the first holds from 0 on, for a day
		end       time.Duration
		follows   bool
		withThird bool // who has signed besides, from 0 on for a month
	}{
		{"together", 0, day, true, false},
		{"the last second", day - time.Second, 2 * day, true, false},
		{"when the first had lapsed", day, 2 * day, false, false},
		{"a month later", 30 * day, 31 * day, false, false},
		{"before the first", -2 * day, 0, false, false},
		{"each with a third", 10 * day, 11 * day, true, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			held := func(who string, begin, end time.Duration) Signed {
				s := enacted(r, next, who)
				s.Made, s.Until = noon.Add(begin), noon.Add(end)
				return signed(t, ink[who], s)
			}
			for _, two := range [][2]string{{"bosun", "purser"}, {"safe-0", "safe-2"}} {
				one := step(t, r, next, ink)
				one.Signed = []Signed{held(two[0], 0, day), held(two[1], c.begin, c.end)}
				if c.withThird {
					third := map[string]string{"bosun": "harbourmaster", "safe-0": "safe-1"}[two[0]]
					one.Signed = append(one.Signed, held(third, 0, 30*day))
				}
				if _, err := Follow(r, []Step{one}); (err == nil) != c.follows {
					t.Errorf("%v: %v", two, err)
				}
			}
		})
	}
}

func strangers(t testing.TB) map[string]pens.Pen {
	return map[string]pens.Pen{"stowaway": pens.New(t, 500), "lookout": pens.New(t, 501)}
}

// joined is a next edition with people whom nobody let in.
func joined(t testing.TB, r Roster) Roster {
	return later(t, r, func(r *Roster) {
		for n, p := range strangers(t) {
			right := []Right{{Approve, Everything, Everything}, {Submit, Everything, Everything}}
			r.People = append(r.People, Person{n, []NamedKey{{"key", p.Key}}, right})
		}
	})
}

// An attacker has the service: every statement that people ever made, in whatever combination, and keys of their
// own. Thousands of ways to put together an order that two people did not sign: none is taken.
func TestNothingThatTwoDidNotSign(t *testing.T) {
	r := seeded.Rand(t)
	now, ink := crew(t)
	real, own := order(), strangers(t)
	for n, p := range own {
		ink[n] = p
	}

	// What people have really signed: this order by its submitter alone, and others by all.
	var have []Signed
	other := order()
	other.Digest, other.Plan = tree.Sum([]byte("another plan")), "06h0q8kqeb2mqz99"
	have = append(have, signed(t, ink["quartermaster"], says(now, real, statement.Submitted, "quartermaster")))
	for _, n := range names {
		for _, what := range []string{statement.Submitted, statement.Approved, statement.Alone} {
			have = append(have, signed(t, ink[n], says(now, other, what, n)))
		}
	}

	tried := 0
	for range testkit.Rounds(4000, 40_000) {
		list := slices.Clone(have)
		for range 1 + r.IntN(4) {
			list = append(list, forge(t, r, now, real, have, ink))
		}
		r.Shuffle(len(list), func(i, j int) { list[i], list[j] = list[j], list[i] })
		if people, err := now.Authorize(real, list, nothing, noon); err == nil {
			t.Fatalf("%+v of\n%+v", people, list)
		}
		tried++
	}
	t.Logf("%d forged orders, none taken", tried)
}

// forge makes a signature that nobody of the roster made: by a key of the attacker's, of a statement that somebody
// else signed, or with anything of either changed.
func forge(t *testing.T, r *rand.Rand, now Roster, o Order, have []Signed, ink map[string]pens.Pen) Signed {
	t.Helper()
	somebody := names[r.IntN(len(names))]
	attacker := ink[[]string{"stowaway", "lookout"}[r.IntN(2)]]
	wanted := says(now, o, statement.Approved, somebody)
	text, err := wanted.Bytes()
	must(t, err)
	old := have[r.IntN(len(have))]

	switch r.IntN(9) {
	case 0: // by the attacker's key, said to be somebody's
		return Signed{text, attacker.Key, attacker.Sign(text)}
	case 1: // by the attacker's key, under somebody's
		return Signed{text, ink[somebody].Key, attacker.Sign(text)}
	case 2: // an old signature under what is wanted
		return Signed{text, old.Key, old.Signature}
	case 3: // an old statement, changed
		b := slices.Clone(old.Statement)
		b[r.IntN(len(b))] ^= 1 << r.IntN(8)
		return Signed{b, old.Key, old.Signature}
	case 4: // an old statement with lines of what is wanted
		lines, want := strings.SplitAfter(string(old.Statement), "\n"), strings.SplitAfter(string(text), "\n")
		i := r.IntN(min(len(lines), len(want)))
		lines[i] = want[i]
		return Signed{[]byte(strings.Join(lines, "")), old.Key, old.Signature}
	case 5: // an old statement that is cut off, or has something behind it
		return Signed{append(slices.Clone(old.Statement[:r.IntN(len(old.Statement))]), text...), old.Key, old.Signature}
	case 6: // said by who submitted it, for the one who did not approve
		s := says(now, o, statement.Approved, "quartermaster")
		return signed(t, ink["quartermaster"], s)
	case 7: // said to be somebody's alone, by who has no such right, or one for something else
		return signed(t, ink[somebody], says(now, o, statement.Alone, somebody))
	}
	sig := slices.Clone(old.Signature.SSH)
	sig[r.IntN(len(sig))] ^= 1 << r.IntN(8)
	return Signed{old.Statement, old.Key, signature.Signature{SSH: sig}}
}

func FuzzParse(f *testing.F) {
	r, _ := crew(f)
	text, err := r.Bytes()
	must(f, err)
	f.Add(text)
	f.Fuzz(func(t *testing.T, b []byte) {
		r, err := Parse(b)
		if err != nil {
			return
		}
		if again, err := r.Bytes(); err != nil || string(again) != string(b) {
			t.Errorf("%q is written %q, %v", b, again, err)
		}
	})
}
