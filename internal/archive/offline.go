package archive

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"idletally/internal/core/plan"
	"idletally/internal/core/untrusted"
	"idletally/internal/wire"
)

// What is carried to a host without a network, and back from it. A request goes to the service and an
// admission comes back: single values in JSON. Then an order goes to the host for each run, and a report
// comes back: files of the same shape as snapshots.

// A Request asks a service to let a host in.
type Request struct {
	Format  string `json:"format"`
	Request []byte `json:"request"` // PKCS #10, DER
	Version string `json:"version"`
}

// An Admission lets it in.
type Admission struct {
	Format string `json:"format"`
	wire.Enrolled
}

// What their format says.
const (
	RequestFormat   = "idletally request 1"
	AdmissionFormat = "idletally admission 1"
)

const (
	orderMark  = "idletally order 1\n"
	reportMark = "idletally report 1\n"
	maxOrder   = 8 << 30
	maxDone    = 64 << 20
)

// ErrNoOrder and ErrNoReport say that a file is none of these, or a damaged one.
var (
	ErrNoOrder  = errors.New("this is no sound order file")
	ErrNoReport = errors.New("this is no sound report file")
)

// OrderHead is the work that a run is for a host; its chunks follow, in their order.
type OrderHead struct {
	Host   string    `json:"host"`
	Chunks int       `json:"chunks"`
	Work   wire.Work `json:"work"`
}

// WriteOrder writes an order.
func WriteOrder(w io.Writer, h OrderHead, chunk func(n int) ([]byte, error)) error {
	out, err := begin(w, orderMark)
	if err != nil {
		return err
	}
	head, err := json.Marshal(h)
	if err == nil {
		err = out.piece(head)
	}
	for n := 0; n < h.Chunks && err == nil; n++ {
		var b []byte
		if b, err = chunk(n); err == nil {
			err = out.piece(b)
		}
	}
	return errors.Join(err, out.z.Close())
}

// An Order is read from its file, chunk after chunk.
type Order struct {
	OrderHead
	in   *reader
	next int
}

// OpenOrder reads an order's head. The caller has to verify who signed it.
func OpenOrder(r io.Reader) (*Order, error) {
	in, err := open(r, orderMark, maxOrder)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoOrder, err)
	}

	o := &Order{in: in}
	b, err := in.piece(MaxHead)
	if err == nil {
		err = untrusted.JSON(b, untrusted.MaxElements, &o.OrderHead)
	}

	if err == nil && (o.Work.Kind != wire.WorkRun || o.Chunks < 0) {
		err = errors.New("it holds no work that could be done")
	}

	if err != nil {
		o.Close()
		return nil, fmt.Errorf("%w: its head: %w", ErrNoOrder, err)
	}

	return o, nil
}

// Chunk reads on to one of the chunks; those before it can no longer be read.
func (o *Order) Chunk(n int) ([]byte, error) {
	if n < o.next {
		return nil, fmt.Errorf("chunk %d was read already", n)
	}
	for {
		b, err := o.in.piece(plan.MaxChunk)
		if err != nil {
			return nil, fmt.Errorf("%w: chunk %d: %w", ErrNoOrder, o.next, err)
		}
		o.next++
		if o.next == n+1 {
			return b, nil
		}
	}
}

// Close releases what reading took.
func (o *Order) Close() { o.in.z.Close() }

// ReportHead says whose a report is. The certificate is the host's own, and proves the report.
type ReportHead struct {
	Host        string    `json:"host"`
	Work        string    `json:"work"`
	Run         string    `json:"run"`
	Made        time.Time `json:"made"`
	Certificate []byte    `json:"certificate"` // PEM
}

// The parts of a report after its head begin with a byte that says what they are.
type reportPart byte

const (
	partOriginals reportPart = 'o' // of the next chunk
	partDone      reportPart = 'd'
	partSignature reportPart = 's' // ECDSA, ASN.1, over the SHA-256 of all before
)

// A Report is written while a run goes on.
type Report struct{ out *writer }

