package http

import (
	"context"
	"crypto/ecdsa"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"syscall"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"idletally/internal/archive"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

const (
	reportPath = "/runs/report"
	maxReport  = 1 << 30
)

// large says how large the body of some calls may be that are read as they come; 0 is any other call.
func large(path string) int64 {
	switch path {
	case "/api/v1" + importPath:
		return maxImport
	case "/api/v1" + reportPath:
		return maxReport
	}
	return 0
}

// A report is spooled, so that nothing of it counts before its signature was seen.
type carriedReport struct {
	body io.Reader
	file *os.File
	head archive.ReportHead
	part
	done wire.RunDone
}

// Resolve keeps the body.
func (r *carriedReport) Resolve(ctx huma.Context) []error {
	r.body = ctx.BodyReader()
	return nil
}

// check reads all of a report, and proves it. It says of which application's run it is.
func (s *Server) checkReport(ctx context.Context, r *carriedReport) (string, error) {
	f, err := os.CreateTemp("", "idletally-report-")
	if err != nil {
		return "", err
	}

	r.file = f
	context.AfterFunc(ctx, func() { _ = f.Close() }) // nothing of it is wanted when the call is over
	if err := os.Remove(f.Name()); err != nil {      // it goes with its descriptor
		return "", err
	}

	var tooLarge *http.MaxBytesError
	switch _, err = io.Copy(f, r.body); {
	case errors.As(err, &tooLarge):
		return "", fault.TooLarge(
			fmt.Sprintf("a report of more than %d MiB is not taken", maxReport>>20))
	case errors.Is(err, syscall.ENOSPC):
		return "", fault.Full(
			"the service has no room for a report in its temporary folder: nothing was changed")
	case err != nil:
		return "", fault.Malformed("the report broke off: " + err.Error())
	default:
		r.done, err = s.readReport(ctx, r, func(int, []byte) error { return nil })
	}

	if errors.Is(err, archive.ErrNoReport) {
		err = fault.Invalid(err.Error())
	}

	return r.plan.Application, err
}

func (s *Server) readReport(
	ctx context.Context, r *carriedReport, originals func(n int, chunk []byte) error,
) (wire.RunDone, error) {
	if _, err := r.file.Seek(0, io.SeekStart); err != nil {
		return wire.RunDone{}, err
	}

	return archive.ReadReport(r.file, func(h archive.ReportHead) (*ecdsa.PublicKey, int, error) {
		r.head = h
		c, err := s.Authority.AgentOf(h.Certificate)
		if err != nil {
			return nil, 0, fault.Invalid("the report's certificate is none of this service's: " +
				err.Error())
		}

		host, err := s.Store.Host(ctx, h.Host)
		if err != nil {
			return nil, 0, err
		}

		serial := c.SerialNumber.Text(16)
		if c.Subject.CommonName != h.Host || host.Certificate != serial && host.Renewed != serial {
			return nil, 0, fault.Invalid("the report's certificate counts no more for host " +
				h.Host + ": it was enrolled or admitted anew, or shut out")
		}

		key, ok := c.PublicKey.(*ecdsa.PublicKey)
		if !ok {
			return nil, 0, fault.Invalid("the report's certificate has a key of another kind")
		}
		if r.part, err = s.runPart(ctx, h.Host, h.Work); err != nil {
			return nil, 0, err
		}

		switch {
		case r.work.Kind != wire.WorkRun || r.work.Subject != h.Run:
			return nil, 0, fault.Invalid("the report is of work that it does not fit")
		case r.work.State == "done":
			return nil, 0, fault.Conflict("how run " + h.Run + " ended on " + h.Host + " is known already")
		}

		return key, r.part.Steps, nil
	}, originals)
}

func (s *Server) carriedRoutes() {
	add(s,
		op{
			"POST", "/hosts/{name}/admit", "admit-host",
			"Let a host in that nothing leads to, by a request that was carried; what it had before counts no more",
			wire.Operator, 201,
		},
		s.admitHost)

	of := func(ctx context.Context, in *carriedOrder) (string, error) {
		return s.applicationOfRun(ctx, &byID{in.ID})
	}
	addFor(s,
		op{
			"POST", "/runs/{id}/carry", "carry-run",
			"Have a run's order carried to a host that nothing leads to: its agent is given it by no other way",
			wire.Operator, 200,
		},
		of, s.carryRun)

	addFor(s,
		op{
			"GET", "/runs/{id}/order", "write-order",
			"A run's signed order for a host, as one file that can be carried there (see docs/formats.md)",
			wire.Operator, 200,
		},
		of, s.writeOrder)

	addFor(s,
		op{
			"POST", reportPath, "take-report",
			"Take in a run's report that was carried back from a host (application/octet-stream)", wire.Operator, 200,
		},
		s.checkReport, s.takeReport)
}

type carriedOrder struct {
	ID   string `path:"id" maxLength:"16"`
	Host string `query:"host" required:"true" maxLength:"64"`
}

// admitHostRequest is what admitHost takes.
type admitHostRequest struct {
	Name string `path:"name" maxLength:"64" pattern:"^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$"`
	Body wire.Admit
}

// admitHost serves: Let a host in that nothing leads to, by a request that was carried; what it had before
// counts no more.
func (s *Server) admitHost(ctx context.Context, in *admitHostRequest) (*body[wire.Enrolled], error) {
	cert, serial, err := s.Authority.Carried(in.Name, in.Body.Request)
	if err != nil {
		return nil, fault.Invalid(err.Error())
	}
	if err := s.Store.AddHost(ctx, in.Name); err != nil {
		return nil, err
	}
	enrolment, err := s.Store.SetCertificate(ctx, in.Name, s.certified(serial, in.Body.Version, true))
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "host admitted", in.Name, "certificate "+serial)
	return &body[wire.Enrolled]{
		wire.Enrolled{
			Host:        in.Name,
			Enrolment:   enrolment,
			Certificate: cert,
			Authority:   s.Authority.PEM,
			OrderKey:    s.OrderKey(),
			Succession:  s.Authority.Succession,
		},
	}, nil
}

