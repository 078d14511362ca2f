//go:build linux

// Saltmarsh runs the demo world: "demo" until it is stopped, "lockers" with NFSv4 lists besides, "tour" through the
// whole story, printing each command and its real output; "night" lets a night pass on the hosts of a running demo.
package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"idletally/demo"
)

// job reports whether this process is a night's job of one host.
func job() bool { return len(os.Args) == 4 && os.Args[1] == "night" }

func init() {
	if job() { // who logged in is written by the process's first thread only
		runtime.LockOSThread()
	}
}

func main() {
	if len(os.Args) > 1 && os.Args[1] == "inside" {
		fail(demo.Inside(os.Args[2:]))
	}

	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()

	if job() {
		demo.Job("sales-export")
		n, err := strconv.Atoi(os.Args[3])
		fail(errors.Join(err, demo.Night(os.Args[2], n)))
		return
	}

	if len(os.Args) == 2 && os.Args[1] == "night" {
		fail(night())
		return
	}

	if slices.ContainsFunc(os.Args[1:], func(a string) bool { return a == "-h" || a == "--help" }) {
		fmt.Println(
			"saltmarsh demo PROGRAM, lockers PROGRAM (the demo with a folder that has NFSv4 lists), tour PROGRAM or " +
				"big PROGRAM, where PROGRAM is the built idletally; saltmarsh night, while a demo runs")
		return
	}

	if len(os.Args) != 3 || !slices.Contains([]string{"demo", "lockers", "tour", "big"}, os.Args[1]) {
		fail(errors.New("want demo PROGRAM, lockers PROGRAM, tour PROGRAM, big PROGRAM or night"))
	}

	if os.Args[1] == "lockers" {
		fail(demo.Private())
	}

	program, err := filepath.Abs(os.Args[2])
	fail(err)
	if os.Args[1] == "big" {
		fail(big(ctx, program))
		return
	}

	fail(run(ctx, os.Args[1], program))
}

// fill declares what there is, and opens the file server, and the lockers where they are asked for.
func fill(ctx context.Context, s *demo.Stage, lockers bool) error {
	err := errors.Join(s.Declare(ctx), s.OpenChartroom(ctx))
	if err == nil && lockers {
		err = s.OpenLockers(ctx)
	}
	return err
}

func fail(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(1)
	}
}

func place(name string) string {
	return filepath.Join(os.TempDir(), fmt.Sprintf("idletally-%s-%d", name, os.Getuid()))
}

// night lets a night pass on the hosts of the running demo.
func night() error {
	hosts, err := filepath.Glob(filepath.Join(place("demo"), "hosts", "*"))
	if err != nil || len(hosts) == 0 {
		return errors.Join(errors.New("no demo is running: start it with make demo"), err)
	}

	for _, root := range hosts {
		n := 1
		for ; ; n++ {
			if _, err := os.Lstat(filepath.Join(root,
				fmt.Sprintf("srv/ticketing/logs/sales-night-%d-0.log", n))); err != nil {
				break
			}
		}

		one := exec.Command("/proc/self/exe", "night", root, strconv.Itoa(n)) // a process of its own
		one.Stderr = os.Stderr
		if err := one.Run(); err != nil {
			return fmt.Errorf("night %d on %s: %w", n, filepath.Base(root), err)
		}

		fmt.Printf("Night %d has passed on %s.\n", n, filepath.Base(root))
	}

	return nil
}

// folder takes the demo's own folder, clearing what a killed demo left. A lock tells whether one is running; the
// kernel releases it however that one ended.
func folder(name string) (dir string, err error) {
	dir = place(name)
	if err := os.Mkdir(dir, 0o711); err != nil && !errors.Is(err, os.ErrExist) {
		return "", err
	}
	var st unix.Stat_t
	if err := unix.Lstat(dir, &st); err != nil || st.Uid != uint32(os.Getuid()) || st.Mode&unix.S_IFMT != unix.S_IFDIR {
		return "", fmt.Errorf("%s is there and is not ours: take it away", dir)
	}
	lock, err := os.OpenFile(dir+".lock", os.O_CREATE|os.O_RDWR|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return "", err
	}

	for tries := 0; ; tries++ {
		err = unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB)
		if err == nil {
			break
		}
		if tries == 20 { // the processes of a killed demo need a moment to end
			return "", fmt.Errorf("a %s is running already, in %s: stop that one first", name, dir)
		}

		time.Sleep(100 * time.Millisecond)
	}

	if err := os.RemoveAll(dir); err != nil {
		return "", err
	}

	return dir, os.Mkdir(dir, 0o711)
}

