package passkey

import (
	"errors"
	"strings"
	"testing"
)

func TestNewSite(t *testing.T) {
	for public, named := range map[string]bool{
		"https://tally.example": true, "https://tally.example:8443": true, "https://localhost:7780": true,
		"": false, "https://127.0.0.1:7780": false, "https://[::1]": false,
	} {
		t.Run(public, func(t *testing.T) {
			if s, err := NewSite(public, "harbour"); err != nil || (s != nil) != named {
				t.Errorf("%q: %v, %v", public, s, err)
			}
		})
	}
}

// Whatever a browser answers, it is refused as such, and ends nothing.
func FuzzAnswers(f *testing.F) {
	for _, seed := range []string{
		"", "{}", "null", "[", strings.Repeat("[", 60_000),
		`{"id":"AA","rawId":"AA","type":"public-key","response":{"clientDataJSON":"e30","attestationObject":"oA","authenticatorData":"AA","signature":"AA","userHandle":"AA"}}`,
		`{"id":"AA","rawId":"AA","type":"public-key","response":{"clientDataJSON":"e30","attestationObject":"v_______","authenticatorData":"` +
			strings.Repeat("_", 400) + `","signature":"AA"}}`,
	} {
		f.Add(seed)
	}

	site, err := NewSite("https://tally.example", "harbour")
	if err != nil {
		f.Fatal(err)
	}

	who := Person{Handle: []byte("handle"), Name: "purser"}
	_, made, err := site.Begin(who)
	if err != nil {
		f.Fatal(err)
	}

	_, shown, err := site.Ask()
	if err != nil {
		f.Fatal(err)
	}

	f.Fuzz(func(t *testing.T, answer string) {
		if _, _, err := site.Made(who, made, []byte(answer)); !errors.Is(err, ErrRefused) {
			t.Errorf("made: %v", err)
		}
		if _, err := site.Shown(shown, []byte(answer), func([]byte) (Person, error) { return who, nil }); !errors.Is(
			err, ErrRefused) {
			t.Errorf("shown: %v", err)
		}
	})
}
