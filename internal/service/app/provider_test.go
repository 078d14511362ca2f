package app

import (
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// A provider that does not answer is asked once for all who wait, and left alone for a while.
func TestProviderThatIsDown(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()

	var asked atomic.Int32
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}

			asked.Add(1)
			defer c.Close() // with the listener: it says nothing
		}
	}()

	p := newProvider(Provider{Issuer: "https://" + l.Addr().String()})
	p.http.Timeout = time.Second
	var all sync.WaitGroup

	for range 20 {
		all.Go(func() {
			if _, _, err := p.look(t.Context()); err == nil {
				t.Error("it answered")
			}
		})
	}

	all.Wait()
	if n := asked.Load(); n != 1 {
		t.Errorf("it was asked %d times", n)
	}

	p.until = time.Now() // a while has passed
	if _, _, err := p.look(t.Context()); err == nil || asked.Load() != 2 {
		t.Errorf("it was asked %d times in all, %v", asked.Load(), err)
	}
}
