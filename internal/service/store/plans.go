package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/wire"
)

// Plan is a plan's record.
type Plan struct {
	ID          string         `db:"id"`
	Application string         `db:"application"`
	Kind        string         `db:"kind"`
	Title       string         `db:"title"`
	State       lifecycle.Plan `db:"state"`
	Author      string         `db:"author"`
	Created     time.Time      `db:"created"`
	Digest      []byte         `db:"digest"`
	Manifest    []byte         `db:"manifest"`
	Source      string         `db:"source"` // what the plan leaves, as JSON
	DecidedBy   string         `db:"decided_by"`
	Decided     *time.Time     `db:"decided"`
	Remark      string         `db:"remark"`
	Expires     *time.Time     `db:"expires"`
	Alone       bool           `db:"alone"` // one person decided, whom the roster lets act alone
}

const planColumns = `id, application, kind, title, state, author, created, digest, manifest, source, decided_by,
	decided, remark, expires, alone`

// Chunk is some encoded steps of a plan on one host.
type Chunk struct {
	Host string
	N    int
	Data []byte
}

// AddPlan stores a new draft with its chunks and groups; it is shown when all of it is there.
func (s *Store) AddPlan(ctx context.Context, p Plan, chunks []Chunk, groups []wire.PlanGroup) error {
	insert := func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx,
			`INSERT INTO plan (id, application, kind, title, state, author, created, digest, manifest, source, remark)
			VALUES (?,?,?,?,'draft',?,?,?,?,?,'')`, p.ID, p.Application, p.Kind, p.Title, p.Author, now(), p.Digest,
			p.Manifest, p.Source)
		return err
	}

	if err := s.tx(ctx, insert); err != nil {
		return err
	}

	err := batches(ctx, s, `INSERT INTO plan_chunk (plan, host, n, data)`, 4, chunks, func(c Chunk) []any {
		return []any{p.ID, c.Host, c.N, encoder.EncodeAll(c.Data, nil)}
	})
	if err == nil {
		n := 0
		err = batches(ctx, s, `INSERT INTO plan_group (plan, n, body)`, 3, groups, func(g wire.PlanGroup) []any {
			n++
			body, _ := json.Marshal(g) // plain values only
			return []any{p.ID, n, body}
		})
	}

	if err != nil { // half a plan must not stay
		_, gone := s.db.ExecContext(context.WithoutCancel(ctx), `DELETE FROM plan WHERE id = ?`, p.ID)
		return errors.Join(err, gone)
	}

	return nil
}

// Plan finds a plan.
func (s *Store) Plan(ctx context.Context, id string) (p Plan, err error) {
	err = s.db.GetContext(ctx, &p, `SELECT `+planColumns+` FROM plan WHERE id = ?`, id)
	return p, one(err, "plan "+id)
}

// Plans lists the newest first.
func (s *Store) Plans(ctx context.Context, state lifecycle.Plan, before string, limit int) (out []Plan, err error) {
	if before == "" {
		before = "~"
	}
	if state != "" {
		err = s.db.SelectContext(ctx, &out,
			`SELECT `+planColumns+` FROM plan WHERE state = ? AND id < ? ORDER BY id DESC LIMIT ?`, state, before,
			limit)
	} else {
		err = s.db.SelectContext(ctx, &out, `SELECT `+planColumns+` FROM plan WHERE id < ? ORDER BY id DESC LIMIT ?`,
			before, limit)
	}
	return out, err
}

// CountPlans counts those in a state, or all.
func (s *Store) CountPlans(ctx context.Context, state lifecycle.Plan) (int64, error) {
	if state == "" {
		return s.count(ctx, `SELECT COUNT(*) FROM plan`)
	}
	return s.count(ctx, `SELECT COUNT(*) FROM plan WHERE state = ?`, state)
}

// PlanGroups returns a plan's equal steps.
func (s *Store) PlanGroups(ctx context.Context, id string) (out []wire.PlanGroup, err error) {
	var bodies [][]byte
	if err := s.db.SelectContext(ctx, &bodies, `SELECT body FROM plan_group WHERE plan = ? ORDER BY n
		LIMIT 2000`, id); err != nil {
		return nil, err
	}
	out = make([]wire.PlanGroup, len(bodies))
	for i, b := range bodies {
		if err := json.Unmarshal(b, &out[i]); err != nil {
			return nil, fmt.Errorf("group %d of plan %s: %w", i+1, id, err)
		}
		for _, v := range []*perm.View{&out[i].Before, &out[i].After} {
			sayScheme(v)
		}
	}
	return out, nil
}

