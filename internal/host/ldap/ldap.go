// Package ldap asks a directory (RFC 4511) who the accounts and groups of a domain are, by their security
// identifiers, and who is in which group: nested ones, too.
package ldap

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"idletally/internal/core/ntsd"
	"idletally/internal/host/fileserver"
)

// A Directory is how one is reached. What it asks for are the attributes that directories of Windows domains
// have: objectSid, sAMAccountName, member and primaryGroupID.
type Directory struct {
	URL       string `json:"url"`  // ldaps://HOST:PORT; ldap:// is made secure before anything is said
	Base      string `json:"base"` // below which accounts and groups lie
	User      string `json:"user"` // a distinguished name
	Authority string `json:"authority,omitempty"`
	Password  string `json:"-"`
	Sealed    []byte `json:"sealed"`
}

const (
	patience = 30 * time.Second // for an answer
	page     = 1000
	// most bounds how many accounts and groups are listed.
	most = 200_000
)

// readIn is how long a directory may take for all of its answer: however slow it is, nobody waits for ever.
var readIn = 10 * time.Minute

var errSlow = errors.New("it takes too long to tell who there is: give a narrower base")

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
		secure.RootCAs = x509.NewCertPool()
		if !secure.RootCAs.AppendCertsFromPEM(pem) {
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
func (d *Directory) Accounts(ctx context.Context) ([]fileserver.Account, error) {
	out, err := d.accounts(ctx)
	if err != nil {
		return nil, fmt.Errorf("directory %s: %w", d.URL, err)
	}
	return out, nil
}

func (d *Directory) accounts(ctx context.Context) ([]fileserver.Account, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, readIn, errSlow)
	defer cancel()
	all, err := d.read(ctx)
	if end, _ := ctx.Deadline(); err != nil && !time.Now().Before(end) {
		<-ctx.Done() // the network's own timer for the same moment may run before the context's
	}
	if ctx.Err() != nil { // of what was not asked any more nothing is known
		return nil, context.Cause(ctx)
	}
	return all, err
}

func (d *Directory) read(ctx context.Context) ([]fileserver.Account, error) {
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
	return d.whole(c)
}

// whole asks for all accounts and groups, for what members that lie elsewhere are, and for who is in groups
// through them.
func (d *Directory) whole(c searcher) ([]fileserver.Account, error) {
	found, err := d.told(c)
	if err != nil {
		return nil, err
	}
	found.others(c)
	d.byRule(c, found)
	return found.members()
}

// A searcher answers searches: a connection.
type searcher interface {
	Search(*ldap.SearchRequest) (*ldap.SearchResult, error)
}

// mostEmpty is how many empty pages a directory may return in one answer: one that does so for ever blocks nobody.
const mostEmpty = 100

