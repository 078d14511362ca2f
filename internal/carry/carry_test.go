package carry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"
)

// pair is a near and a far end, and what is said before the far one is there.
func pair(t *testing.T, noise string) (near, far *Line) {
	t.Helper()
	a, b := net.Pipe()
	t.Cleanup(func() { a.Close(); b.Close() })
	done := make(chan error, 1)
	go func() {
		_, err := io.WriteString(b, noise)
		if err == nil {
			far, err = Far(b)
		}
		done <- err
	}()
	near, err := Near(a)
	if err = errors.Join(err, <-done); err != nil {
		t.Fatal(err)
	}
	return near, far
}

func TestMessages(t *testing.T) {
	t.Parallel()
	near, far := pair(t, "Welcome to the north slip.\nLast login: never\n$ ")
	go func() { _ = near.Send(map[string]string{"ask": "wind\nand tide"}) }()
	var got map[string]string
	if err := far.Receive(&got); err != nil || got["ask"] != "wind\nand tide" {
		t.Errorf("%v, %v", got, err)
	}
	if err := near.Send(strings.Repeat("x", maxMessage)); err == nil {
		t.Error("a message without end is sent")
	}
}

// A far end that is no such program, or an ill-minded one, is told apart soon.
func TestSilent(t *testing.T) {
	t.Parallel()
	for what, says := range map[string]string{
		"nothing":         "",
		"an error":        "sh: 1: idletally: not found\n",
		"lines for ever":  strings.Repeat("noise\n", maxNoise),
		"one endless one": strings.Repeat("x", 2*maxMessage),
	} {
		if _, err := Near(struct {
			io.Reader
			io.WriteCloser
		}{strings.NewReader(says), nil}); !errors.Is(err, ErrSilent) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// Many calls at once go over one line, and go on when what is behind it begins anew.
func TestCarried(t *testing.T) {
	t.Parallel()
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := io.Copy(io.Discard, r.Body)
		fmt.Fprintf(w, "%s %d", r.URL.Path, n)
	}))
	defer service.Close()
	near, far := pair(t, "")
	ctx, cancel := context.WithCancel(t.Context())
	served := make(chan error, 1)
	go func() {
		served <- near.Serve(ctx, func(ctx context.Context) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "tcp", service.Listener.Addr().String())
		})
	}()
	if err := far.Open(); err != nil {
		t.Fatal(err)
	}
	web := &http.Client{Transport: &http.Transport{DialContext: far.Dial}, Timeout: 20 * time.Second}
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() {
			size := i * 100_000
			resp, err := web.Post(fmt.Sprintf("http://elsewhere/%d", i), "", strings.NewReader(strings.Repeat("x", size)))
			if err != nil {
				t.Error(err)
				return
			}
			defer resp.Body.Close()
			if b, err := io.ReadAll(resp.Body); err != nil || string(b) != fmt.Sprintf("/%d %d", i, size) {
				t.Errorf("%s, %v", b, err)
			}
		})
		if i == 20 {
			all.Wait()
			service.CloseClientConnections()
			web.CloseIdleConnections() // which have not all seen it yet: whoever calls tries such a one again, and this test does not
		}
	}
	all.Wait()
	cancel()
	if err := <-served; !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	select {
	case <-far.Done():
	case <-time.After(10 * time.Second):
		t.Error("the far end does not see the end of the line")
	}
	if _, err := web.Get("http://elsewhere/late"); err == nil {
		t.Error("a call after the end is answered")
	}
}
