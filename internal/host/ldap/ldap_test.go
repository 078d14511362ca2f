//go:build linux

package ldap

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"idletally/internal/core/ntsd"
	"idletally/internal/host/fileserver"
	"idletally/internal/loopback"
	"idletally/internal/tied"
)

const schema = `
attributetype ( 1.2.840.113556.1.4.146 NAME 'objectSid' EQUALITY octetStringMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.40 SINGLE-VALUE )
attributetype ( 1.2.840.113556.1.4.221 NAME 'sAMAccountName' EQUALITY caseIgnoreMatch SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 SINGLE-VALUE )
attributetype ( 1.2.840.113556.1.4.98 NAME 'primaryGroupID' SYNTAX 1.3.6.1.4.1.1466.115.121.1.27 SINGLE-VALUE )
objectclass ( 1.2.840.113556.1.5.9 NAME 'user' SUP top STRUCTURAL MUST ( cn $ objectSid ) MAY ( sAMAccountName $ primaryGroupID ) )
objectclass ( 1.2.840.113556.1.5.8 NAME 'group' SUP top STRUCTURAL MUST ( cn $ objectSid ) MAY ( sAMAccountName $ member ) )
`

func sid(rid uint32) ntsd.SID { return ntsd.NewSID(5, 21, 7, 8, 9, rid) }

// start runs a directory of its own, with some people.
func start(t *testing.T, fill func(io.Writer)) *Directory {
	t.Helper()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}

	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must(err)
	like := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		Subject:               pkix.Name{CommonName: "directory"},
		NotAfter:              time.Now().Add(time.Hour),
		IPAddresses:           []net.IP{net.IPv4(127, 0, 0, 1)},
		IsCA:                  true,
		BasicConstraintsValid: true,
	}

	der, err := x509.CreateCertificate(rand.Reader, like, like, &key.PublicKey, key)
	must(err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	must(err)
	cert, secret := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	must(os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	must(os.WriteFile(secret, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}), 0o600))
	must(os.Mkdir(filepath.Join(dir, "db"), 0o700))
	conf := filepath.Join(dir, "slapd.conf")
	must(os.WriteFile(conf, fmt.Appendf(nil, `include /etc/ldap/schema/core.schema
include %[1]s/own.schema
pidfile %[1]s/pid
modulepath /usr/lib/ldap
moduleload back_mdb
TLSCertificateFile %[2]s
TLSCertificateKeyFile %[3]s
sizelimit size.pr=unlimited size.prtotal=unlimited size.hard=100 size.soft=100
database mdb
directory %[1]s/db
maxsize 1073741824
suffix "dc=saltmarsh,dc=example"
rootdn "cn=reader,dc=saltmarsh,dc=example"
rootpw "low tide at noon"
`, dir, cert, secret), 0o600))

	must(os.WriteFile(filepath.Join(dir, "own.schema"), []byte(schema), 0o600))
	var ldif strings.Builder
	fill(&ldif)
	out, err := withInput(ldif.String(), "/usr/sbin/slapadd", "-f", conf, "-q").CombinedOutput()
	if err != nil {
		t.Fatalf("slapadd: %v: %s", err, out)
	}

	port, err := loopback.FreePort()
	must(err)
	d := &Directory{
		URL:       fmt.Sprintf("ldaps://127.0.0.1:%d", port),
		Base:      "dc=saltmarsh,dc=example",
		User:      "cn=reader,dc=saltmarsh,dc=example",
		Password:  "low tide at noon",
		Authority: cert,
	}

	cmd := exec.Command("/usr/sbin/slapd", "-f", conf, "-h", d.URL, "-d", "0")
	process, err := tied.Start(cmd)
	must(err)
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = process.Wait()
	})

	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
			return d
		}
		if time.Now().After(end) {
			t.Fatal(err)
		}
	}
}

// add writes an entry.
func add(w io.Writer, dn string, lines ...string) {
	fmt.Fprintf(w, "dn: %s\n%s\n\n", dn, strings.Join(lines, "\n"))
}

