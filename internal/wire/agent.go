package wire

import (
	"fmt"
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/statement"
	"idletally/internal/core/subtree"
	"idletally/internal/core/succession"
	"idletally/internal/core/tree"
)

// Enrol exchanges a one-time code for a certificate.
type Enrol struct {
	Code    string `json:"code"`
	Request []byte `json:"request"` // PKCS #10, DER
	Version string `json:"version"`
}

// Enrolled is what an agent keeps.
type Enrolled struct {
	Host        string `json:"host"`
	Enrolment   string `json:"enrolment,omitempty"` // which orders are for
	Certificate []byte `json:"certificate"`         // PEM
	Authority   []byte `json:"authority"`           // PEM
	OrderKey    []byte `json:"order_key"`           // ed25519, pinned from now on

	Succession []succession.Handover `json:"succession,omitempty"` // leads to it from those before
}

// Admit enrols a host by a request that somebody carried.
type Admit struct {
	Request []byte `json:"request" maxLength:"65536" doc:"PKCS #10, DER"`
	Version string `json:"version,omitempty" maxLength:"64"`
}

// Renewal asks for another certificate, with the one that counts.
type Renewal struct {
	Request []byte `json:"request"` // PKCS #10, DER
}

// Renewed is the answer.
type Renewed struct {
	Certificate []byte `json:"certificate"` // PEM
}

// KnownKeys is the keys by which an agent knows its service.
type KnownKeys struct {
	Authorities []string `json:"authorities"` // SHA-256 of each certificate
	OrderKey    []byte   `json:"order_key"`
}

// Keys is those by which it is to know it from now on.
type Keys struct {
	Authorities []byte                `json:"authorities"` // PEM, the newest first
	Succession  []succession.Handover `json:"succession,omitempty"`
}

// Work kinds.
const (
	WorkSnapshot = "snapshot"
	WorkRun      = "run"
)

// Work is something an agent is to do.
type Work struct {
	ID    string   `json:"id"`
	Kind  string   `json:"kind"`
	Roots []string `json:"roots,omitempty"` // snapshot: escaped
	Whole bool     `json:"whole,omitempty"` // snapshot: read everything, whatever is known from before
	Cross bool     `json:"cross,omitempty"` // snapshot: go into other file systems below the roots
	// A run's order.
	Order     []byte `json:"order,omitempty"`
	Signature []byte `json:"signature,omitempty"`
	Manifest  []byte `json:"manifest,omitempty"`
	// It leads to the key that signed the order.
	Succession []succession.Handover `json:"succession,omitempty"`
	// Editions of the roster behind the one that the host knows, and what people of it have signed.
	Roster []roster.Step   `json:"roster,omitempty"`
	Signed []roster.Signed `json:"signed,omitempty"`
}

// WorkProgress keeps the lease and tells how far the agent is.
type WorkProgress struct {
	Done  int `json:"done"`
	Total int `json:"total"`
}

// WorkAnswer says whether to go on.
type WorkAnswer struct {
	Halt bool `json:"halt"`
}

// SnapshotDone ends a snapshot.
type SnapshotDone struct {
	Forest    tree.Hash       `json:"forest"`
	Directory *perm.Directory `json:"directory"`
	Paths     int64           `json:"paths"`
	Gaps      int64           `json:"gaps"`
	Denied    []Denied        `json:"denied,omitempty"`
	Failed    string          `json:"failed,omitempty"`
	Ways      []access.Way    `json:"ways"` // from / to each root
}

// Kinds of questions.
const (
	AskPath   = "path"
	AskFolder = "folder"
	AskBelow  = "below"
	AskProbe  = "probe"
	AskFiles  = "files" // which files lie at the paths of some steps
)

// MaxFolder bounds how many paths one answer lists.
const MaxFolder = 5000

// Question is something that an agent answers at once, beside its other work. It changes nothing.
type Question struct {
	ID    string        `json:"id"`
	Kind  string        `json:"kind"`
	Path  pathname.Path `json:"path"`
	After pathname.Path `json:"after,omitempty"`
	Limit int           `json:"limit,omitempty"`
	// asked for by name, since not every directory can be listed
	Accounts   []string         `json:"accounts,omitempty"`
	Account    string           `json:"account,omitempty"`    // below, probe: who
	Joining    []string         `json:"joining,omitempty"`    // below: groups that the account would join
	Privileges []string         `json:"privileges,omitempty"` // below: capabilities that its process would have
	Operation  access.Operation `json:"operation,omitzero"`
	Behind     bool             `json:"behind,omitempty"` // below: as if every folder could be traversed
	Known      string           `json:"known,omitempty"`  // hash of the accounts that the service has already
	Steps      []byte           `json:"steps,omitempty"`  // files: a chunk of a plan
	Roots      []pathname.Path  `json:"roots,omitempty"`  // files: the plan's; a file system of its own may be mounted at one
}

