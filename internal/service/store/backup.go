package store

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/klauspost/compress/zstd"
)

// A backup is a tar file, compressed by zstd: manifest.json first, then files of the service (its keys), then
// each table as lines of JSON, in pieces, and then sums.json with the SHA-256 and the number of rows of
// everything before, and at the end signature.json over that. See docs/formats.md.
const (
	backupFormat   = 2
	unsignedFormat = 1 // has no signature
	backupPiece    = 4 << 20
	maxEntry       = 256 << 20
)

// A Manifest says what a backup is.
type Manifest struct {
	Format  int       `json:"format"`
	Schema  int64     `json:"schema"`
	Version string    `json:"version"`
	At      time.Time `json:"at"`
	Tables  []string  `json:"tables"`
}

// Counted is what a backup holds.
type Counted struct {
	Manifest
	Rows  map[string]int64 `json:"rows"`
	Files []string         `json:"files"`
	Bytes int64            `json:"bytes"`
	Key   []byte           `json:"key,omitempty"` // that signed it; nil where an earlier version wrote it
}

// A backupSignature is by the key that signs orders (Ed25519, RFC 8032).
type backupSignature struct {
	Key       ed25519.PublicKey `json:"key"`
	Signature []byte            `json:"signature"`
}

func signedSums(sums []byte) []byte {
	h := sha256.Sum256(sums)
	return append([]byte("idletally backup 2\x00"), h[:]...)
}

type backupSums struct {
	Sums map[string]string `json:"sums"`
	Rows map[string]int64  `json:"rows"`
}

// ErrBackup says that a backup is not what was written.
var ErrBackup = errors.New("the backup is damaged")

// schema is the version of the tables.
func schema(ctx context.Context, db *sql.DB) (int64, error) {
	p, err := migrator(db)
	if err != nil {
		return 0, err
	}
	return p.GetDBVersion(ctx)
}

