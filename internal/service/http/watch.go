package http

import (
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"idletally/internal/wire"
)

// maxCurrent bounds of how many applications an agent says at once that they are as it told.
const maxCurrent = 200

// watchLists wakes agents when something was published.
const watchLists = "what to watch on "

func watchesOf(host string) string { return watchLists + host }

// giveWatches notes how an agent watches, and waits until it has to watch something else. What is
// published at another instance is found when the agent asks again.
func (s *Server) giveWatches(w http.ResponseWriter, r *http.Request) error {
	var in wire.WatchAsk
	if err := readJSON(w, r, 64<<10, &in); err != nil {
		return err
	}
	host := agentHost(r.Context())
	if err := s.Store.SetWatching(r.Context(), host, in.State); err != nil {
		return err
	}

	now := time.Now()
	for _, c := range in.Current[:min(len(in.Current), maxCurrent)] {
		if err := s.Store.SetCurrent(r.Context(), host, c, now.Add(-wire.Ago(c.Seconds))); err != nil {
			return err
		}
	}

	return s.wait(w, r, watchesOf(host), waitForWork, func() (any, error) {
		h, err := s.Store.Host(r.Context(), host)
		if err != nil {
			return nil, err
		}
		mark, err := s.desk.WatchMark(r.Context(), h)
		if err != nil || mark == in.Known {
			return nil, err
		}

		list, err := s.desk.WatchList(r.Context(), h)
		return wire.WatchList{Version: mark, Applications: list}, err
	})
}

// takeHeard takes a snapshot that nobody asked for.
func (s *Server) takeHeard(w http.ResponseWriter, r *http.Request) error {
	var in wire.Heard
	if err := readJSON(w, r, maxSnapshot, &in); err != nil {
		return err
	}
	h, err := s.Store.Host(r.Context(), agentHost(r.Context()))
	if err != nil {
		return err
	}
	if err := s.desk.TakeHeard(r.Context(), h, chi.URLParam(r, "application"), in); err != nil {
		return err
	}
	w.WriteHeader(http.StatusNoContent)
	return nil
}
