// Package change carries out an approved plan on a Linux host: originals first, in a journal on
// stable storage; narrow before widen; through descriptors; resumable after a crash at any point.
package change

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"

	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
)

// A journal is records after a header line of magic. A record is: length of the payload (4
// bytes), type (1), payload, CRC-32C of type and payload (4). A torn record at the end is what a
// crash leaves, and is cut off.
const journalMagic = "idletally journal 1\n"

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

type recordType byte

const (
	recHead     recordType = 'H' // JSON: whose journal it is
	recOriginal recordType = 'O' // step, device, inode, state found; durable before the step's first change
	recNarrow   recordType = 'N' // step: narrowed, still to be widened
	recOutcome  recordType = 'R' // step, outcome, reason
	recEnd      recordType = 'E' // the run is over on this host
)

// Head says whose journal it is.
type Head struct {
	Run    string `json:"run"`
	Digest string `json:"digest"`
	Host   string `json:"host"`
	Steps  int    `json:"steps"`
}

// An Original is a path as a run found it.
type Original struct {
	Dev, Ino uint64
	Set      perm.Set
}

// progress of one step, as the journal knows it.
type progress struct {
	original *Original
	narrowed bool
	outcome  plan.Outcome
	reason   string
}

// A Journal is the durable memory of one run on one host.
type Journal struct {
	f     *os.File
	head  Head
	steps []progress
	ended bool
	buf   []byte
	pause func() // as a runner's

	fresh            bool  // holds originals that are not on stable storage yet
	written, durable int64 // bytes of this opening: handed to the system; and on stable storage
}

// checkMagic says what is wrong with how a journal begins.
func checkMagic(b []byte) error {
	if bytes.HasPrefix(b, []byte(journalMagic)) {
		return nil
	}
	if n, ok := bytes.CutPrefix(b, []byte("idletally journal ")); ok {
		if n, _, ok = bytes.Cut(n, []byte("\n")); ok && len(n) < 5 {
			return fmt.Errorf("it has format %q and this version of idletally reads 1: go on with the version that began it", n)
		}
	}
	return fmt.Errorf("%w: it does not begin as a journal", ErrDamaged)
}

// ErrDamaged says that a journal holds something that no crash explains.
var ErrDamaged = errors.New("journal is damaged")

// ReadJournal reads what a journal holds, and leaves the file alone: a run may be going on.
func ReadJournal(file string) (*Journal, Head, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, Head{}, fmt.Errorf("read journal: %w", err)
	}
	fail := func(err error) (*Journal, Head, error) { return nil, Head{}, fmt.Errorf("journal %s: %w", file, err) }
	if err := checkMagic(b); err != nil {
		return fail(err)
	}
	typ, payload, size := readRecord(b[len(journalMagic):])
	if size == 0 || typ != recHead {
		return fail(errors.New("nothing had begun when it was left"))
	}
	var h Head
	if err := json.Unmarshal(payload, &h); err != nil || h.Steps < 0 || h.Steps > maxSteps {
		return fail(errors.Join(ErrDamaged, err))
	}
	j := &Journal{head: h, steps: make([]progress, h.Steps)}
	if _, err := j.replay(b); err != nil {
		return fail(err)
	}
	return j, h, nil
}

// maxSteps bounds what a journal's head may say.
const maxSteps = 10_000_000

// OpenJournal opens or begins the journal of a run, reading what an earlier try left.
func OpenJournal(file string, head Head) (*Journal, error) {
	f, err := os.OpenFile(file, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open journal: %w", err)
	}
	j := &Journal{f: f, head: head, steps: make([]progress, head.Steps)}
	b, err := io.ReadAll(f)
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("read journal: %w", err)
	}
	whole, err := j.replay(b)
	if err == nil && whole == 0 {
		payload, _ := json.Marshal(head)
		j.buf = append(j.buf, journalMagic...)
		j.record(recHead, payload)
		if err = f.Truncate(0); err == nil {
			if err = j.sync(); err == nil {
				err = syncFolder(filepath.Dir(file))
			}
		}
	} else if err == nil {
		if err = f.Truncate(int64(whole)); err == nil {
			_, err = f.Seek(int64(whole), io.SeekStart)
		}
	}
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("journal %s: %w", file, err)
	}
	return j, nil
}

func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// replay reads whole records and tells how many bytes they take.
func (j *Journal) replay(b []byte) (int, error) {
	if len(b) < len(journalMagic) {
		return 0, nil
	}
	if err := checkMagic(b); err != nil {
		return 0, err
	}
	at := len(journalMagic)
	for first := true; ; first = false {
		typ, payload, n := readRecord(b[at:])
		if n == 0 {
			if first {
				return 0, nil // torn before the header was whole: nothing has happened yet
			}
			return at, nil
		}
		if first != (typ == recHead) {
			return 0, fmt.Errorf("%w: its header is not where it belongs", ErrDamaged)
		}
		if err := j.take(typ, payload); err != nil {
			return 0, err
		}
		at += n
	}
}

