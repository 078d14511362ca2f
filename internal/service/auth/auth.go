// Package auth makes and checks passwords, tokens and one-time codes.
package auth

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// The cost of argon2id (RFC 9106, second recommended option): 64 MiB, three passes. A stored form that asks for more
// is refused: whoever writes to the database must not be able to use up the service's memory or time.
const (
	memory  = 64 << 10
	passes  = 3
	threads = 2
)

// onTrial is set by the linker when the tests build the whole program, and by nothing else: hundreds of
// people sign in there, and nearly all of the service's processor time would go into their passwords.
var onTrial string

// price is what a new stored form costs: memory in KiB, and passes.
func price() (m, t uint32) {
	if onTrial != "" {
		return 8 * threads, 1
	}
	return memory, passes
}

// MinPassword is the shortest password that people may choose, in characters.
const MinPassword = 12

// hashing bounds how many argon2 computations run at once: each takes 64 MiB.
var hashing = make(chan struct{}, 2)

// Hash returns the stored form of a password.
func Hash(password string) string {
	salt := make([]byte, 16)
	rand.Read(salt)
	hashing <- struct{}{}
	defer func() { <-hashing }()
	m, t := price()
	key := argon2.IDKey([]byte(password), salt, t, m, threads, 32)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, m, t, threads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
}

var decoy = sync.OnceValue(func() string { return Hash("nobody has this password") })

// Check reports whether a password matches its stored form. With an empty form it takes as long and says no, so that
// nobody can tell which names exist.
func Check(stored, password string) bool {
	real := stored != ""
	if !real {
		stored = decoy()
	}

	parts := strings.Split(stored, "$")
	var m, t uint32
	var p uint8
	if len(parts) != 6 {
		return false
	}
	_, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p)
	if err != nil || t == 0 || p == 0 || m > memory || t > passes {
		return false
	}

	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if errors.Join(err1, err2) != nil {
		return false
	}

	hashing <- struct{}{}
	defer func() { <-hashing }()

	got := argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1 && real
}

// Strength returns how well a new password withstands guessing: 0 is one that Acceptable refuses, 1 barely does, 3
// does whatever is tried.
func Strength(password, name string) (strength int, problem error) {
	n, problem := judge(password, name, "")
	switch {
	case problem != nil:
		return 0, problem
	case n < 1e12:
		return 1, nil
	case n < 1e16:
		return 2, nil
	}
	return 3, nil
}

// Acceptable returns what is wrong with a new password in the place of another one.
func Acceptable(password, name, old string) error {
	_, err := judge(password, name, old)
	return err
}

// judge returns about how many guesses a new password takes, if nothing else is wrong with it.
func judge(password, name, old string) (n float64, problem error) {
	small := strings.ToLower(password)
	different := map[rune]bool{}
	for _, r := range small {
		different[r] = true
	}

	switch {
	case utf8.RuneCountInString(password) < MinPassword:
		return 0, fmt.Errorf("the new password is too short: want at least %d characters", MinPassword)
	case name != "" && strings.Contains(small, name):
		return 0, errors.New("the new password holds your name: choose another")
	case password == old:
		return 0, errors.New("the new password is the old one: choose another")
	case len(different) < 5:
		return 0, errors.New("the new password has hardly any different characters: choose another")
	}

	n = guesses(password, name)
	if n < minGuesses {
		return n, errors.New("the new password is among those that are guessed first: choose another")
	}

	return n, nil
}

// Token makes a secret for a session, and what is stored of it.
func Token() (token string, hash [32]byte) {
	raw := make([]byte, 32)
	rand.Read(raw)
	token = "its_" + base64.RawURLEncoding.EncodeToString(raw)
	return token, sha256.Sum256([]byte(token))
}

// HashToken returns what is stored of a token or code.
func HashToken(token string) [32]byte { return sha256.Sum256([]byte(token)) }

// letters leaves out those that are easily misread: 0 o 1 l i.
const letters = "abcdefghjkmnpqrstuvwxyz23456789"

// Code makes a one-time code or password that people can type: groups of letters, 4.95 bits each.
func Code(groups int) string {
	raw := make([]byte, groups*5)
	var b strings.Builder
	for i := 0; i < len(raw); {
		var one [1]byte
		rand.Read(one[:])
		if int(one[0]) >= 256/len(letters)*len(letters) {
			continue // no letter is likelier than another
		}
		if i > 0 && i%5 == 0 {
			b.WriteByte('-')
		}
		b.WriteByte(letters[int(one[0])%len(letters)])
		i++
	}
	return b.String()
}
