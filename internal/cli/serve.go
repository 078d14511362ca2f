package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"idletally/console"
	"idletally/internal/service/authority"
	"idletally/internal/service/desk"
	service "idletally/internal/service/http"
	"idletally/internal/service/mariadb"
	"idletally/internal/service/store"
)

func logger(c *cobra.Command, level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, usageError{fmt.Errorf("--log-level %q is unknown: debug, info, warn or error", level)}
	}
	return slog.New(slog.NewJSONHandler(c.ErrOrStderr(), &slog.HandlerOptions{Level: l})), nil
}

func serveCommand() *cobra.Command {
	var listen, data, dsn, level string
	var names []string
	var keep desk.Retention
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Long: `Run the service: the API, the console and what agents call, over TLS on one port.

Without --database a private MariaDB server from the system's packages is started on loopback; its
files and the service's keys lie in the data folder. At the first start an admin is made and the
one-time password printed, once. The password of a database address is better given by the
environment: IDLETALLY_DATABASE.`,
		Args: args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			log, err := logger(c, level)
			if err != nil {
				return err
			}
			if dsn == "" {
				dsn = os.Getenv("IDLETALLY_DATABASE")
			}
			return serve(c, log, listen, data, dsn, names, keep)
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:7780", "address to listen on")
	c.Flags().StringVar(&data, "data", "/var/lib/idletally", "folder for keys and, without --database, the database")
	c.Flags().StringVar(&dsn, "database", "", "MariaDB to use: user:password@tcp(host:port)/name")
	c.Flags().StringSliceVar(&names, "name", []string{"localhost", "127.0.0.1", "::1"}, "names and addresses that the service's certificate is for")
	c.Flags().IntVar(&keep.All, "keep-all", 30, "days for which all snapshots are kept")
	c.Flags().IntVar(&keep.Daily, "keep-daily", 180, "days for which the last snapshot of each day is kept")
	c.Flags().IntVar(&keep.Weekly, "keep-weekly", 730, "days for which the last snapshot of each week is kept; the newest stays in any case")
	c.Flags().StringVar(&level, "log-level", "info", "debug, info, warn or error")
	return c
}

func serve(c *cobra.Command, log *slog.Logger, listen, data, dsn string, names []string, keep desk.Retention) error {
	ctx := c.Context()
	// The database's own account must be able to reach its folder through this one.
	if err := os.MkdirAll(data, 0o711); err != nil {
		return fmt.Errorf("data folder: %w: choose another with --data", err)
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w", listen, err)
	}
	defer l.Close()
	a, err := authority.Open(filepath.Join(data, "keys"))
	if err != nil {
		return err
	}
	if dsn == "" {
		db, err := mariadb.Start(ctx, filepath.Join(data, "database"))
		if err != nil {
			return err
		}
		defer db.Stop()
		dsn = db.DSN
	}
	st, err := store.Open(ctx, dsn)
	if err != nil {
		return err
	}
	defer st.Close()
	name, password, err := service.FirstAdmin(ctx, st)
	if err != nil {
		return fmt.Errorf("make the first admin: %w", err)
	}
	out := c.OutOrStdout()
	fmt.Fprintf(out, "Idle Tally serves https://%s\nauthority %s\nfingerprint %s\n", l.Addr(), filepath.Join(data, "keys", "authority.pem"), a.Fingerprint())
	if password != "" {
		fmt.Fprintf(out, "first admin %s, one-time password %s\n", name, password)
	}
	handler := service.New(service.Config{Store: st, Authority: a, Log: log, Console: console.Files(), Version: Version, Stopping: ctx.Done(), Keep: keep})
	tending, enough := context.WithCancel(ctx)
	tended := make(chan struct{})
	go func() { defer close(tended); handler.Tend(tending) }()
	defer func() { enough(); <-tended }() // before the database goes
	srv := &http.Server{
		Handler:           handler,
		TLSConfig:         a.Server(names),
		ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 3 * time.Minute, WriteTimeout: 4 * time.Minute, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10,
		ErrorLog:       slog.NewLogLogger(log.Handler(), slog.LevelDebug),
	}
	done := make(chan error, 1)
	go func() { done <- srv.ServeTLS(l, "", "") }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	stop, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := srv.Shutdown(stop); err != nil { // agents wait long; they will call again
		_ = srv.Close()
	}
	if err := <-done; !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func openapiCommand() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the OpenAPI 3.1 document of the API", Args: args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			s := service.New(service.Config{Log: slog.New(slog.DiscardHandler)})
			b, err := s.OpenAPI().MarshalJSON()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(c.OutOrStdout(), string(b))
			return err
		}}
}
