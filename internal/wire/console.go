package wire

import "time"

// Overview is what needs somebody now, and how everything stands.
type Overview struct {
	Needs        []Need     `json:"needs" doc:"What waits for a person, the gravest first"`
	More         int        `json:"more,omitempty" doc:"So many needs more than are listed"`
	Hosts        HostCount  `json:"hosts"`
	Applications []Standing `json:"applications"`
	Days         []DayTally `json:"days" doc:"Drift that nobody accepted, at the end of each day"`
}

// Need is one thing that waits for a person.
type Need struct {
	Kind        string     `json:"kind" enum:"history,review,approved,run,grave,waiver,host,never,failed,old,behind"`
	Subject     string     `json:"subject" doc:"A plan, a run, an application or a host"`
	Application string     `json:"application,omitempty"`
	Host        string     `json:"host,omitempty"`
	Title       string     `json:"title"`
	Detail      string     `json:"detail,omitempty"`
	At          *time.Time `json:"at,omitempty"`
	Count       int64      `json:"count,omitempty"`
}

// HostCount counts hosts.
type HostCount struct {
	All      int `json:"all"`
	Enrolled int `json:"enrolled"`
	Unseen   int `json:"unseen" doc:"Enrolled, and not heard from for ten minutes"`
	Watching int `json:"watching"`
}

// Verdict is what may be said of an application on all of its hosts, or those that were asked for.
type Verdict struct {
	State string         `json:"state" enum:"nowhere,never,failed,old,behind,unread,drifted,declared" doc:"That of which is known least"`
	Holds bool           `json:"holds" doc:"Each host was looked at, lately, at everything, with success, and nothing was found that nobody accepted"`
	Says  string         `json:"says" doc:"In words"`
	In    map[string]int `json:"in" doc:"Hosts by each of their states: one may be in several"`
}

// HostVerdict is what may be said of an application on one host.
type HostVerdict struct {
	Host   string     `json:"host"`
	State  string     `json:"state" enum:"never,failed,old,behind,unread,drifted,declared" doc:"The first of its states"`
	States []string   `json:"states" doc:"What is known least of first"`
	Says   string     `json:"says" doc:"In words"`
	Looked *time.Time `json:"looked,omitempty" doc:"As of when it is known: when it was looked at last, or when an agent that watches last said that nothing changed since"`
	Until  *time.Time `json:"until,omitempty" doc:"From then on that is too long ago"`
}

// Standing is how an application stands on all of its hosts.
type Standing struct {
	Name      string     `json:"name"`
	Title     string     `json:"title"`
	Published int        `json:"published,omitempty" doc:"Edition; 0 where none is"`
	Findings  int64      `json:"findings" doc:"Nobody accepted them"`
	Opens     int64      `json:"opens"`
	Closes    int64      `json:"closes"`
	Grave     int64      `json:"grave"`
	Waived    int64      `json:"waived"`
	Paths     int64      `json:"paths"`
	Unread    int64      `json:"unread" doc:"Paths that could not be read"`
	Hosts     int        `json:"hosts"`
	Verdict   Verdict    `json:"verdict"`
	Oldest    *time.Time `json:"oldest,omitempty" doc:"When the host that was looked at longest ago was"`
	Cells     []Cell     `json:"cells" doc:"Hosts, those that open most first"`
}

// Cell is how an application stands on one host, in few words.
type Cell struct {
	Host     string     `json:"host"`
	Findings int64      `json:"findings"`
	Opens    int64      `json:"opens"`
	Closes   int64      `json:"closes"`
	Grave    int64      `json:"grave"`
	Unread   int64      `json:"unread"`
	At       *time.Time `json:"at,omitempty" doc:"As of when it is known; not at all where this is missing"`
	State    string     `json:"state" enum:"never,failed,old,behind,unread,drifted,declared"`
	Says     string     `json:"says" doc:"In words"`
}

// DayTally is how much drift there was at the end of a day.
type DayTally struct {
	Day      string `json:"day"`
	Findings int64  `json:"findings"`
	Opens    int64  `json:"opens"`
	Closes   int64  `json:"closes"`
}

// Hit is something that a search found.
type Hit struct {
	Kind        string `json:"kind" enum:"host,application,rule,finding,account,plan,run,path,person"`
	Name        string `json:"name"`
	Detail      string `json:"detail,omitempty"`
	Application string `json:"application,omitempty"`
	Host        string `json:"host,omitempty"`
	Snapshot    string `json:"snapshot,omitempty"`
	Subject     string `json:"subject" doc:"What it is called where it is asked for"`
}

