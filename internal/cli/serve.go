//go:build linux

package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"idletally/console"
	"idletally/internal/service"
	"idletally/internal/service/app"
	"idletally/internal/service/authority"
	"idletally/internal/service/engine"
	"idletally/internal/service/mariadb"
	"idletally/internal/service/peer"
	"idletally/internal/service/store"
	"idletally/internal/service/web"
)

func serveCommand(o *options) *cobra.Command {
	var x serving
	var level, settings string
	var check bool
	c := &cobra.Command{
		Use:   "serve",
		Short: "Run the service",
		Long: `Run the service: the API, the console and what agents call, over TLS on one port.

Without --database a private MariaDB server from the system's packages is started on loopback; its
files and the service's keys lie in the data folder. At the first start an admin is made and the
one-time password printed, once.

Each flag may be given by the environment, too (--log-level by IDLETALLY_LOG_LEVEL), and by a
settings file in YAML with the flags' names as keys ("log-level: warn"). A flag counts before the
environment, the environment before the file. The password of a database address is better given in
one of the latter. On SIGHUP the log level is read again. --check says what counts, and where it
comes from, and starts nothing.`,
		Args: args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			from, err := settle(c, settings)
			if err != nil {
				return err
			}
			log, at, err := logger(c, level)
			if err != nil {
				return err
			}
			if err := x.complete(); err != nil {
				return usageError{err}
			}
			if check {
				return o.checkServe(c, from, x.listen, x.dsn)
			}
			defer again(c.Context(), log, func() error {
				if _, err := settle(c, settings); err != nil {
					return err
				}
				return at.UnmarshalText([]byte(level))
			})()

			return serve(c, log, x)
		},
	}

	c.Flags().StringVar(&x.listen, "listen", "127.0.0.1:7780", "address to listen on")
	c.Flags().StringVar(&x.data, "data", "/var/lib/idletally", "folder for keys and, without --database, the database")
	c.Flags().StringVar(&x.dsn, "database", "", "MariaDB to use: user:password@tcp(host:port)/name")
	c.Flags().StringSliceVar(&x.names, "name", []string{"localhost", "127.0.0.1", "::1"},
		"names and addresses that the service's certificate is for")
	c.Flags().IntVar(&x.keep.All, "keep-all", 30, "days for which all snapshots are kept")
	c.Flags().IntVar(&x.keep.Daily, "keep-daily", 180, "days for which the last snapshot of each day is kept")
	c.Flags().IntVar(&x.keep.Weekly, "keep-weekly", 730,
		"days for which the last snapshot of each week is kept; the newest stays in any case")
	c.Flags().StringVar(&x.people.listen, "people", "",
		"address on which people and programs come, with a certificate that they trust anyway; agents use --listen")
	c.Flags().StringVar(&x.people.certificate, "certificate", "",
		"file with that certificate and its chain (PEM), read again when it changes")
	c.Flags().StringVar(&x.people.key, "key", "", "file with its key (PEM)")
	c.Flags().StringVar(&x.people.acme.Directory, "acme", "",
		"or the directory of an authority that gives it by ACME (RFC 8555): https://…; for --people and the names "+
			"of --public and --name")
	c.Flags().StringVar(&x.people.acme.Mail, "acme-mail", "",
		"address that the authority writes to when something is wrong")
	c.Flags().StringVar(&x.people.acmeAuthority, "acme-authority", "",
		"file with what the ACME authority's own address is trusted by (PEM); nothing are the system's own")
	c.Flags().IntVar(&x.perHost, "host-quota", 8192,
		"MiB of folders, as they are before they are compressed, that each host's agent may send in a day; 0 "+
			"is any number")
	c.Flags().StringSliceVar(&x.open, "open", nil,
		"what can be had without signing in: metrics (/metrics), documents (of the API)")
	c.Flags().StringSliceVar(&x.front, "proxies", nil,
		"addresses and ranges of proxies in front of the service: what they say in X-Forwarded-For, or by the PROXY "+
			"protocol, is where calls come from")
	c.Flags().StringVar(&x.provider.Public, "public", "", "how browsers reach the service: https://HOST[:PORT]")
	c.Flags().StringVar(&x.provider.Issuer, "oidc-issuer", "",
		"provider that people sign in with (OpenID Connect): https://…")
	c.Flags().StringVar(&x.provider.Client, "oidc-client", "", "the client that it knows this service by")
	c.Flags().StringVar(&x.provider.Secret, "oidc-secret", "",
		"that client's secret; better given by the environment or the settings file")
	c.Flags().StringVar(&x.provider.Claim, "oidc-claim", "preferred_username",
		"the claim with the name that people have here")
	c.Flags().StringVar(&x.provider.Name, "oidc-name", "the provider", "what it is called, on the button")
	c.Flags().StringVar(&x.authority, "oidc-authority", "",
		"file with the provider's certificate authority (PEM); by default the system's roots")
	c.Flags().StringVar(&x.mail.Server, "mail-server", "",
		"server that takes mail, HOST:PORT; by TLS, unless it is on this machine")
	c.Flags().StringVar(&x.mail.From, "mail-from", "", "address that notices come from")
	c.Flags().StringVar(&x.mail.User, "mail-user", "", "account at the mail server, where it wants one")
	c.Flags().StringVar(&x.mail.Password, "mail-password", "",
		"its password; better given by the environment or the settings file")
	c.Flags().StringVar(&level, "log-level", "info", "debug, info, warn or error")
	c.Flags().StringVar(&settings, "settings", os.Getenv("IDLETALLY_SETTINGS"),
		"file with what is not given by flags or the environment")
	c.Flags().BoolVar(&check, "check", false, "say what counts and whether it can, and start nothing")
	return c
}

