// Package lifecycle names the states of what the service works on, as they stand in records, in bodies of the API and
// in the console. What is compared with a word that is no state does not compile, and tests hold the columns of the
// database and the document of the API to the lists here.
//
//	if p.State != lifecycle.PlanApproved {
package lifecycle

// A Plan is the state of a plan. It is drafted, put in review, approved or declined, and run; a run may be halted.
type Plan string

// The states of plans.
const (
	PlanDraft    Plan = "draft"
	PlanInReview Plan = "in review"
	PlanApproved Plan = "approved"
	PlanDeclined Plan = "declined"
	PlanRunning  Plan = "running"
	PlanHalted   Plan = "halted"
	PlanFinished Plan = "finished"
	PlanExpired  Plan = "expired" // never kept: an approved plan whose approvals are too old is shown so
)

// Plans lists the states that plans are kept in, in their order.
var Plans = []Plan{PlanDraft, PlanInReview, PlanApproved, PlanDeclined, PlanRunning, PlanHalted, PlanFinished}

// A Run is the state of a run of a plan.
type Run string

// The states of runs.
const (
	RunRunning  Run = "running"
	RunHalted   Run = "halted" // it can be resumed
	RunFinished Run = "finished"
)

// Runs lists the states of runs.
var Runs = []Run{RunRunning, RunHalted, RunFinished}

// A Part is the state of a run on one host.
type Part string

// The states of parts.
const (
	PartWaiting  Part = "waiting" // for the host, or for hosts of an earlier wave
	PartRunning  Part = "running"
	PartHalted   Part = "halted"
	PartFinished Part = "finished"
	PartFailed   Part = "failed"
)

// Parts lists the states of parts.
var Parts = []Part{PartWaiting, PartRunning, PartHalted, PartFinished, PartFailed}

// A Snapshot is the state of a snapshot.
type Snapshot string

// The states of snapshots.
const (
	SnapshotWaiting Snapshot = "waiting" // for the host
	SnapshotReady   Snapshot = "ready"
	SnapshotFailed  Snapshot = "failed"
)

// Snapshots lists the states of snapshots.
var Snapshots = []Snapshot{SnapshotWaiting, SnapshotReady, SnapshotFailed}

// An Edition is the state of an edition of a baseline.
type Edition string

// The states of editions.
const (
	EditionDraft     Edition = "draft"
	EditionPublished Edition = "published" // the one that counts
	EditionFormer    Edition = "former"    // published once
)

// Editions lists the states of editions.
var Editions = []Edition{EditionDraft, EditionPublished, EditionFormer}

// A Work is the state of work that a host has.
type Work string

// The states of work.
const (
	WorkWaiting Work = "waiting"
	WorkTaken   Work = "taken" // by the host's agent
	WorkDone    Work = "done"
)

// Works lists the states of work.
var Works = []Work{WorkWaiting, WorkTaken, WorkDone}

// A Host is the state of a host's agent.
type Host string

// The states of hosts.
const (
	HostInvited Host = "invited" // it has no agent yet
	HostCarried Host = "carried" // nothing leads there
	HostCalling Host = "calling"
	HostSilent  Host = "silent" // it was not heard of for ten minutes
)

// Hosts lists the states of hosts.
var Hosts = []Host{HostInvited, HostCarried, HostCalling, HostSilent}

// Words returns states as plain words.
func Words[S ~string](states []S) []string {
	words := make([]string, len(states))
	for i, s := range states {
		words[i] = string(s)
	}
	return words
}
