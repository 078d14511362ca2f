package wire

import (
	"time"

	"idletally/internal/core/access"
	"idletally/internal/core/perm"
	"idletally/internal/core/wish"
)

// Origin says where an answer was looked up.
type Origin struct {
	Host     string     `json:"host,omitempty"`
	Snapshot string     `json:"snapshot,omitempty"`
	At       *time.Time `json:"at,omitempty" doc:"When it was so"`
	Live     bool       `json:"live" doc:"Asked of the host itself just now"`
}

// Supposed is what may be supposed beside what is.
type Supposed struct {
	Joining    []string `json:"joining,omitempty"`
	Privileges []string `json:"privileges,omitempty"`
	Edition    string   `json:"edition,omitempty"`
	Plan       string   `json:"plan,omitempty"`
}

// Sight is one path with all that decides access to it.
type Sight struct {
	Origin   Origin           `json:"origin"`
	Path     string           `json:"path"`
	Kind     string           `json:"kind"`
	Gap      string           `json:"gap,omitempty"`
	Access   *perm.View       `json:"access,omitempty"`
	Words    []string         `json:"words" doc:"What the mode means"`
	Entries  []perm.EntryLine `json:"entries"`
	Way      []WayPlace       `json:"way" doc:"The folders from / to it"`
	Withheld []string         `json:"withheld,omitempty" doc:"What the file system's mount denies: read-only, no-exec, no-suid, no-dev; or that a share hides what cannot be read"`
	Share    []string         `json:"share,omitempty" doc:"The share's own list: nobody gets more than it allows"`
	Size     int64            `json:"size,omitempty"`
	Modified *time.Time       `json:"modified,omitempty"`
	Links    uint64           `json:"links,omitempty" doc:"Hard links"`
	Target   string           `json:"target,omitempty"`
	Notes    []string         `json:"notes,omitempty"`
	Findings []PathFinding    `json:"findings,omitempty" doc:"In a snapshot: how it differs from what is declared"`
}

// PathTimes is what a path was in the snapshots of its host.
type PathTimes struct {
	Host     string     `json:"host"`
	Path     string     `json:"path"`
	Items    []PathTime `json:"items" doc:"The newest first; snapshots of other folders of the host say nothing of it"`
	Next     string     `json:"next,omitempty" doc:"There are older snapshots: give this as after"`
	Runs     []PathRun  `json:"runs,omitempty" doc:"On the first page: which of the newest ten runs on the host changed it, the newest first"`
	MoreRuns bool       `json:"more_runs,omitempty" doc:"On the first page: there are earlier runs, or more of these, than were looked through"`
}

// PathRun is a run that changed a path.
type PathRun struct {
	Run      string    `json:"run" doc:"Its id"`
	Title    string    `json:"title" doc:"Of its plan"`
	By       string    `json:"by" doc:"Who started it"`
	Started  time.Time `json:"started" doc:"When that was"`
	Original perm.View `json:"original" doc:"What it found"`
	Left     perm.View `json:"left" doc:"What it made of it"`
}

// PathTime is for how long a path was in one state.
type PathTime struct {
	From        time.Time  `json:"from" doc:"When the oldest snapshot was taken that shows it so"`
	To          time.Time  `json:"to" doc:"When the newest one was taken"`
	After       *time.Time `json:"after,omitempty" doc:"When the last one was taken that shows it otherwise"`
	Snapshot    string     `json:"snapshot" doc:"The newest one"`
	Application string     `json:"application" doc:"Of that one"`
	Snapshots   int        `json:"snapshots" doc:"How many show it so"`
	Kind        string     `json:"kind,omitempty" doc:"Nothing where it was not there, or could not be read"`
	Gap         string     `json:"gap,omitempty" doc:"Why it could not be read"`
	Access      *perm.View `json:"access,omitempty"`
	By          *Act       `json:"by,omitempty" doc:"Who did the last thing to it before it was so, where the host's kernel told"`
}

// WayPlace is a folder on a way.
type WayPlace struct {
	Path     string     `json:"path"`
	Kind     string     `json:"kind"`
	Access   *perm.View `json:"access,omitempty"`
	Withheld []string   `json:"withheld,omitempty"`
}

// Listing is a folder's content.
type Listing struct {
	Origin  Origin `json:"origin"`
	Path    string `json:"path"`
	Account string `json:"account,omitempty"`
	Items   []Path `json:"items"`
	Next    string `json:"next,omitempty" doc:"Give it as the parameter after to get what follows"`
	Stopped string `json:"stopped,omitempty" doc:"Why the account does not see this listing"`
}

