package identity

import (
	"reflect"
	"testing"

	"idletally/internal/core/perm"
)

func TestParse(t *testing.T) {
	d := Parse([]byte("root:x:0:0:root:/root:/bin/bash\nwww-tickets:x:33:33::/srv:/usr/sbin/nologin\n# no account\nbroken:x:abc:1::/:/bin/sh\npurser:x:1000:100:::/bin/sh"),
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

func FuzzParse(f *testing.F) {
	f.Add([]byte("a:b:1:2:::"), []byte("g:x:1:a"))
	f.Fuzz(func(t *testing.T, p, g []byte) { Parse(p, g) })
}