// each hands out what lies below the base and matches a filter, page by page (RFC 2696).
func (d *Directory) each(c searcher, filter string, attributes []string, visit func(*ldap.Entry) error) error {
	paging := ldap.NewControlPaging(page)
	ask := ldap.NewSearchRequest(d.Base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, int(patience/time.Second),
		false, filter, attributes, []ldap.Control{paging})
	for empty := 0; ; {
		got, err := c.Search(ask)
		if err != nil {
			return err
		}

		for _, e := range got.Entries {
			if err := visit(e); err != nil {
				return err
			}
		}

		if len(got.Entries) == 0 {
			empty++
		}

		next, _ := ldap.FindControl(got.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if next == nil || len(next.Cookie) == 0 {
			return nil
		}
		if empty > mostEmpty {
			return fmt.Errorf("it gives more than %d pages with nothing in them", mostEmpty)
		}

		paging.SetCookie(next.Cookie)
	}
}

// told asks for all that matters, page by page, and for the parts in which directories return long lists.
func (d *Directory) told(c searcher) (*domain, error) {
	found := &domain{}
	err := d.each(c, "(objectSid=*)",
		[]string{"objectSid", "sAMAccountName", "objectClass", "member", "primaryGroupID"}, func(e *ldap.Entry) error {
			if len(found.all)+len(found.known) >= most {
				return fmt.Errorf("it has more than %d accounts and groups below %s: give a narrower base", most,
					d.Base)
			}
			return found.add(e)
		})

	if err != nil {
		return nil, err
	}

	for parts := 0; len(found.more) > 0; parts++ {
		m := found.more[0]
		if parts == mostParts {
			return nil, fmt.Errorf("members of %s from %d on: it gives its groups in more than %d parts", m.dn, m.from,
				mostParts)
		}

		found.more = found.more[1:]
		got, err := c.Search(ldap.NewSearchRequest(m.dn, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1,
			int(patience/time.Second), false,
			"(objectClass=*)", []string{fmt.Sprintf("member;range=%d-*", m.from)}, nil))
		if err != nil {
			return nil, fmt.Errorf("members of %s from %d on: %w", m.dn, m.from, err)
		}
		if len(got.Entries) != 1 {
			return nil, fmt.Errorf("members of %s from %d on: it gives %d entries for one", m.dn, m.from,
				len(got.Entries))
		}
		if err := found.join(got.Entries[0], m.dn, m.from); err != nil {
			return nil, err
		}
	}

	return found, nil
}

// domain is the answer of a directory.
type domain struct {
	all     []fileserver.Account
	at      map[string]int      // by distinguished name, folded
	holds   map[string][]string // members of groups
	primary []ntsd.SID          // by account; zero where there is none

	known map[string]ntsd.SID // what has an identity and no name, such as those of other domains, by distinguished name
	vague map[string]doubt    // of members that are not among what was told
	ruled map[string]bool     // groups of which the directory's own rule told who is in them

	named int    // members, of all groups together
	bytes int    // of all names
	more  []rest // of groups that were told in part
}

// A rest is the part of a group's members that is missing.
type rest struct {
	dn   string
	from int
}

// mostMembers, mostBytes and mostParts bound the members of all groups together, all names, and how often more
// members are asked for: directories return a thousand at once and more. mostIn bounds in how many groups all
// accounts are together, including by way of others.
const (
	mostMembers = 4_000_000
	mostBytes   = 512 << 20
	mostParts   = 20_000
	mostIn      = 10_000_000
)

// hold takes room for a name.
func (d *domain) hold(name string) error {
	d.bytes += len(name)
	if d.bytes > mostBytes {
		return fmt.Errorf("the names of its accounts, groups and members have more than %d MiB: give a narrower base",
			mostBytes>>20)
	}
	return nil
}

// join adds members that an entry lists for a group, the one of this number first. Directories return long lists in
// parts, as values of an attribute "member;range=LOW-HIGH", of which the last has "*" for HIGH (MS-ADTS
// 3.1.1.3.1.3.3).
func (d *domain) join(e *ldap.Entry, dn string, from int) error {
	key, parts := strings.ToLower(dn), 0
	for _, a := range e.Attributes {
		name, option, ranged := strings.Cut(strings.ToLower(a.Name), ";range=")
		if name != "member" {
			continue
		}
		low, high, ok := strings.Cut(option, "-")
		if n, err := strconv.Atoi(low); ranged && (err != nil || !ok || n != from) {
			return fmt.Errorf("members of %s: want those from %d on, and it gives %q", dn, from, a.Name)
		}

		if ranged {
			parts++
			if parts > 1 { // each would have the same ones asked for again
				return fmt.Errorf("members of %s from %d on: it gives several parts at once", dn, from)
			}
		}

		d.named += len(a.Values)
		if d.named > mostMembers {
			return fmt.Errorf("its groups have more than %d members: give a narrower base", mostMembers)
		}

		for _, m := range a.Values {
			if err := d.hold(m); err != nil {
				return err
			}
			d.holds[key] = append(d.holds[key], strings.ToLower(m))
		}

		if ranged && high != "*" {
			if len(a.Values) == 0 { // it would go on for ever
				return fmt.Errorf("members of %s from %d on: it gives none, and says that there are more", dn, from)
			}
			d.more = append(d.more, rest{dn, from + len(a.Values)})
		}
	}

	return nil
}

// withMembersOnce leaves the attribute without a range out if there is one with: directories return it empty beside.
func withMembersOnce(e *ldap.Entry) *ldap.Entry {
	ranged := slices.ContainsFunc(e.Attributes, func(a *ldap.EntryAttribute) bool {
		return strings.HasPrefix(strings.ToLower(a.Name), "member;range=")
	})
	if !ranged {
		return e
	}
	out := &ldap.Entry{DN: e.DN}
	for _, a := range e.Attributes {
		if !strings.EqualFold(a.Name, "member") {
			out.Attributes = append(out.Attributes, a)
		}
	}
	return out
}

var errSID = errors.New("has no security identifier that can be read")

func (d *domain) add(e *ldap.Entry) error {
	if d.at == nil {
		d.at = map[string]int{}
		d.holds = map[string][]string{}
		d.known = map[string]ntsd.SID{}
	}

	sid, n, err := ntsd.SIDFromBytes(e.GetRawAttributeValue("objectSid"))
	if err != nil || n != len(e.GetRawAttributeValue("objectSid")) {
		return fmt.Errorf("%s %w", e.DN, errSID)
	}
	name := e.GetAttributeValue("sAMAccountName")
	if err := errors.Join(d.hold(e.DN), d.hold(name)); err != nil {
		return err
	}

	if name == "" { // what has an identity and no name cannot sign in, and is in no list
		d.known[strings.ToLower(e.DN)] = sid
		return nil
	}

	a := fileserver.Account{
		SID:  sid,
		Name: name,
		Group: slices.ContainsFunc(e.GetAttributeValues("objectClass"), func(c string) bool {
			return strings.EqualFold(c, "group")
		}),
	}

	dn := strings.ToLower(e.DN)
	d.at[dn] = len(d.all)
	if a.Group {
		if err := d.join(withMembersOnce(e), e.DN, 0); err != nil {
			return err
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

// A doubt is about a member that is not in the answer.
type doubt int

const (
	none      doubt = iota // it is no group, or stands for everybody
	elsewhere              // it may be a group of this directory
	foreign                // it may be a group of another domain
)

// mostOthers bounds how many members that lie elsewhere are asked for, and mostRuled for how many groups with such
// members the directory's own rule is asked.
const (
	mostOthers = 2000
	mostRuled  = 500
)

// others finds out which members that are not in the answer may be groups: then it is not known who is in one through
// them. What cannot be asked for may be one.
func (d *domain) others(c searcher) {
	d.vague = map[string]doubt{}
	asked := 0
	for _, list := range d.holds {
		for _, m := range list {
			if _, here := d.at[m]; here {
				continue
			}
			if _, told := d.vague[m]; told {
				continue
			}

			if sid, ok := d.known[m]; ok {
				// Of another domain: members are known only of groups that stand for everybody.
				d.vague[m] = foreign
				if everybody(sid) {
					d.vague[m] = none
				}
				continue
			}

			d.vague[m] = elsewhere
			asked++
			if asked > mostOthers {
				continue
			}

			got, err := c.Search(ldap.NewSearchRequest(m, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1,
				int(patience/time.Second), false, "(objectClass=*)", []string{"objectClass"}, nil))
			if err != nil || len(got.Entries) != 1 {
				continue
			}

			classes := got.Entries[0].GetAttributeValues("objectClass")
			is := func(class string) bool {
				return slices.ContainsFunc(classes, func(c string) bool { return strings.EqualFold(c, class) })
			}
			switch {
			case is("foreignSecurityPrincipal"):
				d.vague[m] = foreign
			case len(classes) > 0 && !is("group"):
				d.vague[m] = none
			}
		}
	}
}

const (
	// windowsDirectory is the capability of directories that follow groups in groups by a rule of their own (MS-ADTS
	// 3.1.1.3.4.3.1).
	windowsDirectory = "1.2.840.113556.1.4.800"
	// inChain is that rule (MS-ADTS 3.1.1.3.4.4.3).
	inChain = "1.2.840.113556.1.4.1941"
)

// byRule asks the directory itself who is in groups that have others elsewhere in them, if it can. If it cannot, or
// fails, they stay unknown.
func (d *Directory) byRule(c searcher, found *domain) {
	var groups []string
	for dn, list := range found.holds {
		if slices.ContainsFunc(list, func(m string) bool { return found.vague[m] == elsewhere }) {
			groups = append(groups, dn)
		}
	}

	if len(groups) == 0 {
		return
	}

	top, err := c.Search(ldap.NewSearchRequest("", ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1,
		int(patience/time.Second), false, "(objectClass=*)", []string{"supportedCapabilities"}, nil))
	if err != nil || len(top.Entries) != 1 ||
		!slices.Contains(top.Entries[0].GetAttributeValues("supportedCapabilities"), windowsDirectory) {
		return
	}

	found.ruled = map[string]bool{}
	slices.Sort(groups)
	for _, dn := range groups[:min(len(groups), mostRuled)] {
		var in []string
		err := d.each(c, "(memberOf:"+inChain+":="+ldap.EscapeFilter(dn)+")", []string{"1.1"},
			func(e *ldap.Entry) error {
				found.named++
				if found.named > mostMembers {
					return fmt.Errorf("%s has more members than are read", dn)
				}

				in = append(in, strings.ToLower(e.DN))
				return found.hold(e.DN)
			})

		if err != nil {
			continue
		}

		found.holds[dn] = append(found.holds[dn], in...)
		found.ruled[dn] = true
	}
}

// everybody reports whether an identity stands for everybody who signs in.
func everybody(s ntsd.SID) bool { return s == ntsd.Everyone || s == ntsd.Authenticated }

// members gives each account all groups that it is in: by itself, by others that are in them, and its primary one.
func (d *domain) members() ([]fileserver.Account, error) {
	in := make([][]int, len(d.all)) // the groups that something is in at once
	bySID := map[ntsd.SID]int{}
	for i, a := range d.all {
		bySID[a.SID] = i
	}

	// Groups whose members are not all known, and those that everybody is in.
	partly, all := []int{}, map[int]bool{}
	for dn, list := range d.holds {
		for _, m := range list {
			g := d.at[dn]
			if i, ok := d.at[m]; ok {
				in[i] = append(in[i], g)
			} else if d.vague[m] == foreign || d.vague[m] == elsewhere && !d.ruled[dn] {
				partly = append(partly, g)
			} else if everybody(d.known[m]) {
				all[g] = true
			}
		}
	}

	for len(partly) > 0 { // and those that they are in
		g := partly[len(partly)-1]
		partly = partly[:len(partly)-1]
		if !d.all[g].Partly {
			d.all[g].Partly = true
			partly = append(partly, in[g]...)
		}
	}

	for i, p := range d.primary {
		if g, ok := bySID[p]; ok && !p.IsZero() {
			in[i] = append(in[i], g)
		}
	}

	anyway := reached(slices.Collect(maps.Keys(all)), in, nil)
	together := 0
	for i := range d.all {
		if d.all[i].Group {
			continue
		}

		seen := reached(in[i], in, anyway)
		together += len(seen)
		if together > mostIn {
			return nil, fmt.Errorf("its accounts are in more than %d groups together: give a narrower base", mostIn)
		}

		for g := range seen {
			d.all[i].Groups = append(d.all[i].Groups, d.all[g].SID)
		}

		slices.SortFunc(d.all[i].Groups, func(a, b ntsd.SID) int { return strings.Compare(a.Bytes(), b.Bytes()) })
	}

	return d.all, nil
}

// reached returns some groups and those that they are in, by way of others included, and those that everybody is in.
func reached(from []int, in [][]int, anyway map[int]bool) map[int]bool {
	seen := maps.Clone(anyway)
	if seen == nil {
		seen = map[int]bool{}
	}
	for next := slices.Clone(from); len(next) > 0; {
		g := next[len(next)-1]
		next = next[:len(next)-1]
		if !seen[g] {
			seen[g] = true
			next = append(next, in[g]...)
		}
	}
	return seen
}
