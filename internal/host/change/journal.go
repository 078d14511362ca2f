package change

import (
	"bytes"
	"crypto/rand"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"idletally/internal/atomicfile"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/untrusted"
	"idletally/internal/private"
)

// A journal is records after a header line of magic. A record is: length of the payload (4 bytes), type (1),
// payload, CRC-32C (4) of the journal's salt, type and payload; the head's is without the salt, which stands
// in it. The head comes twice. After the originals of a batch a record says which those were: what is to be
// there is known, whatever became of it.
//
// A crash leaves a torn record at the end, which is no fault: the originals of a batch are on stable storage before
// anything of it is changed. Whole records behind one that cannot be read are damage; they count, and what was lost
// is told. A journal is never shortened where it lies.
const (
	journalMagic = "idletally journal 2\n"
	oldMagic     = "idletally journal 1\n" // one head, no salt, no batches, originals without births and content
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

type recordType byte

const (
	recHead     recordType = 'H' // JSON: whose journal it is
	recOriginal recordType = 'O' // step, device, identity, state found; durable before the step's first change
	// The originals in the journal so far, and the steps of those since the last batch.
	recBatch   recordType = 'B'
	recNarrow  recordType = 'N' // step: narrowed, still to be widened
	recOutcome recordType = 'R' // step, outcome, reason
	recEnd     recordType = 'E' // the run is over on this host; originals in the journal
)

const recordTypes = "HOBNRE"

// Head says whose journal it is.
type Head struct {
	Run    string `json:"run"`
	Digest string `json:"digest"`
	Host   string `json:"host"`
	Steps  int    `json:"steps"`
}

// salted is a head as it is written: whoever chooses names that a journal contains cannot make a record of their own.
type salted struct {
	Head
	Salt []byte `json:"salt,omitempty"`
}

// An Original is a path as a run found it.
type Original struct {
	Dev  uint64
	File plan.Identity
	Set  perm.Set
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
	old   bool // of the first version
	salt  []byte
	steps []progress
	ended bool
	buf   []byte
	pause func() // as a runner's

	batch            []int // steps whose originals were recorded since the last batch
	count            int   // originals recorded
	fresh            bool  // holds originals that are not on stable storage yet
	written, durable int64 // bytes of this opening: handed to the system; and on stable storage

	damage Damage
}

// Damage is what of a journal cannot be read.
type Damage struct {
	Bytes   int   // of records in the middle
	Lost    []int // steps whose originals were recorded and cannot be read
	More    int   // originals that were lost besides, of which not even the step is known
	Unknown bool  // nothing that can be read says how many originals there were in the end
}

// Any reports whether there is any.
func (d Damage) Any() bool { return d.Bytes > 0 || len(d.Lost) > 0 || d.More > 0 }

func (d Damage) Error() string {
	text := fmt.Sprintf("%d bytes in the middle of it cannot be read", d.Bytes)
	switch n := len(d.Lost) + d.More; {
	case d.Unknown:
		text += fmt.Sprintf("; the originals of %d steps are lost, and perhaps more", n)
	case n == 0:
		text += "; no original is lost by that"
	case d.More > 0:
		text += fmt.Sprintf("; %d originals are lost, %d of them of steps that cannot be told", n, d.More)
	default:
		text += fmt.Sprintf("; the originals of %d steps are lost", n)
	}
	return text
}

// Damage returns what of the journal could not be read when it was opened.
func (j *Journal) Damage() Damage { return j.damage }

// ErrDamaged says that a journal holds something that no crash explains.
var ErrDamaged = errors.New("journal is damaged")

// begins reports whether bytes are the beginning of a journal, and of which version.
func begins(b []byte) (old bool, err error) {
	switch {
	case bytes.HasPrefix(b, []byte(journalMagic)):
		return false, nil
	case bytes.HasPrefix(b, []byte(oldMagic)):
		return true, nil
	}
	if n, ok := bytes.CutPrefix(b, []byte("idletally journal ")); ok {
		if n, _, ok = bytes.Cut(n, []byte("\n")); ok && len(n) < 5 {
			return false, fmt.Errorf(
				"it has format %q and this version of idletally reads 1 and 2: go on with the version that began it", n)
		}
	}
	return false, fmt.Errorf("%w: it does not begin as a journal", ErrDamaged)
}

// ReadJournal reads what a journal holds, and leaves the file alone: a run may be in progress.
func ReadJournal(file string) (*Journal, Head, error) {
	b, err := readBounded(file)
	if err != nil {
		return nil, Head{}, fmt.Errorf("read journal: %w", err)
	}
	j := &Journal{}
	if _, err := j.replay(b); err != nil {
		return nil, Head{}, fmt.Errorf("journal %s: %w", file, err)
	}
	if j.head == (Head{}) {
		return nil, Head{}, fmt.Errorf("journal %s: nothing had begun when it was left", file)
	}
	return j, j.head, nil
}

const (
	maxSteps   = 10_000_000 // bounds what a journal's head may say
	maxJournal = 8 << 30    // and how large a journal is read
)

func readBounded(file string) ([]byte, error) {
	st, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if st.Size() > maxJournal {
		return nil, fmt.Errorf("%s has %d bytes, at most %d are read", file, st.Size(), int64(maxJournal))
	}
	return os.ReadFile(file)
}

// OpenJournal opens or begins the journal of a run, reading what an earlier attempt left. A damaged one is
// ErrDamaged: what can still be read of it is for ReadJournal.
func OpenJournal(file string, head Head) (*Journal, error) {
	j, err := openJournal(file, head)
	if err != nil {
		return nil, fmt.Errorf("journal %s: %w", file, err)
	}
	return j, nil
}

func openJournal(file string, head Head) (j *Journal, err error) {
	b, err := readBounded(file)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}

	j = &Journal{}
	whole, err := j.replay(b)
	switch {
	case err != nil:
		return nil, err
	case j.head == (Head{}): // torn before the head was whole: nothing has happened yet
		return beginJournal(file, head)
	case j.head != head:
		return nil, fmt.Errorf("it belongs to run %s of plan %s, not to this one", j.head.Run, j.head.Digest)
	case j.damage.Any():
		return nil, fmt.Errorf("%w: %w: put back what can be put back, with idletally agent put-back", ErrDamaged,
			j.damage)
	}

	if whole < len(b) {
		if err := setAside(file, b[:whole]); err != nil {
			return nil, err
		}
	}

	if j.f, err = private.Open(file, os.O_WRONLY|os.O_APPEND); err != nil {
		return nil, err
	}

	return j, nil
}