// Found is what a search found.
type Found struct {
	Items []Hit    `json:"items"`
	More  []string `json:"more,omitempty" doc:"Kinds of which there may be more than are given: ask for more of the name"`
}

// PathFinding is what a report found at a path.
type PathFinding struct {
	Aspect   string `json:"aspect"`
	Declared string `json:"declared"`
	Found    string `json:"found"`
	Word     string `json:"word" doc:"opens, closes, both or neither"`
	Rule     string `json:"rule"`
	Meaning  string `json:"meaning"`
	Severity string `json:"severity"`
	Group    string `json:"group"`

	Application string     `json:"application"`
	Since       *time.Time `json:"since,omitempty"`
	Waived      bool       `json:"waived,omitempty"`
}

// EqualGroup is the same group of findings on one host or on many.
type EqualGroup struct {
	Group
	Hosts   int      `json:"hosts"`
	Total   int64    `json:"total" doc:"Findings on all of them"`
	Members []Member `json:"members" doc:"The hosts, those with most first"`
}

// Member is a host's part of a group.
type Member struct {
	Host   string `json:"host"`
	Report string `json:"report"`
	Count  int    `json:"count"`
}

// Weight is how much of a folder somebody holds.
type Weight struct {
	Path   string `json:"path"`
	Folder bool   `json:"folder"`
	Held   int64  `json:"held"`
	Looked int64  `json:"looked"`
}

// RoleList is the roles of a person.
type RoleList struct {
	Roles []string `json:"roles" minItems:"1" maxItems:"100" doc:"Such as operator, or author@ticketing for one application alone"`
}

// TagList is the tags of a host.
type TagList struct {
	Tags []string `json:"tags" maxItems:"30"`
}

// NewToken asks for a token.
type NewToken struct {
	Name  string   `json:"name" minLength:"1" maxLength:"64" doc:"What it is for"`
	Roles []string `json:"roles" minItems:"1" maxItems:"100" doc:"viewer, author, operator, the last two also for one application: nobody approves or manages people by a token"`
	Days  int      `json:"days" minimum:"1" maximum:"400" doc:"How long it is good"`
}

