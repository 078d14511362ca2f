package app

import (
	"context"
	"crypto/ecdsa"
	"errors"
	"io"
	"os"
	"syscall"
	"time"

	"idletally/internal/archive"
	"idletally/internal/core/lifecycle"
	"idletally/internal/service/fault"
	"idletally/internal/wire"
)

// A ReportRequest is a report that is taken in. It is spooled, so that nothing of it counts before its signature was
// verified.
type ReportRequest struct {
	From io.Reader
	file *os.File
	head archive.ReportHead
	part Part
	done wire.RunDone
}

// CheckReport reads all of a report, and verifies it. It returns the application of its run.
func (s *App) CheckReport(ctx context.Context, r *ReportRequest) (string, error) {
	f, err := os.CreateTemp("", "idletally-report-")
	if err != nil {
		return "", err
	}

	r.file = f
	context.AfterFunc(ctx, func() { _ = f.Close() }) // nothing of it is wanted when the call is over
	if err := os.Remove(f.Name()); err != nil {      // it goes with its descriptor
		return "", err
	}

	switch _, err = io.Copy(f, r.From); {
	case fault.Is(err, fault.KindTooLarge):
		return "", err
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

	return r.part.plan.Application, err
}

func (s *App) readReport(
	ctx context.Context, r *ReportRequest, originals func(n int, chunk []byte) error,
) (wire.RunDone, error) {
	if _, err := r.file.Seek(0, io.SeekStart); err != nil {
		return wire.RunDone{}, err
	}

	return archive.ReadReport(r.file, func(h archive.ReportHead) (*ecdsa.PublicKey, int, error) {
		r.head = h
		c, err := s.authority.AgentOf(h.Certificate)
		if err != nil {
			return nil, 0, fault.Invalid("the report's certificate is none of this service's: " +
				err.Error())
		}

		host, err := s.store.Host(ctx, h.Host)
		if err != nil {
			return nil, 0, err
		}

		serial := c.SerialNumber.Text(16)
		if c.Subject.CommonName != h.Host || host.Certificate != serial && host.Renewed != serial {
			return nil, 0, fault.Invalid("the report's certificate is no longer valid for host " +
				h.Host + ": it was enrolled or admitted anew, or shut out")
		}

		key, ok := c.PublicKey.(*ecdsa.PublicKey)
		if !ok {
			return nil, 0, fault.Invalid("the report's certificate has a key of another kind")
		}
		if r.part, err = s.RunPart(ctx, h.Host, h.Work); err != nil {
			return nil, 0, err
		}

		switch {
		case r.part.work.Kind != wire.WorkRun || r.part.work.Subject != h.Run:
			return nil, 0, fault.Invalid("the report is of work that it does not fit")
		case r.part.work.State == lifecycle.WorkDone:
			return nil, 0, fault.Conflict("how run " + h.Run + " ended on " + h.Host + " is known already")
		}

		return key, r.part.Steps, nil
	}, originals)
}

// An OrderRequest names a run's order for a host.
type OrderRequest struct {
	ID   string `path:"id" maxLength:"16"`
	Host string `query:"host" required:"true" maxLength:"64"`
}

// AdmitHostRequest is the request of [App.AdmitHost].
type AdmitHostRequest struct {
	Name string `path:"name" maxLength:"64" pattern:"^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$"`
	Body wire.Admit
}

// AdmitHost lets a host in that nothing leads to, by a request that was carried; what it had before
// counts no more.
func (s *App) AdmitHost(ctx context.Context, in *AdmitHostRequest) (*wire.Enrolled, error) {
	cert, serial, err := s.authority.IssueOffline(in.Name, in.Body.Request)
	if err != nil {
		return nil, fault.Invalid(err.Error())
	}
	if err := s.store.AddHost(ctx, in.Name); err != nil {
		return nil, err
	}
	enrolment, err := s.store.SetCertificate(ctx, in.Name, s.certified(serial, in.Body.Version, true))
	if err != nil {
		return nil, err
	}

	s.audit(ctx, "host admitted", in.Name, "certificate "+serial)
	return &wire.Enrolled{
		Host:        in.Name,
		Enrolment:   enrolment,
		Certificate: cert,
		Authority:   s.authority.PEM,
		OrderKey:    s.OrderKey(),
		Succession:  s.authority.Succession,
	}, nil
}

// CarryRun has a run's order carried to a host without a network: its agent is given it by no other way.
func (s *App) CarryRun(ctx context.Context, in *OrderRequest) (*wire.Run, error) {
	h, err := s.store.Host(ctx, in.Host)
	if err != nil {
		return nil, err
	}
	if !h.Carried {
		return nil, fault.Conflict("host " + in.Host +
			" has an agent that calls: it takes the order by itself")
	}
	if err := s.store.CarryWork(ctx, in.Host, in.ID, time.Now().Add(orderLife)); err != nil {
		return nil, err
	}

	s.audit(ctx, "run carried out", in.ID, in.Host)
	return s.showRun(ctx, in.ID)
}

// WriteOrder returns a run's signed order for a host, as one file that can be carried there (see docs/formats.md).
func (s *App) WriteOrder(ctx context.Context, in *OrderRequest) (*Download, error) {
	work, err := s.store.RunWork(ctx, in.Host, in.ID)
	if err != nil {
		return nil, err
	}
	x, err := s.RunPart(ctx, in.Host, work.ID)
	if err != nil {
		return nil, err
	}
	w, err := s.describeWork(ctx, work)
	if err != nil {
		return nil, err
	}

	head := archive.OrderHead{Host: in.Host, Chunks: len(x.Chunks), Work: w}
	return &Download{
		Name: in.Host + "-" + in.ID + ".order",
		Type: "application/octet-stream",
		Write: func(ctx context.Context, w io.Writer) error {
			return archive.WriteOrder(w, head, func(n int) ([]byte, error) {
				return s.store.PlanChunk(ctx, x.plan.ID, in.Host, n)
			})
		},
	}, nil
}

// TakeReport takes in a run's report that was carried back from a host (application/octet-stream).
func (s *App) TakeReport(ctx context.Context, in *ReportRequest) (*wire.Run, error) {
	rows, err := s.resultsOf(ctx, in.part, in.done)
	if err != nil {
		return nil, err
	}
	if _, err := s.readReport(ctx, in, func(n int, chunk []byte) error {
		if err := in.part.fits(n, chunk); err != nil {
			return err
		}
		return s.store.PutOriginals(ctx, in.part.work.Subject, in.part.work.Host, n, chunk)
	}); err != nil {
		return nil, err
	}
	if err := s.endPart(ctx, in.part, in.done, rows); err != nil {
		return nil, err
	}
	s.audit(ctx, "run report taken in", in.part.work.Subject, in.part.work.Host)
	if err := s.store.Seen(ctx, in.part.work.Host); err != nil {
		return nil, err
	}

	return s.showRun(ctx, in.part.work.Subject)
}