// beginJournal writes a new journal's head.
func beginJournal(file string, head Head) (*Journal, error) {
	j := &Journal{head: head, steps: make([]progress, head.Steps), salt: make([]byte, 16)}
	rand.Read(j.salt)
	payload, err := json.Marshal(salted{head, j.salt})
	if err != nil {
		return nil, err
	}

	j.buf = append(j.buf, journalMagic...)
	for range 2 {
		j.buf = appendRecord(j.buf, nil, recHead, payload)
	}

	if j.f, err = private.Open(file, os.O_WRONLY|os.O_CREATE|os.O_TRUNC); err != nil {
		// There is nothing in it that ever counted.
		return nil, err
	}

	if err = j.sync(); err == nil {
		err = atomicfile.SyncFolder(filepath.Dir(file))
	}

	if err == nil {
		err = atomicfile.SyncFolder(filepath.Dir(filepath.Dir(file)))
	}

	if err != nil {
		j.f.Close()
		return nil, err
	}

	return j, nil
}

// setAside replaces a journal by its whole records, and keeps the original beside it.
func setAside(file string, whole []byte) error {
	for n := 1; ; n++ {
		err := os.Link(file, fmt.Sprintf("%s.torn-%d", file, n))
		if err == nil {
			break
		}
		if !errors.Is(err, os.ErrExist) || n == 100 {
			return fmt.Errorf("keep what is torn: %w", err)
		}
	}
	return atomicfile.Write(file, whole)
}

