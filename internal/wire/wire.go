// Package wire holds the bodies of the network interface, for the service, its client and the
// agent alike. Paths are escaped text here: see package pathname.
package wire

import (
	"strings"
	"time"

	"idletally/internal/core/baseline"
	"idletally/internal/core/drift"
	"idletally/internal/core/lifecycle"
	"idletally/internal/core/perm"
	"idletally/internal/core/plan"
	"idletally/internal/core/roster"
	"idletally/internal/core/verdict"
)

// Roles of people.
const (
	Viewer   = "viewer"
	Author   = "author"
	Reviewer = "reviewer"
	Operator = "operator"
	Admin    = "admin"
)

// Roles lists them all.
var Roles = []string{Viewer, Author, Reviewer, Operator, Admin}

// A Page is part of a list; Next, where it is set, asks for what follows.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"Give it as the parameter after to get what follows"`
	Total *int64 `json:"total,omitempty" doc:"How many there are in all; told with the first page"`
}

// SignIn asks for a session.
type SignIn struct {
	Name        string        `json:"name" maxLength:"64"`
	Password    string        `json:"password" maxLength:"1024"`
	NewPassword string        `json:"new_password,omitempty" maxLength:"1024" doc:"Needed when the password is a one-time one"`
	Code        string        `json:"code,omitempty" maxLength:"32" doc:"Of the second factor, where there is one, or a spare code"`
	Passkey     *ShownPasskey `json:"passkey,omitempty" doc:"Instead of a code"`
	Device      string        `json:"device,omitempty" maxLength:"512" doc:"What an earlier sign-in with this name answered; browsers have a cookie instead. It lets nobody in: with it no stranger's wrong tries keep you out"`
}

// NewPassword changes one's own.
type NewPassword struct {
	Password    string `json:"password" maxLength:"1024" doc:"As it is now"`
	NewPassword string `json:"new_password" maxLength:"1024"`
	KeepTokens  bool   `json:"keep_tokens,omitempty" doc:"Your tokens stay good: whoever had the old password may have made some"`
}

// Session is what a sign-in gives.
type Session struct {
	Token   string    `json:"token,omitempty" doc:"For the Authorization header, as a Bearer token; the console has a cookie instead"`
	Device  string    `json:"device,omitempty" doc:"To be given with the next sign-in"`
	Expires time.Time `json:"expires"`
	Person  Person    `json:"person"`
}

// Person is somebody who uses Idle Tally.
type Person struct {
	Name   string   `json:"name"`
	Roles  []string `json:"roles"`
	Second bool     `json:"second" doc:"Signs in with a code as second factor"`

	Provider bool `json:"provider" doc:"Signs in by way of the provider (OpenID Connect)"`

	WantsTwoFactor bool       `json:"wants_second,omitempty" doc:"Has to set up a second factor before anything else"`
	CountsFrom     *time.Time `json:"counts_from,omitempty" doc:"From when on their approvals count, where they do not yet"`
}

// Confirm shows again who one is: by the password, or by a code of the second factor.
type Confirm struct {
	Password string        `json:"password,omitempty" maxLength:"1024"`
	Code     string        `json:"code,omitempty" maxLength:"32"`
	Passkey  *ShownPasskey `json:"passkey,omitempty"`
}

// AskPasskey asks for a passkey: anybody's, which tells who they are, or, as a second factor, one of somebody
// whose password is right.
type AskPasskey struct {
	Name     string `json:"name,omitempty" maxLength:"64"`
	Password string `json:"password,omitempty" maxLength:"1024"`
}

// AskedPasskey is what a browser makes, or shows, a passkey by (Web Authentication, level 2).
type AskedPasskey struct {
	Options string `json:"options" doc:"As JSON, for PublicKeyCredential.parseCreationOptionsFromJSON or parseRequestOptionsFromJSON"`
	State   string `json:"state" doc:"To be given back with the answer, within five minutes"`
}

// ShownPasskey is what a browser answered.
type ShownPasskey struct {
	Answer string `json:"answer" maxLength:"65536" doc:"The credential as JSON (PublicKeyCredential.toJSON)"`
	State  string `json:"state" maxLength:"8192"`
}

// NewPasskey adds one that a browser made.
type NewPasskey struct {
	Name string `json:"name" minLength:"1" maxLength:"64" doc:"What it is, for people"`
	ShownPasskey
}

// Passkey is somebody's passkey or security key.
type Passkey struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Created time.Time  `json:"created"`
	Used    *time.Time `json:"used,omitempty"`
}

// MadePasskey is one that was just added.
type MadePasskey struct {
	Passkey
	Codes []string `json:"codes,omitempty" doc:"Spare codes, where there were none: each counts once, and is not shown again"`
}

// A Policy is what holds for people and their sessions.
type Policy struct {
	ManagersApprove bool     `json:"managers_approve" doc:"Whoever manages people may approve plans, too"`
	ReviewerAfter   int      `json:"reviewer_after" minimum:"0" maximum:"720" doc:"Hours until approvals of a new reviewer count, or of one whose password or second factor an admin has reset; and until a looser policy holds"`
	SecondFactor    []string `json:"second_factor" maxItems:"5" doc:"Roles that need a second factor"`
	EnrolmentDays   int      `json:"enrolment_days" minimum:"0" maximum:"3650" doc:"Days after which a host has to be enrolled anew, however often its agent renews its certificate; 0 is never"`
	Idle            int      `json:"idle" minimum:"5" maximum:"720" doc:"Minutes after which a session ends that is not used"`
	Agree           int      `json:"agree,omitempty" minimum:"0" maximum:"5" doc:"How many other admins have to agree to a change of who may do what; 0: none"`
	AgreeSigned     bool     `json:"agree_signed,omitempty" doc:"Whoever agrees to a request signs that by a key of their own, which the roster has"`
}

