package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/host/change"
	"idletally/internal/private"
)

// What follows works on the host alone: the service may be gone.

// keepRuns is how long a run's journal is kept after the service has stored it.
const keepRuns = 90 * 24 * time.Hour

const stowedFile = "stored"

// stow records that the service has all of a run, and removes runs for which that has been so for long enough.
func stow(runs, run string) error {
	if err := private.WriteFile(filepath.Join(runs, run, stowedFile), nil); err != nil {
		return fmt.Errorf("note that a run is stored: %w", err)
	}
	list, err := os.ReadDir(runs)
	if err != nil {
		return err
	}

	for _, e := range list {
		st, err := os.Stat(filepath.Join(runs, e.Name(), stowedFile))
		if err == nil && time.Since(st.ModTime()) > keepRuns {
			err = os.RemoveAll(filepath.Join(runs, e.Name()))
		}
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}

	return nil
}

// A LocalRun is a run as this host's own journal describes it.
type LocalRun struct {
	change.Head
	Begun  time.Time `json:"begun"`
	Done   int       `json:"done"`
	Other  int       `json:"other"` // steps that were skipped or refused
	Open   int       `json:"open"`  // steps without an end
	Ended  bool      `json:"ended"`
	Stored bool      `json:"stored"`       // the service has it
	By     string    `json:"by,omitempty"` // who of the roster signed that this host puts back, where anybody had to
}

// LocalRuns lists the runs whose journals are on this host, the latest first. Journals that cannot be read are listed
// as such.
func LocalRuns(folder string) (out []LocalRun, faults []error) {
	runs := filepath.Join(folder, "runs")
	list, err := os.ReadDir(runs)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) {
			return nil, nil
		}
		return nil, []error{err}
	}

	for _, e := range list {
		r, _, err := localRun(runs, e.Name())
		if err != nil {
			faults = append(faults, fmt.Errorf("run %s: %w", e.Name(), err))
			continue
		}
		if r.By, err = signedBy(filepath.Join(runs, e.Name())); err != nil {
			faults = append(faults, fmt.Errorf("run %s: %w", e.Name(), err))
		}
		out = append(out, r)
	}

	slices.SortFunc(out, func(a, b LocalRun) int { return cmp.Or(b.Begun.Compare(a.Begun), cmp.Compare(a.Run, b.Run)) })
	return out, faults
}

func localRun(runs, name string) (r LocalRun, j *change.Journal, err error) {
	if !runID.MatchString(name) {
		return r, nil, errors.New("this is no name of a run")
	}
	file := filepath.Join(runs, name, "journal")
	if j, r.Head, err = change.ReadJournal(file); err != nil {
		return r, nil, err
	}

	if st, err := os.Stat(filepath.Join(runs, name)); err == nil {
		r.Begun = st.ModTime().UTC()
	}

	for _, x := range j.Results() {
		switch x.Outcome {
		case plan.Done:
			r.Done++
		case plan.Pending:
			r.Open++
		default:
			r.Other++
		}
	}

	r.Ended = j.Ended()
	_, err = os.Stat(filepath.Join(runs, name, stowedFile))
	r.Stored = err == nil
	return r, j, nil
}

// local is a run's chunks as they lie on the host.
type local struct {
	folder string
	n      int
}

func (l local) Count() int { return l.n }

func (l local) Steps(n int) ([]plan.Step, error) {
	b, err := os.ReadFile((&stored{folder: l.folder}).file(n))
	if err != nil {
		return nil, err
	}
	return plan.DecodeChunk(b)
}

// A Back is the outcome of putting back a run.
type Back struct {
	Run     string        `json:"run"` // its own journal's
	Steps   int           `json:"steps"`
	Done    int           `json:"done"`
	Results []plan.Result `json:"results"` // of the others
	Paths   []string      `json:"paths"`   // of those, in their order
	// Paths whose originals cannot be read, and that therefore stay as they are.
	Lost   []string `json:"lost,omitempty"`
	Damage string   `json:"damage,omitempty"` // what of the run's journal cannot be read
}

// Whole reports whether everything that was wanted is as it was.
func (b Back) Whole() bool { return len(b.Results) == 0 && len(b.Lost) == 0 && b.Damage == "" }

// PutBack puts back what a run changed on this host, for the paths that are wanted, from the host's own journal and
// without any service. It is as careful as any run: what is no longer as the run left it is skipped, and what it
// finds goes into a journal of its own. Where the host's roster names people who may put back alone, one of them has to
// sign it first: sign has them do so.
func PutBack(ctx context.Context, folder, run string, wanted func(path string) bool, sign Sign) (out Back, err error) {
	s, err := Load(folder)
	if err != nil {
		return out, err
	}
	if s.LookOnly {
		return out, fmt.Errorf("this host only looks: its own settings (%s) forbid changes", SettingsFile)
	}

	runs := filepath.Join(folder, "runs")
	r, j, err := localRun(runs, run)
	if err != nil {
		return out, fmt.Errorf("run %s: %w", run, err)
	}
	free, err := lock(folder)
	if err != nil {
		return out, err
	}
	defer free()

	was := local{filepath.Join(runs, run), (r.Steps + plan.StepsPerChunk - 1) / plan.StepsPerChunk}
	reach, hangUp, err := hostOf(&Agent{Settings: s}).fileSystem(ctx)
	if err != nil {
		return out, err
	}
	defer hangUp()

	allowed := raws(s.Roots)
	left, err := (&change.Runner{Journal: j, Roots: allowed, Chunks: was, Files: reach}).Settle(ctx)
	if err != nil {
		return out, err
	}
	steps, err := backwards(j, was, left, wanted)
	if err != nil {
		return out, err
	}
	if err := out.tellDamage(j, was, wanted); err != nil {
		return out, err
	}
	if len(steps) == 0 && !out.Whole() {
		return out, nil
	}
	if len(steps) == 0 {
		return out, fmt.Errorf("run %s changed nothing that is to be put back", run)
	}

	application, err := applicationOf(was.folder, r.Head)
	if err != nil {
		return out, fmt.Errorf("run %s: %w", run, err)
	}
	back := backOf(s, application, steps)
	if err := back.consent(folder, s, sign); err != nil {
		return out, err
	}
	runner := &change.Runner{Roots: allowed, Allowed: allowed, Chunks: back.chunks, Files: reach, PutBack: true}
	err = out.carryOut(ctx, back, filepath.Join(runs, back.plan.ID), runner)
	return out, err
}