// replay reads all records that are there, and returns the length of those after which more may be appended. A file
// that ends before its head has none.
func (j *Journal) replay(b []byte) (whole int, err error) {
	if len(b) < len(journalMagic) {
		return 0, nil
	}
	if j.old, err = begins(b); err != nil {
		return 0, err
	}
	at, err := j.readHead(b)
	if err != nil || j.head == (Head{}) {
		return 0, err
	}

	expected := map[int]bool{} // steps that batches name
	total := 0                 // originals that there are, as was said last
	for at < len(b) {
		typ, payload, n := readRecord(b[at:], j.salt)
		if n == 0 {
			next := j.resume(b, at+1)
			if next < 0 {
				break // nothing follows: it is as a crash leaves it
			}

			j.damage.Bytes += next - at
			j.damage.Unknown = true
			at = next
			continue
		}

		if typ == recBatch || typ == recEnd && len(payload) > 0 {
			var steps []int
			if total, steps, err = j.takeBatch(payload); err != nil {
				return 0, err
			}

			for _, step := range steps {
				expected[step] = true
			}

			j.damage.Unknown = false
		}

		if typ != recBatch {
			if err := j.take(typ, payload); err != nil {
				return 0, err
			}
		}

		at += n
	}

	for step := range expected {
		if j.steps[step].original == nil {
			j.damage.Lost = append(j.damage.Lost, step)
		}
	}

	slices.Sort(j.damage.Lost)
	j.damage.More = max(0, total-j.count-len(j.damage.Lost))
	j.count = max(total, j.count)
	return at, nil
}

// readHead reads the head, from the first of its two places that can be read, and returns where the records begin. If
// the file ends before its head is whole, the journal stays without one.
func (j *Journal) readHead(b []byte) (int, error) {
	begin := len(journalMagic)
	at := find(b, begin, nil, func(t recordType) bool { return t == recHead })
	switch {
	case at < 0 && len(b) > headRoom: // more than a head that is torn
		return 0, fmt.Errorf("%w: its head cannot be read", ErrDamaged)
	case at < 0:
		return 0, nil
	}

	j.damage.Bytes = at - begin
	_, payload, n := readRecord(b[at:], nil)
	var h salted
	if err := untrusted.JSON(payload, 100, &h); err != nil || h.Steps < 0 || h.Steps > maxSteps {
		return 0, errors.Join(fmt.Errorf("%w: its head", ErrDamaged), err)
	}

	j.head = h.Head
	j.salt = h.Salt
	j.steps = make([]progress, h.Steps)
	first := at == begin
	at += n
	if typ, _, n := readRecord(b[at:], nil); first && n > 0 && typ == recHead {
		at += n
	}

	return at, nil
}

// headRoom is more than two heads take.
const headRoom = 4096

// resume finds the next record from a place on; -1 if there is none.
func (j *Journal) resume(b []byte, from int) int {
	return find(b, from, j.salt, func(t recordType) bool { return strings.IndexByte(recordTypes, byte(t)) >= 0 })
}

func find(b []byte, from int, salt []byte, is func(recordType) bool) int {
	for at := from; at+9 <= len(b); at++ {
		if !is(recordType(b[at+4])) {
			continue
		}
		if _, _, n := readRecord(b[at:], salt); n > 0 {
			return at
		}
	}
	return -1
}

// readRecord reads a record from the front of some bytes; it has 0 bytes if it cannot be read.
func readRecord(b, salt []byte) (recordType, []byte, int) {
	if len(b) < 9 {
		return 0, nil, 0
	}
	n := int(binary.LittleEndian.Uint32(b))
	if n < 0 || n > len(b)-9 {
		return 0, nil, 0
	}
	if checksum(salt, b[4:5+n]) != binary.LittleEndian.Uint32(b[5+n:]) {
		return 0, nil, 0
	}
	return recordType(b[4]), b[5 : 5+n], n + 9
}

func checksum(salt, b []byte) uint32 {
	return crc32.Update(crc32.Checksum(salt, castagnoli), castagnoli, b)
}

// fields reads numbers and identities from a payload, and remembers if one was missing.
type fields struct {
	b   []byte
	bad bool
}

func (f *fields) number() uint64 {
	v, n := binary.Uvarint(f.b)
	if n <= 0 {
		f.b, f.bad = nil, true
		return 0
	}
	f.b = f.b[n:]
	return v
}

func (f *fields) identity() (id plan.Identity) {
	id, rest, err := plan.CutIdentity(f.b)
	f.b, f.bad = rest, f.bad || err != nil
	return id
}