// Backup writes all that the database holds at one moment, and files that go with it, by name, and signs it.
func (s *Store) Backup(
	ctx context.Context, to io.Writer, version string, files map[string][]byte, key ed25519.PrivateKey,
) (c Counted, err error) {
	z, err := zstd.NewWriter(to)
	if err != nil {
		return c, err
	}
	defer z.Close()

	t := tar.NewWriter(z)
	sums := backupSums{map[string]string{}, map[string]int64{}}
	put := func(name string, b []byte) error {
		h := sha256.Sum256(b)
		sums.Sums[name] = hex.EncodeToString(h[:])
		c.Bytes += int64(len(b))
		if err := t.WriteHeader(&tar.Header{
			Name:    name,
			Mode:    0o600,
			Size:    int64(len(b)),
			ModTime: c.At,
			Format:  tar.FormatPAX,
		}); err != nil {
			return err
		}

		_, err := t.Write(b)
		return err
	}

	conn, err := s.db.Connx(ctx)
	if err != nil {
		return c, err
	}
	defer conn.Close()

	c.Format, c.Version, c.At = backupFormat, version, now()
	if c.Schema, err = schema(ctx, s.db.DB.DB); err != nil {
		return c, err
	}

	// Everything is of this moment, whoever writes meanwhile.
	if _, err := conn.ExecContext(ctx, "SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ"); err != nil {
		return c, err
	}
	if _, err := conn.ExecContext(ctx, "START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"); err != nil {
		return c, err
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK")

	if c.Tables, err = tables(ctx, conn); err != nil {
		return c, err
	}

	b, err := json.Marshal(c.Manifest)
	if err == nil {
		err = put("manifest.json", b)
	}

	if err != nil {
		return c, err
	}

	for name := range files {
		c.Files = append(c.Files, name)
	}

	slices.Sort(c.Files)
	for _, name := range c.Files {
		if err := put("files/"+name, files[name]); err != nil {
			return c, err
		}
	}

	for _, name := range c.Tables {
		if sums.Rows[name], err = dump(ctx, conn, name, put); err != nil {
			return c, fmt.Errorf("table %s: %w", name, err)
		}
	}

	c.Rows = sums.Rows
	if b, err = json.Marshal(sums); err == nil {
		err = put("sums.json", b)
	}

	if err == nil {
		c.Key = key.Public().(ed25519.PublicKey)
		b, err = json.Marshal(backupSignature{c.Key, ed25519.Sign(key, signedSums(b))})
	}

	if err == nil {
		err = put("signature.json", b)
	}

	return c, errors.Join(err, t.Close(), z.Close())
}

func tables(ctx context.Context, q sqlx.QueryerContext) (out []string, err error) {
	err = sqlx.SelectContext(ctx, q, &out,
		`SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()
			AND table_type = 'BASE TABLE' AND table_name <> 'goose_db_version' ORDER BY table_name`)
	return out, err
}

// columns are those of a table that are written, in their order; others are computed from them.
func columns(ctx context.Context, q sqlx.QueryerContext, table string) (out []string, err error) {
	err = sqlx.SelectContext(ctx, q, &out,
		`SELECT column_name FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = ?
			AND (generation_expression IS NULL OR generation_expression = '') ORDER BY ordinal_position`,
		table)
	return out, err
}

// raw is bytes that are no text.
type raw struct {
	B string `json:"b"`
}

const dateTime = "2006-01-02 15:04:05.000000"

func dump(ctx context.Context, conn *sqlx.Conn, table string, put func(string, []byte) error) (n int64, err error) {
	names, err := columns(ctx, conn, table)
	if err != nil {
		return 0, err
	}
	rows, err := conn.QueryxContext(ctx, "SELECT `"+strings.Join(names, "`, `")+"` FROM `"+table+"`")
	if err != nil {
		return 0, err
	}
	defer rows.Close()

	types, err := rows.ColumnTypes()
	if err != nil {
		return 0, err
	}

	var piece bytes.Buffer
	line := json.NewEncoder(&piece)
	line.SetEscapeHTML(false)
	no := 0
	flush := func() error {
		no++
		err := put(fmt.Sprintf("tables/%s/%06d.jsonl", table, no), piece.Bytes())
		piece.Reset()
		return err
	}

	if err := line.Encode(names); err != nil {
		return 0, err
	}

	for rows.Next() {
		values, err := rows.SliceScan()
		if err != nil {
			return n, err
		}

		for i, v := range values {
			switch x := v.(type) {
			case []byte:
				kind := types[i].DatabaseTypeName()
				if strings.Contains(kind, "BLOB") || strings.Contains(kind, "BINARY") {
					values[i] = raw{base64.StdEncoding.EncodeToString(x)}
				} else {
					values[i] = string(x)
				}
			case time.Time:
				values[i] = x.UTC().Format(dateTime)
			}
		}

		if err := line.Encode(values); err != nil {
			return n, err
		}

		n++
		if piece.Len() >= backupPiece {
			if err := flush(); err != nil {
				return n, err
			}
			if err := line.Encode(names); err != nil {
				return n, err
			}
		}
	}

	return n, errors.Join(rows.Err(), flush())
}

// ReadBackup goes through a backup from its beginning to its end and hands out its files and rows; only what it
// returns at the end says whether all was as it was written.
func ReadBackup(
	ctx context.Context, from io.Reader, begin func(Manifest) error, file func(name string, b []byte) error,
	rows func(table string, columns []string, rows [][]any) error,
) (c Counted, err error) {
	z, err := zstd.NewReader(from, zstd.WithDecoderMaxMemory(512<<20))
	if err != nil {
		return c, err
	}
	defer z.Close()

	t := tar.NewReader(z)
	found := backupSums{map[string]string{}, map[string]int64{}}
	for first := true; ; first = false {
		if err := ctx.Err(); err != nil {
			return c, err
		}
		h, err := t.Next()
		if err != nil {
			return c, fmt.Errorf("%w: it breaks off: %w", ErrBackup, err)
		}
		if h.Size > maxEntry {
			return c, fmt.Errorf("%w: %s is of %d bytes", ErrBackup, h.Name, h.Size)
		}

		sum := sha256.New()
		in := io.TeeReader(t, sum)
		switch table, isTable := strings.CutPrefix(h.Name, "tables/"); {
		case first != (h.Name == "manifest.json"):
			return c, fmt.Errorf("%w: it begins with %s", ErrBackup, h.Name)
		case first:
			if err := json.NewDecoder(io.LimitReader(in, 1<<20)).Decode(&c.Manifest); err != nil {
				return c, fmt.Errorf("%w: %w", ErrBackup, err)
			}
			if c.Format != backupFormat && c.Format != unsignedFormat {
				return c, fmt.Errorf("the backup has the format %d, and this program reads %d and %d", c.Format,
					unsignedFormat, backupFormat)
			}
			if err := begin(c.Manifest); err != nil {
				return c, err
			}

		case h.Name == "sums.json":
			sums, err := io.ReadAll(in)
			var want backupSums
			if err == nil {
				err = json.Unmarshal(sums, &want)
			}

			if err != nil {
				return c, fmt.Errorf("%w: %w", ErrBackup, err)
			}
			c.Rows = found.Rows
			if err := want.differ(found); err != nil {
				return c, err
			}

			if c.Format != unsignedFormat {
				if c.Key, err = readSignature(t, sums); err != nil {
					return c, err
				}
			}

			if _, err := t.Next(); !errors.Is(err, io.EOF) {
				return c, fmt.Errorf("%w: something follows its end: %w", ErrBackup, err)
			}
			if n, err := io.Copy(io.Discard, z); err != nil || n > 64<<10 { // a tar file may end with empty blocks
				return c, fmt.Errorf("%w: something follows its end: %w", ErrBackup, err)
			}

			return c, nil

		case isTable:
			table, _, _ = strings.Cut(table, "/")
			if !slices.Contains(c.Tables, table) {
				return c, fmt.Errorf("%w: rows of %q", ErrBackup, table)
			}
			n, err := readPiece(in, func(columns []string, list [][]any) error { return rows(table, columns, list) })
			if err != nil {
				return c, err
			}

			found.Rows[table] += n

		default:
			name, ok := strings.CutPrefix(h.Name, "files/")
			b, err := io.ReadAll(in)
			if err != nil || !ok || strings.ContainsAny(name, "/\\") || strings.HasPrefix(name, ".") {
				return c, fmt.Errorf("%w: %q: %w", ErrBackup, h.Name, err)
			}
			c.Files = append(c.Files, name)
			if err := file(name, b); err != nil {
				return c, err
			}
		}

		if err := rest(in, sum, h.Name, found.Sums); err != nil {
			return c, err
		}

		c.Bytes += h.Size
	}
}

// readSignature takes the entry that signs the sums.
func readSignature(t *tar.Reader, sums []byte) (ed25519.PublicKey, error) {
	h, err := t.Next()
	if err != nil || h.Name != "signature.json" {
		return nil, fmt.Errorf("%w: it has no signature", ErrBackup)
	}
	var s backupSignature
	if err := json.NewDecoder(io.LimitReader(t, 64<<10)).Decode(&s); err != nil {
		return nil, fmt.Errorf("%w: signature: %w", ErrBackup, err)
	}
	if len(s.Key) != ed25519.PublicKeySize || !ed25519.Verify(s.Key, signedSums(sums), s.Signature) {
		return nil, fmt.Errorf("%w: its signature does not fit", ErrBackup)
	}
	return s.Key, nil
}

func rest(in io.Reader, sum hash.Hash, name string, sums map[string]string) error {
	if _, err := io.Copy(io.Discard, in); err != nil {
		return fmt.Errorf("%w: %s: %w", ErrBackup, name, err)
	}
	if _, twice := sums[name]; twice {
		return fmt.Errorf("%w: %s is there twice", ErrBackup, name)
	}
	sums[name] = hex.EncodeToString(sum.Sum(nil))
	return nil
}

func (want backupSums) differ(got backupSums) error {
	for name, sum := range want.Sums {
		if got.Sums[name] != sum {
			return fmt.Errorf("%w: %s is not what was written", ErrBackup, name)
		}
	}
	for table, n := range want.Rows {
		if got.Rows[table] != n {
			return fmt.Errorf("%w: %s has %d rows and had %d", ErrBackup, table, got.Rows[table], n)
		}
	}
	if len(want.Sums) != len(got.Sums) {
		return fmt.Errorf("%w: it holds %d pieces and held %d", ErrBackup, len(got.Sums), len(want.Sums))
	}
	return nil
}

const rowsAtOnce = 500

func readPiece(in io.Reader, rows func([]string, [][]any) error) (n int64, err error) {
	d := json.NewDecoder(bufio.NewReaderSize(in, 64<<10))
	d.UseNumber()
	var columns []string
	if err := d.Decode(&columns); err != nil {
		return 0, fmt.Errorf("%w: %w", ErrBackup, err)
	}

	var list [][]any
	for {
		var row []any
		err := d.Decode(&row)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil || len(row) != len(columns) {
			return n, fmt.Errorf("%w: a row of %d values for %d columns: %w", ErrBackup, len(row), len(columns), err)
		}

		for i, v := range row {
			switch x := v.(type) {
			case json.Number:
				row[i] = x.String()
			case map[string]any:
				text, _ := x["b"].(string)
				if row[i], err = base64.StdEncoding.DecodeString(text); err != nil {
					return n, fmt.Errorf("%w: %w", ErrBackup, err)
				}
			}
		}

		n++
		list = append(list, row)
		if len(list) == rowsAtOnce {
			if err := rows(columns, list); err != nil {
				return n, err
			}
			list = nil
		}
	}

	if len(list) > 0 {
		return n, rows(columns, list)
	}

	return n, nil
}

// A Revived is what is valid again after a backup was restored, whatever became of it since.
type Revived struct {
	Sessions int64    // that were ended
	Tokens   []Token  // that were ended, unless they are kept
	Hosts    []string // whose agents' certificates count
	People   []string
}

// Revive ends what a restored backup brings back and nobody asked for: sessions, stored answers, and tokens unless
// they are kept. What is left is for somebody to look through, and the service writes into its history that there was
// a restore.
func Revive(ctx context.Context, dsn string, of Manifest, keepTokens bool) (r Revived, err error) {
	s, err := Attach(ctx, dsn)
	if err != nil {
		return r, err
	}
	defer s.Close()
	err = s.tx(ctx, func(tx *sqlx.Tx) error {
		r = Revived{}
		for _, list := range []struct {
			to    any
			query string
		}{
			{&r.Tokens, `SELECT ` + tokenColumns + ` FROM token ORDER BY person, id`},
			{&r.Hosts, `SELECT name FROM host WHERE certificate <> '' ORDER BY name`},
			{&r.People, `SELECT name FROM person ORDER BY name`},
		} {
			if err := tx.SelectContext(ctx, list.to, list.query); err != nil {
				return err
			}
		}

		ended, err := tx.ExecContext(ctx, `DELETE FROM session`)
		if err != nil {
			return err
		}
		if r.Sessions, err = ended.RowsAffected(); err != nil {
			return err
		}

		end := []string{`DELETE FROM attempt`, `DELETE FROM wrong_try`, `DELETE FROM enrolment`}
		if !keepTokens {
			end = append(end, `DELETE FROM token`)
		}

		for _, q := range end {
			if _, err := tx.ExecContext(ctx, q); err != nil {
				return err
			}
		}

		_, err = tx.ExecContext(ctx, `INSERT INTO upkeep (name) VALUES (?)`,
			restoredFrom+of.At.UTC().Format(time.RFC3339))
		return err
	})

	return r, err
}

// restoredFrom begins the upkeep that a restore leaves; the time of the backup follows.
const restoredFrom = "restored "

// Restored returns of which time the backup was that this database was made from, until told was called once.
func (s *Store) Restored(ctx context.Context) (at string, told func() error, err error) {
	var names []string
	if err := s.db.SelectContext(ctx, &names, `SELECT name FROM upkeep
		WHERE name LIKE ?`, restoredFrom+"%"); err != nil ||
		len(names) == 0 {
		return "", nil, err
	}
	return strings.TrimPrefix(names[0], restoredFrom), func() error {
		_, err := s.exec(ctx, `DELETE FROM upkeep WHERE name = ?`, names[0])
		return err
	}, nil
}

// Restore puts a backup into an empty database, and hands out its files. An older backup is brought up to date.
func Restore(
	ctx context.Context, dsn string, from io.Reader, file func(name string, b []byte) error,
) (c Counted, err error) {
	db, err := connect(ctx, dsn)
	if err != nil {
		return c, err
	}
	defer db.Close()

	if has, err := tables(ctx, db); err != nil || len(has) > 0 {
		return c, errors.Join(err, errors.New("the database holds something already: restore into an empty one"))
	}
	p, err := migrator(db.DB)
	if err != nil {
		return c, err
	}
	conn, err := db.Connx(ctx)
	if err != nil {
		return c, err
	}
	defer conn.Close()

	if _, err := conn.ExecContext(ctx, "SET SESSION foreign_key_checks = 0"); err != nil {
		return c, err
	}

	known := map[string][]string{}
	c, err = ReadBackup(ctx, from, func(m Manifest) error {
		latest := p.ListSources()
		if newest := latest[len(latest)-1].Version; m.Schema > newest {
			return fmt.Errorf("the backup is of version %s, whose tables (%d) this program does not know yet (%d)",
				m.Version, m.Schema, newest)
		}
		if _, err := p.UpTo(ctx, m.Schema); err != nil {
			return fmt.Errorf("make the tables: %w", err)
		}

		for _, name := range m.Tables {
			have, err := columns(ctx, conn, name)
			if err != nil || len(have) == 0 {
				return errors.Join(err, fmt.Errorf("%w: no table is called %q", ErrBackup, name))
			}
			known[name] = have
			if _, err := conn.ExecContext(ctx, "DELETE FROM `"+name+"`"); err != nil { // what the tables begin with
				return err
			}
		}

		return nil
	}, file, func(table string, names []string, rows [][]any) error {
		if !slices.Equal(names, known[table]) { // they become part of a statement
			return fmt.Errorf("%w: table %s has the columns %q", ErrBackup, table, names)
		}
		return insert(ctx, conn, table, names, rows)
	})

	if err != nil {
		return c, err
	}

	return c, migrate(ctx, db.DB)
}

// insert keeps statements smaller than a server accepts.
func insert(ctx context.Context, conn *sqlx.Conn, table string, names []string, rows [][]any) error {
	head := "INSERT INTO `" + table + "` (`" + strings.Join(names, "`, `") + "`) VALUES "
	for len(rows) > 0 {
		n, size := 0, 0
		var args []any
		for n < len(rows) && size < 8<<20 {
			for _, v := range rows[n] {
				switch x := v.(type) {
				case []byte:
					size += len(x)
				case string:
					size += len(x)
				}
			}
			args = append(args, rows[n]...)
			n++
		}

		if _, err := conn.ExecContext(ctx, head+repeated(in(len(names)), n), args...); err != nil {
			return fmt.Errorf("table %s: %w", table, err)
		}

		rows = rows[n:]
	}

	return nil
}