// carryOut keeps what leads back in a run of its own, and runs it.
func (b *Back) carryOut(ctx context.Context, back putBack, folder string, runner *change.Runner) error {
	b.Run, b.Steps = back.plan.ID, back.plan.Hosts[0].Steps
	if err := back.keep(folder); err != nil {
		return fmt.Errorf("keep the steps: %w", err)
	}
	journal, err := change.OpenJournal(filepath.Join(folder, "journal"), change.Head{
		Run:    b.Run,
		Digest: plan.Digest(back.plan.Bytes()).String(),
		Host:   back.plan.Hosts[0].Host,
		Steps:  b.Steps,
	})
	if err != nil {
		return err
	}
	defer journal.Close()

	runner.Journal = journal
	if err := runner.Run(ctx); err != nil {
		return err
	}
	wrong, err := runner.Verify(ctx)
	if err != nil {
		return err
	}

	for _, x := range append(journal.Results(), wrong...) {
		if x.Outcome == plan.Done && x.Reason == "" {
			b.Done++
			continue
		}
		b.Results = append(b.Results, x)
		b.Paths = append(b.Paths, pathname.Escape(back.step(x.Step).Path))
	}
	b.Done -= len(wrong)
	return nil
}

// leadsBack returns an error unless each step leads to what this host itself found before one of its runs, of the same
// file: as much as somebody may do who may only put back.
func leadsBack(runs string, chunks change.Chunks) error {
	open := map[string]plan.Step{}
	err := eachStep(chunks, func(_ int, s plan.Step) error {
		if _, twice := open[s.Path]; twice { // one of them would be held against nothing
			return fmt.Errorf("%w: two of its steps are of %s", roster.ErrRefused, pathname.Escape(s.Path))
		}
		open[s.Path] = s
		return nil
	})
	if err != nil {
		return err
	}

	list, err := os.ReadDir(runs)
	if err != nil {
		return err
	}
	for _, e := range list {
		r, j, err := localRun(runs, e.Name())
		if err != nil {
			continue // it has no journal yet, or none that says anything
		}
		was := local{filepath.Join(runs, e.Name()), (r.Steps + plan.StepsPerChunk - 1) / plan.StepsPerChunk}
		if err := findOriginals(j, was, open); err != nil {
			return fmt.Errorf("run %s: %w", e.Name(), err)
		}
	}

	for path := range open {
		return fmt.Errorf("%w: %d of its steps lead to what this host never found there, %s among them, and nobody "+
			"else has signed", roster.ErrRefused, len(open), pathname.Escape(path))
	}
	return nil
}

// findOriginals takes the steps out that lead to what a run found.
func findOriginals(j *change.Journal, chunks change.Chunks, open map[string]plan.Step) error {
	return eachStep(chunks, func(i int, s plan.Step) error {
		want, ok := open[s.Path]
		found, had := j.Original(i)
		same := found.File.Inode == 0 || want.File.Inode != 0 && want.File.Is(found.File)
		if ok && had && want.Kind == s.Kind && want.After == found.Set && same {
			delete(open, s.Path)
		}
		return nil
	})
}

// eachStep visits the steps of all chunks, with their numbers in the run.
func eachStep(chunks change.Chunks, visit func(i int, s plan.Step) error) error {
	base := 0
	for n := range chunks.Count() {
		steps, err := chunks.Steps(n)
		if err != nil {
			return err
		}
		for i, s := range steps {
			if err := visit(base+i, s); err != nil {
				return err
			}
		}
		base += len(steps)
	}
	return nil
}

// tellDamage notes what cannot be put back, since it cannot be read.
func (b *Back) tellDamage(j *change.Journal, chunks change.Chunks, wanted func(string) bool) error {
	d := j.Damage()
	if !d.Any() {
		return nil
	}

	lost := map[int]bool{}
	for _, step := range d.Lost {
		lost[step] = true
	}

	if err := eachStep(chunks, func(i int, s plan.Step) error {
		if lost[i] && wanted(s.Path) {
			b.Lost = append(b.Lost, pathname.Escape(s.Path))
		}
		return nil
	}); err != nil {
		return err
	}

	if len(b.Lost) > 0 || d.More > 0 || d.Unknown {
		b.Damage = "the run's journal is damaged: " + d.Error()
	}

	return nil
}

// backwards returns the steps from what a run left to what it found.
func backwards(
	j *change.Journal, chunks change.Chunks, left map[int]perm.Set, wanted func(string) bool,
) (steps []plan.Step, err error) {
	err = originals(j, chunks, left, func(_ int, list []plan.Step) error {
		for _, s := range list {
			s.Before, s.After = s.After, s.Before
			if wanted(s.Path) {
				steps = append(steps, s)
			}
		}
		return nil
	})
	return steps, err
}
