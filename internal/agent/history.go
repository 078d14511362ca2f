package agent

import (
	"context"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"idletally/internal/atomicfile"
	"idletally/internal/core/chain"
)

func (a *Agent) historyFile() string { return filepath.Join(a.Folder, "history.json") }

// compareHistory stores the newest end of the service's history that this host was shown, and shows it to the
// service: whatever the service, or somebody who writes to its database, later makes of the history has to fit it.
func (a *Agent) compareHistory(ctx context.Context) error {
	if len(a.orderKey()) != ed25519.PublicKeySize {
		return nil // this host takes no orders, and knows no key
	}
	seen, err := a.seenHistory()
	if err != nil {
		return err
	}
	now, err := a.api.History(ctx, seen)
	if err != nil {
		return err
	}

	switch {
	case !now.SignedBy(a.orderKey()):
		a.Log.Error("what the service says of its history is not signed by the key that this host knows", "line",
			now.Seq)
		return nil
	case now.Seq < seen.Seq || now.Seq == seen.Seq && now.Hash != seen.Hash:
		a.Log.Error(
			"the service's history is another one than this host was shown before: it was cut, set back, "+
				"or written anew",
			"line", now.Seq, "hash", now.Hash.String(), "shown_line", seen.Seq, "shown_hash", seen.Hash.String())
		return nil
	case now.Seq == 0:
		return nil
	}

	b, err := json.Marshal(now)
	if err != nil {
		return err
	}

	return atomicfile.Write(a.historyFile(), b)
}

// seenHistory returns the end that was stored; that of an empty history if there is none.
func (a *Agent) seenHistory() (h chain.Head, err error) {
	b, err := os.ReadFile(a.historyFile())
	if errors.Is(err, fs.ErrNotExist) {
		return h, nil
	}
	if err == nil {
		err = json.Unmarshal(b, &h)
	}
	if err != nil {
		return h, fmt.Errorf("what was kept of the history: %w", err)
	}
	return h, nil
}
