// Package statement is what people sign: one text in plain words, with one spelling, that says who means what until
// when. A person reads the very bytes that their key signs.
//
//	idletally statement 1
//	says: approved
//	who: harbourmaster
//	application: ticketing
//	plan: 06h0q8kqeb2mqz23
//	digest: b7a12fb43e6bde9facd67854d5c3712abff40d5f35ffd8cf9b7dfd1db623f962
//	host: slip-north
//	host: slip-south
//	word: 1d19ebdc0e8d The site moves to slip-south tonight.
//	roster: 3 5e0f…
//	history: 214 6d0f…
//	made: 2026-11-30T15:00:00Z
//	until: 2026-12-03T15:00:00Z
package statement

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"idletally/internal/core/tree"
)

// What a statement can say. The digest of the first three is a plan's, of the fourth a roster's, of the last that of
// the call.
const (
	Submitted = "submitted" // a plan, for others to approve
	Approved  = "approved"  // a plan of somebody else
	Alone     = "alone"     // a plan, that nobody else is to look at before it runs
	Enacted   = "enacted"   // the next edition of a roster
	Agreed    = "agreed"    // a request of somebody else
)

// kinds is what statements say, each with the lines that only some have.
var kinds = map[string]struct{ plan, words, reason, request bool }{
	Submitted: {plan: true},
	Approved:  {plan: true, words: true},
	Alone:     {plan: true, words: true, reason: true},
	Enacted:   {},
	Agreed:    {request: true},
}

// Bounds of a statement: of its bytes, of its lines of a kind, and of how long it may be good.
const (
	MaxBytes = 64 << 10
	MaxHosts = 10_000
	MaxWords = 200
	MaxLife  = 31 * 24 * time.Hour
)

var form = Form{What: "the statement", Head: "idletally statement 1", Most: MaxBytes}

// A Word is what somebody says of a grave caution of a plan.
type Word struct {
	Caution string // its id
	Text    string
}

// A Point is a place in a line of things, each with a hash: an edition of a roster, or a line of the history.
type Point struct {
	Number int64
	Hash   tree.Hash
}

// A Statement is one that somebody makes. Which fields it has, its kind says; the others are empty.
type Statement struct {
	Says        string
	Who         string
	Application string    // of a plan
	Plan        string    // its id
	Digest      tree.Hash // of what is meant
	Hosts       []string  // of a plan, in its order
	Words       []Word    // of who approves a plan, or acts alone
	Reason      string    // why somebody acts alone
	Request     string    // its id
	Asks        string    // what a request asks for, in one line
	Roster      Point     // that counts now; of an enacted one, the one before
	History     Point     // where the history ended that the person was shown
	Made        time.Time // to the second
	Until       time.Time // to the second; it counts no more then
}

// Bytes returns the text. It is what is signed. A statement that is none is an error, so that nobody signs one that
// nobody takes.
func (s Statement) Bytes() ([]byte, error) {
	if err := s.check(); err != nil {
		return nil, err
	}

	return form.Write(func(line func(key, value string)) {
		line("says", s.Says)
		line("who", s.Who)
		if s.OfPlan() {
			line("application", s.Application)
			line("plan", s.Plan)
		}
		if kinds[s.Says].request {
			line("request", s.Request)
			line("asks", s.Asks)
		}
		line("digest", s.Digest.String())
		for _, h := range s.Hosts {
			line("host", h)
		}
		for _, w := range s.Words {
			line("word", w.Caution+" "+w.Text)
		}
		if kinds[s.Says].reason {
			line("reason", s.Reason)
		}
		line("roster", s.Roster.String())
		line("history", s.History.String())
		line("made", Stamp(s.Made))
		line("until", Stamp(s.Until))
	})
}

// Parse reads a statement. There is one spelling of each: what reads otherwise is refused.
func Parse(text []byte) (Statement, error) {
	var s Statement
	if err := form.Read(text, s.take, func() ([]byte, error) { return s.Bytes() }); err != nil {
		return Statement{}, err
	}
	return s, nil
}

