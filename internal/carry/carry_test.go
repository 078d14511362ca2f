package carry

import (
	"context"
	"encoding/binary"
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
		t.Run(what, func(t *testing.T) {
			if _, err := Near(struct {
				io.Reader
				io.WriteCloser
			}{strings.NewReader(says), nil}); !errors.Is(err, ErrSilent) {
				t.Errorf("%s: %v", what, err)
			}
		})
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
			resp, err := web.Post(fmt.Sprintf("http://elsewhere/%d", i), "",
				strings.NewReader(strings.Repeat("x", size)))
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
			// which have not all seen it yet: whoever calls tries such a one again, and this test does not
			web.CloseIdleConnections()
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

// A far end that opens streams without end, and closes them or not, ends its own line, whatever it sends
// besides, and takes little.
func TestStreamsWithoutEnd(t *testing.T) {
	t.Parallel()
	for what, frames := range map[string]func(stream uint32) []byte{
		"never closed": func(stream uint32) []byte { return frame(1, 1, stream) },
		"closed":       func(stream uint32) []byte { return append(frame(1, 1, stream), frame(1, 4, stream)...) },
		"reset":        func(stream uint32) []byte { return append(frame(1, 1, stream), frame(1, 8, stream)...) },
		"with data": func(stream uint32) []byte {
			return append(frame(1, 1, stream), append(frame(0, 0, stream, 1), 'x')...)
		},
	} {
		t.Run(what, func(t *testing.T) {
			a, b := net.Pipe()
			near := make(chan error, 1)
			go func() {
				l, err := Near(a)
				if err == nil {
					err = l.Serve(t.Context(), func(ctx context.Context) (net.Conn, error) {
						if what == "closed" || what == "reset" {
							return nil, errors.New("nothing is there")
						}
						<-ctx.Done()
						return nil, ctx.Err()
					})
				}

				a.Close()
				near <- err
			}()

			go func() { _, _ = io.Copy(io.Discard, b) }() // and takes whatever is answered
			if _, err := io.WriteString(b, greeting); err != nil {
				t.Fatal(err)
			}

			sent := 0
			for stream := uint32(1); ; stream += 2 {
				if _, err := b.Write(frames(stream)); err != nil {
					break
				}
				sent++
				if sent > 200_000 {
					t.Fatalf("%s: %d streams were opened, and the line goes on", what, sent)
				}
			}

			select {
			case err := <-near:
				if !errors.Is(err, ErrHostile) {
					t.Errorf("%s: %v after %d", what, err, sent)
				}
			case <-time.After(time.Minute):
				t.Errorf("%s: it does not end", what)
			}

			b.Close()
		})
	}
}

// frame is a frame of yamux: its kind, flags (1 opens, 4 closes, 8 resets), stream, and length.
func frame(kind byte, flags uint16, stream uint32, length ...uint32) []byte {
	b := []byte{0, kind}
	b = binary.BigEndian.AppendUint16(b, flags)
	b = binary.BigEndian.AppendUint32(b, stream)
	n := uint32(0)
	if len(length) > 0 {
		n = length[0]
	}
	return binary.BigEndian.AppendUint32(b, n)
}
