package ldap

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"idletally/internal/core/ntsd"
	"idletally/internal/host/fileserver"
)

// Of a group with members that lie elsewhere and may be groups nobody knows all who are in it, nor of those
// that it is in; accounts elsewhere change nothing, and who stands for everybody has everybody in the group.
func TestMembersElsewhere(t *testing.T) {
	d := start(t, func(w io.Writer) {
		top(w)
		add(w, "ou=here,"+base, "objectClass: organizationalUnit", "ou: here")
		add(w, "ou=there,"+base, "objectClass: organizationalUnit", "ou: there")
		at := func(ou, class, name string, rid uint32, members ...string) {
			lines := []string{"objectClass: " + class, "cn: " + name, "sAMAccountName: " + name, b64(sid(rid))}
			for _, m := range members {
				lines = append(lines, "member: "+m)
			}
			add(w, "cn="+name+",ou="+ou+","+base, lines...)
		}

		in := func(ou, name string) string { return "cn=" + name + ",ou=" + ou + "," + base }
		at("here", "user", "clerk", 1001)
		at("there", "user", "stranger", 1002)
		at("there", "group", "strangers", 1003)
		at("here", "group", "with a stranger", 2001, in("there", "stranger"), in("here", "clerk"))
		at("here", "group", "with strangers", 2002, in("there", "strangers"), in("here", "clerk"))
		at("here", "group", "above it", 2003, in("here", "with strangers"))
		at("here", "group", "with nobody knows whom", 2004, in("there", "not there"))
		add(w, "cn=S-1-5-11,ou=here,"+base, "objectClass: user", "cn: S-1-5-11", b64(ntsd.Authenticated))
		add(w, "cn=S-1-5-21-9-9-9-500,ou=here,"+base, "objectClass: user", "cn: S-1-5-21-9-9-9-500",
			b64(ntsd.NewSID(5, 21, 9, 9, 9, 500)))
		at("here", "group", "with everybody", 2005, in("here", "S-1-5-11"))
		at("here", "group", "with another domain's", 2006, in("here", "S-1-5-21-9-9-9-500"))
	})

	d.Base = "ou=here," + base
	all, err := d.Accounts(t.Context())
	if err != nil {
		t.Fatal(err)
	}

	partly := map[string]bool{}
	for _, a := range all {
		if a.Group {
			partly[a.Name] = a.Partly
		} else if got, want := fmt.Sprint(a.Groups), fmt.Sprint([]ntsd.SID{
			sid(2001), sid(2002), sid(2003), sid(2005),
		}); a.Name != "clerk" ||
			got != want {
			t.Errorf("%s is in %s, want %s", a.Name, got, want)
		}
	}

	for name, want := range map[string]bool{
		"with a stranger":        false,
		"with strangers":         true,
		"above it":               true,
		"with nobody knows whom": true,
		"with everybody":         false,
		"with another domain's":  true,
	} {
		t.Run(name, func(t *testing.T) {
			if got, ok := partly[name]; !ok || got != want {
				t.Errorf("%s: partly known %t, want %t", name, got, want)
			}
		})
	}
}

// However many agents of a process ask, a directory is asked once in a while; one that does not answer any
// more is as it was.
func TestKnownToAll(t *testing.T) {
	d := start(t, crew)
	shared = tellings{}
	first, _, err := d.Known(t.Context())
	if err != nil || len(first) != 1505 {
		t.Fatalf("%d, %v", len(first), err)
	}

	same := *d
	if again, _, err := same.Known(t.Context()); err != nil || &again[0] != &first[0] {
		t.Errorf("another agent has its own list, %v", err)
	}

	other := *d
	other.Password = "high tide"
	if all, _, err := other.Known(t.Context()); err == nil || all != nil {
		t.Errorf("somebody with a wrong password is told %d, %v", len(all), err)
	}

	asked, fault := atomic.Int32{}, error(nil)
	tell := newTelling()
	ask := func(context.Context) ([]fileserver.Account, error) {
		asked.Add(1)
		time.Sleep(50 * time.Millisecond) // the others come meanwhile
		return []fileserver.Account{{Name: "purser"}}, fault
	}
	var agents sync.WaitGroup

	for range 50 {
		agents.Go(func() {
			if all, _, err := tell.known(t.Context(), ask); err != nil || len(all) != 1 {
				t.Errorf("%v, %v", all, err)
			}
		})
	}

	agents.Wait()
	if asked.Load() != 1 {
		t.Errorf("it was asked %d times", asked.Load())
	}

	tell.at, fault = time.Now().Add(-time.Hour), errors.New("away")
	if all, age, err := tell.known(t.Context(), ask); len(all) != 1 || !errors.Is(err, fault) || age < time.Hour {
		t.Errorf("away: %v, %s, %v", all, age, err)
	}

	hangs := make(chan bool)
	enough := make(chan bool)
	over := make(chan bool)
	go func() {
		defer close(over)
		_, _, _ = tell.known(context.WithoutCancel(t.Context()), func(context.Context) ([]fileserver.Account, error) {
			close(hangs)
			<-enough
			return nil, fault
		})
	}()

	<-hangs
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()

	if _, _, err := tell.known(ctx, ask); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("while another one is not answered: %v", err)
	}

	close(enough)
	<-over
	tell.at = time.Now().Add(-25 * time.Hour)
	if all, _, err := tell.known(t.Context(), ask); all != nil || !errors.Is(err, fault) {
		t.Errorf("away for long: %v, %v", all, err)
	}
}

// A large domain is read whole. IDLETALLY_DIRECTORY says of how many accounts: half of them are in one group.
func TestLargeDirectory(t *testing.T) {
	people := 100_000
	if text := os.Getenv("IDLETALLY_DIRECTORY"); text != "" {
		var err error
		if people, err = strconv.Atoi(text); err != nil {
			t.Fatal(err)
		}
	}

	d := start(t, func(w io.Writer) {
		top(w)
		members := []string{}
		for i := range people {
			name := fmt.Sprintf("hand-%06d", i)
			addPerson(w, name, uint32(100_000+i))
			if i%2 == 0 {
				members = append(members, name)
			}
		}

		addGroup(w, "half", 2000, members...)
		addGroup(w, "all of those", 2001, "half")
		for g := range 200 { // as many again, in small groups
			addGroup(w, fmt.Sprintf("watch-%03d", g), uint32(3000+g),
				members[g*len(members)/200:(g+1)*len(members)/200]...)
		}
	})

	begun := time.Now()
	all, err := d.Accounts(t.Context())
	if err != nil || len(all) != people+202 {
		t.Fatalf("%d accounts and groups, %v", len(all), err)
	}

	t.Logf("%d accounts and groups in %s", len(all), time.Since(begun).Round(time.Millisecond))
	for _, a := range all {
		n, _ := strconv.Atoi(strings.TrimPrefix(a.Name, "hand-"))
		if want := 3 * ((n + 1) % 2); !a.Group && len(a.Groups) != want {
			t.Fatalf("%s is in %d groups, want %d", a.Name, len(a.Groups), want)
		}
	}
}

// A directory that answers slowly, again and again, is not waited for without end.
func TestSlowDirectory(t *testing.T) {
	d := start(t, crew)
	defer func(was time.Duration) { readIn = was }(readIn)
	readIn = time.Millisecond
	if all, err := d.Accounts(t.Context()); !errors.Is(err, errSlow) || all != nil {
		t.Errorf("%d, %v", len(all), err)
	}
}
