package cli

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"idletally/internal/atomicfile"
	"idletally/internal/client"
	"idletally/internal/private"
	"idletally/internal/service/authority"
	"idletally/internal/wire"
)

// session is what the command line keeps between calls, for its user alone.
type session struct {
	Address   string    `json:"address"`
	Name      string    `json:"name"`
	Token     string    `json:"token"`
	Expires   time.Time `json:"expires"`
	Authority string    `json:"authority"`
	Device    string    `json:"device,omitempty"` // with which the next sign-in is no stranger's
}

// folder is where sessions are kept.
func (o *options) folder() (string, error) {
	if o.config != "" {
		return o.config, nil
	}
	base, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("your configuration folder: %w: give --config", err)
	}
	return filepath.Join(base, "idletally"), nil
}

func (o *options) sessionFile() (string, error) {
	dir, err := o.folder()
	if err != nil {
		return "", err
	}
	profile, err := o.profileIn(dir)
	return filepath.Join(dir, sessionOf(profile)), err
}

// The session from the environment: what a program signs in with.
const (
	envAddress   = "IDLETALLY_ADDRESS"
	envToken     = "IDLETALLY_TOKEN"
	envAuthority = "IDLETALLY_AUTHORITY"
)

func (o *options) load() (session, error) {
	var s session
	if token := os.Getenv(envToken); token != "" {
		var ca []byte
		if file := os.Getenv(envAuthority); file != "" { // otherwise the system's own count
			var err error
			if ca, err = os.ReadFile(file); err != nil {
				return s, fmt.Errorf("%s has to name the file with the service's authority: %w", envAuthority, err)
			}
		}

		s.Address = os.Getenv(envAddress)
		if s.Address == "" {
			return s, fmt.Errorf("%s is set, and %s has to say where the service is: https://HOST:PORT", envToken,
				envAddress)
		}

		s.Token, s.Authority = token, string(ca)
		return s, nil
	}

	file, err := o.sessionFile()
	if err != nil {
		return s, err
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return s, errSignedOut
	}

	if err == nil {
		err = json.Unmarshal(b, &s)
	}

	if err == nil && s.Token == "" { // only the device was kept
		err = errSignedOut
	}

	return s, err
}

var errSignedOut = errors.New("you are not signed in: idletally login ADDRESS")

func (o *options) save(s session) error {
	file, err := o.sessionFile()
	if err != nil {
		return err
	}
	b, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	if err := private.MkdirAll(filepath.Dir(file)); err != nil {
		return err
	}
	return atomicfile.Write(file, b)
}

// client makes a client for the session's service.
func (o *options) client() (*client.Client, error) {
	s, err := o.load()
	if err != nil {
		return nil, err
	}
	return client.New(s.Address, []byte(s.Authority), s.Token)
}

// call is a command that talks to the service.
func (o *options) call(
	f func(c *cobra.Command, api *client.Client, a []string) error,
) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, a []string) error {
		api, err := o.client()
		if err != nil {
			return err
		}
		if term.IsTerminal(int(os.Stdin.Fd())) {
			api.Confirming = func(ctx context.Context) error { return confirm(ctx, api, prompter(c, false), false) }
		}
		return f(c, api, a)
	}
}

// confirm has people show again who they are, by password or code.
func confirm(ctx context.Context, api *client.Client, ask func(string) (string, error), byCode bool) (err error) {
	var in wire.Confirm
	if byCode {
		in.Code, err = ask("Code of your authenticator: ")
	} else {
		in.Password, err = ask("Your password again: ")
	}
	if err != nil {
		return err
	}
	return api.Confirm(ctx, in)
}