// take takes in one line.
func (s *Statement) take(key, value string) (err error) {
	switch key {
	case "says":
		s.Says = value
	case "who":
		s.Who = value
	case "application":
		s.Application = value
	case "plan":
		s.Plan = value
	case "digest":
		err = s.Digest.UnmarshalText([]byte(value))
	case "host":
		s.Hosts = append(s.Hosts, value)
	case "word":
		id, text, _ := strings.Cut(value, " ")
		s.Words = append(s.Words, Word{id, text})
	case "reason":
		s.Reason = value
	case "request":
		s.Request = value
	case "asks":
		s.Asks = value
	case "roster":
		s.Roster, err = parsePoint(value)
	case "history":
		s.History, err = parsePoint(value)
	case "made":
		s.Made, err = time.Parse(time.RFC3339, value)
	case "until":
		s.Until, err = time.Parse(time.RFC3339, value)
	default:
		err = errors.New("no statement has such a line")
	}
	return err
}

// OfPlan reports whether the statement is about a plan.
func (s Statement) OfPlan() bool { return kinds[s.Says].plan }

// check returns what keeps a statement from being one.
func (s Statement) check() error {
	names := []string{s.Who}
	if s.OfPlan() {
		names = append(append(names, s.Application, s.Plan), s.Hosts...)
	}
	if kinds[s.Says].request {
		names = append(names, s.Request)
	}
	for _, n := range names {
		if !Name(n) {
			return fmt.Errorf("%.60q is no name: want letters, digits and . _ - @", n)
		}
	}

	if s.Roster.Number < 0 || s.History.Number < 0 {
		return errors.New("nothing has a number below 0")
	}
	if !s.Made.Before(s.Until) || s.Until.Sub(s.Made) > MaxLife {
		return fmt.Errorf("it has to be good for some time, and at most for %d days", MaxLife/(24*time.Hour))
	}

	return s.checkMeant()
}

// checkMeant checks what is said, and of what.
func (s Statement) checkMeant() error {
	kind, ok := kinds[s.Says]
	switch {
	case !ok:
		return fmt.Errorf("nobody can say %.40q", s.Says)
	case kind.plan && (len(s.Hosts) == 0 || len(s.Hosts) > MaxHosts):
		return fmt.Errorf("a plan has 1 to %d hosts, this one %d", MaxHosts, len(s.Hosts))
	case !kind.words && len(s.Words) > 0 || len(s.Words) > MaxWords:
		return fmt.Errorf("only who approves a plan says words of its cautions, and at most %d", MaxWords)
	case s.Digest.IsZero():
		return errors.New("it does not say what is meant")
	}
	return s.checkTexts()
}

// checkTexts checks what people say in words of their own.
func (s Statement) checkTexts() error {
	switch kind := kinds[s.Says]; {
	case kind.reason && !oneLine(s.Reason):
		return errors.New("who acts alone says why, in one line")
	case kind.request && !oneLine(s.Asks):
		return errors.New("who agrees to a request says to what, in one line")
	}
	for _, w := range s.Words {
		if !Name(w.Caution) || !oneLine(w.Text) {
			return errors.New("a word has to be one line of text, behind the id of its caution")
		}
	}
	return nil
}

// Name reports whether a text can be a name in what people sign: nothing in it looks like something else, or steers
// a terminal.
func Name(s string) bool {
	ok := func(r rune) bool {
		return 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z' || '0' <= r && r <= '9' || strings.ContainsRune("._-@", r)
	}
	return s != "" && len(s) <= 255 && strings.IndexFunc(s, func(r rune) bool { return !ok(r) }) < 0
}

// Line returns a text in one line, with one blank between its words: as a word on a caution has to be.
func Line(text string) string { return strings.Join(strings.Fields(text), " ") }

// oneLine reports whether a text is one line that people can read, without blanks around it.
func oneLine(s string) bool {
	return s != "" && utf8.ValidString(s) && strings.TrimSpace(s) == s &&
		strings.IndexFunc(s, func(r rune) bool { return !unicode.IsPrint(r) }) < 0
}

// String returns the number, and the hash in hexadecimal digits.
func (p Point) String() string { return strconv.FormatInt(p.Number, 10) + " " + p.Hash.String() }

// MarshalText returns the point as statements have it.
func (p Point) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads a point as statements have it.
func (p *Point) UnmarshalText(b []byte) (err error) {
	*p, err = parsePoint(string(b))
	return err
}

func parsePoint(text string) (p Point, err error) {
	number, hash, _ := strings.Cut(text, " ")
	if p.Number, err = strconv.ParseInt(number, 10, 64); err != nil {
		return p, err
	}
	return p, p.Hash.UnmarshalText([]byte(hash))
}