// BeginReport writes a report's head.
func BeginReport(w io.Writer, h ReportHead) (*Report, error) {
	out, err := begin(w, reportMark)
	if err != nil {
		return nil, err
	}
	b, err := json.Marshal(h)
	if err == nil {
		err = out.piece(b)
	}
	return &Report{out}, err
}

// Originals adds what was found of the next chunk.
func (r *Report) Originals(chunk []byte) error {
	return r.out.piece(append([]byte{byte(partOriginals)}, chunk...))
}

// End adds how the run ended, and signs the whole.
func (r *Report) End(d wire.RunDone, key crypto.Signer) error {
	b, err := json.Marshal(d)
	if err == nil {
		err = r.out.piece(append([]byte{byte(partDone)}, b...))
	}
	if err != nil {
		return err
	}
	signature, err := key.Sign(rand.Reader, r.out.sum.Sum(nil), crypto.SHA256)
	if err == nil {
		err = r.out.piece(append([]byte{byte(partSignature)}, signature...))
	}
	return errors.Join(err, r.out.z.Close())
}

// A Judge says which key has to have signed a report, and how many steps the report can have.
type Judge func(ReportHead) (key *ecdsa.PublicKey, steps int, err error)

// ReadReport reads a report twice: first for its signature alone, so that nothing is decoded that its host did not
// sign.
func ReadReport(r io.ReadSeeker, judge Judge, originals func(n int, chunk []byte) error) (d wire.RunDone, err error) {
	steps := 0
	signedBy := func(h ReportHead) (key *ecdsa.PublicKey, err error) {
		key, steps, err = judge(h)
		return key, err
	}
	if err := readReport(r, signedBy, func(reportPart, int, []byte) error { return nil }); err != nil {
		return d, err
	}
	if _, err := r.Seek(0, io.SeekStart); err != nil {
		return d, err
	}

	return d, readReport(r, signedBy, func(kind reportPart, n int, b []byte) error {
		if kind == partOriginals {
			return originals(n, b)
		}

		// Each result is an object of three members in a list.
		if err := untrusted.JSON(b, 100+2*steps*4, &d); err != nil {
			return fmt.Errorf("%w: how the run ended: %w", ErrNoReport, err)
		}
		return nil
	})
}

// readReport hands out the parts of a report between its head and its signature, and verifies the signature last.
func readReport(
	r io.Reader, signedBy func(ReportHead) (*ecdsa.PublicKey, error),
	part func(kind reportPart, n int, b []byte) error,
) error {
	bad := func(format string, args ...any) error {
		return fmt.Errorf("%w: %w", ErrNoReport, fmt.Errorf(format, args...))
	}
	in, err := open(r, reportMark, maxOrder)
	if err != nil {
		return bad("%w", err)
	}
	defer in.z.Close()

	var h ReportHead
	b, err := in.piece(1 << 20)
	if err == nil {
		err = untrusted.JSON(b, 100, &h)
	}

	if err != nil {
		return bad("its head: %w", err)
	}
	key, err := signedBy(h)
	if err != nil {
		return err
	}

	ended := false
	for n := 0; ; {
		sum := in.sum.Sum(nil)
		b, err := in.piece(max(plan.MaxChunk, maxDone) + 1)
		if err != nil || len(b) == 0 {
			return bad("part %d: it is not there: %w", n, err)
		}

		kind, b := reportPart(b[0]), b[1:]
		switch {
		case kind == partOriginals && !ended:
			if err := part(kind, n, b); err != nil {
				return err
			}
			n++
		case kind == partDone && !ended:
			if err := part(kind, n, b); err != nil {
				return err
			}
			ended = true
		case kind == partSignature && ended:
			if !ecdsa.VerifyASN1(key, sum, b) {
				return bad("its signature is not by the key of host %s", h.Host)
			}
			if _, err := in.piece(0); !errors.Is(err, io.EOF) {
				return bad("something follows its signature")
			}
			return nil

		default:
			return bad("part %d is not one that comes there", n)
		}
	}
}
