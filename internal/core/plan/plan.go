// Package plan holds plans: ordered steps, each a path with the state before and after, their
// canonical bytes, the digest that a reviewer approves and the signature that an agent checks.
package plan

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
	"idletally/internal/core/untrusted"
)

// A Kind says what a plan is for.
type Kind string

// The kinds.
const (
	Remediation Kind = "remediation"
	Restore     Kind = "restore"
	Adjustment  Kind = "adjustment"
)

// A Step changes one file, at one path, from one state to another.
type Step struct {
	Path   string
	Kind   perm.Kind
	Before perm.Set
	After  perm.Set
	File   Identity // which lay there when the step was drafted; zero where the host was not asked
}

// An Identity distinguishes a file from every other that lies, or comes to lie, at its path: no renaming, replacing
// or linking makes one file pass for another.
type Identity struct {
	Inode   uint64    // 0 where nothing is known
	Born    int64     // when the inode was made, in nanoseconds of Unix time; 0 where the file system does not tell
	Content tree.Hash // SHA-256 of what is in it; zero where nobody has read it
}

// Is reports whether a file that was found is the one that is meant. Of many files no identity is known: then any is
// meant.
func (id Identity) Is(found Identity) bool {
	switch {
	case id.Inode == 0:
		return true
	case id.Inode != found.Inode:
		return false
	}
	return id.Born == 0 || found.Born == 0 || id.Born == found.Born
}

// StepsPerChunk is how many steps a chunk holds at most.
const StepsPerChunk = 2000

// Bounds in bytes: of one step's path and states, and of an encoded chunk, which any steps that fit in do not reach.
const (
	MaxStep  = 16 << 10
	MaxChunk = 32 << 20
)

// Fits reports whether a step is short enough for a plan.
func (s Step) Fits() bool { return len(s.Path)+len(s.Before.Bytes())+len(s.After.Bytes()) <= MaxStep }

// Versions of a chunk: in the first no step says which file it means.
const (
	plainChunk = 1
	knownChunk = 2
)

// What follows a path's states in a chunk of the second version, before an identity.
const (
	noIdentity  = 0
	anIdentity  = 1 // inode and birth
	withContent = 2 // and the content's hash
)

// EncodeChunk returns the canonical bytes of some steps.
func EncodeChunk(steps []Step) []byte {
	version := byte(plainChunk)
	if slices.ContainsFunc(steps, func(s Step) bool { return s.File != Identity{} }) {
		version = knownChunk
	}

	b := []byte{'P', version}
	b = binary.AppendUvarint(b, uint64(len(steps)))
	text := func(s string) {
		b = binary.AppendUvarint(b, uint64(len(s)))
		b = append(b, s...)
	}

	for _, s := range steps {
		b = append(b, byte(s.Kind))
		text(s.Path)
		text(s.Before.Bytes())
		text(s.After.Bytes())
		if version == knownChunk {
			b = s.File.Append(b)
		}
	}

	return b
}

// Append appends the canonical bytes of an identity.
func (id Identity) Append(b []byte) []byte {
	switch {
	case id.Inode == 0:
		return append(b, noIdentity)
	case id.Content.IsZero():
		b = append(b, anIdentity)
	default:
		b = append(b, withContent)
	}
	b = binary.AppendUvarint(b, id.Inode)
	b = binary.AppendUvarint(b, uint64(id.Born))
	if !id.Content.IsZero() {
		b = append(b, id.Content[:]...)
	}
	return b
}

// CutIdentity reads an identity from the front of some bytes, and gives what follows.
func CutIdentity(b []byte) (id Identity, rest []byte, err error) {
	err = errors.New("these bytes begin with no identity of a file")
	if len(b) == 0 || b[0] > withContent {
		return id, nil, err
	}

	kind := b[0]
	b = b[1:]
	if kind == noIdentity {
		return id, b, nil
	}

	number := func() uint64 {
		v, n := binary.Uvarint(b)
		if n <= 0 || n > 1 && b[n-1] == 0 {
			b = nil
			return 0
		}

		b = b[n:]
		return v
	}

	id.Inode = number()
	id.Born = int64(number())
	if id.Inode == 0 || b == nil {
		return id, nil, err
	}

	if kind == withContent {
		if len(b) < len(id.Content) {
			return id, nil, err
		}
		b = b[copy(id.Content[:], b):]
		if id.Content.IsZero() {
			return id, nil, err
		}
	}

	return id, b, nil
}

