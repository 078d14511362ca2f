//go:build linux

package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"idletally/demo"
	"idletally/demo/certifier"
	"idletally/internal/client"
	"idletally/internal/loopback"
	"idletally/internal/service/authority"
	"idletally/internal/wire"
)

// People come by a certificate that they trust anyway, which the service gets by itself; agents, and nobody
// else, by that of its own authority.
func TestCertificateForPeople(t *testing.T) {
	t.Parallel()
	port, err := loopback.FreePort()
	must(t, err)
	at := fmt.Sprintf("127.0.0.1:%d", port)
	c, err := certifier.Start(at)
	must(t, err)
	defer c.Close()

	dir := t.TempDir()
	trust, root := filepath.Join(dir, "trust.pem"), filepath.Join(dir, "root.pem")
	must(t, os.WriteFile(trust, c.Trust(), 0o600))
	must(t, os.WriteFile(root, c.Root(), 0o600))
	const name = "tally.saltmarsh.example"
	s, _ := bare(t, "127.0.0.1:0", "", "IDLETALLY_PEOPLE="+at, "IDLETALLY_ACME="+c.Directory(),
		"IDLETALLY_ACME_AUTHORITY="+trust, "IDLETALLY_PUBLIC=https://"+name)
	_, err = s.Crew(t.Context())
	must(t, err)

	for n := range 3 {
		api, err := client.New("https://"+at, c.Root(), "")
		must(t, err)
		api.HTTP.Transport.(*http.Transport).TLSClientConfig.ServerName = name
		session, err := api.SignIn(t.Context(), wire.SignIn{Name: "lookout", Password: demo.Password})
		must(t, err)
		api.Token = session.Token
		_, err = api.Hosts(t.Context())
		must(t, err)
		if c.Issued != 1 {
			t.Errorf("%d certificates after %d connections", c.Issued, n+1)
		}

		resp, err := api.HTTP.Post("https://"+at+"/agent/v1/enrol", "application/json", strings.NewReader("{}"))
		must(t, err)
		resp.Body.Close()
		if resp.StatusCode != http.StatusNotFound {
			t.Errorf("an agent at the people's door: %d", resp.StatusCode)
		}
	}

	if _, err := tls.Dial("tcp", at, &tls.Config{ServerName: "another.example", InsecureSkipVerify: true}); err == nil {
		t.Error("a certificate for a name that is not the service's")
	}

	lookout := command{t: t, s: s, person: "lookout"}
	t.Run("by command, and a certificate in files", func(t *testing.T) {
		own, err := authority.Open(filepath.Join(dir, "own"), nil)
		must(t, err)
		shown, err := own.Server([]string{"127.0.0.1"}).GetCertificate(nil)
		must(t, err)
		secret, err := x509.MarshalPKCS8PrivateKey(shown.PrivateKey)
		must(t, err)
		certificate := filepath.Join(dir, "people.pem")
		key := filepath.Join(dir, "people.key")
		trusted := filepath.Join(dir, "own", "authority.pem")
		must(t,
			os.WriteFile(certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: shown.Certificate[0]}),
				0o600))
		must(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret}), 0o600))
		port, err := loopback.FreePort()
		must(t, err)
		door := fmt.Sprintf("127.0.0.1:%d", port)
		other, _ := bare(t, "127.0.0.1:0", "", "IDLETALLY_PEOPLE="+door, "IDLETALLY_CERTIFICATE="+certificate,
			"IDLETALLY_KEY="+key)

		// The command line goes by what the system trusts, and asks for no fingerprint.
		admin := command{t: t, s: other, person: "admin"}.with("SSL_CERT_FILE=" + trusted)
		if _, errs, code := admin.run(demo.Password+"\n", "login", "https://"+door, "--name", "admin",
			"--password-stdin"); code != 0 {
			t.Error(errs)
		}

		admin.want(0, "approves no plans", "policy", "show")
		admin.with("SSL_CERT_FILE="+root).want(3, "certificate signed by unknown authority", "policy", "show")
		if out, errs, code := lookout.with("SSL_CERT_FILE="+root).run(demo.Password+"\n", "login", "https://"+at,
			"--name", "lookout", "--password-stdin"); code == 0 || !strings.Contains(errs, "tls: internal error") {
			t.Errorf("by an address that the certificate is not for: %d %s%s", code, out, errs)
		}
	})

	for says, argv := range map[string][]string{
		"want either --certificate and --key, or --acme": {"serve", "--data", filepath.Join(dir, "x"), "--listen",
			"127.0.0.1:0", "--database", "u:p@tcp(127.0.0.1:1)/x", "--people", "127.0.0.1:0"},
		"certificate for people": {"serve", "--data", filepath.Join(dir, "x"), "--listen", "127.0.0.1:0", "--database",
			"u:p@tcp(127.0.0.1:1)/x", "--people", "127.0.0.1:0", "--certificate", "/none", "--key", "/none"},
		"made for other names": {"serve", "--data", filepath.Join(s.Dir, "service"), "--listen", "127.0.0.1:0",
			"--database", "u:p@tcp(127.0.0.1:1)/x", "--name", "bank.example"},
	} {
		lookout.want(1, says, argv...)
	}
}

