// Package ldap asks a directory (RFC 4511) who the accounts and groups of a domain are, by their security identifiers, and who is in
// which group: nested ones, too.
package ldap

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"idletally/internal/core/ntsd"
	"idletally/internal/host/nt"
)

// A Directory is how one is reached. What it asks for are the attributes that directories of Windows domains have: objectSid,
// sAMAccountName, member and primaryGroupID.
type Directory struct {
	URL       string `json:"url"`  // ldaps://HOST:PORT; ldap:// is made secure before anything is said
	Base      string `json:"base"` // below which accounts and groups lie
	User      string `json:"user"` // a distinguished name
	Authority string `json:"authority,omitempty"`
	Password  string `json:"-"`
	Sealed    []byte `json:"sealed"`
}

const (
	patience = 30 * time.Second
	page     = 1000
	// most bounds how many accounts and groups are listed.
	most = 200_000
)

func (d *Directory) dial(ctx context.Context) (*ldap.Conn, error) {
	u, err := url.Parse(d.URL)
	if err != nil || u.Hostname() == "" {
		return nil, fmt.Errorf("directory %s: want ldaps://HOST or ldap://HOST", d.URL)
	}
	secure := &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12}
	if d.Authority != "" {
		pem, err := os.ReadFile(d.Authority)
		if err != nil {
			return nil, fmt.Errorf("directory's authority: %w", err)
		}
		if secure.RootCAs = x509.NewCertPool(); !secure.RootCAs.AppendCertsFromPEM(pem) {
			return nil, fmt.Errorf("%s holds no certificate", d.Authority)
		}
	}
	deadline := time.Now().Add(patience)
	if end, ok := ctx.Deadline(); ok && end.Before(deadline) {
		deadline = end
	}
	c, err := ldap.DialURL(d.URL, ldap.DialWithTLSConfig(secure), ldap.DialWithDialer(&net.Dialer{Deadline: deadline}))
	if err != nil {
		return nil, err
	}
	c.SetTimeout(patience)
	if u.Scheme != "ldaps" {
		if err := c.StartTLS(secure); err != nil {
			c.Close()
			return nil, fmt.Errorf("it cannot be made secure: %w", err)
		}
	}
	return c, nil
}

// Accounts lists the accounts and groups of the directory, each account with all groups that it is in.
func (d *Directory) Accounts(ctx context.Context) ([]nt.Account, error) {
	out, err := d.accounts(ctx)
	if err != nil {
		return nil, fmt.Errorf("directory %s: %w", d.URL, err)
	}
	return out, nil
}

func (d *Directory) accounts(ctx context.Context) ([]nt.Account, error) {
	c, err := d.dial(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	defer context.AfterFunc(ctx, func() { c.Close() })()
	if err := c.Bind(d.User, d.Password); err != nil {
		if ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials) {
			return nil, fmt.Errorf("it does not take %s with this password", d.User)
		}
		return nil, err
	}
	var found domain
	paging := ldap.NewControlPaging(page)
	ask := ldap.NewSearchRequest(d.Base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, int(patience/time.Second), false,
		"(objectSid=*)", []string{"objectSid", "sAMAccountName", "objectClass", "member", "primaryGroupID"}, []ldap.Control{paging})
	for {
		got, err := c.Search(ask)
		if err != nil {
			return nil, err
		}
		for _, e := range got.Entries {
			if len(found.all) == most {
				return nil, fmt.Errorf("it has more than %d accounts and groups below %s: give a narrower base", most, d.Base)
			}
			if err := found.add(e); err != nil {
				return nil, err
			}
		}
		next, _ := ldap.FindControl(got.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if next == nil || len(next.Cookie) == 0 {
			return found.members(), ctx.Err()
		}
		paging.SetCookie(next.Cookie)
	}
}

// domain is what a directory told.
type domain struct {
	all     []nt.Account
	at      map[string]int      // by distinguished name, folded
	holds   map[string][]string // members of groups
	primary []ntsd.SID          // by account; zero where there is none
}

var errSID = errors.New("has no security identifier that can be read")

func (d *domain) add(e *ldap.Entry) error {
	if d.at == nil {
		d.at, d.holds = map[string]int{}, map[string][]string{}
	}
	sid, n, err := ntsd.SIDFromBytes(e.GetRawAttributeValue("objectSid"))
	if err != nil || n != len(e.GetRawAttributeValue("objectSid")) {
		return fmt.Errorf("%s %w", e.DN, errSID)
	}
	name := e.GetAttributeValue("sAMAccountName")
	if name == "" { // what has an identity and no name cannot sign in, and is in no list
		return nil
	}
	a := nt.Account{SID: sid, Name: name, Group: slices.ContainsFunc(e.GetAttributeValues("objectClass"), func(c string) bool { return strings.EqualFold(c, "group") })}
	dn := strings.ToLower(e.DN)
	d.at[dn] = len(d.all)
	if a.Group {
		for _, m := range e.GetAttributeValues("member") {
			d.holds[dn] = append(d.holds[dn], strings.ToLower(m))
		}
	}
	var primary ntsd.SID
	var rid uint32
	if n, _ := fmt.Sscan(e.GetAttributeValue("primaryGroupID"), &rid); n == 1 {
		if subs := sid.Subs(); len(subs) > 1 {
			primary = ntsd.NewSID(sid.Authority(), append(slices.Clone(subs[:len(subs)-1]), rid)...)
		}
	}
	d.all, d.primary = append(d.all, a), append(d.primary, primary)
	return nil
}

// members gives each account all groups that it is in: by itself, by others that are in them, and its primary one.
func (d *domain) members() []nt.Account {
	in := make([][]int, len(d.all)) // the groups that something is in at once
	bySID := map[ntsd.SID]int{}
	for i, a := range d.all {
		bySID[a.SID] = i
	}
	for dn, list := range d.holds {
		for _, m := range list {
			if i, ok := d.at[m]; ok {
				in[i] = append(in[i], d.at[dn])
			}
		}
	}
	for i, p := range d.primary {
		if g, ok := bySID[p]; ok && !p.IsZero() {
			in[i] = append(in[i], g)
		}
	}
	for i := range d.all {
		if d.all[i].Group {
			continue
		}
		seen := map[int]bool{}
		for next := slices.Clone(in[i]); len(next) > 0; {
			g := next[len(next)-1]
			if next = next[:len(next)-1]; seen[g] {
				continue
			}
			seen[g] = true
			next = append(next, in[g]...)
		}
		for g := range seen {
			d.all[i].Groups = append(d.all[i].Groups, d.all[g].SID)
		}
		slices.SortFunc(d.all[i].Groups, func(a, b ntsd.SID) int { return strings.Compare(a.Bytes(), b.Bytes()) })
	}
	return d.all
}
