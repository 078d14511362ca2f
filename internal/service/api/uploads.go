package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"idletally/internal/service/app"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// upload is a body that is read as it comes. One that is larger than allowed is refused with the reason.
type upload struct{ io.Reader }

func (u upload) Read(b []byte) (int, error) {
	n, err := u.Reader.Read(b)
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		err = fault.TooLarge(fmt.Sprintf("a file of more than %d MiB is not taken", large.Limit>>20))
	}
	return n, err
}

// imported is a call that brings a snapshot's file.
type imported struct{ app.ImportRequest }

// Resolve keeps the body.
func (i *imported) Resolve(ctx huma.Context) []error {
	i.File = upload{ctx.BodyReader()}
	return nil
}

func (s *API) importSnapshot(ctx context.Context, in *imported) (*wire.Snapshot, error) {
	return s.App.ImportSnapshot(ctx, &in.ImportRequest)
}

// reported is a call that brings a run's report.
type reported struct{ app.ReportRequest }

// Resolve keeps the body.
func (r *reported) Resolve(ctx huma.Context) []error {
	r.From = upload{ctx.BodyReader()}
	return nil
}

// checkReport verifies a report, and returns the application of its run.
func (s *API) checkReport(ctx context.Context, in *reported) (string, error) {
	return s.App.CheckReport(ctx, &in.ReportRequest)
}

func (s *API) takeReport(ctx context.Context, in *reported) (*wire.Run, error) {
	return s.App.TakeReport(ctx, &in.ReportRequest)
}
