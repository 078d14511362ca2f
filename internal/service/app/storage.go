package app

import (
	"context"
	"encoding/hex"
	"sync"

	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// Tend does what has to be done at intervals, until the context ends.
func (s *App) Tend(ctx context.Context) {
	var all sync.WaitGroup
	all.Go(func() { s.engine.KeepTime(ctx) })
	all.Go(func() { s.engine.Tend(ctx, s.config.Keep) })
	all.Go(func() { s.engine.KeepComparing(ctx) })
	all.Go(func() { s.pollDatabase(ctx) })
	all.Go(func() { s.watchHistory(ctx) })
	all.Go(func() { s.tellRefusals(ctx) })
	all.Wait()
}

// GetStorage returns how much is stored.
func (s *App) GetStorage(ctx context.Context, _ *struct{}) (*wire.Storage, error) {
	v, err := s.store.Storage(ctx)
	return &wire.Storage{Nodes: v.Nodes, Bytes: v.Bytes, Snapshots: v.Snapshots, Reports: v.Reports}, err
}

// CheckStorageRequest is the request of [App.CheckStorage].
type CheckStorageRequest struct {
	After string `query:"after" maxLength:"64" pattern:"^[0-9a-f]*$" doc:"Where to go on"`
}

// CheckStorage verifies what is stored, a part at a time: every node's hash, and that all it refers to is there.
func (s *App) CheckStorage(ctx context.Context, in *CheckStorageRequest) (*wire.StorageCheck, error) {
	from, err := hex.DecodeString(in.After)
	if err != nil {
		return nil, fault.Invalid("after: want the value that the part before gave as next")
	}

	out, next, err := s.engine.CheckStorage(ctx, from)
	out.Next = hex.EncodeToString(next)
	return &out, err
}

// TidyStorage lets go now what is not to be kept, and take away what nothing leads to.
func (s *App) TidyStorage(ctx context.Context, _ *struct{}) (*wire.Tidied, error) {
	out, err := s.engine.Tidy(ctx, s.config.Keep)
	if err == nil {
		s.audit(ctx, "storage tidied", "", itoa(out.Snapshots)+" snapshots")
	}
	return &out, err
}
