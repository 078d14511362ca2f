package http

import (
	"context"
	"encoding/hex"
	"sync"

	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// Tend does what has to be done now and then, until the context ends.
func (s *Server) Tend(ctx context.Context) {
	var all sync.WaitGroup
	all.Go(func() { s.desk.KeepTime(ctx) })
	all.Go(func() { s.desk.Tend(ctx, s.Keep) })
	all.Go(func() { s.desk.KeepComparing(ctx) })
	all.Go(func() { s.pollDatabase(ctx) })
	all.Go(func() { s.watchHistory(ctx) })
	all.Go(func() { s.tellRefusals(ctx) })
	all.Wait()
}

func (s *Server) storageRoutes() {
	add(s, op{"GET", "/storage", "get-storage", "How much is stored", wire.Viewer, 200},
		s.getStorage)

	add(s,
		op{
			"POST", "/storage/check", "check-storage",
			"Verify what is stored, a part at a time: every node's hash, and that all it refers to is there",
			wire.Admin, 200,
		},
		s.checkStorage)

	add(s,
		op{
			"POST", "/storage/tidy", "tidy-storage",
			"Let go now what is not to be kept, and take away what nothing leads to", wire.Admin, 200,
		},
		s.tidyStorage)
}

// getStorage serves: How much is stored.
func (s *Server) getStorage(ctx context.Context, _ *struct{}) (*body[wire.Storage], error) {
	v, err := s.Store.Storage(ctx)
	return &body[wire.Storage]{
		wire.Storage{Nodes: v.Nodes, Bytes: v.Bytes, Snapshots: v.Snapshots, Reports: v.Reports},
	}, err
}

// checkStorageRequest is what checkStorage takes.
type checkStorageRequest struct {
	After string `query:"after" maxLength:"64" pattern:"^[0-9a-f]*$" doc:"Where to go on"`
}

// checkStorage serves: Verify what is stored, a part at a time: every node's hash, and that all it refers to is there.
func (s *Server) checkStorage(ctx context.Context, in *checkStorageRequest) (*body[wire.StorageCheck], error) {
	from, err := hex.DecodeString(in.After)
	if err != nil {
		return nil, fault.Invalid("after: want the value that the part before gave as next")
	}

	out, next, err := s.desk.CheckStorage(ctx, from)
	out.Next = hex.EncodeToString(next)
	return &body[wire.StorageCheck]{out}, err
}

// tidyStorage serves: Let go now what is not to be kept, and take away what nothing leads to.
func (s *Server) tidyStorage(ctx context.Context, _ *struct{}) (*body[wire.Tidied], error) {
	out, err := s.desk.Tidy(ctx, s.Keep)
	if err == nil {
		s.audit(ctx, "storage tidied", "", itoa(out.Snapshots)+" snapshots")
	}
	return &body[wire.Tidied]{out}, err
}
