package agent

import (
	"bytes"
	"context"
	"crypto"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"idletally/internal/archive"
	"idletally/internal/core/pathname"
	"idletally/internal/core/plan"
	"idletally/internal/core/succession"
	"idletally/internal/core/untrusted"
	"idletally/internal/private"
	"idletally/internal/wire"
)

// A host without any network is enrolled, and given orders, by files that somebody carries.

const joiningFile = "joining.json"

// joining is what is kept in the agent's folder until the admission comes.
type joining struct {
	Roots []string `json:"roots"` // escaped
	Key   []byte   `json:"key"`
}

// RequestFile begins to join a service: the key stays in the agent's folder; the request that is written goes to the
// service, whose admin has to be told its fingerprint by another way.
func RequestFile(ctx context.Context, j Joining, version string, out io.Writer) (fingerprint string, err error) {
	request, err := j.Request(ctx)
	if err != nil {
		return "", err
	}
	if err := prepare(j.Folder); err != nil {
		return "", err
	}

	b, err := json.Marshal(joining{Roots: pathname.EscapeAll(j.Roots), Key: j.key})
	if err == nil {
		err = private.WriteFile(filepath.Join(j.Folder, joiningFile), b)
	}

	if err != nil {
		return "", err
	}

	r := archive.Request{Format: archive.RequestFormat, Request: request, Version: version}
	return r.Fingerprint(), json.NewEncoder(out).Encode(r)
}

// ReadAdmission reads what came back.
func ReadAdmission(in io.Reader) (got archive.Admission, err error) {
	err = untrusted.ReadJSON(in, untrusted.Bounds{Bytes: 1 << 20, Elements: 100}, &got)
	if err != nil || got.Format != archive.AdmissionFormat {
		return got, errors.Join(errors.New("this is no admission: write one with idletally host admit"), err)
	}
	return got, nil
}

// JoinByFile accepts an admission whose fingerprint somebody has compared. The signer of a host's orders is settled
// once: an admission by another one is refused.
func JoinByFile(folder string, got archive.Admission) (host string, err error) {
	free, err := lock(folder)
	if err != nil {
		return "", err
	}
	defer free()

	at := filepath.Join(folder, joiningFile)
	b, err := os.ReadFile(at)
	if errors.Is(err, os.ErrNotExist) {
		return "", fmt.Errorf("nothing was asked for from %s: begin with idletally agent request", folder)
	}

	var kept joining
	if err == nil {
		err = json.Unmarshal(b, &kept)
	}

	if err != nil {
		return "", err
	}

	now, err := Load(folder)
	if err == nil {
		now.OrderKey, err = succession.Follow(now.OrderKey, got.Succession)
	}

	switch {
	case err == nil && !bytes.Equal(now.OrderKey, got.OrderKey):
		return "", fmt.Errorf(
			"this is host %s, and another key signs its orders: to have it take those of this admission, take "+
				"%s away first",
			now.Host, pathname.Escape(filepath.ToSlash(filepath.Join(folder, SettingsFile))))
	case err != nil && !errors.Is(err, os.ErrNotExist) && !errors.Is(err, ErrNotEnrolled):
		return "", err
	}

	j := Joining{Folder: folder, Roots: raws(kept.Roots), key: kept.Key}
	if err := j.Accept(got.Enrolled); err != nil {
		return "", err
	}

	return got.Host, os.Remove(at)
}

// offline serves a run whose order was carried here.
type offline struct {
	order  *archive.Order
	report *archive.Report
	key    crypto.Signer
	done   *wire.RunDone
}

func (c *offline) Chunk(_ context.Context, _ string, n int) ([]byte, error) { return c.order.Chunk(n) }

func (c *offline) SendOriginals(_ context.Context, _ string, _ int, chunk []byte) error {
	return c.report.Originals(chunk)
}

func (c *offline) RunDone(_ context.Context, _ string, d wire.RunDone) error {
	c.done = &d
	return c.report.End(d, c.key)
}

// Carry carries out an order that was brought here, and writes the report that is to be taken back. An interrupted
// run is resumed by the same order.
func (a *Agent) Carry(
	ctx context.Context, in io.Reader, out io.Writer, progress func(done, total int),
) (wire.RunDone, error) {
	free, err := lock(a.Folder)
	if err != nil {
		return wire.RunDone{}, err
	}
	defer free()

	order, err := archive.OpenOrder(in)
	if err != nil {
		return wire.RunDone{}, err
	}
	defer order.Close()

	key, ok := a.cert.Load().PrivateKey.(crypto.Signer)
	if !ok {
		return wire.RunDone{}, errors.New("the agent's key signs nothing")
	}

	// The order is verified when it is carried out; here it only says whose report this is.
	var head plan.Order
	if err := json.Unmarshal(order.Work.Order, &head); err != nil {
		return wire.RunDone{}, fmt.Errorf("%w: %w", archive.ErrNoOrder, err)
	}

	report, err := archive.BeginReport(out, archive.ReportHead{
		Host:        a.Host,
		Work:        order.Work.ID,
		Run:         head.Run,
		Made:        time.Now().UTC().Truncate(time.Second),
		Certificate: a.Certificate,
	})

	if err != nil {
		return wire.RunDone{}, err
	}

	to := &offline{order: order, report: report, key: key}
	var done, total atomic.Int64
	var halt atomic.Bool
	shown, stop := context.WithCancel(ctx)
	defer stop()

	go func() {
		for shown.Err() == nil {
			progress(int(done.Load()), int(total.Load()))
			select {
			case <-shown.Done():
			case <-time.After(200 * time.Millisecond):
			}
		}
	}()

	if err := a.run(ctx, to, &order.Work, &done, &total, &halt); err != nil {
		return wire.RunDone{}, err
	}

	return *to.done, nil
}