// PolicyNow is the policy that holds, and the one that is to.
type PolicyNow struct {
	Policy
	Next *Policy    `json:"next,omitempty" doc:"What is to hold"`
	From *time.Time `json:"from,omitempty" doc:"From when on"`
	By   string     `json:"by,omitempty" doc:"Who wants it"`
}

// Ways are how people can sign in besides by password.
type Ways struct {
	Provider string `json:"provider,omitempty" doc:"What the provider is called"`
	Passkeys bool   `json:"passkeys,omitempty" doc:"By passkeys and security keys"`
}

// News is what has changed in how somebody signs in.
type News struct {
	Items []NewsItem `json:"items" doc:"The newest first"`
	Until string     `json:"until,omitempty" doc:"The newest line of the history among them: say that you have seen it"`
}

// NewsItem is one change of how somebody signs in, or tries of somebody to, as often as the history has them.
type NewsItem struct {
	What   string    `json:"what"`
	Who    string    `json:"who" doc:"Who did it"`
	Detail string    `json:"detail" doc:"Of the last"`
	Times  int       `json:"times"`
	First  time.Time `json:"first"`
	Last   time.Time `json:"last"`
}

// NewsSeen says what somebody has seen.
type NewsSeen struct {
	Until string `json:"until" minLength:"16" maxLength:"16"`
}

// JudgedPassword is one that somebody thinks of taking.
type JudgedPassword struct {
	Name     string `json:"name" maxLength:"64" doc:"Whose it would be"`
	Password string `json:"password" maxLength:"1024"`
}

// PasswordStrength is how well a password withstands who guesses.
type PasswordStrength struct {
	Strength int    `json:"strength" minimum:"0" maximum:"3" doc:"0 is one that is not taken, 1 barely withstands who guesses, 3 whatever is tried"`
	Problem  string `json:"problem,omitempty" doc:"Why it is not taken"`
}

// NewPerson adds somebody.
type NewPerson struct {
	Name     string   `json:"name" pattern:"^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$"`
	Roles    []string `json:"roles" minItems:"1" maxItems:"100" doc:"Such as operator, or author@ticketing for one application alone"`
	Provider bool     `json:"provider,omitempty" doc:"Signs in by way of the provider, under this name there, and has no password here"`
}

// OneTime is a password that is shown once and must be changed at the first sign-in.
type OneTime struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	Passkeys int    `json:"passkeys,omitempty" doc:"Of theirs, that go on counting: whoever had their password may have added some"`
}

// Host is a machine whose paths are kept.
type Host struct {
	Name     string     `json:"name"`
	Tags     []string   `json:"tags"`
	Enrolled bool       `json:"enrolled"`
	Carried  bool       `json:"carried,omitempty" doc:"Nothing leads there: orders, reports and snapshots are files that are carried"`
	Version  string     `json:"version,omitempty" doc:"Of the agent, as it said when it started last"`
	Unfit    string     `json:"unfit,omitempty" doc:"Why the agent and this service cannot work together; nothing where they can"`
	System   string     `json:"system,omitempty" doc:"That the agent runs on: its kernel, with its release"`
	Up       *time.Time `json:"up_since,omitempty" doc:"Since when that system runs"`
	Runs     *time.Time `json:"runs_since,omitempty" doc:"Since when the agent does"`
	LastSeen *time.Time `json:"last_seen,omitempty"`
	Twice    *time.Time `json:"twice,omitempty" doc:"Since when two are known to hold the identity of its agent: somebody has its key"`
	// Watch is not there where the agent never told.
	Watch *WatchState `json:"watch,omitempty" doc:"Whether changes are noticed as they happen"`
	// Roster is 0 where the host takes the service's word alone.
	Roster int64 `json:"roster,omitempty" doc:"The edition of the roster that the host acts by: it changes nothing but what people of it have signed"`
}

// Build says what a program is.
type Build struct {
	Version  string `json:"version"`
	Commit   string `json:"commit,omitempty" doc:"That it was built of"`
	Date     string `json:"date,omitempty" doc:"Of that commit (RFC 3339)"`
	Go       string `json:"go" doc:"Version of the toolchain"`
	System   string `json:"system" doc:"That it was built for"`
	Protocol int    `json:"protocol" doc:"That agents and service speak"`
	Oldest   int    `json:"oldest" doc:"The oldest protocol that it works with"`
}

// ServiceKeys is what hosts know the service by.
type ServiceKeys struct {
	Authorities []ServiceAuthority `json:"authorities" doc:"That count, the newest first; two while hosts change over"`
	OrderKey    []byte             `json:"order_key" doc:"Ed25519, public: signs orders and the history's end"`
	Replaced    []ReplacedKey      `json:"replaced" doc:"Keys that signed before, the first first"`
	Behind      []HostBehind       `json:"behind" doc:"Enrolled hosts that know the service by other keys than the newest, by name"`
	More        bool               `json:"more,omitempty" doc:"There are more of them"`
}

