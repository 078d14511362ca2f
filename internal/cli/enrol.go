package cli

import (
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"idletally/internal/agent"
	"idletally/internal/core/pathname"
	"idletally/internal/host/ldap"
	"idletally/internal/host/smb"
	"idletally/internal/host/ssh"
)

// remoteFlags say how a host is reached over SSH.
type remoteFlags struct{ agent.Remote }

// read completes them.
func (f *remoteFlags) read(to, passphraseFile string) error {
	at, err := ssh.Parse(to)
	if err != nil {
		return usageError{fmt.Errorf("--ssh: %w", err)}
	}
	f.Address, f.User = at.Address, at.User
	if !path.IsAbs(f.Folder) || f.Program != "" && !path.IsAbs(f.Program) {
		return usageError{errors.New("--ssh-folder and --ssh-program want whole paths, from / on")}
	}

	for _, file := range []*string{&f.Key, &f.KnownHosts, &f.Copy} { // what is kept holds wherever it is started
		if *file == "" {
			continue
		}
		if rest, ok := strings.CutPrefix(*file, "~/"); ok {
			home, err := os.UserHomeDir()
			if err != nil {
				return err
			}
			*file = filepath.Join(home, rest)
		}
		if *file, err = filepath.Abs(*file); err != nil {
			return err
		}
	}

	if passphraseFile != "" {
		f.Passphrase, err = passwordIn("ssh-passphrase-file", passphraseFile)
	}

	return err
}

// rootsGiven reads roots as they are typed.
func rootsGiven(roots []string) (raw []string, err error) {
	for _, r := range roots {
		p, err := pathname.Unescape(r)
		if err != nil {
			return nil, usageError{err}
		}
		raw = append(raw, p)
	}
	return raw, nil
}

// serverFlags say which file server an agent works for, instead of its own host.
type serverFlags struct {
	agent.FileServer
	passwordFile, ldapPasswordFile string
	kerberos                       smb.Kerberos
	directory                      ldap.Directory
}

func (f *serverFlags) add(c *cobra.Command) {
	c.Flags().StringVar(&f.Address, "server", "", "work for this file server instead: HOST:PORT")
	c.Flags().StringVar(&f.User, "server-user", "", "account at the file server")
	c.Flags().StringVar(&f.Domain, "server-domain", "", "domain of that account")
	c.Flags().StringVar(&f.passwordFile, "server-password-file", "", "file that holds its password")
	c.Flags().BoolVar(&f.Plain, "server-plain", false,
		"the file server need not encrypt what goes over the network")
	c.Flags().BoolVar(&f.Old, "server-smb-3-0", false,
		"the file server may speak SMB 3.0, which does not protect how it was agreed on; otherwise 3.1.1 alone")
	c.Flags().StringVar(&f.kerberos.Realm, "server-realm", "",
		"sign in by Kerberos, in this realm; otherwise by NTLMv2")
	c.Flags().StringVar(&f.kerberos.Server, "server-name", "",
		"name of the file server in its realm, as its service cifs/NAME has it")
	c.Flags().StringVar(&f.kerberos.Config, "server-krb5-conf", "/etc/krb5.conf", "Kerberos configuration")
	c.Flags().StringVar(&f.directory.URL, "ldap", "",
		"directory of the file server's domain, asked for memberships: ldaps://HOST")
	c.Flags().StringVar(&f.directory.Base, "ldap-base", "",
		"distinguished name below which its accounts and groups lie")
	c.Flags().StringVar(&f.directory.User, "ldap-user", "", "distinguished name to sign in with there")
	c.Flags().StringVar(&f.ldapPasswordFile, "ldap-password-file", "", "file that holds its password")
	c.Flags().StringVar(&f.directory.Authority, "ldap-authority", "",
		"file with the directory's authority (PEM); otherwise the system's")
}

// read returns the file server; nil where none is named.
func (f *serverFlags) read() (of *agent.FileServer, err error) {
	if f.Address == "" {
		return nil, nil
	}
	if f.Password, err = passwordIn("server-password-file", f.passwordFile); err != nil {
		return nil, err
	}
	if f.User == "" {
		return nil, usageError{errors.New("--server needs --server-user and --server-password-file")}
	}

	if f.kerberos.Realm != "" {
		f.Kerberos = &f.kerberos
		if f.kerberos.Server == "" {
			return nil, usageError{errors.New(
				"--server-realm needs --server-name, the name that the file server has in its realm")}
		}
	}

	if f.directory.URL != "" {
		if f.directory.Password, err = passwordIn("ldap-password-file", f.ldapPasswordFile); err != nil {
			return nil, err
		}
		f.LDAP = &f.directory
	}
	return &f.FileServer, nil
}

