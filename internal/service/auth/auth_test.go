package auth

import (
	"strings"
	"testing"
)

func TestPasswords(t *testing.T) {
	h := Hash("correct tide table")
	if !Check(h, "correct tide table") || Check(h, "Correct tide table") || Check("", "nobody has this password") ||
		Check("$x$", "") {
		t.Error("passwords are not told apart")
	}

	if !strings.HasPrefix(h, "$argon2id$v=19$m=65536,t=3,p=2$") {
		t.Errorf("another cost than RFC 9106 recommends: %s", h)
	}

	// What somebody wrote into the database costs no more than what we wrote, and ends nothing.
	for _, cost := range []string{
		"m=4294967295,t=3,p=2", "m=65537,t=3,p=2", "m=65536,t=4,p=2", "m=65536,t=4294967295,p=2", "m=65536,t=0,p=2",
		"m=65536,t=3,p=0", "m=-1,t=3,p=2", "m=65536,t=3,p=256",
	} {
		t.Run(cost, func(t *testing.T) {
			if Check(strings.Replace(h, "m=65536,t=3,p=2", cost, 1), "correct tide table") {
				t.Errorf("%s counts", cost)
			}
		})
	}

	if again := Hash("correct tide table"); again == h {
		t.Error("two hashes of one password are equal: no salt")
	}

	for pw, want := range map[string]string{
		"short":            "too short",
		"the-purser-again": "your name",
		"long enough now":  "",
		"日本語でだめ":           "too short",
		"日本語なら十二文字で足りる": "",
		"password1234":        "guessed first",
		"Password123456!":     "guessed first",
		"aaaaaaaaaaaa":        "different characters",
		"            ":        "different characters",
		"123456789012":        "guessed first",
		"qwertyuiop12":        "guessed first",
		"letmeinletmein":      "guessed first",
		"tidetidetide":        "different characters",
		"harbourharbour":      "guessed first",
		"ebb and flow at six": "",
		"it was used before":  "the old one",
	} {
		t.Run(pw, func(t *testing.T) {
			err := Acceptable(pw, "purser", "it was used before")
			if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
				t.Errorf("%q: %v, want %q", pw, err, want)
			}
		})
	}
}

func TestCodesAndTokens(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		c := Code(4)
		if len(c) != 23 || seen[c] || strings.ContainsAny(c, "01oil") {
			t.Fatalf("code %q", c)
		}
		seen[c] = true
		tok, h := Token()
		if seen[tok] || HashToken(tok) != h {
			t.Fatalf("token %q", tok)
		}
		seen[tok] = true
	}
}
