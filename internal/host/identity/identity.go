// Package identity reads the accounts, groups and memberships that a Linux host knows.
package identity

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"idletally/internal/core/perm"
	"idletally/internal/core/unixid"
)

// maxAccounts bounds what a directory service may answer: accounts beyond that are asked for one by one if paths
// belong to them. A service takes no more in one snapshot (untrusted.MaxElements).
const maxAccounts = 50_000

// Read asks the name-service switch where the host has getent, and the local files otherwise.
// A directory service need not list its accounts: those that are named are asked for one by one.
func Read(ctx context.Context, named ...string) (*perm.Directory, error) {
	passwd, err := database(ctx, "passwd")
	if err != nil {
		return nil, err
	}
	group, err := database(ctx, "group")
	if err != nil {
		return nil, err
	}

	d := Parse(passwd, group)
	for _, name := range named {
		if _, ok := d.User(name); !ok {
			passwd, group = appendAccount(ctx, passwd, group, name)
			d = Parse(passwd, group)
		}
	}

	return d, nil
}

// Recent keeps what was read for a moment: whoever looks at many folders asks for the same accounts each time, and
// asking starts other programs. Its zero value is ready, and safe for concurrent use.
type Recent struct {
	mu    sync.Mutex
	named []string
	read  time.Time
	dir   *perm.Directory
}

// fresh is how long what was read counts.
const fresh = 5 * time.Second

// Read is Read, or what it gave for the same names a moment ago.
func (r *Recent) Read(ctx context.Context, named ...string) (*perm.Directory, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.dir != nil && slices.Equal(named, r.named) && time.Since(r.read) < fresh {
		return r.dir, nil
	}
	start := time.Now()
	d, err := Read(ctx, named...)
	if err == nil {
		r.named = named
		r.read = start
		r.dir = d
	}
	return d, err
}

// appendAccount asks the name-service switch for one account, by name or number, for the groups that it is in, and
// for their names. If it knows nothing, nothing is added.
func appendAccount(ctx context.Context, passwd, group []byte, name string) ([]byte, []byte) {
	line := getent(ctx, "passwd", name)
	fields := strings.Split(strings.TrimSpace(string(line)), ":")
	if len(fields) < 7 {
		return passwd, group
	}
	passwd = append(append(passwd, '\n'), line...)
	// "NAME  GID GID …"
	for i, gid := range strings.Fields(string(getent(ctx, "initgroups", fields[0]))) {
		if i == 0 {
			continue
		}
		group = append(append(group, '\n'), getent(ctx, "group", gid)...)
		group = append(group, fmt.Sprintf("\n:x:%s:%s\n", gid, fields[0])...)
	}
	return passwd, group
}

// getent asks for keys of a database; the answer leaves out what nobody knows.
func getent(ctx context.Context, database string, keys ...string) []byte {
	path, err := exec.LookPath("getent")
	if err != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	// After -- a key that begins with a hyphen is no option.
	out, _ := exec.CommandContext(ctx, path, append([]string{"--", database}, keys...)...).Output()
	return out
}

func database(ctx context.Context, name string) ([]byte, error) {
	if getent, err := exec.LookPath("getent"); err == nil {
		ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
		defer cancel()
		if out, err := exec.CommandContext(ctx, getent, name).Output(); err == nil && len(out) > 0 {
			return out, nil
		}
	}
	b, err := os.ReadFile("/etc/" + name)
	if err != nil {
		return nil, fmt.Errorf("read the host's accounts: %w", err)
	}
	return b, nil
}

// Parse reads passwd(5) and group(5) text; several groups with one id become one. Lines that are neither are ignored,
// as by the C library.
func Parse(passwd, group []byte) *perm.Directory {
	d := &perm.Directory{}
	members := map[string][]perm.Principal{}
	lines(group, 4, func(f []string) {
		gid, err := strconv.ParseUint(f[2], 10, 32)
		if err != nil {
			return
		}

		id := unixid.GID(uint32(gid))
		if f[0] != "" { // a line without a name only tells of a membership
			d.Groups = append(d.Groups, perm.Account{ID: id, Name: f[0]})
		}

		for m := range strings.SplitSeq(f[3], ",") {
			m = strings.TrimSpace(m)
			if m != "" {
				members[m] = append(members[m], id)
			}
		}
	})

	lines(passwd, 7, func(f []string) {
		uid, err1 := strconv.ParseUint(f[2], 10, 32)
		gid, err2 := strconv.ParseUint(f[3], 10, 32)
		if err1 != nil || err2 != nil || f[0] == "" {
			return
		}

		a := perm.Account{ID: unixid.UID(uint32(uid)), Name: f[0], Groups: []perm.Principal{unixid.GID(uint32(gid))}}
		for _, g := range members[f[0]] {
			if !slices.Contains(a.Groups, g) {
				a.Groups = append(a.Groups, g)
			}
		}

		shell := f[6]
		a.Service = strings.HasSuffix(shell, "/nologin") || strings.HasSuffix(shell, "/false")
		d.Accounts = append(d.Accounts, a)
	})

	return d.Index()
}

func lines(b []byte, fields int, f func([]string)) {
	sc := bufio.NewScanner(bytes.NewReader(b))
	sc.Buffer(nil, 1<<20)
	for n := 0; sc.Scan() && n < maxAccounts; n++ {
		if parts := strings.Split(sc.Text(), ":"); len(parts) >= fields {
			f(parts)
		}
	}
}
