package store

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"idletally/internal/core/lifecycle"
	"idletally/internal/core/statement"
	"idletally/internal/wire"
)

// Host is a host's record.
type Host struct {
	Name        string     `db:"name"`
	TagList     string     `db:"tags"`
	Certificate string     `db:"certificate"`
	Renewed     string     `db:"renewed"`   // one that took its place
	Enrolment   string     `db:"enrolment"` // which its orders are for; "" of one by an earlier version
	Version     string     `db:"version"`   // of its agent, as it said when it started last
	Protocol    int        `db:"protocol"`  // that it speaks
	Oldest      int        `db:"oldest"`    // that it works with
	System      string     `db:"system"`
	UpSince     *time.Time `db:"up_since"`
	RunsSince   *time.Time `db:"runs_since"`
	Watching    *bool      `db:"watching"` // nil where the agent never told
	WatchNotes  string     `db:"watch_notes"`
	Created     time.Time  `db:"created"`
	Carried     bool       `db:"carried"` // nothing leads there
	LastSeen    *time.Time `db:"last_seen"`

	Enrolled    *time.Time `db:"enrolled"`
	RenewedUsed *time.Time `db:"renewed_used"` // since when the agent has used the certificate that took its place
	Twice       *time.Time `db:"twice"`        // since when two are known to hold its identity

	// The fingerprint of the service's authority that signed its certificate and that it trusts; "" if it did not
	// tell.
	Authority string `db:"authority"`
	OrderKey  string `db:"order_key"` // by which it knows the service, in hexadecimal digits; "" where it did not tell

	Roster       int64  `db:"roster_edition"` // that it acts by, as its agent says; 0: by none
	RosterDigest []byte `db:"roster_digest"`
}

// Tags splits the list.
func (h Host) Tags() []string {
	if h.TagList == "" {
		return []string{}
	}
	return strings.Split(h.TagList, ",")
}

const hostColumns = `name, tags, certificate, renewed, enrolment, carried, version, protocol, oldest, system, up_since,
	runs_since, watching, watch_notes, created, last_seen, enrolled, renewed_used, twice, authority, order_key,
	roster_edition, roster_digest`