// serving is what the service is told to do.
type serving struct {
	listen, data, dsn string
	names             []string
	keep              engine.Retention
	provider          app.Provider
	authority         string // of the provider
	front, open       []string
	people            forPeople
	perHost           int // MiB
	proxies           peer.Proxies
	mail              engine.Mail
}

// forPeople is a second address, with a certificate that people's systems trust anyway.
type forPeople struct {
	listen, certificate, key string
	acme                     authority.ACME
	acmeAuthority            string
}

// tls returns the settings of that address.
func (p *forPeople) tls(log *slog.Logger, data string, names []string, public string) (*tls.Config, error) {
	given := p.certificate != "" || p.key != ""
	switch {
	case given == (p.acme.Directory != ""):
		return nil, errors.New("--people: want either --certificate and --key, or --acme")
	case given:
		return authority.Given(p.certificate, p.key, log)
	}

	p.acme.Folder = filepath.Join(data, "keys", "acme")
	if u, err := url.Parse(public); err == nil && u.Hostname() != "" {
		names = append([]string{u.Hostname()}, names...)
	}

	p.acme.Names = names
	if p.acmeAuthority != "" {
		b, err := os.ReadFile(p.acmeAuthority)
		if err != nil {
			return nil, fmt.Errorf("--acme-authority: %w", err)
		}
		p.acme.Authority = b
	}

	return p.acme.TLS()
}

// complete reads what is named, and reports what cannot be read.
func (x *serving) complete() error {
	if err := x.keep.Check(); err != nil {
		return err
	}
	if len(x.names) == 0 {
		return errors.New("--name: want at least one name that the service's certificate is for")
	}
	if x.perHost < 0 {
		return errors.New("--host-quota: want MiB in a day, or 0 for any number")
	}

	for _, what := range x.open {
		if !slices.Contains(web.Openable, what) {
			return fmt.Errorf("--open %q: want some of %s", what, strings.Join(web.Openable, ", "))
		}
	}

	var err error
	if x.proxies, err = peer.ParseProxies(x.front); err != nil {
		return fmt.Errorf("--proxies: %w", err)
	}
	if p := x.provider.Public; p != "" && (!strings.HasPrefix(p, "https://") || strings.HasSuffix(p, "/")) {
		return fmt.Errorf("--public %q: want how browsers reach this service, https://HOST[:PORT]", p)
	}

	if x.mail.Server != "" {
		x.mail.Public = x.provider.Public
		if err := x.mail.Check(); err != nil {
			return err
		}
	}

	if x.provider.Issuer == "" {
		return nil
	}

	if x.authority != "" {
		b, err := os.ReadFile(x.authority)
		if err != nil {
			return fmt.Errorf("--oidc-authority: %w", err)
		}
		x.provider.Authority = b
	}

	return x.provider.Check()
}

// again does something at each SIGHUP, until the returned function is called.
func again(ctx context.Context, log *slog.Logger, do func() error) (enough func()) {
	ctx, cancel := context.WithCancel(ctx)
	hup := make(chan os.Signal, 1)
	signal.Notify(hup, unix.SIGHUP)
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-hup:
			}
			if err := do(); err != nil {
				log.Error("settings were not read again", "error", err)
				continue
			}
			log.Info("settings read again: the log level counts at once, all else from the next start")
		}
	})

	return func() { signal.Stop(hup); cancel(); wg.Wait() }
}

// checkServe shows what the service would do, and what of it cannot work.
func (o *options) checkServe(c *cobra.Command, from map[string]string, listen, dsn string) error {
	values := map[string]string{}
	t := table{head: []string{"SETTING", "VALUE", "FROM"}, value: values}
	for _, name := range settableFlags(c) {
		v := c.Flags().Lookup(name).Value.String()
		switch {
		case name == "database":
			v = store.WithoutPassword(v)
		case (name == "oidc-secret" || name == "mail-password") && v != "":
			v = "…"
		}

		values[name] = v
		t.add(name, v, from[name])
	}

	err := o.show(c, t)
	if _, e := net.ResolveTCPAddr("tcp", listen); e != nil {
		err = errors.Join(err, fmt.Errorf("--listen: %w", e))
	}

	if dsn != "" {
		err = errors.Join(err, store.Ping(c.Context(), dsn))
	}

	return err
}

