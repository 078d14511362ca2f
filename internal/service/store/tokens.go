package store

import (
	"context"
	"strings"
	"time"

	"idletally/internal/service/auth"
)

// Token is what a program signs in with: for a person, with some of their roles, until a day.
type Token struct {
	ID       string     `db:"id"`
	Person   string     `db:"person"`
	Name     string     `db:"name"`
	RoleList string     `db:"roles"`
	Created  time.Time  `db:"created"`
	Expires  time.Time  `db:"expires"`
	Used     *time.Time `db:"used"` // last, to the minute
}

// Roles splits the list.
func (t Token) Roles() auth.Roles { return strings.Split(t.RoleList, ",") }

const tokenColumns = `id, person, name, roles, created, expires, used`

// AddToken keeps a token by its hash.
func (s *Store) AddToken(ctx context.Context, t Token, hash [32]byte) (Token, error) {
	t.ID, t.Created = NewID(), now()
	err := s.room(ctx, maxTokens, "tokens of "+t.Person, `SELECT COUNT(*) FROM token WHERE person = ?`, t.Person)
	if err == nil {
		err = s.room(ctx, maxAllTokens, "tokens in all", `SELECT COUNT(*) FROM token`)
	}
	if err != nil {
		return t, err
	}
	_, err = s.db.ExecContext(ctx,
		`INSERT INTO token (id, token_hash, person, name, roles, created, expires) VALUES (?,?,?,?,?,?,?)`, t.ID,
		hash[:], t.Person, t.Name, t.RoleList, t.Created, t.Expires.UTC())
	return t, err
}

// Tokens lists somebody's tokens, or everybody's.
func (s *Store) Tokens(ctx context.Context, person string) (out []Token, err error) {
	if person == "" {
		err = s.db.SelectContext(ctx, &out, `SELECT `+tokenColumns+` FROM token ORDER BY person, id LIMIT ?`,
			maxAllTokens+somewhat)
	} else {
		err = s.db.SelectContext(ctx, &out, `SELECT `+tokenColumns+` FROM token WHERE person = ? ORDER BY id`, person)
	}
	return out, err
}

// Token finds a token.
func (s *Store) Token(ctx context.Context, id string) (t Token, err error) {
	err = s.db.GetContext(ctx, &t, `SELECT `+tokenColumns+` FROM token WHERE id = ?`, id)
	return t, one(err, "token "+id)
}

// RemoveToken ends a token.
func (s *Store) RemoveToken(ctx context.Context, id string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM token WHERE id = ?`, id)
	return err
}

// TokenPerson finds for whom a token stands, with the roles that both the token and the person have now.
func (s *Store) TokenPerson(ctx context.Context, hash [32]byte) (p Person, t Token, err error) {
	err = s.db.GetContext(ctx, &t, `SELECT `+tokenColumns+` FROM token WHERE token_hash = ? AND expires > ?`, hash[:],
		now())
	if err != nil {
		return p, t, one(err, "token")
	}
	if p, err = s.Person(ctx, t.Person); err != nil {
		return p, t, err
	}
	p.RoleList = strings.Join(t.Roles().Within(p.Roles()), ",")
	if at := now(); t.Used == nil || at.Sub(*t.Used) > time.Minute {
		_, err = s.db.ExecContext(ctx, `UPDATE token SET used = ? WHERE id = ?`, at, t.ID)
	}
	return p, t, err
}