// sayScheme completes a view that was stored before views said their scheme: then only a share's had an inheritance.
func sayScheme(v *perm.View) {
	switch {
	case v.Scheme != "":
	case v.Inheritance != "":
		v.Scheme = "nt"
	default:
		v.Scheme = "posix"
	}
}

// PlanChunk returns encoded steps.
func (s *Store) PlanChunk(ctx context.Context, id, host string, n int) ([]byte, error) {
	var b []byte
	err := s.db.GetContext(ctx, &b, `SELECT data FROM plan_chunk WHERE plan = ? AND host = ? AND n = ?`, id, host, n)
	if err != nil {
		return nil, one(err, fmt.Sprintf("chunk %d of plan %s", n, id))
	}
	return decoder.DecodeAll(b, nil)
}

// DeclinePlan declines what has exactly this digest and is in review, unless the one who decides wrote it.
func (s *Store) DeclinePlan(ctx context.Context, id, by, remark string, digest []byte) error {
	r, err := s.db.ExecContext(ctx, `UPDATE plan SET state = 'declined', decided_by = ?, decided = ?, remark = ?
		WHERE id = ? AND state = 'in review' AND author <> ? AND digest = ?`, by, now(), remark, id, by, digest)
	return changed(r, err, "plan "+id+" is not in review, or is not the one you looked at")
}

// RunRow is a run's record.
type RunRow struct {
	ID        string        `db:"id"`
	Plan      string        `db:"plan"`
	State     lifecycle.Run `db:"state"`
	StartedBy string        `db:"started_by"`
	Started   time.Time     `db:"started"`
	Ended     *time.Time    `db:"ended"`
}

const runColumns = `id, plan, state, started_by, started, ended`

// StartRun begins the one run of an approved plan and gives each host its work.
func (s *Store) StartRun(ctx context.Context, p Plan, m plan.Manifest, by string) (id string, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		id = NewID()
		r, err := tx.ExecContext(ctx,
			`UPDATE plan SET state = 'running' WHERE id = ? AND state = 'approved' AND expires > ?`, p.ID, now())
		if err := changed(r, err, "plan "+p.ID+" is not approved, or its approval has expired"); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO run (id, plan, state, started_by, started, stop_at) VALUES (?,?,'running',?,?,?)`, id, p.ID,
			by, now(), m.StopAt); err != nil {
			return err
		}

		for i, h := range m.Hosts {
			wave := m.Wave(i)
			if _, err := tx.ExecContext(ctx,
				`INSERT INTO run_host (run, host, wave, state, total, message) VALUES (?,?,?,'waiting',?,'')`, id,
				h.Host, wave, h.Steps); err != nil {
				return err
			}
			if wave > 0 { // its turn comes
				continue
			}
			if err := addWork(ctx, tx, h.Host, wire.WorkRun, id); err != nil {
				return err
			}
		}

		return nil
	})

	return id, err
}

// ResumeRun gives halted and failed hosts their work again: those of the earliest wave among them, and the rest when
// these have ended.
func (s *Store) ResumeRun(ctx context.Context, id string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		var hosts []RunHost
		if err := tx.SelectContext(ctx, &hosts,
			`SELECT host, wave FROM run_host WHERE run = ? AND state IN ('halted', 'failed') ORDER BY wave, host`,
			id); err != nil {
			return err
		}
		if len(hosts) == 0 {
			return fmt.Errorf("run %s has no host that was halted or failed: %w", id, ErrConflict)
		}

		for _, h := range hosts {
			if _, err := tx.ExecContext(ctx,
				`UPDATE run_host SET state = 'waiting', halt = FALSE, message = '' WHERE run = ? AND host = ?`, id,
				h.Host); err != nil {
				return err
			}
			if h.Wave > hosts[0].Wave {
				continue
			}
			if err := addWork(ctx, tx, h.Host, wire.WorkRun, id); err != nil {
				return err
			}
		}

		if _, err := tx.ExecContext(ctx, `UPDATE run SET state = 'running', ended = NULL
			WHERE id = ?`, id); err != nil {
			return err
		}

		_, err := tx.ExecContext(ctx,
			`UPDATE plan p JOIN run r ON r.plan = p.id SET p.state = 'running' WHERE r.id = ?`, id)
		return err
	})
}

// HaltRun asks the agents to stop at the next step boundary. Hosts whose agents have not begun are halted at once:
// the agents may be away for long, or an order that was carried there has expired.
func (s *Store) HaltRun(ctx context.Context, id string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE run_host SET halt = TRUE WHERE run = ? AND state IN ('waiting', 'running')`, id)
		if err := changed(r, err, "run "+id+" is not running"); err != nil {
			return err
		}

		var idle []Work
		if err := tx.SelectContext(ctx, &idle,
			`SELECT w.id, w.host, w.kind, w.subject, w.state, w.tries FROM run_host h JOIN work w ON w.host = h.host
				AND w.kind = 'run' AND w.subject = h.run
			WHERE h.run = ? AND h.state = 'waiting' AND (w.state = 'waiting' OR w.state = 'taken'
			AND w.lease_until < ?) FOR UPDATE`, id,
			now()); err != nil || len(idle) == 0 {
			return err
		}

		for _, w := range idle {
			if err := endWork(ctx, tx, w.ID); err != nil {
				return err
			}
			if _, err := tx.ExecContext(ctx,
				`UPDATE run_host SET state = 'halted', message = 'halted before it began' WHERE run = ? AND host = ?
					AND state = 'waiting'`,
				id, w.Host); err != nil {
				return err
			}
		}

		_, err = settle(ctx, tx, id) // no wave comes after one that was halted
		return err
	})
}

