//go:build linux

package watch

import (
	"bytes"
	"encoding/binary"
	"errors"

	"golang.org/x/sys/unix"
)

// event is one event as fanotify(7) gives it.
type event struct {
	mask   uint64
	pid    int
	pidfd  int // -1 where there is none
	system [8]byte
	folder string // handle of the folder; empty where the kernel does not know by which name it was
	name   string // in it; "." for the folder itself
	inode  string // handle of what it happened to
}

var errEvent = errors.New("an event of the kernel is not as it should be")

const metadataSize = 24

// parse reads the first event.
func parse(b []byte) (e event, size int, err error) {
	if len(b) < metadataSize {
		return e, 0, errEvent
	}

	size = int(binary.NativeEndian.Uint32(b))
	head := int(binary.NativeEndian.Uint16(b[6:]))
	if size < metadataSize || size > len(b) || head < metadataSize || head > size ||
		b[4] != unix.FANOTIFY_METADATA_VERSION {
		return e, 0, errEvent
	}

	e.mask, e.pid, e.pidfd = binary.NativeEndian.Uint64(b[8:]), int(int32(binary.NativeEndian.Uint32(b[20:]))), -1
	for info := b[head:size]; len(info) > 0; {
		if len(info) < 4 {
			return e, 0, errEvent
		}
		kind, n := info[0], int(binary.NativeEndian.Uint16(info[2:]))
		if n < 4 || n > len(info) {
			return e, 0, errEvent
		}
		if err := e.record(kind, info[4:n]); err != nil {
			return e, 0, err
		}

		info = info[n:]
	}

	return e, size, nil
}

func (e *event) record(kind byte, b []byte) error {
	switch kind {
	case unix.FAN_EVENT_INFO_TYPE_PIDFD:
		if len(b) < 4 {
			return errEvent
		}
		e.pidfd = max(-1, int(int32(binary.NativeEndian.Uint32(b))))
	case unix.FAN_EVENT_INFO_TYPE_FID, unix.FAN_EVENT_INFO_TYPE_DFID, unix.FAN_EVENT_INFO_TYPE_DFID_NAME:
		if len(b) < 16 {
			return errEvent
		}

		copy(e.system[:], b)
		n := int(binary.NativeEndian.Uint32(b[8:]))
		if n > len(b)-16 {
			return errEvent
		}

		h := key(int32(binary.NativeEndian.Uint32(b[12:])), b[16:16+n])
		if kind == unix.FAN_EVENT_INFO_TYPE_FID {
			e.inode = h
			return nil
		}

		e.folder = h
		if rest := b[16+n:]; kind == unix.FAN_EVENT_INFO_TYPE_DFID_NAME {
			end := bytes.IndexByte(rest, 0)
			if end < 0 {
				return errEvent
			}
			e.name = string(rest[:end])
		}
	}

	return nil
}