// Judgement is what one account can do with a path.
type Judgement struct {
	Origin  Origin          `json:"origin"`
	Path    string          `json:"path"`
	Kind    string          `json:"kind"`
	Account Account         `json:"account"`
	Suppose string          `json:"suppose,omitempty" doc:"What is supposed in then"`
	Answers []access.Answer `json:"answers"`
	Then    []access.Answer `json:"then,omitempty" doc:"The same, as it would be"`
}

// Proposals are what it would take that an account can do something with a path.
type Proposals struct {
	Origin    Origin        `json:"origin"`
	Path      string        `json:"path"`
	Kind      string        `json:"kind"`
	Account   Account       `json:"account"`
	Answer    access.Answer `json:"answer" doc:"As it is now"`
	Proposals []Proposal    `json:"proposals" doc:"Each would let the account do it, the one that lets in the fewest others first; none where it may, or where no permission is what denies it"`
	Counted   *Origin       `json:"counted,omitempty" doc:"The snapshot in which it was counted what they open in all, as far as it could be read"`
}

// Proposal is changes that together would let an account do something.
type Proposal struct {
	Means     string           `json:"means" enum:"account,group,deny,join,mode,share,owner" doc:"An entry for the account, or for a group that it is in; an entry that denies goes; it joins a group; bits of the mode; the share's own list; or it becomes the owner"`
	Share     bool             `json:"share,omitempty" doc:"The share's own list has to let the account do it besides: whoever runs the file server changes that, no plan does"`
	Says      string           `json:"says" doc:"In words"`
	Changes   []ProposedChange `json:"changes" doc:"Of paths; none where the account joins a group"`
	Others    []string         `json:"others" doc:"Accounts besides that can do more with one of the paths then, 50 at the most"`
	Count     int              `json:"count" doc:"How many these are in all"`
	Everyone  bool             `json:"everyone,omitempty" doc:"And so can everyone"`
	Extra     int              `json:"extra" doc:"Rights that the account gets besides those that it takes"`
	Text      string           `json:"text,omitempty" doc:"The changes, as a plan takes them (plan adjust --file)"`
	Wishes    []wish.Wish      `json:"wishes,omitempty" doc:"The same, field by field"`
	Elsewhere *int64           `json:"elsewhere,omitempty" doc:"Of the first five: on how many paths of the host's newest snapshot, or of the one that is asked, the account can do the same then, and cannot now"`
	Anybody   *int64           `json:"anybody,omitempty" doc:"Where everyone can: on how many of them everyone can then, and cannot now"`
}

// Restriction is what has to be taken away so that nobody but some accounts can do something with a path.
type Restriction struct {
	Origin    Origin           `json:"origin"`
	Path      string           `json:"path"`
	Kind      string           `json:"kind"`
	Operation access.Operation `json:"operation"`
	Only      []string         `json:"only" doc:"Who alone is to be able to"`
	Says      string           `json:"says,omitempty" doc:"The changes in words; nothing where nothing has to change"`
	Changes   []ProposedChange `json:"changes" doc:"Of paths; none where nothing has to change"`
	Out       Parties          `json:"out" doc:"Who can do it now, and cannot then: accounts, numbers without one, and groups that no account is known to be in, for whoever is"`
	Less      Parties          `json:"less" doc:"Who can do less then with one of the paths, besides"`
	Left      Parties          `json:"left" doc:"Who can do it all the same: by privileges, by entries from above, or by what cannot be changed there"`
	Unsure    Parties          `json:"unsure" doc:"Who cannot then as far as is known: the server does not tell who is in a group that would let them"`
	Back      Parties          `json:"back" doc:"Who cannot then, and may change permissions of one of the paths: they can let themselves in again"`
	Short     Parties          `json:"short" doc:"Who is to be able to, and cannot, now or then: ask what it would take"`
	Text      string           `json:"text,omitempty" doc:"The changes, as a plan takes them (plan adjust --file)"`
	Wishes    []wish.Wish      `json:"wishes,omitempty" doc:"The same, field by field"`
}

// Parties are some accounts. Among them everyone is whoever is nobody in particular.
type Parties struct {
	Names []string `json:"names" doc:"50 at the most"`
	Count int      `json:"count" doc:"How many they are in all"`
}

// ProposedChange is one path's.
type ProposedChange struct {
	Path   string    `json:"path"`
	Kind   string    `json:"kind"`
	Before perm.View `json:"before" doc:"Its permissions as they are"`
	After  perm.View `json:"after" doc:"As they would be"`
}

// Account is an account as its host knows it.
type Account struct {
	Name   string   `json:"name"`
	ID     string   `json:"id" doc:"Its number on the host"`
	Known  bool     `json:"known" doc:"False where only the number is known"`
	Groups []string `json:"groups"`
	Notes  []string `json:"notes,omitempty"`
}

