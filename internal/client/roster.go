package client

import (
	"context"
	"net/http"
	"net/url"

	"idletally/internal/core/roster"
	"idletally/internal/wire"
)

// Roster shows the roster.
func (c *Client) Roster(ctx context.Context) (wire.RosterNow, error) {
	return get[wire.RosterNow](ctx, c, "/roster", nil)
}

// ProposeRoster proposes the next edition of the roster, or makes the first one.
func (c *Client) ProposeRoster(ctx context.Context, document string) (wire.RosterNow, error) {
	return post[wire.RosterNow](ctx, c, "/roster", wire.NewRoster{Document: document})
}

// RosterStatement returns what the caller is to sign so that an edition counts.
func (c *Client) RosterStatement(ctx context.Context, digest string) (wire.ToSign, error) {
	return get[wire.ToSign](ctx, c, "/roster/"+url.PathEscape(digest)+"/statement", nil)
}

// SignRoster adds what the caller signed of an edition.
func (c *Client) SignRoster(ctx context.Context, digest string, signed roster.Signed) (wire.RosterNow, error) {
	in := wire.RosterSignature{Signed: signed}
	return post[wire.RosterNow](ctx, c, "/roster/"+url.PathEscape(digest)+"/sign", in)
}

// WithdrawRoster withdraws an edition that does not count.
func (c *Client) WithdrawRoster(ctx context.Context, digest string) error {
	return c.Do(ctx, http.MethodDelete, "/roster/"+url.PathEscape(digest), nil, nil)
}

// SigningKeys lists the keys that people have registered.
func (c *Client) SigningKeys(ctx context.Context) ([]wire.RosterKey, error) {
	return All[wire.RosterKey](ctx, c, "/signing-keys", nil, 100_000)
}

// AddSigningKey registers an SSH key of the caller.
func (c *Client) AddSigningKey(ctx context.Context, in wire.NewSigningKey) (wire.RosterKey, error) {
	return post[wire.RosterKey](ctx, c, "/me/signing-keys", in)
}

// RemoveSigningKey ends a key of the caller.
func (c *Client) RemoveSigningKey(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, "/me/signing-keys/"+url.PathEscape(id), nil, nil)
}
