package auth

import (
	"testing"
	"time"
)

// Whoever tries whenever they may gets in no more than so many tries within any hour, however long they go
// on, and with whatever rests.
func TestPatience(t *testing.T) {
	for _, c := range []struct {
		name string
		p    Patience
		most int
	}{{"place", OfPlace, 30}, {"strangers", OfStrangers, 100}, {"code", OfCode, 33}} {
		t.Run(c.name, func(t *testing.T) {
			for _, rest := range []time.Duration{0, 30 * time.Minute, time.Hour, 24 * time.Hour} {
				var tries Tries
				var at []time.Time
				now := time.Unix(1_795_600_000, 0)

				for end := now.Add(100 * time.Hour); now.Before(end); now = now.Add(time.Second) {
					if rest > 0 && len(at) > 0 && len(at)%(c.p.Free+3) == 0 && now.Sub(at[len(at)-1]) < rest {
						continue
					}
					if c.p.Wait(tries, now) == 0 {
						tries = c.p.Begin(tries, now)
						at = append(at, now)
					}
				}

				worst := 0
				for i, j := 0, 0; i < len(at); i++ {
					for at[i].Sub(at[j]) >= time.Hour {
						j++
					}
					worst = max(worst, i-j+1)
				}

				if worst > c.most || len(at) < 50 {
					t.Errorf("%s, resting %s: %d tries within an hour, want at most %d; %d in all", c.name, rest, worst,
						c.most, len(at))
				}
			}
		})
	}
}

func TestPatienceGrows(t *testing.T) {
	p, now := Patience{Free: 2, Longest: 8 * time.Second, Forgets: time.Hour}, time.Unix(1_795_600_000, 0)
	for wrong, want := range []time.Duration{
		0,
		0,
		1 * time.Second,
		2 * time.Second,
		4 * time.Second,
		8 * time.Second,
		8 * time.Second,
	} {
		if got := p.Wait(Tries{wrong, now}, now); got != want {
			t.Errorf("after %d wrong tries: %s, want %s", wrong, got, want)
		}
	}

	if p.Wait(Tries{1 << 30, now}, now) != 8*time.Second || p.Wait(Tries{100, now}, now.Add(time.Hour)) != 0 {
		t.Error("very many tries wait otherwise, or are never forgotten")
	}

	if got := p.Begin(Tries{100, now}, now.Add(time.Hour)); got.Wrong != 1 {
		t.Errorf("%+v", got)
	}
}