func readRecord(b []byte) (recordType, []byte, int) {
	if len(b) < 9 {
		return 0, nil, 0
	}
	n := int(binary.LittleEndian.Uint32(b))
	if n < 0 || n > len(b)-9 {
		return 0, nil, 0
	}
	if crc32.Checksum(b[4:5+n], castagnoli) != binary.LittleEndian.Uint32(b[5+n:]) {
		return 0, nil, 0
	}
	return recordType(b[4]), b[5 : 5+n], n + 9
}

func (j *Journal) take(typ recordType, p []byte) error {
	if typ == recHead {
		var h Head
		if err := json.Unmarshal(p, &h); err != nil {
			return fmt.Errorf("%w: %v", ErrDamaged, err)
		}
		if h != j.head {
			return fmt.Errorf("it belongs to run %s of plan %s, not to this one", h.Run, h.Digest)
		}
		return nil
	}
	if typ == recEnd {
		j.ended = true
		return nil
	}
	number := func() uint64 {
		v, n := binary.Uvarint(p)
		if n <= 0 {
			p = nil
			return ^uint64(0)
		}
		p = p[n:]
		return v
	}
	step := number()
	if step >= uint64(len(j.steps)) {
		return fmt.Errorf("%w: a record speaks of step %d of %d", ErrDamaged, step, len(j.steps))
	}
	s := &j.steps[step]
	switch typ {
	case recOriginal:
		o := &Original{Dev: number(), Ino: number()}
		var err error
		if o.Set, err = perm.ParseSet(string(p)); err != nil {
			return fmt.Errorf("%w: %v", ErrDamaged, err)
		}
		if s.original == nil { // the first is the true one
			s.original = o
		}
	case recNarrow:
		s.narrowed = true
	case recOutcome:
		s.outcome = plan.Outcome(number())
		s.reason = string(p)
	default:
		return fmt.Errorf("%w: unknown record %q", ErrDamaged, typ)
	}
	return nil
}

func (j *Journal) record(typ recordType, payload []byte) {
	j.buf = binary.LittleEndian.AppendUint32(j.buf, uint32(len(payload)))
	at := len(j.buf)
	j.buf = append(j.buf, byte(typ))
	j.buf = append(j.buf, payload...)
	j.buf = binary.LittleEndian.AppendUint32(j.buf, crc32.Checksum(j.buf[at:], castagnoli))
}

func (j *Journal) original(step int, o Original) {
	p := binary.AppendUvarint(nil, uint64(step))
	p = binary.AppendUvarint(p, o.Dev)
	p = binary.AppendUvarint(p, o.Ino)
	j.record(recOriginal, append(p, o.Set.Bytes()...))
	j.steps[step].original = &o
	j.fresh = true
}

func (j *Journal) narrowed(step int) {
	j.record(recNarrow, binary.AppendUvarint(nil, uint64(step)))
	j.steps[step].narrowed = true
}

func (j *Journal) outcome(step int, o plan.Outcome, reason string) {
	p := binary.AppendUvarint(nil, uint64(step))
	p = binary.AppendUvarint(p, uint64(o))
	j.record(recOutcome, append(p, reason...))
	j.steps[step].outcome, j.steps[step].reason = o, reason
}

// ErrJournal says that originals cannot be kept, so that nothing may be changed.
var ErrJournal = errors.New("the journal cannot be written, so nothing more is changed")

// flush hands records to the system; losing them in a crash only means looking again.
func (j *Journal) flush() error {
	if len(j.buf) == 0 {
		return nil
	}
	if j.pause != nil {
		j.pause()
	}
	n, err := j.f.Write(j.buf)
	j.written += int64(n)
	if err != nil {
		if full(err) {
			return fmt.Errorf("%w: no space left for %s: free some and resume the run: %w", ErrJournal, j.f.Name(), err)
		}
		return fmt.Errorf("%w: %w", ErrJournal, err)
	}
	j.buf = j.buf[:0]
	return nil
}

// sync makes everything recorded so far survive a power cut.
func (j *Journal) sync() error {
	if err := j.flush(); err != nil {
		return err
	}
	if j.pause != nil {
		j.pause()
	}
	if err := durable(j.f); err != nil {
		return fmt.Errorf("%w: make it durable: %w", ErrJournal, err)
	}
	j.durable, j.fresh = j.written, false
	return nil
}

// secure makes originals survive a power cut, and hands the rest to the system.
func (j *Journal) secure() error {
	if j.fresh {
		return j.sync()
	}
	return j.flush()
}

// Close closes the journal.
func (j *Journal) Close() error { return j.f.Close() }

// Results gives the outcome of every step so far.
func (j *Journal) Results() []plan.Result {
	out := make([]plan.Result, len(j.steps))
	for i, s := range j.steps {
		out[i] = plan.Result{Step: i, Outcome: s.outcome, Reason: s.reason}
	}
	return out
}

// Original gives what a step found before it changed anything.
func (j *Journal) Original(step int) (perm.Set, bool) {
	if o := j.steps[step].original; o != nil {
		return o.Set, true
	}
	return perm.Set{}, false
}

// Ended says whether the run was brought to its end.
func (j *Journal) Ended() bool { return j.ended }