const base = "dc=saltmarsh,dc=example"

func addPerson(w io.Writer, name string, rid uint32, more ...string) {
	add(w, "cn="+name+","+base,
		append([]string{"objectClass: user", "cn: " + name, "sAMAccountName: " + name, b64(sid(rid))}, more...)...)
}

func addGroup(w io.Writer, name string, rid uint32, members ...string) {
	lines := []string{"objectClass: group", "cn: " + name, "sAMAccountName: " + name, b64(sid(rid))}
	for _, m := range members {
		if !strings.Contains(m, "=") {
			m = "CN=" + m + "," + base
		}
		lines = append(lines, "member: "+m)
	}
	add(w, "cn="+name+","+base, lines...)
}

func b64(s ntsd.SID) string {
	return "objectSid:: " + base64.StdEncoding.EncodeToString([]byte(s.Bytes()))
}

func top(w io.Writer) {
	add(w, base, "objectClass: dcObject", "objectClass: organization", "dc: saltmarsh", "o: Saltmarsh Ferries")
}

// crew is a small domain, with groups in groups, and members that lie elsewhere.
func crew(w io.Writer) {
	top(w)
	addPerson(w, "purser", 1001, "primaryGroupID: 513")
	addPerson(w, "clerk", 1002)
	add(w, "cn=nameless,"+base, "objectClass: user", "cn: nameless", b64(sid(1999)))
	for i := range 1500 { // more than a page
		addPerson(w, fmt.Sprintf("hand-%04d", i), uint32(3000+i))
	}
	addGroup(w, "everybody", 513, "crew") // nested three deep, and in a circle
	addGroup(w, "crew", 1101, "office")
	addGroup(w, "office", 1102, "Clerk", "crew")
}

func withInput(in, name string, args ...string) *exec.Cmd {
	c := exec.Command(name, args...)
	c.Stdin = strings.NewReader(in)
	return c
}

// Accounts have the groups that they are in by way of others, too, and the primary one.
func TestAccounts(t *testing.T) {
	d := start(t, crew)
	all, err := d.Accounts(t.Context())
	if err != nil || len(all) != 1505 {
		t.Fatalf("%d accounts and groups, %v", len(all), err)
	}

	for name, want := range map[string][]ntsd.SID{
		"purser":    {sid(513)},
		"clerk":     {sid(513), sid(1101), sid(1102)},
		"hand-1499": nil,
		"crew":      nil,
	} {
		t.Run(name, func(t *testing.T) {
			i := slices.IndexFunc(all, func(a fileserver.Account) bool { return a.Name == name })
			if i < 0 || all[i].Group != (name == "crew") {
				t.Fatalf("%s: %d, %+v", name, i, all[max(i, 0)])
			}
			if len(all[i].Groups) != len(want) ||
				slices.ContainsFunc(want, func(s ntsd.SID) bool { return !slices.Contains(all[i].Groups, s) }) {
				t.Errorf("%s is in %v, want %v", name, all[i].Groups, want)
			}
		})
	}

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	for _, c := range []struct {
		what   string
		change func(*Directory)
		ctx    context.Context
		says   string
	}{
		{"a wrong password", func(d *Directory) { d.Password = "high tide" }, t.Context(), "does not take cn=reader"},
		{"a base that is not there", func(d *Directory) { d.Base = "dc=nowhere" }, t.Context(), "No Such Object"},
		{"another authority", func(d *Directory) { d.Authority = "" }, t.Context(), "unknown authority"},
		{"a directory that is not there", func(d *Directory) { d.URL = "ldaps://127.0.0.1:1" }, t.Context(),
			"connection refused"},
		{"no address", func(d *Directory) { d.URL = "directory" }, t.Context(), "want ldaps://HOST"},
		{"nobody waits", func(*Directory) {}, ctx, "directory"},
	} {
		t.Run(c.what, func(t *testing.T) {
			other := *d
			c.change(&other)
			if _, err := other.Accounts(c.ctx); err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v", c.what, err)
			}
		})
	}
}