// Run finds a run.
func (s *Store) Run(ctx context.Context, id string) (r RunRow, err error) {
	err = s.db.GetContext(ctx, &r, `SELECT `+runColumns+` FROM run WHERE id = ?`, id)
	return r, one(err, "run "+id)
}

// PlanRun finds a plan's run.
func (s *Store) PlanRun(ctx context.Context, plan string) (r RunRow, err error) {
	err = s.db.GetContext(ctx, &r, `SELECT `+runColumns+` FROM run WHERE plan = ?`, plan)
	return r, one(err, "the run of plan "+plan)
}

// Runs lists the newest first.
func (s *Store) Runs(ctx context.Context, before string, limit int) (out []RunRow, err error) {
	if before == "" {
		before = "~"
	}
	err = s.db.SelectContext(ctx, &out, `SELECT `+runColumns+` FROM run WHERE id < ? ORDER BY id DESC LIMIT ?`, before,
		limit)
	return out, err
}

// CountRuns counts all.
func (s *Store) CountRuns(ctx context.Context) (int64, error) {
	return s.count(ctx, `SELECT COUNT(*) FROM run`)
}

// A RunHost is a run on one host.
type RunHost struct {
	Wave     int            `db:"wave"` // hosts of a wave run when those of the one before have ended well
	Host     string         `db:"host"`
	State    lifecycle.Part `db:"state"`
	Total    int            `db:"total"` // steps
	Progress int            `db:"progress"`
	Done     int            `db:"done"`
	Already  int            `db:"already"` // as planned before the run came
	Skipped  int            `db:"skipped"` // no longer as reviewed
	Refused  int            `db:"refused"`
	Wrong    int            `db:"wrong"` // done, but changed again by somebody before the last look
	Message  string         `db:"message"`
}

// RunHosts returns a run's hosts.
func (s *Store) RunHosts(ctx context.Context, run string) (out []RunHost, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT host, wave, state, total, progress, done, already, skipped, refused, wrong, message FROM run_host
			WHERE run = ? ORDER BY host`,
		run)
	return out, err
}

// KeepOrder records the order that a host is given for a run, and its signature.
func (s *Store) KeepOrder(ctx context.Context, run, host string, order, signature []byte) error {
	_, err := s.exec(ctx, `UPDATE run_host SET given_order = ?, given_signature = ? WHERE run = ? AND host = ?`, order,
		signature, run, host)
	return err
}

// A GivenOrder is the order that a host was given for a run.
type GivenOrder struct {
	Host      string `db:"host"`
	Order     []byte `db:"given_order"`
	Signature []byte `db:"given_signature"`
}

// GivenOrders lists the orders that hosts were given for a run, by host.
func (s *Store) GivenOrders(ctx context.Context, run string) (out []GivenOrder, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT host, given_order, given_signature FROM run_host
		WHERE run = ? AND given_order IS NOT NULL ORDER BY host`, run)
	return out, err
}

