// Package roster is who may have hosts changed, and by which keys of their own: a document with editions, each enacted
// by enough people of the one before. A host knows one edition, follows along the line to later ones and never back,
// and carries out what people of the edition that counts have signed: nothing that only a service says.
//
//	first, _ := roster.Parse(text)                       // compared by its fingerprint when the host is enrolled
//	now, _ := roster.Follow(first, later)                // along the line
//	people, err := now.Authorize(order, signed, known, time) // who submitted and who approved; or why it is refused
package roster

import (
	"cmp"
	"crypto/sha256"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"idletally/internal/core/signature"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
)

// Bounds of a roster.
const (
	MaxBytes   = 256 << 10
	maxPeople  = 500
	maxKeys    = 20 // of one person
	maxRights  = 200
	maxOrigins = 10
	leastTwo   = 2 // people, whatever a roster says
)

// Everything stands for all applications, or all hosts.
const Everything = "*"

// What somebody may do with plans: the first two with others, the last two by their signature alone.
const (
	Submit  = "submit"
	Approve = "approve"
	PutBack = "put-back" // what a run changed on a host, to what that host itself found
	Alone   = "alone"    // run any plan, in an emergency
)

// rights is what somebody may do.
var rights = []string{Submit, Approve, PutBack, Alone}

// A Right is what somebody may do, for an application and a host, either of which may be Everything.
type Right struct {
	Do          string
	Application string
	Host        string
}

// A NamedKey is a key and what its owner calls it.
type NamedKey struct {
	Name string
	Key  signature.Key
}

// A Person is somebody of the roster. Keys and rights are in the order of their text.
type Person struct {
	Name   string
	Keys   []NamedKey
	Rights []Right
}

// Approvals is how many people have to approve plans of an application.
type Approvals struct {
	Application string // or Everything
	People      int
}

// A Roster is one edition. Lists are sorted by their text.
type Roster struct {
	Edition   int64
	Before    tree.Hash // the digest of the edition before; zero in the first
	Made      time.Time // to the second
	Until     time.Time // to the second; hosts act by it no more then
	Site      string    // that WebAuthn keys are made for; "" where there are none
	Origins   []string  // from which browsers may sign
	Threshold int       // how many people enact the next edition
	Recover   int       // how many recovery keys enact it instead; 0: none do
	Recovery  []NamedKey
	Approvals []Approvals // with one for Everything
	People    []Person
}

var form = statement.Form{What: "the roster", Head: "idletally roster 1", Most: MaxBytes}

// Bytes returns the document. A roster that is none is an error.
func (r Roster) Bytes() ([]byte, error) {
	if err := r.check(); err != nil {
		return nil, fmt.Errorf("the roster: %w", err)
	}
	return form.Write(r.lines)
}

// Draft returns the text of a roster that somebody is still to edit, and what keeps it from being one.
func (r Roster) Draft() (string, error) {
	b, err := form.Write(r.lines)
	return string(b), cmp.Or(err, r.check())
}

// lines adds the lines of the document one by one.
func (r Roster) lines(line func(key, value string)) {
	line("edition", strconv.FormatInt(r.Edition, 10))
	if !r.Before.IsZero() {
		line("before", r.Before.String())
	}
	line("made", statement.Stamp(r.Made))
	line("until", statement.Stamp(r.Until))
	if r.Site != "" {
		line("site", r.Site)
	}
	for _, o := range r.Origins {
		line("origin", o)
	}
	line("threshold", strconv.Itoa(r.Threshold))
	line("recover", strconv.Itoa(r.Recover))
	for _, k := range r.Recovery {
		line("recovery", k.String())
	}
	for _, a := range r.Approvals {
		line("approvals", a.String())
	}

	for _, p := range r.People {
		line("person", p.Name)
		for _, k := range p.Keys {
			line("key", k.String())
		}
		for _, right := range p.Rights {
			line("may", right.String())
		}
	}
}

// Edit reads a document that somebody has edited: blank lines and those that begin with # are passed over, and the
// lists may be in whatever order. A person's keys and rights follow on the line that names them.
func Edit(text []byte) (Roster, error) {
	var r Roster
	if len(text) > MaxBytes {
		return r, fmt.Errorf("the roster has %d bytes, at most %d are allowed", len(text), MaxBytes)
	}

	number := 0
	for line := range strings.Lines(string(text)) {
		number++
		line = strings.TrimSpace(line)
		if line == "" || line == form.Head || strings.HasPrefix(line, "#") {
			continue
		}
		key, value, ok := strings.Cut(line, ":")
		if !ok {
			return r, fmt.Errorf("line %d of the roster: want a key, a colon and a value", number)
		}
		if err := r.take(key, strings.Join(strings.Fields(value), " ")); err != nil {
			return r, fmt.Errorf("line %d of the roster: %q: %w", number, key, err)
		}
	}

	r.Sort()
	return r, r.check()
}

// Parse reads a document. There is one spelling of each.
func Parse(text []byte) (Roster, error) {
	var r Roster
	if err := form.Read(text, r.take, func() ([]byte, error) { return r.Bytes() }); err != nil {
		return Roster{}, err
	}
	return r, nil
}