// Two who hold one host's identity are noticed: a certificate was renewed, and both it and the one before are used.
func TestTwoHolders(t *testing.T) {
	t.Parallel()
	s, admin, change := crewedOn(t)
	ctx := t.Context()
	key := func() (*ecdsa.PrivateKey, []byte) {
		k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		must(t, err)
		request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, k)
		must(t, err)
		return k, request
	}

	enrol := func(host string) *client.Agent {
		a, err := demo.Join(ctx, s.Address, authorityOf(t, s), admin, wire.NewHost{Name: host})
		must(t, err)
		return a
	}
	twice := func(host string) bool {
		t.Helper()
		list, err := admin.Hosts(ctx)
		must(t, err)

		for _, h := range list {
			if h.Name == host {
				return h.Twice != nil
			}
		}

		t.Fatalf("no host %s", host)
		return false
	}

	// An agent that renews, and goes on with what it got.
	agent := enrol("pier")
	k, request := key()
	renewed, err := agent.Renew(ctx, request)
	must(t, err)
	must(t, hello(ctx, agent)) // the answer may have been on its way
	next := agentWith(t, s, renewed, k)
	must(t, hello(ctx, next))
	must(t, hello(ctx, agent)) // what was under way ends
	must(t, hello(ctx, next))
	if twice("pier") {
		t.Error("an agent that renews is taken for two")
	}

	// Somebody has the key of the one before.
	change(`UPDATE host SET renewed_used = renewed_used - INTERVAL 6 MINUTE`)
	must(t, hello(ctx, next))
	if twice("pier") {
		t.Error("the agent alone is taken for two")
	}

	must(t, hello(ctx, agent))
	if !twice("pier") {
		t.Error("two hold the identity, and nobody notices")
	}

	must(t, hello(ctx, agent))
	if list, err := admin.History(ctx, pastOf("two agents"), 10); err != nil || len(list) != 1 ||
		list[0].Subject != "pier" {
		t.Errorf("%+v, %v", list, err)
	}

	c := command{t: t, s: s, person: "admin"}
	c.login()
	c.want(0, "held by two: somebody has its key", "host", "list")
	c.want(0, "", "host", "shut-out", "pier")
	if err := hello(ctx, next); client.Status(err) != http.StatusForbidden {
		t.Errorf("after it was shut out: %v", err)
	}

	if list, err := admin.History(ctx, pastOf("certificate refused"), 10); err != nil || len(list) != 1 {
		t.Errorf("%+v, %v", list, err)
	}

	// However often it is renewed, an enrolment ends.
	ruled(t, admin, func(p *wire.Policy) { p.EnrolmentDays = 100 })
	agent = enrol("jetty")
	change(`UPDATE host SET enrolled = enrolled - INTERVAL 99 DAY WHERE name = 'jetty'`)
	k, request = key()
	renewed, err = agent.Renew(ctx, request)
	must(t, err)
	if leaf := leafOf(t, renewed); time.Until(leaf.NotAfter) > 25*time.Hour {
		t.Errorf("it outlives the enrolment: until %s", leaf.NotAfter)
	}

	change(`UPDATE host SET enrolled = enrolled - INTERVAL 2 DAY WHERE name = 'jetty'`)
	if err := hello(ctx, agentWith(t, s, renewed, k)); client.Status(err) != http.StatusForbidden {
		t.Errorf("calling after its end: %v", err)
	}

	_, err = agentWith(t, s, renewed, k).Renew(ctx, request)
	fails(t, "renewing after its end", err, http.StatusForbidden, "this enrolment has ended")
}

// agentWith calls by a certificate, as the agent that has its key.
func agentWith(t *testing.T, s *demo.Stage, certificate []byte, key *ecdsa.PrivateKey) *client.Agent {
	t.Helper()
	a, err := client.NewAgent(s.Address, authorityOf(t, s), &tls.Certificate{
		Certificate: [][]byte{leafOf(t, certificate).Raw},
		PrivateKey:  key,
	})
	must(t, err)
	return a
}

func leafOf(t *testing.T, certificate []byte) *x509.Certificate {
	t.Helper()
	block, _ := pem.Decode(certificate)
	c, err := x509.ParseCertificate(block.Bytes)
	must(t, err)
	return c
}