// ServiceAuthority is an authority of the service's that counts.
type ServiceAuthority struct {
	Fingerprint string    `json:"fingerprint" doc:"SHA-256 of its certificate"`
	From        time.Time `json:"from"`
	Until       time.Time `json:"until"`
}

// ReplacedKey is a key that signed orders before.
type ReplacedKey struct {
	Key []byte    `json:"key"`
	At  time.Time `json:"at" doc:"When it signed that another one follows"`
}

// HostBehind is a host that does not know the service by its newest keys, or whose agent never told.
type HostBehind struct {
	Host      string     `json:"host"`
	Authority bool       `json:"authority" doc:"Its certificate is by another authority, or it trusts another"`
	OrderKey  bool       `json:"order_key" doc:"It takes orders by another key"`
	Carried   bool       `json:"carried,omitempty"`
	LastSeen  *time.Time `json:"last_seen,omitempty"`
}

// Kinds of happenings.
const (
	HappenedBegin    = "begin" // of the stream
	HappenedSnapshot = "snapshot"
	HappenedEdition  = "edition"
	HappenedPlan     = "plan"
	HappenedRun      = "run"
)

// Happening is something that just happened: whoever shows it asks for it again.
type Happening struct {
	Kind        string `json:"kind" enum:"begin,snapshot,edition,plan,run"`
	Application string `json:"application,omitempty"`
	Host        string `json:"host,omitempty"`
	Subject     string `json:"subject,omitempty" doc:"The snapshot, edition, plan or run"`
}

// NewHost asks for an enrolment code.
type NewHost struct {
	Name string   `json:"name" pattern:"^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$"`
	Tags []string `json:"tags,omitempty"`
}

// Invitation is a one-time enrolment code.
type Invitation struct {
	Host    string    `json:"host"`
	Code    string    `json:"code"`
	Expires time.Time `json:"expires"`
}

// BaselineText is a baseline document.
type BaselineText struct {
	Text string `json:"text" maxLength:"1048576"`
}

// NewEdition keeps a text.
type NewEdition struct {
	Text  string `json:"text" maxLength:"1048576"`
	After *int   `json:"after,omitempty" minimum:"0" doc:"The newest edition when this was written, 0 for none: where there is another one meanwhile nothing is kept (409)"`
}

// Checked is what checking a baseline says.
type Checked struct {
	OK          bool              `json:"ok"`
	Application string            `json:"application,omitempty"`
	Rules       int               `json:"rules"`
	Hosts       []string          `json:"hosts" doc:"Hosts it applies to now"`
	Errors      []*baseline.Error `json:"errors"`
	Problems    []HostProblem     `json:"problems" doc:"What single hosts cannot follow, by their last snapshot"`
	// Allowed, and probably not meant.
	Warnings []baseline.Warning `json:"warnings"`
}

// Turnover is what changed between two snapshots.
type Turnover struct {
	From    Snapshot       `json:"from"`
	To      Snapshot       `json:"to"`
	Added   int            `json:"added"`
	Gone    int            `json:"gone"`
	Changed int            `json:"changed"`
	Groups  []ChangeGroup  `json:"groups" doc:"Paths with the same change, many first"`
	Items   []SingleChange `json:"items"`
	Next    string         `json:"next,omitempty" doc:"Give it as after to get what follows"`
}

// ChangeGroup is paths with the same change. A side without a kind is not in that snapshot.
type ChangeGroup struct {
	BeforeKind string     `json:"before_kind,omitempty"`
	AfterKind  string     `json:"after_kind,omitempty"`
	Before     *perm.View `json:"before,omitempty"`
	After      *perm.View `json:"after,omitempty"`
	BeforeGap  string     `json:"before_gap,omitempty"`
	AfterGap   string     `json:"after_gap,omitempty"`
	Word       string     `json:"word" enum:"opens,closes,both,neither"`
	Meaning    string     `json:"meaning"`
	Count      int        `json:"count"`
	Folder     string     `json:"folder"`
	Example    string     `json:"example"`
}

// SingleChange is one path that changed.
type SingleChange struct {
	Path   string `json:"path"`
	Change string `json:"change" enum:"added,gone,changed"`
}

// Place says where a number of paths lie: the path itself where it is one, and else the folder that
// holds them all.
func Place(count int, folder, example string) string {
	if count == 1 {
		return example
	}
	return strings.TrimSuffix(folder, "/") + "/…"
}

// NewDerivation asks for a draft.
type NewDerivation struct {
	Application string   `json:"application" minLength:"1" maxLength:"64"`
	Hosts       []string `json:"hosts,omitempty" maxItems:"50" doc:"Hosts whose last snapshots are right"`
	Snapshots   []string `json:"snapshots,omitempty" maxItems:"50" doc:"Snapshots that are right, of different hosts"`
}

// Derived is the draft of a baseline that holds for the snapshots that it was derived from.
type Derived struct {
	Text   string        `json:"text"`
	Places int           `json:"places" doc:"Paths on hosts, all together"`
	Free   int           `json:"free" doc:"Of these, paths of which something could not be declared"`
	Rules  []DerivedRule `json:"rules"`
}

// DerivedRule is a rule of a draft.
type DerivedRule struct {
	Name   string  `json:"name"`
	Places int     `json:"places" doc:"Paths on hosts of which it decides something"`
	Share  float64 `json:"share" doc:"Of all places, 0 to 1"`
}