// take takes in one line.
func (r *Roster) take(key, value string) (err error) {
	var k NamedKey
	switch key {
	case "edition":
		r.Edition, err = strconv.ParseInt(value, 10, 64)
	case "before":
		err = r.Before.UnmarshalText([]byte(value))
	case "made":
		r.Made, err = time.Parse(time.RFC3339, value)
	case "until":
		r.Until, err = time.Parse(time.RFC3339, value)
	case "site":
		r.Site = value
	case "origin":
		r.Origins = append(r.Origins, value)
	case "threshold":
		r.Threshold, err = strconv.Atoi(value)
	case "recover":
		r.Recover, err = strconv.Atoi(value)
	case "recovery":
		k, err = parseNamed(value)
		r.Recovery = append(r.Recovery, k)
	case "approvals":
		application, people, _ := strings.Cut(value, " ")
		a := Approvals{Application: application}
		a.People, err = strconv.Atoi(people)
		r.Approvals = append(r.Approvals, a)
	case "person":
		r.People = append(r.People, Person{Name: value})
	case "key", "may":
		if len(r.People) == 0 {
			return errors.New("it is nobody's")
		}
		err = r.People[len(r.People)-1].take(key, value)
	default:
		err = errors.New("no roster has such a line")
	}
	return err
}

func (p *Person) take(key, value string) error {
	if key == "key" {
		k, err := parseNamed(value)
		p.Keys = append(p.Keys, k)
		return err
	}
	words := strings.Split(value, " ")
	if len(words) != 3 {
		return fmt.Errorf("want %s, an application and a host, either of which may be *", oneOfRights())
	}
	p.Rights = append(p.Rights, Right{words[0], words[1], words[2]})
	return nil
}

func oneOfRights() string {
	last := len(rights) - 1
	return strings.Join(rights[:last], ", ") + " or " + rights[last]
}

func parseNamed(value string) (NamedKey, error) {
	name, text, _ := strings.Cut(value, " ")
	k, err := signature.ParseKey(text)
	return NamedKey{name, k}, err
}

// String returns the name and the key's text.
func (k NamedKey) String() string { return k.Name + " " + k.Key.String() }

// String returns the right as the document has it.
func (r Right) String() string { return r.Do + " " + r.Application + " " + r.Host }

// String returns the number as the document has it.
func (a Approvals) String() string { return a.Application + " " + strconv.Itoa(a.People) }

// Digest returns the SHA-256 of the document. It names the edition, and is what people compare.
func (r Roster) Digest() tree.Hash {
	b, err := r.Bytes()
	if err != nil { // it was made by hand, and never written
		return tree.Hash{}
	}
	return sha256.Sum256(b)
}

// Next returns the edition behind this one, with the same content, for somebody to change.
func (r Roster) Next() Roster {
	next, err := Edit([]byte(r.text()))
	if err != nil { // it was made by hand, and never written
		return Roster{}
	}
	next.Edition, next.Before = r.Edition+1, r.Digest()
	return next
}

// Differences returns what an edition no longer says, and what it says that the one before does not: line by line, with
// the person that keys and rights are of. Keys are told by their fingerprints. The edition's number, and when it was
// made, are no differences.
func Differences(before, after Roster) (gone, come []string) {
	was, is := before.statements(), after.statements()
	for _, line := range was {
		if !slices.Contains(is, line) {
			gone = append(gone, line)
		}
	}
	for _, line := range is {
		if !slices.Contains(was, line) {
			come = append(come, line)
		}
	}
	return gone, come
}

// statements returns what an edition says, each line by itself.
func (r Roster) statements() (out []string) {
	person := ""
	r.lines(func(key, value string) {
		switch key {
		case "edition", "before", "made":
			return
		case "person":
			person = value + ": "
			out = append(out, "person "+value)
			return
		case "key", "recovery":
			if k, err := parseNamed(value); err == nil {
				value = k.Name + " " + k.Key.Fingerprint() + " (" + k.Key.Kind() + ")"
			}
		}
		out = append(out, person+key+" "+value)
	})
	return out
}

func (r Roster) text() string {
	b, _ := r.Bytes() // nothing, of one that is none
	return string(b)
}

// Point returns the edition with its digest, as statements name it.
func (r Roster) Point() statement.Point { return statement.Point{Number: r.Edition, Hash: r.Digest()} }

// Terms are what signatures of WebAuthn keys have to satisfy.
func (r Roster) Terms() signature.Terms { return signature.Terms{Site: r.Site, Origins: r.Origins} }

// Person returns somebody by name; nil where the roster has nobody of that name.
func (r Roster) Person(name string) *Person {
	i, ok := slices.BinarySearchFunc(r.People, name, func(p Person, name string) int {
		return strings.Compare(p.Name, name)
	})
	if !ok {
		return nil
	}
	return &r.People[i]
}

// Has reports whether a key is the person's.
func (p *Person) Has(k signature.Key) bool { return has(p.Keys, k) }

// has reports whether a key is one of a list.
func has(list []NamedKey, k signature.Key) bool {
	return slices.ContainsFunc(list, func(own NamedKey) bool { return own.Key == k })
}

// May reports whether the person may do something for an application on a host.
func (p *Person) May(do, application, host string) bool {
	return slices.ContainsFunc(p.Rights, func(r Right) bool {
		return r.Do == do && (r.Application == Everything || r.Application == application) &&
			(r.Host == Everything || r.Host == host)
	})
}

// Needs returns how many people have to approve an application's plans: as many as its own line says, or else the
// line for everything.
func (r Roster) Needs(application string) int {
	most := 0
	for _, a := range r.Approvals {
		switch a.Application {
		case application:
			return a.People
		case Everything:
			most = a.People
		}
	}
	return most
}

// origin returns an error unless a text is a web origin of https, or of this machine (RFC 6454 section 6.2).
func origin(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "https" || u.Host == "" || u.Scheme+"://"+u.Host != text ||
		strings.ToLower(text) != text {
		return errors.New("want https://NAME or https://NAME:PORT, in small letters")
	}
	return nil
}
