package app

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/service/auth"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

func isNotFound(err error) bool { return errors.Is(err, store.ErrNotFound) }
func isConflict(err error) bool { return errors.Is(err, store.ErrConflict) }

func wireHost(h store.Host) wire.Host {
	out := wire.Host{
		Name:     h.Name,
		Tags:     h.Tags(),
		Enrolled: h.Certificate != "",
		Carried:  h.Carried,
		Version:  h.Version,
		LastSeen: h.LastSeen,
		Twice:    h.Twice,
		Roster:   h.Roster,
	}

	out.System = h.System
	out.Up = h.UpSince
	out.Runs = h.RunsSince
	if err := wire.Speaks("the agent", h.Version, h.Protocol, h.Oldest); err != nil && out.Enrolled {
		out.Unfit = err.Error()
	}

	if h.Watching != nil {
		out.Watch = &wire.WatchState{Watching: *h.Watching}
		if h.WatchNotes != "" {
			out.Watch.Notes = strings.Split(h.WatchNotes, "\n")
		}
	}

	return out
}

// notifier wakes calls that wait: those of a host's agent when there is work or a question for it, and those that
// wait for an answer. What comes by way of another instance is found by asking the database: once for all that wait
// here (see pollDatabase), and by each call at intervals.
type notifier struct {
	mu      sync.Mutex
	waiting map[string]chan struct{}
}

func questionsOf(host string) string { return "questions of " + host }

func answerTo(question string) string { return "answer to " + question }

func newHub() *notifier { return &notifier{waiting: map[string]chan struct{}{}} }

func (h *notifier) wait(key string) <-chan struct{} {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.waiting[key] == nil {
		h.waiting[key] = make(chan struct{})
	}
	return h.waiting[key]
}

// idle says that nobody waits.
func (h *notifier) idle() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.waiting) == 0
}

// wakeAll wakes all whose key begins like that.
func (h *notifier) wakeAll(prefix string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for key, c := range h.waiting {
		if strings.HasPrefix(key, prefix) {
			close(c)
			delete(h.waiting, key)
		}
	}
}

func (h *notifier) wake(key string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if c := h.waiting[key]; c != nil {
		close(c)
		delete(h.waiting, key)
	}
}

// ListHostsRequest is the request of [App.ListHosts].
type ListHostsRequest struct {
	After   string         `query:"after" maxLength:"64"`
	Limit   int            `query:"limit" default:"100" minimum:"1" maximum:"1000"`
	Tag     string         `query:"tag" maxLength:"64" doc:"Only hosts with this tag"`
	Version string         `query:"version" maxLength:"64" doc:"Only hosts whose agents are of this version"`
	State   lifecycle.Host `query:"state" enum:"invited,carried,calling,silent" doc:"Only hosts without an agent yet, those without a network, those that call, or those not heard of for ten minutes"`
}

// ListHosts lists hosts.
func (s *App) ListHosts(ctx context.Context, in *ListHostsRequest) (*wire.Page[wire.Host], error) {
	of := store.HostFilter{Tag: in.Tag, Version: in.Version, State: in.State, Silent: time.Now().Add(-unseenAt)}
	rows, err := s.store.HostsOf(ctx, of, in.After, in.Limit)
	out := make([]wire.Host, len(rows))
	for i, h := range rows {
		out[i] = wireHost(h)
	}

	if err != nil {
		return nil, err
	}

	p, err := counted(ctx, in.After != "", page(out, in.Limit, func(h wire.Host) string { return h.Name }),
		func(ctx context.Context) (int64, error) {
			return s.store.CountHosts(ctx, of)
		})
	return &p, err
}

// GetHost shows a host.
func (s *App) GetHost(ctx context.Context, in *ByName) (*wire.Host, error) {
	h, err := s.store.Host(ctx, in.Name)
	return new(wireHost(h)), err
}

// InviteHost adds a host, or changes its tags, and makes a one-time enrolment code.
func (s *App) InviteHost(ctx context.Context, in *wire.NewHost) (*wire.Invitation, error) {
	if err := tagList(in.Tags); err != nil {
		return nil, err
	}
	code, expires := auth.Code(4), time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	if err := s.store.Invite(ctx, in.Name, in.Tags, auth.HashToken(code), expires); err != nil {
		return nil, err
	}

	s.notifier.wake(watchesOf(in.Name)) // its tags may be others
	s.audit(ctx, "host invited", in.Name, "")
	return &wire.Invitation{Host: in.Name, Code: code, Expires: expires}, nil
}
