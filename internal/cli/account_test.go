//go:build linux

package cli

import (
	"strings"
	"testing"

	"idletally/internal/host/identity"
	"idletally/internal/inquiry"
)

func TestAccount(t *testing.T) {
	d := identity.Parse([]byte("root:x:0:0:::/bin/sh\npurser:x:1000:100:::/bin/sh\nwww:x:33:33:::/usr/sbin/nologin\n"),
		[]byte("root:x:0:\ncrew:x:100:\nclerks:x:101:purser\nwww:x:33:\n"))
	v, err := inquiry.AccountOf(d, "purser")
	if err != nil || strings.Join(v.Groups, " ") != "crew clerks" || v.ID != "1000" || !v.Known {
		t.Errorf("%+v, %v", v, err)
	}

	notes := strings.Join(stale(d, v.Groups, []int{100, 0}), "; ")
	if notes != "you are a member of clerks, but it does not count yet: log in anew; "+
		"you work with group root now, and are no member of it any more: it counts until you log out" {
		t.Errorf("notes %q", notes)
	}

	if v, err := inquiry.AccountOf(d, "4711"); err != nil || v.Known ||
		!strings.Contains(v.Notes[0], "no account has this number") {
		t.Errorf("%+v, %v", v, err)
	}

	if v, err := inquiry.AccountOf(d, "33"); err != nil || v.Name != "www" ||
		!strings.Contains(v.Notes[0], "nobody signs in") {
		t.Errorf("%+v, %v", v, err)
	}

	if _, err := inquiry.AccountOf(d, "stowaway"); err == nil {
		t.Error("an unknown name was taken")
	}

	if out, err := try(t, "", "account", "show"); err != nil || !strings.Contains(out, "root") {
		t.Errorf("%s, %v", out, err)
	}
}
