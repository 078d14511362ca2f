package agent

import (
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

// rosterOf returns what a folder keeps of a roster; nil if the host knows none.
func rosterOf(folder string) (*rosterKept, roster.Roster, error) {
	b, err := os.ReadFile(filepath.Join(folder, rosterFile))
	if errors.Is(err, os.ErrNotExist) {
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
		return nil, r, fmt.Errorf("%w: %s: %w", ErrRoster, rosterFile, err)
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

// PinRoster has the host of a folder change nothing from now on but what people of a roster have signed. Whoever calls
// it has compared the fingerprint. A host that knows a roster takes no other one so: it follows along the line.
func PinRoster(folder string, document []byte, fingerprint tree.Hash) (roster.Roster, error) {
	r, err := roster.Parse(document)
	if err != nil {
		return r, err
	}
	if r.Digest() != fingerprint {
		return r, fmt.Errorf("the roster's fingerprint is %s, not %s: it is not the one that was compared", r.Digest(),
			fingerprint)
	}
	kept, now, err := rosterOf(folder)
	if err != nil {
		return r, err
	}
	if kept != nil && now.Digest() != r.Digest() {
		return r, fmt.Errorf("this host knows edition %d of a roster: it follows to later ones by what people of it "+
			"have signed, and takes no other", now.Edition)
	}
	if kept != nil {
		return r, nil
	}

	kept = &rosterKept{Document: document, Since: time.Now().UTC().Truncate(time.Second)}
	return r, kept.save(folder)
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

// agreed returns nil if this host knows no roster, or if people of it have signed what is ordered. Otherwise it says
// why that is refused. A plan is carried out by one run, however often its people's signatures are shown.
func (a *Agent) agreed(o plan.Order, m plan.Manifest, w *wire.Work, now time.Time) error {
	kept, r, err := rosterOf(a.Folder)
	if err != nil || kept == nil {
		return err
	}
	known := r.Edition
	r, err = kept.followRoster(r, w.Roster)
	if err == nil && r.Edition > known { // whatever becomes of the order: who has left has left
		err = kept.save(a.Folder)
	}
	if err != nil {
		return err
	}

	hosts := make([]string, len(m.Hosts))
	for i, h := range m.Hosts {
		hosts[i] = h.Host
	}
	_, err = r.Authorize(roster.Order{
		Plan:        m.ID,
		Application: m.Application,
		Digest:      o.Digest,
		Hosts:       hosts,
		Host:        a.Host,
		Enrolled:    kept.Since,
	}, w.Signed, func(p statement.Point) bool { return slices.Contains(kept.Past, p) }, now)
	if err != nil {
		return err
	}

	if run, again := kept.Done[o.Digest.String()]; again && run != o.Run {
		return fmt.Errorf("%w: the plan was carried out by run %s already", roster.ErrRefused, run)
	}
	if kept.Done == nil {
		kept.Done = map[string]string{}
	}
	if len(kept.Done) >= maxOrders {
		return fmt.Errorf("%w: %d plans were carried out, which is more than a host remembers", roster.ErrRefused,
			maxOrders)
	}
	kept.Done[o.Digest.String()] = o.Run
	if err := kept.save(a.Folder); err != nil {
		return fmt.Errorf("note the plan: %w", err)
	}
	return nil
}
