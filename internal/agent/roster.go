package agent

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"idletally/internal/atomicfile"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/statement"
	"idletally/internal/core/tree"
	"idletally/internal/core/untrusted"
	"idletally/internal/private"
	"idletally/internal/wire"
)

// A host that knows a roster changes nothing that people of the roster have not signed, whatever its service says. The
// roster was compared by its fingerprint on the host; later editions come with orders, and are followed to.

const rosterFile = "roster.json"

// maxPast is how many editions a host remembers that it came by: one a week for twenty years.
const maxPast = 1000

// rosterKept is what the host keeps of its roster.
type rosterKept struct {
	Document []byte            `json:"document"` // the edition that counts
	Past     []statement.Point `json:"past"`     // those before it, which statements may name
	Since    time.Time         `json:"since"`    // what was signed before counts for nothing here
	Done     map[string]string `json:"done"`     // the run of each plan that was carried out, by the plan's digest
}

// ErrRoster says that a host's own roster cannot be read: nothing is changed then.
var ErrRoster = errors.New("this host's roster cannot be read, so that nothing is changed here")

// rosterOf returns what a folder keeps of a roster; nil if the host knows none. Pinned is the fingerprint of the roster
// that the host's settings say was pinned: where it is gone, nothing is changed.
func rosterOf(folder, pinned string) (*rosterKept, roster.Roster, error) {
	b, err := os.ReadFile(filepath.Join(folder, rosterFile))
	if errors.Is(err, os.ErrNotExist) && pinned == "" {
		return nil, roster.Roster{}, nil
	}

	var kept rosterKept
	if err == nil {
		err = untrusted.JSON(b, 3*maxOrders, &kept)
	}
	var r roster.Roster
	if err == nil {
		r, err = roster.Parse(kept.Document)
	}
	if err != nil {
		return nil, r, fmt.Errorf("%w: %s: %w: pin it again with idletally agent roster pin", ErrRoster, rosterFile,
			err)
	}
	return &kept, r, nil
}

func (k *rosterKept) save(folder string) error {
	b, err := json.Marshal(k)
	if err != nil {
		return err
	}
	return atomicfile.Write(filepath.Join(folder, rosterFile), b)
}

// sinceFile returns the name of the file beside an agent's folder that says from when on what people sign counts here.
// It stays where the folder is wiped, so that nothing counts twice.
func sinceFile(folder string) string { return filepath.Clean(folder) + ".since" }

// readSince returns the time of the newest signature that this host acted by, whatever its clock says; zero if it
// acted by none.
func readSince(folder string) (t time.Time, err error) {
	if err := private.Check(sinceFile(folder), false); err != nil {
		return t, fmt.Errorf("%w: %w", ErrRoster, err)
	}
	b, err := os.ReadFile(sinceFile(folder))
	if errors.Is(err, os.ErrNotExist) {
		return t, nil
	}
	if err == nil {
		err = t.UnmarshalText(bytes.TrimSpace(b))
	}
	if err != nil {
		err = fmt.Errorf("%w: %s: %w", ErrRoster, sinceFile(folder), err)
	}
	return t, err
}

// notBack returns a time, or the newest one that this host has acted by: somebody may have turned the clock back, and
// what is over stays over.
func notBack(folder string, now time.Time) (time.Time, error) {
	since, err := readSince(folder)
	if now.Before(since) {
		now = since
	}
	return now, err
}

// keepSince notes that this host acts by signatures of up to a time. It only rises.
func keepSince(folder string, t time.Time) error {
	was, err := readSince(folder)
	if err != nil || !t.After(was) {
		return err
	}
	return atomicfile.Write(sinceFile(folder), []byte(statement.Stamp(t)+"\n"))
}

// PinRoster has the host of a folder change nothing from now on but what people of a roster have signed. Whoever calls
// it has compared the fingerprint. A host that knows a roster takes no other one so: it follows along the line. No
// agent may be working with the folder.
func PinRoster(folder string, document []byte, fingerprint tree.Hash) (roster.Roster, error) {
	free, err := lock(folder)
	if err != nil {
		return roster.Roster{}, err
	}
	defer free()

	r, err := compared(document, fingerprint)
	if err != nil {
		return r, err
	}
	settings, err := Load(folder)
	if err == nil && settings.Remote != nil {
		err = fmt.Errorf("%s is of a host that is reached over SSH: pin the roster there", folder)
	}
	if err != nil {
		return r, err
	}

	kept, now, err := rosterOf(folder, settings.Roster)
	same := kept != nil && now.Digest() == fingerprint || kept == nil && settings.Roster == fingerprint.String()
	switch {
	case err != nil && !same: // where it is lost, the one that was pinned is pinned again
		return r, err
	case kept != nil && !same:
		return r, fmt.Errorf("this host knows edition %d of a roster: it follows to later ones by what people of it "+
			"have signed, and takes no other", now.Edition)
	case kept == nil:
		if err := pinFirst(folder, document); err != nil {
			return r, err
		}
	}

	settings.Roster = fingerprint.String()
	return r, settings.save(folder)
}

// compared reads a roster whose fingerprint somebody has compared.
func compared(document []byte, fingerprint tree.Hash) (roster.Roster, error) {
	r, err := roster.Parse(document)
	if err == nil && r.Digest() != fingerprint {
		err = fmt.Errorf("the roster's fingerprint is %s, not %s: it is not the one that was compared", r.Digest(),
			fingerprint)
	}
	return r, err
}