func serve(c *cobra.Command, log *slog.Logger, x serving) error {
	data, dsn := x.data, x.dsn
	ctx := c.Context()

	// The database's own account must be able to reach its folder through this one.
	if err := os.MkdirAll(data, 0o711); err != nil {
		return fmt.Errorf("data folder: %w: choose another with --data", err)
	}
	l, err := net.Listen("tcp", x.listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w", x.listen, err)
	}
	defer l.Close()

	a, err := authority.Open(filepath.Join(data, "keys"), x.names)
	if err != nil {
		return err
	}
	if err := a.Permits(x.names); err != nil {
		return err
	}

	var people net.Listener
	var peopleTLS *tls.Config
	if x.people.listen != "" {
		if peopleTLS, err = x.people.tls(log, data, x.names, x.provider.Public); err != nil {
			return err
		}
		if people, err = net.Listen("tcp", x.people.listen); err != nil {
			return fmt.Errorf("listen on %s: %w", x.people.listen, err)
		}
		defer people.Close()
	}

	var gone <-chan struct{} // the private database
	if dsn == "" {
		db, err := mariadb.Start(ctx, filepath.Join(data, "database"))
		if err != nil {
			return err
		}
		defer db.Stop()
		dsn, gone = db.DSN, db.Done()
	}

	st, err := store.Open(ctx, dsn)
	if err != nil {
		return err
	}
	defer st.Close()

	name, password, err := app.FirstAdmin(ctx, st)
	if err != nil {
		return fmt.Errorf("make the first admin: %w", err)
	}

	out := c.OutOrStdout()
	fmt.Fprintf(out, "Idle Tally serves https://%s\nauthority %s\nfingerprint %s\n", l.Addr(),
		filepath.Join(data, "keys", "authority.pem"), a.Fingerprint())
	if password != "" {
		fmt.Fprintf(out, "first admin %s, one-time password %s\n", name, password)
	}

	if people != nil {
		fmt.Fprintf(out, "people come to https://%s\n", people.Addr())
	}

	public := x.provider.Public
	if _, port, err := net.SplitHostPort(l.Addr().String()); public == "" && err == nil &&
		slices.Contains(x.names, "localhost") {
		public = "https://localhost:" + port // passkeys are made for a name
	}

	cfg := service.Config{
		App: app.Config{
			Store:     st,
			Authority: a,
			Log:       log,
			Build:     built(),
			Stopping:  ctx.Done(),
			Keep:      x.keep,
			Name:      x.names[0],
			Public:    public,
			PerHost:   int64(x.perHost) << 20,
			Ended:     filepath.Join(data, "keys", "history.head"),
		},
		Web: web.Config{Console: console.Files(), Open: x.open, Proxies: x.proxies},
	}

	if x.provider.Issuer != "" {
		cfg.App.Provider = &x.provider
	}

	if x.mail.Server != "" {
		cfg.App.Mail = &x.mail
	}

	handler := service.New(cfg)
	if err := handler.Upkeep(ctx); err != nil {
		return err
	}

	tending, enough := context.WithCancel(ctx)
	tended := make(chan struct{})
	go func() { defer close(tended); handler.Tend(tending) }()
	defer func() { enough(); <-tended }() // before the database goes

	server := func(h http.Handler, t *tls.Config) *http.Server {
		return &http.Server{
			Handler:           h,
			TLSConfig:         t,
			ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 3 * time.Minute, WriteTimeout: 4 * time.Minute,
			IdleTimeout:    2 * time.Minute,
			MaxHeaderBytes: 64 << 10,
			ErrorLog:       slog.NewLogLogger(log.Handler(), slog.LevelDebug),
		}
	}

	srv := server(handler, a.Server(x.names))
	done := make(chan error, 2)
	go func() { done <- srv.ServeTLS(x.proxies.Listen(l), "", "") }()
	if people != nil {
		second := server(handler.ForPeople(), peopleTLS)
		defer second.Close()
		go func() { done <- second.ServeTLS(x.proxies.Listen(people), "", "") }()
	}

	select {
	case err := <-done:
		return err
	case <-gone: // who keeps this service starts both again
		_ = srv.Close()
		return fmt.Errorf("the database has ended: see %s", filepath.Join(data, "database", "server.log"))
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
	return &cobra.Command{
		Use:   "openapi",
		Short: "Print the OpenAPI 3.1 document of the API",
		Args:  args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			s := service.New(service.Config{App: app.Config{Log: slog.New(slog.DiscardHandler)}})
			b, err := s.OpenAPI().MarshalJSON()
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(c.OutOrStdout(), string(b))
			return err
		},
	}
}