// Holders is who can do something with a path.
type Holders struct {
	Origin    Origin           `json:"origin"`
	Path      string           `json:"path"`
	Kind      string           `json:"kind"`
	Operation access.Operation `json:"operation"`
	Suppose   string           `json:"suppose,omitempty"`
	Everyone  access.Answer    `json:"everyone" doc:"Whoever is nobody in particular"`
	Allowed   []Holder         `json:"allowed"`
	Unsure    []Holder         `json:"unsure,omitempty" doc:"Accounts of which nobody knows: who is in a group that would turn the answer round the server does not tell"`
	Refused   []Holder         `json:"refused" doc:"Accounts that the path speaks of, or whose groups it speaks of, and that cannot all the same"`
	Accounts  int              `json:"accounts" doc:"How many accounts were asked for"`
}

// Holder is an account that can, or cannot.
type Holder struct {
	Account string `json:"account"`
	Known   bool   `json:"known"`
	Cause   string `json:"cause"`
	Reason  string `json:"reason"`
	Entry   string `json:"entry,omitempty"`
}

// Matrix is what the accounts that matter can do with a path.
type Matrix struct {
	Origin     Origin             `json:"origin"`
	Path       string             `json:"path"`
	Kind       string             `json:"kind"`
	Suppose    string             `json:"suppose,omitempty"`
	Operations []access.Operation `json:"operations"`
	Rows       []MatrixRow        `json:"rows"`
	Accounts   int                `json:"accounts" doc:"How many accounts matter, shown or not"`
}

// MatrixRow is one account.
type MatrixRow struct {
	Account string          `json:"account"`
	Known   bool            `json:"known"`
	Part    string          `json:"part" doc:"Why it matters"`
	Cells   []access.Answer `json:"cells"`
	Then    []access.Answer `json:"then,omitempty"`
}

// BelowAsk is the question what an account can do below a folder.
type BelowAsk struct {
	Path, Account string
	Operation     access.Operation
	Supposed      Supposed
	Behind        bool // as if every folder could be traversed
	After         string
	Limit         int
}

// Below is what an account can do below a folder.
type Below struct {
	Origin    Origin           `json:"origin"`
	Path      string           `json:"path" doc:"Empty: every root of the snapshot"`
	Account   Account          `json:"account"`
	Operation access.Operation `json:"operation"`
	Suppose   string           `json:"suppose,omitempty"`
	Looked    int64            `json:"looked" doc:"Paths that were decided one by one"`
	Held      int64            `json:"held" doc:"Paths on which it is allowed"`
	Then      int64            `json:"then" doc:"The same, as it would be"`
	Gained    int64            `json:"gained"`
	Lost      int64            `json:"lost"`
	Closed    int64            `json:"closed" doc:"Folders that no way leads through: what is in them was not looked at"`
	Unread    int64            `json:"unread" doc:"Folders whose content is not known"`
	Unknown   int64            `json:"unknown,omitempty" doc:"Paths of which nobody knows: who is in a group that would turn the answer round the server does not tell"`
	Stopped   string           `json:"stopped,omitempty" doc:"Why the way ends before the folder is reached"`
	Groups    []BelowGroup     `json:"groups" doc:"Paths with equal permissions, many first"`
	Items     []BelowPath      `json:"items"`
	Weights   []Weight         `json:"weights,omitempty" doc:"How much of each entry of the folder it is, where that was asked for"`
	Next      string           `json:"next,omitempty"`
}

// BelowGroup is paths with the same permissions.
type BelowGroup struct {
	Kind    string    `json:"kind"`
	Access  perm.View `json:"access"`
	Was     bool      `json:"was"`
	Is      bool      `json:"is"`
	Count   int64     `json:"count"`
	Folder  string    `json:"folder"`
	Example string    `json:"example"`
}

// BelowPath is one path.
type BelowPath struct {
	Path string `json:"path"`
	Kind string `json:"kind"`
	Was  bool   `json:"was"`
	Is   bool   `json:"is"`
}

// ProbeAsk asks a host to try.
type ProbeAsk struct {
	Host    string `json:"host" maxLength:"64"`
	Account string `json:"account" maxLength:"256"`
	Path    string `json:"path" maxLength:"65536"`
}

// Probe is the computed answers beside the system's own.
type Probe struct {
	Origin  Origin     `json:"origin"`
	Path    string     `json:"path"`
	Kind    string     `json:"kind"`
	Account Account    `json:"account"`
	Rows    []ProbeRow `json:"rows"`
	Differ  bool       `json:"differ" doc:"An error of Idle Tally: what follows repeats it"`
	Repeat  string     `json:"repeat,omitempty" doc:"All that is needed to repeat a difference"`
}

// ProbeRow is one operation.
type ProbeRow struct {
	Operation access.Operation `json:"operation"`
	Computed  access.Answer    `json:"computed"`
	Tried     access.Try       `json:"tried"`
	Differ    bool             `json:"differ"`
}
