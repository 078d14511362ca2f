//go:build linux

package cli

import (
	"context"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"idletally/internal/agent"
	"idletally/internal/client"
	"idletally/internal/core/pathname"
	"idletally/internal/host/ssh"
	"idletally/internal/service/mariadb"
	"idletally/internal/service/store"
	"idletally/internal/wire"
)

// A sign is something that was checked, how it is, and what to do about it.
type sign struct {
	Where string `json:"where"` // you, service, host, data
	What  string `json:"what"`
	State string `json:"state"` // well, odd or wrong
	Do    string `json:"do,omitempty"`
}

const (
	well  = "well"
	odd   = "odd"
	wrong = "wrong"
)

// examination gathers signs.
type examination struct {
	where string
	signs []sign
}

func (x *examination) add(state, do, what string, args ...any) {
	if state == well {
		do = ""
	}
	x.signs = append(x.signs, sign{x.where, fmt.Sprintf(what, args...), state, do})
}

// either adds something that holds, or does not.
func (x *examination) either(holds bool, state, do, what string, args ...any) bool {
	if !holds {
		what = "not so: " + what
	}
	return x.measure(holds, state, do, what, args...)
}

// measure adds something that is shown in any case, and is well or not.
func (x *examination) measure(fine bool, state, do, what string, args ...any) bool {
	if fine {
		state = well
	}
	x.add(state, do, what, args...)
	return fine
}

func doctorCommand(o *options) *cobra.Command {
	var folder, data, dsn string
	c := &cobra.Command{
		Use:   "doctor",
		Short: "Find usual mistakes, here and at the service, and say what to do",
		Args:  args(0, 0, "no argument"),
		Long: `Find usual mistakes, and say what to do: with your session, at the service that you are signed in
to, with the agent of this machine, and with the service's own folder, each where it is there. It
changes nothing. The exit code is 1 where something is wrong.`,
		RunE: func(c *cobra.Command, _ []string) error {
			ctx, cancel := context.WithTimeout(c.Context(), 2*time.Minute)
			defer cancel()

			x := &examination{}
			if api := o.you(ctx, x); api != nil {
				theService(ctx, x, api)
			}

			if _, err := os.Stat(folder); err == nil {
				thisHost(ctx, x, folder)
			}

			if _, err := os.Stat(data); err == nil {
				theFolder(ctx, x, data, dsn)
			}

			t := table{head: []string{"WHERE", "STATE", "WHAT", "WHAT TO DO"}, value: x.signs}
			bad := 0
			for _, s := range x.signs {
				t.add(s.Where, s.State, s.What, s.Do)
				if s.State == wrong {
					bad++
				}
			}

			if err := o.show(c, t); err != nil {
				return err
			}
			if bad > 0 {
				return fmt.Errorf("%d of %d things are wrong", bad, len(x.signs))
			}

			return nil
		},
	}

	c.Flags().StringVar(&folder, "folder", "/var/lib/idletally-agent", "the agent's folder on this machine")
	c.Flags().StringVar(&data, "data", "/var/lib/idletally", "the service's own folder on this machine")
	c.Flags().StringVar(&dsn, "database", os.Getenv("IDLETALLY_DATABASE"),
		"the service's database, where that is not its private one; better given by IDLETALLY_DATABASE")
	c.Flags().Lookup("database").DefValue = ""
	return c
}

// you checks the session.
func (o *options) you(ctx context.Context, x *examination) *client.Client {
	x.where = "you"
	s, err := o.load()
	if err != nil {
		x.add(odd, "idletally login ADDRESS, to have the service looked at too", "you are not signed in")
		return nil
	}

	api, err := client.New(s.Address, []byte(s.Authority), s.Token)
	if err != nil {
		x.add(wrong, "sign in anew: idletally login "+s.Address, "the session cannot be read: %v", err)
		return nil
	}

	if !x.ping(ctx, api) {
		return nil
	}
	me, err := api.Me(ctx)
	if !x.either(err == nil, wrong, "sign in anew: idletally login "+s.Address, "the service knows your session") {
		return nil
	}

	if slices.Contains(me.Roles, wire.Admin) || slices.Contains(me.Roles, wire.Reviewer) {
		x.either(me.Second || me.Provider, odd, "idletally sign-in second-factor",
			"you sign in with a second factor, or a provider, as %s", strings.Join(me.Roles, ", "))
	}

	return api
}

