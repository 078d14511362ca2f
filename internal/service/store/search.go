package store

import (
	"context"
	"strings"
)

// like returns a pattern for what contains a text, whatever characters it has.
func like(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(strings.ToLower(text)) + "%"
}

// HostsLike lists hosts by a part of their name or a tag, those that begin with it first.
func (s *Store) HostsLike(ctx context.Context, part string, limit int) (out []Host, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT `+hostColumns+` FROM host WHERE name LIKE ? OR tags LIKE ? ORDER BY name NOT LIKE ?, name LIMIT ?`,
		like(part), like(part), strings.TrimPrefix(like(part), "%"), limit)
	return out, err
}

// newestPlans bounds how far back plans are searched.
const newestPlans = 5000

// PlansLike lists plans by a part of their title, author or id, newest first.
func (s *Store) PlansLike(ctx context.Context, part string, limit int) (out []Plan, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT `+planColumns+
			` FROM plan JOIN (SELECT id AS found FROM (SELECT id, title, author FROM plan ORDER BY id DESC
				LIMIT ?) AS newest
		WHERE LOWER(title) LIKE ? OR author LIKE ? OR id LIKE ? ORDER BY id DESC LIMIT ?) AS few ON id = found
		ORDER BY id DESC`, newestPlans,
		like(part), like(part), like(part), limit)
	return out, err
}

// A Home is a directory with a snapshot that has it.
type Home struct {
	Directory []byte `db:"directory"`
	Host      string `db:"host"`
	Snapshot  string `db:"id"`
	Hosts     int    `db:"hosts"`
}

// Homes lists the distinct directories of the newest snapshots of every host.
func (s *Store) Homes(ctx context.Context, limit int) (out []Home, err error) {
	err = s.db.SelectContext(ctx, &out,
		`SELECT s.directory, MIN(s.host) AS host, MAX(s.id) AS id, COUNT(DISTINCT s.host) AS hosts FROM snapshot s JOIN
		(SELECT MAX(looked) AS newest FROM snapshot GROUP BY application, host, state
		HAVING state = 'ready') AS last ON s.looked = newest
		WHERE s.directory IS NOT NULL GROUP BY s.directory ORDER BY hosts DESC LIMIT ?`, limit)
	return out, err
}
