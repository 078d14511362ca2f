package archive

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/untrusted"
)

// Evidence of a plan is a file that shows, to whoever has the roster alone, what was changed, and who had signed it.

const evidenceMark = "idletally evidence 1\n"

// ErrNoEvidence says that a file is no evidence, or damaged.
var ErrNoEvidence = errors.New("this is no sound evidence file")

// EvidenceHead is all but the plan's steps, which follow: the chunks of each host, in the order of the manifest.
type EvidenceHead struct {
	Manifest []byte          `json:"manifest"`
	Roster   roster.Evidence `json:"roster"`
	OrderKey []byte          `json:"order_key"` // Ed25519, of the service
	Run      string          `json:"run,omitempty"`
	Hosts    []EvidenceHost  `json:"hosts"` // of the run
	Made     time.Time       `json:"made"`
}

// An EvidenceHost is what a host was ordered, and what it says of how that went.
type EvidenceHost struct {
	Host      string         `json:"host"`
	Order     []byte         `json:"order,omitempty"`
	Signature []byte         `json:"signature,omitempty"`
	State     lifecycle.Part `json:"state"`
	Done      int            `json:"done"`
	Already   int            `json:"already"`
	Skipped   int            `json:"skipped"`
	Refused   int            `json:"refused"`
	Wrong     int            `json:"wrong"`
	Message   string         `json:"message,omitempty"`
}

// WriteEvidence writes evidence. Chunk returns a host's chunks of a plan.
func WriteEvidence(w io.Writer, h EvidenceHead, chunk func(host string, n int) ([]byte, error)) error {
	m, err := plan.ParseManifest(h.Manifest)
	if err != nil {
		return err
	}
	out, err := begin(w, evidenceMark)
	if err != nil {
		return err
	}

	head, err := json.Marshal(h)
	if err == nil {
		err = out.piece(head)
	}
	for _, part := range m.Hosts {
		for n := 0; n < len(part.Chunks) && err == nil; n++ {
			var b []byte
			if b, err = chunk(part.Host, n); err == nil {
				err = out.piece(b)
			}
		}
	}
	return errors.Join(err, out.z.Close())
}

// ReadEvidence reads evidence, and checks that its steps are those that the manifest's hashes stand for. Who signed
// that, head has to check.
func ReadEvidence(
	r io.Reader, head func(EvidenceHead, plan.Manifest) error, steps func(host string, list []plan.Step) error,
) error {
	in, err := open(r, evidenceMark, maxOrder)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoEvidence, err)
	}
	defer in.z.Close()

	b, err := in.piece(MaxHead)
	var h EvidenceHead
	if err == nil {
		err = untrusted.JSON(b, untrusted.MaxElements, &h)
	}
	var m plan.Manifest
	if err == nil {
		m, err = plan.ParseManifest(h.Manifest)
	}
	if err != nil {
		return fmt.Errorf("%w: its head: %w", ErrNoEvidence, err)
	}
	if err := head(h, m); err != nil {
		return err
	}

	for _, part := range m.Hosts {
		for n, want := range part.Chunks {
			b, err := in.piece(plan.MaxChunk)
			var list []plan.Step
			if err == nil {
				list, err = plan.CheckChunk(b, want, part.Roots)
			}
			if err != nil {
				return fmt.Errorf("%w: chunk %d of host %s: %w", ErrNoEvidence, n, part.Host, err)
			}
			if err := steps(part.Host, list); err != nil {
				return err
			}
		}
	}
	if _, err := in.piece(plan.MaxChunk); !errors.Is(err, io.EOF) {
		return fmt.Errorf("%w: something stands behind its end", ErrNoEvidence)
	}
	return nil
}
