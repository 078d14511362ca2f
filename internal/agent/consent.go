package agent

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/statement"
	"idletally/internal/core/untrusted"
	"idletally/internal/host/change"
	"idletally/internal/private"
)

// Whoever may become root on a host may be allowed this one program there, and not be root otherwise. Where the roster
// names people who may put back alone, it is theirs to say, here as anywhere.

const (
	manifestFile = "manifest" // of the plan that a run carried out
	consentFile  = "signed"   // what somebody signed, for this host to put back
)

// unknownApplication stands for the application of a run whose plan an earlier version did not keep: whoever may put
// back for every application may put it back.
const unknownApplication = "-"

// Sign has somebody of the roster sign what a host is to put back; ErrRefused, or an error of its own, if nobody does.
type Sign func(ask Consent) (roster.Signed, error)

// A Consent is what a host asks somebody of its roster to sign, before it puts back.
type Consent struct {
	People []roster.Person // one of them has to
	order  roster.Order
	point  statement.Point
}

// Statement returns what somebody signs: it is good for an hour, for this run alone.
func (c Consent) Statement(who, reason string, now time.Time) ([]byte, error) {
	now = now.UTC().Truncate(time.Second)
	return statement.Statement{
		Says:        statement.Alone,
		Who:         who,
		Application: c.order.Application,
		Plan:        c.order.Plan,
		Digest:      c.order.Digest,
		Hosts:       c.order.Hosts,
		Reason:      statement.Line(reason),
		Roster:      c.point,
		Made:        now,
		Until:       now.Add(time.Hour),
	}.Bytes()
}

// A putBack is a plan that a host makes of its own journal.
type putBack struct {
	plan   plan.Manifest
	chunks change.Memory
	signed *roster.Signed // by somebody of the roster, where that is wanted
}

// backOf returns the plan of steps that lead back, under an id of its own.
func backOf(s Settings, application string, steps []plan.Step) putBack {
	var id [8]byte
	rand.Read(id[:])
	var b putBack
	part := plan.HostPart{Host: s.Host, Roots: s.Roots, Steps: len(steps)}
	for c := range slices.Chunk(steps, plan.StepsPerChunk) {
		b.chunks = append(b.chunks, c)
		part.Chunks = append(part.Chunks, plan.Digest(plan.EncodeChunk(c)))
	}
	b.plan = plan.Manifest{
		Format:      1,
		ID:          hex.EncodeToString(id[:]),
		Kind:        plan.Restore,
		Application: application,
		Hosts:       []plan.HostPart{part},
	}
	return b
}

// step returns a step by its number in the run.
func (b putBack) step(n int) plan.Step { return b.chunks[n/plan.StepsPerChunk][n%plan.StepsPerChunk] }

// keep writes into a run's folder what it is to do, and who signed it.
func (b putBack) keep(folder string) error {
	if err := private.MkdirAll(folder); err != nil {
		return err
	}
	for i, c := range b.chunks {
		if err := private.WriteFile((&stored{folder: folder}).file(i), plan.EncodeChunk(c)); err != nil {
			return err
		}
	}
	if err := private.WriteFile(filepath.Join(folder, manifestFile), b.plan.Bytes()); err != nil || b.signed == nil {
		return err
	}
	text, err := json.Marshal(b.signed)
	if err != nil {
		return err
	}
	return private.WriteFile(filepath.Join(folder, consentFile), text)
}

// consent has somebody of the host's roster sign the plan, if the roster names people for that. A roster that names
// nobody leaves it to whoever is root.
func (b *putBack) consent(folder string, s Settings, sign Sign) error {
	kept, r, err := rosterOf(folder, s.Roster)
	if err != nil || kept == nil {
		return err
	}
	people := r.PutsBack(b.plan.Application, s.Host)
	if len(people) == 0 {
		return nil
	}

	order := roster.Order{
		Plan:        b.plan.ID,
		Application: b.plan.Application,
		Digest:      plan.Digest(b.plan.Bytes()),
		Hosts:       []string{s.Host},
		Host:        s.Host,
		PutsBack:    true,
		Enrolled:    kept.Since,
	}
	signed, err := sign(Consent{People: people, order: order, point: r.Point()})
	if err != nil {
		return err
	}
	now, err := notBack(folder, time.Now())
	if err != nil {
		return err
	}
	by, err := r.Authorize(order, []roster.Signed{signed}, kept.cameAlong, now)
	if err != nil {
		return err
	}
	b.signed = &signed
	return kept.once(folder, order.Digest, b.plan.ID, by.Newest)
}

// applicationOf returns the application that a run was for, as its plan says: its digest stands in the journal.
func applicationOf(folder string, head change.Head) (string, error) {
	text, err := os.ReadFile(filepath.Join(folder, manifestFile))
	if errors.Is(err, os.ErrNotExist) {
		return unknownApplication, nil
	}
	if err != nil {
		return "", err
	}
	if plan.Digest(text).String() != head.Digest {
		return "", fmt.Errorf("%s is not the plan that its journal names", filepath.Join(folder, manifestFile))
	}
	m, err := plan.ParseManifest(text)
	if err != nil {
		return "", err
	}
	if !statement.Name(m.Application) {
		return unknownApplication, nil
	}
	return m.Application, nil
}

// signedBy returns who signed that a run puts back; "" where nobody had to.
func signedBy(folder string) (string, error) {
	text, err := os.ReadFile(filepath.Join(folder, consentFile))
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	var signed roster.Signed
	if err == nil {
		err = untrusted.JSON(text, untrusted.MaxElements, &signed)
	}
	if err != nil {
		return "", fmt.Errorf("who signed it: %w", err)
	}
	st, err := statement.Parse(signed.Statement)
	return st.Who, err
}
