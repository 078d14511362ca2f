//go:build linux

package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"

	"idletally/internal/client"
	"idletally/internal/loopback"
	"idletally/internal/wire"
)

// signer is a small provider of sign-ins (OpenID Connect): whoever comes is signed in as the test says.
type signer struct {
	*httptest.Server
	key *ecdsa.PrivateKey

	mu     sync.Mutex
	claims func(map[string]any) // what the next answer claims otherwise
	wrong  *ecdsa.PrivateKey    // signs instead
	asked  map[string]url.Values
}

func newSigner(t *testing.T) *signer {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(t, err)
	p := &signer{key: key, asked: map[string]url.Values{}}
	mux := http.NewServeMux()
	give := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, _ *http.Request) {
		give(w, map[string]any{
			"issuer":                                p.URL,
			"authorization_endpoint":                p.URL + "/authorize",
			"token_endpoint":                        p.URL + "/token",
			"jwks_uri":                              p.URL + "/keys",
			"response_types_supported":              []string{"code"},
			"subject_types_supported":               []string{"public"},
			"id_token_signing_alg_values_supported": []string{"ES256"},
		})
	})

	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, _ *http.Request) {
		give(w, jose.JSONWebKeySet{
			Keys: []jose.JSONWebKey{{Key: &p.key.PublicKey, KeyID: "1", Algorithm: "ES256", Use: "sig"}},
		})
	})
	mux.HandleFunc("GET /authorize", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		code := rand.Text()
		p.mu.Lock()
		p.asked[code] = q
		p.mu.Unlock()
		http.Redirect(w, r, q.Get("redirect_uri")+"?"+url.Values{"code": {code}, "state": {q.Get("state")}}.Encode(),
			http.StatusFound)
	})

	mux.HandleFunc("POST /token", func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()

		q, ok := p.asked[r.FormValue("code")]
		delete(p.asked, r.FormValue("code"))
		id, secret, _ := r.BasicAuth() // each in the form of a query (RFC 6749, section 2.3.1)
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if !ok || id != "idletally" || secret != "between+us" || q.Get("code_challenge_method") != "S256" ||
			base64.RawURLEncoding.EncodeToString(sum[:]) != q.Get("code_challenge") {
			w.WriteHeader(http.StatusBadRequest)
			give(w, map[string]string{"error": "invalid_grant"})
			return
		}

		claims := map[string]any{
			"iss":                p.URL,
			"aud":                "idletally",
			"sub":                "4711",
			"preferred_username": "purser",
			"nonce":              q.Get("nonce"),
			"iat":                time.Now().Unix(),
			"exp":                time.Now().Add(time.Minute).Unix(),
		}

		if q.Get("max_age") == "0" { // they had to sign in there anew
			claims["auth_time"] = time.Now().Unix()
		}

		if p.claims != nil {
			p.claims(claims)
		}

		key := p.key
		if p.wrong != nil {
			key = p.wrong
		}

		s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: key, KeyID: "1"}},
			nil)
		if err != nil {
			t.Error(err)
			return
		}

		b, _ := json.Marshal(claims)
		signed, err := s.Sign(b)
		if err != nil {
			t.Error(err)
			return
		}

		text, _ := signed.CompactSerialize()
		give(w, map[string]any{"access_token": "x", "token_type": "Bearer", "id_token": text})
	})

	p.Server = httptest.NewTLSServer(mux)
	t.Cleanup(p.Close)
	return p
}