// RunProgress records how far a host is, and reports whether it is to halt.
func (s *Store) RunProgress(ctx context.Context, run, host string, done int) (halt bool, err error) {
	if _, err := s.db.ExecContext(ctx,
		`UPDATE run_host SET state = 'running', progress = ? WHERE run = ? AND host = ?
			AND state IN ('waiting', 'running')`,
		done, run, host); err != nil {
		return false, err
	}
	err = s.db.GetContext(ctx, &halt, `SELECT halt FROM run_host WHERE run = ? AND host = ?`, run, host)
	return halt, one(err, "run "+run+" on "+host)
}

// PutOriginals stores what a run found; the same chunk again changes nothing.
func (s *Store) PutOriginals(ctx context.Context, run, host string, n int, chunk []byte) error {
	_, err := s.db.ExecContext(ctx,
		`INSERT INTO run_original (run, host, n, data) VALUES (?,?,?,?) ON DUPLICATE KEY UPDATE data = VALUES(data)`,
		run, host, n, encoder.EncodeAll(chunk, nil))
	return err
}

// Originals returns what a run found on a host, chunk by chunk, as steps from the original to what the run made.
func (s *Store) Originals(ctx context.Context, run, host string, n int) ([]plan.Step, error) {
	what := fmt.Sprintf("originals %d of run %s on %s", n, run, host)
	var b []byte
	err := s.db.GetContext(ctx, &b, `SELECT data FROM run_original WHERE run = ? AND host = ? AND n = ?`, run, host, n)
	if err := one(err, what); err != nil {
		return nil, err
	}
	if b, err = decoder.DecodeAll(b, nil); err != nil {
		return nil, fmt.Errorf("%s are damaged: %w", what, err)
	}
	steps, err := plan.DecodeChunk(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	return steps, nil
}

// runsOn goes by a key of its own: TestRunsOn.
const runsOn = `SELECT r.id, r.plan, r.state, r.started_by, r.started, r.ended
	FROM run_host h FORCE INDEX (by_host) JOIN run r ON r.id = h.run WHERE h.host = ? AND h.done > 0 ORDER BY h.run DESC LIMIT ?`

// RunsOn returns the runs that changed something on a host, the newest first.
func (s *Store) RunsOn(ctx context.Context, host string, limit int) (out []RunRow, err error) {
	err = s.db.SelectContext(ctx, &out, runsOn, host, limit)
	return out, err
}

// OriginalChunks counts the chunks that Originals returns.
func (s *Store) OriginalChunks(ctx context.Context, run, host string) (n int, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM run_original WHERE run = ? AND host = ?`, run, host)
	return n, err
}

// Result is a step that is not simply done.
type Result struct {
	Host    string `db:"host"`
	Step    int    `db:"step"`
	Outcome string `db:"outcome"`
	Path    []byte `db:"path"`
	Reason  string `db:"reason"`
}

// EndRunHost stores how a run ended on one host, and ends the run with its last host. It returns the hosts whose turn
// has come now.
func (s *Store) EndRunHost(
	ctx context.Context, work Work, d wire.RunDone, results []Result,
) (next []string, err error) {
	if _, err := s.db.ExecContext(ctx, `DELETE FROM run_result WHERE run = ?
		AND host = ?`, work.Subject, work.Host); err != nil {
		return nil, err
	}
	if err := batches(ctx, s, `INSERT INTO run_result (run, host, step, outcome, path, reason)`, 6, results,
		func(r Result) []any {
			return []any{work.Subject, work.Host, r.Step, r.Outcome, r.Path, clip(r.Reason, 4000)}
		}); err != nil {
		return nil, err
	}

	count := map[string]int{}
	for _, r := range results {
		count[r.Outcome]++
	}

	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		next = nil

		// Hosts that end together must see each other, or nobody ends the run: all of them write one row first, which
		// puts them in line on one server and in conflict on a cluster.
		if _, err := tx.ExecContext(ctx, `UPDATE run SET endings = endings + 1
			WHERE id = ?`, work.Subject); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx,
			`UPDATE run_host SET state = ?, message = ?, progress = ?, done = ?, already = ?, skipped = ?, refused = ?,
				wrong = ?
			WHERE run = ? AND host = ?`, d.State, clip(d.Message, 4000),
			d.Done+count["already"]+count["skipped"]+count["refused"], d.Done,
			count["already"], count["skipped"], count["refused"], len(d.Wrong), work.Subject, work.Host); err != nil {
			return err
		}
		if err := endWork(ctx, tx, work.ID); err != nil {
			return err
		}

		next, err = settle(ctx, tx, work.Subject)
		return err
	})

	return next, err
}

// settle ends a run whose hosts have ended, or returns the hosts whose turn has come.
func settle(ctx context.Context, tx *sqlx.Tx, run string) (next []string, err error) {
	end, next, err := advanceRun(ctx, tx, run)
	if err != nil || end == "" {
		return next, err
	}
	if _, err := tx.ExecContext(ctx, `UPDATE run SET state = ?, ended = ? WHERE id = ?`, end, now(), run); err != nil {
		return nil, err
	}
	_, err = tx.ExecContext(ctx, `UPDATE plan p JOIN run r ON r.plan = p.id SET p.state = ? WHERE r.id = ?`, end, run)
	return nil, err
}

// advanceRun looks at the state of a run: it gives the hosts of the next wave their work if the earlier ones have
// ended well, holds them back if not, and returns how the run has ended, if it has.
func advanceRun(ctx context.Context, tx *sqlx.Tx, run string) (end lifecycle.Run, next []string, err error) {
	var hosts []struct {
		RunHost
		Halt bool `db:"halt"`
	}
	var stopAt int
	if err := tx.SelectContext(ctx, &hosts,
		`SELECT host, wave, state, total, done, already, halt FROM run_host WHERE run = ? ORDER BY wave, host`,
		run); err != nil {
		return "", nil, err
	}
	if err := tx.GetContext(ctx, &stopAt, `SELECT stop_at FROM run WHERE id = ?`, run); err != nil {
		return "", nil, err
	}

	why := ""
	total := 0
	left := 0
	end = lifecycle.RunFinished

	for i, h := range hosts {
		switch {
		case h.State == lifecycle.PartWaiting && i > 0 && hosts[i-1].Wave < h.Wave: // and all before it have ended
			if why == "" && left*100 > stopAt*total {
				why = fmt.Sprintf("held back: of the first hosts' %d steps %d were not done, more than %d percent",
					total, left, stopAt)
			}

			for _, x := range hosts[i:] {
				if why != "" {
					_, err = tx.ExecContext(ctx,
						`UPDATE run_host SET state = 'halted', message = ? WHERE run = ? AND host = ?
							AND state = 'waiting'`,
						why, run, x.Host)
				} else {
					next = append(next, x.Host)
					err = addWork(ctx, tx, x.Host, wire.WorkRun, run)
				}
				if err != nil {
					return "", nil, err
				}
			}

			if why != "" {
				return lifecycle.RunHalted, nil, nil
			}

			return "", next, nil
		case h.State == lifecycle.PartWaiting, h.State == lifecycle.PartRunning:
			return "", nil, nil
		case h.State == lifecycle.PartHalted, h.State == lifecycle.PartFailed:
			end, why = lifecycle.RunHalted, "held back: the run did not end on host "+h.Host
		}
		if h.Halt {
			why = "held back: the run was halted"
		}
		total, left = total+h.Total, left+h.Total-h.Done-h.Already
	}

	return end, nil, nil
}

// RunResults lists what is not simply done.
func (s *Store) RunResults(ctx context.Context, run, afterHost string, afterStep, limit int) (out []Result, err error) {
	err = s.db.SelectContext(ctx, &out, `SELECT host, step, outcome, path, reason FROM run_result
		WHERE run = ? AND (host > ? OR host = ? AND step > ?) ORDER BY host, step LIMIT ?`, run, afterHost, afterHost,
		afterStep, limit)
	return out, err
}

// CountResults counts the steps of a run that are not simply done.
func (s *Store) CountResults(ctx context.Context, run string) (int64, error) {
	return s.count(ctx, `SELECT COUNT(*) FROM run_result WHERE run = ?`, run)
}