// address is the usual one, or another where that is taken.
func address() string {
	const usual = "127.0.0.1:7780"
	l, err := net.Listen("tcp", usual)
	if err != nil {
		return "127.0.0.1:0"
	}
	l.Close()
	return usual
}

// begin makes the folder of a world, and its log beside it.
func begin(what string) (dir string, log *os.File, err error) {
	if dir, err = folder(what); err != nil {
		return "", nil, err
	}
	log, err = os.OpenFile(dir+".log", os.O_CREATE|os.O_TRUNC|os.O_WRONLY|unix.O_NOFOLLOW, 0o600)
	return dir, log, err
}

// big shows a service with very much in it, until it is stopped.
func big(ctx context.Context, program string) (err error) {
	dir, log, err := begin("big")
	if err != nil {
		return err
	}
	defer log.Close()

	fmt.Printf(
		"The whole fleet: %d hosts, a million paths and %d findings on one of them. That takes a minute or two …\n",
		demo.BigHosts, demo.BigFindings)
	b, err := demo.BeginBig(ctx, dir, program, address(), log)
	if err != nil {
		return fmt.Errorf("%w (log: %s.log)", err, dir)
	}
	defer func() { err = errors.Join(err, b.End()) }()

	fmt.Printf(
		"\n  %s\n\nSign in as quartermaster; the password is %q. Nothing of it is a real host: no agent "+
			"calls.\nStop with Ctrl-C.\n",
		b.Address, demo.Password)
	select {
	case <-ctx.Done():
		return nil
	case <-b.Service.Done():
		return fmt.Errorf("the service ended by itself: see %s.log", dir)
	}
}

// welcome says how one looks at a world that runs.
func welcome(s *demo.Stage, dir string, took time.Duration) {
	names := []string{"admin"}
	for n := range demo.People {
		names = append(names, n)
	}

	slices.Sort(names)
	fmt.Printf("\nReady after %s.\n\n  %s\n\nSign in as one of these; the password of all is %q:\n",
		took.Round(100*time.Millisecond), s.Address, demo.Password)
	for _, n := range names {
		roles := "everything"
		if n != "admin" {
			roles = strings.Join(demo.People[n], ", ")
		}
		fmt.Printf("  %-14s %s\n", n, roles)
	}

	fmt.Printf(
		"\nFrom the command line:\n  bin/idletally login %s --authority %s --name quartermaster\n\nThe browser does "+
			"not know the service's authority and asks; its fingerprint was made at this start.\n\nThe hosts act by a "+
			"roster: plans are signed by keys of quartermaster, harbourmaster and bosun,\nwhich lie in %s/people. "+
			"From the command line: plan submit --key, plan approve --key.\nHosts: %s/hosts   "+
			"log: %s.log\nStop with Ctrl-C.\n",
		s.Address, s.Authority(), dir, dir, dir)
}

func run(ctx context.Context, what, program string) (err error) {
	dir, log, err := begin(what)
	if err != nil {
		return err
	}
	defer log.Close()

	self, err := os.Executable()
	if err != nil {
		return err
	}

	listen := address()
	if what == "tour" {
		listen = "127.0.0.1:0"
	}

	fmt.Println("Saltmarsh Ferries: building the hosts, starting database and service …")
	start := time.Now()
	s, err := demo.Begin(ctx, dir, program, self, listen, "", log)
	if s != nil {
		defer func() { err = errors.Join(err, s.End()) }()
	}

	if err == nil {
		err = s.Populate(ctx)
	}

	if err != nil {
		return fmt.Errorf("%w (log: %s.log)", err, dir)
	}
	if what == "tour" {
		if err := s.Muster(ctx); err != nil {
			return fmt.Errorf("%w (log: %s.log)", err, dir)
		}
		return tour(ctx, s)
	}
	if err := errors.Join(fill(ctx, s, what == "lockers"), s.Muster(ctx)); err != nil {
		return fmt.Errorf("%w (log: %s.log)", err, dir)
	}

	welcome(s, dir, time.Since(start))
	select {
	case <-ctx.Done():
		fmt.Println("\nClearing up …")
		return nil
	case <-s.Service.Done():
		return fmt.Errorf("the service ended by itself: see %s.log", dir)
	}
}
