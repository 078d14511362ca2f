// Package verdict says what may be said of an application on its hosts. All is as declared only where each of
// its hosts was looked at, not too long ago, with the last look a success, at everything, and nothing was
// found that nobody accepted: whatever else is so comes first.
package verdict

import (
	"fmt"
	"strings"
	"time"
)

// A State is what holds of an application, on a host or on all of them.
type State string

// The states, what is known least of first.
const (
	Nowhere  State = "nowhere"  // the application has no host
	Never    State = "never"    // nobody has looked, or nothing came of it
	Failed   State = "failed"   // the last look failed: what is known is older
	Old      State = "old"      // the last look is too long ago
	Behind   State = "behind"   // it was held against an edition that counts no more
	Unread   State = "unread"   // a part could not be read
	Drifted  State = "drifted"  // something is not as declared, and nobody accepted that
	Declared State = "declared" // all is as declared, or accepted for a time
)

// States lists them, what is known least of first.
var States = []State{Nowhere, Never, Failed, Old, Behind, Unread, Drifted, Declared}

// DefaultAge is how long a look counts on a host of which no schedule says how often it is looked at.
const DefaultAge = 26 * time.Hour

// A Look is what is known of an application on one host.
type Look struct {
	At        time.Time // as of when it is known; zero: it is not
	Until     time.Time // from then on it is too long ago; zero: it never is
	Failed    string    // what a later look came to that told nothing; "" where there was none
	Edition   int       // that it was held against
	Published int       // that counts
	Findings  int64     // that nobody accepted
	Unread    int64     // paths that could not be judged
}

// States returns all that holds of a look at a time, what is known least of first. It is never empty; Declared
// stands alone.
func (l Look) States(now time.Time) (all []State) {
	for _, x := range []struct {
		so bool
		State
	}{
		{l.At.IsZero(), Never},
		{l.Failed != "", Failed},
		{!l.At.IsZero() && (!l.Until.IsZero() && !now.Before(l.Until) || l.ahead(now)), Old},
		{!l.At.IsZero() && l.Edition != l.Published, Behind},
		{l.Unread > 0, Unread},
		{l.Findings > 0, Drifted},
	} {
		if x.so {
			all = append(all, x.State)
		}
	}

	if all == nil {
		return []State{Declared}
	}

	return all
}

// slack is how far clocks may be apart.
const slack = 10 * time.Minute

// ahead reports whether a look is of a time that has not come: nobody knows how old it is.
func (l Look) ahead(now time.Time) bool { return l.At.After(now.Add(slack)) }

// State is the first of its states.
func (l Look) State(now time.Time) State { return l.States(now)[0] }

// Says words all that holds of a look at a time, such as "last looked at 3 days ago, which is too long: 2 findings".
func (l Look) Says(now time.Time) string {
	var parts []string
	for _, s := range l.States(now) {
		switch s {
		case Never:
			parts = append(parts, "never looked at")
		case Failed:
			parts = append(parts, "the last look failed: "+l.Failed)
		case Old:
			if l.ahead(now) {
				parts = append(parts, fmt.Sprintf("looked at %s from now: a clock is wrong", Age(l.At.Sub(now))))
				continue
			}
			parts = append(parts, fmt.Sprintf("last looked at %s ago, which is too long", Age(now.Sub(l.At))))

		case Behind:
			parts = append(parts, fmt.Sprintf("compared with edition %d, and edition %d is published", l.Edition,
				l.Published))
		case Unread:
			parts = append(parts, fmt.Sprintf("%s could not be read", count(l.Unread, "path")))
		case Drifted:
			parts = append(parts, count(l.Findings, "finding"))
		case Declared:
			parts = append(parts, "as declared")
		}
	}

	return strings.Join(parts, "; ")
}

// A Tally is what holds of an application on all of its hosts.
type Tally struct {
	Hosts int
	In    map[State]int // hosts by each of their states: one may be in several
}

// Of tallies looks.
func Of(looks []Look, now time.Time) Tally {
	t := Tally{Hosts: len(looks), In: map[State]int{}}
	for _, l := range looks {
		for _, s := range l.States(now) {
			t.In[s]++
		}
	}
	return t
}

// State is that of which is known least.
func (t Tally) State() State {
	for _, s := range States {
		if t.In[s] > 0 {
			return s
		}
	}
	return Nowhere
}

// Holds reports whether everything that is kept is as declared, as far as anybody can know.
func (t Tally) Holds() bool { return t.Hosts > 0 && t.In[Declared] == t.Hosts }

// Says words it, what is known least of first: "1 of 3 hosts was never looked at; 2 have drifted".
func (t Tally) Says() string {
	switch {
	case t.Hosts == 0:
		return "it applies to no host, so nothing is known of it"
	case t.Holds() && t.Hosts == 1:
		return "everything is as declared"
	case t.Holds():
		return fmt.Sprintf("everything is as declared on all %d hosts", t.Hosts)
	}

	var parts []string
	for _, s := range States {
		n := t.In[s]
		if n == 0 {
			continue
		}

		one, many := phrases[s][0], phrases[s][1]
		words := many
		if n == 1 {
			words = one
		}

		switch {
		case t.Hosts == 1:
			parts = append(parts, one)
		case len(parts) == 0:
			parts = append(parts, fmt.Sprintf("%d of %d hosts %s", n, t.Hosts, words))
		default:
			parts = append(parts, fmt.Sprintf("%d %s", n, words))
		}
	}

	if t.Hosts == 1 {
		return "the host " + strings.Join(parts, ", and ")
	}

	return strings.Join(parts, "; ")
}

// phrases say what holds of one host, and of several.
var phrases = map[State][2]string{
	Never:    {"was never looked at", "were never looked at"},
	Failed:   {"could not be looked at the last time", "could not be looked at the last time"},
	Old:      {"was looked at too long ago", "were looked at too long ago"},
	Behind:   {"was compared with an earlier edition", "were compared with an earlier edition"},
	Unread:   {"has paths that could not be read", "have paths that could not be read"},
	Drifted:  {"has drifted", "have drifted"},
	Declared: {"is as declared", "are as declared"},
}

// Age writes how long ago something was, in its largest unit, rounded down: "45 seconds", "3 hours", "2 days".
func Age(d time.Duration) string {
	switch {
	case d < time.Minute:
		return count(int64(max(d, 0)/time.Second), "second")
	case d < time.Hour:
		return count(int64(d/time.Minute), "minute")
	case d < 48*time.Hour:
		return count(int64(d/time.Hour), "hour")
	}
	return count(int64(d/(24*time.Hour)), "day")
}

func count(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
