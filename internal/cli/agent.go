package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
	"idletally/internal/core/pathname"
	"idletally/internal/host/ldap"
	"idletally/internal/host/smb"
)

// passwordIn reads the password in the file that a flag names.
func passwordIn(flag, file string) (string, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("--%s: %w", flag, err)
	}
	return strings.TrimRight(string(b), "\r\n"), nil
}

func agentCommand(o *options) *cobra.Command {
	var folder, level string
	var listen, lookOnly bool
	var apply func(*agent.Agent)
	run := &cobra.Command{Use: "run", Short: "Work for this host until stopped", Args: args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			log, _, err := logger(c, level)
			if err != nil {
				return err
			}
			a, err := agent.New(folder, log)
			if err != nil {
				return err
			}
			apply(a)
			a.Deaf, a.LookOnly = !listen, a.LookOnly || lookOnly
			debug.SetGCPercent(400) // a scan makes much that dies young, and holds little
			log.Info("agent", "host", a.Host, "service", a.Service, "roots", a.Roots)
			if err := a.Run(c.Context()); !errors.Is(err, context.Canceled) {
				return err
			}
			return nil
		}}
	apply = runFlags(run)
	run.Flags().BoolVar(&listen, "watch", true, "hear from the kernel what changes, so that drift is known at once (needs CAP_SYS_ADMIN)")
	run.Flags().BoolVar(&lookOnly, "look-only", false, "change nothing on this host, whoever signs what")
	run.Flags().StringVar(&level, "log-level", "info", "debug, info, warn or error")
	var service, authorityFile, code string
	var roots []string
	var server agent.FileServer
	var passwordFile, ldapPasswordFile string
	var kerberos smb.Kerberos
	var directory ldap.Directory
	enrol := &cobra.Command{Use: "enrol", Short: "Enrol this host with a one-time code",
		Long: `Enrol this host: the code that "idletally host invite" gave is traded for a certificate.

The roots are this host's own decision. Outside of them the agent neither looks nor changes
anything, whatever a service asks for.

With --server the agent works for a file server near it instead, through SMB 3. Then roots are shares, or folders in them:
/charts, /charts/harbour. The account has to be allowed to read all permissions there; its password is sealed in the agent's own
folder, by the key in seal.key there, or in the file that ` + agent.SealKey + ` names.`,
		Args: args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			ca, err := os.ReadFile(authorityFile)
			if err != nil {
				return err
			}
			var raw []string
			for _, r := range roots {
				p, err := pathname.Unescape(r)
				if err != nil {
					return usageError{err}
				}
				raw = append(raw, p)
			}
			var of *agent.FileServer
			if server.Address != "" {
				if server.Password, err = passwordIn("server-password-file", passwordFile); err != nil {
					return err
				}
				if server.User == "" {
					return usageError{errors.New("--server needs --server-user and --server-password-file")}
				}
				if kerberos.Realm != "" {
					if server.Kerberos = &kerberos; kerberos.Server == "" {
						return usageError{errors.New("--server-realm needs --server-name, the name that the file server has in its realm")}
					}
				}
				if directory.URL != "" {
					if directory.Password, err = passwordIn("ldap-password-file", ldapPasswordFile); err != nil {
						return err
					}
					server.LDAP = &directory
				}
				of = &server
			}
			host, err := agent.Enrol(c.Context(), folder, service, ca, code, Version, raw, of)
			if err != nil {
				return err
			}
			say(c, "Enrolled as host %s. Start it with: idletally agent run", host)
			return nil
		}}
	enrol.Flags().StringVar(&service, "service", "", "address of the service: https://HOST:PORT")
	enrol.Flags().StringVar(&authorityFile, "authority", "", "file with the service's authority (PEM)")
	enrol.Flags().StringVar(&code, "code", "", "one-time code")
	enrol.Flags().StringArrayVar(&roots, "root", nil, "folder below which the agent may work; give it once for each")
	enrol.Flags().StringVar(&server.Address, "server", "", "work for this file server instead: HOST:PORT")
	enrol.Flags().StringVar(&server.User, "server-user", "", "account at the file server")
	enrol.Flags().StringVar(&server.Domain, "server-domain", "", "domain of that account")
	enrol.Flags().StringVar(&passwordFile, "server-password-file", "", "file that holds its password")
	enrol.Flags().BoolVar(&server.Plain, "server-plain", false, "the file server need not encrypt what goes over the network")
	enrol.Flags().StringVar(&kerberos.Realm, "server-realm", "", "sign in by Kerberos, in this realm; otherwise by NTLMv2")
	enrol.Flags().StringVar(&kerberos.Server, "server-name", "", "name of the file server in its realm, as its service cifs/NAME has it")
	enrol.Flags().StringVar(&kerberos.Config, "server-krb5-conf", "/etc/krb5.conf", "Kerberos configuration")
	enrol.Flags().StringVar(&directory.URL, "ldap", "", "directory of the file server's domain, asked for memberships: ldaps://HOST")
	enrol.Flags().StringVar(&directory.Base, "ldap-base", "", "distinguished name below which its accounts and groups lie")
	enrol.Flags().StringVar(&directory.User, "ldap-user", "", "distinguished name to sign in with there")
	enrol.Flags().StringVar(&ldapPasswordFile, "ldap-password-file", "", "file that holds its password")
	enrol.Flags().StringVar(&directory.Authority, "ldap-authority", "", "file with the directory's authority (PEM); otherwise the system's")
	for _, f := range []string{"service", "authority", "code", "root"} {
		_ = enrol.MarkFlagRequired(f)
	}
	var proberFile string
	var noMore bool
	prober := &cobra.Command{Use: "prober ACCOUNT", Short: "Let the agent of a file server try as an account", Args: args(1, 1, "an account of the file server"),
		Long: `Let the agent of a file server try as an account, for "idletally access probe". On a share nobody can try as somebody else without
that account's password: it is sealed in the agent's folder, and goes to nobody but the file server.`,
		RunE: func(c *cobra.Command, a []string) error {
			if (proberFile == "") != noMore {
				return usageError{errors.New("give --password-file, or --no-more")}
			}
			var password string
			if !noMore {
				var err error
				if password, err = passwordIn("password-file", proberFile); err != nil {
					return err
				}
				if password == "" {
					return usageError{fmt.Errorf("%s is empty", proberFile)}
				}
			}
			if err := agent.Prober(c.Context(), folder, a[0], password); err != nil {
				return err
			}
			if noMore {
				say(c, "%s is no prober any more.", a[0])
			} else {
				say(c, "%s is a prober now.", a[0])
			}
			return nil
		}}
	prober.Flags().StringVar(&proberFile, "password-file", "", "file that holds the account's password")
	prober.Flags().BoolVar(&noMore, "no-more", false, "forget the account's password")
	c := noun("agent", "Work on this host for a service", run, enrol, prober, runsHere(o, &folder), putBackHere(o, &folder))
	c.PersistentFlags().StringVar(&folder, "folder", "/var/lib/idletally-agent", "the agent's own folder")
	return c
}
