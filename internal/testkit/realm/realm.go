//go:build linux

// Package realm starts a Kerberos realm for tests.
package realm

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"idletally/internal/loopback"
	"idletally/internal/samba"
	"idletally/internal/tied"
)

// A Realm is a private Kerberos realm (RFC 4120) with a key distribution centre of its own on loopback.
type Realm struct {
	samba.Realm
	cmd    *exec.Cmd
	exited <-chan struct{}
}

// Start makes a realm with some people, by their passwords, and some services, such as cifs/server.example.
func Start(ctx context.Context, dir, name string, people map[string]string, services []string) (*Realm, error) {
	if _, err := exec.LookPath("/usr/sbin/krb5kdc"); err != nil {
		return nil, fmt.Errorf(
			"the key distribution centre is not installed: apt-get install krb5-kdc krb5-admin-server: %w", err)
	}

	port, err := loopback.FreePort()
	if err != nil {
		return nil, err
	}

	at := samba.Realm{Name: name, Config: filepath.Join(dir, "krb5.conf"), Keytab: filepath.Join(dir, "keytab")}
	r := &Realm{Realm: at}
	centre := filepath.Join(dir, "kdc.conf")
	conf, kdc := settings(name, port, dir)
	if err := errors.Join(os.MkdirAll(dir, 0o700), os.WriteFile(r.Config, []byte(conf), 0o644),
		os.WriteFile(centre, []byte(kdc), 0o600)); err != nil {
		return nil, err
	}

	env := append(os.Environ(), "KRB5_CONFIG="+r.Config, "KRB5_KDC_PROFILE="+centre)
	do := func(in, name string, args ...string) error {
		c := exec.CommandContext(ctx, name, args...)
		c.Env, c.Stdin = env, strings.NewReader(in)
		if out, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(out)))
		}

		return nil
	}

	if err := do("", "/usr/sbin/kdb5_util", "create", "-s", "-r", name, "-P",
		"not a secret: a realm for tests"); err != nil {
		return nil, err
	}

	var asks strings.Builder
	for who, password := range people {
		fmt.Fprintf(&asks, "addprinc -pw %q %s\n", password, who)
	}

	for _, s := range services {
		fmt.Fprintf(&asks, "addprinc -randkey %s\nktadd -k %s %s\n", s, r.Keytab, s)
	}

	if err := do(asks.String(), "/usr/sbin/kadmin.local"); err != nil {
		return nil, err
	}

	r.cmd = exec.Command("/usr/sbin/krb5kdc", "-n")
	r.cmd.Env, r.cmd.SysProcAttr = env, &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	p, err := tied.Start(r.cmd)
	if err != nil {
		return nil, fmt.Errorf("start the key distribution centre: %w", err)
	}

	r.exited = p.Exited()
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			return r, c.Close()
		}
		if time.Now().After(end) || ctx.Err() != nil {
			r.Stop()
			return nil, fmt.Errorf("the key distribution centre does not answer: %w", err)
		}
	}
}

// settings returns the configuration of a realm's clients, and that of its centre.
func settings(name string, port int, dir string) (conf, kdc string) {
	conf = fmt.Sprintf(
		"[libdefaults]\n default_realm = %[1]s\n dns_lookup_kdc = false\n dns_lookup_realm = false\n rdns = false\n "+
			"dns_canonicalize_hostname = false\n udp_preference_limit = 1\n[realms]\n %[1]s = {\n  kdc = "+
			"127.0.0.1:%[2]d\n }\n",
		name, port)
	kdc = fmt.Sprintf(
		"[kdcdefaults]\n kdc_listen = 127.0.0.1:%[2]d\n kdc_tcp_listen = 127.0.0.1:%[2]d\n[realms]\n %[1]s = {\n  "+
			"database_name = %[3]s/principal\n  key_stash_file = %[3]s/stash\n  acl_file = %[3]s/acl\n  "+
			"supported_enctypes = aes256-cts-hmac-sha1-96:normal\n  disable_pac = true\n }\n",
		name, port, dir)
	return conf, kdc
}

// Stop ends it.
func (r *Realm) Stop() {
	_ = r.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-r.exited:
	case <-time.After(5 * time.Second):
		_ = r.cmd.Process.Kill()
		<-r.exited
	}
}