// EditionEffect is how a baseline would judge the last snapshots, beside the one before it.
type EditionEffect struct {
	Application string       `json:"application"`
	Hosts       []HostEffect `json:"hosts"`
	Unseen      []string     `json:"unseen,omitempty" doc:"Hosts that it applies to and that have no snapshot yet"`
	Including   []string     `json:"including,omitempty" doc:"Applications whose baselines include this one: they change with it"`
}

// HostEffect is the effect on one host.
type HostEffect struct {
	Host     string  `json:"host"`
	Snapshot string  `json:"snapshot"`
	Before   int     `json:"before" doc:"Findings until now"`
	After    int     `json:"after" doc:"Findings then"`
	New      int     `json:"new"`
	Gone     int     `json:"gone"`
	Changed  int     `json:"changed" doc:"Findings of the same aspect, with another declaration"`
	Shifts   []Shift `json:"shifts" doc:"Paths that are judged differently, equal ones together"`
}

// Shift is paths on which one aspect is judged differently, all alike.
type Shift struct {
	Kind    string `json:"kind"`
	Aspect  string `json:"aspect"`
	Found   string `json:"found"`
	Was     string `json:"was" doc:"Declared before, where that differed from what was found; empty: nothing differed"`
	Is      string `json:"is" doc:"Declared then, likewise"`
	OldRule string `json:"old_rule,omitempty"`
	NewRule string `json:"new_rule,omitempty"`
	Word    string `json:"word" enum:"opens,closes,both,neither"`
	Meaning string `json:"meaning"`
	Count   int    `json:"count"`
	Folder  string `json:"folder"`
	Example string `json:"example"`
}

// Explained is which rule decides which aspect of a path.
type Explained struct {
	Host    string `json:"host"`
	Edition int    `json:"edition"`
	Kind    string `json:"kind"`
	Seen    bool   `json:"seen" doc:"The last snapshot has the path"`
	baseline.Explanation
}

// HostProblem is a problem on one host.
type HostProblem struct {
	Host string `json:"host"`
	baseline.Problem
}

// Edition is one numbered text of a baseline.
type Edition struct {
	Application string            `json:"application"`
	Number      int               `json:"number"`
	State       lifecycle.Edition `json:"state" enum:"draft,published,former"`
	Title       string            `json:"title"`
	Author      string            `json:"author"`
	Created     time.Time         `json:"created"`
	PublishedBy string            `json:"published_by,omitempty"`
	Published   *time.Time        `json:"published,omitempty"`
	Text        string            `json:"text,omitempty"`
}

// Application sums up what is kept of one application.
type Application struct {
	Name      string      `json:"name"`
	Title     string      `json:"title"`
	Published int         `json:"published" doc:"Number of the published edition, 0 if none"`
	Verdict   *Verdict    `json:"verdict,omitempty" doc:"What may be said of it; not of one without a published edition"`
	Hosts     []HostState `json:"hosts"`
}

// HostState is an application on one host.
type HostState struct {
	HostVerdict
	Report *Report `json:"report,omitempty" doc:"The newest drift report"`
}

// NewSnapshot asks for a snapshot.
type NewSnapshot struct {
	Application string   `json:"application" maxLength:"64"`
	Host        string   `json:"host" maxLength:"64"`
	Whole       bool     `json:"whole,omitempty" doc:"Read everything, whatever the host's agent knows from before"`
	Roots       []string `json:"roots,omitempty" maxItems:"100" doc:"Folders to look at, while the application has no published baseline that names them"`
	Cross       bool     `json:"cross,omitempty" doc:"With roots: go into other file systems that are mounted below"`
}

// NewSnapshots asks for a snapshot of an application on each of its hosts, or on some.
type NewSnapshots struct {
	Hosts []string `json:"hosts,omitempty" maxItems:"10000" doc:"Only these; all where none is named"`
	Whole bool     `json:"whole,omitempty" doc:"Read everything, whatever the hosts' agents know from before"`
	Roots []string `json:"roots,omitempty" maxItems:"100" doc:"Folders to look at on the hosts that are named, while the application has no published baseline that names them"`
	Cross bool     `json:"cross,omitempty" doc:"With roots: go into other file systems that are mounted below"`
}

// AskedSnapshot is what came of asking one host.
type AskedSnapshot struct {
	Host     string    `json:"host"`
	Snapshot *Snapshot `json:"snapshot,omitempty" doc:"That is waited for"`
	Problem  string    `json:"problem,omitempty" doc:"Why the host could not be asked"`
}

// Snapshot is what one host's paths looked like at one time.
type Snapshot struct {
	ID          string             `json:"id"`
	Host        string             `json:"host"`
	Application string             `json:"application"`
	State       lifecycle.Snapshot `json:"state" enum:"waiting,ready,failed"`
	Root        string             `json:"root,omitempty" doc:"SHA-256 over all paths and their permissions"`
	Roots       []string           `json:"roots"`
	Paths       int64              `json:"paths"`
	Gaps        int64              `json:"gaps" doc:"Paths that could not be read"`
	Denied      []Denied           `json:"denied,omitempty"`
	Message     string             `json:"message,omitempty"`
	RequestedBy string             `json:"requested_by,omitempty"`
	Heard       bool               `json:"heard,omitempty" doc:"Nobody asked for it: the agent noticed changes"`
	Created     time.Time          `json:"created"`
	Taken       *time.Time         `json:"taken,omitempty"`
	Seen        int64              `json:"seen,omitempty" doc:"While it is taken: paths looked at so far"`
	Expected    int64              `json:"expected,omitempty" doc:"While it is taken: paths of the snapshot before"`
}