// carryRun serves: Have a run's order carried to a host that nothing leads to: its agent is given it by no other way.
func (s *Server) carryRun(ctx context.Context, in *carriedOrder) (*body[wire.Run], error) {
	h, err := s.Store.Host(ctx, in.Host)
	if err != nil {
		return nil, err
	}
	if !h.Carried {
		return nil, fault.Conflict("host " + in.Host +
			" has an agent that calls: it takes the order by itself")
	}
	if err := s.Store.CarryWork(ctx, in.Host, in.ID, time.Now().Add(orderLife)); err != nil {
		return nil, err
	}

	s.audit(ctx, "run carried out", in.ID, in.Host)
	return s.showRun(ctx, in.ID)
}

// writeOrder serves: A run's signed order for a host, as one file that can be carried there (see docs/formats.md).
func (s *Server) writeOrder(ctx context.Context, in *carriedOrder) (*huma.StreamResponse, error) {
	work, err := s.Store.RunWork(ctx, in.Host, in.ID)
	if err != nil {
		return nil, err
	}
	x, err := s.runPart(ctx, in.Host, work.ID)
	if err != nil {
		return nil, err
	}
	w, err := s.describeWork(ctx, work)
	if err != nil {
		return nil, err
	}

	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "application/octet-stream")
		hc.SetHeader("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-%s.order"`, in.Host, in.ID))
		if err := archive.WriteOrder(hc.BodyWriter(),
			archive.OrderHead{Host: in.Host, Chunks: len(x.Chunks), Work: w}, func(n int) ([]byte, error) {
				return s.Store.PlanChunk(ctx, x.plan.ID, in.Host, n)
			}); err != nil {
			s.Log.Error("order", "run", in.ID, "host", in.Host, "error", err)
			panic(http.ErrAbortHandler) // half a file must not look like a whole one
		}
	}}, nil
}

// takeReport serves: Take in a run's report that was carried back from a host (application/octet-stream).
func (s *Server) takeReport(ctx context.Context, in *carriedReport) (*body[wire.Run], error) {
	rows, err := s.resultsOf(ctx, in.part, in.done)
	if err != nil {
		return nil, err
	}
	if _, err := s.readReport(ctx, in, func(n int, chunk []byte) error {
		if err := in.fits(n, chunk); err != nil {
			return err
		}
		return s.Store.PutOriginals(ctx, in.work.Subject, in.work.Host, n, chunk)
	}); err != nil {
		return nil, err
	}
	if err := s.endPart(ctx, in.part, in.done, rows); err != nil {
		return nil, err
	}
	s.audit(ctx, "run report taken in", in.work.Subject, in.work.Host)
	if err := s.Store.Seen(ctx, in.work.Host); err != nil {
		return nil, err
	}

	return s.showRun(ctx, in.work.Subject)
}
