package identity

import (
	"os"
	"reflect"
	"strings"
	"testing"

	"idletally/internal/core/perm"
	_ "idletally/internal/core/schemes" // what a principal is called
)

func TestParse(t *testing.T) {
	d := Parse([]byte(
		"root:x:0:0:root:/root:/bin/bash\nwww-tickets:x:33:33::/srv:/usr/sbin/nologin\n# no "+
			"account\nbroken:x:abc:1::/:/bin/sh\npurser:x:1000:100:::/bin/sh"),
		[]byte("root:x:0:\nwww:x:33:purser\ncrew:x:100:purser,www-tickets\nodd:x:-1:\n"))
	want := []perm.Account{
		{ID: "u0", Name: "root", Groups: []perm.Principal{"g0"}},
		{ID: "u33", Name: "www-tickets", Groups: []perm.Principal{"g33", "g100"}, Service: true},
		{ID: "u1000", Name: "purser", Groups: []perm.Principal{"g100", "g33"}},
	}
	if !reflect.DeepEqual(d.Accounts, want) || len(d.Groups) != 3 {
		t.Errorf("accounts %+v, groups %+v", d.Accounts, d.Groups)
	}
	if id, ok := d.Group("crew"); !ok || id != "g100" || d.Name("u77") != "77" {
		t.Errorf("crew is %v, unknown is %q", id, d.Name("u77"))
	}
}

func TestReadThisHost(t *testing.T) {
	d, err := Read(t.Context())
	if err != nil || d.Name("u0") != "root" {
		t.Errorf("read: %v", err)
	}
}

// A directory service that cannot be listed knows accounts all the same: a getent of our own that
// lists one account and answers for another stands for it.
func TestReadNamed(t *testing.T) {
	dir := t.TempDir()
	script := `#!/bin/sh
case "$*" in
passwd) echo 'root:x:0:0::/root:/bin/sh' ;;
group) echo 'root:x:0:' ;;
"-- passwd pilot") echo 'pilot:x:7001:7100::/:/bin/sh' ;;
"-- initgroups pilot") echo 'pilot 7200 7300' ;;
"-- group 7200") echo 'harbour:x:7200:' ;;
*) exit 2 ;;
esac
`

	if err := os.WriteFile(dir+"/getent", []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}

	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	d, err := Read(t.Context(), "pilot", "nobody-at-all", "root")
	if err != nil {
		t.Fatal(err)
	}

	id, ok := d.User("pilot")
	if !ok || !reflect.DeepEqual(d.Account(id).Groups, []perm.Principal{"g7100", "g7200", "g7300"}) ||
		d.Name("g7200") != "harbour" {
		t.Errorf("pilot is %v %+v", id, d.Account(id))
	}

	if _, ok := d.User("nobody-at-all"); ok || len(d.Accounts) != 2 {
		t.Errorf("accounts %+v", d.Accounts)
	}
}

// What paths belong to is asked for where no list has it, all in one call; for a minute what is known counts.
func TestOwners(t *testing.T) {
	dir := t.TempDir()
	script := `#!/bin/sh
echo "$*" >>` + dir + `/calls
case "$*" in
"-- passwd 7001 7002") echo 'pilot:x:7001:7100::/:/bin/sh'; exit 2 ;;
"-- passwd pilot") echo 'pilot:x:7001:7100::/:/bin/sh' ;;
"-- initgroups pilot") echo 'pilot 7200' ;;
"-- group 7300") echo 'harbour:x:7300:' ;;
*) exit 2 ;;
esac
`

	if err := os.WriteFile(dir+"/getent", []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}

	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
	listed := Parse([]byte("root:x:0:0::/root:/bin/sh"), []byte("root:x:0:"))
	var o Owners

	for range 2 {
		d := o.Complete(t.Context(), listed, []perm.Principal{"g0", "g7300", "u0", "u7001", "u7002"})
		if d.Name("u7001") != "pilot" || d.Name("u7002") != "7002" || d.Name("g7300") != "harbour" ||
			!reflect.DeepEqual(d.Account("u7001").Groups, []perm.Principal{"g7100", "g7200"}) {
			t.Errorf("%+v", d)
		}
		if len(d.Accounts) != 2 || len(d.Groups) != 2 || len(listed.Accounts) != 1 {
			t.Errorf("%+v of %+v", d, listed)
		}
	}

	if d := o.Complete(t.Context(), listed, []perm.Principal{"g0", "u0", "u7002"}); d != listed {
		t.Error("another directory, and nothing was added")
	}

	calls, err := os.ReadFile(dir + "/calls")
	if err != nil || strings.Count(string(calls), "-- passwd 7001 7002\n") != 1 ||
		strings.Count(string(calls), "7300") != 1 {
		t.Errorf("asked %s, %v", calls, err)
	}
}

// What was read a moment ago counts, for the same names only.
func TestRecent(t *testing.T) {
	var r Recent
	a, err := r.Read(t.Context(), "root")
	if err != nil {
		t.Fatal(err)
	}
	if b, err := r.Read(t.Context(), "root"); err != nil || b != a {
		t.Errorf("read again at once: %v", err)
	}
	if b, err := r.Read(t.Context(), "daemon"); err != nil || b == a {
		t.Errorf("for another name: %v", err)
	}
	r.read = r.read.Add(-fresh)
	if b, err := r.Read(t.Context(), "daemon"); err != nil || b == a || r.read.IsZero() {
		t.Errorf("after a while: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("a:b:1:2:::"), []byte("g:x:1:a"))
	f.Fuzz(func(t *testing.T, p, g []byte) { Parse(p, g) })
}