// ping calls a service, and compares clocks.
func (x *examination) ping(ctx context.Context, api *client.Client) bool {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, api.Address+"/readyz", nil)
	if err != nil {
		x.add(wrong, "correct the address", "%v", err)
		return false
	}

	before := time.Now()
	resp, err := api.HTTP.Do(req)
	if err != nil {
		x.add(wrong,
			"is it running, is the address right, is the way open, and is its authority the one that you know?",
			"the service at %s does not answer: %v", api.Address, err)
		return false
	}

	resp.Body.Close()
	x.either(resp.StatusCode == http.StatusOK, wrong, "see to the database, and to the service's log",
		"the service at %s is ready", api.Address)
	if there, err := http.ParseTime(resp.Header.Get("Date")); err == nil {
		off := there.Sub(before.Add(time.Since(before) / 2)).Abs()
		x.measure(off < 10*time.Second, wrong,
			"have both machines' clocks set by the same time servers: certificates, codes and approvals depend on them",
			"this clock and the service's are %s apart", max(off-time.Second, 0).Round(time.Second))
	}

	return resp.StatusCode == http.StatusOK
}

// theService checks what the service says of itself.
func theService(ctx context.Context, x *examination, api *client.Client) {
	x.where = "service"
	hosts, err := api.Hosts(ctx)
	if err != nil {
		x.add(wrong, "see the service's log", "hosts: %v", err)
		return
	}

	here, there := built(), wire.Build{}
	if there, err = api.Version(ctx); err == nil {
		x.measure(here.Version == there.Version, odd,
			"bring them to one version: the service first, then agents, then this program",
			"this program is %s, and the service %s", here.Version, there.Version)
	}

	var others, unfit []string
	var silent, waiting []string
	for _, h := range hosts {
		switch {
		case !h.Enrolled:
			waiting = append(waiting, h.Name)
			continue
		case !h.Carried && (h.LastSeen == nil || time.Since(*h.LastSeen) > 10*time.Minute):
			silent = append(silent, h.Name)
		}
		if h.Unfit != "" {
			unfit = append(unfit, h.Name+" ("+h.Unfit+")")
		} else if h.Version != there.Version {
			others = append(others, h.Name+" ("+h.Version+")")
		}
	}

	x.measure(len(hosts) > 0, odd, "idletally host invite NAME", "%d hosts are known", len(hosts))
	x.measure(len(silent) == 0, wrong, "on the host: systemctl status idletally-agent, and idletally doctor",
		"%d enrolled hosts are silent%s", len(silent), some(silent))
	x.measure(len(waiting) == 0, odd,
		"idletally host invite NAME makes another code; on the host: idletally agent enrol",
		"%d hosts were invited and never came%s", len(waiting), some(waiting))
	x.measure(len(unfit) == 0, wrong, "bring what is said up to date", "%d agents cannot work with this service%s",
		len(unfit), some(unfit))
	if there.Version != "" {
		x.measure(len(others) == 0, odd, "bring the agents to the service's version",
			"%d agents run another version than the service, %s%s", len(others), there.Version, some(others))
	}

	apps, err := api.Applications(ctx)
	if err == nil {
		var alone []string
		for _, a := range apps {
			if len(a.Hosts) == 0 {
				alone = append(alone, a.Name)
			}
		}
		x.measure(len(alone) == 0, odd, "give hosts the tags that the baseline asks for: idletally host tag",
			"%d of %d applications have no host%s", len(alone), len(apps), some(alone))
	}

	if schedules, err := api.Schedules(ctx); err == nil {
		x.measure(len(schedules) > 0, odd, "idletally schedule add APPLICATION '30 2 * * *'",
			"%d schedules take snapshots by themselves", len(schedules))
	}

	if hooks, err := api.Hooks(ctx); err == nil {
		for _, h := range hooks {
			x.measure(h.Fault == "", wrong, "see to it, then: idletally hook try "+h.ID, "notices go to %s%s", h.URL,
				faulty(h.Fault))
		}
	}

	if check, err := api.CheckHistory(ctx); err == nil {
		x.measure(check.Fault == "", wrong, "somebody has changed the database: idletally history verify",
			"%d lines of history are tied together%s", check.Lines, faulty(check.Fault))
	}

	people, err := api.People(ctx)
	if client.Status(err) == http.StatusForbidden {
		return // an admin sees them
	}

	reviewers := 0
	for _, p := range people {
		if slices.ContainsFunc(p.Roles, func(r string) bool {
			return r == wire.Reviewer || strings.HasPrefix(r, wire.Reviewer+"@")
		}) {
			reviewers++
		}
	}

	x.measure(err == nil && reviewers > 1, odd, "idletally person roles NAME reviewer: nobody approves their own plans",
		"%d people review", reviewers)
}

// told is what an error says.
func told(err error) string {
	if err == nil {
		return ""
	}
	return printable(err.Error())
}

// some names the first of many.
func some(names []string) string {
	if len(names) == 0 {
		return ""
	}
	more := ""
	if len(names) > 3 {
		names, more = names[:3], ", …"
	}
	return ": " + strings.Join(names, ", ") + more
}