// Denied is a path that could not be read.
type Denied struct {
	Path   string `json:"path"`
	Reason string `json:"reason"`
}

// Path is one path of a snapshot.
type Path struct {
	Path   string     `json:"path"`
	Name   string     `json:"name"`
	Kind   string     `json:"kind"`
	Gap    string     `json:"gap,omitempty" doc:"Why its content is missing"`
	Top    bool       `json:"top,omitempty" doc:"A file system is mounted here"`
	Access *perm.View `json:"access,omitempty"`

	Size     int64      `json:"size,omitempty" doc:"Bytes, of files; live only"`
	Modified *time.Time `json:"modified,omitempty" doc:"Live only"`
	Target   string     `json:"target,omitempty" doc:"Of a link; live only"`
	May      []string   `json:"may,omitempty" doc:"What the account that was asked for can do with it"`
	Unknown  []string   `json:"unknown,omitempty" doc:"What nobody knows of: who is in a group that would turn the answer round the server does not tell"`
	Unopened bool       `json:"unopened,omitempty" doc:"The account sees the name and can open nothing of it"`
	Hidden   bool       `json:"hidden,omitempty" doc:"The share does not show it to the account"`

	Findings []PathFinding `json:"findings,omitempty" doc:"In a snapshot: how it differs from what is declared"`
	Inside   *Tally        `json:"inside,omitempty" doc:"In a snapshot, of a folder: the findings in it and below"`
}

// VerdictOf says what may be said of an application.
func VerdictOf(t verdict.Tally) Verdict {
	v := Verdict{State: string(t.State()), Holds: t.Holds(), Says: t.Says(), In: map[string]int{}}
	for s, n := range t.In {
		v.In[string(s)] = n
	}
	return v
}

// HostVerdictOf says what may be said of an application on a host.
func HostVerdictOf(host string, l verdict.Look, now time.Time) HostVerdict {
	v := HostVerdict{Host: host, State: string(l.State(now)), Says: l.Says(now)}
	for _, s := range l.States(now) {
		v.States = append(v.States, string(s))
	}
	if !l.At.IsZero() {
		v.Looked = &l.At
	}
	if !l.At.IsZero() && !l.Until.IsZero() {
		v.Until = &l.Until
	}
	return v
}

// Report is a snapshot held against a baseline.
type Report struct {
	ID          string             `json:"id"`
	Application string             `json:"application"`
	Edition     int                `json:"edition"`
	Host        string             `json:"host"`
	Snapshot    string             `json:"snapshot"`
	Created     time.Time          `json:"created"`
	Paths       int64              `json:"paths"`
	Judged      int64              `json:"judged" doc:"Paths that a rule speaks of"`
	Findings    int64              `json:"findings" doc:"Without those that are waived"`
	Waived      int64              `json:"waived" doc:"Findings that somebody has accepted for a time"`
	Unread      int64              `json:"unread"`
	Opens       int64              `json:"opens" doc:"Findings by which somebody can do more than intended"`
	Closes      int64              `json:"closes" doc:"Findings by which somebody can do less"`
	Problems    []baseline.Problem `json:"problems,omitempty"`
	MoreGroups  int64              `json:"more_groups,omitempty" doc:"Groups of findings beyond those that are given with it, the weightiest first: list-findings has their paths"`
}

// Group is findings of the same change.
type Group struct {
	ID       string        `json:"id"`
	Host     string        `json:"host"`
	Report   string        `json:"report"`
	Rule     string        `json:"rule"`
	Why      string        `json:"why,omitempty"`
	Severity string        `json:"severity" enum:"minor,serious,grave"`
	Aspect   string        `json:"aspect"`
	Kind     string        `json:"kind"`
	Declared string        `json:"declared"`
	Found    string        `json:"found"`
	Effect   perm.Effect   `json:"effect"`
	Word     string        `json:"word" enum:"opens,closes,both,neither"`
	Meaning  string        `json:"meaning" doc:"The effect in one line"`
	Count    int           `json:"count"`
	Unread   int           `json:"unread,omitempty" doc:"How many of them could not be looked at this time, and are told as they were before"`
	Folder   string        `json:"folder" doc:"The deepest folder that holds them all"`
	Example  string        `json:"example"`
	Since    *time.Time    `json:"since,omitempty" doc:"When the one was seen first that is there longest"`
	Fresh    int           `json:"fresh,omitempty" doc:"How many were never seen before this report"`
	Returned int           `json:"returned,omitempty" doc:"How many were gone at some time, and came back"`
	By       *Act          `json:"by,omitempty" doc:"Where it is one path: who did the last thing to it, where the host's kernel told"`
	Doers    []DriftOrigin `json:"doers,omitempty" doc:"Who did the last thing to their paths, where the host's kernel told and that may have made them; those of most findings, ten at the most"`
	Causes   []DriftOrigin `json:"causes,omitempty" doc:"Likely causes, as list-causes has them of their folders; those of most findings, ten at the most"`
	Waiver   *Waiver       `json:"waiver,omitempty" doc:"Who has accepted them, why, and until when"`
}