// Invite adds a host, or changes the tags of one if some are given, and stores the hash of its enrolment code.
func (s *Store) Invite(ctx context.Context, name string, tags []string, codeHash [32]byte, expires time.Time) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx,
			`INSERT INTO host (name, tags, created) VALUES (?,?,?) ON DUPLICATE KEY UPDATE tags = IF(VALUES(tags) = '',
				tags, VALUES(tags))`,
			name, strings.Join(tags, ","), now()); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO enrolment (code_hash, host, expires) VALUES (?,?,?)`, codeHash[:],
			name, expires.UTC())
		return err
	})
}

// AddHost adds a host without a code to enrol it with, if it is not there yet.
func (s *Store) AddHost(ctx context.Context, name string) error {
	_, err := s.db.ExecContext(ctx, `INSERT IGNORE INTO host (name, tags, created) VALUES (?,'',?)`, name, now())
	return err
}

// SetTags changes a host's tags; with was only if they are these.
func (s *Store) SetTags(ctx context.Context, name string, tags []string, was *string) error {
	list := strings.Join(tags, ",")
	return s.replace(ctx, "the tags of "+name, list, was,
		`UPDATE host SET tags = ? WHERE name = ? AND tags = COALESCE(?, tags)`, []any{list, name, was},
		func() (string, error) {
			h, err := s.Host(ctx, name)
			return h.TagList, err
		})
}

// UseCode uses up a code and returns which host it is for. The request that it came with may come again: its answer
// may have been lost.
func (s *Store) UseCode(ctx context.Context, codeHash, request [32]byte) (host string, err error) {
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		if err := changedOrErr(tx.ExecContext(ctx,
			`UPDATE enrolment SET used = ?, used_by = ? WHERE code_hash = ? AND (used IS NULL OR used_by = ?)
				AND expires > ?`,
			now(), request[:], codeHash[:], request[:], now())); err != nil {
			return err
		}
		return tx.GetContext(ctx, &host, `SELECT host FROM enrolment WHERE code_hash = ?`, codeHash[:])
	})
	return host, err
}

// Certified is what a host's agent got when it was enrolled.
type Certified struct {
	Serial, Version     string
	Carried             bool   // nothing leads there
	Authority, OrderKey string // by which it knows the service from then on
}

// SetCertificate says what a host's agent was given; an older certificate counts no more.
//
// It begins another enrolment, whose orders count for no other.
func (s *Store) SetCertificate(ctx context.Context, host string, c Certified) (enrolment string, err error) {
	enrolment = NewID()
	r, err := s.db.ExecContext(ctx,
		`UPDATE host SET certificate = ?, renewed = '', enrolment = ?, version = ?, carried = ?, enrolled = ?,
			renewed_used = NULL, twice = NULL,
		authority = ?, order_key = ? WHERE name = ?`, c.Serial, enrolment, c.Version, c.Carried, now(), c.Authority,
		c.OrderKey, host)
	return enrolment, changed(r, err, "host "+host)
}

// Greet records what runs on a host now.
func (s *Store) Greet(ctx context.Context, host string, in wire.Hello) error {
	since := func(seconds int64) time.Time { return now().Add(-wire.Ago(seconds)) }
	// What the agent made up is to be refused by its number, not by the database.
	small := func(n int) int { return min(max(n, 0), math.MaxInt16) }
	_, err := s.exec(ctx,
		`UPDATE host SET version = ?, protocol = ?, oldest = ?, system = ?, up_since = ?, runs_since = ?,
			roster_edition = ?, roster_digest = ? WHERE name = ?`,
		clip(in.Version, 64), small(in.Protocol), small(in.Oldest), clip(in.System, 160), since(in.Up), since(in.Runs),
		max(in.Roster.Number, 0), in.Roster.Hash[:], host)
	return err
}

// SetHostRoster records which edition of the roster a host acts by, as its agent says.
func (s *Store) SetHostRoster(ctx context.Context, host string, at statement.Point) error {
	_, err := s.exec(ctx, `UPDATE host SET roster_edition = ?, roster_digest = ? WHERE name = ?`, max(at.Number, 0),
		at.Hash[:], host)
	return err
}

// HostsWithRoster lists those of some hosts that act by a roster, by name.
func (s *Store) HostsWithRoster(ctx context.Context, names []string) (out []Host, err error) {
	for chunk := range slices.Chunk(names, 1000) {
		args := []any{}
		for _, n := range chunk {
			args = append(args, n)
		}
		var some []Host
		if err := s.db.SelectContext(ctx, &some, `SELECT `+hostColumns+` FROM host WHERE name IN `+in(len(args))+
			` AND roster_edition > 0 ORDER BY name`, args...); err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// HostsByRoster counts the enrolled hosts by the edition of the roster that they act by; 0: by none.
func (s *Store) HostsByRoster(ctx context.Context) (map[int64]int, error) {
	var rows []struct {
		Edition int64 `db:"roster_edition"`
		Hosts   int   `db:"hosts"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT roster_edition, COUNT(*) AS hosts FROM host WHERE certificate <> ''
		GROUP BY roster_edition ORDER BY roster_edition LIMIT 10000`)
	out := map[int64]int{}
	for _, r := range rows {
		out[r.Edition] = r.Hosts
	}
	return out, err
}

// RenewCertificate records which certificate a host's agent gets to replace the one that it called with. That one
// stays valid until it expires: an answer may be lost on its way.
func (s *Store) RenewCertificate(ctx context.Context, host, with, serial string) error {
	r, err := s.db.ExecContext(ctx,
		`UPDATE host SET certificate = ?, renewed = ?, renewed_used = NULL WHERE name = ? AND (certificate = ?
			OR renewed = ?)`,
		with, serial, host, with, with)
	return changed(r, err, "host "+host)
}

// UseRenewed records that a host's agent has begun to use the certificate that it renewed last.
func (s *Store) UseRenewed(ctx context.Context, host, serial string) error {
	_, err := s.exec(ctx, `UPDATE host SET renewed_used = ? WHERE name = ? AND renewed = ? AND renewed_used IS NULL`,
		now(), host, serial)
	return err
}

// TakeQuota counts what a host's agent sends on a day (UTC), in bytes; ErrConflict if it would be more than it may.
func (s *Store) TakeQuota(ctx context.Context, host string, bytes, most int64) error {
	day := now().Format(time.DateOnly)
	r, err := s.db.ExecContext(ctx,
		`UPDATE host SET sent = IF(sent_on = ?, sent, 0) + ?, sent_on = ? WHERE name = ?
			AND IF(sent_on = ?, sent, 0) + ? <= ?`,
		day, bytes, day, host, day, bytes, most)
	return changed(r, err, "what host "+host+" may send today")
}

// HeldTwice records that two hold a host's identity, and reports whether that was not known.
func (s *Store) HeldTwice(ctx context.Context, host string) (news bool, err error) {
	n, err := s.exec(ctx, `UPDATE host SET twice = ? WHERE name = ? AND twice IS NULL`, now(), host)
	return n > 0, err
}

// ShutOut revokes all certificates of a host's agent.
func (s *Store) ShutOut(ctx context.Context, host string) error {
	return s.tx(ctx, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx,
			`UPDATE host SET certificate = '', renewed = '', renewed_used = NULL, twice = NULL WHERE name = ?
				AND certificate <> ''`,
			host)
		if err := changed(r, err, "host "+host+", whose agent has no certificate that counts,"); err != nil {
			return err
		}
		// A used code is valid for its agent once more.
		_, err = tx.ExecContext(ctx, `DELETE FROM enrolment WHERE host = ?`, host)
		return err
	})
}

// SetKnown records by which keys a host's agent knows the service.
func (s *Store) SetKnown(ctx context.Context, host, authority, orderKey string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE host SET authority = ?, order_key = ? WHERE name = ?`, authority, orderKey,
		host)
	return err
}

