package auth

import "time"

// Tries are wrong tries at something that can be guessed, and when the last one was. The zero Tries are none.
type Tries struct {
	Wrong int
	Last  time.Time
}

// Patience is how long somebody who guesses has to wait between tries: not at all at first, then a second, then twice
// as long each time.
type Patience struct {
	Free    int           // tries that nobody waits for
	Longest time.Duration // nobody waits longer
	Forgets time.Duration // after so long without a try all are forgotten
}

// Guesses at different things are counted apart by where they come from. Within any hour these allow at most as many
// tries as TestPatience says.
var (
	// OfPlace is for passwords of one name, tried from one place.
	OfPlace = Patience{Free: 10, Longest: 15 * time.Minute, Forgets: 24 * time.Hour}
	// OfStrangers is for passwords of one name, tried from all places together from which nobody has signed in by
	// this name.
	OfStrangers = Patience{Free: 40, Longest: 90 * time.Second, Forgets: time.Hour}
	// OfCode is for codes of one person's second factor.
	OfCode = Patience{Free: 10, Longest: 5 * time.Minute, Forgets: time.Hour}
)

// Wait returns how long it is until another try may be made; 0 is now.
func (p Patience) Wait(t Tries, now time.Time) time.Duration {
	if t.Wrong < p.Free || now.Sub(t.Last) >= p.Forgets {
		return 0
	}
	wait := p.Longest
	if n := t.Wrong - p.Free; n < 30 {
		wait = min(wait, time.Second<<n)
	}
	return max(0, t.Last.Add(wait).Sub(now))
}

// Begin counts a try that is made now.
func (p Patience) Begin(t Tries, now time.Time) Tries {
	if now.Sub(t.Last) >= p.Forgets {
		t.Wrong = 0
	}
	return Tries{t.Wrong + 1, now}
}
