// Package carry joins two programs by one standard input and output, such as those of a command that was
// started through SSH: the far one, which may have no network of its own, reaches through it what the near
// one lets it.
//
// The far one says that it is there, the near one answers with one message, and from then on either they go
// on with single messages, or connections are carried, many at once.
package carry

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"github.com/hashicorp/yamux"

	"idletally/internal/core/untrusted"
)

// greeting is the far one's first line. Anything a login shell prints before it is ignored.
const greeting = "idletally carries 1\n"

const (
	maxNoise   = 64 << 10 // before the greeting
	maxMessage = 1 << 20
	maxStreams = 64        // at once
	maxOpened  = 1200      // streams in a minute
	maxWindow  = 512 << 10 // bytes of one stream that the other end may send before they are taken
	alive      = 15 * time.Second
	patience   = 30 * time.Second
	// until a stream that is closed here is forgotten, whether the other end closes it or not
	parting = 5 * time.Second
)

// ErrHostile says that the other end did what no program of ours does. The line is closed.
var ErrHostile = errors.New("the program at the other end opens connections without end")

// A Line is one end.
type Line struct {
	in  *bufio.Reader
	rwc io.ReadWriteCloser
	mux *yamux.Session
}

// ErrSilent says that the other end is not the program that was expected.
var ErrSilent = errors.New("the program at the other end did not answer as expected")

// Near waits for the far one.
func Near(rwc io.ReadWriteCloser) (*Line, error) {
	l := &Line{in: bufio.NewReaderSize(rwc, maxMessage), rwc: rwc}
	for read := 0; read < maxNoise; {
		line, err := l.in.ReadSlice('\n')
		read += len(line)
		if bytes.HasSuffix(line, []byte(greeting)) {
			return l, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrSilent, err)
		}
	}
	return nil, ErrSilent
}

// Far tells the near one that this one is there.
func Far(rwc io.ReadWriteCloser) (*Line, error) {
	if _, err := io.WriteString(rwc, greeting); err != nil {
		return nil, err
	}
	return &Line{in: bufio.NewReaderSize(rwc, maxMessage), rwc: rwc}, nil
}

// Send sends a message.
func (l *Line) Send(message any) error {
	b, err := json.Marshal(message)
	if err == nil && len(b) >= maxMessage {
		err = fmt.Errorf("a message of %d bytes is too long", len(b))
	}
	if err != nil {
		return err
	}
	_, err = l.rwc.Write(append(b, '\n'))
	return err
}

// Receive waits for a message.
func (l *Line) Receive(message any) error {
	b, err := l.in.ReadSlice('\n')
	if err != nil {
		return fmt.Errorf("%w: %w", ErrSilent, err)
	}
	return untrusted.JSON(b, maxElements, message)
}

// maxElements is far more than any message has: roots, and what a certificate comes with.
const maxElements = 10_000

// rest is the line after the messages.
type rest struct{ l *Line }

func (r rest) Read(b []byte) (int, error)  { return r.l.in.Read(b) }
func (r rest) Write(b []byte) (int, error) { return r.l.rwc.Write(b) }
func (r rest) Close() error                { return r.l.rwc.Close() }

// Close ends the line, and all that it carries.
func (l *Line) Close() error {
	if l.mux != nil {
		return l.mux.Close()
	}
	return l.rwc.Close()
}

func settings() *yamux.Config {
	c := yamux.DefaultConfig()
	c.KeepAliveInterval, c.ConnectionWriteTimeout = alive, patience
	c.MaxStreamWindowSize = maxWindow
	c.StreamCloseTimeout = parting
	c.AcceptBacklog = maxStreams
	c.LogOutput = io.Discard
	return c
}

// Serve carries the far one's connections to where dial leads, until the line or the context ends.
func (l *Line) Serve(ctx context.Context, dial func(context.Context) (net.Conn, error)) (err error) {
	if l.mux, err = yamux.Server(rest{l}, settings()); err != nil {
		return err
	}

	var all sync.WaitGroup
	defer all.Wait() // when the line is closed and nobody dials any more

	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer l.mux.Close()
	defer context.AfterFunc(ctx, func() { l.mux.Close() })()

	free := make(chan struct{}, maxStreams)
	opened, since := 0, time.Now()
	for {
		stream, err := l.mux.AcceptStream()
		if err != nil {
			return errors.Join(ctx.Err(), err)
		}

		opened++
		if time.Since(since) > time.Minute {
			opened, since = 0, time.Now()
		}

		if opened > maxOpened {
			return ErrHostile
		}

		// A sound far one never has so many, including those that are being closed.
		if l.mux.NumStreams() > 2*maxStreams {
			return ErrHostile
		}

		select {
		case free <- struct{}{}:
		default:
			return ErrHostile
		}

		all.Go(func() {
			defer func() { <-free }()
			defer stream.Close()

			within, cancel := context.WithTimeout(ctx, patience)
			out, err := dial(within)
			cancel()
			if err != nil { // the far one sees its connection end, and tries again
				return
			}
			defer out.Close()

			join(stream, out)
		})
	}
}

// join carries both ways until either ends.
func join(a, b net.Conn) {
	done := make(chan struct{}, 2)
	for _, way := range [][2]net.Conn{{a, b}, {b, a}} {
		go func() {
			_, _ = io.Copy(way[0], way[1]) // how it ended the two that talk see for themselves
			done <- struct{}{}
		}()
	}
	<-done
	a.Close()
	b.Close()
	<-done
}

// Open lets the far one's connections be carried from now on.
func (l *Line) Open() (err error) {
	l.mux, err = yamux.Client(rest{l}, settings())
	return err
}

// Dial returns a connection to where the near one leads, whatever address is asked for.
func (l *Line) Dial(context.Context, string, string) (net.Conn, error) { return l.mux.Open() }

// Done ends when the line does.
func (l *Line) Done() <-chan struct{} { return l.mux.CloseChan() }
