package statement

import (
	"strings"
	"testing"
	"time"

	"idletally/internal/core/tree"
	"idletally/internal/testkit"
)

var noon = time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)

func approval() Statement {
	return Statement{
		Says:        Approved,
		Who:         "harbourmaster",
		Application: "ticketing",
		Plan:        "06h0q8kqeb2mqz23",
		Digest:      tree.Sum([]byte("a plan")),
		Hosts:       []string{"slip-north", "slip-south"},
		Words:       []Word{{"1d19ebdc0e8d", "The site moves to slip-south tonight."}},
		Roster:      Point{3, tree.Sum([]byte("a roster"))},
		History:     Point{214, tree.Sum([]byte("a line"))},
		Made:        noon,
		Until:       noon.Add(72 * time.Hour),
	}
}

// What is read is written as it was.
func TestOneForm(t *testing.T) {
	text, err := approval().Bytes()
	testkit.Must(t, err)
	s, err := Parse(text)
	testkit.Must(t, err)
	if b, err := s.Bytes(); err != nil || string(b) != string(text) {
		t.Errorf("%v\n%s\n%s", err, text, b)
	}

	for name, change := range map[string][2]string{
		"another version":     {"statement 1", "statement 2"},
		"something behind it": {"Z\n", "Z\n\n"},
		"other line ends":     {"\n", "\r\n"},
		"a line twice":        {"who: harbourmaster\n", "who: harbourmaster\nwho: harbourmaster\n"},
		"lines exchanged": {"application: ticketing\nplan: 06h0q8kqeb2mqz23",
			"plan: 06h0q8kqeb2mqz23\napplication: ticketing"},
		"an unknown line":       {"made: ", "note: x\nmade: "},
		"no line":               {"who: harbourmaster\n", ""},
		"two blanks":            {"who: ", "who:  "},
		"a blank at the end":    {"harbourmaster\n", "harbourmaster \n"},
		"capital digits":        {"history: 214 ", "history: +214 "},
		"a zone":                {"T12:00:00Z", "T12:00:00+00:00"},
		"parts of seconds":      {"T12:00:00Z", "T12:00:00.5Z"},
		"good for too long":     {"until: 2026-12-03", "until: 2027-12-03"},
		"over before it began":  {"until: 2026-12-03", "until: 2026-11-03"},
		"a name with a blank":   {"who: harbourmaster", "who: harbour master"},
		"a name in other signs": {"who: harbourmaster", "who: hаrbourmaster"}, // a Cyrillic letter
		"a word of nothing":     {"The site moves to slip-south tonight.", ""},
		"a word that steers":    {"The site", "The\x1b[2Jsite"},
		"no hosts":              {"host: slip-north\nhost: slip-south\n", ""},
		"something else":        {"says: approved", "says: declined"},
		"words of a submitter":  {"says: approved", "says: submitted"},
		"a plan in a roster's":  {"says: approved", "says: enacted"},
	} {
		t.Run(name, func(t *testing.T) {
			changed := strings.ReplaceAll(string(text), change[0], change[1])
			if changed == string(text) {
				t.Fatal("nothing is changed")
			}
			if s, err := Parse([]byte(changed)); err == nil {
				t.Errorf("it is taken for %+v:\n%s", s, changed)
			}
		})
	}
}

// Two statements that differ in anything have different bytes.
func TestEverythingIsInTheBytes(t *testing.T) {
	text, err := approval().Bytes()
	testkit.Must(t, err)
	for name, change := range map[string]func(s *Statement){
		"says":        func(s *Statement) { s.Says, s.Words = Submitted, nil },
		"who":         func(s *Statement) { s.Who = "bosun" },
		"application": func(s *Statement) { s.Application = "billing" },
		"plan":        func(s *Statement) { s.Plan = "x" },
		"digest":      func(s *Statement) { s.Digest[31] ^= 1 },
		"hosts":       func(s *Statement) { s.Hosts = s.Hosts[:1] },
		"words":       func(s *Statement) { s.Words[0].Text += "!" },
		"roster":      func(s *Statement) { s.Roster.Hash[0] ^= 1 },
		"history":     func(s *Statement) { s.History.Number++ },
		"made":        func(s *Statement) { s.Made = s.Made.Add(time.Second) },
		"until":       func(s *Statement) { s.Until = s.Until.Add(time.Second) },
	} {
		t.Run(name, func(t *testing.T) {
			s := approval()
			change(&s)
			b, err := s.Bytes()
			if err != nil || string(b) == string(text) {
				t.Errorf("%v\n%s", err, b)
			}
		})
	}
}

// acting and agreement are what else people say.
func acting() Statement {
	s := approval()
	s.Says, s.Reason = Alone, "The gate does not open, and the ferry is in."
	return s
}

func agreement() Statement {
	s := approval()
	s.Says, s.Application, s.Plan, s.Hosts, s.Words = Agreed, "", "", nil, nil
	s.Request, s.Asks = "06h0q8kqeb2mqz24", `set-roles: bosun {"roles":["admin"]}`
	return s
}

// Each kind has its own lines and no other's.
func TestKinds(t *testing.T) {
	for _, s := range []Statement{acting(), agreement()} {
		t.Run(s.Says, func(t *testing.T) {
			text, err := s.Bytes()
			testkit.Must(t, err)
			if again, err := Parse(text); err != nil || again.Reason != s.Reason || again.Asks != s.Asks ||
				again.Request != s.Request {
				t.Fatalf("%+v, %v", again, err)
			}
			for _, says := range []string{Submitted, Approved, Alone, Enacted, Agreed} {
				other := strings.Replace(string(text), "says: "+s.Says, "says: "+says, 1)
				if got, err := Parse([]byte(other)); says != s.Says && err == nil {
					t.Errorf("it is taken for %+v", got)
				}
			}
			for _, line := range []string{"reason: ", "asks: ", "request: "} {
				start, _, _ := strings.Cut(string(text), line)
				_, rest, _ := strings.Cut(string(text), line)
				_, end, there := strings.Cut(rest, "\n")
				if got, err := Parse([]byte(start + end)); there && err == nil {
					t.Errorf("without %q it is taken for %+v", line, got)
				}
				if got, err := Parse([]byte(start + line + "\n" + end)); there && err == nil {
					t.Errorf("with nothing behind %q it is taken for %+v", line, got)
				}
			}
		})
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []Statement{approval(), acting(), agreement()} {
		text, err := s.Bytes()
		testkit.Must(f, err)
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := Parse(b)
		if err != nil {
			return
		}
		if again, err := s.Bytes(); err != nil || string(again) != string(b) {
			t.Errorf("%q is written %q, %v", b, again, err)
		}
	})
}