// HostsBehind lists enrolled hosts by name, at most so many, which know the service by other keys than these.
func (s *Store) HostsBehind(ctx context.Context, authority, orderKey string, limit int) (out []Host, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT `+hostColumns+
			` FROM host WHERE certificate <> '' AND (authority <> ? OR order_key <> ?) ORDER BY name LIMIT ?`,
		authority, orderKey, limit)
	return out, err
}

// Seen records that an agent called.
func (s *Store) Seen(ctx context.Context, host string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE host SET last_seen = ? WHERE name = ?`, now(), host)
	return err
}

// Host finds a host.
func (s *Store) Host(ctx context.Context, name string) (h Host, err error) {
	err = s.db.GetContext(ctx, &h, `SELECT `+hostColumns+` FROM host WHERE name = ?`, name)
	return h, one(err, fmt.Sprintf("host %q", name))
}

// Hosts lists hosts by name, after one where it is given.
func (s *Store) Hosts(ctx context.Context, after string, limit int) ([]Host, error) {
	return s.HostsOf(ctx, HostFilter{}, after, limit)
}

// A HostFilter says which hosts are meant; empty fields do not restrict.
type HostFilter struct {
	Tag     string
	Version string         // of their agents
	State   lifecycle.Host // "" is any
	Silent  time.Time      // who was not heard of since then is silent
}

func (f HostFilter) where() (clause string, args []any) {
	add := func(condition string, values ...any) {
		clause, args = clause+" AND "+condition, append(args, values...)
	}
	if f.Tag != "" {
		add(`FIND_IN_SET(?, tags) > 0`, f.Tag)
	}

	if f.Version != "" {
		add(`certificate <> '' AND version = ?`, f.Version)
	}

	switch f.State {
	case lifecycle.HostInvited:
		add(`certificate = ''`)
	case lifecycle.HostCarried:
		add(`certificate <> '' AND carried`)
	case lifecycle.HostCalling:
		add(`certificate <> '' AND NOT carried AND last_seen >= ?`, f.Silent.UTC())
	case lifecycle.HostSilent:
		add(`certificate <> '' AND NOT carried AND (last_seen IS NULL OR last_seen < ?)`, f.Silent.UTC())
	}

	return clause, args
}

// HostsOf lists the hosts that match a filter, by name.
func (s *Store) HostsOf(ctx context.Context, f HostFilter, after string, limit int) (out []Host, err error) {
	clause, args := f.where()
	err = s.db.SelectContext(ctx, &out,
		`SELECT `+hostColumns+` FROM host WHERE name > ?`+clause+` ORDER BY name LIMIT ?`,
		slices.Concat([]any{after}, args, []any{limit})...)
	return out, err
}

