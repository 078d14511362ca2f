// Package store keeps the service's records in MariaDB. Nothing in it relies on one server:
// work is claimed by compare-and-set, conflicts are retried as whole transactions, and no table
// has a counter.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/base32"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"math"
	mathrand "math/rand/v2"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"idletally/internal/core/chain"
)

//go:embed migrations/*.sql
var migrations embed.FS

// A Store is the database.
type Store struct {
	db     pool
	Trust  Trust
	Sealed func(chain.Head) bool // says whether Seal signed the end of the history; nil does not look
	Seal   func(*chain.Head)     // signs the end of the history; nil leaves it unsigned
}

// Open connects and brings the tables up to date.
func Open(ctx context.Context, dsn string) (*Store, error) {
	db, err := connect(ctx, dsn)
	if err != nil {
		return nil, err
	}
	if err := migrate(ctx, db.DB); err != nil {
		db.Close()
		return nil, err
	}
	s := &Store{db: pool{db}, Trust: usualTrust}
	if err := s.goOn(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return s, nil
}

// Attach connects, and leaves the tables as they are.
func Attach(ctx context.Context, dsn string) (*Store, error) {
	db, err := connect(ctx, dsn)
	if err != nil {
		return nil, err
	}
	return &Store{db: pool{db}, Trust: usualTrust}, nil
}

// Ping returns why a database cannot be used, and changes nothing there.
func Ping(ctx context.Context, dsn string) error {
	db, err := connect(ctx, dsn)
	if err != nil {
		return err
	}
	return db.Close()
}

// WithoutPassword is a database's address as it may be shown.
func WithoutPassword(dsn string) string {
	if dsn == "" {
		return ""
	}
	account, _, named := strings.Cut(dsn, ":")
	at := strings.LastIndexByte(dsn, '@')
	for _, node := range nodes(dsn) {
		if _, err := mysql.ParseDSN(node); err != nil {
			return "?" // what cannot be read may have a password anywhere
		}
	}
	if named && at > len(account) {
		return account + ":…" + dsn[at:]
	}
	return dsn
}

func connect(ctx context.Context, dsn string) (*sqlx.DB, error) {
	all := &connector{}
	for _, node := range nodes(dsn) {
		c, err := nodeConnector(node)
		if err != nil {
			return nil, err
		}
		all.nodes = append(all.nodes, c)
	}

	all.bad = make([]time.Time, len(all.nodes))
	db := sqlx.NewDb(sql.OpenDB(all), "mysql")
	db.SetMaxOpenConns(maxConns)
	db.SetMaxIdleConns(maxIdle)
	db.SetConnMaxLifetime(10 * time.Minute)
	ping, cancel := context.WithTimeout(ctx, 15*time.Second)
	defer cancel()

	if err := db.PingContext(ping); err != nil {
		db.Close()
		return nil, fmt.Errorf("the database at %s does not answer: %w: start it, or correct --database",
			WithoutPassword(dsn), err)
	}

	return db, nil
}

func nodeConnector(dsn string) (driver.Connector, error) {
	cfg, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("database address: %w: want user:password@tcp(host:port)/name", err)
	}
	if host, _, err := net.SplitHostPort(cfg.Addr); cfg.Net == "tcp" && err == nil && !here(host) &&
		cfg.TLSConfig == "" {
		return nil, fmt.Errorf(
			"what goes to the database at %s could be read and changed on the way: add ?tls=true to its address, or "+
				"?tls=false where nobody else is on that network",
			cfg.Addr)
	}

	cfg.ParseTime = true
	cfg.Loc = time.UTC
	cfg.Timeout = 10 * time.Second
	cfg.ReadTimeout = 60 * time.Second
	cfg.WriteTimeout = 60 * time.Second
	cfg.Collation = "utf8mb4_bin"
	// A row that is found counts, also where it has the new values already: what comes twice within a millisecond is
	// no conflict.
	cfg.ClientFoundRows = true
	cfg.InterpolateParams = true
	cfg.RejectReadOnly = true
	if cfg.Params == nil {
		cfg.Params = map[string]string{}
	}

	cfg.Params["time_zone"] = "'+00:00'"
	cfg.Params["sql_mode"] = "'STRICT_ALL_TABLES,NO_ZERO_DATE,ERROR_FOR_DIVISION_BY_ZERO'"
	cfg.MaxAllowedPacket = 64 << 20
	c, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}

	return c, nil
}

// here reports whether a host is this machine.
func here(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// migrator brings tables from one version to another.
func migrator(db *sql.DB) (*goose.Provider, error) {
	p, err := goose.NewProvider(goose.DialectMySQL, db, mustSub(), goose.WithVerbose(false))
	if err != nil {
		return nil, fmt.Errorf("prepare the database's tables: %w", err)
	}
	return p, nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	p, err := migrator(db)
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("bring the database's tables up to date: %w", err)
	}
	return nil
}

// Upkeep does what a newer version has to do once to what an earlier one wrote.
func (s *Store) Upkeep(ctx context.Context, name string, do func() error) error {
	var due bool
	if err := s.db.GetContext(ctx, &due, `SELECT EXISTS (SELECT 1 FROM upkeep WHERE name = ?)`, name); err != nil ||
		!due {
		return err
	}
	if err := do(); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	_, err := s.exec(ctx, `DELETE FROM upkeep WHERE name = ?`, name)
	return err
}