// Token is what a program signs in with.
type Token struct {
	ID      string     `json:"id"`
	Person  string     `json:"person"`
	Name    string     `json:"name"`
	Roles   []string   `json:"roles"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Used    *time.Time `json:"used,omitempty" doc:"Last, to the minute"`
}

// MadeToken is a new token with its secret, which is shown once.
type MadeToken struct {
	Token
	Secret string `json:"secret"`
}

// HistoryCheck is the outcome of verifying the history.
type HistoryCheck struct {
	Lines int64  `json:"lines" doc:"That are tied together, and fit"`
	Head  string `json:"head" doc:"The hash of the last: note it elsewhere, and nothing before it can be changed unseen"`
	Key   []byte `json:"key" doc:"The service's public key, by which the head is signed"`
	Fault string `json:"fault,omitempty" doc:"What is not as it was written"`
}

// NewSchedule has snapshots of an application taken automatically.
type NewSchedule struct {
	Application string `json:"application" minLength:"1" maxLength:"64"`
	Tag         string `json:"tag,omitempty" maxLength:"64" doc:"Only on hosts with this tag"`
	Cron        string `json:"cron" minLength:"1" maxLength:"100" doc:"minute hour day month weekday, as crontab(5) has it, or @hourly, @daily, @weekly"`
	Zone        string `json:"zone,omitempty" maxLength:"64" doc:"Time zone of these, such as Europe/Lisbon; UTC where nothing is said"`
	Spread      int    `json:"spread,omitempty" minimum:"0" maximum:"86400" doc:"Seconds over which the hosts are spread, each at a moment of its own"`
}

// Schedule is one that is kept.
type Schedule struct {
	ID string `json:"id"`
	NewSchedule
	Author string     `json:"author"`
	Next   time.Time  `json:"next"`
	Last   *time.Time `json:"last,omitempty"`
}

// The kinds of notices.
const (
	NoticeFindings = "findings" // that were not there before, or came back
	NoticeReview   = "review"   // a plan waits for a reviewer
	NoticeRun      = "run"      // a run ended, failed or was halted
	NoticeLooks    = "looks"    // a host is not known any more as of now, or is again
	NoticeEditions = "editions" // an edition of a baseline, or of one that it includes, waits or is published
	NoticeHistory  = "history"  // where the history ends, every hour, and at once that it is not what it was
)

// NoticeKinds lists them, and UsualKinds those that are told where nobody says otherwise.
var (
	NoticeKinds = []string{NoticeFindings, NoticeReview, NoticeRun, NoticeLooks, NoticeEditions, NoticeHistory}
	UsualKinds  = NoticeKinds[:5]
)

// NewHook has a program told of what happens.
type NewHook struct {
	URL         string   `json:"url" minLength:"1" maxLength:"1024" doc:"https://… of a program, or mailto:NAME@HOST"`
	Application string   `json:"application,omitempty" maxLength:"64" doc:"Only of this one"`
	Kinds       []string `json:"kinds" minItems:"1" maxItems:"6" doc:"findings, review, run, looks, editions, history"`
	Severity    string   `json:"severity,omitempty" enum:"minor,serious,grave" doc:"Of findings: from this on"`
	Effect      string   `json:"effect,omitempty" enum:"opens,closes" doc:"Of findings: only where some of them have this effect"`
	Every       int      `json:"every,omitempty" minimum:"0" maximum:"10080" doc:"Mail: gather what is told for so many minutes; 0 tells at once"`
}

// Hook is one that is kept.
type Hook struct {
	ID string `json:"id"`
	NewHook
	Author string     `json:"author"`
	Told   *time.Time `json:"told,omitempty" doc:"When something was delivered last"`
	Fault  string     `json:"fault,omitempty" doc:"Why the last delivery failed"`
}

// MadeHook is a new hook with its secret.
type MadeHook struct {
	Hook
	Secret string `json:"secret" doc:"By which its notices are signed: hexadecimal"`
}

// Event is a CloudEvent.
type Event struct {
	SpecVersion string    `json:"specversion"`
	ID          string    `json:"id"`
	Source      string    `json:"source"`
	Type        string    `json:"type"`
	Subject     string    `json:"subject"`
	Time        time.Time `json:"time"`
	ContentType string    `json:"datacontenttype"`
	Data        any       `json:"data"`
}

// What a notice of an edition says of it.
const (
	EditionWaiting   = "waiting" // for reviewers
	EditionPublished = "published"
)

// EditionNotice is what a notice of an edition tells.
type EditionNotice struct {
	Application string `json:"application"` // who is told: the baseline's own, or one that includes it
	Of          string `json:"of"`          // whose baseline it is
	Edition     int    `json:"edition"`
	Who         string `json:"who"`   // wants it published, or has published it
	State       string `json:"state"` // waiting, or published
}

// HistoryNotice is what a notice of the history tells: where it ends, or what is wrong with it.
type HistoryNotice struct {
	Line      int64  `json:"line,omitempty"`
	Hash      string `json:"hash,omitempty"`
	Signature []byte `json:"signature,omitempty"`
	Fault     string `json:"fault,omitempty"`
}

// FindingsNotice is what a notice of findings tells.
type FindingsNotice struct {
	Application string `json:"application"`
	Host        string `json:"host"`
	Report      string `json:"report"`
	Severity    string `json:"severity"`
	New         int64  `json:"new"`
	Returned    int64  `json:"returned"`
	Findings    int64  `json:"findings"`
	Opens       int64  `json:"opens"`
	Closes      int64  `json:"closes"`
}

// LooksNotice is what a notice tells of how well a host is known.
type LooksNotice struct {
	Application string     `json:"application"`
	Host        string     `json:"host"`
	State       string     `json:"state" enum:"never,failed,old,behind,unread,known" doc:"known: it is again"`
	Says        string     `json:"says"`
	Looked      *time.Time `json:"looked,omitempty" doc:"As of when it is known"`
}

// PlanNotice is what a notice of a plan or its run tells.
type PlanNotice struct {
	Application string `json:"application"`
	Plan        string `json:"plan"`
	Title       string `json:"title"`
	Author      string `json:"author"`
	State       string `json:"state"`
}

// SignedIn is a place where somebody is signed in.
type SignedIn struct {
	ID      string    `json:"id"`
	What    string    `json:"what" doc:"What the program there calls itself"`
	Since   time.Time `json:"since"`
	Expires time.Time `json:"expires"`
	Here    bool      `json:"here" doc:"It is the one that asks"`
}

// Second is a second factor that waits to be confirmed.
type Second struct {
	Secret string `json:"secret" doc:"In base32, to be typed"`
	URL    string `json:"url" doc:"To be scanned"`
}

// SecondCode is a code of a second factor, or one to spare.
type SecondCode struct {
	Code string `json:"code" minLength:"6" maxLength:"32"`
}

// SpareCodes are for when a second factor is lost; each counts once.
type SpareCodes struct {
	Codes []string `json:"codes"`
}