// thisHost checks the agent of this machine.
func thisHost(ctx context.Context, x *examination, folder string) {
	x.where = "host"
	s, err := agent.Load(folder)
	if errors.Is(err, fs.ErrPermission) {
		x.add(odd, "run this as root", "the agent's folder cannot be read")
		return
	}

	if err != nil {
		x.add(wrong, "enrol it: idletally agent enrol", "the agent's folder %s: %v", folder, err)
		return
	}

	if st, err := os.Stat(folder); err == nil {
		x.either(st.Mode().Perm()&0o077 == 0, wrong,
			"chmod 0700 "+folder+": it holds the key by which this host is known",
			"nobody else reads the agent's folder")
	}

	if s.Remote == nil { // or it is there
		anew, soon := "invite the host anew, and enrol it", "the agent renews it by itself when it runs: is it running?"
		if s.Service == "" {
			anew, soon = "carry another request to the service: idletally agent request",
				"carry another request to the service in time: idletally agent request"
		}

		end, err := certificateEnd(s.Certificate)
		x.measure(err == nil && time.Until(end) > 0, wrong, anew, "the agent's certificate is good until %s",
			end.Format(time.DateOnly))
		if err == nil && time.Until(end) > 0 {
			x.measure(time.Until(end) > 10*24*time.Hour, odd, soon, "it is good for another %d days",
				int(time.Until(end)/(24*time.Hour)))
		}
	}

	if s.Service != "" { // or nothing leads there
		if api, err := client.New(s.Service, s.Authority, ""); err == nil {
			x.ping(ctx, api)
		}
	}

	if s.Remote != nil {
		h, err := ssh.Dial(ctx, s.Remote.Access)
		if err == nil {
			err = h.Close()
		}
		x.either(err == nil, wrong, "do what is said, and enrol the host anew where its key or its address is another",
			"host %s is reached over SSH at %s as %s%s", s.Host, s.Remote.Address, s.Remote.User, faulty(told(err)))
	}

	if s.Server != nil || s.Remote != nil {
		return // its roots are elsewhere
	}

	for _, r := range s.Roots {
		raw, err := pathname.Unescape(r)
		if err == nil {
			_, err = os.Stat(raw)
		}
		x.either(err == nil, odd, "make it, or enrol without it", "the root %s is there", r)
	}

	_, err = os.Stat("/proc/self/fd")
	x.either(err == nil, wrong, "mount /proc: attributes are read by way of it", "/proc is mounted")
	fd, err := unix.Openat2(unix.AT_FDCWD, "/", &unix.OpenHow{
		Flags:   unix.O_PATH | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_NO_SYMLINKS,
	})
	if err == nil {
		unix.Close(fd)
	}

	x.either(err == nil, wrong, "Linux 5.6 or later is needed", "paths can be opened without following links")
}

func certificateEnd(text []byte) (time.Time, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return time.Time{}, errors.New("no certificate in PEM form")
	}
	c, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return time.Time{}, err
	}
	return c.NotAfter, nil
}

// theFolder checks the service's own folder.
func theFolder(ctx context.Context, x *examination, data, dsn string) {
	x.where = "data"
	keys := filepath.Join(data, "keys")
	list, err := os.ReadDir(keys)
	if errors.Is(err, fs.ErrPermission) {
		x.add(odd, "run this as root or the service's account", "the service's folder cannot be read")
		return
	}

	x.either(err == nil && len(list) > 0, wrong,
		"has the service ever run? A backup brings keys back: idletally backup restore", "the service's keys are in %s",
		keys)
	for _, e := range list {
		st, err := e.Info()
		if err == nil && strings.HasSuffix(e.Name(), ".key") {
			x.either(st.Mode().Perm()&0o077 == 0, wrong, "chmod 0600 "+filepath.Join(keys, e.Name()),
				"nobody else reads %s", e.Name())
		}
	}

	if dsn == "" {
		_, running := mariadb.Running(ctx, filepath.Join(data, "database"))
		x.either(running, odd, "start the service, or give its database's address by IDLETALLY_DATABASE",
			"the private database answers")
	} else {
		err := store.Ping(ctx, dsn)
		x.either(err == nil, wrong, "start it, or correct the address", "the database %s answers",
			store.WithoutPassword(dsn))
	}

	var disk unix.Statfs_t
	if unix.Statfs(data, &disk) == nil && disk.Blocks > 0 {
		free := 100 * disk.Bavail / disk.Blocks
		x.measure(free >= 10, odd, "make room: idletally storage tidy, or --keep-all and others of idletally serve",
			"%d percent of the disk under %s is free", free, data)
	}

	var files unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &files) == nil {
		x.measure(files.Max >= 8192, odd,
			"raise the limit of open files: LimitNOFILE= in the unit; each waiting agent needs one",
			"%d files may be open", files.Max)
	}
}