// DecodeChunk reads and checks steps: paths must be in their shortest form and in walk order.
func DecodeChunk(b []byte) ([]Step, error) {
	if len(b) > MaxChunk {
		return nil, fmt.Errorf("plan chunk has %d bytes, at most %d are allowed", len(b), MaxChunk)
	}
	if len(b) < 2 || b[0] != 'P' || b[1] != plainChunk && b[1] != knownChunk {
		return nil, fmt.Errorf("these bytes are no plan chunk of format version %d or %d", plainChunk, knownChunk)
	}

	version := b[1]
	b = b[2:]
	var err error
	number := func() int {
		v, n := binary.Uvarint(b)
		if err != nil || n <= 0 || v > uint64(len(b)) || n > 1 && b[n-1] == 0 {
			err = errors.New("plan chunk ends too early")
			return 0
		}

		b = b[n:]
		return int(v)
	}

	text := func() string {
		n := number()
		if err != nil || n > len(b) {
			err = errors.New("plan chunk ends too early")
			return ""
		}

		s := string(b[:n])
		b = b[n:]
		return s
	}

	n := number()
	if n > StepsPerChunk {
		return nil, fmt.Errorf("plan chunk has %d steps, at most %d are allowed", n, StepsPerChunk)
	}

	var steps []Step
	known := false
	for range n {
		if len(b) == 0 {
			return nil, errors.New("plan chunk ends too early")
		}

		s := Step{Kind: perm.Kind(b[0])}
		b = b[1:]
		s.Path = text()
		before, after := text(), text()
		if err == nil && version == knownChunk {
			s.File, b, err = CutIdentity(b)
			known = known || s.File != Identity{}
		}

		if err != nil {
			return nil, err
		}
		if err := pathname.Check(s.Path); err != nil {
			return nil, err
		}
		if s.Before, err = perm.ParseSet(before); err != nil {
			return nil, err
		}
		if s.After, err = perm.ParseSet(after); err != nil {
			return nil, err
		}
		if !s.Kind.Valid() || s.Before.Scheme() != s.After.Scheme() {
			return nil, fmt.Errorf("step %q has the unknown kind %d or mixes schemes", pathname.Escape(s.Path), s.Kind)
		}
		if k := len(steps); k > 0 && pathname.Compare(steps[k-1].Path, s.Path) >= 0 {
			return nil, fmt.Errorf("step %q stands twice or out of order", pathname.Escape(s.Path))
		}

		steps = append(steps, s)
	}

	if err != nil || len(b) > 0 {
		return nil, errors.New("plan chunk holds bytes that belong to no step")
	}
	if version == knownChunk && !known {
		return nil, errors.New("plan chunk has a version that it does not need")
	}

	return steps, nil
}

// A HostPart is what a plan does on one host.
type HostPart struct {
	Host   string      `json:"host"`
	Roots  []string    `json:"roots"` // escaped; every step lies under one of them
	Steps  int         `json:"steps"`
	Chunks []tree.Hash `json:"chunks"` // of the steps, in walk order
}

// A Manifest is a whole plan: its bytes name every chunk by hash, so its digest stands for all of it.
type Manifest struct {
	Format      int    `json:"format"`
	ID          string `json:"id"`
	Kind        Kind   `json:"kind"`
	Application string `json:"application"`
	Title       string `json:"title"`
	First       int    `json:"first,omitempty"` // so many hosts run before the rest; 0: all at once
	// and where more than so many percent of their steps are not done, the rest do not run
	StopAt int        `json:"stop_at,omitempty"`
	Hosts  []HostPart `json:"hosts"`
}

// Wave says in which wave a host runs, by its place among the plan's.
func (m Manifest) Wave(host int) int {
	if m.First > 0 && host >= m.First {
		return 1
	}
	return 0
}

// Bytes returns the canonical bytes: JSON with the fields in the order of the type.
func (m Manifest) Bytes() []byte {
	b, err := json.Marshal(m)
	if err != nil { // the type holds nothing that cannot be written
		panic(err)
	}
	return b
}

// Digest is what people compare and approvals name.
func Digest(manifest []byte) tree.Hash { return sha256.Sum256(manifest) }

// ParseManifest reads canonical bytes.
func ParseManifest(b []byte) (Manifest, error) {
	var m Manifest
	if err := untrusted.JSON(b, untrusted.MaxElements, &m); err != nil {
		return m, fmt.Errorf("plan manifest: %w", err)
	}
	if m.Format != 1 {
		return m, fmt.Errorf("plan manifest has format %d, this program reads 1", m.Format)
	}
	if m.First < 0 || m.StopAt < 0 || m.StopAt > 100 {
		return m, errors.New("plan manifest has impossible waves")
	}
	if string(m.Bytes()) != string(b) {
		return m, errors.New("plan manifest is not in canonical form")
	}
	return m, nil
}

// For returns the part of one host.
func (m Manifest) For(host string) (HostPart, bool) {
	for _, h := range m.Hosts {
		if h.Host == host {
			return h, true
		}
	}
	return HostPart{}, false
}

