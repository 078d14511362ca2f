package identity

import (
	"bytes"
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/unixid"
)

const (
	// maxOwners bounds how many ids are asked for that no list has, and maxJoined for how many of those
	// that are found their memberships are asked for.
	maxOwners = 1000
	maxJoined = 100
	ownersFor = time.Minute
)

// Owners finds the accounts of ids that own paths, where a directory service does not list its accounts. It remembers
// the answers for a minute, including those about nobody. Its zero value is ready, and safe for concurrent use.
type Owners struct {
	mu    sync.Mutex
	since time.Time
	asked map[perm.Principal]bool
	found perm.Directory
}

// Complete returns the directory with the accounts of those ids added, in the order of the ids.
func (o *Owners) Complete(ctx context.Context, d *perm.Directory, ids []perm.Principal) *perm.Directory {
	ids = numbered(ids)
	o.mu.Lock()
	defer o.mu.Unlock()

	if time.Since(o.since) > ownersFor {
		o.since = time.Now()
		o.asked = map[perm.Principal]bool{}
		o.found = perm.Directory{}
	}

	var users, groups []string
	for _, id := range ids {
		if d.Account(id) != nil || o.asked[id] || len(o.asked) >= maxOwners {
			continue
		}
		o.asked[id] = true
		if n := string(id[1:]); unixid.IsGroup(id) {
			groups = append(groups, n)
		} else {
			users = append(users, n)
		}
	}

	if len(users) > 0 {
		passwd, group := getent(ctx, "passwd", users...), []byte(nil)
		for i, line := range bytes.Split(bytes.TrimSpace(passwd), []byte("\n")) {
			if name, _, ok := strings.Cut(string(line), ":"); ok && i < maxJoined {
				_, more := appendAccount(ctx, nil, nil, name)
				group = append(group, more...)
			}
		}
		o.add(Parse(passwd, group))
	}

	if len(groups) > 0 {
		o.add(Parse(nil, getent(ctx, "group", groups...)))
	}

	var accounts, joined []perm.Account
	seen := map[perm.Principal]bool{}
	for _, id := range ids {
		if a := o.found.Account(id); a != nil && d.Account(id) == nil && !seen[id] {
			seen[id] = true
			if unixid.IsGroup(id) {
				joined = append(joined, *a)
			} else {
				accounts = append(accounts, *a)
			}
		}
	}

	if len(seen) == 0 {
		return d
	}

	return (&perm.Directory{
		Accounts: append(slices.Clone(d.Accounts), accounts...),
		Groups:   append(slices.Clone(d.Groups), joined...),
	}).Index()
}

func (o *Owners) add(d *perm.Directory) {
	o.found.Accounts, o.found.Groups = append(o.found.Accounts, d.Accounts...), append(o.found.Groups, d.Groups...)
	o.found.Index()
}

// numbered returns the ids that are numbers. Others come from entries that name somebody as another system does.
func numbered(ids []perm.Principal) []perm.Principal {
	return slices.DeleteFunc(slices.Clone(ids), func(id perm.Principal) bool {
		_, ok := unixid.Number(id)
		return !ok
	})
}