// A DriftOrigin is where findings come from.
type DriftOrigin struct {
	What     string `json:"what" doc:"Whom a process ran as, or why paths come out so"`
	Findings int    `json:"findings" doc:"How many of them"`
}

// GroupOf returns a group of a host as bodies have it.
func GroupOf(host string, g drift.Group) Group {
	return Group{ID: g.ID, Host: host, Rule: g.Rule, Why: g.Why, Severity: string(g.Severity), Aspect: string(g.Aspect),
		Kind: g.Kind.String(), Declared: g.Declared, Found: g.Found, Effect: g.Effect, Word: g.Effect.Word(),
		Meaning: g.Effect.String(),
		Count:   g.Count, Unread: g.Unread, Folder: g.Folder.String(), Example: g.Example.String()}
}

// NewWaiver accepts findings until a date.
type NewWaiver struct {
	Application string    `json:"application" maxLength:"64"`
	Host        string    `json:"host,omitempty" maxLength:"64" doc:"Only on this host"`
	Group       string    `json:"group,omitempty" maxLength:"12" doc:"The findings of this group of a newest report, in place of paths, rule, kind, aspect and found"`
	Paths       string    `json:"paths,omitempty" maxLength:"65536" doc:"A path, or a pattern as in baselines"`
	Rule        string    `json:"rule,omitempty" maxLength:"64" doc:"Only findings of this rule"`
	Kind        string    `json:"kind,omitempty" maxLength:"32" doc:"Only of files, folders and so on"`
	Aspect      string    `json:"aspect,omitempty" maxLength:"16" doc:"Only of this aspect"`
	Found       string    `json:"found,omitempty" maxLength:"65536" doc:"Only where this was found"`
	Reason      string    `json:"reason" minLength:"3" maxLength:"2000"`
	Ends        time.Time `json:"ends" doc:"A year from now at the latest"`
}

// Waiver is findings that somebody has accepted for a time.
type Waiver struct {
	ID string `json:"id"`
	NewWaiver
	Author      string     `json:"author"`
	Created     time.Time  `json:"created"`
	Counts      bool       `json:"counts" doc:"It has neither ended nor been withdrawn"`
	WithdrawnBy string     `json:"withdrawn_by,omitempty"`
	Withdrawn   *time.Time `json:"withdrawn,omitempty"`
}

// Finding is one path and aspect that is not as declared.
type Finding struct {
	Report    string     `json:"report"`
	Seq       int        `json:"seq"`
	Group     string     `json:"group"`
	Path      string     `json:"path"`
	Kind      string     `json:"kind"`
	Aspect    string     `json:"aspect"`
	Access    *perm.View `json:"access,omitempty" doc:"The path as it was found"`
	FirstSeen *time.Time `json:"first_seen,omitempty"`
	Since     *time.Time `json:"since,omitempty" doc:"Later than first seen where it was gone meanwhile"`
	Spells    int        `json:"spells,omitempty" doc:"How often it came"`
	By        *Act       `json:"by,omitempty" doc:"Who did the last thing to it, where the host's kernel told"`
	Unread    bool       `json:"unread,omitempty" doc:"The path could not be looked at this time: this is how it was before"`
}

// Tally counts findings of a folder. Waived ones count nowhere else.
type Tally struct {
	Findings int `json:"findings"`
	Opens    int `json:"opens"`
	Closes   int `json:"closes"`
	Waived   int `json:"waived"`
}

// Spot is a folder with findings in it or below.
type Spot struct {
	Path  string `json:"path"`
	All   Tally  `json:"all" doc:"With everything below"`
	Here  Tally  `json:"here" doc:"Of the folder itself and directly in it"`
	Below bool   `json:"below" doc:"Subfolders have findings, too"`
}

// Spots is a folder, and its subfolders that have findings.
type Spots struct {
	Spot
	Folders []Spot `json:"folders" doc:"Those that open most first"`
	More    bool   `json:"more,omitempty" doc:"There are more than are shown"`
}

// Trend is how the drift of an application went on one host.
type Trend struct {
	Host   string       `json:"host"`
	Points []TrendPoint `json:"points" doc:"Oldest first; where there were more than 400 reports, so many of them, evenly"`
}

// TrendPoint is one report.
type TrendPoint struct {
	At       time.Time `json:"at"`
	Report   string    `json:"report"`
	Edition  int       `json:"edition"`
	Paths    int64     `json:"paths"`
	Findings int64     `json:"findings" doc:"Without those that were waived then"`
	Waived   int64     `json:"waived"`
	Opens    int64     `json:"opens"`
	Closes   int64     `json:"closes"`
	Unread   int64     `json:"unread"`
	Fresh    int64     `json:"fresh" doc:"Seen for the first time"`
	Returned int64     `json:"returned" doc:"Gone before, and there again"`
	Gone     int64     `json:"gone" doc:"There before, and no longer"`
}

// Cause is why new paths in a folder come out otherwise than declared, or mended ones are wrong again.
type Cause struct {
	Host      string    `json:"host"`
	Folder    string    `json:"folder"`
	Kind      string    `json:"kind"`
	Aspect    string    `json:"aspect"`
	Again     bool      `json:"again,omitempty" doc:"They are not new: they were mended before, and are wrong again"`
	Paths     int       `json:"paths" doc:"That came out so, all together"`
	Times     int       `json:"times" doc:"Snapshots that showed new ones"`
	FirstSeen time.Time `json:"first_seen"`
	LastSeen  time.Time `json:"last_seen"`
	Example   string    `json:"example"`
	Declared  string    `json:"declared"`
	Found     string    `json:"found"`
	Why       string    `json:"why" doc:"The likely cause"`
	Instead   string    `json:"instead" doc:"What would make the next ones come out right"`
}

