package auth

import (
	"strings"
	"testing"
	"time"

	"github.com/trustelem/zxcvbn/frequency"
)

// Of the passwords that have leaked none is taken that is long enough, however it is dressed up; phrases of
// several words are.
func TestGuesses(t *testing.T) {
	long := 0
	for i, word := range frequency.FrequencyLists["passwords"] {
		if i%7 != 0 && len(word) < MinPassword { // enough of them
			continue
		}
		for _, dressed := range []string{
			word,
			word + "2026!",
			"12" + word + "34",
			strings.ToUpper(word[:1]) + word[1:] + "!!",
			word + word,
			strings.NewReplacer("a", "@", "o", "0", "s", "$").Replace(word) + "1",
		} {
			t.Run(dressed, func(t *testing.T) {
				if len(dressed) < MinPassword {
					return
				}
				long++
				if err := Acceptable(dressed, "purser", ""); err == nil {
					t.Errorf("%q, of the %dth that is guessed, is taken", dressed, i+1)
				}
			})
		}
	}

	if long < 5_000 {
		t.Errorf("only %d were long enough", long)
	}

	for _, phrase := range []string{
		"high water at noon", "ebb and flow at six", "Vx7#pm2&Kq9w", "harbour and gull 7", "pier-lantern-otter",
		"日本語なら十二文字で足りる",
	} {
		t.Run(phrase, func(t *testing.T) {
			if err := Acceptable(phrase, "purser", ""); err != nil {
				t.Errorf("%q: %v", phrase, err)
			}
		})
	}

	for _, weak := range []string{"drowssap1234", "abcdefghijkl", "poiuytrewq12", "Summer2026!!", "iloveyou1234"} {
		t.Run(weak, func(t *testing.T) {
			if err := Acceptable(weak, "boatswain", ""); err == nil {
				t.Errorf("%q is taken, after %.3g guesses", weak, guesses(weak, "boatswain"))
			}
		})
	}

	start := time.Now()
	for range 100 {
		guesses(strings.Repeat("aA1!p@ssw0rd", 90), "purser")
	}

	if took := time.Since(start); took > 20*time.Second { // some 50 ms on a quiet machine
		t.Errorf("100 of the worst take %s", took)
	}
}

// How well a password withstands grows with it, whoever is asked about none in particular included.
func TestStrength(t *testing.T) {
	for password, want := range map[string]int{
		"":                      0,
		"short":                 0,
		"password1234":          0,
		"gullfeather7":          1,
		"Vx7#pm2&Kq9w":          3,
		"high water at noon":    3,
		"summertime and winter": 1,
		"pier-lantern-ott":      2,
	} {
		t.Run(password, func(t *testing.T) {
			got, problem := Strength(password, "")
			if got != want || (problem != nil) != (want == 0) {
				t.Errorf("%q: %d, %v, want %d; %.3g guesses", password, got, problem, want, guesses(password, ""))
			}
		})
	}
}