// Somebody signs in by way of a provider as whom an admin has added for that, and nobody else does.
func TestProvider(t *testing.T) {
	t.Parallel()
	p := newSigner(t)
	dir := folder(t)
	ca := filepath.Join(dir, "provider.pem")
	must(t, os.WriteFile(ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: p.Certificate().Raw}), 0o600))
	port, err := loopback.FreePort()
	must(t, err)
	at := "127.0.0.1:" + strconv.Itoa(port)
	s, log := bare(t, at, "", "IDLETALLY_PUBLIC=https://"+at, "IDLETALLY_OIDC_ISSUER="+p.URL,
		"IDLETALLY_OIDC_CLIENT=idletally", "IDLETALLY_OIDC_SECRET=between us",
		"IDLETALLY_OIDC_NAME=the harbour office", "IDLETALLY_OIDC_AUTHORITY="+ca)
	admin, err := s.Crew(t.Context())
	must(t, err)
	_, err = admin.AddPerson(t.Context(), wire.NewPerson{
		Name:     "purser",
		Roles:    []string{"viewer", "reviewer"},
		Provider: true,
	})
	must(t, err)

	web := func() *http.Client {
		jar, err := cookiejar.New(nil)
		must(t, err)
		return &http.Client{
			Jar:       jar,
			Timeout:   30 * time.Second,
			Transport: both{admin.HTTP.Transport, p.Client().Transport, p.URL},
		}
	}

	try := func(c *http.Client, path string) (int, string) {
		t.Helper()
		resp, err := c.Get(s.Address + path)
		must(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		must(t, err)
		return resp.StatusCode, string(b)
	}

	const begin = "/api/v1/sign-in/provider"
	if status, b := try(web(), "/api/v1/sign-in/ways"); status != 200 || !strings.Contains(b, "the harbour office") {
		t.Errorf("%d %s", status, b)
	}

	refused := func(what, says string, c *http.Client, path string) {
		t.Helper()
		if status, b := try(c, path); status != http.StatusForbidden || !strings.Contains(b, says) {
			t.Errorf("%s: %d %s", what, status, b)
		}
		if status, _ := try(c, "/api/v1/me"); status != http.StatusUnauthorized {
			t.Errorf("%s is signed in: %d", what, status)
		}
	}

	logged := func(what, why string) { // it was refused for that, and not for anything else
		t.Helper()
		if last := log.lastOf("sign-in provider", why); last != "" {
			t.Errorf("%s: the log says %s", what, last)
		}
	}

	claim := func(f func(map[string]any)) { p.mu.Lock(); p.claims = f; p.mu.Unlock() }
	other, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(t, err)
	const broken = "does not hold"

	for what, x := range map[string]struct {
		why   string
		claim func(map[string]any)
	}{
		"another nonce":    {"nonce", func(m map[string]any) { m["nonce"] = "x" }},
		"for others":       {"expected audience", func(m map[string]any) { m["aud"] = "another" }},
		"of another":       {"different provider", func(m map[string]any) { m["iss"] = "https://elsewhere.example" }},
		"an old answer":    {"expired", func(m map[string]any) { m["exp"] = time.Now().Add(-time.Hour).Unix() }},
		"without its time": {"expired", func(m map[string]any) { delete(m, "exp") }},
	} {
		claim(x.claim)
		refused(what, broken, web(), begin)
		logged(what, x.why)
	}

	claim(nil)
	p.mu.Lock()
	p.wrong = other
	p.mu.Unlock()
	refused("another key", broken, web(), begin)
	logged("another key", "failed to verify signature")
	p.mu.Lock()
	p.wrong = nil
	p.mu.Unlock()
	claim(func(m map[string]any) { m["preferred_username"] = "admin" })
	refused("somebody who signs in by password here", "nobody here signs in", web(), begin)
	claim(func(m map[string]any) { m["preferred_username"] = "stowaway" })
	refused("somebody whom nobody added", "nobody here signs in", web(), begin)
	claim(nil)
	refused("an answer that nobody asked for", "not begun here", web(), begin+"/back?code=1&state=2")
	c := web()
	if status, b := try(c, begin); status != 200 || !strings.Contains(b, "Signed in") {
		t.Fatalf("%d %s", status, b)
	}

	if status, b := try(c, "/api/v1/me"); status != 200 || !strings.Contains(b, `"purser"`) {
		t.Errorf("%d %s", status, b)
	}

	// Of a session that the provider let in without asking nobody knows since when it is them: they sign in
	// there again.
	token := func() int {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, s.Address+"/api/v1/tokens",
			strings.NewReader(`{"name":"gauge","roles":["viewer"],"days":1}`))
		must(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("X-Idletally-Console", "1")
		resp, err := c.Do(req)
		must(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}

	if got := token(); got != http.StatusUnauthorized {
		t.Errorf("a token without having signed in just now: %d", got)
	}

	if status, _ := try(c, begin+"?again"); status != 200 {
		t.Errorf("again: %d", status)
	}

	if got := token(); got != http.StatusCreated {
		t.Errorf("a token after signing in again: %d", got)
	}

	claim(func(m map[string]any) { m["sub"] = "815" })
	refused("another who took the name there", "nobody here signs in", web(), begin)
	claim(func(m map[string]any) { m["preferred_username"] = "married-name" })
	c = web()
	if status, _ := try(c, begin); status != 200 {
		t.Errorf("the same under another name: %d", status)
	}

	api := *admin
	api.Token = ""
	_, err = api.SignIn(t.Context(), wire.SignIn{Name: "purser", Password: ""})
	fails(t, "by password", err, http.StatusUnauthorized, "wrong")
	past, err := admin.History(t.Context(), client.HistoryQuery{What: "sign-in", Who: "purser"}, 10)
	if err != nil || len(past) != 3 {
		t.Errorf("%+v, %v", past, err)
	}
}

// both goes to the provider by what knows it, and anywhere else by what knows the service.
type both struct {
	service, provider http.RoundTripper
	at                string
}

func (b both) RoundTrip(r *http.Request) (*http.Response, error) {
	if strings.HasPrefix(r.URL.String(), b.at) {
		return b.provider.RoundTrip(r)
	}
	return b.service.RoundTrip(r)
}