// Draft asks for a plan.
type Draft struct {
	Application string     `json:"application,omitempty"`
	Title       string     `json:"title,omitempty" maxLength:"200"`
	Groups      []GroupRef `json:"groups,omitempty" doc:"Whole groups of findings"`
	Findings    []Ref      `json:"findings,omitempty" doc:"Single findings"`
	All         bool       `json:"all,omitempty" doc:"Every finding of the application's newest reports"`
	Run         string     `json:"run,omitempty" doc:"Restore: put back what this run changed"`
	Snapshot    string     `json:"snapshot,omitempty" maxLength:"16" doc:"Restore: make it as it was in this snapshot"`
	Paths       []string   `json:"paths,omitempty" maxItems:"200" doc:"Of a restore, only paths that one of these patterns fits"`
	Hosts       []string   `json:"hosts,omitempty" maxItems:"5000" doc:"Of a restore of a run, or of an adjustment: only these hosts"`
	Folder      string     `json:"folder,omitempty" maxLength:"131072" doc:"With all: only what is in this folder and below"`
	First       int        `json:"first,omitempty" minimum:"0" maximum:"5000" doc:"So many hosts run first, the rest when these have ended well; 0 is one"`
	StopAt      int        `json:"stop_at,omitempty" minimum:"0" maximum:"100" doc:"Where more than so many percent of the first hosts' steps are not done, the rest do not run; 0 is ten"`
	Changes     string     `json:"changes,omitempty" maxLength:"1048576" doc:"Adjustment: hand-written changes (see docs/guide/6-change.md)"`
}

// GroupRef names a group of a report.
type GroupRef struct {
	Report string `json:"report"`
	Group  string `json:"group"`
}

// Ref names a finding of a report.
type Ref struct {
	Report string `json:"report"`
	Seq    int    `json:"seq"`
}

// Plan is ordered steps under review.
type Plan struct {
	ID          string         `json:"id"`
	Application string         `json:"application"`
	Kind        string         `json:"kind" enum:"remediation,restore,adjustment"`
	Title       string         `json:"title"`
	State       lifecycle.Plan `json:"state" enum:"draft,in review,approved,declined,running,halted,finished,expired"`
	Author      string         `json:"author"`
	Created     time.Time      `json:"created"`
	Digest      string         `json:"digest" doc:"SHA-256 of what will run; approval holds for exactly this"`
	Hosts       []PlanHost     `json:"hosts"`
	First       int            `json:"first,omitempty" doc:"So many of its hosts run before the rest"`
	StopAt      int            `json:"stop_at,omitempty" doc:"Percent of steps not done at which the rest do not run"`
	Steps       int            `json:"steps"`
	DecidedBy   string         `json:"decided_by,omitempty"`
	Decided     *time.Time     `json:"decided,omitempty"`
	Remark      string         `json:"remark,omitempty"`
	Expires     *time.Time     `json:"expires,omitempty"`
	Run         string         `json:"run,omitempty"`
	Groups      []PlanGroup    `json:"groups,omitempty"`
	Left        []Left         `json:"left,omitempty" doc:"What the plan cannot do, and why"`
	Cautions    []plan.Caution `json:"cautions,omitempty" doc:"What the checker warns of, the grave ones first"`
	Approvals   []Approval     `json:"approvals,omitempty"`
	Needed      int            `json:"needed" doc:"How many people have to approve it"`
	Remarks     []Remark       `json:"remarks,omitempty"`
	Signed      []SignedBy     `json:"signed,omitempty" doc:"What people have signed of it by keys of their own"`
	ToSign      []string       `json:"to_sign,omitempty" doc:"Its hosts that change nothing but what people have signed"`
	Alone       bool           `json:"alone,omitempty" doc:"One person decided, whom the roster lets act alone: nobody else looked at it"`
	MayAlone    bool           `json:"may_alone,omitempty" doc:"The roster lets you act alone on each of its hosts"`
}

// Approval is one person's.
type Approval struct {
	Reviewer string            `json:"reviewer"`
	At       time.Time         `json:"at"`
	Remark   string            `json:"remark,omitempty"`
	Words    map[string]string `json:"words,omitempty" doc:"What they said of grave cautions, by caution"`
	Void     string            `json:"void,omitempty" doc:"Why it does not count now"`
}

// Standing counts the approvals that count now.
func (p Plan) Standing() (n int) {
	for _, a := range p.Approvals {
		if a.Void == "" {
			n++
		}
	}
	return n
}

// Remark is what somebody said of a plan, or of one of its steps.
type Remark struct {
	Author string    `json:"author"`
	At     time.Time `json:"at"`
	NewRemark
}

// NewRemark says something of a plan, or of one of its steps.
type NewRemark struct {
	Host string `json:"host,omitempty" maxLength:"64" doc:"Of a step: its host"`
	Path string `json:"path,omitempty" maxLength:"131072" doc:"Of a step: its path"`
	Body string `json:"body" minLength:"1" maxLength:"4000"`
}

