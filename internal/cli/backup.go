//go:build linux

package cli

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/atomicfile"
	"idletally/internal/service/authority"
	"idletally/internal/service/mariadb"
	"idletally/internal/service/store"
)

// keyFiles returns the service's own files that a backup holds beside the database, by name.
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

// theDatabase returns the database of a service here: the given one, or its private one, which is started if it is
// not running.
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

// backing is which service is backed up or restored, and what proves a backup.
type backing struct {
	data string // the service's own folder
	dsn  string // its database; "" is the private one
	key  string // the public key that has to have signed
}

// backupCommand returns the commands that back the service up.
func backupCommand(o *options) *cobra.Command {
	x := &backing{}
	check, restore := backupCheck(o, x), backupRestore(o, x)
	for _, proving := range []*cobra.Command{check, restore} {
		proving.Flags().StringVar(&x.key, "key", "",
			"the service's public key (base64) that has to have signed the backup, as \"history verify\" tells it")
	}

	c := commandGroup("backup", "Back the service up, and restore it", backupWrite(o, x), check, restore)
	c.PersistentFlags().StringVar(&x.data, "data", "/var/lib/idletally", "the service's own folder")
	c.PersistentFlags().StringVar(&x.dsn, "database", os.Getenv("IDLETALLY_DATABASE"),
		"its database, where that is not its private one; better given by IDLETALLY_DATABASE")
	c.PersistentFlags().Lookup("database").DefValue = "" // it may hold a password
	return c
}

// backupWrite returns the command backup write.
func backupWrite(o *options, x *backing) *cobra.Command {
	var without bool
	write := &cobra.Command{
		Use:   "write FILE",
		Short: "Write all of the service into one file, while it runs",
		Args:  args(1, 1, "a file"),
		Long: `Write all of the service into one file, while it runs: the database as it is at one moment, and the
service's keys.

Who has the file and no more can sign orders to your hosts: it is made readable by you alone, and
belongs where keys belong. With --without-keys it holds no key of the service; keep a copy of the
folder "keys" elsewhere then.`,
		RunE: func(c *cobra.Command, a []string) error {
			got, err := x.write(c.Context(), a[0], !without)
			if err != nil {
				return err
			}
			return o.showBackup(c, got)
		},
	}

	write.Flags().BoolVar(&without, "without-keys", false, "leave the service's keys out")
	return write
}

// write writes a backup to a file. One that cannot be read again is no backup, and is not left there.
func (x *backing) write(ctx context.Context, file string, withKeys bool) (got store.Counted, err error) {
	files, err := keyFiles(x.data)
	if err != nil {
		return got, err
	}
	key, err := authority.OrderKey(files["orders.key"])
	if err != nil {
		return got, fmt.Errorf("the key that signs the backup: %w", err)
	}
	if !withKeys {
		files = nil
	}

	at, done, err := theDatabase(ctx, x.dsn, x.data)
	if err != nil {
		return got, err
	}
	defer done()
	st, err := store.Attach(ctx, at)
	if err != nil {
		return got, err
	}
	defer st.Close()

	to, plain, err := destination(file)
	if err == nil && !plain {
		err = fmt.Errorf("%s is no file: a backup is read again before it counts", file)
	}
	if err != nil {
		return got, err
	}

	err = atomicfile.Stream(to, func(f *os.File) (err error) {
		if got, err = st.Backup(ctx, f, Version, files, key); err != nil {
			return err
		}
		signer := []ed25519.PublicKey{key.Public().(ed25519.PublicKey)}
		_, err = checkBackup(ctx, f.Name(), signer)
		return err
	})

	if err != nil {
		return got, fmt.Errorf("backup: %w", err)
	}
	return got, nil
}

// backupCheck returns the command backup check.
func backupCheck(o *options, x *backing) *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE",
		Short: "Say whether a backup is whole, and what it holds",
		Args:  args(1, 1, "a file"),
		RunE: func(c *cobra.Command, a []string) error {
			want, err := signers(x.key, x.data)
			if err != nil {
				return err
			}
			got, err := checkBackup(c.Context(), a[0], want)
			if err != nil {
				return err
			}

			return o.showBackup(c, got)
		},
	}
}

// backupRestore returns the command backup restore.
func backupRestore(o *options, x *backing) *cobra.Command {
	var keepTokens bool
	restore := &cobra.Command{
		Use:   "restore FILE",
		Short: "Make the service of a backup: into an empty database, and a folder without keys",
		Args:  args(1, 1, "a file"),
		Long: `Make the service of a backup: into an empty database, and a folder without keys.

What was ended after the backup was written comes back with it. So everybody has to sign in again,
tokens and enrolment codes count no more (--keep-tokens keeps tokens), and you are told which people
and which hosts' certificates count: take out those that you had taken out. The history tells of the
restore.

Who can change the file can make anybody an admin: give the service's public key with --key, as
"idletally history verify" told it.`,
		RunE: func(c *cobra.Command, a []string) error {
			got, revived, err := x.restore(c.Context(), a[0], keepTokens)
			if err != nil {
				return err
			}
			if err := o.showBackup(c, got); err != nil {
				return err
			}
			o.sayRevived(c, revived, keepTokens)
			return nil
		},
	}

	restore.Flags().BoolVar(&keepTokens, "keep-tokens", false, "programs' tokens go on counting")
	return restore
}

