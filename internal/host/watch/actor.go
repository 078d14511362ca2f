//go:build linux

package watch

import (
	"bytes"
	"os"
	"strconv"

	"golang.org/x/sys/unix"
)

// actors remembers the processes of the events of one read. It holds a descriptor of each, so that a reused process
// number is noticed.
type actors struct {
	known map[int]known
}

type known struct {
	Actor
	pidfd int
}

const maxActors = 64

// of returns who a process is; pidfd is -1 if it has ended already.
func (a *actors) of(pid, pidfd int) Actor {
	if k, ok := a.known[pid]; ok && alive(k.pidfd) {
		return k.Actor
	}
	out := Actor{PID: pid, Login: NoLogin}
	if pid <= 0 || pidfd < 0 {
		return out
	}

	full := out
	if !full.read() || !alive(pidfd) {
		// What was read may be of another process that has the number now.
		return out
	}

	own, err := unix.FcntlInt(uintptr(pidfd), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return full
	}

	if a.known == nil || len(a.known) >= maxActors {
		a.close()
		a.known = map[int]known{}
	}

	a.known[pid] = known{full, own}
	return full
}

func (a *actors) close() {
	for _, k := range a.known {
		unix.Close(k.pidfd)
	}
}

// alive reports whether a process still has its number: it is there, or ended but not yet waited for.
func alive(pidfd int) bool { return unix.PidfdSendSignal(pidfd, 0, nil, 0) == nil }

// read asks the kernel who a process is.
func (a *Actor) read() bool {
	at := "/proc/" + strconv.Itoa(a.PID)
	status, err := small(at + "/status")
	if err != nil {
		return false
	}

	uid := false
	for line := range bytes.Lines(status) {
		name, value, _ := bytes.Cut(bytes.TrimSuffix(line, []byte("\n")), []byte(":\t"))
		switch string(name) {
		case "Name":
			a.Command = string(value)
		case "Uid":
			real, _, _ := bytes.Cut(value, []byte("\t"))
			n, err := strconv.ParseUint(string(real), 10, 32)
			a.UID, uid = uint32(n), err == nil
		}
	}

	if login, err := small(at + "/loginuid"); err == nil {
		if n, err := strconv.ParseUint(string(bytes.TrimSpace(login)), 10, 32); err == nil {
			a.Login = uint32(n)
		}
	}

	a.Program, _ = os.Readlink(at + "/exe") // not there for one that has ended
	return uid
}

// small reads a file of the kernel's in one call.
func small(path string) ([]byte, error) {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	b := make([]byte, 4096)
	n, err := unix.Read(fd, b)
	return b[:max(n, 0)], err
}
