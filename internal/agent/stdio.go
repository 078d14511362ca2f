package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"idletally/internal/carry"
	"idletally/internal/core/pathname"
	"idletally/internal/wire"
)

// stdio is this program's own input and output.
type stdio struct {
	io.Reader
	io.Writer
}

func (stdio) Close() error { return errors.Join(os.Stdin.Close(), os.Stdout.Close()) }

// enrolWithin is how long enrolling a host through input and output may take, in all.
var enrolWithin = 2 * time.Minute

// EnrolStdio lets a program at the other end of input and output enrol the host. The roots are given here: they are
// the host's own decision, and the other program may only ask for what lies in them. A host that is enrolled stays so
// whoever calls, and nobody else works with the folder meanwhile.
func EnrolStdio(ctx context.Context, folder, version string, roots []string) error {
	ended := make(chan error, 1)
	go func() { ended <- enrolStdio(ctx, folder, version, roots) }()
	select {
	case err := <-ended:
		return err
	case <-time.After(enrolWithin): // what waits for its input goes with this process
		return fmt.Errorf("enrolling took more than %s: begin again", enrolWithin)
	}
}

func enrolStdio(ctx context.Context, folder, version string, roots []string) error {
	line, err := carry.Far(stdio{os.Stdin, os.Stdout})
	if err != nil {
		return err
	}
	var ask remoteJoin
	if err := line.Receive(&ask); err != nil {
		return err
	}

	j := Joining{Folder: folder, Service: ask.Service, Authority: ask.Authority, Roots: roots, Once: true}
	request, free, err := j.begin(ctx, raws(ask.Roots))
	if err != nil {
		return line.Send(remoteAnswer{Failed: err.Error()})
	}
	defer free()

	if err := line.Send(remoteAnswer{Request: request, Version: version}); err != nil {
		return err
	}
	var got wire.Enrolled
	if err := line.Receive(&got); err != nil {
		return err
	}

	done := remoteAnswer{}
	if err := j.Accept(got); err != nil {
		done.Failed = err.Error()
	}

	return line.Send(done)
}

// begin makes the request, and locks the agent's folder until free is called.
func (j *Joining) begin(ctx context.Context, asked []string) (request []byte, free func(), err error) {
	if request, err = j.Request(ctx); err != nil {
		return nil, nil, err
	}

	for _, r := range asked {
		if !slices.ContainsFunc(j.Roots, func(own string) bool { return pathname.Under(r, own) }) {
			return nil, nil, fmt.Errorf(
				"the root %s is asked for, and this host allows %s: its --root says so, where idletally agent "+
					"stdio is allowed",
				pathname.Escape(r), strings.Join(pathname.EscapeAll(j.Roots), ", "))
		}
	}

	if err := prepare(j.Folder); err != nil {
		return nil, nil, err
	}
	if free, err = lock(j.Folder); err != nil {
		return nil, nil, err
	}

	if _, there := os.Stat(filepath.Join(j.Folder, SettingsFile)); there == nil {
		free()
		return nil, nil, alreadyEnrolled(j.Folder)
	}

	return request, free, nil
}

// Through makes the agent's calls go by way of this program's own input and output. The returned context ends when
// these do.
func (a *Agent) Through(ctx context.Context) (context.Context, error) {
	signal.Ignore(syscall.SIGPIPE) // when the line breaks a run is to stop at its next step, not in the middle of one
	line, err := carry.Far(stdio{os.Stdin, os.Stdout})
	if err == nil {
		err = line.Open()
	}
	if err != nil {
		return nil, err
	}
	a.api.Through(line.Dial)
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		<-line.Done()
		cancel()
	}()
	return ctx, nil
}
