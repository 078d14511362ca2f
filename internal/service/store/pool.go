package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net"
	"reflect"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
)

// A pool is connections to a database, or to any node of a cluster. What can be repeated without harm is, if another
// transaction was in its way or a connection broke.
type pool struct{ *sqlx.DB }

const (
	tries    = 10
	maxConns = 24
	maxIdle  = 12
)

// again repeats something until it succeeds, as long as it may be repeated.
func (p pool) again(ctx context.Context, do func() error) error {
	for n := 1; ; n++ {
		err := do()
		if err == nil || errors.Is(err, ErrUnsure) || !retryable(err) && !lost(err) {
			return err
		}

		if lost(err) { // the other connections led there, too
			p.SetMaxIdleConns(0)
			p.SetMaxIdleConns(maxIdle)
		}

		if n == tries {
			return err
		}

		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Duration(mathrand.IntN(10<<min(n, 6))) * time.Millisecond):
		}
	}
}

// GetContext reads one row.
func (p pool) GetContext(ctx context.Context, to any, query string, args ...any) error {
	return p.again(ctx, func() error { return p.DB.GetContext(ctx, to, query, args...) })
}

// SelectContext reads rows.
func (p pool) SelectContext(ctx context.Context, to any, query string, args ...any) error {
	return p.again(ctx, func() error {
		reflect.ValueOf(to).Elem().SetZero() // it would go on behind what a broken connection gave
		return p.DB.SelectContext(ctx, to, query, args...)
	})
}

// ExecContext runs one statement that is a change of its own.
func (p pool) ExecContext(ctx context.Context, query string, args ...any) (r sql.Result, err error) {
	err = p.alone(ctx, func(x sqlx.ExtContext) (err error) {
		r, err = x.ExecContext(ctx, query, args...)
		return err
	})
	return r, err
}

// NamedExecContext is ExecContext with arguments by name.
func (p pool) NamedExecContext(ctx context.Context, query string, arg any) (r sql.Result, err error) {
	err = p.alone(ctx, func(x sqlx.ExtContext) (err error) {
		r, err = sqlx.NamedExecContext(ctx, x, query, arg)
		return err
	})
	return r, err
}

func (p pool) alone(ctx context.Context, do func(sqlx.ExtContext) error) error {
	if a := attemptOf(ctx); a != nil && !a.Done {
		return p.tx(ctx, func(tx *sqlx.Tx) error { return do(tx) })
	}
	return p.again(ctx, func() error { return unsure(do(p.DB)) })
}

// unsure is for what may have been committed, though nobody could say so any more.
func unsure(err error) error {
	if err != nil && lost(err) && !retryable(err) && !errors.Is(err, driver.ErrBadConn) && !dialing(err) {
		return fmt.Errorf("%w: %w", ErrUnsure, err)
	}
	return err
}

// dialing reports that there was no connection to begin with.
func dialing(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && op.Op == "dial"
}

// tx runs a transaction, again as a whole if another one was in its way or the connection broke. If it belongs to an
// attempt, that is marked in it; and if the connection breaks during the commit, the mark tells whether it was
// committed.
func (p pool) tx(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	a := attemptOf(ctx)
	if a != nil && a.Done {
		a = nil
	}

	return p.again(ctx, func() error {
		tx, err := p.BeginTxx(ctx, nil)
		if err != nil {
			return fmt.Errorf("begin transaction: %w", err)
		}
		defer tx.Rollback()

		if a != nil {
			if err := a.mark(ctx, tx); err != nil || a.Done {
				return err
			}
		}

		if err := f(tx); err != nil {
			return err
		}
		err = tx.Commit()
		if a == nil {
			return unsure(err)
		}

		a.Done = err == nil
		return err
	})
}

// nodes returns the address of each node: a database's address may name several,
// user:password@tcp(one:3306,two:3306)/name.
func nodes(dsn string) []string {
	head, rest, ok := strings.Cut(dsn, "@tcp(")
	list, tail, closed := strings.Cut(rest, ")")
	if !ok || !closed {
		return []string{dsn}
	}
	var out []string
	for n := range strings.SplitSeq(list, ",") {
		out = append(out, head+"@tcp("+strings.TrimSpace(n)+")"+tail)
	}
	return out
}

// A connector makes connections to the first node that is ready.
type connector struct {
	nodes []driver.Connector

	mu  sync.Mutex
	bad []time.Time // until when a node is asked last
}

func (c *connector) Driver() driver.Driver { return c.nodes[0].Driver() }

func (c *connector) Connect(ctx context.Context) (driver.Conn, error) {
	order := make([]int, 0, len(c.nodes))
	var later []int
	c.mu.Lock()

	for i, until := range c.bad {
		if time.Now().Before(until) {
			later = append(later, i)
		} else {
			order = append(order, i)
		}
	}

	c.mu.Unlock()
	var all error
	for _, i := range append(order, later...) {
		conn, err := c.nodes[i].Connect(ctx)
		if err == nil {
			if err = ready(ctx, conn); err == nil {
				return conn, nil
			}
			_ = conn.Close()
		}

		if ctx.Err() != nil {
			return nil, err
		}

		all = errors.Join(all, err)
		c.mu.Lock()
		c.bad[i] = time.Now().Add(5 * time.Second)
		c.mu.Unlock()
	}

	return nil, all
}

// ready makes a node of a cluster catch up with what the others have committed before it answers, and reports whether
// it is part of the cluster.
func ready(ctx context.Context, conn driver.Conn) error {
	x := conn.(driver.ExecerContext)
	// For reads and for changes of what is there; a server without clusters has no such variable.
	_, err := x.ExecContext(ctx, "SET SESSION wsrep_sync_wait = 3", nil)
	if number, _ := numbered(err); err != nil && number != erUnknownVariable {
		return err
	}
	_, err = x.ExecContext(ctx, "DO 1", nil)
	return err
}
