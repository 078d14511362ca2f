package client

import (
	"context"
	"net/url"
	"strconv"

	"idletally/internal/core/access"
	"idletally/internal/core/pathname"
	"idletally/internal/wire"
)

// A Looker asks about one host, now, or about one snapshot.
type Looker struct {
	*Client
	Host, Snapshot string
}

func (l Looker) query(path string, more ...string) url.Values {
	q := url.Values{}
	for i := 0; i < len(more); i += 2 {
		if more[i+1] != "" {
			q.Set(more[i], more[i+1])
		}
	}

	if l.Host != "" {
		q.Set("host", l.Host)
	}

	if l.Snapshot != "" {
		q.Set("snapshot", l.Snapshot)
	}

	if path != "" {
		q.Set("path", pathname.Escape(path))
	}

	return q
}

func (l Looker) supposed(q url.Values, s wire.Supposed) url.Values {
	for name, v := range map[string]string{"edition": s.Edition, "plan": s.Plan} {
		if v != "" {
			q.Set(name, v)
		}
	}
	for name, list := range map[string][]string{"joining": s.Joining, "privilege": s.Privileges} {
		for _, v := range list {
			q.Add(name, v)
		}
	}
	return q
}

// Sight shows one path.
func (l Looker) Sight(ctx context.Context, path string) (wire.Sight, error) {
	return get[wire.Sight](ctx, l.Client, "/path", l.query(path))
}

// List lists a part of a folder; "" lists the roots of a snapshot.
func (l Looker) List(ctx context.Context, path, account, after string, limit int) (wire.Listing, error) {
	return get[wire.Listing](ctx, l.Client, "/paths",
		l.query(path, "account", account, "after", after, "limit", strconv.Itoa(limit)))
}

// New says what an account's new files and folders get in a folder.
func (l Looker) New(ctx context.Context, path, account, umask string) (wire.Fresh, error) {
	return get[wire.Fresh](ctx, l.Client, "/paths/new", l.query(path, "account", account, "umask", umask))
}

// PathTimes says what a path was in the snapshots of a host, of older ones after what an earlier answer gave as next.
func (c *Client) PathTimes(ctx context.Context, host, path, after string) (wire.PathTimes, error) {
	q := url.Values{"host": {host}, "path": {pathname.Escape(path)}}
	if after != "" {
		q.Set("after", after)
	}
	return get[wire.PathTimes](ctx, c, "/paths/times", q)
}

// Decide answers what an account can do with a path.
func (l Looker) Decide(
	ctx context.Context, account, path string, op access.Operation, s wire.Supposed,
) (wire.Judgement, error) {
	return get[wire.Judgement](ctx, l.Client, "/access",
		l.supposed(l.query(path, "account", account, "operation", nameOf(op)), s))
}

// Propose answers what it would take that an account can do something with a path.
func (l Looker) Propose(ctx context.Context, account, path string, op access.Operation) (wire.Proposals, error) {
	return get[wire.Proposals](ctx, l.Client, "/access/proposals",
		l.query(path, "account", account, "operation", nameOf(op)))
}

// Restrict answers what has to be taken away so that nobody but some accounts can do something with a path.
func (l Looker) Restrict(
	ctx context.Context, only []string, path string, op access.Operation,
) (wire.Restriction, error) {
	q := l.query(path, "operation", nameOf(op))
	for _, name := range only {
		q.Add("only", name)
	}
	return get[wire.Restriction](ctx, l.Client, "/access/restriction", q)
}

// Holders answers who can do something with a path.
func (l Looker) Holders(ctx context.Context, path string, op access.Operation, s wire.Supposed) (wire.Holders, error) {
	return get[wire.Holders](ctx, l.Client, "/access/holders", l.supposed(l.query(path, "operation", nameOf(op)), s))
}

// Matrix answers what the accounts that matter can do with a path.
func (l Looker) Matrix(ctx context.Context, path string, s wire.Supposed) (wire.Matrix, error) {
	return get[wire.Matrix](ctx, l.Client, "/access/matrix", l.supposed(l.query(path), s))
}

// Below answers what an account can do below a folder.
func (l Looker) Below(ctx context.Context, ask wire.BelowAsk) (wire.Below, error) {
	q := l.query(ask.Path, "account", ask.Account, "operation", nameOf(ask.Operation), "after", ask.After, "limit",
		strconv.Itoa(ask.Limit))
	if ask.Behind {
		q.Set("behind", "true")
	}
	return get[wire.Below](ctx, l.Client, "/access/below", l.supposed(q, ask.Supposed))
}

// Account says who an account is.
func (l Looker) Account(ctx context.Context, name string) (wire.Account, error) {
	return get[wire.Account](ctx, l.Client, "/accounts/"+url.PathEscape(name), l.query(""))
}

// Probe has the host try as an account.
func (l Looker) Probe(ctx context.Context, account, path string) (wire.Probe, error) {
	return post[wire.Probe](ctx, l.Client, "/access/probe", wire.ProbeAsk{
		Host:    l.Host,
		Account: account,
		Path:    pathname.Escape(path),
	})
}

func nameOf(op access.Operation) string {
	if op == 0 {
		return ""
	}
	return op.String()
}