// ReviewRule says how many people have to approve an application's plans.
type ReviewRule struct {
	Reviewers int  `json:"reviewers" minimum:"1" maximum:"9"`
	Editions  *int `json:"editions,omitempty" minimum:"0" maximum:"9" doc:"How many reviewers of the application have to agree before an edition of its baseline is published; 0: none. What is not given stays"`
}

// PlanHost is a plan's part on one host.
type PlanHost struct {
	Host  string `json:"host"`
	Steps int    `json:"steps"`
}

// PlanGroup is equal steps.
type PlanGroup struct {
	Host    string      `json:"host"`
	Kind    string      `json:"kind"`
	Before  perm.View   `json:"before"`
	After   perm.View   `json:"after"`
	Effect  perm.Effect `json:"effect"`
	Word    string      `json:"word" enum:"opens,closes,both,neither"`
	Meaning string      `json:"meaning"`
	Count   int         `json:"count"`
	Folder  string      `json:"folder"`
	Example string      `json:"example"`
}

// Left is a finding that a plan leaves.
type Left struct {
	Host string `json:"host,omitempty"`
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Step is one step of a plan.
type Step struct {
	Host   string    `json:"host"`
	Step   int       `json:"step"`
	Path   string    `json:"path"`
	Kind   string    `json:"kind"`
	Before perm.View `json:"before"`
	After  perm.View `json:"after"`
}

// An Original is a path as a run found it, and as the run left it.
type Original struct {
	Host     string    `json:"host"`
	Path     string    `json:"path"`
	Kind     string    `json:"kind"`
	Original perm.View `json:"original"`
	Left     perm.View `json:"left" doc:"As the run left it: as planned, or narrowed where the run was halted"`
}

// Decision approves or declines.
type Decision struct {
	Digest string            `json:"digest" doc:"The digest that was looked at; another one is refused"`
	Remark string            `json:"remark,omitempty" maxLength:"4000"`
	Words  map[string]string `json:"words,omitempty" doc:"Of each grave caution, by its id, why it is meant all the same"`
	// Signed is there where hosts of the plan know a roster.
	Signed *roster.Signed `json:"signed,omitempty" doc:"What the reviewer has signed of it by a key of their own"`
}

// Submission puts a draft in review.
type Submission struct {
	// Signed is there where hosts of the plan know a roster.
	Signed *roster.Signed `json:"signed,omitempty" doc:"What the author has signed of it by a key of their own"`
}

// Run is one execution of a plan.
type Run struct {
	ID          string        `json:"id"`
	Application string        `json:"application"`
	Plan        string        `json:"plan"`
	Title       string        `json:"title"`
	State       lifecycle.Run `json:"state" enum:"running,halted,finished"`
	StartedBy   string        `json:"started_by"`
	Started     time.Time     `json:"started"`
	Ended       *time.Time    `json:"ended,omitempty"`
	Hosts       []RunHost     `json:"hosts"`
}

// RunHost is a run on one host.
type RunHost struct {
	Wave     int            `json:"wave" doc:"Hosts of wave 1 run when those of wave 0 have ended well"`
	Host     string         `json:"host"`
	State    lifecycle.Part `json:"state" enum:"waiting,running,halted,finished,failed"`
	Total    int            `json:"total"`
	Progress int            `json:"progress"`
	Done     int            `json:"done"`
	Already  int            `json:"already" doc:"As planned before the run came"`
	Skipped  int            `json:"skipped" doc:"No longer as reviewed"`
	Refused  int            `json:"refused"`
	Wrong    int            `json:"wrong" doc:"Done, but changed again by somebody before the last look"`
	Message  string         `json:"message,omitempty"`
}

// RunResult is a step that is not simply done.
type RunResult struct {
	Host    string `json:"host"`
	Step    int    `json:"step"`
	Path    string `json:"path"`
	Outcome string `json:"outcome"`
	Reason  string `json:"reason"`
}

// History is one line of the audit log.
type History struct {
	ID      string    `json:"id"`
	At      time.Time `json:"at"`
	Who     string    `json:"who"`
	Token   string    `json:"token,omitempty" doc:"Of theirs, that a program did it with"`
	What    string    `json:"what"`
	Subject string    `json:"subject"`
	Detail  string    `json:"detail,omitempty"`

	Sentence string `json:"sentence" doc:"All of it as one says it"`
	About    string `json:"about,omitempty" doc:"What the subject is: plan, run, host, application or person"`
}

// Storage is how much is stored.
type Storage struct {
	Nodes     int64 `json:"nodes" doc:"Folders, each stored once however many snapshots have it"`
	Bytes     int64 `json:"bytes" doc:"Of these, compressed"`
	Snapshots int64 `json:"snapshots"`
	Reports   int64 `json:"reports"`
}

// StorageCheck is what a look at a part of the storage came to.
type StorageCheck struct {
	Nodes     int    `json:"nodes"`
	Snapshots int    `json:"snapshots"`
	Faults    []Left `json:"faults"`
	Next      string `json:"next,omitempty" doc:"Give it as the parameter after to go on"`
}

// Tidied is what tidying up took away.
type Tidied struct {
	Snapshots   int   `json:"snapshots"`
	Nodes       int64 `json:"nodes"`
	Directories int64 `json:"directories"`
	Live        int64 `json:"live" doc:"Nodes that are needed"`
}
