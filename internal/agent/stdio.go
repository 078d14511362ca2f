package agent

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

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

// EnrolStdio has a program that stands at this one's input and output enrol the host. A host that is enrolled stays so, whoever comes.
func EnrolStdio(ctx context.Context, folder, version string) error {
	line, err := carry.Far(stdio{os.Stdin, os.Stdout})
	if err != nil {
		return err
	}
	var ask remoteJoin
	if err := line.Receive(&ask); err != nil {
		return err
	}
	j := Joining{Folder: folder, Service: ask.Service, Authority: ask.Authority, Roots: raws(ask.Roots)}
	request, err := j.Request(ctx)
	if _, there := os.Stat(filepath.Join(folder, SettingsFile)); there == nil {
		err = fmt.Errorf("it is enrolled already: to enrol it anew, take %s away there first", filepath.Join(pathname.Escape(folder), SettingsFile))
	}
	if err != nil {
		return line.Send(remoteAnswer{Failed: err.Error()})
	}
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

// Through has the agent make its calls by way of this program's own input and output. The context that comes back ends when these do.
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
