package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"github.com/jmoiron/sqlx"
)

// Approval is one person's.
type Approval struct {
	Reviewer string    `db:"reviewer"`
	At       time.Time `db:"at"`
	Remark   string    `db:"remark"`
	Words    string    `db:"words"` // JSON: caution -> what the reviewer says of it

	RoleList   *string    `db:"roles"`       // that the reviewer has now; nil where nobody has this name any more
	CountsFrom *time.Time `db:"counts_from"` // from when on the reviewer's approvals count; nil is always
}

const approvals = `SELECT a.reviewer, a.at, a.remark, a.words, p.roles, p.counts_from FROM plan_approval a LEFT
	JOIN person p ON p.name = a.reviewer WHERE a.plan = ? ORDER BY a.at, a.reviewer`

// Approvals lists those of a plan, the first first.
func (s *Store) Approvals(ctx context.Context, plan string) (out []Approval, err error) {
	err = s.db.SelectContext(ctx, &out, approvals, plan)
	return out, err
}

// Reviewers returns how many people have to approve an application's plans.
func (s *Store) Reviewers(ctx context.Context, application string) (int, error) {
	r, err := s.ReviewRule(ctx, application)
	return r.Reviewers, err
}

// A ReviewRule is how many people look at what an application is about to have.
type ReviewRule struct {
	Reviewers int `db:"reviewers"` // of its plans
	Editions  int `db:"editions"`  // before an edition of its baseline is published
}

// ReviewRule returns an application's.
func (s *Store) ReviewRule(ctx context.Context, application string) (ReviewRule, error) {
	var rules []ReviewRule
	err := s.db.SelectContext(ctx, &rules, `SELECT reviewers, editions FROM review_rule WHERE application = ?`,
		application)
	if err != nil || len(rules) == 0 {
		return ReviewRule{Reviewers: 1}, err
	}
	return rules[0], nil
}

// SetReviewRule sets it; with was only if it is that.
func (s *Store) SetReviewRule(ctx context.Context, application string, to ReviewRule, was *ReviewRule) error {
	if was == nil {
		_, err := s.exec(ctx,
			`INSERT INTO review_rule (application, reviewers, editions) VALUES (?,?,?)
				ON DUPLICATE KEY UPDATE reviewers = VALUES(reviewers), editions = VALUES(editions)`,
			application, to.Reviewers, to.Editions)
		return err
	}

	if *was == (ReviewRule{Reviewers: 1}) { // which needs no row
		if _, err := s.exec(ctx, `INSERT IGNORE INTO review_rule (application, reviewers)
			VALUES (?,1)`, application); err != nil {
			return err
		}
	}

	before := was.String()
	return s.replace(ctx, "who looks at what "+application+" is about to have", to.String(), &before,
		`UPDATE review_rule SET reviewers = ?, editions = ? WHERE application = ? AND reviewers = ? AND editions = ?`,
		[]any{to.Reviewers, to.Editions, application, was.Reviewers, was.Editions},
		func() (string, error) {
			now, err := s.ReviewRule(ctx, application)
			return now.String(), err
		})
}

// String returns both numbers, by which a rule is told from another.
func (r ReviewRule) String() string {
	return strconv.Itoa(r.Reviewers) + "/" + strconv.Itoa(r.Editions)
}

// Approving is how somebody approves a plan.
type Approving struct {
	By, Remark string
	Words      map[string]string // on grave cautions
	Digest     []byte            // of what they looked at
	Needed     int               // approvals in all
	Life       time.Duration     // of an approval
	Signature  Signature         // where people sign
}

// ApprovePlan adds a person's approval of what has exactly this digest and is in review. An approval is valid for as
// long as its life is, if counts says so; with the last one that is needed the plan is approved, until the first of
// them expires.
func (s *Store) ApprovePlan(
	ctx context.Context, p Plan, a Approving, counts func(Approval) bool,
) (approved bool, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		approved = false

		// The plan's row puts approvals that come together in line.
		r, err := tx.ExecContext(ctx,
			`UPDATE plan SET touched = touched + 1 WHERE id = ? AND state = 'in review' AND author <> ? AND digest = ?`,
			p.ID, a.By, a.Digest)
		if err := changed(r, err, "plan "+p.ID+" is not in review, or is not the one you looked at"); err != nil {
			return err
		}
		if err := addApproval(ctx, tx, p.ID, a); err != nil {
			return err
		}

		var all []Approval
		if err := tx.SelectContext(ctx, &all, approvals, p.ID); err != nil {
			return err
		}

		var standing []time.Time
		for _, x := range all {
			if x.Reviewer != p.Author && x.At.After(now().Add(-a.Life)) && counts(x) {
				standing = append(standing, x.At)
			}
		}

		if len(standing) < a.Needed {
			return nil
		}

		approved = true
		_, err = tx.ExecContext(ctx,
			`UPDATE plan SET state = 'approved', decided_by = ?, decided = ?, remark = ?, expires = ? WHERE id = ?`,
			a.By, now(), a.Remark, standing[0].Add(a.Life).Truncate(time.Second), p.ID)
		return err
	})

	return approved, err
}

