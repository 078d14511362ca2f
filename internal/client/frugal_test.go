//go:build linux

package client

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"idletally/internal/core/plan"
	"idletally/internal/core/tree"
	"idletally/internal/testkit/frugal"
	"idletally/internal/wire"
)

// told is a service that answers every call with the same.
type told struct{ body string }

func (s told) RoundTrip(*http.Request) (*http.Response, error) {
	return &http.Response{
		StatusCode: http.StatusOK,
		Body:       io.NopCloser(strings.NewReader(s.body)),
		Header:     http.Header{},
	}, nil
}

// Whatever a service answers, an agent takes no more than 64 MiB besides the answer to read it.
func TestAnswersAreFrugal(t *testing.T) {
	work := func(a *Agent) error { _, err := a.Work(context.Background()); return err }
	question := func(a *Agent) error { _, err := a.Question(context.Background()); return err }
	watches := func(a *Agent) error { _, err := a.Watches(context.Background(), wire.WatchAsk{}); return err }
	chunk := func(a *Agent) error { _, err := a.Chunk(context.Background(), "w", 0); return err }
	missing := func(a *Agent) error {
		_, err := a.Missing(context.Background(), make([]tree.Hash, 10))
		return err
	}
	many := func(head, each, tail string, n int) func() string {
		return func() string { return head + strings.Repeat(each, n) + tail }
	}

	for name, c := range map[string]struct {
		body  func() string
		read  func(*Agent) error
		sound bool
	}{
		"a work's roots": {many(`{"id":"w","kind":"snapshot","roots":[`, `"",`, `""]}`, 500_000), work,
			true},
		"more roots than are taken": {many(`{"id":"w","kind":"snapshot","roots":[`, `"",`, `""]}`, 5_000_000), work,
			false},
		"a manifest as large as any": {many(`{"id":"w","kind":"run","manifest":"`, "AAAA", `"}`, maxAnswer/4-20),
			work, true},
		"more than an answer has": {many(`{"id":"w","kind":"run","manifest":"`, "AAAA", `"}`, maxAnswer/4), work,
			false},
		"a manifest of numbers": {many(`{"id":"w","manifest":[`, "0,", `0]}`, maxAnswer/2-20), work, false},
		"nesting":               {many(`{"id":"w","roots":`, "[", "", maxAnswer/2), work, false},
		"a question's steps": {many(`{"id":"q","kind":"files","steps":"`, "AAAA", `"}`, maxAnswer/4-20),
			question, true},
		"a question of escapes": {many(`{"id":"q","kind":"path","path":"`, `\u0041`, `"}`, maxAnswer/6-20),
			question, true},
		"members that nobody knows": {many(`{"id":"q"`, `,"x":0`, `}`, 5_000_000), question, false},
		"applications": {many(`{"version":"1","applications":[`, `{},`, `{}]}`, 250_000), watches,
			true},
		"applications and their roots": {many(`{"version":"1","applications":[`, `{"roots":["",""]},`, `{}]}`, 300_000),
			watches, false},
		"steps as large as any":      {many("", "x", "", plan.MaxChunk), chunk, true},
		"more steps":                 {many("", "x", "", plan.MaxChunk+1), chunk, false},
		"more nodes than were named": {many("", "x", "", 64<<20), missing, false},
	} {
		t.Run(name, func(t *testing.T) {
			a := &Agent{address: "https://service", http: &http.Client{Transport: told{c.body()}}}
			frugal.Run(t, 64<<20, func() {
				if err := c.read(a); (err == nil) != c.sound {
					panic(fmt.Sprintf("read with %v", err))
				}
			})
		})
	}
}
