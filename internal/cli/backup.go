//go:build linux

package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/service/mariadb"
	"idletally/internal/service/store"
)

// own files of the service that a backup holds, beside the database.
func keyFiles(data string) (map[string][]byte, error) {
	dir := filepath.Join(data, "keys")
	list, err := os.ReadDir(dir)
	if err != nil {
		return nil, fmt.Errorf("the service's keys: %w: give its folder with --data, as its own account or root", err)
	}
	out := map[string][]byte{}
	for _, e := range list {
		if !e.Type().IsRegular() {
			continue
		}
		if out[e.Name()], err = os.ReadFile(filepath.Join(dir, e.Name())); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// theDatabase is that of a service here: as it was given, or its private one, which is started where it is not running.
func theDatabase(ctx context.Context, dsn, data string) (string, func(), error) {
	if dsn != "" {
		return dsn, func() {}, nil
	}
	dir := filepath.Join(data, "database")
	if running, ok := mariadb.Running(ctx, dir); ok {
		return running, func() {}, nil
	}
	db, err := mariadb.Start(ctx, dir)
	if err != nil {
		return "", nil, err
	}
	return db.DSN, db.Stop, nil
}

func backupCommand(o *options) *cobra.Command {
	var data, dsn string
	var without bool
	write := &cobra.Command{Use: "write FILE", Short: "Write all of the service into one file, while it runs", Args: args(1, 1, "a file"),
		Long: `Write all of the service into one file, while it runs: the database as it is at one moment, and the service's keys.

Who has the file and no more can sign orders to your hosts: it is made readable by you alone, and belongs where keys belong. With
--without-keys it holds no key of the service; keep a copy of the folder "keys" elsewhere then.`,
		RunE: func(c *cobra.Command, a []string) error {
			files := map[string][]byte{}
			var err error
			if !without {
				if files, err = keyFiles(data); err != nil {
					return err
				}
			}
			at, done, err := theDatabase(c.Context(), dsn, data)
			if err != nil {
				return err
			}
			defer done()
			st, err := store.Attach(c.Context(), at)
			if err != nil {
				return err
			}
			defer st.Close()
			f, err := os.OpenFile(a[0]+".part", os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
			if err != nil {
				return fmt.Errorf("backup: %w", err)
			}
			defer os.Remove(f.Name())
			got, err := st.Backup(c.Context(), f, Version, files)
			if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
				return fmt.Errorf("backup: %w", err)
			}
			if _, err := checkBackup(c.Context(), f.Name()); err != nil { // what cannot be read is no backup
				return err
			}
			if err := os.Rename(f.Name(), a[0]); err != nil {
				return err
			}
			return o.showBackup(c, got)
		}}
	check := &cobra.Command{Use: "check FILE", Short: "Say whether a backup is whole, and what it holds", Args: args(1, 1, "a file"),
		RunE: func(c *cobra.Command, a []string) error {
			got, err := checkBackup(c.Context(), a[0])
			if err != nil {
				return err
			}
			return o.showBackup(c, got)
		}}
	restore := &cobra.Command{Use: "restore FILE", Short: "Make the service of a backup: into an empty database, and a folder without keys", Args: args(1, 1, "a file"),
		RunE: func(c *cobra.Command, a []string) error {
			if _, err := checkBackup(c.Context(), a[0]); err != nil { // before anything is made
				return err
			}
			keys := filepath.Join(data, "keys")
			if list, err := os.ReadDir(keys); err == nil && len(list) > 0 {
				return fmt.Errorf("%s holds keys already: give a new folder with --data", keys)
			}
			if err := os.MkdirAll(data, 0o711); err != nil {
				return err
			}
			at, done, err := theDatabase(c.Context(), dsn, data)
			if err != nil {
				return err
			}
			defer done()
			f, err := os.Open(a[0])
			if err != nil {
				return err
			}
			defer f.Close()
			files := map[string][]byte{}
			got, err := store.Restore(c.Context(), at, f, func(name string, b []byte) error { files[name] = b; return nil })
			if err != nil {
				return fmt.Errorf("%w: what was restored so far is of no use: empty the database and try again", err)
			}
			if len(files) > 0 {
				if err := os.MkdirAll(keys, 0o700); err != nil {
					return err
				}
			}
			for name, b := range files {
				mode := os.FileMode(0o600)
				if strings.HasSuffix(name, ".pem") && !strings.Contains(string(b), "PRIVATE") { // what everybody may have
					mode = 0o644
				}
				if err := os.WriteFile(filepath.Join(keys, name), b, mode); err != nil {
					return err
				}
			}
			return o.showBackup(c, got)
		}}
	write.Flags().BoolVar(&without, "without-keys", false, "leave the service's keys out")
	c := noun("backup", "Keep all of the service, and make it anew", write, check, restore)
	c.PersistentFlags().StringVar(&data, "data", "/var/lib/idletally", "the service's own folder")
	c.PersistentFlags().StringVar(&dsn, "database", os.Getenv("IDLETALLY_DATABASE"), "its database, where that is not its private one; better given by IDLETALLY_DATABASE")
	c.PersistentFlags().Lookup("database").DefValue = "" // it may hold a password
	return c
}

func checkBackup(ctx context.Context, file string) (store.Counted, error) {
	f, err := os.Open(file)
	if err != nil {
		return store.Counted{}, err
	}
	defer f.Close()
	got, err := store.ReadBackup(ctx, f, func(store.Manifest) error { return nil }, func(string, []byte) error { return nil }, func(string, []string, [][]any) error { return nil })
	if err != nil {
		return got, fmt.Errorf("%s: %w", file, err)
	}
	return got, nil
}

func (o *options) showBackup(c *cobra.Command, b store.Counted) error {
	rows := int64(0)
	for _, n := range b.Rows {
		rows += n
	}
	slices.Sort(b.Files)
	keys := strings.Join(b.Files, ", ")
	if keys == "" {
		keys = "none"
	}
	return o.showOne(c, b, "of", when(b.At), "by version", b.Version, "schema", strconv.FormatInt(b.Schema, 10), "tables", strconv.Itoa(len(b.Tables)), "rows", strconv.FormatInt(rows, 10), "keys", keys)
}
