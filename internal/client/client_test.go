package client

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"idletally/internal/wire"
)

func against(t *testing.T, h http.HandlerFunc) *Client {
	t.Helper()
	srv := httptest.NewTLSServer(h)
	t.Cleanup(srv.Close)
	c, err := New(srv.URL, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: srv.Certificate().Raw}), "token")
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestProblems(t *testing.T) {
	for body, want := range map[string]string{
		`{"title":"Not Found","status":404,"detail":"plan x: not found"}`:                                          "plan x: not found",
		`{"title":"Unprocessable","detail":"bad","errors":[{"message":"want a number","location":"query.limit"}]}`: "bad\n  want a number (query.limit)",
		"plain words\n": "plain words",
	} {
		t.Run(body, func(t *testing.T) {
			c := against(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(404); fmt.Fprint(w, body) })
			_, err := c.Plan(t.Context(), "x")
			if Status(err) != 404 || err.Error() != want {
				t.Errorf("%s: %v", body, err)
			}
		})
	}
	if Status(errors.New("x")) != 0 || Status(nil) != 0 {
		t.Error("errors of others have a status")
	}
}

// An answer that breaks off half way is asked for again, by the same key, so that a change is made once;
// nothing of a broken one is taken.
func TestAnswersThatBreakOff(t *testing.T) {
	const whole = `{"items":[{"name":"skiff","tags":["a","b"]}]}`
	var keys []string
	for what, call := range map[string]func(c *Client) (string, error){
		"a question": func(c *Client) (string, error) {
			list, err := c.Hosts(t.Context())
			return fmt.Sprint(len(list), list[0].Name, list[0].Tags), err
		},
		"a change": func(c *Client) (string, error) {
			var out wire.Page[wire.Host]
			err := c.Do(t.Context(), http.MethodPost, "/x", struct{}{}, &out)
			return fmt.Sprint(len(out.Items), out.Items[0].Name, out.Items[0].Tags), err
		},
	} {
		t.Run(what, func(t *testing.T) {
			keys = nil
			c := against(t, func(w http.ResponseWriter, r *http.Request) {
				keys = append(keys, r.Header.Get("Idempotency-Key"))
				w.Header().Set("Content-Length", fmt.Sprint(len(whole)))
				if n := len(keys); n < 4 {
					fmt.Fprint(w, whole[:len(whole)*n/4])
					panic(http.ErrAbortHandler)
				}

				fmt.Fprint(w, whole)
			})

			got, err := call(c)
			if err != nil || got != "1skiff[a b]" || len(keys) != 4 || keys[0] != keys[3] {
				t.Errorf("%s: %s, %v, keys %q", what, got, err, keys)
			}
		})
	}

	c := against(t, func(http.ResponseWriter, *http.Request) {})
	if _, err := c.Hosts(t.Context()); err == nil {
		t.Error("no answer is taken for one")
	}
}

func TestUnreachable(t *testing.T) {
	c := against(t, nil)
	c.Address = "https://127.0.0.1:1"
	if _, err := c.Hosts(t.Context()); !errors.Is(err, ErrUnreachable) {
		t.Errorf("%v", err)
	}
	if _, err := New("https://x", []byte("no pem"), ""); err == nil {
		t.Error("an authority without certificate was taken")
	}
}

// Only the service's own authority is trusted.
func TestTrustsOneAuthority(t *testing.T) {
	c := against(t, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"items":[]}`) })
	if _, err := c.Hosts(t.Context()); err != nil {
		t.Fatal(err)
	}
	other, err := New(c.Address, unrelated(t), "")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Hosts(t.Context()); err == nil || !strings.Contains(err.Error(), "certificate") {
		t.Errorf("a service of another authority: %v", err)
	}
}

// unrelated is the certificate of an authority that signed nothing here.
func unrelated(t *testing.T) []byte {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}

	c := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		NotAfter:              time.Now().Add(time.Hour),
		IsCA:                  true,
		BasicConstraintsValid: true,
	}

	der, err := x509.CreateCertificate(rand.Reader, c, c, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}

	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}

func TestPages(t *testing.T) {
	c := against(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer token" {
			t.Error("no token")
		}
		switch r.URL.Query().Get("after") {
		case "":
			fmt.Fprint(w, `{"items":[{"name":"a"},{"name":"b"}],"next":"b"}`)
		case "b":
			fmt.Fprint(w, `{"items":[{"name":"c"}]}`)
		}
	})

	all, err := c.Hosts(t.Context())
	if err != nil || len(all) != 3 || all[2].Name != "c" {
		t.Errorf("%+v, %v", all, err)
	}

	some, err := All[wire.Host](t.Context(), c, "/hosts", nil, 2)
	if err != nil || len(some) != 2 {
		t.Errorf("%+v, %v", some, err)
	}
}

// A stream that breaks off, or ends, before the run has is opened again; what says that it lives is passed
// over, and a refusal is the end.
func TestWatchGoesOn(t *testing.T) {
	asked := 0
	c := against(t, func(w http.ResponseWriter, _ *http.Request) {
		asked++
		w.Header().Set("Content-Type", "text/event-stream")
		switch asked {
		case 1:
			fmt.Fprint(w, "event: run\ndata: {\"state\":\"running\",\"id\":\"1\"}\n\n: it goes on\n\nevent: run\nda")
			w.(http.Flusher).Flush()
			panic(http.ErrAbortHandler)
		case 2: // it lasted long enough
		case 3:
			w.WriteHeader(http.StatusServiceUnavailable)
		default:
			fmt.Fprint(w, ": it goes on\n\nevent: run\ndata: {\"state\":\"finished\"}\n\n")
		}
	})

	var states []string
	if err := c.Watch(t.Context(), "r", func(r wire.Run) { states = append(states, string(r.State)) }); err != nil ||
		strings.Join(states, " ") != "running finished" || asked != 4 {
		t.Errorf("asked %d times: %v, %v", asked, states, err)
	}

	gone := against(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(404) })
	if err := gone.Watch(t.Context(), "r", func(wire.Run) {}); Status(err) != 404 {
		t.Errorf("no such run: %v", err)
	}
}

func TestWatch(t *testing.T) {
	c := against(t, func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "event: run\ndata: {\"state\":\"running\"}\n\nevent: run\ndata: {\"state\":\"finished\"}\n\n")
	})
	var states []string
	err := c.Watch(t.Context(), "r", func(r wire.Run) { states = append(states, string(r.State)) })
	if err != nil || strings.Join(states, " ") != "running finished" {
		t.Errorf("%v, %v", states, err)
	}
}
