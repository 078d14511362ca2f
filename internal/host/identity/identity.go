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
	"time"

	"idletally/internal/core/perm"
)

// maxAccounts bounds what a directory service may answer.
const maxAccounts = 200_000

// Read asks the name-service switch where the host has getent, and the local files otherwise.
func Read(ctx context.Context) (*perm.Directory, error) {
	passwd, err := database(ctx, "passwd")
	if err != nil {
		return nil, err
	}
	group, err := database(ctx, "group")
	if err != nil {
		return nil, err
	}
	return Parse(passwd, group), nil
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

// Parse reads passwd(5) and group(5) text. Lines that are none are passed over, as the C library does.
func Parse(passwd, group []byte) *perm.Directory {
	d := &perm.Directory{}
	members := map[string][]perm.Principal{}
	lines(group, 4, func(f []string) {
		gid, err := strconv.ParseUint(f[2], 10, 32)
		if err != nil || f[0] == "" {
			return
		}
		id := perm.GID(uint32(gid))
		d.Groups = append(d.Groups, perm.Account{ID: id, Name: f[0]})
		for m := range strings.SplitSeq(f[3], ",") {
			if m = strings.TrimSpace(m); m != "" {
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
		a := perm.Account{ID: perm.UID(uint32(uid)), Name: f[0], Groups: []perm.Principal{perm.GID(uint32(gid))}}
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