func loginCommand(o *options) *cobra.Command {
	var name, authorityFile, fingerprint string
	var fromStdin bool
	c := &cobra.Command{
		Use:   "login ADDRESS",
		Short: "Sign in to a service",
		Long: `Sign in to a service. The session is kept in your configuration folder, readable by you alone.

The service's authority must be known: give its file with --authority, or its fingerprint, which the
service prints when it starts, with --fingerprint; on a terminal you are shown the fingerprint and
asked. With --password-stdin the first line of standard input is the password; where that is a
one-time password the next is the new one, and where you have a second factor the last is its code.`,
		Args: args(1, 1, "the service's address"),
		RunE: func(c *cobra.Command, a []string) error {
			address := a[0]
			if !strings.Contains(address, "://") {
				address = "https://" + address
			}

			u, err := url.Parse(address)
			if err != nil || u.Scheme != "https" || u.Host == "" {
				return usageError{fmt.Errorf("address %q: want https://HOST:PORT", a[0])}
			}
			ca, err := trust(c, u, authorityFile, fingerprint)
			if err != nil {
				return err
			}
			api, err := client.New(address, ca, "")
			if err != nil {
				return err
			}

			if machine, err := os.Hostname(); err == nil {
				api.Name = "command line on " + machine
			}

			in := wire.SignIn{Name: name}
			if before, _ := o.load(); before.Address == address && before.Name == name {
				in.Device = before.Device
			}

			ask := prompter(c, fromStdin)
			if in.Password, err = ask("Password: "); err != nil {
				return err
			}

			got, err := api.SignIn(c.Context(), in)
			for n := 0; n < 2 && client.Status(err) == 403; n++ {
				if client.Code(err) == wire.SecondFactorMissing {
					if in.Code, err = ask("Code of your authenticator: "); err != nil {
						return err
					}
				} else {
					tell(c.ErrOrStderr(), "This is a one-time password: choose your own, at least 12 characters.\n")
					if in.NewPassword, err = ask("New password: "); err != nil {
						return err
					}
				}
				got, err = api.SignIn(c.Context(), in)
			}

			if err != nil {
				return err
			}
			if err := o.save(session{
				address, got.Person.Name, got.Token, got.Expires, string(ca), got.Device,
			}); err != nil {
				return fmt.Errorf("keep the session: %w", err)
			}

			printf(c, "Signed in as %s (%s) until %s.", got.Person.Name, strings.Join(got.Person.Roles, ", "),
				when(got.Expires))
			api.Token = got.Token
			sayNews(c, api)
			return nil
		},
	}

	c.Flags().StringVar(&name, "name", "", "your name with Idle Tally")
	c.Flags().StringVar(&authorityFile, "authority", "", "file with the service's authority (PEM)")
	c.Flags().StringVar(&fingerprint, "fingerprint", "", "SHA-256 of the service's authority, in hexadecimal")
	c.Flags().BoolVar(&fromStdin, "password-stdin", false, "read the password from standard input")
	_ = c.MarkFlagRequired("name")
	return c
}

func prompter(c *cobra.Command, fromStdin bool) func(string) (string, error) {
	lines := bufio.NewReader(c.InOrStdin())
	return func(prompt string) (string, error) {
		if fromStdin {
			s, err := lines.ReadString('\n')
			s = strings.TrimRight(s, "\r\n")
			if s == "" {
				return "", errors.Join(errors.New("standard input holds no password line"), ignoreEOF(err))
			}

			return s, nil
		}

		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return "", errors.New("there is no terminal to ask for the password: use --password-stdin")
		}

		tell(c.ErrOrStderr(), "%s", prompt)
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		tell(c.ErrOrStderr(), "\n")
		return string(b), err
	}
}

// ask asks for a line that need not be hidden.
func ask(c *cobra.Command, prompt string) (string, error) {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return "", errors.New("there is no terminal to ask at")
	}
	tell(c.ErrOrStderr(), "%s", prompt)
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	return strings.TrimSpace(line), ignoreEOF(err)
}

func ignoreEOF(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// trust finds the service's authority, by file, by fingerprint, or by asking.
func trust(c *cobra.Command, u *url.URL, file, fingerprint string) ([]byte, error) {
	if file != "" {
		return os.ReadFile(file)
	}

	host := u.Host
	if u.Port() == "" {
		host += ":443"
	}

	// A certificate that the system trusts anyway needs no comparison of fingerprints.
	if fingerprint == "" {
		if conn, err := tls.Dial("tcp", host, &tls.Config{MinVersion: tls.VersionTLS13}); err == nil {
			return nil, conn.Close()
		}
	}

	// Nothing is sent over this connection: it only shows which authority the service has.
	conn, err := tls.Dial("tcp", host, &tls.Config{InsecureSkipVerify: true, MinVersion: tls.VersionTLS13})
	if err != nil {
		return nil, fmt.Errorf("%w at %s: %w", client.ErrUnreachable, host, err)
	}
	defer conn.Close()

	chain := conn.ConnectionState().PeerCertificates
	ca := chain[len(chain)-1]
	shown := authority.Fingerprint(ca.Raw)
	ok := strings.EqualFold(strings.ReplaceAll(fingerprint, ":", ""), shown)
	if fingerprint == "" {
		if !term.IsTerminal(int(os.Stdin.Fd())) {
			return nil, fmt.Errorf(
				"the service's authority is not known: give --authority FILE, or --fingerprint %s if that is what "+
					"the service printed",
				shown)
		}

		tell(c.ErrOrStderr(),
			"The service's authority has the fingerprint\n  %s\nIs this what the service printed? (yes/no) ", shown)
		answer, _ := bufio.NewReader(os.Stdin).ReadString('\n')
		ok = strings.TrimSpace(answer) == "yes"
	}

	if !ok {
		return nil, fmt.Errorf("the authority of %s is not the one you expect: its fingerprint is %s", host, shown)
	}

	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: ca.Raw}), nil
}

func logoutCommand(o *options) *cobra.Command {
	return &cobra.Command{Use: "logout", Short: "End your session", Args: args(0, 0, "no argument"),
		RunE: o.call(func(c *cobra.Command, api *client.Client, _ []string) error {
			err := api.SignOut(c.Context())
			if client.Status(err) == 401 {
				err = nil
			}
			s, ferr := o.load()
			s.Token = ""
			if ferr == nil && os.Getenv(envToken) == "" {
				ferr = o.save(s)
			}
			return errors.Join(err, ferr)
		})}
}