// Close closes the connections.
func (s *Store) Close() error { return s.db.Close() }

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	return s.db.PingContext(ctx)
}

var base32Lower = base32.NewEncoding("0123456789abcdefghjkmnpqrstvwxyz").WithPadding(base32.NoPadding)

// last is the last id that was made here.
var last struct {
	sync.Mutex
	ms  int64
	low uint32
}

// NewID makes an id: 48 bits of milliseconds and 32 more, so that ids sort by when they were made. Ids show what is
// newest: those of one millisecond continue each other, and so do all when the clock is set back.
func NewID() string {
	last.Lock()
	defer last.Unlock()
	if t := time.Now().UnixMilli(); t > last.ms {
		last.ms, last.low = t, mathrand.Uint32()>>1 // there is room above
	} else if step := 1 + mathrand.Uint32N(1<<16); last.low > math.MaxUint32-step {
		last.ms, last.low = last.ms+1, mathrand.Uint32()>>1
	} else {
		last.low += step
	}
	return id(last.ms, last.low)
}

func id(ms int64, low uint32) string {
	var b [10]byte
	binary.BigEndian.PutUint64(b[:], uint64(ms)<<16)
	binary.BigEndian.PutUint32(b[6:], low)
	return base32Lower.EncodeToString(b[:])
}

// goOn makes new ids come after those that are stored, whatever the clock says now.
func (s *Store) goOn(ctx context.Context) error {
	for _, of := range [][2]string{
		{"id", "snapshot"},
		{"looked", "snapshot"},
		{"id", "report"},
		{"id", "plan"},
		{"id", "run"},
		{"id", "work"},
		{"id", "audit"},
		{"id", "happening"},
	} {
		var newest sql.NullString
		if err := s.db.GetContext(ctx, &newest, `SELECT MAX(`+of[0]+`) FROM `+of[1]); err != nil {
			return err
		}
		b, err := base32Lower.DecodeString(newest.String)
		if err != nil || len(b) < 6 {
			continue // there is none
		}

		last.Lock()
		if t := int64(binary.BigEndian.Uint64(append([]byte{0, 0}, b[:6]...))); t >= last.ms {
			last.ms, last.low = t, math.MaxUint32
		}

		last.Unlock()
	}

	return nil
}

// idAt makes an id that sorts with those of another time.
func idAt(t time.Time) string { return id(t.UnixMilli(), mathrand.Uint32()) }

// now is the time as the database stores it.
func now() time.Time { return time.Now().UTC().Truncate(time.Millisecond) }

// count answers a query for one number.
func (s *Store) count(ctx context.Context, query string, args ...any) (n int64, err error) {
	err = s.db.GetContext(ctx, &n, query, args...)
	return n, err
}

// tx runs a transaction.
func (s *Store) tx(ctx context.Context, f func(tx *sqlx.Tx) error) error { return s.db.tx(ctx, f) }

// one turns "no rows" into ErrNotFound.
func one(err error, what string) error {
	if errors.Is(err, sql.ErrNoRows) {
		return fmt.Errorf("%s: %w", what, ErrNotFound)
	}
	return err
}

// changed turns "no such row" into ErrConflict.
func changed(r sql.Result, err error, what string) error {
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return errors.Join(fmt.Errorf("%s: %w", what, ErrConflict), err)
	}
	return nil
}

// replace replaces a value by one statement; if was is given it replaces that one, and no other: ErrStale.
func (s *Store) replace(
	ctx context.Context, what, to string, was *string, query string, args []any, now func() (string, error),
) error {
	n, err := s.exec(ctx, query, args...)
	if err != nil || n > 0 {
		return err
	}
	is, err := now() // the same already, another one, or nothing
	if err == nil && was != nil && is != to && is != *was {
		err = fmt.Errorf("%s: %w", what, ErrStale)
	}
	return err
}

// exec runs one statement, again if another one was in its way, and returns how many rows it was about: those that
// had the new values already, too.
func (s *Store) exec(ctx context.Context, query string, args ...any) (n int64, err error) {
	r, err := s.db.ExecContext(ctx, query, args...)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// repeated returns so many placeholders with commas between.
func repeated(place string, n int) string {
	return strings.TrimSuffix(strings.Repeat(place+",", n), ",")
}

// batches inserts rows many at a time, in transactions that stay small; otherwise says what is to be done if a row is
// there already.
func batches[T any](
	ctx context.Context, s *Store, insert string, columns int, rows []T, values func(T) []any, otherwise ...string,
) error {
	const most = 2000
	place := in(columns)
	for len(rows) > 0 {
		n, size := 0, 0
		var args []any
		for n < len(rows) && n < most && size < 8<<20 {
			v := values(rows[n])
			for _, x := range v {
				if b, ok := x.([]byte); ok {
					size += len(b)
				}
			}

			args = append(args, v...)
			n++
		}

		q := insert + " VALUES " + repeated(place, n) + " " + strings.Join(otherwise, " ")
		if err := s.tx(ctx, func(tx *sqlx.Tx) error {
			_, err := tx.ExecContext(ctx, q, args...)
			return err
		}); err != nil {
			return err
		}

		rows = rows[n:]
	}

	return nil
}

func mustSub() fs.FS {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil { // the folder is embedded
		panic(err)
	}
	return sub
}

// changedOrErr is changed for one-time codes, where nothing more may be revealed.
func changedOrErr(r sql.Result, err error) error { return changed(r, err, "code") }
