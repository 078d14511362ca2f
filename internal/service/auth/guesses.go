package auth

import (
	"math"
	"slices"
	"strings"
	"sync"
	"unicode"

	"github.com/trustelem/zxcvbn/frequency"
)

const (
	// minGuesses is what a new password has to withstand: 100 guesses an hour, by each of a thousand attackers, for a
	// thousand years.
	minGuesses = 1e9
	// judged is how many characters of a password are looked at: those that follow make it no easier.
	judged = 48
	// shortest is of a listed word that counts as one: shorter ones are found everywhere.
	shortest = 3
	longest  = 24
)

// ranks returns for passwords that have leaked, and for English words, how many are more common: of the 30,000 most
// common of either, as they are and with symbols turned back into letters.
var ranks = sync.OnceValue(func() (out [2]map[string]int) {
	out = [2]map[string]int{{}, {}}
	for _, name := range []string{"passwords", "english_wikipedia"} {
		for i, word := range frequency.FrequencyLists[name] {
			for n, form := range []string{word, plain.Replace(word)} {
				if rank := out[n][form]; rank == 0 || rank > i+1 {
					out[n][form] = i + 1
				}
			}
		}
	}
	return out
})

// plain turns symbols that stand for letters back, even where they do not.
var plain = strings.NewReplacer("@", "a", "4", "a", "3", "e", "1", "i", "!", "i", "0", "o", "$", "s", "5", "s", "7",
	"t")

// guesses returns about how many tries somebody needs for a password who knows those that have leaked, its owner's
// name, and how people vary words: with capitals, with symbols for letters, one after the other, repeated, with
// digits and years around.
func guesses(password, name string) float64 {
	text := []rune(strings.ToLower(password))
	text = text[:min(len(text), judged)]
	undone := []rune(plain.Replace(string(text)))
	best := make([]float64, len(text)+1) // of what stands before each place
	best[0] = 1

	for end := 1; end <= len(text); end++ {
		best[end] = math.Inf(1)
		for start := max(0, end-longest); start < end; start++ {
			cost := single(text[start:end])
			if end-start >= shortest {
				cost = min(cost, wordCost(string(text[start:end]), name, ranks()[0]),
					4*wordCost(string(undone[start:end]), name, ranks()[1]), runCost(string(text[start:end])))
			}

			if back := end - start; start >= back && string(text[start-back:start]) == string(text[start:end]) {
				cost = min(cost, 2) // said again
			}

			best[end] = min(best[end], best[start]*cost)
		}
	}

	if password != string(text) { // capitals somewhere
		best[len(text)] *= 2
	}

	return best[len(text)]
}

// single is the cost of a character by itself.
func single(text []rune) float64 {
	switch {
	case len(text) != 1:
		return math.Inf(1)
	case unicode.IsDigit(text[0]):
		return 10
	case text[0] > unicode.MaxASCII:
		return 500
	}
	return 30
}

// wordCost returns the cost of a word: how many are more common, and the same backwards.
func wordCost(word, name string, ranks map[string]int) float64 {
	if word == name {
		return 1
	}
	if rank, ok := ranks[word]; ok {
		return float64(rank)
	}
	year := len(word) == 4 && (strings.HasPrefix(word, "19") || strings.HasPrefix(word, "20"))
	if year && strings.Trim(word, "0123456789") == "" {
		return 120
	}
	if rank, ok := ranks[backwards(word)]; ok {
		return 2 * float64(rank)
	}
	return math.Inf(1)
}

func backwards(s string) string {
	runes := []rune(s)
	slices.Reverse(runes)
	return string(runes)
}

// runCost returns the cost of characters that follow each other, up or down, or along a row of keys.
func runCost(text string) float64 {
	back := backwards(text)
	for _, row := range []string{
		"abcdefghijklmnopqrstuvwxyz", "01234567890", "qwertyuiop", "asdfghjkl", "zxcvbnm", "qwertzuiop", "azertyuiop",
	} {
		if strings.Contains(row, text) || strings.Contains(row, back) {
			return float64(20 * len(text))
		}
	}
	return math.Inf(1)
}