// restore makes the service of a backup. The whole file is verified before anything is made.
func (x *backing) restore(
	ctx context.Context, file string, keepTokens bool,
) (got store.Counted, revived store.Revived, err error) {
	want, err := signers(x.key, "")
	if err != nil {
		return got, revived, err
	}
	if _, err := checkBackup(ctx, file, want); err != nil {
		return got, revived, err
	}
	keys := filepath.Join(x.data, "keys")
	if list, err := os.ReadDir(keys); err == nil && len(list) > 0 {
		return got, revived, fmt.Errorf("%s holds keys already: give a new folder with --data", keys)
	}
	if err := os.MkdirAll(x.data, 0o711); err != nil {
		return got, revived, err
	}
	at, done, err := theDatabase(ctx, x.dsn, x.data)
	if err != nil {
		return got, revived, err
	}
	defer done()

	f, err := os.Open(file)
	if err != nil {
		return got, revived, err
	}
	defer f.Close()

	files := map[string][]byte{}
	got, err = store.Restore(ctx, at, f, func(name string, b []byte) error {
		files[name] = b
		return nil
	})
	if err != nil {
		return got, revived, fmt.Errorf(
			"%w: what was restored so far is of no use: empty the database and try again", err)
	}
	if revived, err = store.Revive(ctx, at, got.Manifest, keepTokens); err != nil {
		return got, revived, err
	}
	return got, revived, putKeys(keys, files)
}

// putKeys writes key files into their folder. Everybody may read certificates, and nothing else.
func putKeys(folder string, files map[string][]byte) error {
	if len(files) == 0 {
		return nil
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	for name, b := range files {
		mode := os.FileMode(0o600)
		if strings.HasSuffix(name, ".pem") && !strings.Contains(string(b), "PRIVATE") {
			mode = 0o644
		}
		if err := os.WriteFile(filepath.Join(folder, name), b, mode); err != nil {
			return err
		}
	}
	return nil
}

// signers returns the keys of which one has to have signed a backup: the one that was given, or those that sign, or
// signed, for the service whose folder this is; nil accepts any.
func signers(given, data string) ([]ed25519.PublicKey, error) {
	if given != "" {
		key, err := base64.StdEncoding.DecodeString(given)
		if err != nil || len(key) != ed25519.PublicKeySize {
			return nil, usageError{errors.New("--key: want a public key of 32 bytes in base64")}
		}
		return []ed25519.PublicKey{key}, nil
	}

	if data == "" {
		return nil, nil
	}

	keys, err := authority.Signers(filepath.Join(data, "keys"))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		// There is no service here, or we may not read it.
		return nil, nil
	}

	return keys, err
}

// checkBackup reads a backup through; one of want, if any are given, has to have signed it.
func checkBackup(ctx context.Context, file string, want []ed25519.PublicKey) (store.Counted, error) {
	f, err := os.Open(file)
	if err != nil {
		return store.Counted{}, err
	}
	defer f.Close()

	got, err := store.ReadBackup(ctx, f, func(store.Manifest) error { return nil },
		func(string, []byte) error { return nil }, func(string, []string, [][]any) error { return nil })
	if err != nil {
		return got, fmt.Errorf("%s: %w", file, err)
	}

	switch {
	case want == nil || slices.ContainsFunc(want, func(k ed25519.PublicKey) bool { return bytes.Equal(k, got.Key) }):
		return got, nil
	case got.Key == nil:
		return got, fmt.Errorf(
			"%s: an earlier version wrote it, and nobody signed it: whoever had it since may have changed it", file)
	}

	return got, fmt.Errorf("%s: it is signed by another key: %s", file, base64.StdEncoding.EncodeToString(got.Key))
}

// sayRevived says what is valid again after a restore.
func (o *options) sayRevived(c *cobra.Command, r store.Revived, keptTokens bool) {
	if o.output == "json" {
		return
	}
	printf(c, "\nEverybody has to sign in again: %d sessions ended.", r.Sessions)
	tokens := "ended; make those anew that are needed"
	if keptTokens {
		tokens = "count again; end those that you had ended"
	}
	printf(c, "%d tokens %s:", len(r.Tokens), tokens)
	for _, t := range r.Tokens {
		printf(c, "  %s  %s, for %s: %s", t.ID, t.Person, printable(t.Name), strings.Join(t.Roles(), ", "))
	}
	printf(c, "These people count again; remove those that you had removed: %s", strings.Join(r.People, ", "))
	printf(c, "The certificates of these hosts' agents count again; shut those out that you had shut out: %s",
		cmp.Or(strings.Join(r.Hosts, ", "), "none"))
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

	signed := "nobody: an earlier version wrote it"
	if b.Key != nil {
		signed = base64.StdEncoding.EncodeToString(b.Key)
	}

	return o.showOne(c, b, "signed by", signed, "of", b.At, "by version", b.Version, "schema",
		strconv.FormatInt(b.Schema, 10), "tables", strconv.Itoa(len(b.Tables)), "rows", strconv.FormatInt(rows, 10),
		"keys", keys)
}