// ApproveAlone has a plan with exactly this digest approved by one person; ErrConflict where it is neither a draft nor
// in review. What others approved of it is no longer valid.
func (s *Store) ApproveAlone(ctx context.Context, plan string, a Approving) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE plan SET state = 'approved', alone = TRUE, decided_by = ?, decided = ?, remark = ?, expires = ?,
				touched = touched + 1 WHERE id = ? AND state IN ('draft', 'in review') AND digest = ?`,
			a.By, now(), a.Remark, now().Add(a.Life).Truncate(time.Second), plan, a.Digest)
		not := "plan " + plan + " is neither a draft nor in review, or is not the one you looked at"
		if err := changed(r, err, not); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM plan_approval WHERE plan = ?`, plan); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM plan_signed WHERE plan = ? AND says = 'approved'`,
			plan); err != nil {
			return err
		}
		return addApproval(ctx, tx, plan, a)
	})
}

// addApproval keeps what somebody said and signed as they approved a plan, in place of what they said before.
func addApproval(ctx context.Context, tx *sqlx.Tx, plan string, a Approving) error {
	words, err := json.Marshal(a.Words)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx,
		`INSERT INTO plan_approval (plan, reviewer, at, remark, words) VALUES (?,?,?,?,?)
			ON DUPLICATE KEY UPDATE at = VALUES(at), remark = VALUES(remark), words = VALUES(words)`, plan, a.By,
		now(), a.Remark, words); err != nil {
		return err
	}
	return signPlan(ctx, tx, plan, a.Signature)
}

// SubmitPlan puts a draft in review; ErrConflict if it is none.
func (s *Store) SubmitPlan(ctx context.Context, id string, g Signature) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE plan SET state = 'in review' WHERE id = ? AND state = 'draft'`, id)
		if err := changed(r, err, fmt.Sprintf("plan %s is not \"draft\"", id)); err != nil {
			return err
		}
		return signPlan(ctx, tx, id, g)
	})
}

// WithdrawPlan takes a plan that did not run out of review; its approvals are void then.
func (s *Store) WithdrawPlan(ctx context.Context, id string) error {
	return s.unapprove(ctx, id, "draft", "")
}

// WithdrawApproval takes one person's approval back.
func (s *Store) WithdrawApproval(ctx context.Context, id, by string) error {
	return s.unapprove(ctx, id, "in review", by)
}

func (s *Store) unapprove(ctx context.Context, id, to, by string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE plan SET state = ?, touched = touched + 1, decided_by = '', decided = NULL, remark = '',
				expires = NULL, alone = FALSE WHERE id = ? AND state IN ('in review', 'approved')`,
			to, id)
		if err := changed(r, err, fmt.Sprintf("plan %s is neither in review nor approved", id)); err != nil {
			return err
		}
		if by == "" {
			if _, err = tx.ExecContext(ctx, `DELETE FROM plan_signed WHERE plan = ?`, id); err != nil {
				return err
			}
			_, err = tx.ExecContext(ctx, `DELETE FROM plan_approval WHERE plan = ?`, id)
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM plan_signed WHERE plan = ? AND says IN ('approved', 'alone') AND who = ?`,
			id, by); err != nil {
			return err
		}
		r, err = tx.ExecContext(ctx, `DELETE FROM plan_approval WHERE plan = ? AND reviewer = ?`, id, by)
		return changed(r, err, fmt.Sprintf("%s has not approved plan %s", by, id))
	})
}

// Remark is what somebody said of a plan, or of the step of one path.
type Remark struct {
	ID     string    `db:"id"`
	Author string    `db:"author"`
	At     time.Time `db:"at"`
	Host   string    `db:"host"`
	Path   []byte    `db:"path"`
	Body   string    `db:"body"`
}

// AddRemark keeps one.
func (s *Store) AddRemark(ctx context.Context, plan string, r Remark) error {
	_, err := s.exec(ctx, `INSERT INTO plan_remark (plan, id, author, at, host, path, body) VALUES (?,?,?,?,?,?,?)`,
		plan, NewID(), r.Author, now(), r.Host, r.Path, r.Body)
	return err
}

// Remarks lists a plan's, the oldest first.
func (s *Store) Remarks(ctx context.Context, plan string) (out []Remark, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT id, author, at, host, path, body FROM plan_remark WHERE plan = ? ORDER BY id LIMIT 2000`, plan)
	return out, err
}