// Reply answers a question.
type Reply struct {
	Failed    string          `json:"failed,omitempty"`
	Found     *access.Found   `json:"found,omitempty"`
	Tally     *subtree.Tally  `json:"tally,omitempty"`
	Tries     []access.Try    `json:"tries,omitempty"`
	Directory *perm.Directory `json:"directory,omitempty"` // none where its hash was known
	Hash      string          `json:"hash,omitempty"`
	// files: those of the steps whose files are there as they were seen, each with its file
	Steps []byte   `json:"steps,omitempty"`
	Left  []Denied `json:"left,omitempty"` // files: why the others are not
}

// RunDone ends a run on one host. The originals were sent before.
type RunDone struct {
	State   lifecycle.Part `json:"state"` // finished, halted or failed
	Message string         `json:"message,omitempty"`
	Done    int            `json:"done"`
	Results []plan.Result  `json:"results"` // those that are not simply done
	Wrong   []plan.Result  `json:"wrong,omitempty"`
	// The edition of the roster that the host acts by now.
	Roster statement.Point `json:"roster,omitzero"`
}

// The protocols that agents and the service speak: Protocol is this program's, and OldestProtocol the oldest that it
// works with. An agent that tells none speaks 1.
const (
	Protocol       = 2
	OldestProtocol = 1
)

// Hello is what an agent says first after it starts: what runs there now.
type Hello struct {
	Version  string `json:"version"`
	Protocol int    `json:"protocol"`
	Oldest   int    `json:"oldest"` // protocol that it works with
	System   string `json:"system"` // its kernel, with its release
	Up       int64  `json:"up"`     // seconds since the system started
	Runs     int64  `json:"runs"`   // seconds since the agent started
	// The edition of the roster that the host acts by; none where it takes the service's word alone.
	Roster statement.Point `json:"roster,omitzero"`
}

// Greeting is what the service answers.
type Greeting struct {
	Version  string `json:"version"`
	Protocol int    `json:"protocol"`
	Oldest   int    `json:"oldest"`
}

// Speaks returns why a program that speaks a protocol, and no older one than oldest, cannot work with this one; nil
// if they can.
func Speaks(who, version string, protocol, oldest int) error {
	if protocol >= OldestProtocol && oldest <= Protocol {
		return nil
	}
	behind := who
	if protocol > Protocol {
		behind = "this program"
	}
	return fmt.Errorf("%s (%s) speaks protocol %d to %d, and this program %d to %d: bring %s up to date", who, version,
		oldest, protocol, OldestProtocol, Protocol, behind)
}

// Ago is a time that an agent says has passed, in seconds: none below zero, and at most a hundred years, since more
// than a Duration holds would lie in the future.
func Ago(seconds int64) time.Duration {
	return time.Duration(min(max(seconds, 0), 100*365*24*3600)) * time.Second
}

// WatchAsk says what an agent knows to watch, and how that is going.
type WatchAsk struct {
	Known   string         `json:"known"` // of the list it has
	State   WatchState     `json:"state"`
	Current []CurrentPlace `json:"current,omitempty"`
}

// CurrentPlace says that what an agent last sent of an application was still so some time ago.
type CurrentPlace struct {
	Application string    `json:"application"`
	Forest      tree.Hash `json:"forest"`
	Accounts    string    `json:"accounts"` // hash of the directory
	Seconds     int64     `json:"seconds"`  // ago
}

// WatchState says whether changes on a host are noticed as they happen.
type WatchState struct {
	Watching bool     `json:"watching"`
	Notes    []string `json:"notes,omitempty" doc:"Why not, or what of it not"`
}

// WatchList is what an agent is to watch.
type WatchList struct {
	Version      string         `json:"version"`
	Applications []WatchedPlace `json:"applications"`
}

// WatchedPlace is an application's part of a host.
type WatchedPlace struct {
	Application string   `json:"application"`
	Roots       []string `json:"roots"` // escaped
	Cross       bool     `json:"cross,omitempty"`
}

// Heard is a snapshot that an agent made because it noticed changes.
type Heard struct {
	SnapshotDone
	Roots []string `json:"roots"` // escaped; as the list said
	Cross bool     `json:"cross,omitempty"`
	Acts  []Act    `json:"acts"`
}

// Act is something that a process did to a path, as far as the kernel could still tell of the process.
type Act struct {
	Path    pathname.Path `json:"path"`
	What    string        `json:"what" enum:"changed,created,removed,moved away,moved here"`
	At      time.Time     `json:"at"`
	PID     int           `json:"pid,omitempty"`
	Command string        `json:"command,omitempty" doc:"What the process calls itself"`
	Program string        `json:"program,omitempty" doc:"The file that it ran"`
	Account string        `json:"account,omitempty" doc:"As whom it ran"`
	Login   string        `json:"login,omitempty" doc:"Who had logged in, whoever they became since"`

	Others []string `json:"others,omitempty" doc:"Who else touched the path within that time: which of them all made it as it is the kernel does not tell"`
}

// Who names the process of an act by whom it ran as, and what it calls itself.
func (a Act) Who() string {
	if a.Command == "" {
		return a.Whom()
	}
	return a.Whom() + ", " + a.Command
}

// Whom names whom the process of an act ran as.
func (a Act) Whom() string {
	switch {
	case a.Command == "":
		return "a process that was gone"
	case a.Login != "" && a.Login != a.Account:
		return a.Account + " (logged in as " + a.Login + ")"
	}
	return a.Account
}