func (j *Journal) step(f *fields) (int, error) {
	step := f.number()
	if f.bad || step >= uint64(len(j.steps)) {
		return 0, fmt.Errorf("%w: a record speaks of step %d of %d", ErrDamaged, step, len(j.steps))
	}
	return int(step), nil
}

func (j *Journal) takeBatch(p []byte) (total int, steps []int, err error) {
	f := &fields{b: p}
	all := f.number()
	for len(f.b) > 0 {
		step, err := j.step(f)
		if err != nil {
			return 0, nil, err
		}
		steps = append(steps, step)
	}
	if f.bad || all > uint64(len(j.steps)) {
		return 0, nil, fmt.Errorf("%w: a batch of %d originals", ErrDamaged, all)
	}
	return int(all), steps, nil
}

func (j *Journal) take(typ recordType, p []byte) error {
	if typ == recEnd {
		j.ended = true
		return nil
	}

	if typ == recHead {
		return nil // its second place, found behind damage
	}

	f := &fields{b: p}
	step, err := j.step(f)
	if err != nil {
		return err
	}

	s := &j.steps[step]
	switch typ {
	case recOriginal:
		o := &Original{Dev: f.number()}
		if j.old {
			o.File.Inode = f.number()
		} else {
			o.File = f.identity()
		}

		var err error
		if o.Set, err = perm.ParseSet(string(f.b)); err != nil || f.bad {
			return fmt.Errorf("%w: an original of step %d: %v", ErrDamaged, step, err)
		}

		if s.original == nil { // the first is the true one
			s.original = o
			j.count++
		}

	case recNarrow:
		s.narrowed = true
	case recOutcome:
		s.outcome = plan.Outcome(f.number())
		s.reason = string(f.b)
	default:
		return fmt.Errorf("%w: unknown record %q", ErrDamaged, typ)
	}

	return nil
}

func (j *Journal) record(typ recordType, payload []byte) {
	j.buf = appendRecord(j.buf, j.salt, typ, payload)
}

func appendRecord(b, salt []byte, typ recordType, payload []byte) []byte {
	b = binary.LittleEndian.AppendUint32(b, uint32(len(payload)))
	at := len(b)
	b = append(b, byte(typ))
	b = append(b, payload...)
	return binary.LittleEndian.AppendUint32(b, checksum(salt, b[at:]))
}

func (j *Journal) original(step int, o Original) {
	p := binary.AppendUvarint(nil, uint64(step))
	p = binary.AppendUvarint(p, o.Dev)
	if j.old {
		p = binary.AppendUvarint(p, o.File.Inode)
	} else {
		p = o.File.Append(p)
	}
	j.record(recOriginal, append(p, o.Set.Bytes()...))
	j.steps[step].original = &o
	j.batch = append(j.batch, step)
	j.count++
	j.fresh = true
}

// endBatch records which originals came since the last batch.
func (j *Journal) endBatch() {
	if len(j.batch) == 0 || j.old {
		return
	}
	p := binary.AppendUvarint(nil, uint64(j.count))
	for _, step := range j.batch {
		p = binary.AppendUvarint(p, uint64(step))
	}
	j.record(recBatch, p)
	j.batch = j.batch[:0]
}

// end records that the run is over, and how many originals there are.
func (j *Journal) end() error {
	var total []byte
	if !j.old {
		total = binary.AppendUvarint(nil, uint64(j.count))
	}
	j.record(recEnd, total)
	j.ended = true
	return j.sync()
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

// ErrJournal says that originals cannot be stored, so that nothing may be changed.
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
		j.endBatch()
		return j.sync()
	}
	return j.flush()
}

// Close closes the journal.
func (j *Journal) Close() error { return j.f.Close() }

// Results returns the outcome of every step so far.
func (j *Journal) Results() []plan.Result {
	out := make([]plan.Result, len(j.steps))
	for i, s := range j.steps {
		out[i] = plan.Result{Step: i, Outcome: s.outcome, Reason: s.reason}
	}
	return out
}

// Original returns what a step found before it changed anything.
func (j *Journal) Original(step int) (Original, bool) {
	if o := j.steps[step].original; o != nil {
		return *o, true
	}
	return Original{}, false
}

// Ended reports whether the run was brought to its end.
func (j *Journal) Ended() bool { return j.ended }
