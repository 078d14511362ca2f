package ldap

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"sync"
	"time"

	"idletally/internal/host/fileserver"
)

const (
	fresh    = 5 * time.Minute // what a directory told counts so long without asking again
	stale    = 24 * time.Hour  // and so long where it does not answer
	mostKept = 20              // directories of which it is kept
)

// A telling is the last answer of a directory. Many agents of one process may work for file servers of one domain: it
// is asked once for all of them.
type telling struct {
	asking chan struct{} // has room for who asks
	mu     sync.Mutex
	all    []fileserver.Account // which nobody changes
	at     time.Time
}

func newTelling() *telling { return &telling{asking: make(chan struct{}, 1)} }

func (t *telling) last() (all []fileserver.Account, age time.Duration) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.all, time.Since(t.at)
}

// tellings are the answers of directories, by how they are asked: whoever cannot sign in there does not get what
// others were told.
type tellings struct {
	mu sync.Mutex
	of map[[sha256.Size]byte]*telling
}

var shared tellings

func (s *tellings) get(d *Directory) (*telling, error) {
	asked := *d
	asked.Sealed = nil
	b, err := json.Marshal(struct {
		Directory
		Password string
	}{asked, d.Password})
	if err != nil {
		return nil, err
	}

	key := sha256.Sum256(b)
	s.mu.Lock()
	defer s.mu.Unlock()

	if s.of == nil || s.of[key] == nil && len(s.of) >= mostKept {
		s.of = map[[sha256.Size]byte]*telling{}
	}

	if s.of[key] == nil {
		s.of[key] = newTelling()
	}

	return s.of[key], nil
}

// Known is as Accounts, but returns the answer of the last minutes, to any agent of this process, without asking
// again. If the directory does not answer it returns the former answer, its age, and the error. The list is shared:
// nobody may change it.
func (d *Directory) Known(ctx context.Context) (all []fileserver.Account, age time.Duration, err error) {
	t, err := shared.get(d)
	if err != nil {
		return nil, 0, err
	}
	return t.known(ctx, d.Accounts)
}

func (t *telling) known(
	ctx context.Context, ask func(context.Context) ([]fileserver.Account, error),
) ([]fileserver.Account, time.Duration, error) {
	if all, age := t.last(); all != nil && age < fresh {
		return all, age, nil
	}

	select { // whoever waits no longer is not held up by who asks
	case t.asking <- struct{}{}:
	case <-ctx.Done():
		return nil, 0, ctx.Err()
	}
	defer func() { <-t.asking }()

	all, age := t.last()
	if all != nil && age < fresh { // somebody else asked meanwhile
		return all, age, nil
	}

	told, err := ask(ctx)
	switch {
	case err == nil:
		t.mu.Lock()
		defer t.mu.Unlock()
		t.all, t.at = told, time.Now()
		return told, 0, nil
	case all != nil && age < stale && ctx.Err() == nil:
		return all, age, err
	}

	return nil, 0, err
}
