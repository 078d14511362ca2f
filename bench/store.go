//go:build linux

package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/service/mariadb"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// database starts one in a folder of its own, which the caller takes away after stopping it.
func database(ctx context.Context, parent string) (dir string, db *mariadb.Server, err error) {
	if dir, err = os.MkdirTemp(parent, "idletally-bench-db-"); err != nil {
		return "", nil, err
	}
	if err = os.Chmod(dir, 0o711); err == nil { // the database's own account goes through it
		db, err = mariadb.Start(ctx, filepath.Join(dir, "database"))
	}
	if err != nil {
		return "", nil, errors.Join(err, os.RemoveAll(dir))
	}
	return dir, db, nil
}

// keep measures storing: a first snapshot, one after ten changes, and a hundred hosts with the same
// tree. The floor is the same compressed bytes under the same keys as plain batched inserts into a
// table of nothing else, over the same kind of connection to the same server.
func keep(entries int) error {
	ctx := context.Background()
	dir, db, err := database(ctx, "")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	defer db.Stop()

	st, err := store.Open(ctx, db.DSN)
	if err != nil {
		return err
	}
	defer st.Close()

	src, forest, n := plant(entries)
	floor, err := plainInserts(ctx, db.DSN, src)
	if err != nil {
		return err
	}
	first, err := put(ctx, st, src, forest, "h-0")
	if err != nil {
		return err
	}
	one, err := st.Storage(ctx)
	if err != nil {
		return err
	}

	fmt.Printf("figure store-first-%d %.3f s floor %.3f ratio %.2f\n", n+1, first, floor, first/floor)
	fmt.Printf("figure store-first-%d-stored %.2f MB floor 0 ratio 0\n", n+1, float64(one.Bytes)/1e6)
	for i := 1; i < 100; i++ {
		if _, err := put(ctx, st, src, forest, fmt.Sprintf("h-%d", i)); err != nil {
			return err
		}
	}

	many, err := st.Storage(ctx)
	if err != nil {
		return err
	}

	// the floor is one host
	fmt.Printf("figure store-100-equal-hosts-%d %.2f MB floor %.2f ratio %.3f\n", n+1, float64(many.Bytes)/1e6,
		float64(one.Bytes)/1e6, float64(many.Bytes)/float64(one.Bytes))
	r := rand.New(rand.NewPCG(1, 1))
	for range 10 {
		if forest, err = touch(ctx, src, forest, r); err != nil {
			return err
		}
	}

	again, err := put(ctx, st, src, forest, "h-0")
	if err != nil {
		return err
	}
	grown, err := st.Storage(ctx)
	if err != nil {
		return err
	}

	fmt.Printf("figure store-after-10-%d %.4f s floor 0 ratio 0\n", n+1, again)
	fmt.Printf("figure store-after-10-%d-growth %.1f KiB floor 0 ratio 0\n", n+1, float64(grown.Bytes-many.Bytes)/1024)
	start := time.Now()
	swept, err := st.Sweep(ctx)
	if err != nil {
		return err
	}

	fmt.Printf("figure sweep-%d-folders %.3f s floor 0 ratio 0\n", swept.Live, time.Since(start).Seconds())
	return nil
}

// put stores a snapshot as an agent sends it: only what is missing, children before parents. What the agent does to
// find that out is not counted.
func put(
	ctx context.Context, st *store.Store, src tree.Memory, forest tree.Hash, host string,
) (seconds float64, err error) {
	timed := func(f func() error) error {
		start := time.Now()
		err := f()
		seconds += time.Since(start).Seconds()
		return err
	}

	lacking := map[tree.Hash]bool{}
	for frontier := []tree.Hash{forest}; len(frontier) > 0; {
		var have map[tree.Hash]bool
		if err := timed(func() (err error) { have, err = st.Have(ctx, frontier); return err }); err != nil {
			return 0, err
		}

		var next []tree.Hash
		for _, h := range frontier {
			if !have[h] && !lacking[h] {
				lacking[h] = true
				node, err := tree.Decode(src[h])
				if err != nil {
					return 0, err
				}

				next = append(next, node.Children()...)
			}
		}

		frontier = next
	}

	var packs [][][]byte
	var pack [][]byte
	size := 0
	if len(lacking) > 0 {
		err := tree.Each(ctx, src, forest, func(h tree.Hash, b []byte) error {
			if lacking[h] {
				pack = append(pack, b)
				size += len(b)
				if size >= 4<<20 {
					packs = append(packs, pack)
					pack = nil
					size = 0
				}
			}

			return nil
		})
		if err != nil {
			return 0, err
		}
	}

	err = timed(func() error {
		for _, p := range append(packs, pack) {
			if err := st.PutNodes(ctx, p); err != nil {
				return err
			}
		}

		id, err := st.ImportSnapshot(ctx, "bench", host, []string{"/srv"}, time.Now(),
			wire.SnapshotDone{Forest: forest, Directory: &perm.Directory{}}, "bench")
		if err == nil {
			err = st.ShowSnapshot(ctx, id)
		}

		return err
	})

	return seconds, err
}

func plainInserts(ctx context.Context, dsn string, src tree.Memory) (float64, error) {
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return 0, err
	}
	defer db.Close()

	if _, err := db.ExecContext(ctx,
		`CREATE TABLE plain (hash BINARY(32) PRIMARY KEY, data MEDIUMBLOB NOT NULL)`); err != nil {
		return 0, err
	}

	z, err := zstd.NewWriter(nil)
	if err != nil {
		return 0, err
	}

	var rows [][2][]byte
	for h, b := range src {
		rows = append(rows, [2][]byte{h[:], z.EncodeAll(b, nil)})
	}

	start := time.Now()
	for len(rows) > 0 {
		n := min(len(rows), 500)
		var args []any
		for _, r := range rows[:n] {
			args = append(args, r[0], r[1])
		}

		if _, err := db.ExecContext(ctx,
			`INSERT INTO plain VALUES `+strings.TrimSuffix(strings.Repeat("(?,?),", n), ","), args...); err != nil {
			return 0, err
		}

		rows = rows[n:]
	}

	seconds := time.Since(start).Seconds()
	_, err = db.ExecContext(ctx, `DROP TABLE plain`)
	return seconds, err
}