// An Order tells an agent to run an approved plan. It is signed as bytes.
type Order struct {
	Enrolment  string    `json:"enrolment,omitempty"` // of the host, which it is for
	Run        string    `json:"run"`
	Digest     tree.Hash `json:"digest"`
	Host       string    `json:"host"`
	Author     string    `json:"author"`
	ApprovedBy []string  `json:"approved_by"` // never the author, unless they act alone
	// One person had it done: a host does so only by a roster that lets them.
	Alone   bool      `json:"alone,omitempty"`
	Expires time.Time `json:"expires"`
}

// reviewed reports whether an order is by as many people as it says.
func (o Order) reviewed() bool {
	if o.Alone {
		return len(o.ApprovedBy) == 1 && o.ApprovedBy[0] != ""
	}
	return len(o.ApprovedBy) > 0 && !slices.Contains(o.ApprovedBy, "") && !slices.Contains(o.ApprovedBy, o.Author)
}

const orderContext = "idletally order 2\x00"

// Sign returns an order's bytes and their signature.
func (o Order) Sign(key ed25519.PrivateKey) (order, signature []byte) {
	order, err := json.Marshal(o)
	if err != nil {
		panic(err)
	}
	return order, ed25519.Sign(key, append([]byte(orderContext), order...))
}

// Verify checks everything that lets an agent act on an order: the signature by the key it
// pinned, the host it is meant for, the time, the two people, and that the manifest is the one
// that was approved. Of an order of one person alone the agent asks its roster besides.
func Verify(
	key ed25519.PublicKey, order, signature, manifest []byte, host string, now time.Time,
) (Order, HostPart, error) {
	var o Order
	if len(key) != ed25519.PublicKeySize || !ed25519.Verify(key, append([]byte(orderContext), order...), signature) {
		return o, HostPart{}, errors.New(
			"order refused: its signature is not by the key this agent pinned when it enrolled")
	}
	if err := json.Unmarshal(order, &o); err != nil {
		return o, HostPart{}, fmt.Errorf("order refused: %w", err)
	}

	switch {
	case o.Host != host:
		return o, HostPart{}, fmt.Errorf("order refused: it is for host %q, this is %q", o.Host, host)
	case !now.Before(o.Expires):
		return o, HostPart{}, fmt.Errorf("order refused: it expired at %s", o.Expires.Format(time.RFC3339))
	case !o.reviewed():
		return o, HostPart{}, fmt.Errorf("order refused: author %q and reviewers %q must be different people", o.Author,
			o.ApprovedBy)
	case Digest(manifest) != o.Digest:
		return o, HostPart{}, errors.New("order refused: the plan is not the one that was approved")
	}

	m, err := ParseManifest(manifest)
	if err != nil {
		return o, HostPart{}, err
	}
	part, ok := m.For(host)
	if !ok {
		return o, HostPart{}, fmt.Errorf("order refused: the plan has no steps for host %q", host)
	}

	return o, part, nil
}

// Within says of paths whether they lie under some roots, which are escaped.
func Within(roots []string) func(path string) bool {
	var raw []string
	for _, r := range roots {
		if r, err := pathname.Unescape(r); err == nil { // nothing lies under what is none
			raw = append(raw, r)
		}
	}
	return func(path string) bool {
		return slices.ContainsFunc(raw, func(root string) bool { return pathname.Under(path, root) })
	}
}

// CheckChunk decodes a chunk that must have a certain hash and stay under the roots.
func CheckChunk(b []byte, want tree.Hash, roots []string) ([]Step, error) {
	if tree.Sum(b) != want {
		return nil, errors.New("plan chunk is not the one that was approved: its hash differs")
	}
	steps, err := DecodeChunk(b)
	if err != nil {
		return nil, err
	}
	within := Within(roots)
	for _, s := range steps {
		if !within(s.Path) {
			return nil, fmt.Errorf("step %q lies under none of the plan's roots", pathname.Escape(s.Path))
		}
	}
	return steps, nil
}

// An Outcome says how a step ended.
type Outcome uint8

// The outcomes.
const (
	Pending Outcome = iota
	Done            // changed, and seen to be as planned afterwards
	Skipped         // no longer as reviewed, so left as it is
	Refused         // the host or a safety rule would not let us
	Already         // it was as planned before we came
)

var outcomeWords = [...]string{"pending", "done", "skipped", "refused", "already"}

func (o Outcome) String() string {
	if int(o) < len(outcomeWords) {
		return outcomeWords[o]
	}
	return "unknown"
}

// A Result is one step's outcome, with the reason where it is not done.
type Result struct {
	Step    int     `json:"step"`
	Outcome Outcome `json:"outcome"`
	Reason  string  `json:"reason,omitempty"`
}