// CountHosts counts the hosts that match a filter.
func (s *Store) CountHosts(ctx context.Context, f HostFilter) (int64, error) {
	clause, args := f.where()
	return s.count(ctx, `SELECT COUNT(*) FROM host WHERE TRUE`+clause, args...)
}

// Work is something for an agent to do.
type Work struct {
	ID      string         `db:"id"`
	Host    string         `db:"host"`
	Kind    string         `db:"kind"`
	Subject string         `db:"subject"`
	State   lifecycle.Work `db:"state"`
	Tries   int            `db:"tries"`
}

const lease = 45 * time.Second

func addWork(ctx context.Context, tx *sqlx.Tx, host, kind, subject string) error {
	_, err := tx.ExecContext(ctx,
		`INSERT INTO work (id, host, kind, subject, state, created) VALUES (?,?,?,?,'waiting',?)`,
		NewID(), host, kind, subject, now())
	return err
}

// Due returns for which hosts there is work that waits, and for which a question.
func (s *Store) Due(ctx context.Context) (work, questions []string, err error) {
	err = s.db.SelectContext(ctx, &work, `SELECT DISTINCT host FROM work WHERE state = 'waiting' LIMIT 100000`)
	if err == nil {
		err = s.db.SelectContext(ctx, &questions,
			`SELECT DISTINCT host FROM question WHERE state = 'waiting' LIMIT 100000`)
	}
	return work, questions, err
}

// ClaimWork returns a host's agent its next work, if there is any. Taken work whose lease ran out is given again: an
// agent that was killed goes on with it.
func (s *Store) ClaimWork(ctx context.Context, host string) (*Work, error) {
	var list []Work
	if err := s.db.SelectContext(ctx, &list, `SELECT id, host, kind, subject, state, tries FROM work
		WHERE host = ? AND state IN ('waiting', 'taken') AND (lease_until IS NULL OR lease_until < ?) ORDER BY id
		LIMIT 1`, host,
		now()); err != nil || len(list) == 0 {
		return nil, err
	}

	w := list[0]
	r, err := s.db.ExecContext(ctx,
		`UPDATE work SET state = 'taken', lease_until = ?, tries = tries + 1 WHERE id = ? AND state = ? AND tries = ?`,
		now().Add(lease), w.ID, w.State, w.Tries)
	if err != nil {
		return nil, err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return nil, err // another one was faster
	}

	w.State = lifecycle.WorkTaken
	return &w, nil
}

// RunWork finds a host's part of a run that has not ended.
func (s *Store) RunWork(ctx context.Context, host, run string) (w Work, err error) {
	err = s.db.GetContext(ctx, &w,
		`SELECT id, host, kind, subject, state, tries FROM work WHERE host = ? AND state IN ('waiting', 'taken')
			AND kind = 'run' AND subject = ?`,
		host, run)
	return w, one(err, "work of run "+run+" on host "+host)
}

// CarryWork gives a host's part of a run to whoever carries it there, until a time; nobody else is given it.
func (s *Store) CarryWork(ctx context.Context, host, run string, until time.Time) error {
	w, err := s.RunWork(ctx, host, run)
	if err == nil {
		_, err = s.db.ExecContext(ctx,
			`UPDATE work SET state = 'taken', lease_until = ? WHERE id = ? AND state IN ('waiting', 'taken')`,
			until.UTC(), w.ID)
	}
	return err
}

// ReleaseWork lets an agent have its taken work again at once: it has just been restarted.
func (s *Store) ReleaseWork(ctx context.Context, host string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE work SET lease_until = NULL WHERE host = ? AND state = 'taken'`, host)
	return err
}

// OwnWork finds work that a host holds.
func (s *Store) OwnWork(ctx context.Context, host, id string) (w Work, err error) {
	err = s.db.GetContext(ctx, &w, `SELECT id, host, kind, subject, state, tries FROM work WHERE id = ? AND host = ?`,
		id, host)
	return w, one(err, "work "+id)
}

// KeepWork renews the lease.
func (s *Store) KeepWork(ctx context.Context, id string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE work SET lease_until = ? WHERE id = ? AND state = 'taken'`,
		now().Add(lease), id)
	return err
}

func endWork(ctx context.Context, tx *sqlx.Tx, id string) error {
	_, err := tx.ExecContext(ctx, `UPDATE work SET state = 'done', lease_until = NULL WHERE id = ?`, id)
	return err
}