// pinFirst keeps a roster where there is none. What was signed by now counts for nothing, and neither does what the
// host has acted by before, if the clock was turned back since.
func pinFirst(folder string, document []byte) error {
	since := time.Now().UTC().Truncate(time.Second)
	before, err := readSince(folder)
	if err != nil {
		return err
	}
	if !before.Before(since) {
		since = before.Add(time.Second)
	}
	kept := &rosterKept{Document: document, Since: since}
	return kept.save(folder)
}

// A RosterHere is the roster that the host of a folder acts by.
type RosterHere struct {
	roster.Roster
	Since time.Time // what was signed before counts for nothing here
	Plans int       // that were carried out by it
}

// RosterOf returns the roster that the host of a folder acts by; nil where it knows none, and takes its service's word
// alone.
func RosterOf(folder string) (*RosterHere, error) {
	s, err := Load(folder)
	if err != nil {
		return nil, err
	}
	kept, r, err := rosterOf(folder, s.Roster)
	if err != nil || kept == nil {
		return nil, err
	}
	return &RosterHere{r, kept.Since, len(kept.Done)}, nil
}

// rosterPoint returns the edition that the host acts by; zero where there is none, or none that can be read.
func (a *Agent) rosterPoint() statement.Point {
	kept, r, err := rosterOf(a.Folder, a.Settings.Roster)
	if err != nil || kept == nil {
		return statement.Point{}
	}
	return r.Point()
}

// followRoster goes along a line of editions that comes with an order, from the one that the host knows. What leads to
// there is passed over: a service does not know how far a host has come, and the order may be here again.
func (k *rosterKept) followRoster(r roster.Roster, line []roster.Step) (roster.Roster, error) {
	if len(line) > maxPast {
		return r, fmt.Errorf("%w: %d editions at once", roster.ErrBroken, len(line))
	}
	for _, step := range line {
		if k.cameBy(r, step) {
			continue
		}
		next, err := roster.Follow(r, []roster.Step{step})
		if err != nil {
			return r, err
		}
		k.Past = append(k.Past, r.Point())
		k.Document, r = step.Roster, next
	}
	k.Past = k.Past[max(0, len(k.Past)-maxPast):]
	return r, nil
}

// once notes that a plan is carried out by a run, by signatures of up to a time: it is by no other, however often its
// people's signatures are shown.
func (k *rosterKept) once(folder string, digest tree.Hash, run string, newest time.Time) error {
	if before, again := k.Done[digest.String()]; again && before != run {
		return fmt.Errorf("%w: the plan was carried out by run %s already", roster.ErrRefused, before)
	}
	if k.Done == nil {
		k.Done = map[string]string{}
	}
	if len(k.Done) >= maxOrders {
		return fmt.Errorf("%w: %d plans were carried out, which is more than a host remembers", roster.ErrRefused,
			maxOrders)
	}
	k.Done[digest.String()] = run
	if err := errors.Join(keepSince(folder, newest), k.save(folder)); err != nil {
		return fmt.Errorf("note the plan: %w", err)
	}
	return nil
}

// cameAlong reports whether the host came along an earlier edition.
func (k *rosterKept) cameAlong(p statement.Point) bool { return slices.Contains(k.Past, p) }

// cameBy reports whether a step leads to the edition that counts here, to one before it, or to one from before all that
// the host remembers. Another edition of a number that it remembers is none of these.
func (k *rosterKept) cameBy(now roster.Roster, step roster.Step) bool {
	r, err := roster.Parse(step.Roster)
	if err != nil {
		return false // following it says why
	}
	known := append(slices.Clone(k.Past), now.Point())
	return r.Edition < known[0].Number || slices.Contains(known, r.Point())
}

// agreed returns who of the roster have signed what is ordered; nobody if this host knows no roster. Otherwise it says
// why that is refused. A plan is carried out by one run, however often its people's signatures are shown.
func (a *Agent) agreed(o plan.Order, m plan.Manifest, w *wire.Work, now time.Time) (by roster.People, err error) {
	kept, r, err := rosterOf(a.Folder, a.Settings.Roster)
	if err != nil || kept == nil {
		return by, err
	}
	if now, err = notBack(a.Folder, now); err != nil {
		return by, err
	}
	known := r.Edition
	r, err = kept.followRoster(r, w.Roster)
	if err == nil && r.Edition > known { // whatever becomes of the order: who has left has left
		err = kept.save(a.Folder)
	}
	if err != nil {
		return by, err
	}

	hosts := make([]string, len(m.Hosts))
	for i, h := range m.Hosts {
		hosts[i] = h.Host
	}
	by, err = r.Authorize(roster.Order{
		Plan:        m.ID,
		Application: m.Application,
		Digest:      o.Digest,
		Hosts:       hosts,
		Host:        a.Host,
		PutsBack:    m.Kind == plan.Restore,
		Enrolled:    kept.Since,
	}, w.Signed, kept.cameAlong, now)
	if err != nil {
		return by, err
	}

	if err := kept.once(a.Folder, o.Digest, o.Run, by.Newest); err != nil {
		return by, err
	}
	return by, nil
}