func agentEnrol(folder *string) *cobra.Command {
	var service, authorityFile, code string
	var roots []string
	var server serverFlags
	var to, passphraseFile string
	far := remoteFlags{}
	var roster pinned
	enrol := &cobra.Command{Use: "enrol", Short: "Enrol this host with a one-time code",
		Long: `Enrol this host: the code that "idletally host invite" gave is traded for a certificate.

The roots are this host's own decision. Outside of them the agent neither looks nor changes
anything, whatever a service asks for.

With --server the agent works for a file server near it instead, through SMB 3. Then roots are
shares, or folders in them: /charts, /charts/harbour. The account has to be allowed to read all
permissions there; its password is sealed in the agent's own folder, by the key in seal.key there,
or in the file that ` + agent.SealKey + ` names.

With --ssh it works on a host that this machine reaches over SSH, as long as "idletally agent run"
goes on here. The agent's own folder and its key are there; the folder here says how to reach it.
This program is copied there, and anew whenever it is another one, unless --ssh-program says where
one lies. The host's key has to be known; keys are lent to nobody, and no port is opened.`,
		Args: args(0, 0, "no argument"),
		RunE: func(c *cobra.Command, _ []string) error {
			ca, err := os.ReadFile(authorityFile)
			if err != nil {
				return err
			}
			raw, err := rootsGiven(roots)
			if err != nil {
				return err
			}
			pin, err := roster.check(to)
			if err != nil {
				return err
			}

			of, err := server.read()
			if err != nil {
				return err
			}

			j := agent.Joining{Folder: *folder, Service: service, Authority: ca, Roots: raw, Server: of}
			var host string
			if to != "" {
				if of != nil {
					return usageError{
						errors.New(
							"give --ssh or --server: a file server near a host that is reached over SSH is " +
								"enrolled on that host"),
					}
				}
				if err := far.read(to, passphraseFile); err != nil {
					return err
				}
				log, _, err := logger(c, "info")
				if err != nil {
					return err
				}
				if host, err = agent.EnrolRemote(c.Context(), j, &far.Remote, code, Version, log); err != nil {
					return err
				}
			} else if host, err = agent.Enrol(c.Context(), j, code, Version); err != nil {
				return err
			}
			if err := pin(*folder); err != nil {
				return fmt.Errorf("host %s is enrolled, and its roster is not pinned: %w", host, err)
			}

			printf(c, "Enrolled as host %s. Start it with: idletally agent run --folder %s", host,
				pathname.Escape(filepath.ToSlash(*folder)))
			return nil
		}}

	pinFlags(enrol, &roster)
	enrol.Flags().StringVar(&service, "service", "", "address of the service: https://HOST:PORT")
	enrol.Flags().StringVar(&authorityFile, "authority", "", "file with the service's authority (PEM)")
	enrol.Flags().StringVar(&code, "code", "", "one-time code")
	enrol.Flags().StringArrayVar(&roots, "root", nil, "folder below which the agent may work; give it once for each")
	server.add(enrol)
	enrol.Flags().StringVar(&to, "ssh", "", "work on a host that is reached over SSH: [USER@]HOST[:PORT]")
	enrol.Flags().StringVar(&far.Key, "ssh-key", "~/.ssh/id_ed25519",
		"private key to sign in with, which nobody else may be able to read")
	enrol.Flags().StringVar(&passphraseFile, "ssh-passphrase-file", "", "file that holds the key's passphrase")
	enrol.Flags().StringVar(&far.KnownHosts, "ssh-known-hosts", "~/.ssh/known_hosts",
		"the keys of hosts, as OpenSSH keeps them")
	enrol.Flags().BoolVar(&far.Sudo, "ssh-sudo", false, "become root there, by sudo, which must not ask for a password")
	enrol.Flags().StringVar(&far.Folder, "ssh-folder", "/var/lib/idletally-agent", "the agent's own folder there")
	enrol.Flags().StringVar(&far.Program, "ssh-program", "",
		"where idletally lies there; otherwise it is copied into the agent's folder")
	enrol.Flags().StringVar(&far.Copy, "ssh-copy", "",
		"the program to copy, for another kind of processor; otherwise this one")
	for _, f := range []string{"service", "authority", "code", "root"} {
		_ = enrol.MarkFlagRequired(f)
	}

	return enrol
}
